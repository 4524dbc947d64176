"""Discs of lenses with flaws, measured in rendered pictures against the formulas."""

import numpy as np
import pytest

from kobrel.optics.character import shift_dpt
from kobrel.picture.discs import corner_loss_stops, disc
from kobrel.picture.view import View
from kobrel.plan.glass import cat_eye_amount, front_stop
from kobrel.plan.instrument import Character, FrontStop
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Keyed
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from tests.conftest import ball_at, box_at
from tests.picture.test_tracer import DARK, exposed, focused

SIZE = (240, 160)
PASSES = 32  # the lights are small, and are drawn from themselves


def view_with(looking_at, place, focus, flaws=None, iris=None, focal=50.0, stop=1.0, size=0.004):
    node = ball_at(place, size * abs(place[2]), emission=(60.0,) * 3)
    glass = {"focal_mm": Keyed(value=focal), "f_number": Keyed(value=stop)}
    plan, shot, stage = looking_at(node, glass=glass)
    shot = focused(shot, focus).replace(flaws=flaws or Character(), iris=iris or IrisShape())
    return View(stage.snapshot(1), camera_at(plan, shot, 1, stage), DARK, *SIZE)


def spread(picture):
    """Middle (x, y) of light, and its second moments (xx, yy)."""
    y, x = np.mgrid[: picture.shape[0], : picture.shape[1]]
    weight = picture / picture.sum()
    cx, cy = (weight * x).sum(), (weight * y).sum()
    return cx, cy, (weight * (x - cx) ** 2).sum(), (weight * (y - cy) ** 2).sum()


@pytest.mark.parametrize("rim", [-1.0, -0.5, 0.5, 1.0])
@pytest.mark.parametrize(("focus", "distance"), [(1.0, 3.0), (3.0, 1.0)])
def test_the_rim_weighs_as_it_says(looking_at, rim, focus, distance):
    plain = exposed(view_with(looking_at, (0, 0, -distance), focus), PASSES).sum(axis=2)
    picture = exposed(view_with(looking_at, (0, 0, -distance), focus, iris=IrisShape(rim=rim)), PASSES).sum(
        axis=2
    )
    assert picture.sum() == pytest.approx(plain.sum(), rel=0.02)
    # with transmission 1 + k (2 p^2 - 1) the mean square radius is (1/2 + k/6) of the edge's
    ratio = sum(spread(picture)[2:]) / sum(spread(plain)[2:])
    assert ratio == pytest.approx(1 + rim / 3, rel=0.05)


def test_an_iris_turns_as_it_closes(looking_at):
    iris = IrisShape(blades=5, rotation_deg=7, turn_per_stop_deg=12)
    cameras = [view_with(looking_at, (0, 0, -3), 1.0, iris=iris, stop=n).camera for n in (1.0, 2.0, 4.0)]
    assert [camera.turned_iris.rotation_deg for camera in cameras] == pytest.approx([7, 31, 55])
    fans = [view_with(looking_at, (0, 0, -3), 1.0, iris=iris, stop=n).aperture.fan for n in (1.0, 2.0)]
    assert not np.allclose(*fans)


def corner_stop(view, amount):
    """A front stop as wide as the pupil, that a corner's discs are narrower by an amount."""
    pupil = float(view.camera.pupil_mm)
    tangent = float(np.hypot(*(float(half) for half in view.camera.half_widths())))
    return FrontStop(distance_mm=amount * pupil / tangent, diameter_mm=pupil)


@pytest.mark.parametrize("amount", [0.3, 0.6])
def test_discs_are_cut_towards_the_corners(looking_at, amount):
    """Far lights with the focus at infinity's near side: the cut is that of two circles."""
    focus, far = 4.0, 400.0
    half_x, half_y = 0.36, 0.24
    middle = view_with(looking_at, (0, 0, -far), focus)
    flaws = Character(front_stop=corner_stop(middle, amount))
    on_axis = exposed(view_with(looking_at, (0, 0, -far), focus, flaws), PASSES).sum()
    assert on_axis == pytest.approx(exposed(middle, PASSES).sum(), rel=0.03)
    place = (0.8 * half_x * far, 0.8 * half_y * far, -far)
    whole = exposed(view_with(looking_at, place, focus), PASSES).sum(axis=2)
    cut = exposed(view_with(looking_at, place, focus, flaws), PASSES).sum(axis=2)
    front, pupil = flaws.front_stop, float(middle.camera.pupil_mm)
    apart = front.distance_mm * 0.8 * np.hypot(half_x, half_y)
    assert cut.sum() / whole.sum() == pytest.approx(float(light_left(pupil, pupil, apart)), abs=0.03)
    # the disc is narrower along the way to the corner than across it
    y, x = np.mgrid[: SIZE[1], : SIZE[0]]
    along = (x * half_x - y * half_y) / np.hypot(half_x, half_y)
    across = (x * half_y + y * half_x) / np.hypot(half_x, half_y)

    def moment(picture, value):
        weight = picture / picture.sum()
        return (weight * (value - (weight * value).sum()) ** 2).sum()

    assert moment(cut, along) < 0.9 * moment(whole, along) * (1 - amount / 3)
    assert moment(cut, along) < moment(cut, across)


