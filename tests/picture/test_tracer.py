from dataclasses import replace

import numpy as np
import pytest

from kobrel.optics.iris import Iris, outline
from kobrel.picture.develop import developed
from kobrel.picture.emitters import SmallLights
from kobrel.picture.quick import blurred
from kobrel.picture.tracer import Film, blur_picture, sharp_picture, signed_blur
from kobrel.picture.tracing.lens import lens_ray, lens_sample, pupil
from kobrel.picture.view import View
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Keyed
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import DistanceTarget, Mark
from kobrel.stage.pictures.colours import to_srgb
from kobrel.stage.scene import Cancelled
from tests.conftest import ball_at, box_at

DARK = Light(key_strength=0, sky_strength=0)


def focused(shot, metres):
    return shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=metres)),))


def view_of(looking_at, nodes, focus, size=(192, 128), light=DARK, glass=None, iris=None):
    plan, shot, stage = looking_at(*nodes, glass=glass or {})
    shot = focused(shot, focus)
    if iris:
        shot = shot.replace(iris=iris)
    return View(stage.snapshot(1), camera_at(plan, shot, 1, stage), light, *size)


def exposed(view, passes):
    film = Film(view)
    for _ in range(passes):
        film.expose()
    return film.picture()


def disc_size(picture):
    """Width, height and middle of even light in pixels, from its second moments: those of an ellipse
    about its middle are a quarter of its half axis squared.
    """
    light = picture.sum(axis=2)
    y, x = np.mgrid[: light.shape[0], : light.shape[1]]
    total = light.sum()
    cx, cy = (light * x).sum() / total, (light * y).sum() / total
    return (
        4 * np.sqrt((light * (x - cx) ** 2).sum() / total),
        4 * np.sqrt((light * (y - cy) ** 2).sum() / total),
        (cx, cy),
    )


def light_size(view, radius, distance):
    """Diameter of a light in pixels when it is sharp."""
    return radius / distance / view.numbers.half_x * view.width


@pytest.mark.parametrize("model", ["render", "thin"])
@pytest.mark.parametrize("surface", ["plane", "sphere"])
@pytest.mark.parametrize("squeeze", [1.0, 2.0])
@pytest.mark.parametrize(("focus", "ball"), [(1.2, 4.0), (4.0, 1.4)])
def test_an_unsharp_light_is_a_disc_of_the_right_size(looking_at, model, surface, squeeze, focus, ball):
    """A light so large that the camera's rays find it: its disc is spread over its own size."""
    radius = 0.0125 * ball
    node = ball_at((0, 0, -ball), radius, emission=(10.0,) * 3, around=48)
    glass = {"model": model, "surface": surface, "squeeze": squeeze, "f_number": Keyed(value=0.4)}
    view = view_of(looking_at, [node], focus, (192, 128) if squeeze == 1 else (384, 128), glass=glass)
    assert not SmallLights(view).drawn.any()
    blur = float(view.camera.see([0, 0, -ball]).blur_px) * view.width / view.camera.width_px
    assert blur > 15
    width, height, centre = disc_size(exposed(view, 48))
    own = light_size(view, radius, ball)
    assert height == pytest.approx(np.hypot(blur, own), rel=0.015)
    assert width == pytest.approx(np.hypot(blur / squeeze, own), rel=0.015)
    assert centre == pytest.approx((view.width / 2 - 0.5, view.height / 2 - 0.5), abs=0.3)


def test_off_the_axis_the_disc_on_a_sphere_is_what_the_camera_says(looking_at):
    place = np.array([0.9, 0.3, -3.0])
    node = ball_at(place, 0.004, emission=(3000.0,) * 3)
    view = view_of(looking_at, [node], 1.0, (480, 320), glass={"surface": "sphere"})
    sight = view.camera.see(place)
    scale = view.width / view.camera.width_px
    width, height, centre = disc_size(exposed(view, 24))
    assert (width + height) / 2 == pytest.approx(float(sight.blur_px) * scale, abs=1.0)
    assert centre == pytest.approx(
        (float(sight.x_px) * scale - 0.5, float(sight.y_px) * scale - 0.5), abs=1.0
    )


def test_the_iris_shows_upright_behind_the_focus_and_turned_before_it(looking_at):
    """A triangle of blades: its disc has its tip to the same side behind the focus, to the other before it."""
    skew = {}
    for name, focus, ball in (("behind", 1.0, 3.0), ("before", 3.0, 1.0)):
        node = ball_at((0, 0, -ball), 0.0008 * ball, emission=(4000.0,) * 3)
        view = view_of(looking_at, [node], focus, (240, 160), iris=IrisShape(blades=3, rotation_deg=90))
        picture = exposed(view, 48).sum(axis=2)
        y = np.mgrid[: view.height, : view.width][0].astype(float)
        weight = picture / picture.sum()
        middle = (weight * y).sum()
        skew[name] = (weight * (y - middle) ** 3).sum()
        rows = np.flatnonzero(picture.sum(axis=1) > picture.sum() * 1e-5)
        edge = outline(Iris(3, 0, 90))
        blur = float(view.camera.see([0, 0, -ball]).blur_px) * view.width / view.camera.width_px
        assert np.ptp(rows) == pytest.approx(np.ptp(edge[:, 1]) * blur / 2, abs=3)
    assert skew["behind"] * skew["before"] < 0
    # Blade corners stand at rotation + multiples of 120 degrees: one straight up.
    assert skew["behind"] < 0


