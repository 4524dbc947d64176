"""What the window tells of the queue: a button in the status bar, how jobs end, a question at closing."""

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing, work_in
from kobrel.desk.toolkit.asking import asked
from kobrel.desk.toolkit.notices import notify
from kobrel.errors import KobrelError
from kobrel.farm.queue import Entry

_GO_ON, _REST = "Keep rendering in background", "Pause until next start"


class QueueLine(QPushButton):
    """Opens the queue; says how far it is while jobs are left.

    Parameters
    ----------
    proofing : where a ladder is shown that was drawn in the queue
    say : tells the person something in the bottom line
    """

    def __init__(
        self, queueing: Queueing, proofing: Proofing, say: Callable[[str], object], window: QWidget
    ) -> None:
        super().__init__(window)
        self._queueing, self._proofing, self._say, self._window = queueing, proofing, say, window
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setToolTip("Open or close the queue: renders and exports in the background, and their progress")
        self._show()
        queueing.changed.connect(self._show)
        queueing.ended.connect(self._tell_ended)

    def _show(self) -> None:
        self.setText(self._queueing.told or "Queue")

    def _tell_ended(self, entry: Entry) -> None:
        """Say that a job is at its end; where it was a ladder, show it."""
        title = entry.job.title
        if entry.state == "done":
            self._say(f"Written {entry.job.output}")
            notify(self._window, f"{title} is done", entry.job.output)
            self._show_ladder(entry)
        elif entry.state == "failed":
            self._say(f"{title} failed: {entry.why}")
            notify(self._window, f"{title} failed", entry.why)

    def _show_ladder(self, entry: Entry) -> None:
        work = work_in(entry)
        if work.kind != "ladder":
            return
        try:
            self._proofing.show_rungs(work.folder, [rung.name for rung in work.rungs])
        except KobrelError as error:
            self._say(str(error))

    def may_close(self) -> bool:
        """Whether the window may close; asks what becomes of the jobs that are left, if there are any."""
        left = [entry for entry in self._queueing.open if entry.state != "paused"]
        if not left:
            return True
        told = "A job is" if len(left) == 1 else f"{len(left)} jobs are"
        way = asked(
            self._window, f"{told} left in the queue.",
            "Finished frames are kept either way.", _GO_ON, _REST,
        )  # fmt: skip
        if way == _REST:
            self._queueing.hold(True)
        return bool(way)
