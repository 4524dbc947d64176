"""Levels that rise from nothing, or go down to it, by two keys."""

from typing import Literal

from kobrel.plan.keys import Level, LevelKey, replaced_between

Way = Literal["in", "out"]


def faded(level: Level, way: Way, first: float, last: float) -> Level:
    """A level that fades in or out between two frames."""
    return (faded_in if way == "in" else faded_out)(level, first, last)


def faded_in(level: Level, first: float, last: float) -> Level:
    """A level that is 0 at one frame and at another what it was there; at a nought, 1.

    >>> [(key.frame, key.value) for key in faded_in(Level(value=0.8), 10, 24).keys]
    [(10.0, 0.0), (24.0, 0.8)]
    """
    whole = level.value_at(last)
    return _between(level, (first, 0.0), (last, whole if whole > 0.0 else 1.0))


def faded_out(level: Level, first: float, last: float) -> Level:
    """A level that goes from what it is at one frame to 0 at another.

    >>> [(key.frame, key.value) for key in faded_out(Level(value=0.8), 10, 24).keys]
    [(10.0, 0.8), (24.0, 0.0)]
    """
    whole = level.value_at(first)
    return _between(level, (first, whole if whole > 0.0 else 1.0), (last, 0.0))


def _between(level: Level, start: tuple[float, float], end: tuple[float, float]) -> Level:
    """A level with keys at two frames, instead of those between them."""
    fresh = [LevelKey(frame=frame, value=value) for frame, value in (start, end)]
    return level.replace(keys=replaced_between(level.keys, fresh))