@pytest.mark.parametrize(("focus", "ball"), [(1.0, 3.0), (3.0, 1.0)])
def test_the_quick_picture_turns_the_iris_as_the_exact_one_does(looking_at, focus, ball):
    node = ball_at((0, 0, -ball), 0.006 * ball, emission=(100.0,) * 3)
    wide_open = {"f_number": Keyed(value=0.5)}
    view = view_of(
        looking_at, [node], focus, (240, 160), glass=wide_open, iris=IrisShape(blades=3, rotation_deg=90)
    )
    y = np.mgrid[: view.height, : view.width][0].astype(float)

    def skew(picture):
        weight = picture.sum(axis=2) / picture.sum()
        return (weight * (y - (weight * y).sum()) ** 3).sum()

    assert skew(blurred(view, sharp_picture(view))) * skew(exposed(view, 24)) > 0


def test_energy_of_a_disc_is_that_of_the_sharp_light(looking_at):
    node = ball_at((0, 0, -3), 0.02, emission=(50.0,) * 3)
    sharp = exposed(view_of(looking_at, [node], 3.0), 24).sum()
    soft = exposed(view_of(looking_at, [node], 1.5), 24).sum()
    assert soft == pytest.approx(sharp, rel=0.03)


def test_a_near_thing_hides_half_of_a_far_disc(looking_at):
    """Rays through the iris are stopped by what stands before: an edge on the axis cuts the disc in two."""
    light = ball_at((0, 0, -8), 0.04, emission=(300.0,) * 3)
    wall = box_at((0.5, 0, -2), (1.0, 4.0, 0.02), "/wall", base=(0, 0, 0))
    open_view = view_of(looking_at, [light], 2.0, (240, 160))
    half_view = view_of(looking_at, [light, wall], 2.0, (240, 160))
    whole, half = exposed(open_view, 32), exposed(half_view, 32)
    assert half.sum() == pytest.approx(whole.sum() / 2, rel=0.06)
    assert half[:, : open_view.width // 2].sum() == pytest.approx(half.sum(), rel=0.05)


def test_depth_is_along_the_axis_and_blur_follows_it(looking_at):
    wall = box_at((0, 0, -6), (20, 20, 2))
    view = view_of(looking_at, [wall], 2.0)
    depth = sharp_picture(view).depth
    np.testing.assert_allclose(depth, 5.0, rtol=1e-5)
    expected = float(view.camera.blur_px(5.0)) * view.width / view.camera.width_px
    np.testing.assert_allclose(blur_picture(view, depth), expected, rtol=1e-4)
    assert (signed_blur(view, depth) > 0).all()
    sphere = replace(view, camera=replace(view.camera, surface="sphere"))
    corner = sphere.camera.see(sphere.camera.ray(0.5, 0.5, view.width, view.height)[1] * 5.0)
    assert blur_picture(sphere, depth)[0, 0] == pytest.approx(
        float(corner.blur_px) * view.width / 1920, rel=1e-4
    )


def test_nothing_there_has_infinite_depth_and_the_background_blur(looking_at):
    view = view_of(looking_at, [], 2.0)
    sharp = sharp_picture(view)
    assert np.isinf(sharp.depth).all()
    expected = float(view.camera.blur_px(np.inf)) * view.width / view.camera.width_px
    np.testing.assert_allclose(blur_picture(view, sharp.depth), expected, rtol=1e-5)


def test_light_shade_and_shadow(looking_at):
    light = Light(
        surfaces="plain", key_azimuth_deg=0, key_elevation_deg=90, key_strength=1, key_colour=(1, 1, 1),
        zenith=(0, 0, 0), horizon=(0, 0, 0), ground=(0, 0, 0),
    )  # fmt: skip
    floor = box_at((0, -1.0, -6), (8, 0.2, 8), "/floor", base=(0.4, 0.2, 0.1))
    roof = box_at((0, 2.5, -6), (1.5, 0.1, 1.5), "/roof")
    view = view_of(looking_at, [floor, roof], 6.0, light=light)
    sharp = sharp_picture(view)
    x, y = 4, 100  # open floor to the left
    np.testing.assert_allclose(sharp.colour[y, x], [0.4, 0.2, 0.1], rtol=1e-4)
    camera = view.camera.see([0, -0.9, -6])
    row, column = int(float(camera.y_px) * 0.1), int(float(camera.x_px) * 0.1)
    np.testing.assert_allclose(sharp.colour[row, column], 0, atol=1e-6)


def test_textures_are_read_where_their_coordinates_say(looking_at):
    from kobrel.stage.motion import matrix_motion
    from kobrel.stage.scene import Material, Mesh, Node, Texture

    points = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], np.float32) * 3
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)
    triangles = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
    pixels = np.zeros((2, 2, 3), np.uint8)
    pixels[0, 0], pixels[0, 1], pixels[1, 0], pixels[1, 1] = (
        (255, 0, 0),
        (0, 255, 0),
        (0, 0, 255),
        (255, 255, 255),
    )
    material = Material("m", (0, 0, 0), (1, 1, 1), emission_texture=Texture("t", pixels=pixels))
    matrix = np.eye(4)
    matrix[2, 3] = -5
    node = Node(
        "/card",
        motion=matrix_motion(matrix),
        mesh=Mesh(points, triangles, uv=uv[triangles]),
        materials=(material,),
    )
    colour = sharp_picture(view_of(looking_at, [node], 5.0)).colour
    # The first row of pixels is the top of the picture: v runs upward.
    assert colour[45, 72].argmax() == 0
    assert colour[45, 120].argmax() == 1
    assert colour[84, 72].argmax() == 2
    assert colour[84, 120].min() > 0.5


