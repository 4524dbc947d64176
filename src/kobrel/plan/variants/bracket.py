"""Ladders: a shot with one of its settings in steps, or two of them as a grid."""

import itertools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import ValidationError

from kobrel.errors import PartError, PlanError
from kobrel.optics.exposure import FULL_STOPS
from kobrel.plan.glass import with_focal, with_sensor
from kobrel.plan.instrument import Sensor
from kobrel.plan.keys import Key
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import DistanceTarget, Plan, Shot
from kobrel.plan.pull.marks import refocus
from kobrel.plan.variants.proofs import blade_words

Kind = Literal["stop", "focal", "focal_here", "focus", "blades", "squeeze", "sensor"]
KINDS: Mapping[Kind, tuple[str, str]] = {
    "stop": ("Stop", ""), "focal": ("Focal length (hold framing)", "mm"),
    "focal_here": ("Focal length (camera fixed)", "mm"), "focus": ("Focus distance", "m"),
    "blades": ("Blades", ""), "squeeze": ("Squeeze", ""), "sensor": ("Sensor width (hold framing)", "mm"),
}  # fmt: skip
"""What a bracket goes through: how it is called, and its unit."""
MOST_RUNGS = 100
_STEPS = 5
_BLADES, _SQUEEZES, _SENSORS = (0, 5, 6, 7, 9), (1.0, 1.33, 1.5, 1.8, 2.0), (13.2, 18.0, 24.0, 36.0, 54.0)
_FARTHEST_M = 1000.0


@dataclass(frozen=True)
class Rung:
    """A way of a shot at a frame, and what it is called."""

    name: str
    shot: Shot
    frame: float


