from pathlib import Path

import numpy as np
import pytest

from kobrel.plan.model import Plan, SceneRef
from kobrel.plan.staging import Library, load_stage, placement, stage_of
from kobrel.stage.motion import Motion, Track, TransformOp, matrix_motion
from kobrel.stage.nearest import Closest
from kobrel.stage.scene import Mesh, Node, Scene
from kobrel.stage.shapes import box, sphere
from kobrel.stage.stage import Place, Setting, Stage
from tests.conftest import ball_at, box_at

TILTED = np.array(
    [[0.8, -0.6, 0.0, 3.0], [0.6, 0.8, 0.0, -1.0], [0.0, 0.0, 1.0, 2.0], [0.0, 0.0, 0.0, 1.0]]
) @ np.diag([2.0, 2.0, 2.0, 1.0])  # fmt: skip


def a_scene():
    walk = Track(np.array([0.0, 10.0]), np.array([[0.0, 0, 0], [0, 0, 5.0]]))
    return Scene(
        Path("set"),
        (
            Node("/set"),
            Node("/set/box", 0, box_at((1, 0, 0)).motion, mesh=box()),
            Node("/set/ball", 0, mesh=sphere(0.3), motion=Motion((TransformOp("translate", walk),))),
            Node("/alone", mesh=box((0.2, 0.2, 0.2)), motion=matrix_motion(TILTED)),
        ),
    )


def test_a_placed_scene_is_hit_where_its_points_come_to_lie():
    scene = a_scene()
    plain, placed = Stage([("a", scene)]), Stage([Setting("a", scene, TILTED)])
    random = np.random.default_rng(1)
    for frame in (0.0, 4.5):
        for _ in range(40):
            origin, goal = random.uniform(-6, 6, 3), random.uniform(-1, 1, 3)
            there = plain.pick(frame, origin, goal - origin)
            lifted = (TILTED @ np.append(origin, 1))[:3], (TILTED @ np.append(goal, 1))[:3]
            here = placed.pick(frame, lifted[0], lifted[1] - lifted[0])
            assert (here is None) == (there is None)
            if here and there:
                assert here.place == there.place
                np.testing.assert_allclose(here.local, there.local, atol=1e-4)
                np.testing.assert_allclose(here.point, (TILTED @ np.append(there.point, 1))[:3], atol=1e-4)
    np.testing.assert_allclose(
        placed.boxes(4.5), plain.boxes(4.5) @ TILTED[:3, :3].T + TILTED[:3, 3], atol=1e-12
    )
    assert placed.scale_of("a") == pytest.approx(2)


def test_a_reference_scales_then_turns_then_moves():
    matrix = placement(SceneRef(name="a", path="x", position_m=(1, 2, 3), turn_deg=90, scale=2))
    np.testing.assert_allclose(matrix @ (0, 0, 1, 1), (3, 2, 3, 1), atol=1e-12)
    np.testing.assert_allclose(matrix @ (1, 0, 0, 1), (1, 2, 1, 1), atol=1e-12)


def test_several_scenes_keep_their_own_rows():
    stage = Stage(
        [
            ("a", a_scene()),
            Setting("b", Scene(Path("b"), (ball_at((0, 0, -5), 1.0), box_at((5, 0, 0)))), None),
        ]
    )
    assert stage.pick(0, (0, 0, -2), (0, 0, -1)).place == Place("b", "/ball")
    assert stage.pick(0, (5, 0, 3), (0, 0, -1)).place == Place("b", "/box")
    assert stage.pick(0, (1.3, 0.3, 3), (0, 0, -1)).place == Place("a", "/set/box")
    assert [stage.place_of(row).path for row in stage.rows_below(Place("a", "/set"))] == [
        "/set/box", "/set/ball",
    ]  # fmt: skip
    assert stage.rows_below(Place("c", "/set")) == []


def test_hidden_nodes_are_not_hit_nor_what_lies_below_them():
    scene = a_scene()
    stage = Stage([Setting("a", scene, hidden=frozenset({"/set"}))])
    assert stage.pick(0, (1, 0, 5), (0, 0, -1)) is None
    assert stage.pick(0, (3, -1, 9), (0, 0, -1)).place.path == "/alone"
    # It stays where it is for what is tied to it.
    assert stage.world(Place("a", "/set/box"), [0]) is not None


