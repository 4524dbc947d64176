"""Rendered images on the stage: each a relief before the camera of its shot, at every frame."""

from dataclasses import replace
from functools import lru_cache

import numpy as np

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera, cameras_at
from kobrel.plan.model import FileCamera, MadeCamera, Plan, SceneRef, Shot
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.scene import Node, Scene
from kobrel.stage.stage import Setting, Stage

CARRIER = "/carrier"
_STILL = 1e-12


def placement(reference: SceneRef) -> Numbers:
    """The matrix that scales, turns and moves a scene to its place, (4, 4)."""
    turn = np.radians(reference.turn_deg)
    matrix = np.eye(4)
    matrix[0, 0] = matrix[2, 2] = np.cos(turn)
    matrix[0, 2], matrix[2, 0] = np.sin(turn), -np.sin(turn)
    matrix[:3, :3] *= reference.scale
    matrix[:3, 3] = reference.position_m
    return matrix


def aside_of(reference: SceneRef, scene: Scene) -> Setting:
    """A rendered image that nothing is measured on; its camera is there."""
    from kobrel.stage.read.rendered.relief import PICTURE

    return Setting(reference.name, scene, placement(reference), frozenset({PICTURE}))


def relief_before(plan: Plan, shot: Shot, reference: SceneRef, scene: Scene, stage: Stage) -> Setting:
    """A shot's rendered image before its camera: each of its places where the shot's camera sees it, at its
    own distance. Where the camera is the picture's own it stands where that is.

    Parameters
    ----------
    stage : without the relief; a camera that follows what stands on the relief does not move with it
    """
    hidden, own = frozenset(reference.hidden), shot.camera
    if isinstance(own, FileCamera) and own.scene == reference.name:
        return Setting(reference.name, scene, placement(reference), hidden)
    from kobrel.stage.read.rendered.relief import without_pose

    scene = without_pose(scene)
    frames = np.arange(shot.first - shot.handles, shot.last + shot.handles + 1.0)
    try:
        camera = cameras_at(plan, shot, frames, stage)
    except PlanError:  # the camera is missing, which is told where it is asked for
        return Setting(reference.name, scene, placement(reference), hidden)
    matrices = _before(camera, scene)
    if np.ptp(matrices, axis=0).max() < _STILL:
        return Setting(reference.name, scene, matrices[0], hidden)
    return Setting(reference.name, _carried(scene, frames.tobytes(), matrices.tobytes()), None, hidden)


def _before(camera: Camera, scene: Scene) -> Numbers:
    """(F, 4, 4) that carry a relief to where a camera sees it, as it is shown: a picture fills the frame of a
    wider lens, a longer one shows its middle. Before a view that is not in perspective it keeps its field.
    """
    count = len(np.atleast_1d(camera.focus_m))
    within = np.tile(np.eye(4), (count, 1, 1))
    made_by = scene.cameras[0]
    if camera.projection == "perspective":
        half_x = np.broadcast_to(camera.half_widths()[0], count)
        middle_x, middle_y = (np.broadcast_to(middle, count) for middle in camera.middle())
        double = 2.0 * float(made_by.focal_mm.values[0].item())
        own = float(made_by.width_mm.values[0].item()) / double
        within[:, 0, 0] = within[:, 1, 1] = np.maximum(half_x / own, 1.0)
        within[:, 0, 2], within[:, 1, 2] = -middle_x, -middle_y
    return np.asarray(np.broadcast_to(camera.pose, (count, 4, 4)) @ within)


@lru_cache(maxsize=8)
def _carried(scene: Scene, frames: bytes, matrices: bytes) -> Scene:
    """A relief that goes with a camera over frames."""
    track = Track(np.frombuffer(frames), np.frombuffer(matrices).reshape(-1, 4, 4))
    carrier = Node(CARRIER, motion=Motion((TransformOp("matrix", track),)))
    return replace(scene, nodes=(carrier, *(replace(node, parent=0) for node in scene.nodes)))


def _aims(shot: Shot) -> bool:
    return isinstance(shot.camera, MadeCamera) and shot.camera.aims_at is not None


def reliefs_alike(old: Plan, new: Plan) -> bool:
    """Whether the rendered images of two plans stand before the same cameras."""
    return _carriers(old) == _carriers(new)


def _carriers(plan: Plan) -> list[object]:
    """What the places of reliefs depend on."""
    if any(reference.finished is None for reference in plan.scenes):
        return []
    return [
        (shot.name, shot.finished, shot.camera, shot.first, shot.last, shot.handles, shot.ahead_m, shot.keeps,
         shot.glass, plan.dials, plan.subjects if shot.keeps or _aims(shot) else None)
        for shot in plan.shots
        if shot.finished
    ]  # fmt: skip
