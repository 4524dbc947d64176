from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest

from kobrel.errors import SceneError
from kobrel.picture.tracer import sharp_picture
from kobrel.picture.view import View
from kobrel.plan.look import Light, Surround
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import FixedCamera, Plan, Shot
from kobrel.plan.space.moves import look_at
from kobrel.stage.pictures.environment import load_environment, surround
from kobrel.stage.scene import Scene
from kobrel.stage.stage import Setting, Stage
from tests.conftest import ball_at, box_at

NO_KEY = Light(key_strength=0, surfaces="plain", surround=Surround(path="sky.exr"))


def drawn(pixels, light=NO_KEY, toward=(0, 0, -1), *nodes):
    about = surround(Path("sky.exr"), np.asarray(pixels, np.float32))
    stage = Stage([Setting("set", Scene(Path("set"), nodes))], about)
    pose = look_at((0, 0, 0), toward)[0]
    shot = Shot(name="1", camera=FixedCamera(pose=tuple(pose.ravel().tolist())))
    camera = camera_at(Plan(), shot, 1001, stage)
    return sharp_picture(View(stage.snapshot(1001), camera, light, 33, 19)).colour


def marked(row, column, shape=(64, 128)):
    pixels = np.zeros((*shape, 3))
    pixels[row - 3 : row + 4, column - 3 : column + 4] = (1.0, 2.0, 3.0)
    return pixels


@pytest.mark.parametrize(
    ("place", "toward"),
    [((32, 64), (0, 0, -1)), ((32, 96), (1, 0, 0)), ((32, 32), (-1, 0, 0)), ((16, 64), (0, 1, -1))],
)
def test_the_picture_all_about_stands_where_it_should(place, toward):
    colour = drawn(marked(*place), NO_KEY, toward)
    np.testing.assert_allclose(colour[9, 16], (1, 2, 3), rtol=1e-5)


def test_it_turns_and_is_exposed():
    turned = NO_KEY.replace(surround=Surround(path="sky.exr", rotation_deg=90, exposure_ev=1))
    # What was ahead is, turned by a quarter seen from above, at the left.
    np.testing.assert_allclose(drawn(marked(32, 64), turned, (-1, 0, 0))[9, 16], (2, 4, 6), rtol=1e-5)
    assert drawn(marked(32, 64), turned)[9, 16].max() == 0


def test_an_even_picture_lights_a_surface_by_its_colour():
    colour = drawn(
        np.full((32, 64, 3), 0.7), NO_KEY, (0, 0, -1), box_at((0, 0, -5), (4, 4, 1), base=(0.5, 0.25, 1))
    )
    np.testing.assert_allclose(colour[9, 16], (0.35, 0.175, 0.7), rtol=2e-3)


def test_light_from_one_side_falls_as_the_sum_over_the_sphere_says():
    pixels = np.zeros((64, 128, 3))
    y = np.cos((np.arange(64) + 0.5) / 64 * np.pi)
    pixels[:] = np.maximum(y, 0)[:, None, None]  # brighter toward the zenith
    env = surround(Path("x"), pixels.astype(np.float32))
    down = (np.arange(64) + 0.5) / 64 * np.pi
    for normal, cosines in (((0, 1, 0), y), ((0, -1, 0), -y)):
        weight = np.maximum(cosines, 0) * np.maximum(y, 0) * np.sin(down)
        true = weight.sum() * (np.pi / 64) * 2 * np.pi / np.pi
        x, h, z = normal
        shapes = np.array([1, h, z, x, x * h, h * z, 3 * z * z - 1, x * z, x * x - h * h])
        assert float(shapes @ env.harmonics[:, 0]) == pytest.approx(true, abs=0.02)


def test_clay_makes_surfaces_grey_and_leaves_lights():
    red, lamp = box_at((-1, 0, -5), (1.5, 4, 1), base=(1, 0, 0)), ball_at((1, 0, -5), 0.6, emission=(0, 9, 0))
    light = Light(key_strength=0, surfaces="clay")
    stage = Stage([("set", Scene(Path("set"), (red, lamp)))])
    shot = Shot(name="1", camera=FixedCamera(pose=tuple(np.eye(4).ravel().tolist())))
    view = View(stage.snapshot(1), camera_at(Plan(), shot, 1001, stage), light, 64, 36)
    colour = sharp_picture(view).colour
    grey, green = colour[18, 14], colour[18, 50]
    plain = sharp_picture(View(view.snapshot, view.camera, light.replace(surfaces="plain"), 64, 36)).colour[
        18, 14
    ]
    assert plain[1] == plain[2] == 0
    assert min(grey) > 0.15
    assert green[1] > 9


def write(path, pixels, channels=("R", "G", "B")):
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], oiio.FLOAT)
    spec.channelnames = channels
    output = oiio.ImageOutput.create(str(path))
    output.open(str(path), spec)
    output.write_image(np.ascontiguousarray(pixels, np.float32))
    output.close()
    return path


@pytest.mark.parametrize("suffix", [".exr", ".hdr"])
def test_pictures_are_read_linear(tmp_path, suffix):
    path = write(tmp_path / f"sky{suffix}", marked(16, 64))
    np.testing.assert_allclose(load_environment(path).pixels[16, 64], (1, 2, 3), rtol=0.02)


def test_screen_pictures_are_made_linear_and_grey_ones_are_coloured(tmp_path):
    path = write(tmp_path / "sky.png", np.full((8, 16, 3), 0.5))
    assert load_environment(path).pixels[4, 4, 0] == pytest.approx(0.214, abs=0.003)
    grey = write(tmp_path / "grey.exr", np.full((8, 16, 1), 0.5), ("Y",))
    np.testing.assert_allclose(load_environment(grey).pixels[0, 0], 0.5)


def test_the_brightest_spot_gives_the_key_light_its_direction():
    azimuth, elevation = surround(Path("x"), marked(16, 96).astype(np.float32)).brightest_deg()
    assert azimuth == pytest.approx(90, abs=2)
    assert elevation == pytest.approx(45, abs=2)


def test_broken_pictures_are_told_by_name(tmp_path):
    bad = tmp_path / "bad.exr"
    bad.write_bytes(b"no picture")
    for path, words in (
        (bad, "not a readable picture"),
        (tmp_path / "no.exr", "no such file"),
        (tmp_path / "a.txt", "not a picture"),
    ):
        with pytest.raises(SceneError, match=words) as error:
            load_environment(path)
        assert path.name in str(error.value)
