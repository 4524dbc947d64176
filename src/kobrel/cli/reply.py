"""What a command answers as JSON with ``--json``, for commands that tell people lines otherwise."""

import contextlib
import io
import json
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from typing import Any

from kobrel.errors import KobrelError
from kobrel.files import noting_written


@dataclass(frozen=True)
class Fault:
    """What is wrong: a sentence, in which file, where in it, and what to do about it."""

    what: str
    file: str = ""
    place: str = ""
    remedy: str = ""


@dataclass
class Reply:
    """The answer of a command.

    Parameters
    ----------
    output : the file that was named to be written
    status : the exit status
    said : the lines that it tells people
    data : what is in them
    files : what was written, in this order
    error : why the status is 2 or 70
    """

    command: str
    output: str
    status: int = 0
    said: list[str] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)
    data: dict[str, Any] = field(default_factory=dict)
    files: list[str] = field(default_factory=list)
    error: Fault | None = None


_now: list[Reply] = []


def add(**data: Any) -> None:
    """Put what a command found into its answer, if one is wanted."""
    for each in _now:
        each.data.update(data)


def note(warning: str) -> None:
    """Put a warning into the answer, if one is wanted."""
    for each in _now:
        each.warnings.append(warning)


def fault_of(error: Exception) -> Fault:
    """What is wrong, in parts."""
    if isinstance(error, KobrelError):
        return Fault(error.what, str(error.file), error.place, error.remedy)
    return Fault(" ".join(str(error).split()))


@contextlib.contextmanager
def gathered(command: str, output: str) -> Iterator[Reply]:
    """Gather what a command tells instead of printing it."""
    mine = Reply(command, output)
    _now.append(mine)
    lines = io.StringIO()
    try:
        with contextlib.redirect_stdout(lines), noting_written() as written:
            yield mine
    finally:
        mine.files = [str(path) for path in dict.fromkeys(written)]
        _now.remove(mine)
        mine.said = lines.getvalue().splitlines()


def to_json(reply: Reply) -> str:
    """An answer as text."""
    told = {name: value for name, value in asdict(reply).items() if name != "error" or value is not None}
    return json.dumps(told, indent=2, ensure_ascii=False, default=str)
