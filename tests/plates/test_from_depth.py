"""Sets of plates made by a depth picture put the original together."""

import numpy as np
import pytest
from PIL import Image

from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import FixedCamera, Plan, Shot
from kobrel.plan.pictures.plates import Fill
from kobrel.plan.plates.from_depth import DepthScale, best_slices, histogram, plates_from
from kobrel.plan.plates.pixels import picture_of, plate_key, worked
from kobrel.stage.plates import PlatePixels
from kobrel.stage.stage import Stage

WIDE, TALL = 240, 160


@pytest.fixture(params=["white is near", "black is near"])
def made(tmp_path, request):
    """Noise, with a depth of a slope, a pole and a ball before it, and the plates that are made of them."""
    dice = np.random.default_rng(4)
    pixels = dice.integers(0, 256, (TALL, WIDE, 3), np.uint8)
    y, x = np.mgrid[:TALL, :WIDE]
    depth = 40 + y * 0.7
    depth[(abs(x - 60) < 8) & (y > 30)] = 190
    depth[(x - 160) ** 2 + (y - 80) ** 2 < 40**2] = 240
    Image.fromarray(pixels).save(tmp_path / "noise.png")
    white_is_near = request.param == "white is near"
    depth = depth if white_is_near else 255 - depth
    Image.fromarray(depth.astype(np.uint8)).save(tmp_path / "depth.png")
    shot = Shot(name="1", camera=FixedCamera(pose=tuple(np.eye(4).ravel().tolist())))
    scale = DepthScale(1.5, 12.0, white_is_near)
    slices = best_slices(histogram(depth.astype(np.float32) / 255), scale, 4)
    camera = camera_at(Plan(), shot, 1001, Stage())
    plates = plates_from(
        picture_of(tmp_path / "noise.png"), str(tmp_path / "depth.png"), slices, scale, camera, 0.01, 1
    )
    return pixels, Plan(plates=tuple(plates))


def pixels_of(plan, plate, pixels):
    whole = np.concatenate([pixels, np.full((TALL, WIDE, 1), 255, np.uint8)], axis=2)
    return worked(PlatePixels(whole), plate_key(plan, plate)).rgba.astype(float)


def test_a_set_that_is_not_moved_is_the_original(made):
    """Laid over each other, the farthest first (Porter and Duff)."""
    pixels, plan = made
    seen = np.zeros((TALL, WIDE, 3))
    for plate in plan.plates:
        rgba = pixels_of(plan, plate, pixels)
        alpha = rgba[..., 3:] / 255
        seen = rgba[..., :3] * alpha + seen * (1 - alpha)
    assert len(plan.plates) == 4
    assert np.abs(seen - pixels).max() <= 1.0


def test_what_is_behind_has_nothing_of_what_is_before_it(made):
    """Not even of its outline: it is filled wherever something nearer covers."""
    pixels, plan = made
    red = pixels.copy()
    y, x = np.mgrid[:TALL, :WIDE]
    ball = (x - 160) ** 2 + (y - 80) ** 2 < 40**2
    red[...], red[ball] = (0, 0, 0), (255, 0, 0)
    farthest = pixels_of(plan, plan.plates[0], red)
    assert farthest[..., 0].max() <= 1.0


def test_a_fill_behind_what_was_lifted_by_a_person_still_reaches_beyond_its_edge(made):
    pixels, plan = made
    grown = plan.plates[0].replace(fill=Fill(grow_px=6.0, of=plan.plates[0].fill.of))
    own, wider = (
        (pixels_of(plan.replace(plates=(each, *plan.plates[1:])), each, pixels)[..., :3] != pixels).any(
            axis=2
        )
        for each in (plan.plates[0], grown)
    )
    assert wider.sum() > own.sum()
    assert not (own & ~wider).any()
