"""Small lights drawn from the light: energy, shape, what hides them, and nothing twice."""

from dataclasses import replace

import numpy as np
import pytest

from kobrel.picture.emitters import SMALL_PX, SmallLights
from kobrel.picture.tracer import Film
from kobrel.picture.view import View
from kobrel.plan.instrument import Character, FrontStop
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Lights, Plan, StandIn
from kobrel.plan.staging import Library, stage_of
from kobrel.stage.emitters import glow_of
from kobrel.stage.scene import Material, Mesh, Texture
from kobrel.stage.shapes import box, sphere
from tests.conftest import ball_at, box_at
from tests.picture.test_tracer import DARK, disc_size, exposed, focused, light_size

GLOW = (80.0, 60.0, 40.0)


def view_of(looking_at, nodes, focus, size=(240, 160), light=DARK, stop=1.0, **changes):
    plan, shot, stage = looking_at(*nodes, glass={"f_number": Keyed(value=stop)})
    shot = focused(shot, focus).replace(**changes)
    return View(stage.snapshot(1), camera_at(plan, shot, 1, stage), light, *size)


@pytest.mark.parametrize("place", [(0, 0, -3), (0.85, 0.5, -3)])
def test_a_small_light_has_the_energy_of_the_traced_one(looking_at, place):
    node = ball_at(place, 0.025, emission=GLOW, around=48)
    large = view_of(looking_at, [node], 3.0, (480, 320))
    small = replace(large, width=240, height=160)
    assert not SmallLights(large).drawn.any()
    assert SmallLights(small).drawn.all()
    traced = exposed(large, 32).sum(axis=(0, 1)) / 4
    drawn = exposed(small, 32).sum(axis=(0, 1))
    np.testing.assert_allclose(drawn, traced, rtol=0.012)


def test_energy_does_not_depend_on_the_focus(looking_at):
    node = ball_at((0.2, 0.1, -3), 0.01, emission=GLOW)
    sums = [exposed(view_of(looking_at, [node], focus), 16).sum() for focus in (3.0, 1.5, 6.0, 1.0)]
    np.testing.assert_allclose(sums, sums[0], rtol=1e-3)


def test_discs_are_smooth_after_few_passes(looking_at):
    node = ball_at((0, 0, -3), 0.004, emission=(9000.0,) * 3)
    view = view_of(looking_at, [node], 1.2)
    picture = exposed(view, 24)
    width, height, _ = disc_size(picture)
    blur = float(view.camera.see([0, 0, -3]).blur_px) * view.width / view.camera.width_px
    whole = np.hypot(blur, light_size(view, 0.004, 3.0))
    assert (width, height) == pytest.approx((whole, whole), abs=0.4)
    y, x = np.mgrid[: view.height, : view.width]
    inside = np.hypot(x - 119.5, y - 79.5) < blur / 2 - 2
    light = picture[inside][:, 1]
    assert light.std() / light.mean() < 0.05


@pytest.mark.parametrize(("focus", "distance"), [(1.2, 3.0), (3.0, 1.3)])
@pytest.mark.parametrize(
    ("iris", "flaws"),
    [
        (IrisShape(blades=5, rotation_deg=20, rim=0.6), Character()),
        (IrisShape(), Character(swirl_mm=1.5, spherical_mm=0.3)),
        (IrisShape(), Character(colour_mm=0.3, front_stop=FrontStop(distance_mm=60, diameter_mm=48))),
    ],
)
def test_a_disc_is_the_same_from_either_side(looking_at, focus, distance, iris, flaws):
    """Camera rays and light rays picture the same disc."""
    place = (0.18 * distance, 0.1 * distance, -distance)
    node = ball_at(place, 0.008 * distance, emission=GLOW)
    view = view_of(looking_at, [node], focus, (192, 128), iris=iris, flaws=flaws)
    assert SmallLights(view).drawn.all()
    drawn = exposed(view, 24)
    film = Film(view)
    film._lights = SmallLights(replace(view, camera=replace(view.camera, projection="fisheye")))
    assert not film._lights.drawn.any()
    for _ in range(256):
        film.expose()
    traced = film.picture()
    np.testing.assert_allclose(drawn.sum(axis=(0, 1)), traced.sum(axis=(0, 1)), rtol=0.02)
    block = lambda picture: picture[:128, :192].reshape(16, 8, 24, 8, 3).sum(axis=(1, 3))  # noqa: E731
    assert np.abs(block(drawn) - block(traced)).sum() < 0.06 * traced.sum()


