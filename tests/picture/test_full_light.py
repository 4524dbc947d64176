"""Full light: gloss, mirrors, lamps and a sky that is seen or hidden."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kobrel.picture.emitters import SmallLights
from kobrel.picture.tracer import Film, exposed, refined, sharp_picture
from kobrel.picture.tracing import gloss
from kobrel.picture.view import View
from kobrel.plan.keys import Keyed
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import DistanceTarget, FixedCamera, Mark, Plan, Shot
from kobrel.plan.space.moves import look_at
from kobrel.stage.motion import matrix_motion
from kobrel.stage.scene import Material, Node, Scene, Texture
from kobrel.stage.shapes import plane, sphere
from kobrel.stage.stage import Stage
from tests.conftest import ball_at, box_at

WHITE = (1.0, 1.0, 1.0)
FURNACE = Light(key_strength=0, zenith=WHITE, horizon=WHITE, ground=WHITE, sky_strength=1.0)
DARK = Light(key_strength=0, sky_strength=0)


def view_of(*nodes, light=FURNACE, at=(0, 0, 4), toward=(0, 0, 0), size=(64, 36), stop=22.0):
    stage = Stage([("set", Scene(Path("set"), nodes))])
    pose = look_at(at, toward)[0]
    shot = Shot(
        name="1", camera=FixedCamera(pose=tuple(pose.ravel().tolist())),
        marks=(Mark(frame=1001, target=DistanceTarget(metres=4.0)),),
    )  # fmt: skip
    shot = shot.replace(glass=shot.glass.replace(f_number=Keyed(value=stop)))
    return View(stage.snapshot(1001), camera_at(Plan(), shot, 1001, stage), light, *size)


def pixel(view, point):
    """Row and column of a place in a view's picture."""
    sight, per = view.camera.see(np.asarray(point, float)), view.width / view.camera.width_px
    down = (float(sight.y_px) - view.camera.height_px / 2) * per + view.height / 2
    return int(down), int(float(sight.x_px) * per)


def ball(radius=1.0, at=(0, 0, 0), **look):
    matrix = np.eye(4)
    matrix[:3, 3] = at
    return Node(
        "/ball", motion=matrix_motion(matrix), mesh=sphere(radius, 96), materials=(Material("m", **look),)
    )


def ground(**look):
    return Node("/ground", mesh=plane(40, 40), materials=(Material("g", **look),))


@pytest.mark.parametrize("rough", [0.05, 0.3, 0.6, 1.0])
@pytest.mark.parametrize("metal", [0.0, 1.0])
def test_a_white_furnace_stays_white(rough, metal):
    """White things in white surroundings cannot be seen, at any roughness."""
    picture = exposed(view_of(ball(base=WHITE, rough=rough, metal=metal)), 96)
    assert picture.mean() == pytest.approx(1.0, abs=2e-3)
    assert picture[14:22, 28:36].mean() == pytest.approx(1.0, abs=0.01)


def test_nothing_gives_more_light_than_it_gets():
    for base in (0.2, 0.7):
        for rough in (0.1, 0.5):
            picture = exposed(view_of(ball(base=(base,) * 3, rough=rough, metal=1.0)), 64)
            middle = picture[15:21, 29:35].mean()
            assert base * 0.9 < middle < 1.0


