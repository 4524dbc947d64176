"""Reading a journal: whatever of it is whole comes back, and what is not is told by number and time."""

import base64
import binascii
import json
import time
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, BinaryIO

from pydantic import BaseModel, Field, ValidationError

from kobrel.errors import KobrelError, PlanError
from kobrel.files import json_fault, require_file
from kobrel.plan.file import open_plan
from kobrel.plan.model import FORMAT, MOST_SHOTS, Plan
from kobrel.plan.parts import FilePath, FrameNumber
from kobrel.session.journal.changes import Change, with_changes
from kobrel.session.journal.file import Left, Work
from kobrel.session.journal.places import owner_of, source_of
from kobrel.session.undo import History, Step

UNREAD = "What could not be read"
"""Name of the step that stands for damaged records."""
_MOST_BYTES = 1 << 30
_MISFITS = (ValueError, LookupError, TypeError, AttributeError)
"""What following a record raises that does not fit to those before it."""
Record = dict[str, Any]


class _Begin(BaseModel):
    """The first record."""

    format: int
    plan: dict[str, Any]
    path: FilePath | None
    source: FilePath
    time: float = Field(ge=0, le=1e12)


class _Place(BaseModel):
    """How many steps are done and saved, and where."""

    done: int = Field(ge=0)
    saved: int | None = Field(ge=0)
    shot: int = Field(ge=0, le=MOST_SHOTS)
    frame: FrameNumber
    time: float = Field(ge=0, le=1e12)


class _Whole(_Place):
    """The whole plan, after the steps that were done."""

    plan: dict[str, Any]


class _StepMade(BaseModel):
    name: str
    drag: int
    changes: list[Change]


class _Steps(_Place):
    """A record of how the history went on: the steps that stayed, and those that followed."""

    kept: int = Field(ge=0)
    new: list[_StepMade]


def read_journal(path: Path) -> Left | None:
    """What a journal holds; None if it is whole and holds no edit.

    Raises
    ------
    PlanError
        It cannot be read, nothing in it is whole, or another version of Kobrel wrote it.
    """
    size = require_file(path, PlanError, _MOST_BYTES)
    if not size:
        return None
    try:
        with open(path, "rb") as file:
            return _left(path, _records(file))
    except OSError as error:
        raise PlanError(f"cannot be read ({error.strerror}).", file=path) from None


def _records(file: BinaryIO) -> Iterator[Record | None]:
    """The records by their place; None stands for each that is not whole, or is missing."""
    due = 0
    for line in file:
        record = _record(line)
        if record is not None:
            number = record.get("n", due)
            if isinstance(number, int) and number > due:
                yield None  # lines are missing
            due = number if isinstance(number, int) else due
        yield record
        due += 1


def _record(line: bytes) -> Record | None:
    sum_, _, text = line.rstrip(b"\n").partition(b" ")
    if not line.endswith(b"\n") or sum_ != b"%08x" % zlib.crc32(text) or json_fault(text):
        return None
    try:
        record = json.loads(text)
    except ValueError:
        return None
    return record if isinstance(record, dict) else None


def _left(path: Path, records: Iterator[Record | None]) -> Left | None:
    start = None
    first = next(records, None)
    if first is not None and "begin" in first:
        start = _begin_of(path, first["begin"])
    owner = owner_of(path, Path(start.path) if start is not None and start.path else None)
    replay = _Replay(_plan_of(start.plan) if start is not None else None, _reader(owner))
    picture, at = b"", start.time if start is not None else 0.0
    if start is None or replay.work is None:
        replay.note_damage(0, at)
    for number, record in enumerate(records, 1):
        if record is None:
            replay.note_damage(number, at)
        elif "picture" in record:
            picture = _picture_of(record["picture"]) or picture
        else:
            at = replay.follow(number, record, at)
    work, told = replay.work, replay.told()
    if work is None:
        raise PlanError("nothing in this autosave file can be read.", file=path)
    if not work.history.steps and not told:
        return None
    said = "" if start is None else start.source
    return Left(path, work, owner, source_of(path, owner, said), at, picture, told)


def _begin_of(path: Path, record: object) -> _Begin | None:
    """The first record; None if it is of no use.

    Raises
    ------
    PlanError
        It is of another format.
    """
    try:
        start = _Begin.model_validate(record)
    except ValidationError:
        return None
    if start.format != FORMAT:
        raise PlanError(
            f"this autosave file has format {start.format}, not {FORMAT}.",
            file=path, remedy="Open it with the Kobrel that wrote it.",
        )  # fmt: skip
    return start


def _plan_of(content: object) -> Plan | None:
    try:
        return Plan.model_validate(content)
    except ValidationError:
        return None


