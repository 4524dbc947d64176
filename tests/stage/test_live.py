"""Shapes that change on the stage, and surfaces that rays pass."""

import gc
from pathlib import Path

import numpy as np
import pytest

from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import SHARP, survey
from kobrel.plan.model import Mark, SubjectTarget, SurfaceAnchor
from kobrel.plan.space.anchors import at_surface, on_surface, subject_points
from kobrel.plan.start import plan_from_scene
from kobrel.stage import shapes
from kobrel.stage.copies import Copies
from kobrel.stage.deform import Blend, Deformation, Sampled, Still
from kobrel.stage.engine.meshes import corner_normals, normals_of
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.read.load import load_scene
from kobrel.stage.read.normals import shared_corners
from kobrel.stage.scene import Cutout, Material, Mesh, Node, Scene, Texture
from kobrel.stage.stage import Place, Stage
from tests.conftest import ball_at
from tests.picture.test_tracer import view_of

from .characters import EYE, Walker


@pytest.fixture(scope="module")
def walker(tmp_path_factory):
    made = Walker()
    return made, made.write(tmp_path_factory.mktemp("walker") / "walker.glb")


def test_a_pull_to_the_eye_of_a_walking_person_stays_sharp(walker):
    """The camera moves too; the truth is worked out from the joints by formula."""
    made, path = walker
    plan, stage = plan_from_scene(path, load_scene(path))
    shot = plan.shots[0]
    first = camera_at(plan, shot, 0, stage)
    toward = made.at(EYE[None], np.array([[0, 1.0, 0]]), 0)[0] - first.pose[:3, 3]
    pick = stage.pick(0, first.pose[:3, 3], toward)
    anchor = on_surface(pick)
    assert anchor.vertices is not None
    plan = plan.replace(subjects=(plan.subjects[0].replace(anchor=anchor),))
    shot = shot.replace(marks=(Mark(frame=0, target=SubjectTarget(number=plan.subjects[0].number)),))
    numbers = survey(plan, shot, stage)
    weights = made.weights[list(anchor.vertices), :3]
    corners = made.points[list(anchor.vertices)]
    truth = np.stack(
        [np.asarray(anchor.weights) @ made.at(corners, weights, frame) for frame in numbers.frames]
    )
    assert np.ptp(truth, axis=0).min() > 0.05
    assert len(numbers.frames) == 49
    for row, place in enumerate(truth):
        sight = numbers.camera.frame(row).see(place)
        assert float(sight.blur_px) < 0.05
    assert (numbers.state[0] == SHARP).all()


def test_a_point_rides_on_what_deforms(walker):
    made, path = walker
    stage = Stage([("s", load_scene(path))])
    place = Place("s", "/person")
    points = stage.scenes["s"].nodes[stage.scenes["s"].find("/person")].mesh.deformation.points(12.0)
    anchor = at_surface(stage, place, points[40] + (0, 0, 1e-4), 12.0)
    moved = subject_points(anchor, [0.0, 12.0, 30.0], stage)
    weights = made.weights[list(anchor.vertices), :3]
    for frame, found in zip((0.0, 12.0, 30.0), moved, strict=True):
        truth = np.asarray(anchor.weights) @ made.at(made.points[list(anchor.vertices)], weights, frame)
        np.testing.assert_allclose(found, truth, atol=2e-5)
    still = SurfaceAnchor(scene="s", node="/hip", local=(0, 0, 0))
    np.testing.assert_allclose(subject_points(still, [0.0], stage)[0], made.path[0], atol=1e-6)


def test_bounds_and_nearest_points_follow_the_shape(walker):
    made, path = walker
    stage = Stage([("s", load_scene(path))])
    place, frames = Place("s", "/person"), np.array([0.0, 20.0, 48.0])
    low, high = stage.local_bounds(place, frames)
    goals = np.array([[0.0, 1.7, 9.0], [5.0, 1.7, 1.0], [0.0, 0.0, -4.0]])
    near = stage.nearest(place, goals, frames)
    for row, frame in enumerate(frames):
        truth = made.at(made.points, made.weights, frame)
        np.testing.assert_allclose(low[row], truth.min(axis=0), atol=2e-5)
        np.testing.assert_allclose(high[row], truth.max(axis=0), atol=2e-5)
        least = np.linalg.norm(truth - goals[row], axis=1).min()
        assert np.linalg.norm(near[row] - goals[row]) <= least + 1e-6