def test_what_stands_before_cuts_the_disc(looking_at):
    node = ball_at((0, 0, -8), 0.02, emission=(300.0,) * 3)
    wall = box_at((0.5, 0, -0.8), (1.0, 4.0, 0.02), "/wall", base=(0, 0, 0))
    whole = exposed(view_of(looking_at, [node], 2.0), 32)
    half = exposed(view_of(looking_at, [node, wall], 2.0), 64)
    assert half.sum() == pytest.approx(whole.sum() / 2, rel=0.03)
    left, right = half[:, :120].sum(), half[:, 120:].sum()
    assert max(left, right) > 0.9 * half.sum()
    closed = box_at((0, 0, -0.8), (4.0, 4.0, 0.02), "/wall", base=(0, 0, 0))
    assert exposed(view_of(looking_at, [node, closed], 2.0), 4).sum() == 0


def test_nothing_is_counted_twice(looking_at):
    """With the lamp's own body black, light and backdrop simply add up."""
    backdrop = ball_at((0, 0, -60), 30.0, "/backdrop", emission=(0.2, 0.2, 0.2), around=64)
    lamp = ball_at((0, 0, -3), 0.01, emission=GLOW)
    together = exposed(view_of(looking_at, [lamp, backdrop], 1.5), 64).sum()
    alone = exposed(view_of(looking_at, [lamp], 1.5), 64).sum()
    behind = exposed(view_of(looking_at, [backdrop], 1.5), 64).sum()
    assert together == pytest.approx(alone + behind, rel=0.01)


def test_a_string_of_lights_is_that_many_emitters(looking_at):
    string = StandIn(
        number=1, name="String", kind="string", size_m=(6.0, 0.5, 0.1), position_m=(0, 0, -6), lights=Lights(count=24),
    )  # fmt: skip
    stage = stage_of(Plan(stand_ins=(string,)), Library())
    emitters = stage.snapshot(1).emitters
    assert len(emitters.radii) == 24
    np.testing.assert_allclose(emitters.radii, 0.015, rtol=0.03)
    assert np.ptp(emitters.places[:, 0]) > 5


def test_parts_that_glow_are_told_apart():
    lamp, dull = Material("lamp", emission=(1, 2, 3)), Material("dull")
    two = [sphere(0.1, 16), sphere(0.2, 16)]
    points = np.concatenate([two[0].points, two[1].points + np.float32([2, 0, 0])])
    triangles = np.concatenate([two[0].triangles, two[1].triangles + np.uint32(len(two[0].points))])
    mesh = Mesh(points, triangles)
    glow = glow_of(mesh, (lamp,), {})
    np.testing.assert_allclose(np.sort(glow.radii), [0.1, 0.2], rtol=0.03)
    np.testing.assert_allclose(glow.centres[np.argsort(glow.radii)], [[0, 0, 0], [2, 0, 0]], atol=1e-3)
    assert [np.count_nonzero(glow.ids == e) for e in (0, 1)] == [len(m.triangles) for m in two]
    assert glow_of(mesh, (dull,), {}) is None
    textured = Material("screen", emission=(1, 1, 1), emission_texture=Texture("x.png", None))
    assert glow_of(mesh, (textured,), {}) is None
    tube = glow_of(box((0.01, 4.0, 0.01)), (lamp,), {})
    assert tube is None
    mixed = glow_of(
        Mesh(points, triangles, slots=np.repeat(np.uint8([0, 1]), [len(m.triangles) for m in two])),
        (dull, lamp),
        {},
    )
    assert len(mixed.radii) == 1
    assert (mixed.ids[: len(two[0].triangles)] == -1).all()


def test_only_small_lights_within_reach_are_drawn_from_themselves(looking_at):
    near = ball_at((0, 0, -1), 0.2, "/large", emission=GLOW)
    aside = ball_at((9, 0, -3), 0.01, "/aside", emission=GLOW)
    back = ball_at((0, 0, 3), 0.01, "/back", emission=GLOW)
    small = ball_at((0.1, 0, -3), 0.01, "/small", emission=GLOW)
    view = view_of(looking_at, [near, aside, back, small], 3.0)
    assert SmallLights(view).drawn.sum() == 1
    assert SMALL_PX < 0.2 / (0.72 / 240)
    flat = replace(view, camera=replace(view.camera, projection="orthographic"))
    assert SmallLights(flat).drawn.sum() == 0
