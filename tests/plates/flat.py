"""Plates for tests: small pictures, written or in memory, before a camera that stands still."""

from pathlib import Path

import numpy as np
from PIL import Image

from kobrel.plan.measure.camera import Camera, camera_at
from kobrel.plan.model import DistanceTarget, FixedCamera, Mark, Plan, Shot
from kobrel.plan.pictures.plates import Plate, PlatePicture
from kobrel.plan.plates.placing import filling
from kobrel.plan.staging import load_stage
from kobrel.stage.stage import Stage

AHEAD = FixedCamera(pose=tuple(np.eye(4).ravel().tolist()))


def a_shot(focus_m: float = 3.0, **changes) -> Shot:
    mark = Mark(frame=1001, target=DistanceTarget(metres=focus_m))
    return Shot(name="1", camera=AHEAD, marks=(mark,), **changes)


def the_camera(shot: Shot | None = None) -> Camera:
    shot = shot or a_shot()
    return camera_at(Plan(shots=(shot,)), shot, 1001, Stage())


def picture(path: Path, colour=(200, 90, 40), box=None, size=(120, 80), alpha=255) -> Path:
    """A picture of one colour; with a box (left, top, right, bottom) nothing is beyond it."""
    pixels = np.zeros((size[1], size[0], 4), np.uint8)
    pixels[..., :3] = colour
    left, top, right, bottom = box or (0, 0, *size)
    pixels[top:bottom, left:right, 3] = alpha
    Image.fromarray(pixels).save(path)
    return path


def plate_at(path: Path, distance_m: float, number: int = 1, shot: Shot | None = None, **changes) -> Plate:
    """A plate that fills the frame at a distance."""
    with Image.open(path) as opened:
        size = opened.size
    place, height = filling(the_camera(shot), distance_m, size[0] / size[1])
    values = {"name": path.stem, "position_m": place, "height_m": height, **changes}
    return Plate(number=number, picture=PlatePicture(path=str(path), size_px=size), **values)


def staged(*plates: Plate, shot: Shot | None = None, **parts) -> tuple[Plan, Stage]:
    plan = Plan(shots=(shot or a_shot(),), plates=plates, **parts)
    stage, problems = load_stage(plan)
    assert problems == []
    return plan, stage
