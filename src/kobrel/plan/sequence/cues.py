"""Cues: frames and ranges with names, in a shot."""

from collections.abc import Iterable

from kobrel.plan.edit import unused
from kobrel.plan.model import Cue, Shot


def with_cues(shot: Shot, cues: Iterable[Cue]) -> Shot:
    """The shot with these cues, in the order of their frames."""
    return shot.replace(cues=tuple(sorted(cues, key=lambda cue: (cue.first, cue.end, cue.name))))


def add_cue(shot: Shot, first: int, last: int | None = None, name: str = "Cue") -> tuple[Shot, Cue]:
    """The shot with another cue, and that under an unused name."""
    cue = Cue(name=unused(name, [cue.name for cue in shot.cues]), first=first, last=last)
    return with_cues(shot, [*shot.cues, cue]), cue


def change_cue(shot: Shot, old: Cue, new: Cue) -> Shot:
    """The shot with a cue exchanged."""
    return with_cues(shot, [new if cue == old else cue for cue in shot.cues])


def remove_cue(shot: Shot, cue: Cue) -> Shot:
    """The shot without a cue."""
    return with_cues(shot, [other for other in shot.cues if other != cue])


def cue_frames(shot: Shot) -> list[int]:
    """All frames at which cues begin and end."""
    return sorted({frame for cue in shot.cues for frame in (cue.first, cue.end)})


def snapped(frame: float, places: Iterable[float], within: float) -> float:
    """A frame, or the nearest of some places that lies within a reach of it.

    >>> snapped(1010.4, [1008, 1012], 2.0)
    1012
    >>> snapped(1010.4, [1000], 2.0)
    1010.4
    """
    nearest = min(places, key=lambda place: abs(place - frame), default=frame)
    return nearest if abs(nearest - frame) <= within else frame
