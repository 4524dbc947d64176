"""Tapes: distances between two ends, wherever these go."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera, cameras_at
from kobrel.plan.model import CameraEnd, End, Plan, PointAnchor, Shot, SubjectEnd, Tape
from kobrel.plan.space.anchors import subject_points
from kobrel.stage.stage import Pick, Stage

_ON = 0.004
"""A free end counts as on a thing within this part of its distance from the camera."""


@dataclass(frozen=True, eq=False)
class TapeNumbers:
    """A tape at F frames.

    Parameters
    ----------
    start, end : (F, 3) metres on the stage; not-a-number where an end is on nothing
    straight_m : (F,) its length
    axial_m : (F,) the part of it along the camera's axis
    across_m : (F,) the part of it across that axis
    """

    start: Numbers
    end: Numbers
    straight_m: Numbers
    axial_m: Numbers
    across_m: Numbers


def measure(plan: Plan, shot: Shot, stage: Stage, tape: Tape, frames: ArrayLike) -> TapeNumbers:
    """Measure along a tape at frames, fractional ones too.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    """
    return measure_with(cameras_at(plan, shot, frames, stage), plan, stage, tape, frames)


def measure_with(camera: Camera, plan: Plan, stage: Stage, tape: Tape, frames: ArrayLike) -> TapeNumbers:
    """As :func:`measure`, with the camera at these frames at hand."""
    at = np.atleast_1d(np.asarray(frames, dtype=float))
    lens = np.broadcast_to(camera.pose[..., :3, 3], (len(at), 3))
    start = np.broadcast_to(end_points(plan, tape.start, at, stage, lens), (len(at), 3))
    end = np.broadcast_to(end_points(plan, tape.end, at, stage, lens), (len(at), 3))
    along = end - start
    straight = np.linalg.norm(along, axis=1)
    axis = np.broadcast_to(camera.pose[..., :3, 2], (len(at), 3))
    axial = np.abs(np.einsum("fi,fi->f", axis, along))
    return TapeNumbers(start, end, straight, axial, np.sqrt(np.maximum(straight**2 - axial**2, 0.0)))


def end_points(plan: Plan, end: End, frames: ArrayLike, stage: Stage, lens: Numbers) -> Numbers:
    """Where an end of a tape is, (F, 3) or (1, 3); `lens` is (F, 3)."""
    if isinstance(end, CameraEnd):
        return lens
    if isinstance(end, SubjectEnd):
        subject = plan.subject(end.number)
        return subject_points(subject.anchor, frames, stage, lens) if subject else np.full((1, 3), np.nan)
    return subject_points(end, frames, stage, lens)


@dataclass(frozen=True, eq=False)
class Miss:
    """A free end of a tape that touches nothing: what it was perhaps meant to touch."""

    gap_m: float
    pick: Pick


def miss(end: End, point: Numbers, camera: Camera, stage: Stage, frame: float) -> Miss | None:
    """How far a free end is off the nearest thing to its sides, above, below, before or behind.

    Looked along any of these ways the end seems to touch; from elsewhere it does not. None
    for an end that is tied to something, that touches or is inside a thing, or that has
    nothing about it.
    """
    if not isinstance(end, PointAnchor) or np.isnan(point).any():
        return None
    near = max(_ON * float(np.linalg.norm(point - camera.pose[:3, 3])), 1e-4)
    found: list[Miss] = []
    for way in (*camera.pose[:3, :3].T, *-camera.pose[:3, :3].T):
        # From a little before the point, so that a surface that it lies on is met.
        pick = stage.pick(frame, point - way * near, way)
        if pick:
            found.append(Miss(pick.along - near, pick))
    inside = len(found) == 6 and len({miss.pick.place for miss in found}) == 1
    closest = min(found, key=lambda miss: miss.gap_m, default=None)
    return closest if closest and closest.gap_m > near and not inside else None
