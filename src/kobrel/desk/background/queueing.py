"""The queue beside the window: gives jobs, looks how far they are, starts the runner where it is needed."""

import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer, Signal

from kobrel import trust
from kobrel.errors import KobrelError
from kobrel.farm.queue import Entry, Queue
from kobrel.farm.report import Want
from kobrel.plan.model import Plan
from kobrel.session import settings
from kobrel.session.session import Session

if TYPE_CHECKING:
    from kobrel.farm.work import Work

_BUSY_MS, _IDLE_MS = 400, 3000


class Queueing(QObject):
    """The queue beside the window.

    Signals
    -------
    changed : a job is new, gone, or farther
    ended : a job that came to its end while the window was open
    """

    changed = Signal()
    ended = Signal(object)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._spare: tempfile.TemporaryDirectory[str] | None = None
        self.queue = Queue(self._folder())
        self.entries: list[Entry] = []
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.look)

    def _folder(self) -> Path:
        """Where the queue is: beside the journals; where nothing is kept, somewhere for a while."""
        state = self._session.settings.state
        if state is None:
            self._spare = tempfile.TemporaryDirectory(prefix="kobrel-queue-")
            return Path(self._spare.name)
        return state.parent / "queue"

    def start(self) -> None:
        """Look from now on, and go on with what was left."""
        self.hold(False)

    def hold(self, on: bool) -> None:
        """Let nothing more be begun, or let it go on."""
        self._then(lambda: self.queue.hold(on))

    def look(self) -> None:
        """See how far all jobs are, and that somebody works on what waits."""
        before = {entry.key: entry for entry in self.entries}
        self.entries = self.queue.entries()
        if any(entry.state in ("waiting", "running") for entry in self.entries):
            try:
                self.queue.start_runner()
            except KobrelError as error:
                self._session.say(str(error))
        self._timer.start(_BUSY_MS if self.open else _IDLE_MS)
        if list(before.values()) != self.entries:
            self.changed.emit()
        for entry in self.entries:
            was = before.get(entry.key)
            if was is not None and was.is_open and not entry.is_open:
                self.ended.emit(entry)

    def close(self) -> None:
        """Look no longer; what runs goes on."""
        self._timer.stop()

    @property
    def open(self) -> list[Entry]:
        """Jobs that are not at their end."""
        return [entry for entry in self.entries if entry.is_open]

    def entry(self, key: str) -> Entry | None:
        """A job by its key."""
        return next((entry for entry in self.entries if entry.key == key), None)

    def add(self, work: "Work", plan: Plan) -> None:
        """Put a job of a plan at the end of the queue. Files in its way were asked about."""
        address = self._session.settings.get(settings.SCHEDULER)
        try:
            self.queue.add(work, plan, address, [str(folder) for folder in trust.allowed()], force=True)
        except KobrelError as error:
            self._session.say(str(error))
            return
        self._session.say(f"{work.title} queued.")
        self.look()

    def _then(self, do: Callable[[], object]) -> None:
        try:
            do()
        except KobrelError as error:
            self._session.say(str(error))
        self.look()

    def want(self, key: str, want: Want) -> None:
        """Pause a job, let it go on, or cancel it."""
        self._then(lambda: self.queue.want(key, want))

    def again(self, key: str) -> None:
        """Let a job that failed or was cancelled go on where it was."""
        self._then(lambda: self.queue.again(key))

    def move(self, key: str, by: int) -> None:
        """Put a job sooner (-1) or later (1)."""
        self._then(lambda: self.queue.move(key, by))

    def remove(self, key: str) -> None:
        """Forget a job."""
        self._then(lambda: self.queue.remove(key))

    def clear(self) -> None:
        """Forget all jobs that are at their end."""
        for entry in self.entries:
            if not entry.is_open:
                self.queue.remove(entry.key)
        self.look()

    @property
    def told(self) -> str:
        """How far the work is, in a few words; "" where none is left."""
        left = self.open
        if not left:
            return ""
        now = next((entry.report for entry in left if entry.state == "running" and entry.report.total), None)
        return f"Queue: {len(left)} left" + (f", now at {now.made / now.total:.0%}" if now else "")


def work_in(entry: Entry) -> "Work":
    """What a job makes."""
    from kobrel.farm.work import Work

    return Work.model_validate_json(entry.job.work)
