"""The survey: every number of a shot over all its frames."""

from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.anchors import subject_points
from kobrel.plan.camera import Camera, Sight, cameras_at
from kobrel.plan.model import Plan, Shot
from kobrel.stage.stage import Stage

SHARP, SOFT, GONE = 0, 1, 2
STATES = ("sharp", "soft", "gone")


@dataclass(frozen=True, eq=False)
class Survey:
    """Numbers of a shot at F frames, for S subjects.

    Parameters
    ----------
    frames : (F,)
    camera : the camera at these frames
    near_m, far_m : (F,) limits of what is sharp
    subjects : the subjects' numbers, in the plan's order
    sight : how they appear, arrays of (S, F)
    points : (S, F, 3) metres on the stage
    worst_px : (S, F) the larger blur of a subject's near and far side; where it has no depth
        of its own, its blur
    half_depth_m : (S,) of the subjects
    state : (S, F) index into STATES; gone is behind the camera or out of the picture
    """

    frames: Numbers
    camera: Camera
    near_m: Numbers
    far_m: Numbers
    subjects: tuple[int, ...]
    points: Numbers
    sight: Sight
    worst_px: Numbers
    half_depth_m: Numbers
    state: NDArray[np.int8]

    @property
    def focus_distance_m(self) -> Numbers:
        """(S, F) the distance that counts for the focus: along the axis, or straight."""
        return self.sight.straight_m if self.camera.surface == "sphere" else self.sight.axial_m

    @property
    def nearer(self) -> NDArray[np.bool_]:
        """(S, F) whether a subject lies on the near side of the focus."""
        return np.asarray(self.focus_distance_m < self.camera.focus_m)

    def index_of(self, frame: float) -> int:
        """Position of the nearest frame."""
        guess = round(frame - self.frames[0])
        if 0 <= guess < len(self.frames) and self.frames[guess] == frame:
            return guess
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
    camera = cameras_at(plan, shot, at, stage)
    points = np.empty((len(plan.subjects), len(at), 3))
    for row, subject in enumerate(plan.subjects):
        points[row] = subject_points(subject.anchor, at, stage, camera.pose[:, :3, 3])
    numbers = tuple(subject.number for subject in plan.subjects)
    halves = np.array([subject.half_depth_m for subject in plan.subjects])
    comparable = last is not None and np.array_equal(last.frames, at) and last.subjects == numbers
    if last is None or not comparable or not np.array_equal(last.half_depth_m, halves):
        return _surveyed(at, camera, points, numbers, halves)
    moved = (points != last.points).any(axis=0).any(axis=-1)
    rows = np.flatnonzero(camera.differs(last.camera) | moved)
    fresh = _surveyed(at[rows], camera.rows(rows), points[:, rows], numbers, halves)
    return _mended(last, fresh, rows, camera, points)


def _mended(last: Survey, fresh: Survey, rows: NDArray[np.intp], camera: Camera, points: Numbers) -> Survey:
    """A survey with the numbers of some frames in place of its own."""

    def at_rows(name: str, old: Any, new: Any) -> Any:
        mended = getattr(old, name).copy()
        mended[..., rows] = getattr(new, name)
        return mended

    sight = Sight(**{f.name: at_rows(f.name, last.sight, fresh.sight) for f in fields(Sight)})
    own = {name: at_rows(name, last, fresh) for name in ("near_m", "far_m", "worst_px", "state")}
    return replace(last, camera=camera, points=points, sight=sight, **own)


def _surveyed(
    at: Numbers, camera: Camera, points: Numbers, numbers: tuple[int, ...], halves: Numbers
) -> Survey:
    sight = camera.see(points)
    near, far = camera.limits_m
    worst = _worst_px(camera, points, sight, halves)
    sharp = worst <= camera.coc_px * (1 + 1e-9)
    state = np.where(sight.in_frame, np.where(sharp, SHARP, SOFT), GONE).astype(np.int8)
    return Survey(at, camera, near, far, numbers, points, sight, worst, halves, state)


def _worst_px(camera: Camera, points: Numbers, sight: Sight, halves: Numbers) -> Numbers:
    """Blur of the worse end of each subject's depth, which reaches along the line of sight."""
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
