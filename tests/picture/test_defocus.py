"""Blur of finished pictures: discs, energy, edges, and what is measured on a picture."""

from dataclasses import replace

import numpy as np
import pytest

from kobrel.errors import KobrelError
from kobrel.optics.iris import Iris
from kobrel.picture.defocus.behind import _filled
from kobrel.picture.defocus.edges import taken_apart
from kobrel.picture.defocus.layered import defocused, layer_of
from kobrel.picture.defocus.simple import METHODS, blurred_by, grown_back
from kobrel.picture.defocus.stamp import stamp_of
from kobrel.picture.judging.compare import blur_apart, in_colours, resized, stops_apart
from kobrel.picture.judging.measure import measured
from kobrel.picture.tracer import exposed, sharp_picture, signed_blur
from kobrel.picture.view import View
from kobrel.plan.instrument import Character, FrontStop, Glass
from kobrel.plan.keys import Keyed
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import DistanceTarget, FixedCamera, Mark, Plan, Shot
from kobrel.stage.stage import Stage
from tests.conftest import box_at

SIZE = (480, 270)


def camera_with(stop=1.4, focus_m=3.0, **shot):
    marks = (Mark(frame=1001, target=DistanceTarget(metres=focus_m)),)
    pose = tuple(np.eye(4).ravel().tolist())
    made = Shot(
        name="1", camera=FixedCamera(pose=pose), marks=marks, glass=Glass(f_number=Keyed(value=stop)), **shot
    )
    return camera_at(Plan(), made, 1001, Stage())


def view_of(camera, size=SIZE):
    return View(Stage().snapshot(0.0), camera, Light(), *size)


def even(value, size=SIZE):
    return np.full((size[1], size[0]), value, np.float32)