def test_the_table_is_what_is_thrown_back_at_every_angle():
    """A smooth surface throws all back; what a rough one loses is what its facets hide."""
    sums = gloss.table().sum(axis=2)
    assert sums[0, 1:].min() > 0.99
    assert np.all(sums <= 1 + 1e-9)
    assert sums[-1, -1] < sums[gloss.SIZE // 2, -1] < 1.0
    np.testing.assert_allclose(gloss.thrown_back(gloss.table(), 1.0, 1.0), gloss.table()[-1, -1], atol=1e-12)


@pytest.mark.parametrize("height", [0.5, 1.0, 2.0])
def test_a_lamp_lights_the_ground_by_the_square_of_its_distance(height):
    """Beneath a small ball of radiance L and radius r at height h a dull ground shows base L r^2 / h^2."""
    lamp = ball_at((0, height, 0), 0.02, "/lamp", (40.0, 20.0, 10.0))
    looks = {"base": (0.5, 0.5, 0.5), "rough": 1.0}
    view = view_of(ground(**looks), lamp, light=DARK, at=(0.02, 6.0, 3.0))
    plain_part = exposed(view, 64)[17:19, 31:33].mean(axis=(0, 1))
    wanted = 0.5 * np.array([40.0, 20.0, 10.0]) * (0.02 / height) ** 2
    np.testing.assert_allclose(plain_part, wanted, rtol=0.1)


def test_a_lamp_behind_a_wall_throws_no_light_and_its_shadow_is_soft():
    lamp = ball_at((0, 3, 0), 0.4, "/lamp", (9.0, 9.0, 9.0))
    shade = box_at((0, 1.0, 0), (1.0, 0.02, 1.0))
    view = view_of(
        ground(base=(0.5,) * 3, rough=1.0), shade, lamp, light=DARK, at=(0, 2.2, 6), toward=(0, 0, 0)
    )
    view = replace(view, width=160, height=90)
    lit = exposed(view, 48).mean(axis=2)
    dark, open_ = pixel(view, (0, 0, 0.2)), pixel(view, (0, 0, 2.0))
    assert lit[dark] < 0.05 * lit[open_]
    across = lit[dark[0] - 1 : dark[0] + 2].mean(axis=0)[dark[1] :]
    assert np.abs(np.diff(across)).max() / across.max() < 0.5  # no hard edge


def test_a_corner_sees_less_of_the_sky_than_open_ground():
    wall = box_at((0, 1.0, -1.0), (40, 2.0, 1.0), base=(0.0, 0.0, 0.0))
    view = view_of(
        ground(base=(0.5,) * 3, rough=1.0), wall, at=(0, 3.5, 8.0), toward=(0, 0, 0.6), size=(96, 54)
    )
    lit = exposed(view, 64).mean(axis=2)
    near, far = (lit[row, 40:56].mean() for row, _ in (pixel(view, (0, 0, -0.42)), pixel(view, (0, 0, 2.4))))
    assert near == pytest.approx(0.5 * far, rel=0.2)  # a wall hides half the sky


def test_a_smooth_metal_mirrors_what_stands_beside_it():
    red = Node("/red", motion=matrix_motion(np.eye(4)), mesh=plane(0.001, 0.001))
    mirror = ground(base=WHITE, rough=0.0, metal=1.0)
    glowing = box_at((0, 1.0, -3.0), (40.0, 2.0, 0.1), "/panel", base=(0.0, 0.0, 0.0))
    glowing = replace(glowing, materials=(Material("p", (0.0, 0.0, 0.0), (0.9, 0.1, 0.2)),))
    view = view_of(mirror, glowing, red, light=DARK, at=(0, 1.0, 3.0), toward=(0, 0, -1.5))
    seen = sharp_picture(view).colour
    np.testing.assert_allclose(seen[pixel(view, (0, 0, -1.0))], (0.9, 0.1, 0.2), rtol=0.1)


@pytest.mark.parametrize("rough", [0.25, 0.4])
def test_the_disc_of_a_glint_has_the_energy_of_the_glint(rough):
    """The sun in a metal ball, sharp and as a disc of blur: the same light in all."""
    light = DARK.replace(key_strength=1.0, key_colour=WHITE, key_elevation_deg=30.0, key_azimuth_deg=20.0)
    sums = []
    for focus in (4.0, 2.0):
        view = view_of(ball(0.6, base=WHITE, rough=rough, metal=1.0), light=light, size=(96, 54), stop=2.0)
        sharp = replace(view, camera=replace(view.camera, focus_m=focus))
        sums.append(exposed(sharp, 128).sum())
    assert sums[1] == pytest.approx(sums[0], rel=0.03)


def test_the_same_view_has_the_same_picture_and_plain_is_as_it_was():
    view = view_of(ball(base=(0.3, 0.4, 0.5)), ball_at((1, 2, 1), 0.1, "/lamp", (3.0, 3.0, 3.0)))
    one, other = exposed(view, 4), exposed(view, 4)
    assert np.array_equal(one, other)
    plain = replace(view, light=view.light.replace(surfaces="plain"))
    seen = exposed(plain, 4)[17:20, 30:34]
    np.testing.assert_allclose(seen, np.broadcast_to((0.3, 0.4, 0.5), seen.shape), rtol=1e-5)


def test_a_picture_of_gloss_counts_where_it_lies():
    """Half of a sheet is a mirror, half is dull, by one picture."""
    pixels = np.zeros((8, 8, 3), np.uint8)
    pixels[:, :4, 1] = 255  # the left half is rough, all of it is metal
    pixels[..., 2] = 255
    flat = plane(8, 8)
    uv = np.array([[0, 1], [0, 0], [1, 0], [1, 1]], np.float32)[flat.triangles]
    sheet = Node(
        "/sheet", mesh=replace(flat, uv=uv),
        materials=(Material("m", WHITE, rough=1.0, metal=1.0, gloss_texture=Texture("g", pixels=pixels)),),
    )  # fmt: skip
    sky = Light(key_strength=0, zenith=(0.0,) * 3, horizon=(0.0,) * 3, ground=WHITE, sky_strength=1.0)
    panel = box_at((0, 2.0, -6.0), (40.0, 4.0, 0.1), "/panel")
    panel = replace(panel, materials=(Material("p", (0.0,) * 3, (1.0, 0.0, 0.0)),))
    view = view_of(sheet, panel, light=sky, at=(0, 1.0, 4.0), toward=(0, 0, 0), size=(96, 54))
    lit = exposed(view, 96)
    left, right = lit[34:38, 30:40], lit[34:38, 56:66]
    assert right[..., 0].mean() > 0.7  # the panel in the mirror
    assert left[..., 0].mean() < 0.3  # its glow, spread over all directions


def test_many_lamps_cost_no_lamp_its_light():
    """Of two hundred lamps a few are looked at; on the average each gives what it gives alone."""
    random = np.random.default_rng(4)
    lamps = [
        ball_at((x, 1.5 + 0.5 * y, z), 0.03, f"/lamp{k}", (6.0, 5.0, 4.0))
        for k, (x, y, z) in enumerate(random.uniform(-2, 2, (40, 3)))
    ]
    looks = ground(base=(0.5,) * 3, rough=1.0)
    together = exposed(view_of(looks, *lamps, light=DARK, at=(0, 5, 3)), 96).mean()
    apart = sum(exposed(view_of(looks, lamp, light=DARK, at=(0, 5, 3)), 8).mean() for lamp in lamps)
    assert together == pytest.approx(apart, rel=0.06)


def test_strange_gloss_and_lamps_reach_no_kernel_by_harm():
    odd = [
        Material("m", WHITE, rough=rough, metal=metal)
        for rough, metal in ((np.nan, 0.5), (5.0, -3.0), (0.0, np.inf))
    ]
    for material in odd:
        node = replace(ball(), materials=(material,))
        film = Film(view_of(node, ball_at((0, 2, 0), 1e-9, "/lamp", (np.nan, 1e30, 1.0))))
        film.expose()
        assert film.passes == 1


def test_a_lamp_that_is_lost_in_its_blur_is_clean_soon_and_has_its_energy():
    """A lamp eight pixels wide, far out of focus: drawn from itself, as bright in all as when it is sharp."""
    lamp = ball_at((0, 0, 0), 0.035, "/lamp", (4.0, 3.0, 2.0))
    view = view_of(lamp, light=DARK, size=(320, 180))
    sharp = exposed(replace(view, camera=replace(view.camera, f_number=16.0)), 16)
    blurred = replace(view, camera=replace(view.camera, focus_m=0.5, f_number=1.0))
    assert SmallLights(blurred).drawn.tolist() == [1]
    assert SmallLights(view).drawn.tolist() == [0]
    picture = exposed(blurred, 16)
    assert picture.sum() == pytest.approx(sharp.sum(), rel=0.03)
    middle = picture[85:95, 155:165]
    assert middle.std(axis=(0, 1)).max() < 0.2 * middle.mean()


def test_the_picture_without_blur_settles_with_its_samples():
    lamp = ball_at((0.5, 1.5, 0.5), 0.05, "/lamp", (9.0, 9.0, 9.0))
    view = view_of(ground(base=(0.5,) * 3), ball(0.4, (0, 0.4, 0), base=(0.3,) * 3), lamp, at=(0, 1.5, 4))
    true = sharp_picture(view, samples=64)
    one = sharp_picture(view)
    more = one
    for _ in range(11):
        more = refined(view, more)
    twelve = sharp_picture(view, samples=12)
    assert (one.samples, more.samples, twelve.samples) == (1, 12, 12)
    np.testing.assert_allclose(more.colour, twelve.colour, rtol=1e-4, atol=1e-5)
    off_one, off_twelve = (np.abs(each.colour - true.colour).mean() for each in (one, twelve))
    assert off_twelve < 0.5 * off_one
    assert sharp_picture(replace(view, light=view.light.replace(surfaces="plain")), samples=9).samples == 1
