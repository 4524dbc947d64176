import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.optics.projection import cone_blur_m, edge, project, ray
from kobrel.picture.tracer import Film, sharp_part, sharp_picture, signed_blur
from kobrel.picture.view import View
from kobrel.plan.keys import Keyed
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import DistanceTarget, Mark
from tests.conftest import ball_at, box_at

KINDS = ("perspective", "orthographic", "fisheye")
DARK = Light(key_strength=0, sky_strength=0)


def shot_of(looking_at, kind, *nodes, focus=3.0, stop=2.0, **glass):
    plan, shot, stage = looking_at(
        *nodes,
        glass={"projection": kind, "f_number": Keyed(value=stop), **glass},
        marks=(Mark(frame=1, target=DistanceTarget(metres=focus)),),
        width_px=640,
    )
    return plan, shot, stage, camera_at(plan, shot, 1, stage)


@pytest.mark.parametrize("kind", KINDS)
@given(u=st.floats(-0.9, 0.9), v=st.floats(-0.9, 0.9), along=st.floats(0.1, 50))
def test_a_ray_leads_to_what_is_pictured_where_it_started(kind, u, v, along):
    start, toward = ray(kind, u, v)
    x, y, z = start + toward * along
    np.testing.assert_allclose(project(kind, x, y, -z), (u, v), atol=1e-9)


def test_a_fisheye_is_even_in_angle_and_sees_behind_itself():
    angles = np.radians([10, 45, 90, 120])
    u, v = project("fisheye", np.sin(angles), np.zeros(4), np.cos(angles))
    np.testing.assert_allclose(u, angles)
    np.testing.assert_allclose(v, 0)
    across, along = edge("fisheye", np.radians(120), 2.0)
    assert along == pytest.approx(-1.0)
    assert across == pytest.approx(2 * np.sin(np.radians(120)))


@pytest.mark.parametrize("kind", KINDS)
def test_what_is_seen_is_where_the_rays_of_the_picture_go(looking_at, kind):
    _, _, _, camera = shot_of(looking_at, kind)
    random = np.random.default_rng(2)
    points = random.uniform((-1, -0.7, -9), (1, 0.7, -1.5), (50, 3))
    sight = camera.see(points)
    origins, ways = camera.ray(sight.x_px, sight.y_px, 640, 640 / camera.aspect)
    away = points - origins
    np.testing.assert_allclose(np.cross(away, ways), 0, atol=1e-8)
    assert np.all(np.einsum("ij,ij->i", away, ways) > 0)


def test_an_orthographic_view_focused_at_infinity_still_has_its_frame(looking_at):
    plan, shot, stage = looking_at(glass={"projection": "orthographic", "field_m": 4.0})
    far = shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=float("inf"))),))
    camera = camera_at(plan, far, 1, stage)
    assert [float(half) for half in camera.half_widths()] == pytest.approx([2.0, 4 / 3])
    assert [float(angle) for angle in camera.view_angles_deg] == [0.0, 0.0]
    sight = camera.see((1.0, 0.0, -5.0))
    assert float(sight.x_px) == pytest.approx(0.75 * camera.width_px)
    assert bool(sight.in_frame)


def test_orthographic_blur_grows_by_metres_and_the_band_is_even(looking_at):
    _, _, _, camera = shot_of(looking_at, "orthographic", field_m=4.0, cone_deg=2.0)
    assert float(cone_blur_m(2.0, 3.0, 5.0)) == pytest.approx(2 * np.tan(np.radians(1)) * 2)
    blur = camera.blur_px([2.0, 3.0, 4.0, 5.0])
    np.testing.assert_allclose(blur / blur[2], [1, 0, 1, 2])
    np.testing.assert_allclose(blur[2], 2 * np.tan(np.radians(1)) / 4.0 * 640)
    near, far = camera.limits_m
    assert float(camera.blur_px(near)) == pytest.approx(camera.coc_px)
    assert far - 3.0 == pytest.approx(3.0 - near)
    assert float(camera.cone_for_limit(far)) == pytest.approx(2.0)
    # Size does not change with distance.
    sight = camera.see([[1.0, 0, -2.0], [1.0, 0, -8.0]])
    assert sight.x_px[0] == sight.x_px[1] == pytest.approx(640 * 0.75)
    assert np.isnan(float(camera.hyperfocal_m))
    assert float(camera.magnification) == pytest.approx(36 / 4000)


