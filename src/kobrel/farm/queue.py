"""The queue of jobs: a folder that any window and the runner read and write, so that it outlives both.

Each job has a folder: what it is (``job.json``), what is wanted of it (``wanted.json``, written by windows),
how far it is (``state.json``, written by the runner), and the record of what was made.
"""

import contextlib
import fcntl
import json
import math
import os
import shutil
import subprocess
import sys
import tempfile
import time
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from platformdirs import user_state_path

from kobrel.errors import KobrelError
from kobrel.farm.report import Report, Want
from kobrel.files import json_of, reason, write_whole
from kobrel.plan.model import Plan

if TYPE_CHECKING:
    from pydantic import TypeAdapter

    from kobrel.farm.work import Work

JobState = Literal["waiting", "running", "paused", "done", "failed", "cancelled"]
OPEN: tuple[JobState, ...] = ("waiting", "running", "paused")
"""States of jobs that are not at their end."""
FORMAT = 1


@dataclass(frozen=True)
class Job:
    """What a job is.

    Parameters
    ----------
    title : what it is called
    output : where its files are written: a file, or their folder
    work : what is made
    plan : of what, as it was when the job was given, with absolute paths; JSON
    address : of the scheduler; "" is this machine alone
    allowed : folders that files may name others in
    force : whether files that are there are written over
    added : when it was given, seconds since 1970
    """

    title: str
    output: str
    work: str
    plan: str
    address: str
    allowed: tuple[str, ...]
    force: bool
    added: float


@dataclass(frozen=True)
class Entry:
    """A job in the queue as it is now.

    Parameters
    ----------
    key : name of its folder
    order : the lower, the sooner
    why : why it failed
    tries : how often it was begun
    bundle : key of what it is made from, once that is known
    """

    key: str
    job: Job
    want: Want
    order: float
    state: JobState = "waiting"
    report: Report = field(default_factory=Report)
    why: str = ""
    tries: int = 0
    bundle: str = ""

    @property
    def is_open(self) -> bool:
        """Whether it is not at its end."""
        return self.state in OPEN


