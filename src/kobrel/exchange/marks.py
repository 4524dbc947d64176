"""Marks as a list in text: a frame and what is in focus there, a line a mark, as tables copy it."""

import re
from collections.abc import Iterable

from kobrel.errors import ExchangeError, KobrelError
from kobrel.optics.units import Measure, format_length, parse_length
from kobrel.plan.model import DistanceTarget, Mark, Plan, SubjectTarget, Target
from kobrel.plan.parts import MOST_FRAME

_LINE = re.compile(r"\s*([-+]?\d+(?:\.\d+)?)\s*[\t;,: ]\s*(.+?)\s*$")


def marks_text(plan: Plan, marks: Iterable[Mark], unit: Measure) -> str:
    """A line for each mark: its frame, a tab, and its subject's name or its distance.

    A mark on a free point stands as "a free point", which cannot be read back.
    """

    def on(target: Target) -> str:
        name = plan.name_of(target)
        return format_length(target.metres, unit) if isinstance(target, DistanceTarget) else name or ""

    return "".join(f"{mark.frame:g}\t{on(mark.target)}\n" for mark in marks)


def read_marks(text: str, plan: Plan, unit: Measure) -> list[Mark]:
    """Marks from such lines, in any order; a subject by its name or as #number.

    Raises
    ------
    ExchangeError
        A line is no mark, or two are at one frame; says which.
    """
    found: dict[float, Mark] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        match = _LINE.match(line)
        if match is None:
            raise ExchangeError(
                f"Line {number}, “{line.strip()}”: write a frame and a subject or distance, as in 1040 3.2 m."
            )
        frame = float(match[1])
        if abs(frame) > MOST_FRAME:
            raise ExchangeError(f"Line {number}: frames lie within {MOST_FRAME:,} of 0.")
        if frame in found:
            raise ExchangeError(f"Line {number}: there is another mark at frame {frame:g} already.")
        found[frame] = Mark(frame=frame, target=_target(match[2], number, plan, unit))
    if not found:
        raise ExchangeError("There are no marks in this text.")
    return [found[frame] for frame in sorted(found)]


def _target(text: str, number: int, plan: Plan, unit: Measure) -> Target:
    for subject in plan.subjects:
        if text.casefold() in (subject.name.casefold(), f"#{subject.number}"):
            return SubjectTarget(number=subject.number)
    try:
        return DistanceTarget(metres=parse_length(text, unit))
    except KobrelError:
        known = ", ".join(subject.name for subject in plan.subjects) or "none"
        raise ExchangeError(
            f"Line {number}: “{text}” is neither a distance nor a subject.", remedy=f"Subjects: {known}."
        ) from None
    except ValueError:
        raise ExchangeError(
            f"Line {number}: “{text}” is not a distance.",
            remedy="Distances are greater than nought, up to 1e9 m.",
        ) from None
