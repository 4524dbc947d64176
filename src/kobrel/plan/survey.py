"""The survey: every number of a shot over all its frames."""

from dataclasses import dataclass

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
    state : (S, F) index into STATES; gone is behind the camera or out of the picture
    """

    frames: Numbers
    camera: Camera
    near_m: Numbers
    far_m: Numbers
    subjects: tuple[int, ...]
    sight: Sight
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
        return int(np.argmin(np.abs(self.frames - frame)))


def survey(plan: Plan, shot: Shot, stage: Stage, frames: ArrayLike | None = None) -> Survey:
    """Survey a shot, over all its frames or those given.

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
        points[row] = subject_points(subject.anchor, at, stage)
    sight = camera.see(points)
    near, far = camera.limits_m
    sharp = sight.blur_px <= camera.coc_px * (1 + 1e-9)
    state = np.where(sight.in_frame, np.where(sharp, SHARP, SOFT), GONE).astype(np.int8)
    return Survey(at, camera, near, far, tuple(s.number for s in plan.subjects), sight, state)
