"""The iris handed on: as a picture, as points, as numbers."""

import csv
import json

import numpy as np
import OpenImageIO as oiio
import pytest

from kobrel.errors import ExchangeError
from kobrel.exchange.iris import numbers_of, outline_points, write_iris
from kobrel.optics.iris import polygon_area
from kobrel.plan.iris import IrisShape, Stencil
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.camera import camera_at


@pytest.fixture
def camera(looking_at):
    def make(squeeze=1.0, stop=2.0, **iris):
        plan, shot, stage = looking_at(glass={"squeeze": squeeze, "f_number": Keyed(value=stop)})
        return camera_at(plan, shot.replace(iris=IrisShape(**iris)), 1, stage)

    return make


def value(camera, name):
    return next(n.value for n in numbers_of(camera) if n.name.startswith(name))


def read(path):
    source = oiio.ImageInput.open(str(path))
    pixels = source.read_image(oiio.FLOAT)
    source.close()
    return pixels[..., 0]


@pytest.mark.parametrize(
    ("blades", "turn", "right", "top"), [(6, 15, 15, 15), (5, 90, 18, 0), (5, 100, 28, 62), (8, -10, 35, 10)]
)
def test_rotation_is_told_from_the_right_and_from_the_top(camera, blades, turn, right, top):
    made = camera(blades=blades, rotation_deg=turn)
    assert value(made, "rotation, degrees") == pytest.approx(right)
    assert value(made, "rotation from the top") == pytest.approx(top)
    x, y = np.array(outline_points(made)).T
    corners = np.degrees(np.arctan2(y, x)) % 360
    assert np.abs((corners - right + 180) % 360 - 180).min() < 1e-3
    assert np.abs((90 - top - corners + 180) % 360 - 180).min() < 1e-3


@pytest.mark.parametrize(
    ("q", "ratio", "stretch"), [(1.0, 1.0, 0.0), (2.0, 0.5, -0.5), (1.33, 1 / 1.33, 1 / 1.33 - 1)]
)
def test_squeeze_is_told_in_every_common_way(camera, q, ratio, stretch):
    made = camera(squeeze=q)
    assert value(made, "width over height") == pytest.approx(ratio)
    assert value(made, "height over width") == pytest.approx(q)
    assert value(made, "stretch") == pytest.approx(stretch)
    x, y = np.array(outline_points(made, 720)).T
    assert np.ptp(x) / np.ptp(y) == pytest.approx(ratio, rel=1e-3)


def test_numbers_count_the_light_and_the_pupil(camera):
    made = camera(stop=2.0, rim=-0.4, mask=Stencil(outline="ring", inner=0.5))
    assert value(made, "pupil diameter") == pytest.approx(25.0)
    assert value(made, "pupil radius") == pytest.approx(0.0125)
    assert value(made, "edge brightness") == -0.4
    # the hole has a + k (a^2 - a) of the light, a being its part of the area
    assert value(made, "light through") == pytest.approx(1 - (0.25 - 0.4 * (0.25**2 - 0.25)), abs=3e-3)
    assert all(number.meaning for number in numbers_of(made))
    assert not any(number.name.startswith("light") for number in numbers_of(camera()))


def test_points_enclose_the_round_pupils_area(camera):
    for shape in ({"blades": 5}, {"blades": 7, "roundness": 0.5}, {}):
        for squeeze in (1.0, 1.8):
            points = np.array(outline_points(camera(squeeze=squeeze, **shape), 256))
            assert polygon_area(points) == pytest.approx(np.pi / squeeze, rel=2e-3)
    assert len(outline_points(camera(blades=5))) == 5


@pytest.mark.parametrize("kind", ["png", "exr"])
def test_pictures_hold_the_light(camera, tmp_path, kind):
    made = camera(blades=6, squeeze=2.0)
    write_iris(tmp_path / f"iris.{kind}", made, 300)
    pixels = read(tmp_path / f"iris.{kind}")
    assert pixels.shape == (300, 300)
    corner = np.linalg.norm(outline_points(camera(blades=6)), axis=1).max()
    assert pixels.mean() == pytest.approx(np.pi / 2 / (4 * corner**2), rel=5e-3)
    rows, columns = np.nonzero(pixels > 0.5)
    assert np.ptp(rows) > 1.6 * np.ptp(columns)
    assert pixels.max() == pytest.approx(1.0, abs=1e-4)


def test_a_bright_rim_stays_whole_in_a_linear_picture(camera, tmp_path):
    write_iris(tmp_path / "rim.exr", camera(rim=1.0), 200)
    write_iris(tmp_path / "rim.png", camera(rim=1.0), 200)
    linear, shown = read(tmp_path / "rim.exr"), read(tmp_path / "rim.png")
    assert linear.max() == pytest.approx(2.0, abs=0.05)
    assert linear[100, 100] == pytest.approx(0.0, abs=0.01)
    np.testing.assert_allclose(shown, linear / linear.max(), atol=1e-3)


def test_outline_and_numbers_as_files(camera, tmp_path):
    made = camera(blades=5, rotation_deg=10)
    write_iris(tmp_path / "iris.csv", made)
    with (tmp_path / "iris.csv").open() as file:
        rows = [(float(row["x"]), float(row["y"])) for row in csv.DictReader(file)]
    assert rows == outline_points(made)
    write_iris(tmp_path / "iris.json", made)
    content = json.loads((tmp_path / "iris.json").read_text())
    assert [tuple(point) for point in content["outline"]] == rows
    assert content["numbers"]["blades"]["value"] == 5


@pytest.mark.parametrize(
    ("name", "side", "words"),
    [("iris.bmp", 100, "written as"), ("iris.png", 4, "16 to 8192"), ("no/iris.png", 100, "no such folder"),
     ("no/iris.csv", 100, "Choose another folder")],
)  # fmt: skip
def test_what_cannot_be_written_is_told(camera, tmp_path, name, side, words):
    with pytest.raises(ExchangeError, match=words) as told:
        write_iris(tmp_path / name, camera(), side)
    assert name in str(told.value)