def test_a_scaled_and_turned_node_is_shaded_with_its_own_normals(looking_at):
    from kobrel.stage.motion import Motion, Track, TransformOp
    from kobrel.stage.scene import Node
    from kobrel.stage.shapes import sphere

    still = Motion((TransformOp("matrix", Track.constant(np.diag([2.0, 0.5, 1.0, 1]) + np.eye(4, k=3) * 0)),))
    steps = (
        TransformOp("translate", Track(np.array([0.0, 1.0]), np.array([[0, 0, -6.0], [0, 0, -6.0001]]))),
        TransformOp("scale", Track.constant([2.0, 0.5, 1.0])),
    )
    light = Light(
        key_azimuth_deg=20, key_elevation_deg=50, zenith=(0, 0, 0), horizon=(0, 0, 0), ground=(0, 0, 0)
    )
    moving = view_of(looking_at, [Node("/egg", motion=Motion(steps), mesh=sphere(1, 48))], 6.0, light=light)
    held = Motion((TransformOp("translate", Track.constant([0, 0, -6.0001])), steps[1]))
    merged = view_of(looking_at, [Node("/egg", motion=held, mesh=sphere(1, 48))], 6.0, light=light)
    assert still.moves is False
    np.testing.assert_allclose(sharp_picture(moving).colour, sharp_picture(merged).colour, atol=2e-3)


def test_the_quick_picture_is_close_to_the_exact_one(demo):
    plan, stage = demo
    for index, frame, most in ((1, 1020, 0.03), (3, 1060, 0.03), (2, 1020, 0.05)):
        camera = camera_at(plan, plan.shots[index], frame, stage)
        view = View(stage.snapshot(frame), camera, plan.light, 192, 108)
        sharp = sharp_picture(view)
        exact = np.clip(exposed(view, 64), 0, 1)
        error = np.abs(np.clip(blurred(view, sharp), 0, 1) - exact).mean()
        assert error < most
        assert error < np.abs(np.clip(sharp.colour, 0, 1) - exact).mean()


def test_each_pixel_has_its_own_even_lens_samples():
    samples = np.array([lens_sample(3, 5, n, 64, 64)[2:] for n in range(64)])
    other = np.array([lens_sample(4, 5, n, 64, 64)[2:] for n in range(64)])
    assert not np.allclose(samples, other)
    cells = np.histogram2d(*samples.T, bins=4, range=[[0, 1]] * 2)[0]
    assert cells.min() >= 2
    assert cells.max() <= 7


def test_all_rays_of_a_pixel_meet_at_the_focus(looking_at):
    view = view_of(looking_at, [], 4.0, glass={"squeeze": 2.0})
    places = [pupil(view.numbers, view.aperture, u, v)[:2] for u in (0.1, 0.6) for v in (0.0, 0.9)]
    rays = np.array([lens_ray(view.numbers, *place, 0.3, 0.7) for place in places])
    at_focus = rays[:, :3] + rays[:, 3:] * 4.0
    np.testing.assert_allclose(at_focus, at_focus[:1].repeat(4, axis=0), atol=1e-9)
    met = rays[[1, 3], :3] + view.snapshot.origin
    assert np.abs(met[:, 0]).max() <= float(view.camera.pupil_mm) / 2000 / 2 * 1.001


def test_drawing_stops_when_told(looking_at):
    with pytest.raises(Cancelled):
        Film(view_of(looking_at, [], 4.0)).expose(lambda: True)


def test_developing():
    ramp = np.linspace(0, 1, 3000, dtype=np.float32)[:, None, None].repeat(3, axis=2)
    expected = np.round(to_srgb(ramp) * 255)
    assert np.abs(developed(ramp).astype(int) - expected).max() <= 1
    assert developed(np.full((1, 1, 3), 0.25, np.float32), 2.0).tolist() == [[[255, 255, 255]]]
    assert developed(np.full((1, 1, 3), -1, np.float32)).max() == 0
