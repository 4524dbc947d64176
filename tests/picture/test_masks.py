"""Discs through masks, everything thrown out of focus, finishing: measured in rendered pictures."""

import numpy as np
import pytest

from kobrel.optics.aperture import transmission
from kobrel.optics.bend import bent, unbent
from kobrel.picture.defocus_everything import defocus_everything
from kobrel.picture.develop import developed
from kobrel.picture.discs import disc
from kobrel.picture.emitters import SmallLights
from kobrel.picture.finish import bent_picture, glowing
from kobrel.picture.quick import blurred
from kobrel.picture.tracer import Film, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.instrument import Character, FrontStop
from kobrel.plan.iris import IrisShape, Stencil
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.camera import camera_at
from kobrel.stage.pictures.colours import to_srgb
from tests.conftest import ball_at
from tests.picture.test_flaws import spread
from tests.picture.test_tracer import DARK, exposed, focused

MASKS = {
    "star": Stencil(outline="star", inner=0.4),
    "slot": Stencil(outline="slot", inner=0.3, turn_deg=35),
    "ring": Stencil(outline="ring", inner=0.6),
    "polygon": Stencil(outline="polygon", points=((-0.9, -0.3), (0.8, -0.5), (0.3, 0.8))),
    "letter": Stencil(outline="text", text="F", dust=0.5),
}


def view_of(looking_at, node, focus, iris, squeeze=1.0, size=(240, 160), light=DARK, stop=1.0, **changes):
    glass = {"f_number": Keyed(value=stop), "squeeze": squeeze}
    plan, shot, stage = looking_at(*node, glass=glass)
    shot = focused(shot, focus).replace(iris=iris, **changes)
    return View(stage.snapshot(1), camera_at(plan, shot, 1, stage), light, *size)


def moments_of(light, scale, sign):
    """Middle and second moments, in pixels, that a disc of this transmission has."""
    side = len(light)
    half = (np.arange(side) + 0.5) / side * 2 - 1
    x, y = np.meshgrid(half, half)
    weight = light / light.sum()
    mx, my = (weight * x).sum(), (weight * y).sum()
    return (
        sign * mx * scale, sign * my * scale,
        (weight * (x - mx) ** 2).sum() * scale**2, (weight * (y - my) ** 2).sum() * scale**2,
        (weight * (x - mx) * (y - my)).sum() * scale**2,
    )  # fmt: skip


@pytest.mark.parametrize("squeeze", [1.0, 2.0])
@pytest.mark.parametrize(("focus", "distance"), [(1.2, 3.0), (3.0, 1.25)])
@pytest.mark.parametrize("name", MASKS)
def test_a_masks_disc_has_its_place_size_and_slant(looking_at, name, focus, distance, squeeze):
    """The disc is the mask, upright behind the focus and turned over before it."""
    node = ball_at((0, 0, -distance), 0.0006 * distance, emission=(90000.0,) * 3)
    iris = IrisShape(mask=MASKS[name])
    view = view_of(looking_at, [node], focus, iris, squeeze, stop=0.3)
    assert SmallLights(view).drawn.all()
    picture = exposed(view, 24).sum(axis=2)
    light_px = 0.0006 * view.width / 2 / view.numbers.half_x
    own = 1 / 12 + light_px**2 / 4  # what a pixel and the light itself add to second moments
    cx, cy, xx, yy = spread(picture)
    y, x = np.mgrid[: view.height, : view.width]
    weight = picture / picture.sum()
    found = (cx - 119.5, cy - 79.5, xx, yy, (weight * (x - cx) * (y - cy)).sum())
    blur = float(view.camera.see([0, 0, -distance]).blur_px) * view.width / view.camera.width_px
    sign = 1 if distance > focus else -1
    light = transmission(view.camera.turned_iris, squeeze=squeeze)
    wanted = moments_of(light, blur / 2, sign)
    assert found[:2] == pytest.approx(wanted[:2], abs=0.25)
    for mine, right in zip(found[2:4], wanted[2:4], strict=True):
        assert np.sqrt(mine - own) == pytest.approx(np.sqrt(right), rel=0.01, abs=0.05)
    assert found[4] == pytest.approx(wanted[4], abs=0.02 * (wanted[2] + wanted[3]) + 0.1)


