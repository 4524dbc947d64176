"""A journal on disk: a line for each record, with its checksum, only ever added to.

The first record is the plan as it was at first, each further one what was done, undone or saved since.
A line that is torn, or whatever comes after it, does not count.
"""

import base64
import contextlib
import errno
import fcntl
import json
import os
import time
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from pydantic import BaseModel, Field, ValidationError

from kobrel.errors import PlanError
from kobrel.files import flush_folder, json_fault, require_file
from kobrel.plan.model import FORMAT, MOST_SHOTS, Plan
from kobrel.plan.parts import FilePath, FrameNumber
from kobrel.session.journal.changes import Change, as_json, changes_between, with_changes
from kobrel.session.undo import History, Step

MOST_STEPS = 500
"""How many steps back can be undone after a crash."""
_MOST_BYTES = 1 << 30
_MISFITS = (ValueError, LookupError, TypeError, AttributeError)
"""What reading a record raises that does not fit to those before it."""


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
    torn : whether its last record was incomplete
    """

    journal: Path
    work: Work
    path: Path | None
    source: str
    time: float
    picture: bytes = b""
    torn: bool = False

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
        self._size = 0
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
        lines = [_line({"begin": start}), _line({"steps": _steps(None, work)})]
        if self._picture:
            lines.append(_line({"picture": base64.b64encode(self._picture).decode()}))
        beside = self.path.with_name(f"{self.path.name}.new")
        file = _locked(beside)
        try:
            file.truncate(0)
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

    def add_picture(self, picture: bytes) -> None:
        """Add how the work looks now, a JPEG.

        Raises
        ------
        OSError
            As :meth:`add`.
        """
        self._append({"picture": base64.b64encode(picture).decode()})
        self._picture = picture

    def _append(self, record: dict[str, Any]) -> None:
        line = _line(record)
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
    """A file open for writing that no other Kobrel has open."""
    while True:
        file = open(path, "r+b" if path.exists() else "w+b")  # noqa: SIM115  it stays open
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


def _line(record: dict[str, Any]) -> bytes:
    text = json.dumps(record, separators=(",", ":")).encode()
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


def read_journal(path: Path) -> Left | None:
    """What a journal holds; None if it holds no edit.

    Raises
    ------
    PlanError
        It cannot be read, or another version of Kobrel wrote it.
    """
    require_file(path, PlanError, _MOST_BYTES)
    try:
        with open(path, "rb") as file:
            records = _records(file)
            start = next(records, {}).get("begin")
            return None if start is None else _left(path, start, records)
    except OSError as error:
        raise PlanError(f"cannot be read ({error.strerror}).", file=path) from None


def _records(file: BinaryIO) -> Iterator[dict[str, Any]]:
    """Records up to the first that is not whole; that one comes as ``{"torn": True}``."""
    for line in file:
        sum_, _, text = line.rstrip(b"\n").partition(b" ")
        if not line.endswith(b"\n") or sum_ != b"%08x" % zlib.crc32(text):
            yield {"torn": True}
            return
        record = {} if json_fault(text) else json.loads(text)
        if isinstance(record, dict):
            yield record


class _Begin(BaseModel):
    """The first record."""

    format: int
    plan: dict[str, Any]
    path: FilePath | None
    source: FilePath
    time: float = Field(ge=0, le=1e12)


class _StepMade(BaseModel):
    name: str
    drag: int
    changes: list[Change]


class _Steps(BaseModel):
    """A record of how the history went on: the steps that stayed, those that followed, how many are done."""

    kept: int = Field(ge=0)
    new: list[_StepMade]
    done: int = Field(ge=0)
    saved: int | None = Field(ge=0)
    shot: int = Field(ge=0, le=MOST_SHOTS)
    frame: FrameNumber
    time: float = Field(ge=0, le=1e12)


def _left(path: Path, record: dict[str, Any], records: Iterator[dict[str, Any]]) -> Left | None:
    try:
        start = _Begin.model_validate(record)
        if start.format != FORMAT:
            raise PlanError(
                f"this journal of work that was not saved is of format {start.format}, not {FORMAT}.",
                file=path, remedy="Open it with the Kobrel that wrote it.",
            )  # fmt: skip
        first = Plan.model_validate(start.plan)
    except ValidationError:
        return None
    at, work, torn, picture = start.time, Work(first, History()), False, b""
    try:
        for further in records:
            torn |= "torn" in further
            if "picture" in further:
                picture = base64.b64decode(further["picture"])
            if "steps" in further:
                steps = _Steps.model_validate(further["steps"])
                work, at = _gone_on(first, work, steps), steps.time
    except _MISFITS:
        torn = True  # what came before it counts
    if not work.history.steps:
        return None
    of = None if start.path is None else Path(start.path)
    return Left(path, work, of, start.source, at, picture, torn)


def _gone_on(first: Plan, work: Work, record: _Steps) -> Work:
    """The work after a record."""
    steps = list(work.history.steps[: record.kept])
    for made in record.new:
        old = steps[-1].new if steps else first
        steps.append(Step(made.name, old, with_changes(old, made.changes), made.drag))
    if record.done > len(steps):
        raise ValueError("more steps are done than there are")
    plan = steps[record.done - 1].new if record.done else first
    return Work(plan, History(tuple(steps), record.done, record.saved), record.shot, record.frame)