def growing(count=48):
    """A ball whose radius goes from 1 to 3 over ten frames."""
    ball = shapes.sphere(1.0, count)
    source = Sampled(np.array([0.0, 10.0]), lambda k: ball.points * np.float32(1 + 2 * k))
    return Mesh(ball.points, ball.triangles, smooth=True, deformation=Deformation(source))


def test_rays_meet_the_shape_of_their_own_frame(looking_at):
    _, _, stage = looking_at(Node("/ball", mesh=growing()))
    radii = [stage.pick(frame, (0, 0, 9), (0, 0, -1)).point[2] for frame in (0, 3, 10, 3, 7.5, 0)]
    np.testing.assert_allclose(radii, [1, 1.6, 3, 1.6, 2.5, 1], atol=0.01)
    np.testing.assert_allclose(stage.bounds(5)[1], [2, 2, 2], atol=0.02)


def test_a_frame_that_is_held_is_not_changed_by_others(looking_at):
    from kobrel.stage.engine.rays import closest_hits

    _, _, stage = looking_at(Node("/ball", mesh=growing()))
    held = stage.snapshot(0)
    before = held.live_normals.copy()

    def distance():
        ray = np.array([[0, 0, 9.0]]) - held.origin, np.array([[0, 0, -1.0]])
        return float(closest_hits(held.handle, held.first_rows, *ray).distance[0])

    for frame in range(1, 10):
        stage.snapshot(frame)
    gc.collect()
    assert distance() == pytest.approx(8.0, abs=0.01)
    np.testing.assert_array_equal(held.live_normals, before)


def test_smooth_shapes_stay_smooth_over_seams_and_keep_edges():
    ball = shapes.sphere(1.0, 24)
    split = Mesh(
        ball.points[ball.triangles].reshape(-1, 3),
        np.arange(ball.triangles.size, dtype=np.uint32).reshape(-1, 3),
    )
    given = ball.points[ball.triangles]
    shared = shared_corners(Mesh(split.points, split.triangles, normals=given))
    whole = corner_normals(Mesh(ball.points, ball.triangles, smooth=True))
    found = normals_of(Mesh(split.points, split.triangles, shared=shared), split.points)
    np.testing.assert_allclose(found, whole, atol=1e-6)
    box = shapes.box()
    flat = np.cross(*(box.points[box.triangles[:, k]] - box.points[box.triangles[:, 0]] for k in (1, 2)))
    edged = shared_corners(Mesh(box.points, box.triangles, normals=np.repeat(flat[:, None], 3, axis=1)))
    normals = normals_of(Mesh(box.points, box.triangles, shared=edged), box.points)
    ways = normals / np.linalg.norm(normals, axis=2, keepdims=True)
    np.testing.assert_allclose(ways, np.repeat(flat[:, None], 3, axis=1), atol=1e-6)


def test_blend_shapes_move_just_their_points():
    shifts = np.array([[0, 0, 1.0], [0, 0, 2.0]], np.float32)
    track = Track(np.array([0.0, 10.0]), np.array([[0.0], [1.0]]))
    blend = Blend.of([(np.array([1, 3]), shifts)], track.at)
    points = Deformation(Still(np.zeros((5, 3), np.float32)), blend)
    np.testing.assert_allclose(points.points(5)[:, 2], [0, 0.5, 0, 1, 0])
    np.testing.assert_allclose(points.some([0, 5, 10], [3, 0])[..., 2], [[0, 0], [1, 0], [2, 0]])


CHECKS = np.zeros((64, 64, 4), np.uint8)
CHECKS[:, :32] = 255


def card(at_z, cutout, half=1.0, path="/card"):
    points = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], np.float32) * half + (0, 0, at_z)
    triangles = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)[triangles]
    material = Material("card", (0.5, 0.5, 0.5), cutout=cutout)
    return Node(path, mesh=Mesh(points.astype(np.float32), triangles, uv=uv), materials=(material,))