def test_energy_through_a_mask_is_that_of_the_sharp_light(looking_at):
    """A mask's loss is the exposure's to show: the picture is normalised, wherever the focus is."""
    node = ball_at((0.2, 0.1, -3), 0.01, emission=(80, 60, 40))
    sums = []
    for mask in (None, MASKS["star"], MASKS["letter"]):
        for focus in (3.0, 1.4):
            sums.append(exposed(view_of(looking_at, [node], focus, IrisShape(mask=mask)), 16).sum())
    np.testing.assert_allclose(sums, sums[0], rtol=2e-3)


def test_traced_and_drawn_light_picture_the_same_mask(looking_at):
    node = ball_at((0.4, 0.2, -3), 0.02, emission=(80, 60, 40))
    view = view_of(looking_at, [node], 1.3, IrisShape(mask=MASKS["polygon"]), size=(192, 128))
    drawn = exposed(view, 24)
    film = Film(view)
    film._lights = SmallLights(view)
    film._lights.drawn[:] = 0
    film._lights._which = film._lights._which[:0]
    for _ in range(256):
        film.expose()
    traced = film.picture()
    np.testing.assert_allclose(drawn.sum(axis=(0, 1)), traced.sum(axis=(0, 1)), rtol=0.02)
    block = lambda picture: picture.reshape(16, 8, 24, 8, 3).sum(axis=(1, 3))  # noqa: E731
    assert np.abs(block(drawn) - block(traced)).sum() < 0.06 * traced.sum()


@pytest.mark.parametrize("projection", ["fisheye", "orthographic"])
def test_masks_work_in_other_projections(looking_at, projection):
    glass = {"projection": projection, "f_number": Keyed(value=0.5), "cone_deg": 20.0, "field_m": 3.0}
    node = ball_at((0, 0, -3), 0.02, emission=(50.0,) * 3)
    plan, shot, stage = looking_at(node, glass=glass)
    skew = []
    for focus in (1.5, 6.0):
        shown = focused(shot, focus).replace(iris=IrisShape(mask=Stencil(outline="slot", inner=0.15)))
        view = View(stage.snapshot(1), camera_at(plan, shown, 1, stage), DARK, 160, 107)
        _, _, xx, yy = spread(exposed(view, 96).sum(axis=2))
        skew.append(xx / yy)
    assert min(skew) > 1.5


@pytest.mark.parametrize(("focus", "ball"), [(1.0, 3.0), (3.0, 1.0)])
def test_the_quick_picture_shows_the_mask_as_the_exact_one_does(looking_at, focus, ball):
    node = ball_at((0, 0, -ball), 0.006 * ball, emission=(100.0,) * 3)
    view = view_of(looking_at, [node], focus, IrisShape(mask=Stencil(outline="slot", inner=0.2)), stop=0.5)
    for picture in (blurred(view, sharp_picture(view)), exposed(view, 24)):
        _, _, xx, yy = spread(picture.sum(axis=2))
        assert xx > 4 * yy


def test_the_chart_of_discs_has_the_masks_light(looking_at):
    view = view_of(looking_at, [], 2.0, IrisShape(mask=MASKS["ring"]))
    found = disc(view.camera, 1.0, 0.0, 0.0, 40_000)
    away = np.linalg.norm(found.offsets_px, axis=1)
    blur = float(view.camera.blur_px(1.0))
    assert away.max() == pytest.approx(blur / 2, rel=0.01)
    assert away.min() == pytest.approx(0.6 * blur / 2, rel=0.02)
    assert found.reach_px == pytest.approx(blur / 2, rel=0.02)


# All thrown out of focus


@pytest.mark.parametrize("px", [40.0, -40.0])
@pytest.mark.parametrize("distance", [0.8, 3.0, 60.0])
@pytest.mark.parametrize("model", ["render", "thin"])
def test_thrown_out_every_distance_has_the_same_disc(looking_at, px, distance, model):
    node = ball_at((0, 0, -distance), 0.0006 * distance, emission=(90000.0,) * 3)
    plan, shot, stage = looking_at(node, glass={"f_number": Keyed(value=2.0), "model": model})
    shot = focused(shot, 3.0).replace(iris=IrisShape(blades=3, rotation_deg=90))
    camera = camera_at(plan, shot, 1, stage)
    seen = defocus_everything(camera, px * camera.width_px / 240)
    np.testing.assert_allclose(seen.half_widths(), camera.half_widths(), rtol=1e-6)
    view = View(stage.snapshot(1), seen, DARK, 240, 160)
    picture = exposed(view, 24).sum(axis=2)
    rows = np.flatnonzero(picture.sum(axis=1) > picture.sum() * 1e-4)
    tall = 1.5 * np.sqrt(4 * np.pi / (3 * np.sqrt(3)))  # a triangle of the circle's area, radius 1
    assert np.ptp(rows) + 1 == pytest.approx(tall * 20, abs=1.6)
    y = np.mgrid[:160, :240][0].astype(float)
    weight = picture / picture.sum()
    assert np.sign((weight * (y - (weight * y).sum()) ** 3).sum()) == -np.sign(px)


