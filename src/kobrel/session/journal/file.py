"""A journal on disk: a line for each record, with its checksum and number, only ever added to.

The first record is the plan as it was at first, each further one what was done, undone or saved since. Now
and then the whole plan stands among them: a damaged record costs what was done until the next of these.
:mod:`kobrel.session.journal.reading` has the way back.
"""

import base64
import contextlib
import errno
import fcntl
import json
import os
import tempfile
import time
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from kobrel.files import flush_folder
from kobrel.plan.model import FORMAT, Plan
from kobrel.session.journal.changes import as_json, changes_between
from kobrel.session.undo import History

MOST_STEPS = 500
"""How many steps back can be undone after a crash."""
WHOLE_EVERY_S = 120.0
"""How often the whole plan is written among the records, while it is edited."""


@dataclass(frozen=True, eq=False)
class Work:
    """What a journal keeps of a session.

    Parameters
    ----------
    history : what was done; without steps, `plan` is all there is
    shot, frame : where it was left
    """

    plan: Plan
    history: History
    shot: int = 0
    frame: int = 1001

    @property
    def first(self) -> Plan:
        """The plan before the first step."""
        return self.history.steps[0].old if self.history.steps else self.plan


@dataclass(frozen=True, eq=False)
class Left:
    """What a journal holds that was left by a Kobrel which has not closed it.

    Parameters
    ----------
    journal : its file
    path : of the plan, None for one that was never saved
    source : the plan or scene that was opened; "" for an empty stage
    time : of the last record, seconds since 1970
    picture : as it was last seen, JPEG; empty if none was drawn
    told : what of it cannot be read, sentences; "" if all can
    """

    journal: Path
    work: Work
    path: Path | None
    source: str
    time: float
    picture: bytes = b""
    told: str = ""

    @property
    def unsaved(self) -> list[str]:
        """Names of the edits since the last save, the oldest first."""
        history = self.work.history
        names = [step.name for step in history.steps[: history.done]]
        return names[history.saved or 0 :] if history.saved != history.done else []

    @property
    def name(self) -> str:
        """What it is of, for a person."""
        return self.path.name if self.path else self.work.plan.name


class Journal:
    """A journal that is written, locked as long as it is open.

    Raises
    ------
    BlockingIOError
        Another Kobrel has it open.
    OSError
        It cannot be written.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._file: BinaryIO = _locked(path)
        self._size = self._count = 0
        self._whole_at = 0.0
        self._written: Work | None = None
        self._picture = b""

    def begin(self, work: Work, path: Path | None, source: str) -> None:
        """Write it anew, as short as can be: whole or not at all.

        Raises
        ------
        OSError
            It cannot be written; what was there still is.
        """
        history = _shortened(work.history)
        work = Work(work.plan, history, work.shot, work.frame)
        start = {
            "format": FORMAT, "plan": as_json(work.first), "path": None if path is None else str(path),
            "source": source, "time": time.time(),
        }  # fmt: skip
        records: list[dict[str, Any]] = [{"begin": start}, {"steps": _steps(None, work)}]
        if self._picture:
            records.append(_pictured(self._picture))
        lines = [_line(number, record) for number, record in enumerate(records)]
        handle, name = tempfile.mkstemp(dir=self.path.parent, prefix=".journal.")
        file, beside = os.fdopen(handle, "r+b"), Path(name)
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            file.write(b"".join(lines))
            file.flush()
            os.fsync(file.fileno())
            os.replace(beside, self.path)
        except BaseException:
            file.close()
            beside.unlink(missing_ok=True)
            raise
        flush_folder(self.path.parent)
        self._file.close()
        self._file, self._size, self._written = file, sum(map(len, lines)), work
        self._count, self._whole_at = len(lines), time.monotonic()

    def add(self, work: Work) -> None:
        """Add what was done since the last record.

        Raises
        ------
        OSError
            It cannot be written; the records before are whole.
        """
        assert self._written is not None
        self._append({"steps": _steps(self._written, work)})
        self._written = work
        if time.monotonic() - self._whole_at > WHOLE_EVERY_S:
            self._append({"whole": {"plan": as_json(work.plan), **_place(work)}})
            self._whole_at = time.monotonic()

    def add_picture(self, picture: bytes) -> None:
        """Add how the work looks now, a JPEG.

        Raises
        ------
        OSError
            As :meth:`add`.
        """
        self._append(_pictured(picture))
        self._picture = picture

    def _append(self, record: dict[str, Any]) -> None:
        line = _line(self._count, record)
        if os.stat(self.path).st_ino != os.fstat(self._file.fileno()).st_ino:
            raise FileNotFoundError(errno.ENOENT, "it was taken away", str(self.path))
        try:
            self._file.seek(self._size)
            self._file.write(line)
            self._file.flush()
            os.fsync(self._file.fileno())
        except OSError:
            with contextlib.suppress(OSError):
                self._file.truncate(self._size)
            raise
        self._size += len(line)
        self._count += 1

    @property
    def written(self) -> Work | None:
        """The work as it was last written; None before the first record."""
        return self._written

    @property
    def size(self) -> int:
        """Its bytes."""
        return self._size

    def close(self, keep: bool) -> None:
        """Close it; it goes unless it is kept."""
        if not keep:
            self.path.unlink(missing_ok=True)
        self._file.close()


def _locked(path: Path) -> BinaryIO:
    """A file open for writing that no other Kobrel has open; a link in its place is not followed."""
    while True:
        file = os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o644), "r+b")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.fstat(file.fileno()).st_ino == os.stat(path).st_ino:
                return file  # nobody has exchanged it meanwhile
        except FileNotFoundError:
            pass
        except OSError:
            file.close()
            raise
        file.close()


def _pictured(picture: bytes) -> dict[str, Any]:
    return {"picture": base64.b64encode(picture).decode()}


def _line(number: int, record: dict[str, Any]) -> bytes:
    text = json.dumps({"n": number, **record}, separators=(",", ":")).encode()
    return b"%08x %s\n" % (zlib.crc32(text), text)


def _shortened(history: History) -> History:
    """The last steps of a history."""
    gone = max(0, min(history.done, len(history.steps) - MOST_STEPS))
    saved = None if history.saved is None or history.saved < gone else history.saved - gone
    return History(history.steps[gone:], history.done - gone, saved) if gone else history


def _steps(before: Work | None, now: Work) -> dict[str, Any]:
    """The record of how the history went on."""
    old, new = before.history.steps if before else (), now.history.steps
    kept = next((i for i, (a, b) in enumerate(zip(old, new, strict=False)) if a is not b), len(old))
    kept = min(kept, len(new))
    # Each step is told from where the last one ended: parts may have been found anew in between.
    plans = [new[kept - 1].new if kept else now.first, *(step.new for step in new[kept:])]
    return {
        "kept": kept,
        "new": [
            {"name": step.name, "drag": step.drag, "changes": changes_between(before_it, step.new)}
            for before_it, step in zip(plans, new[kept:], strict=False)
        ],
        **_place(now),
    }


def _place(now: Work) -> dict[str, Any]:
    """How many steps are done and saved, and where."""
    return {
        "done": now.history.done,
        "saved": now.history.saved,
        "shot": now.shot,
        "frame": now.frame,
        "time": time.time(),
    }


def is_held(path: Path) -> bool:
    """Whether a Kobrel that runs has a journal open."""
    try:
        with open(path, "rb") as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    return False