@pytest.mark.parametrize("apart", [False, True])
def test_rays_and_probes_pass_the_holes_of_a_texture(looking_at, apart):
    holes = Cutout(texture=Texture("t", pixels=CHECKS), cutoff=0.5)
    nodes = [card(-5, holes), card(-8, None, 3.0, "/wall")]
    if apart:
        nodes[0] = Node(
            "/card", mesh=nodes[0].mesh, materials=nodes[0].materials, shown=Track.constant([1.0])
        )
    _, _, stage = looking_at(*nodes)
    seen = [stage.pick(1, (x, 0.1, 0), (0, 0, -1)).place.path for x in (-0.9, -0.2, 0.2, 0.9)]
    assert seen == ["/card", "/card", "/wall", "/wall"]


def test_shadows_have_the_same_holes(looking_at):
    holes = Cutout(texture=Texture("t", pixels=CHECKS), cutoff=0.5)
    made = looking_at(card(-3, holes, 2.0), card(-8, None, 20.0, "/wall"))
    plan, shot, stage = made
    light = plan.light.replace(key_azimuth_deg=0.0, key_elevation_deg=0.0, sky_strength=0.0)
    from kobrel.picture.tracer import sharp_picture
    from kobrel.picture.view import View

    view = View(stage.snapshot(1), camera_at(plan, shot, 1, stage), light, 180, 120)
    colour = sharp_picture(view).colour
    card_half, hole_half = colour[60, 60].mean(), colour[60, 110].mean()
    assert card_half > 0.5
    assert hole_half > 0.5  # the light falls through the hole onto the wall as well
    behind = looking_at(card(-3, None, 2.0), card(-8, None, 20.0, "/wall"))[2]
    assert behind.pick(1, (1.0, 0.1, 0), (0, 0, -1)).place.path == "/card"


def test_half_opaque_surfaces_let_half_through(looking_at):
    from kobrel.picture.tracer import exposed

    half = card(-5, Cutout(opacity=0.25), 4.0)
    glow = Material("glow", (0, 0, 0), (1.0, 1.0, 1.0))
    wall = card(-8, None, 30.0, "/wall")
    lit = Node("/wall", mesh=wall.mesh, materials=(glow,))
    view = view_of(looking_at, [half, lit], 8.0)
    centre = exposed(view, 64)[50:70, 80:100].mean()
    solid = view_of(looking_at, [card(-5, None, 4.0), lit], 8.0)
    own = exposed(solid, 1)[50:70, 80:100].mean()
    assert centre == pytest.approx(0.25 * own + 0.75, abs=0.02)


def test_a_small_light_shines_through_a_hole_and_not_beside_it(looking_at):
    from kobrel.picture.tracer import exposed

    holes = Cutout(texture=Texture("t", pixels=CHECKS), cutoff=0.5)

    def light_at(x, node):
        bulb = ball_at((x, 0, -20), 0.004, "/bulb", (4e4, 4e4, 4e4), 8)
        view = view_of(looking_at, [node, bulb], 20.0)
        return float(exposed(view, 8).max())

    assert light_at(0.5 * 20 / 5, card(-5, holes)) > 10
    assert light_at(-0.5 * 20 / 5, card(-5, holes)) < 2
    assert light_at(0.5 * 20 / 5, card(-5, None)) < 2


def test_colours_of_points_are_drawn(looking_at):
    from kobrel.picture.tracer import sharp_picture

    node = card(-5, None, 3.0)
    colours = np.zeros((2, 3, 3), np.uint8)
    colours[..., 0], colours[..., 1] = 255, 188
    painted = Mesh(node.mesh.points, node.mesh.triangles, colours=colours)
    white = Node("/card", mesh=painted, materials=(Material("white", (1.0, 1.0, 1.0)),))
    centre = sharp_picture(view_of(looking_at, [white], 5.0, light=Light(surfaces="plain"))).colour[60, 90]
    assert centre[2] == 0
    assert centre[1] / centre[0] == pytest.approx(0.503, rel=0.2)