def test_thrown_out_flaws_count_as_against_a_blur_of_that_size(looking_at):
    flaws = Character(swirl_mm=0.4, spherical_mm=0.2, front_stop=FrontStop(distance_mm=40, diameter_mm=50))
    view = view_of(looking_at, [], 2.0, IrisShape(), flaws=flaws)
    at = view.camera
    blur = float(at.blur_px(np.inf))
    real, shown = disc(at, np.inf, -1.0, 1.0), disc(defocus_everything(at, blur), np.inf, -1.0, 1.0)
    assert shown.size_px == pytest.approx(real.size_px, rel=0.01)
    assert shown.light == pytest.approx(real.light, abs=0.01)


# Highlights and finishing


def test_a_shoulder_keeps_the_colour_of_highlights():
    steps = np.linspace(0, 8, 400, dtype=np.float32)[:, None, None] * np.array([1.0, 0.5, 0.25], np.float32)
    cut, soft = developed(steps), developed(steps, shoulder=0.6)
    assert (cut[-1, 0] == 255).all()
    linear = np.where(soft <= 10, soft / 255 / 12.92, ((soft / 255 + 0.055) / 1.055) ** 2.4)
    bright = linear[:, 0, 0] > 0.1
    np.testing.assert_allclose(linear[bright, 0, 1] / linear[bright, 0, 0], 0.5, rtol=0.03)
    assert np.all(np.diff(soft[:, 0, 0].astype(int)) >= 0)
    # below the knee nothing changes, and the curve meets it without a corner
    low = steps[:, 0, 0] < 0.39
    assert np.array_equal(soft[low], cut[low])
    value = lambda m: 1 - 0.6 * np.exp((0.4 - m) / 0.6)  # noqa: E731
    at = np.float32([[[0.9, 0.9, 0.9]]])
    assert developed(at, shoulder=0.6)[0, 0, 0] == pytest.approx(
        255 * float(to_srgb(np.array(value(0.9)))), abs=1
    )


def test_glow_spreads_light_and_keeps_its_sum():
    picture = np.zeros((120, 200, 3), np.float32)
    picture[60, 100] = (300, 200, 100)
    out = glowing(picture, 0.3)
    np.testing.assert_allclose(out.sum(axis=(0, 1)), picture.sum(axis=(0, 1)), rtol=0.03)
    assert out[60, 100, 0] == pytest.approx(0.7 * 300, rel=0.1)
    assert out[60, 110, 0] > out[60, 130, 0] > 0
    assert glowing(picture, 0.0) is picture


@pytest.mark.parametrize("percent", [-20.0, -3.0, 4.0, 20.0])
def test_bending_goes_and_comes_back(percent):
    x, y = np.random.default_rng(1).uniform(-0.95, 0.95, (2, 200))
    np.testing.assert_allclose(unbent(*bent(x, y, 1.6, percent), 1.6, percent), (x, y), atol=1e-6)
    corner = unbent(1.0, 1.0, 1.6, percent)
    assert max(corner) <= 1.0 + 1e-12  # the frame stays full
    edge = unbent(np.array([0.0, 0.5]), np.array([0.0, 0.5]), 1.6, percent)
    assert float(edge[0][0]) == 0


def test_bent_pictures_move_things_where_the_formula_says():
    picture = np.zeros((160, 240, 3), np.float32)
    picture[38:42, 58:62] = 1.0
    for percent in (-15.0, 15.0):
        out = bent_picture(picture, percent)
        cx, cy, _, _ = spread(out[..., 0])
        x, y = bent(60 / 120 - 1, 40 / 80 - 1, 1.5, percent)
        assert (cx + 0.5, cy + 0.5) == pytest.approx(((float(x) + 1) * 120, (float(y) + 1) * 80), abs=0.3)
    assert bent_picture(picture, 0.0) is picture