@pytest.mark.parametrize(("focus", "distance", "larger"), [(1.0, 4.0, "green"), (4.0, 1.0, "purple")])
def test_fringes_change_colour_across_the_focus(looking_at, focus, distance, larger):
    flaws = Character(colour_mm=0.2)
    view = view_with(looking_at, (0, 0, -distance), focus, flaws)
    picture = exposed(view, PASSES)
    plain = exposed(view_with(looking_at, (0, 0, -distance), focus), PASSES)
    np.testing.assert_allclose(picture.sum(axis=(0, 1)), plain.sum(axis=(0, 1)), rtol=0.03)
    red, green, blue = (np.sqrt(sum(spread(picture[..., c])[2:])) for c in range(3))
    assert red == pytest.approx(blue, rel=0.02)
    assert (green > red) == (larger == "green")
    shift = float(shift_dpt(0.2, view.camera.image_distance_mm))
    off = np.array([1 / focus - shift, 1 / focus]) - 1 / distance
    assert red / green == pytest.approx(abs(off[0] / off[1]), rel=0.03)


def test_swirl_stretches_discs_around_the_middle(looking_at):
    far, focus = 400.0, 0.8
    place = (0.2 * far, 0, -far)
    plain = spread(exposed(view_with(looking_at, place, focus, size=0.012), 192).sum(axis=2))
    view = view_with(looking_at, place, focus, Character(swirl_mm=2.0), size=0.012)
    swirled = spread(exposed(view, 192).sum(axis=2))
    assert plain[2] == pytest.approx(plain[3], rel=0.05)
    part = 0.2**2 / (0.36**2 + 0.24**2)
    half = float(shift_dpt(2.0, view.camera.image_distance_mm)) * part / 2
    expected = ((1.25 - half) / (1.25 + half)) ** 2
    assert swirled[2] / swirled[3] == pytest.approx(expected * plain[2] / plain[3], rel=0.05)
    centre = spread(
        exposed(view_with(looking_at, (0, 0, -far), focus, Character(swirl_mm=2.0), size=0.012), 192).sum(
            axis=2
        )
    )
    assert centre[2] == pytest.approx(centre[3], rel=0.05)


def test_spherical_aberration_gives_other_rims_before_and_behind(looking_at):
    means = {}
    for name, focus, distance in (("behind", 2.0, 8.0), ("before", 2.0, 1.14)):
        flaws = Character(spherical_mm=0.3)
        plain = spread(exposed(view_with(looking_at, (0, 0, -distance), focus), PASSES).sum(axis=2))
        view = view_with(looking_at, (0, 0, -distance), focus, flaws)
        shift = float(shift_dpt(0.3, view.camera.image_distance_mm))
        area = (np.arange(2000) + 0.5) / 2000
        off = 1 / focus - 1 / distance
        expected = np.mean(area * (off + shift * (2 * area - 1)) ** 2) / np.mean(area * off**2)
        own = 2 * ((0.004 / 0.003) ** 2 / 4 + 1 / 12)  # of the light itself, and of a pixel
        got = (sum(spread(exposed(view, PASSES).sum(axis=2))[2:]) - own) / (sum(plain[2:]) - own)
        assert got == pytest.approx(expected, rel=0.04)
        means[name] = got
    assert means["behind"] > 1 > means["before"]


@pytest.mark.parametrize("distance", [1.0, 9.0])
@pytest.mark.parametrize(
    ("flaws", "iris"),
    [
        ({}, IrisShape(blades=3, rotation_deg=90)),
        ({"swirl_mm": 1.5, "spherical_mm": 0.2}, IrisShape(rim=0.7)),
        ({"colour_mm": 0.4}, IrisShape(blades=6)),
        ({"front_stop": FrontStop(distance_mm=70, diameter_mm=50)}, IrisShape()),
    ],
)
def test_a_disc_by_itself_is_the_one_in_the_picture(looking_at, distance, flaws, iris):
    across, up = 0.55, 0.45
    place = (across * 0.36 * distance, up * 0.24 * distance, -distance)
    view = view_with(looking_at, place, 2.5, Character(**flaws), iris, size=0.006)
    picture = exposed(view, PASSES)
    made = disc(view.camera, distance, across, up)
    scale = view.width / view.camera.width_px
    for c in range(3):
        weight = made.colours[:, c] / made.colours[:, c].sum()
        middle = weight @ made.offsets_px * scale
        moments = weight @ (made.offsets_px * scale - middle) ** 2
        cx, cy, xx, yy = spread(picture[..., c])
        x, y = view.width * (1 + across) / 2 - 0.5, view.height * (1 - up) / 2 - 0.5
        assert (cx - x, y - cy) == pytest.approx(tuple(middle), abs=0.6)
        # the light itself is two pixels in radius
        assert (xx, yy) == pytest.approx(tuple(moments + 1.05), rel=0.12, abs=0.6)
    assert made.light == pytest.approx(float(made.colours.mean()))
    assert max(made.size_px) > 8


