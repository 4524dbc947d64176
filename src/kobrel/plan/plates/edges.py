"""Where a plate's edge would show: at which frames, and how far it must go on beyond itself."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import spans
from kobrel.plan.model import Plan
from kobrel.plan.pictures.drawn import Specks
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.space.plates import poses_at, scene_of
from kobrel.stage.stage import Stage

_COVERS = 0.8
_SIDE = 9


@dataclass(frozen=True, eq=False)
class EdgeReport:
    """What was found.

    Parameters
    ----------
    needed : how far beyond its edges, in parts of its width or height, so that none shows; 0 where it is
        enough, or where it is not meant to cover the frame
    frames : (F,) at which an edge shows
    words : the same in a sentence
    """

    needed: float
    shows: NDArray[np.bool_]
    words: str


def edge_report(plan: Plan, plate: Plate, stage: Stage, camera: Camera, frames: Numbers) -> EdgeReport:
    """Whether a plate that covers the frame would show its edge, its blur included. A side of its picture
    where nothing is has no edge to show.

    Parameters
    ----------
    camera : at all of `frames`
    """
    none = np.zeros(len(frames), bool)
    drawn = plate.picture.drawn
    if isinstance(drawn, Specks) or plate.lies or plate.cut is not None or camera.projection != "perspective":
        return EdgeReport(0.0, none, "")
    over, covers = _overshoot(plan, plate, camera, frames, _sides(stage, plate, float(frames[0])))
    if not covers.any():
        return EdgeReport(0.0, none, "")
    more = plate.beyond_part if plate.beyond != "nothing" else 0.0
    shows = over > more + 1e-9
    needed = float(over[np.isfinite(over)].max(initial=0.0))
    if not np.isfinite(over).all():
        return EdgeReport(
            4.0, shows, f"It faces away from the camera at {_frames(frames, ~np.isfinite(over))}."
        )
    if not shows.any():
        return EdgeReport(0.0, shows, "No edge of it shows in this shot.")
    return EdgeReport(
        needed, shows,
        f"Edge visible at {_frames(frames, shows)}; extend by {needed:.0%}.",
    )  # fmt: skip


def _frames(frames: Numbers, true: NDArray[np.bool_]) -> str:
    found = spans(frames, true, "all frames", "")
    return found if found == "all frames" else f"frames {found}"


def _sides(stage: Stage, plate: Plate, frame: float) -> tuple[bool, bool, bool, bool]:
    """Whether anything is at the left, right, upper and lower side of a plate's picture."""
    scene = stage.scenes.get(scene_of(plate.number))
    faces = [node.materials[0].plate for node in scene.nodes if node.mesh is not None] if scene else []
    if not faces or faces[0] is None:
        return (False,) * 4
    alpha = faces[0].source.at(frame).rgba[..., 3]
    left, right, top, bottom = (
        bool((side > 0).any()) for side in (alpha[:, 0], alpha[:, -1], alpha[0], alpha[-1])
    )
    return left, right, top, bottom


def _overshoot(
    plan: Plan, plate: Plate, camera: Camera, frames: Numbers, sides: tuple[bool, bool, bool, bool]
) -> tuple[Numbers, NDArray[np.bool_]]:
    """How far beyond some sides of the picture the frame and the blur about it look, (F,), in parts of its
    width and height, infinite where it cannot be told; and whether the plate covers the most of the frame.
    """
    poses = np.broadcast_to(poses_at(plate, plan.dials, frames, camera), (len(frames), 4, 4))
    half_x, half_y = camera.half_widths()
    middle_x, middle_y = camera.middle()
    edge = np.linspace(-1.0, 1.0, _SIDE)
    around = np.concatenate([
        np.stack([edge, np.full(_SIDE, side)], -1) if flat else np.stack([np.full(_SIDE, side), edge], -1)
        for side in (-1.0, 1.0) for flat in (True, False)
    ])  # fmt: skip
    axial = -np.einsum("fi,fi->f", camera.pose[:, :3, 2], poses[:, :3, 3] - camera.pose[:, :3, 3])
    with np.errstate(divide="ignore", invalid="ignore"):
        blur = np.abs(1.0 / camera.focus_m - 1.0 / axial) * camera.pupil_radius_m  # a tangent
        wide = 1.0 + np.where(axial > 0, blur, 0.0) / half_x
        tall = 1.0 + np.where(axial > 0, blur, 0.0) / half_y
        tx = around[:, 0][None] * (half_x * wide)[:, None] + middle_x[:, None]
        ty = around[:, 1][None] * (half_y * tall)[:, None] + middle_y[:, None]
        ways = np.einsum("fij,fkj->fki", camera.pose[:, :3, :3], np.stack([tx, ty, -np.ones_like(tx)], -1))
        inverse = np.linalg.inv(poses)
        start = np.einsum("fij,fj->fi", inverse[:, :3, :3], camera.pose[:, :3, 3]) + inverse[:, :3, 3]
        along = np.einsum("fij,fkj->fki", inverse[:, :3, :3], ways)
        t = -start[:, None, 2] / along[..., 2]
        met = start[:, None] + along * t[..., None]
        x = met[..., 0] / (plate.height_m * plate.picture.aspect) + plate.pivot[0]
        y = plate.pivot[1] - met[..., 1] / plate.height_m
    lost = ~((t > 0) & np.isfinite(t)).all(axis=1)
    beyond = [way for way, side in zip((-x, x - 1.0, -y, y - 1.0), sides, strict=True) if side]
    over = np.maximum.reduce([np.zeros_like(x), *beyond]).max(axis=1)
    share_x = np.clip(1.0 / np.maximum(np.ptp(x, axis=1), 1e-9), 0, 1)
    share_y = np.clip(1.0 / np.maximum(np.ptp(y, axis=1), 1e-9), 0, 1)
    covers = ~lost & (share_x > _COVERS) & (share_y > _COVERS)
    return np.where(lost, np.inf, np.maximum(over, 0.0)), covers
