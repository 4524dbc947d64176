"""Cues as CSV: name, first frame, last frame, a line a cue."""

from collections.abc import Iterable
from pathlib import Path

from kobrel.errors import ExchangeError
from kobrel.exchange.timeline import EDL_SUFFIXES, OTIO_SUFFIXES, read_list
from kobrel.exchange.writing.whole import csv_text, write_text
from kobrel.files import csv_lines, text_of
from kobrel.plan.model import Cue, Shot

_HEADINGS = ("name", "first", "last")


def read_cues(path: Path, shot: Shot) -> tuple[Cue, ...]:
    """Cues from a CSV with the columns name, first and last (which may be empty), or those that a list
    of shots (.otio) has for a shot of this name.

    Raises
    ------
    ExchangeError
        The file is no such, or has no cues; names the line.
    """
    if path.suffix.lower() in (*OTIO_SUFFIXES, *EDL_SUFFIXES):
        found = [cue for entry in read_list(path, shot.fps) if entry.name == shot.name for cue in entry.cues]
    else:
        found = _from_csv(path)
    if not found:
        raise ExchangeError(f"there are no cues for shot {shot.name} in it.", file=path)
    return tuple(found)


def _from_csv(path: Path) -> list[Cue]:
    lines = csv_lines(text_of(path, ExchangeError), path, ExchangeError)
    if not lines or [name.strip().lower() for name in lines[0]][:2] != list(_HEADINGS[:2]):
        raise ExchangeError(f"line 1 must be: {','.join(_HEADINGS)}.", file=path)
    return [_cue(path, number, line) for number, line in enumerate(lines[1:], 2) if any(line)]


def _cue(path: Path, number: int, line: list[str]) -> Cue:
    name, first, last = ([cell.strip() for cell in line] + ["", "", ""])[:3]
    try:
        return Cue(name=name, first=int(first), last=int(last) if last else None)
    except ValueError:
        raise ExchangeError(
            f"“{','.join(line)}” is not a cue.",
            file=path,
            place=f"line {number}",
            remedy="Write a name, its first frame, and for a range its last frame, not before the first.",
        ) from None


def write_cues(cues: Iterable[Cue], path: Path) -> None:
    """Write cues as CSV.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    rows = [(cue.name, cue.first, "" if cue.last is None else cue.last) for cue in cues]
    write_text(path, csv_text([_HEADINGS, *rows]))