def test_what_does_not_change_is_not_built_again():
    one, two = a_scene(), Scene(Path("b"), (ball_at((0, 0, -5)),))
    stage = Stage([("a", one), ("b", two)])
    assert not stage.built
    stage.prepare()
    assert stage.built
    moved = Stage([Setting("a", one, TILTED), Setting("b", two)], like=stage)
    assert moved.built
    assert [a is b for a, b in zip(moved._pieces, stage._pieces, strict=True)] == [True, True]
    moved.prepare()
    assert moved._geometry.corners is stage._geometry.corners
    hidden = Stage([Setting("a", one, None, frozenset({"/alone"})), Setting("b", two)], like=moved)
    assert not hidden.built
    assert hidden._pieces[1] is stage._pieces[1]


def test_the_same_file_may_stand_twice(tmp_path, moving_scene):
    plan = Plan(
        scenes=(
            SceneRef(name="one", path=str(moving_scene)),
            SceneRef(name="two", path=str(moving_scene), position_m=(50, 0, 0)),
        )
    )
    stage, problems = load_stage(plan)
    assert problems == []
    assert stage.scenes["one"] is stage.scenes["two"]
    low, high = stage.bounds(1.0)
    assert high[0] - low[0] > 49


def test_a_library_reads_once_and_again_when_told(moving_scene, tmp_path):
    plan = Plan(
        scenes=(
            SceneRef(name="a", path=str(moving_scene)),
            SceneRef(name="b", path=str(tmp_path / "no.usda")),
        )
    )
    library = Library()
    assert library.missing(plan)
    library.read(plan)
    assert not library.missing(plan)
    assert "no such file" in library.problems_of(plan)[0]
    kept = library.scenes[str(moving_scene), (), None]
    library.read(plan)
    assert library.scenes[str(moving_scene), (), None] is kept
    assert set(stage_of(plan, library).scenes) == {"a"}
    library.forget(str(moving_scene))
    assert library.missing(plan)
    assert Library().missing(plan.replace(scenes=(plan.scenes[0].replace(unit_m=1.0),)))


def brute(mesh, world, goal, samples=60):
    """The least distance over a fine sampling of all triangles."""
    u, v = np.meshgrid(np.linspace(0, 1, samples), np.linspace(0, 1, samples))
    inside = u + v <= 1
    u, v = u[inside], v[inside]
    corners = (mesh.points @ world[:3, :3].T + world[:3, 3])[mesh.triangles]
    points = (
        corners[:, None, 0] * (1 - u - v)[:, None]
        + corners[:, None, 1] * u[:, None]
        + corners[:, None, 2] * v[:, None]
    )
    return np.linalg.norm(points - goal, axis=-1).min()


@pytest.mark.parametrize("stretch", [(1, 1, 1), (2, 2, 2), (3, 1, 0.5)])
@pytest.mark.parametrize("mesh", [box(), sphere(0.5, 12)])
def test_the_nearest_point_is_the_nearest_of_all(mesh, stretch):
    random = np.random.default_rng(5)
    goals = random.uniform(-3, 3, (20, 3))
    world = TILTED @ np.diag([*stretch, 1.0])
    found = Closest(mesh).nearest(goals, np.broadcast_to(world, (20, 4, 4)), np.zeros(20))
    for goal, point in zip(goals, found, strict=True):
        distance = np.linalg.norm(point - goal)
        sampled = brute(mesh, world, goal)
        assert distance <= sampled + 1e-9
        assert distance >= sampled - 0.12


def test_a_mesh_with_unused_points_and_flat_triangles_is_no_trap():
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [9, 9, 9]], np.float32)
    mesh = Mesh(points, np.array([[0, 1, 2], [1, 1, 1]], np.uint32))
    found = Closest(mesh).nearest(np.array([[8.0, 8, 8]]), np.eye(4)[None], np.zeros(1))
    np.testing.assert_allclose(found, [[0.5, 0.5, 0]], atol=1e-9)
    assert Stage([("a", a_scene())]).nearest(Place("a", "/nowhere"), np.zeros((1, 3)), [0]) is None


def test_eased_samples_start_and_end_gently():
    track = Track(np.array([0.0, 10.0]), np.array([[0.0], [1.0]]), np.array([True, False]))
    np.testing.assert_allclose(track.at([0, 2.5, 5, 10])[:, 0], [0, 0.15625, 0.5, 1])
    assert track.moves
