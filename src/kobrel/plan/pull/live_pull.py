"""A pull performed by hand, as marks."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import PlanError
from kobrel.optics.path import fewest_corners, taut
from kobrel.plan.model import DistanceTarget, Mark

_LEAST_DPT = 1e-4
"""What is farther than 10 km counts as infinity."""


def performed(frames: ArrayLike, focus_dpt: ArrayLike, tolerance_dpt: float) -> tuple[Mark, ...]:
    """Marks whose even moves follow a recorded focus within a tolerance.

    The tightest string through the recording, plus and minus half the tolerance, takes the tremor
    away; straight lines within the whole of it need the fewest marks.

    Parameters
    ----------
    frames : (n,) rising; frames between them are filled in evenly
    focus_dpt : (n,) the focus recorded there
    tolerance_dpt : above 0

    Raises
    ------
    PlanError
        Nothing was recorded.
    """
    at, focus = np.asarray(frames, float), np.asarray(focus_dpt, float)
    if len(at) == 0:
        raise PlanError("Nothing was recorded.", remedy="Pull while the shot plays.")
    every = np.arange(at[0], at[-1] + 1)
    whole = np.interp(every, at, focus)
    low, high = whole - tolerance_dpt, whole + tolerance_dpt
    path = taut(whole - tolerance_dpt / 2, whole + tolerance_dpt / 2)
    corners = fewest_corners(path, low, high)
    if len(corners) == 2 and abs(path[0] - path[-1]) < _LEAST_DPT:
        corners = corners[:1]
    return tuple(
        Mark(frame=float(every[k]), target=DistanceTarget(metres=metres_of(float(path[k]))), ease="even")
        for k in corners
    )


def metres_of(dpt: float) -> float:
    """A distance of so many dioptres; infinity from 10 km."""
    return 1.0 / dpt if dpt > _LEAST_DPT else float("inf")