def disc(picture):
    """Width, height and middle of what is lit, by its weight: a uniform disc of diameter d has
    a standard deviation of d / 4 along each axis.
    """
    light = picture.sum(axis=-1)
    total = light.sum()
    y, x = np.mgrid[: light.shape[0], : light.shape[1]]
    cx, cy = (light * x).sum() / total, (light * y).sum() / total
    return (
        4 * np.sqrt((light * (x - cx) ** 2).sum() / total),
        4 * np.sqrt((light * (y - cy) ** 2).sum() / total),
        cx + 0.5,
        cy + 0.5,
    )


@pytest.mark.parametrize(
    ("kind", "glass", "at"),
    [
        ("orthographic", {"field_m": 2.0, "cone_deg": 6.0}, (0.3, 0.1, -5.0)),
        ("fisheye", {"focal_mm": Keyed(value=20.0)}, (0.05, -0.03, -0.6)),
        ("fisheye", {"focal_mm": Keyed(value=12.0)}, (0.3, 0.0, -0.12)),
    ],
)
def test_discs_in_the_picture_have_the_size_that_the_formula_gives(looking_at, kind, glass, at):
    radius = 0.012 if kind == "orthographic" else 0.004
    _, _, stage, camera = shot_of(
        looking_at, kind, ball_at(at, radius, emission=(50, 50, 50)), stop=0.3, **glass
    )
    sight = camera.see(at)
    film = Film(View(stage.snapshot(1), camera, DARK, 320, camera.height_px // 2))
    for _ in range(96):
        film.expose()
    wide, tall, x, y = (2 * size for size in disc(film.picture()))
    y += camera.height_px % 2 / 2
    assert float(sight.blur_px) > 12
    assert (x, y) == pytest.approx((float(sight.x_px), float(sight.y_px)), abs=0.8)
    # Along the radius a fisheye's disc is the formula's; across it is wider by angle / sine.
    angle = np.arccos(-at[2] / np.linalg.norm(at)) if kind == "fisheye" and at[1] == 0 else 0.0
    across = 1 / np.sinc(angle / np.pi)
    edge_px = np.ptp(camera.see(np.array(at) + [[radius, 0, 0], [-radius, 0, 0]]).x_px)
    assert np.hypot(float(sight.blur_px), edge_px) == pytest.approx(wide, rel=0.04)
    assert np.hypot(float(sight.blur_px) * across, edge_px) == pytest.approx(tall, rel=0.05)


@pytest.mark.parametrize("kind", KINDS)
def test_depth_and_blur_pictures_fit_the_camera(looking_at, kind):
    _, _, stage, camera = shot_of(
        looking_at, kind, box_at((0, 0, -5), (30, 30, 1)), field_m=3.0, cone_deg=3.0
    )
    view = View(stage.snapshot(1), camera, Light(), 160, 107)
    sharp = sharp_picture(view)
    for x, y in ((80, 53), (20, 90)):
        origin, way = camera.ray(x + 0.5, y + 0.5, 160, 160 / camera.aspect)
        pick = stage.pick(1, origin, way)
        sight = camera.see(pick.point)
        counted = sight.straight_m if kind == "fisheye" else sight.axial_m
        assert sharp.depth[y, x] == pytest.approx(float(counted), rel=0.02)
        blur = signed_blur(view, sharp.depth)[y, x]
        assert blur == pytest.approx(float(sight.blur_px) / 4, rel=0.03)


def test_how_much_of_the_picture_is_sharp(looking_at):
    _, _, stage, camera = shot_of(
        looking_at, "perspective", box_at((0, 0, -3.5), (30, 0.6, 1)), focus=3.0, stop=1.0
    )
    view = View(stage.snapshot(1), camera, Light(), 320, 213)
    part = sharp_part(view, sharp_picture(view).depth)
    # The bar's front is 0.6 m high at 3 m; the picture there is 24 / 50 * 3 m high.
    assert part == pytest.approx(0.6 / (24 / 50 * 3), rel=0.02)
