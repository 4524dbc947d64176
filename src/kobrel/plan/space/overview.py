"""A camera that sees all of a scene, and what follows when a scene gets another unit, axis or place."""

from typing import TypeVar

import numpy as np

from kobrel.optics.lens import Numbers
from kobrel.plan.model import (
    Anchor,
    CameraRef,
    DistanceTarget,
    End,
    FileCamera,
    MadeCamera,
    Mark,
    Plan,
    PointAnchor,
    PointTarget,
    Shot,
)
from kobrel.plan.space.moves import vector
from kobrel.stage.stage import Stage

# How many times its radius a ball must be away to fill the default lens and sensor.
_BACK_OFF = 5.2
_SAME = 1e-12
P = TypeVar("P", PointAnchor, PointTarget)


def overview_distance_m(stage: Stage) -> float:
    """How far the overview camera stands from the stage's middle."""
    low, high = stage.extent()
    return max(float(np.linalg.norm(high - low)) / 2, 1e-6) * _BACK_OFF


def overview_camera(stage: Stage) -> MadeCamera:
    """A camera from in front, to the right and above that sees the whole stage."""
    low, high = stage.extent()
    centre = (low + high) / 2
    back = np.array([0.5, 0.35, 0.8])
    back /= np.linalg.norm(back)
    return MadeCamera(
        position_m=vector(centre + back * overview_distance_m(stage)), aim_m=vector(centre), near_clip_m=0.0
    )


def followed(plan: Plan, before: Stage, after: Stage, name: str) -> Plan:
    """The plan after a scene was put in another unit, with another axis up, or elsewhere: what belongs to
    it follows.

    Cameras that Kobrel made for it and nobody moved look at it as before; the distances of its own
    cameras and of these scale with it; where it is the only scene, free points keep their places in it.

    Parameters
    ----------
    before, after : stages with that scene alone
    """
    if name not in before.scenes or name not in after.scenes:
        return plan
    old = before.placement_of(name) @ before.scenes[name].root
    new = after.placement_of(name) @ after.scenes[name].root
    move = new @ np.linalg.inv(old)
    if np.allclose(move, np.eye(4), atol=_SAME):
        return plan
    made, remade = overview_camera(before), overview_camera(after)
    shots = tuple(
        _moved_shot(shot, shot.camera if isinstance(shot.camera, FileCamera) else remade, move)
        if _belongs(shot, name, made)
        else shot
        for shot in plan.shots
    )
    if len(plan.scenes) > 1:
        return plan.replace(shots=shots)
    subjects = tuple(s.replace(anchor=_moved_anchor(s.anchor, move)) for s in plan.subjects)
    tapes = tuple(t.replace(start=_moved_end(t.start, move), end=_moved_end(t.end, move)) for t in plan.tapes)
    return plan.replace(shots=shots, subjects=subjects, tapes=tapes)


def _belongs(shot: Shot, name: str, made: MadeCamera) -> bool:
    camera = shot.camera
    return camera == made or (isinstance(camera, FileCamera) and camera.scene == name)


def _scale(move: Numbers) -> float:
    return float(np.cbrt(abs(np.linalg.det(move[:3, :3]))))


def _moved_shot(shot: Shot, camera: CameraRef, move: Numbers) -> Shot:
    glass = shot.glass
    if glass.projection == "orthographic":
        glass = glass.replace(field_m=glass.field_m * _scale(move))
    marks = tuple(_moved_mark(mark, move) for mark in shot.marks)
    return shot.replace(camera=camera, glass=glass, ahead_m=shot.ahead_m * _scale(move), marks=marks)


def _moved_mark(mark: Mark, move: Numbers) -> Mark:
    target = mark.target
    if isinstance(target, DistanceTarget):
        return mark.replace(target=DistanceTarget(metres=target.metres * _scale(move)))
    return mark.replace(target=_moved_point(target, move)) if isinstance(target, PointTarget) else mark


def _moved_anchor(anchor: Anchor, move: Numbers) -> Anchor:
    return _moved_point(anchor, move) if isinstance(anchor, PointAnchor) else anchor


def _moved_end(end: End, move: Numbers) -> End:
    return _moved_point(end, move) if isinstance(end, PointAnchor) else end


def _moved_point(point: P, move: Numbers) -> P:
    def moved(place: object) -> tuple[float, float, float]:
        return vector(move[:3, :3] @ np.asarray(place, float) + move[:3, 3])

    return point.each(moved)