def point(size=SIZE, ground=0.1, light=500.0):
    colour = np.full((size[1], size[0], 3), ground, np.float32)
    colour[size[1] // 2, size[0] // 2] = light
    return colour


@pytest.mark.parametrize("distance", [np.inf, 1.2, 3.0, 20.0])
@pytest.mark.parametrize("stop", [0.9, 2.0, 8.0])
def test_a_small_light_becomes_a_disc_of_its_size_and_energy(distance, stop):
    view, colour = view_of(camera_with(stop)), point()
    made = defocused(view, colour, even(distance))
    light = made[..., 0] - 0.1
    blur = abs(float(signed_blur(view, even(distance))[0, 0]))
    assert light.sum() == pytest.approx(colour[..., 0].sum() - 0.1 * light.size, rel=0.01)
    rows = int((light.max(axis=1) > 0.5 * light.max()).sum())
    assert abs(rows - max(blur, 1.0)) <= max(1.0, 0.01 * blur)


def test_discs_have_the_shape_of_the_iris():
    camera = replace(camera_with(0.3), squeeze=2.0)
    light = defocused(view_of(camera), point(), even(np.inf))[..., 0] - 0.1
    tall, wide = ((light.max(axis=axis) > 0.5 * light.max()).sum() for axis in (1, 0))
    assert tall == pytest.approx(2 * wide, rel=0.12)
    square = replace(camera_with(0.9), iris=Iris(4, 0.0, 45.0))
    light = defocused(view_of(square), point(), even(np.inf))[..., 0] - 0.1
    inside = light > 0.5 * light.max()
    box = inside.any(axis=0).sum() * inside.any(axis=1).sum()
    assert inside.sum() / box > 0.9
    ring = replace(camera_with(0.9), iris=Iris(rim=1.0))
    light = defocused(view_of(ring), point(), even(np.inf))[..., 0] - 0.1
    middle = light[SIZE[1] // 2, SIZE[0] // 2]
    assert light.max() > 2.5 * middle


def test_before_the_focus_the_iris_is_turned_over():
    triangle = replace(camera_with(1.4), iris=Iris(3, 0.0, 90.0))
    tops = []
    for distance in (np.inf, 1.0):
        light = defocused(view_of(triangle), point(), even(distance))[..., 0] - 0.1
        rows = np.flatnonzero(light.max(axis=1) > 0.5 * light.max())
        widths = (light > 0.5 * light.max()).sum(axis=1)
        tops.append(widths[rows[1]] < widths[rows[-2]])
    assert tops[0] != tops[1]


def test_a_front_stop_cuts_the_discs_towards_the_corners():
    stopped = camera_with(0.9, flaws=Character(front_stop=FrontStop(distance_mm=60.0, diameter_mm=60.0)))
    colour = np.full((SIZE[1], SIZE[0], 3), 0.1, np.float32)
    colour[SIZE[1] // 2, SIZE[0] // 2] = colour[30, 30] = 500.0
    light = defocused(view_of(stopped), colour, even(np.inf))[..., 0] - 0.1
    middle, corner = light[60:, 60:].sum(), light[:60, :60].sum()
    assert 0.2 < corner / middle < 0.9


def test_even_light_stays_even_whatever_the_depth():
    """No seams between layers, no dark borders, no rings at steps."""
    depth = even(3.0)
    depth[:, :160], depth[:, 300:] = 1.0, np.inf
    depth[150:] = np.linspace(0.8, 30.0, SIZE[0])[None, :]
    made = defocused(view_of(camera_with(0.9)), np.full((SIZE[1], SIZE[0], 3), 0.3, np.float32), depth)
    assert np.abs(made - 0.3).max() < 0.003


def test_a_sharp_edge_stays_sharp_before_a_blurred_ground():
    colour, depth = np.zeros((SIZE[1], SIZE[0], 3), np.float32), even(np.inf)
    colour[..., 0] = 1.0
    colour[:, :240], depth[:, :240] = (0.0, 1.0, 0.0), 3.0
    made = defocused(view_of(camera_with(0.9)), colour, depth)
    assert np.abs(made[:, :238, 1] - 1.0).max() < 0.02
    assert made[:, :238, 0].max() < 0.02
    assert np.abs(made[:, 243:, 0] - 1.0).max() < 0.02  # nothing of it spills
    gathered = blurred_by("gather", view_of(camera_with(0.9)), colour, depth)
    assert gathered[:, 243:250, 0].min() < 0.9


def test_a_near_blur_spills_over_what_is_sharp_and_what_is_hidden_is_filled():
    colour, depth = np.zeros((SIZE[1], SIZE[0], 3), np.float32), even(3.0)
    colour[..., 0] = 1.0
    colour[:, 240:], depth[:, 240:] = (0.0, 1.0, 0.0), 0.8
    view = view_of(camera_with(0.9))
    made = defocused(view, colour, depth)
    blur = abs(float(signed_blur(view, even(0.8))[0, 0]))
    row = made[135, :, 1]
    reach = np.flatnonzero(row > 0.02)[0]
    assert abs((240 - reach) - blur / 2) < 0.12 * blur + 2
    assert row[240] == pytest.approx(0.5, abs=0.06)
    assert np.abs(made[135, :, 0] + row - 1.0).max() < 0.03


def test_smoothed_edges_leave_no_line_of_mixed_colour():
    colour, depth = np.zeros((SIZE[1], SIZE[0], 3), np.float32), even(np.inf)
    colour[:, :] = (0.2, 0.2, 0.8)
    colour[:, :200], depth[:, :200] = (1.0, 0.9, 0.1), 3.0
    colour[:, 200], depth[:, 200] = (0.6, 0.55, 0.45), 5.4  # half of each, at a depth between them
    made = defocused(view_of(camera_with(0.9)), colour, depth)
    assert np.abs(made[:, 203:] - (0.2, 0.2, 0.8)).max() < 0.04
    assert np.abs(made[:, :198] - (1.0, 0.9, 0.1)).max() < 0.04


def test_bright_light_in_a_hollow_of_a_surface_is_not_hidden_by_that_surface():
    depth, colour = even(1.2), np.full((SIZE[1], SIZE[0], 3), 0.1, np.float32)
    depth[120:126, 220:226], colour[120:126, 220:226] = 1.28, 60.0  # a hollow in it
    made = defocused(view_of(camera_with(0.9)), colour, depth)
    assert made.sum() == pytest.approx(colour.sum(), rel=0.01)


def test_edges_are_taken_apart_by_their_colours():
    blur = np.full((9, 12), 8.0, np.float32)
    blur[:, :6] = -1.0
    colour = np.full((9, 12, 3), 0.8, np.float32)
    colour[:, :6] = 0.2
    colour[:, 6] = 0.65
    apart = taken_apart(blur, colour)
    mixed = apart.column == 6
    assert apart.cover[mixed] == pytest.approx(0.25, abs=0.02)
    assert apart.near_colour[mixed] == pytest.approx(0.2, abs=0.01)
    assert apart.colour[:, 6] == pytest.approx(0.8, abs=0.01)
    assert apart.blur[:, 5:7] == pytest.approx(8.0)


def test_layers_go_from_near_to_far():
    radius = np.array([-60.0, -2.0, -0.6, 0.0, 0.6, 2.0, 60.0], np.float32)
    numbers = layer_of(radius)
    assert (np.diff(numbers) > 0).all()
    assert numbers[3] == 0


def test_stamps_keep_all_light_and_spans_lie_in_order():
    for iris in (Iris(), Iris(5, 0.3, 20.0), Iris(rim=-0.8)):
        stamp = stamp_of(iris, 1.5, 40.0)
        area = stamp.light[16 * 30] / 30.0**2
        plain = np.pi / 1.5
        assert area == pytest.approx(plain, rel=0.02) or iris.rim != 0
        assert (stamp.right > stamp.left).all()


def test_the_largest_disc_can_be_cut():
    view = view_of(camera_with(0.9))
    light = defocused(view, point(), even(np.inf), most_px=10.0)[..., 0] - 0.1
    assert 9 <= (light.max(axis=1) > 0.5 * light.max()).sum() <= 11


def test_it_is_near_the_exact_picture_and_nearer_than_simpler_ways(looking_at):
    plan, shot, stage = looking_at(
        box_at((0.0, 0.0, -6.0), (9.0, 9.0, 0.1), base=(0.7, 0.5, 0.3)),
        box_at((-0.4, 0.0, -2.0), (0.5, 3.0, 0.1), "/near", (0.1, 0.3, 0.7)),
        box_at((0.6, 0.0, -3.0), (0.3, 0.6, 0.1), "/mid", (0.2, 0.8, 0.2)),
        glass={"f_number": Keyed(value=0.7)},
        marks=(Mark(frame=1, target=DistanceTarget(metres=3.0)),),
    )
    camera, light = camera_at(plan, shot, 1, stage), Light(surfaces="plain")
    stage.prepare()
    view = View(stage.snapshot(1), camera, light, 240, 160)
    flat = replace(view, camera=replace(camera, f_number=np.asarray(1e5)))
    colour, depth, exact = exposed(flat, 64), sharp_picture(flat).depth, exposed(view, 256)
    errors = {
        method: float(np.abs(blurred_by(method, view, colour, depth) - exact).mean()) for method in METHODS
    }
    assert errors["layered"] < 0.01
    assert all(errors["layered"] < 0.67 * errors[other] for other in errors if other != "layered")


def test_highlights_that_are_clipped_are_grown_back():
    colour = np.linspace(0, 1, 101, dtype=np.float32)[None, :, None].repeat(3, axis=2)
    grown = grown_back(colour, 1.0, 3.0)
    assert grown[0, -1] == pytest.approx(8.0)
    assert np.array_equal(grown[0, :90], colour[0, :90])


# Measuring


@pytest.mark.parametrize("stop", [0.7, 1.4])
def test_edges_and_discs_are_measured_with_their_doubt(stop):
    view = view_of(camera_with(stop), (960, 540))
    colour = np.full((540, 960, 3), 0.1, np.float32)
    colour[:, 480:] = 0.9
    colour[200, 200] = 900.0
    depth = even(np.inf, (960, 540))
    blur = float(signed_blur(view, depth)[0, 0])
    made = defocused(view, colour, depth) + np.random.default_rng(1).normal(0, 0.004, colour.shape)
    for slant in (0.0, 25.0):
        edge = measured(made, (430.0, 400.0), (530.0, 400.0 + slant))
        assert edge.of == "edge"
        assert edge.px == pytest.approx(blur, rel=0.06)
        assert 0 < edge.doubt_px < 0.2 * blur
    disc = measured(made, (150.0, 200.5), (250.0, 200.5))
    assert disc.of == "disc"
    assert disc.px == pytest.approx(blur, abs=1.5)


def test_where_nothing_is_to_be_measured_it_says_so():
    colour = np.full((90, 160, 3), 0.4, np.float32)
    with pytest.raises(KobrelError, match="No edge or disc"):
        measured(colour, (20.0, 40.0), (120.0, 40.0))
    with pytest.raises(KobrelError, match="2 px long"):
        measured(colour, (20.0, 40.0), (22.0, 40.0))


# Differences


def test_differences_are_told_in_stops_and_in_pixels():
    one = np.full((8, 8, 3), 0.25, np.float32)
    assert stops_apart(one, one * 4) == pytest.approx(2.0, abs=0.03)
    assert blur_apart(np.full((8, 8), 3.0, np.float32), np.full((16, 16), 10.0, np.float32)) == pytest.approx(
        2.0
    )
    assert resized(one, (16, 4)).shape == (16, 4, 3)
    colours = in_colours(np.array([[-9.0, 0.0, 9.0]], np.float32), 3.0)
    assert colours[0, 0, 2] > colours[0, 0, 0]
    assert colours[0, 2, 0] > colours[0, 2, 2]
    assert tuple(colours[0, 1]) == (27, 27, 27)


def put_together(apart):
    """The picture that what was taken apart shows without any blur."""
    made = apart.colour.copy()
    part = apart.cover[:, None]
    made[apart.row, apart.column] = part * apart.near_colour + (1 - part) * made[apart.row, apart.column]
    return made


@pytest.mark.parametrize("seed", range(4))
def test_what_is_taken_apart_shows_the_picture_again(seed):
    """Whatever its colours and depths are: no pixel's light goes to nothing, or is made up."""
    dice = np.random.default_rng(seed)
    colour = dice.random((40, 60, 3), np.float32) ** 3 * np.float32(40.0)
    blocks = dice.choice([-12.0, -3.0, 0.0, 4.0, 20.0], (8, 12)).astype(np.float32)
    blur = np.kron(blocks, np.ones((5, 5), np.float32))
    apart = taken_apart(blur, colour)
    assert len(apart.row) > 100
    assert apart.near_colour.min() >= 0
    assert apart.colour.min() >= 0
    np.testing.assert_allclose(put_together(apart), colour, rtol=2e-4, atol=2e-4)


@pytest.mark.parametrize("light", [0.15, 2.0])
def test_a_line_of_a_pixel_behind_an_edge_stays_with_what_it_is_on(light):
    """A line beside the outline of a near thing, as dark as that or brighter: it lies on what is behind."""
    blur, colour = np.full((30, 40), 6.0, np.float32), np.full((30, 40, 3), 0.8, np.float32)
    blur[:, :20], colour[:, :20] = -6.0, 0.2
    colour[:, 20] = light
    apart = taken_apart(blur, colour)
    np.testing.assert_allclose(apart.colour[5:25, 20], light, rtol=1e-5)
    assert 20 not in apart.column[apart.cover > 0]
    np.testing.assert_allclose(apart.colour[5:25, 21:23], 0.8, rtol=1e-5)


def test_a_light_at_an_edge_gives_what_is_behind_it_no_light():
    """Its smoothed outline, a pixel wide and of the depth behind, is no colour of what is behind."""
    blur, colour = np.full((30, 40), 8.0, np.float32), np.full((30, 40, 3), 0.4, np.float32)
    blur[:, 10:14], colour[:, 10:14] = -4.0, 120.0
    colour[:, 14] = 40.0  # a third of it is the light
    blur[:, 16::2] = -4.0  # a pane before the rest, seen in every other pixel
    apart = taken_apart(blur, colour)
    assert apart.colour[5:25, 13].max() < 1.0, "what is behind the light"
    assert apart.colour[5:25, 16].max() < 1.0, "what is behind the pane beside it"


def test_what_is_known_of_the_backdrop_is_kept_and_what_is_not_comes_from_about_it():
    """A quarter of a cell that is known is known."""
    dice = np.random.default_rng(2)
    colours = dice.random((16, 24, 4)).astype(np.float32)
    known = np.full((16, 24), 0.25, np.float32)
    known[6:9, 10:13] = 0.0
    made = _filled(colours * known[..., None], known)
    assert made[known > 0] == pytest.approx(colours[known > 0], abs=1e-6)
    about = colours[4:12, 8:16][known[4:12, 8:16] > 0].mean(axis=0)
    assert made[7, 11] == pytest.approx(about, abs=0.25)
    flat = _filled(np.full((16, 24, 4), 0.7, np.float32) * known[..., None], known)
    assert flat == pytest.approx(0.7, abs=1e-6)


@pytest.mark.parametrize("place", [(120, 202), (360, 202), (120, 67)])
def test_a_shifted_lens_cuts_discs_away_from_its_axis(place):
    """The axis stands at a quarter of the width, three quarters down: there the disc is whole."""
    size, front = SIZE, FrontStop(distance_mm=60.0, diameter_mm=38.0)
    widths = []
    for stop in (None, front):
        camera = camera_with(1.4, 1.0, flaws=Character(front_stop=stop))
        mm = float(camera.sensor_width_mm) / 4, float(camera.sensor_height_mm) / 4
        camera = replace(camera, shift_mm=mm)
        colour = np.zeros((size[1], size[0], 3), np.float32)
        colour[place[1], place[0]] = 500.0
        made = defocused(view_of(camera, size), colour, even(4.0, size))[..., 0]
        widths.append(int((made > 0.3 * made.max()).sum()))
    whole, cut = widths
    assert cut == pytest.approx(whole, rel=0.03) if place == (120, 202) else cut < 0.9 * whole
