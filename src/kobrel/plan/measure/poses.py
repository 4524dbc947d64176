"""Where the camera of a shot is over time, whatever kind of camera it is."""

from typing import assert_never

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.plan.model import FileCamera, FixedCamera, MadeCamera, Plan, Shot
from kobrel.plan.space.anchors import subject_points
from kobrel.plan.space.moves import made_poses
from kobrel.stage.motion import rigid
from kobrel.stage.stage import Stage


def poses(plan: Plan, shot: Shot, frames: ArrayLike, stage: Stage) -> Numbers:
    """Camera poses at frames, (F, 4, 4) or (1, 4, 4) where it stands still.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    """
    still = _unmoved(plan, shot, frames, stage)
    ahead = shot.ahead_m + _ahead_for_size(plan, shot, frames, stage, still)
    if not np.any(ahead):
        return still
    moved = np.array(np.broadcast_to(still, (max(len(still), np.size(ahead)), 4, 4)))
    moved[:, :3, 3] -= moved[:, :3, 2] * np.reshape(ahead, (-1, 1))
    return moved


def _ahead_for_size(
    plan: Plan, shot: Shot, frames: ArrayLike, stage: Stage, still: Numbers
) -> Numbers | float:
    """How far the camera moves so that a subject keeps its size: ``d (1 - f / f0)``.

    A render camera pictures it at f / d, a thin lens focused on it at f / (d - f): either way
    its size stays where the distance grows as the focal length does.
    """
    keeps, glass = shot.keeps, shot.glass
    subject = plan.subject(keeps.subject) if keeps else None
    if keeps is None or subject is None or glass.projection == "orthographic":
        return 0.0
    at = np.atleast_1d(np.asarray(frames if keeps.frame is None else [keeps.frame], dtype=float))
    pose = still if keeps.frame is None else _unmoved(plan, shot, at, stage)
    away = subject_points(subject.anchor, at, stage, pose[:, :3, 3]) - pose[:, :3, 3]
    distance = -np.einsum("fi,fi->f", np.broadcast_to(pose[:, :3, 2], away.shape), away)
    part = glass.focal_mm.at(at) / keeps.focal_mm
    return np.where(distance > 0, distance * (1 - part), 0.0)


def _unmoved(plan: Plan, shot: Shot, frames: ArrayLike, stage: Stage) -> Numbers:
    """Where the shot's camera itself is, before it is moved along its axis."""
    camera = shot.camera
    match camera:
        case FixedCamera():
            return rigid(np.asarray(camera.pose, dtype=float).reshape(1, 4, 4))
        case MadeCamera():
            subject = plan.subject(camera.aims_at) if camera.aims_at is not None else None
            aim = subject_points(subject.anchor, frames, stage) if subject else None
            return made_poses(camera, frames, aim)
        case FileCamera():
            return _file_poses(shot, camera, frames, stage)
        case _:
            assert_never(camera)


def _file_poses(shot: Shot, camera: FileCamera, frames: ArrayLike, stage: Stage) -> Numbers:
    scene = stage.scenes.get(camera.scene)
    source = scene.camera(camera.path) if scene else None
    if source is None:
        raise PlanError(
            f"Shot {shot.label}: camera {camera.path} is not in scene {camera.scene}. "
            "Load the scene that has it, or choose another camera."
        )
    return rigid(stage.node_world(camera.scene, source.node, frames))


def near_clip_m(shot: Shot, stage: Stage) -> float:
    """Distance before which the shot's camera sees nothing, metres."""
    camera = shot.camera
    match camera:
        case FixedCamera():
            return 0.0
        case MadeCamera():
            return camera.near_clip_m
        case FileCamera():
            scene = stage.scenes.get(camera.scene)
            source = scene.camera(camera.path) if scene else None
            return source.near_clip_m * stage.scale_of(camera.scene) if source else 0.0
        case _:
            assert_never(camera)
