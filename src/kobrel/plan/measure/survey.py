"""The survey: every number of a shot over all its frames."""

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera, Sight, cameras_at
from kobrel.plan.model import Plan, Shot, Subject
from kobrel.plan.space.anchors import subject_points
from kobrel.stage.stage import Stage

SHARP, SOFT, GONE = 0, 1, 2
NEAREST_M = 0.002
"""The nearest distance that scales show and the focus is put to."""
_NOTHING_M = 1.0
"""Where a scale begins on which nothing stands."""
_FIRST_STEPS = (1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0)
STATES = ("sharp", "soft", "gone")


def round_up(metres: float) -> float:
    """The next round distance from one on.

    >>> round_up(3.2), round_up(11.0), round_up(2.0)
    (4.0, 12.0, 2.0)
    """
    decade = 10.0 ** math.floor(math.log10(metres))
    steps = (*_FIRST_STEPS, 10.0)
    return min(step * decade for step in steps if step * decade >= metres * (1 - 1e-12))


@dataclass(frozen=True, eq=False)
class Survey:
    """Numbers of a shot at F frames, for S subjects.

    Parameters
    ----------
    of : the subjects and the stage that it was taken of
    frames : (F,)
    camera : the camera at these frames
    near_m, far_m : (F,) limits of what is sharp
    subjects : the subjects' numbers, in the plan's order
    sight : how they appear, arrays of (S, F)
    points : (S, F, 3) metres on the stage
    worst_px : (S, F) the larger blur of a subject's near and far side; where it has no depth
        of its own, its blur
    state : (S, F) index into STATES; gone is behind the camera or out of the picture
    """

    of: tuple[tuple[Subject, ...], Stage]
    frames: Numbers
    camera: Camera
    near_m: Numbers
    far_m: Numbers
    subjects: tuple[int, ...]
    points: Numbers
    sight: Sight
    worst_px: Numbers
    state: NDArray[np.int8]

    @property
    def focus_distance_m(self) -> Numbers:
        """(S, F) the distance that counts for the focus: along the axis, or straight."""
        return self.sight.straight_m if self.camera.surface == "sphere" else self.sight.axial_m

    @cached_property
    def nearer(self) -> NDArray[np.bool_]:
        """(S, F) whether a subject lies on the near side of the focus."""
        return np.asarray(self.focus_distance_m < self.camera.focus_m)

    @cached_property
    def nearest_of_interest_m(self) -> float:
        """Where a scale over the whole shot should begin: a round distance before all that matters."""
        near = [float(np.min(self.near_m))] if np.isfinite(self.near_m).any() else [_NOTHING_M]
        seen = self.focus_distance_m[(self.state != GONE) & (self.focus_distance_m > 0)]
        if seen.size:
            near.append(float(np.min(seen)))
        wanted = max(min(near) * 0.82, NEAREST_M)
        decade = 10.0 ** math.floor(math.log10(wanted))
        return max(step * decade for step in _FIRST_STEPS if step * decade <= wanted)

    def index_of(self, frame: float) -> int:
        """Position of the nearest frame."""
        guess = round(frame - self.frames[0])
        if 0 <= guess < len(self.frames) and self.frames[guess] == frame:
            result: int = guess
            return result
        return int(np.argmin(np.abs(self.frames - frame)))


def survey(
    plan: Plan, shot: Shot, stage: Stage, frames: ArrayLike | None = None, last: Survey | None = None
) -> Survey:
    """Survey a shot, over all its frames or those given.

    Parameters
    ----------
    last : an earlier survey, from which come the frames that are still as they were

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    """
    at = (
        np.arange(shot.first, shot.last + 1.0) if frames is None else np.atleast_1d(np.asarray(frames, float))
    )
    stage = stage.of_shot(shot.name)
    camera, of = cameras_at(plan, shot, at, stage), (plan.subjects, stage)
    if last is not None and _stands_alike(last, of, at, camera):
        return _mended(last, camera)
    points = np.empty((len(plan.subjects), len(at), 3))
    for row, subject in enumerate(plan.subjects):
        points[row] = subject_points(subject.anchor, at, stage, camera.pose[:, :3, 3])
    return _surveyed(of, at, camera, points)


def _stands_alike(last: Survey, of: tuple[object, ...], at: Numbers, camera: Camera) -> bool:
    """Whether an earlier survey has the same subjects, frames and places of the camera."""
    known = all(a is b for a, b in zip(last.of, of, strict=True))
    return known and np.array_equal(last.frames, at) and np.array_equal(last.camera.pose, camera.pose)


def _surveyed(of: tuple[tuple[Subject, ...], Stage], at: Numbers, camera: Camera, points: Numbers) -> Survey:
    sight = camera.see(points)
    near, far = camera.limits_m
    worst = _worst_px(of[0], camera, points, sight)
    sharp = worst <= camera.coc_px * (1 + 1e-9)
    state = np.where(sight.in_frame, np.where(sharp, SHARP, SOFT), GONE).astype(np.int8)
    numbers = tuple(subject.number for subject in of[0])
    return Survey(of, at, camera, near, far, numbers, points, sight, worst, state)


def _mended(last: Survey, camera: Camera) -> Survey:
    """A survey with a camera that stands where its own did, but may have another lens at some frames."""
    rows = np.flatnonzero(camera.differs(last.camera))
    fresh = _surveyed(last.of, last.frames[rows], camera.rows(rows), last.points[:, rows])

    def mended(old: Any, new: Any, names: Iterable[str]) -> dict[str, Any]:
        taken = {name: getattr(old, name).copy() for name in names}
        for name, values in taken.items():
            values[..., rows] = getattr(new, name)
        return taken

    sight = replace(last.sight, **mended(last.sight, fresh.sight, ("x_px", "y_px", "blur_px", "in_frame")))
    own = mended(last, fresh, ("near_m", "far_m", "worst_px", "state"))
    return replace(last, camera=camera, sight=sight, **own)


def _worst_px(subjects: tuple[Subject, ...], camera: Camera, points: Numbers, sight: Sight) -> Numbers:
    """Blur of the worse end of each subject's depth, which reaches along the line of sight."""
    halves = np.array([subject.half_depth_m for subject in subjects])
    if not halves.any():
        return sight.blur_px
    toward = points - camera.pose[:, :3, 3]
    if camera.projection == "orthographic":
        toward = np.broadcast_to(-camera.pose[:, :3, 2], points.shape)
    with np.errstate(invalid="ignore", divide="ignore"):
        step = toward / np.linalg.norm(toward, axis=-1, keepdims=True) * halves[:, None, None]
    ends = [camera.see(points + sign * step) for sign in (-1, 1)]
    blurs = [np.where(np.isnan(end.blur_px), np.inf, end.blur_px) for end in ends]
    return np.where(halves[:, None] > 0, np.maximum(*blurs), sight.blur_px)


def runs(frames: Numbers, true: NDArray[np.bool_]) -> list[tuple[float, float]]:
    """First and last frame of each stretch over which something is so."""
    return [(float(frames[first]), float(frames[last])) for first, last in index_runs(true)]


def index_runs(true: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and last index of each stretch over which something is so."""
    within = np.zeros(len(true) + 2, bool)
    within[1:-1] = true
    edges = np.flatnonzero(within[1:] != within[:-1])
    return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def spans(frames: Numbers, true: NDArray[np.bool_], throughout: str, never: str) -> str:
    """The frames at which something is so, as ranges."""
    if true.all():
        return throughout
    return ", ".join(f"{a:g}–{b:g}" if b > a else f"{a:g}" for a, b in runs(frames, true)) or never