def first_values(kind: Kind, camera: Camera) -> list[float]:
    """Values that a ladder may begin with, about those of a camera at one frame."""
    if kind == "stop":
        stops = [float(stop) for stop in FULL_STOPS]
        nearest = int(np.argmin(np.abs(np.log(np.array(stops) / float(camera.f_number)))))
        start = min(max(nearest - _STEPS // 2, 0), len(stops) - _STEPS)
        return stops[start : start + _STEPS]
    if kind in ("focal", "focal_here"):
        steps = float(camera.focal_mm) * 2.0 ** np.linspace(-1, 1, _STEPS)
        return [float(f"{value:.2g}") for value in steps]
    if kind == "focus":
        dioptres = 1.0 / min(float(camera.focus_m), _FARTHEST_M) * np.linspace(1.5, 0.5, _STEPS)
        return [float(f"{1.0 / value:.3g}") for value in dioptres]
    fixed = {"blades": _BLADES, "squeeze": _SQUEEZES, "sensor": _SENSORS}[kind]
    return [float(value) for value in fixed]


def with_value(shot: Shot, frame: float, camera: Camera, kind: Kind, value: float) -> Shot:
    """The shot with one setting at a frame.

    With the framing kept, the camera moves along its axis so that what is in focus keeps its size, and the
    focus goes with it where the marks are on plain distances.

    Parameters
    ----------
    camera : of the shot at the frame

    Raises
    ------
    PlanError
        No shot can have that value.
    """
    if not value > 0 and kind != "blades":
        raise PlanError(f"{KINDS[kind][0]}: {value:g} is not above 0.")
    glass = shot.glass
    if kind == "stop":
        return shot.replace(glass=glass.replace(f_number=glass.f_number.set(Key(frame=frame, value=value))))
    if kind == "focus":
        return refocus(shot, frame, DistanceTarget(metres=value))
    if kind == "blades":
        if not (value == 0 or 3 <= value <= 64) or value != int(value):
            raise PlanError(f"Blades: {value:g}; an iris has 3 to 64, or 0 for a circle.")
        return shot.replace(iris=shot.iris.replace(blades=int(value)))
    if kind == "squeeze":
        if not 1 <= value <= 4:
            raise PlanError(f"Squeeze: {value:g}; it is 1 to 4.")
        return shot.replace(glass=glass.replace(squeeze=value))
    if kind == "sensor":
        by = value / glass.sensor.width_mm
        sensor = Sensor(width_mm=value, height_mm=glass.sensor.height_mm * by)
        return shot.replace(glass=with_sensor(glass, sensor, keep_framing=True))
    changed = shot.replace(glass=with_focal(glass, glass.focal_mm.set(Key(frame=frame, value=value))))
    focus = float(camera.focus_m)
    if kind == "focal_here" or not np.isfinite(focus):
        return changed
    nearer = value / float(camera.focal_mm)
    marks = tuple(
        mark.replace(target=DistanceTarget(metres=mark.target.metres * nearer))
        if isinstance(mark.target, DistanceTarget)
        else mark
        for mark in shot.marks
    )
    return changed.replace(ahead_m=shot.ahead_m + focus * (1.0 - nearer), keeps=None, marks=marks)


def ladder(
    shot: Shot,
    frame: float,
    camera: Callable[[Shot], Camera],
    steps: Sequence[tuple[Kind, Sequence[float]]],
) -> list[Rung]:
    """The shot at a frame with one setting in steps; with two, each of the first with each of the second.

    Parameters
    ----------
    camera : of a shot at the frame

    Raises
    ------
    PlanError
        There is nothing to go through, too much, or a value makes no sense.
    """
    count = int(np.prod([len(values) for _kind, values in steps])) if steps else 0
    if not 1 <= count <= MOST_RUNGS:
        raise PlanError(f"A bracket has 1 to {MOST_RUNGS} steps; these would be {count}.")
    rungs = []
    for values in itertools.product(*(values for _kind, values in steps)):
        way, words = shot, []
        for (kind, _values), value in zip(steps, values, strict=True):
            try:
                way = with_value(way, frame, camera(way), kind, value)
            except (PartError, ValidationError):
                raise PlanError(f"{KINDS[kind][0]}: no shot can have {value:g}.") from None
            words.append(value_words(kind, value))
        rungs.append(Rung("  ".join(words), way, frame))
    return rungs


def distinct(names: Sequence[str]) -> list[str]:
    """Names with a number behind those that come again.

    >>> distinct(["f/2", "f/4", "f/2"])
    ['f/2', 'f/4', 'f/2 (2)']
    """
    made: list[str] = []
    for name in names:
        number, fresh = 2, name
        while fresh in made:
            fresh, number = f"{name} ({number})", number + 1
        made.append(fresh)
    return made


def value_words(kind: Kind, value: float) -> str:
    """A rung's value as it is called.

    >>> value_words("stop", 2.8), value_words("blades", 0), value_words("focal", 35)
    ('f/2.8', 'round iris', '35 mm')
    """
    if kind == "stop":
        return f"f/{value:.3g}"
    if kind == "blades":
        return blade_words(value)
    unit = KINDS[kind][1]
    text = f"{value:.4g} {unit}".strip()
    return f"squeeze {text}" if kind == "squeeze" else f"{text} wide" if kind == "sensor" else text


def ends_of_shots(plan: Plan) -> list[Rung]:
    """First, middle and last frame of every shot.

    Raises
    ------
    PlanError
        They are too many, or there is none.
    """
    rungs = [
        Rung(f"{shot.name}  {frame:g}", shot, float(frame))
        for shot in plan.shots
        for frame in dict.fromkeys((shot.first, (shot.first + shot.last) // 2, shot.last))
    ]
    return _bounded(rungs, "Choose fewer shots.")


def every_nth(shot: Shot, every: int, first: int | None = None, last: int | None = None) -> list[Rung]:
    """Every nth frame of a shot, or of a range of it.

    Raises
    ------
    PlanError
        They are too many, or `every` is below 1.
    """
    if every < 1:
        raise PlanError(f"Every {every}th frame makes no sense; it is 1 or more.")
    start, end = shot.first if first is None else first, shot.last if last is None else last
    rungs = [Rung(f"{frame}", shot, float(frame)) for frame in range(start, end + 1, every)]
    return _bounded(rungs, "Leave out more frames.")


def _bounded(rungs: list[Rung], remedy: str) -> list[Rung]:
    if not 1 <= len(rungs) <= MOST_RUNGS:
        raise PlanError(f"A bracket has 1 to {MOST_RUNGS} steps; these would be {len(rungs)}.", remedy=remedy)
    return rungs
