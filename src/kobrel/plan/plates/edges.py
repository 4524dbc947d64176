"""Where a plate's edge would show: at which frames, and how far it must go on beyond itself."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import spans
from kobrel.plan.model import Plan, Shot
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.space.plates import poses_at

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


def edge_report(plan: Plan, shot: Shot, plate: Plate, camera: Camera, frames: Numbers) -> EdgeReport:
    """Whether a plate that covers the frame would show its edge, its blur included.

    Parameters
    ----------
    camera : at all of `frames`
    """
    none = np.zeros(len(frames), bool)
    if plate.lies or plate.cut is not None or camera.projection != "perspective":
        return EdgeReport(0.0, none, "")
    over, covers = _overshoot(plan, plate, camera, frames)
    if not covers.any():
        return EdgeReport(0.0, none, "")
    more = plate.beyond_part if plate.beyond != "nothing" else 0.0
    shows = over > more + 1e-9
    needed = float(over[np.isfinite(over)].max(initial=0.0))
    if not np.isfinite(over).all():
        return EdgeReport(
            4.0, shows, f"It turns away from the camera at {_frames(frames, ~np.isfinite(over))}."
        )
    if not shows.any():
        return EdgeReport(0.0, shows, "No edge of it shows in this shot.")
    return EdgeReport(
        needed, shows,
        f"Its edge shows at {_frames(frames, shows)}; extended by {needed:.0%} of its size it would not.",
    )  # fmt: skip


def _frames(frames: Numbers, true: NDArray[np.bool_]) -> str:
    found = spans(frames, true, "all frames", "")
    return found if found == "all frames" else f"frames {found}"


def _overshoot(
    plan: Plan, plate: Plate, camera: Camera, frames: Numbers
) -> tuple[Numbers, NDArray[np.bool_]]:
    """How far beyond the picture's edges the frame and the blur about it look, (F,), in parts of its width
    and height, infinite where it cannot be told; and whether the plate covers the most of the frame.
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
        blur = np.abs(1.0 / camera.focus_m - 1.0 / axial) * camera.pupil_mm / 2000.0  # a tangent
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
    over = np.maximum.reduce([-x, x - 1.0, -y, y - 1.0]).max(axis=1)
    share_x = np.clip(1.0 / np.maximum(np.ptp(x, axis=1), 1e-9), 0, 1)
    share_y = np.clip(1.0 / np.maximum(np.ptp(y, axis=1), 1e-9), 0, 1)
    covers = ~lost & (share_x > _COVERS) & (share_y > _COVERS)
    return np.where(lost, np.inf, np.maximum(over, 0.0)), covers