class Queue:
    """The queue of jobs.

    Parameters
    ----------
    folder : of the queue; this person's own if none
    """

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = user_state_path("kobrel") / "queue" if folder is None else folder
        self._known: dict[tuple[Path, int, int], dict[str, Any]] = {}
        self._runner: subprocess.Popen[bytes] | None = None

    # For windows

    def add(
        self, work: "Work", plan: Plan, address: str = "", allowed: Sequence[str] = (), force: bool = False
    ) -> str:
        """Put a job at the end of the queue; its key.

        Raises
        ------
        KobrelError
            The folder of the queue cannot be written.
        """
        key = f"{time.strftime('%Y%m%d-%H%M%S')}-{uuid.uuid4().hex[:6]}"
        title = f"{work.title}  {work.target.name}"
        whole = work.kind in ("movie", "sheet")
        job = Job(
            title, str(work.target if whole else work.folder), work.model_dump_json(), plan.model_dump_json(),
            address, tuple(allowed), force, time.time(),
        )  # fmt: skip
        orders = [entry.order for entry in self.entries() if math.isfinite(entry.order)]
        order = max(orders, default=0.0) + 1.0
        fresh: Path | None = None
        try:
            (self.folder / "jobs").mkdir(parents=True, exist_ok=True)
            fresh = Path(tempfile.mkdtemp(prefix=".new-", dir=self.folder / "jobs"))
            _write(fresh / "job.json", {"format": FORMAT, **asdict(job)})
            _write(fresh / "wanted.json", {"want": "go", "order": order})
            fresh.rename(self.folder / "jobs" / key)
        except OSError as error:
            if fresh is not None:
                shutil.rmtree(fresh, ignore_errors=True)
            raise self._unwritten(error) from None
        return key

    def entries(self) -> list[Entry]:
        """All jobs, in their order."""
        found = []
        for place in sorted((self.folder / "jobs").glob("[!.]*")):
            try:
                found.append(self._entry(place))
            except (KobrelError, ValueError, TypeError) as error:
                found.append(_unreadable(place, error))
        return sorted(found, key=lambda entry: (entry.order, entry.key))

    def _entry(self, place: Path) -> Entry:
        job = dict(self._read(place / "job.json"))
        if job.pop("format", FORMAT) != FORMAT:
            raise ValueError("it was written by another Kobrel")
        parts = {"key": place.name, "job": job, "want": "go", "order": 0.0}
        made = _entries().validate_python(parts)
        for name in ("wanted.json", "state.json"):
            # What is damaged of these counts as not written: the job begins again where its record ends.
            with contextlib.suppress(KobrelError, ValueError, TypeError):
                parts = {**parts, **self._read(place / name)}
                made = _entries().validate_python(parts)
        return self._as_wanted(made)

    @staticmethod
    def _as_wanted(entry: Entry) -> Entry:
        """What a job will be as soon as the runner hears of what is wanted."""
        if entry.want == "cancel" and entry.is_open:
            return replace(entry, state="cancelled")
        if entry.want == "pause" and entry.state == "waiting":
            return replace(entry, state="paused")
        if entry.want == "go" and entry.state == "paused":
            return replace(entry, state="waiting")
        return entry

    def _read(self, path: Path) -> Mapping[str, Any]:
        """A file of the queue, read again only when it is another; empty if it is not there.

        Raises
        ------
        KobrelError, ValueError
            It is damaged, or no plain file.
        """
        try:
            found = path.stat()
        except (FileNotFoundError, NotADirectoryError):
            return {}
        except OSError as error:
            raise ValueError(reason(error)) from None
        key = path, found.st_mtime_ns, found.st_ino
        if key not in self._known:
            content = json_of(path)
            if not isinstance(content, dict):
                raise ValueError("it says something else")
            self._known = {k: v for k, v in self._known.items() if k[0] != path}
            self._known[key] = content
        return self._known[key]

    def want(self, key: str, want: Want) -> None:
        """Say what is wanted of a job."""
        self._requirement(key, want=want)

    def again(self, key: str) -> None:
        """Let a job that failed or was cancelled go on where it was."""
        self.note(key, state="waiting", why="", tries=0)
        self._requirement(key, want="go")

    def move(self, key: str, by: int) -> None:
        """Put a job sooner (-1) or later (1), past the next that is not at its end."""
        found = [entry for entry in self.entries() if math.isfinite(entry.order)]
        waiting = [entry for entry in found if entry.is_open or entry.key == key]
        at = next((k for k, entry in enumerate(waiting) if entry.key == key), None)
        if at is not None and 0 <= at + by < len(waiting):
            other = waiting[at + by]
            self._requirement(key, order=other.order)
            self._requirement(other.key, order=waiting[at].order)

    def remove(self, key: str) -> None:
        """Forget a job; what it has written stays."""
        shutil.rmtree(self.folder / "jobs" / key, ignore_errors=True)

    def _requirement(self, key: str, **changes: Any) -> None:
        self._change(self.place(key) / "wanted.json", changes)

    def _change(self, path: Path, changes: Mapping[str, Any]) -> None:
        """Change what a file of a job says; what it said counts for nothing where it is damaged.

        Raises
        ------
        KobrelError
            It cannot be written.
        """
        if not path.parent.is_dir():
            return
        before: Mapping[str, Any] = {}
        with contextlib.suppress(KobrelError, ValueError):
            before = self._read(path)
        try:
            _write(path, {**before, **changes})
        except OSError as error:
            raise self._unwritten(error) from None

    def _unwritten(self, error: OSError) -> KobrelError:
        return KobrelError(
            f"the queue cannot be written ({reason(error)}).",
            file=self.folder,
            remedy="Make room on that disk.",
        )

    def hold(self, on: bool) -> None:
        """Let the runner end after what it has in hand, or let it go on."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            if on:
                (self.folder / "held").touch()
            else:
                (self.folder / "held").unlink(missing_ok=True)
        except OSError as error:
            raise self._unwritten(error) from None

    @property
    def is_held(self) -> bool:
        """Whether nothing is to be run now."""
        return (self.folder / "held").exists()

    def is_run(self) -> bool:
        """Whether a runner is at work."""
        with self.locked() as mine:
            return not mine

    def start_runner(self) -> None:
        """Start a runner that outlives this process, unless there is one or nothing waits."""
        if self._runner is not None and self._runner.poll() is None:
            return  # it may still be on its way
        waits = any(entry.state in ("waiting", "running") for entry in self.entries())
        if self.is_held or not waits or self.is_run():
            return
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            with (self.folder / "runner.log").open("wb") as log:
                self._runner = subprocess.Popen(
                    [sys.executable, "-m", "kobrel.farm.runner", str(self.folder)],
                    stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True,
                )  # fmt: skip
        except OSError as error:
            raise self._unwritten(error) from None

    # For the runner

    @contextlib.contextmanager
    def locked(self) -> Iterator[bool]:
        """Be the runner, if nobody else is; whether one is."""
        self.folder.mkdir(parents=True, exist_ok=True)
        handle = os.open(self.folder / "runner.lock", os.O_RDWR | os.O_CREAT, 0o600)
        try:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                yield False
                return
            yield True
        finally:
            os.close(handle)

    def place(self, key: str) -> Path:
        """Folder of a job."""
        return self.folder / "jobs" / key

    def note(self, key: str, **changes: Any) -> None:
        """Note how far a job is."""
        report = changes.get("report")
        if isinstance(report, Report):
            changes["report"] = asdict(report)
        self._change(self.place(key) / "state.json", changes)

    def wanted(self, key: str) -> Callable[[], Want]:
        """What is wanted of a job, looked up anew each time."""

        def look() -> Want:
            if self.is_held:
                return "pause"
            if not self.place(key).is_dir():
                return "cancel"
            with contextlib.suppress(KobrelError, ValueError):
                want = self._read(self.place(key) / "wanted.json").get("want")
                return want if want in ("pause", "cancel") else "go"
            return "go"

        return look


@cache
def _entries() -> "TypeAdapter[Entry]":
    """What checks that a job's files say what they should."""
    from pydantic import TypeAdapter

    return TypeAdapter(Entry)


def _unreadable(place: Path, error: Exception) -> Entry:
    """What stands in the list for a job whose file cannot be read: it is told, and can be taken off."""
    job = Job(place.name, str(place), "", "", "", (), False, 0.0)
    first = " ".join(str(error).split())[:300]
    return Entry(place.name, job, "go", math.inf, "failed", why=f"What it is cannot be read ({first}).")


def _write(path: Path, content: Mapping[str, Any]) -> None:
    write_whole(path, json.dumps(content).encode())