def test_corners_are_lifted_by_what_the_front_stop_takes(looking_at):
    nodes = [box_at((0, 0, -50), (200, 200, 0.1))]
    even = Light(key_strength=0, zenith=(1, 1, 1), horizon=(1, 1, 1), ground=(1, 1, 1))
    means = {}
    for made_up in (False, True):
        plan, shot, stage = looking_at(*nodes, glass={"f_number": Keyed(value=1.0)})
        front = FrontStop(distance_mm=60, diameter_mm=50, made_up=made_up)
        shot = focused(shot, 5.0).replace(flaws=Character(front_stop=front))
        view = View(stage.snapshot(1), camera_at(plan, shot, 1, stage), even, 96, 64)
        picture = exposed(view, 256).mean(axis=2)
        corner = picture[:6, :6].mean()
        means[made_up] = corner / picture[30:34, 46:50].mean()
        loss = float(corner_loss_stops(view.camera, 1 - 6 / 96, 1 - 6 / 64))
    assert np.log2(means[False]) == pytest.approx(-loss, abs=0.08)
    assert means[True] == pytest.approx(1, abs=0.05)


def test_no_front_stop_loses_nothing(looking_at):
    camera = view_with(looking_at, (0, 0, -3), 1.0).camera
    assert corner_loss_stops(camera, 1.0, 1.0) == 0
    stop = front_stop(camera, 0.4)
    cut = view_with(looking_at, (0, 0, -3), 1.0, Character(front_stop=stop)).camera
    assert cat_eye_amount(cut) == pytest.approx(0.4)
    assert cat_eye_amount(camera) == 0
    far = disc(cut, np.inf, 1.0, 1.0)
    along = np.array([0.36, 0.24]) / np.hypot(0.36, 0.24)
    lit = far.offsets_px[far.colours.any(axis=1)] @ along
    whole = disc(camera, np.inf, 1.0, 1.0).offsets_px @ along
    assert np.ptp(lit) / np.ptp(whole) == pytest.approx(0.6, abs=0.03)


def light_left(pupil_mm, stop_mm, apart_mm):
    """The part of a round pupil's light that a second round stop lets pass: the area that two circles share."""
    r, big = np.asarray(pupil_mm, float) / 2, np.asarray(stop_mm, float) / 2
    d = np.maximum(np.abs(np.asarray(apart_mm, float)), 1e-12)
    with np.errstate(invalid="ignore", divide="ignore"):
        one = np.arccos(np.clip((d * d + r * r - big * big) / (2 * d * r), -1, 1))
        other = np.arccos(np.clip((d * d + big * big - r * r) / (2 * d * big), -1, 1))
    corner = (-d + r + big) * (d + r - big) * (d - r + big) * (d + r + big)
    shared = r * r * one + big * big * other - 0.5 * np.sqrt(np.maximum(corner, 0.0))
    return np.clip(shared / (np.pi * r * r), 0.0, 1.0)


@pytest.mark.parametrize("squeeze", [1.0, 1.8])
@pytest.mark.parametrize("rim", [0.0, 0.8, -0.6])
@pytest.mark.parametrize("blades", [0, 5])
def test_the_loss_is_that_of_the_lenss_own_discs(looking_at, squeeze, rim, blades):
    """Whatever outline, rim and squeeze: what a disc at the focus keeps of its light."""
    plan, shot, stage = looking_at(ball_at((0, 0, -3)), glass={"squeeze": squeeze})
    stop = FrontStop(distance_mm=14.0, diameter_mm=19.0)
    shot = shot.replace(iris=IrisShape(blades=blades, rim=rim), flaws=Character(front_stop=stop))
    camera = camera_at(plan, shot, 1, stage)
    grid = corner_loss_stops(camera, np.linspace(-1, 1, 41)[None], np.linspace(-1, 1, 31)[:, None])
    for row, column in ((0, 0), (15, 20), (30, 3), (7, 37)):
        across, up = -1 + column / 20, -1 + row / 15
        kept = disc(camera, float(camera.focus_m), across, up, 1 << 16).light
        assert float(corner_loss_stops(camera, across, up)) == pytest.approx(-np.log2(kept), abs=0.01)
        assert grid[row, column] == pytest.approx(-np.log2(kept), abs=0.03)