def _picture_of(text: object) -> bytes:
    try:
        return base64.b64decode(str(text))
    except (binascii.Error, ValueError):
        return b""


def _reader(owner: Path | None) -> Callable[[], Plan | None]:
    """What reads the plan as it is saved."""

    def read() -> Plan | None:
        try:
            return open_plan(owner) if owner is not None else None
        except KobrelError:
            return None

    return read


class _Replay:
    """Work as the records tell it. After damage it goes on where the whole plan is known again: from a whole
    plan among the records, or at the step that was saved from the plan's file.

    Parameters
    ----------
    first : the plan before all steps; None if it cannot be read
    saved : reads the plan as it is saved, None if it cannot be
    """

    def __init__(self, first: Plan | None, saved: Callable[[], Plan | None]) -> None:
        self.work: Work | None = None if first is None else Work(first, History())
        self._saved = saved
        self._lost = first is None
        self._ahead = 0
        """How many steps more the autosave counts than the work has."""
        self._least = 0
        """As many first steps of the work are not those that the autosave counts."""
        self._damaged: list[tuple[int, float]] = []
        self._passed: list[int] = []
        self._last = 0

    def note_damage(self, number: int, at: float) -> None:
        """A record is not whole; `at` is the time of the last one that was, 0 if there was none."""
        self._damaged.append((number, at))
        self._lost, self._last = True, number

    def follow(self, number: int, record: Record, at: float) -> float:
        """Go on by a record, and return its time."""
        self._last = number
        try:
            if "whole" in record:
                whole = _Whole.model_validate(record["whole"])
                if self._lost:
                    self._bridge(Plan.model_validate(whole.plan), whole.done, whole)
                return whole.time
            if "steps" in record:
                steps = _Steps.model_validate(record["steps"])
                self._go_on(steps)
                return steps.time
        except _MISFITS:
            if self._lost:
                self._passed.append(number)
            else:
                self.note_damage(number, at)
        return at

    def _go_on(self, record: _Steps) -> None:
        made = record.new
        if self._lost:
            if record.saved is None or not record.kept <= record.saved <= record.kept + len(made):
                raise ValueError("nothing tells where this goes on")
            plan = self._saved()
            if plan is None:
                raise ValueError("there is no saved plan")
            made = made[record.saved - record.kept :]
            self._bridge(plan, record.saved, record)
            kept = record.saved - self._ahead
        else:
            kept = record.kept - self._ahead
        assert self.work is not None
        first, steps = self.work.first, list(self.work.history.steps[:kept])
        done = record.done - self._ahead
        if kept < self._least or not self._least <= done <= len(steps) + len(made):
            raise ValueError("it counts on steps that are not there")
        for each in made:
            old = steps[-1].new if steps else first
            steps.append(Step(each.name, old, with_changes(old, each.changes), each.drag))
        self.work = self._worked(first, tuple(steps), done, record)

    def _worked(self, first: Plan, steps: tuple[Step, ...], done: int, place: _Place) -> Work:
        saved = None if place.saved is None else place.saved - self._ahead
        if saved is not None and not self._least <= saved <= len(steps):
            saved = None
        plan = steps[done - 1].new if done else first
        return Work(plan, History(steps, done, saved), place.shot, place.frame)

    def _bridge(self, plan: Plan, done: int, place: _Place) -> None:
        """Go on from a whole plan, after so many steps; undo still leads to what was before the damage."""
        work = self.work or Work(self._saved() or Plan(), History())
        steps = work.history.steps[: work.history.done]
        if plan != work.plan:
            steps = (*steps, Step(UNREAD, work.plan, plan, 0))
        self._ahead, self._least, self._lost = done - len(steps), len(steps), False
        self.work = self._worked(work.first, steps, len(steps), place)

    def told(self) -> str:
        """What cannot be read, sentences; "" if all can."""
        if not self._damaged:
            return ""
        numbers = [number for number, _at in self._damaged]
        if numbers == [self._last] and not self._passed:
            return "The very last record broke off."
        at = self._damaged[0][1]
        when = f", written after {time.strftime('%d %b %H:%M:%S', time.localtime(at))}" if at else ""
        one = len(numbers) == 1
        listed = ", ".join(str(number + 1) for number in numbers[:5]) + ("…" if len(numbers) > 5 else "")
        lines = [f"{'Record' if one else 'Records'} {listed} {'is' if one else 'are'} damaged{when}."]
        if self._passed:
            lines.append(
                f"{len(self._passed)} more up to record {max(self._passed) + 1} count on "
                f"{'it' if one else 'them'} and are skipped."
            )
        return " ".join(lines)