@pytest.mark.parametrize("value", [np.nan, np.inf, -1e30])
def test_texture_coordinates_that_are_no_numbers_end_nothing(looking_at, value):
    node = card(-5, Cutout(texture=Texture("t", pixels=CHECKS), cutoff=0.5))
    node.mesh.uv[...] = value
    _, _, stage = looking_at(node)
    stage.pick(1, (0.2, 0.1, 0), (0, 0, -1))


def many_copies(count=200):
    """Balls on a plane, in one node below a group, and where they stand."""
    places = np.random.default_rng(4).uniform(-30, 30, (count, 3)) * (1, 0, 1)
    copies = Copies(Track.constant(places))
    ball = Node("/field/ball", 0, mesh=shapes.sphere(0.5, 12), copies=copies)
    return Stage([("s", Scene(Path("s"), (Node("/field"), ball)))]), places


@pytest.mark.parametrize("count", [5, 60])
@pytest.mark.parametrize("in_copies", [True, False])
def test_what_is_switched_off_at_a_frame_is_neither_nearest_nor_within_bounds(count, in_copies):
    """Whatever the number of parts; where all are off, all count."""
    random = np.random.default_rng(count)
    places = random.uniform(-30, 30, (count, 3))
    shown = random.random((4, count)) < 0.4
    shown[3] = False
    times = np.arange(4.0)
    ball = shapes.sphere(0.5, 12)
    if in_copies:
        copies = Copies(Track.constant(places), shown=Track(times, shown.astype(float), held=True))
        balls = (Node("/field/ball", 0, mesh=ball, copies=copies),)
    else:
        balls = tuple(
            Node(
                f"/field/ball{k}", 0, Motion((TransformOp("translate", Track.constant(place)),)), mesh=ball,
                shown=Track(times, shown[:, k, None].astype(float), held=True),
            )
            for k, place in enumerate(places)
        )  # fmt: skip
    stage = Stage([("s", Scene(Path("s"), (Node("/field"), *balls)))])
    field, goals = Place("s", "/field"), random.uniform(-40, 40, (4, 3))
    found = stage.nearest(field, goals, times)
    low, high = stage.local_bounds(field, times)
    for k, goal in enumerate(goals):
        there = places[shown[k]] if shown[k].any() else places
        wanted = np.linalg.norm(there - goal, axis=1).min() - 0.5
        assert np.linalg.norm(found[k] - goal) == pytest.approx(wanted, abs=0.03)
        np.testing.assert_allclose(low[k], there.min(axis=0) - 0.5, atol=0.03)
        np.testing.assert_allclose(high[k], there.max(axis=0) + 0.5, atol=0.03)
    assert stage.is_drawn(field, times).tolist() == [True, True, True, False]
    assert stage.is_drawn(Place("s", "/nowhere"), times) is None


def test_bounds_and_nearest_points_of_many_copies():
    stage, places = many_copies()
    low, high = stage.local_bounds(Place("s", "/field"), [1.0, 2.0])
    np.testing.assert_allclose(low[0], places.min(axis=0) - 0.5, atol=0.02)
    np.testing.assert_allclose(high[0], places.max(axis=0) + 0.5, atol=0.02)
    goals = np.array([[0.0, 5.0, 0.0], [40.0, 1.0, -3.0], [-20.0, 0.2, 11.0]])
    found = stage.nearest(Place("s", "/field"), goals, np.array([1.0, 2.0, 3.0]))
    for goal, point in zip(goals, found, strict=True):
        wanted = np.linalg.norm(places - goal, axis=1).min() - 0.5
        assert np.linalg.norm(point - goal) == pytest.approx(wanted, abs=0.02)
    one = stage.nearest(Place("s", "/field/ball[7]"), goals[:1], np.array([1.0]))
    assert np.linalg.norm(one[0] - places[7]) == pytest.approx(0.5, abs=0.02)
    np.testing.assert_allclose(stage.centre(Place("s", "/field/ball[7]"), [1.0])[0], 0, atol=0.02)
