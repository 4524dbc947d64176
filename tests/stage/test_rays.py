import numpy as np
import pytest

from kobrel.stage.engine.rays import blocked_rays, closest_hits
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Cancelled, Node, Scene
from kobrel.stage.shapes import box, cone, cylinder, lathe, plane, sphere
from kobrel.stage.stage import Place, Stage
from tests.conftest import ball_at, box_at


def stage_of(*nodes):
    from pathlib import Path

    return Stage([("set", Scene(Path("set"), tuple(nodes)))])


def test_pick_finds_the_nearest_surface_exactly():
    stage = stage_of(box_at((0, 0, -5)), ball_at((0, 0, -9), 2.0))
    pick = stage.pick(0, (0.1, 0.2, 0), (0, 0, -2))
    assert pick.place == Place("set", "/box")
    assert pick.along == pytest.approx(4.5 / 2, rel=1e-12)
    np.testing.assert_allclose(pick.point, [0.1, 0.2, -4.5], atol=1e-12)
    np.testing.assert_allclose(pick.local, [0.1, 0.2, 0.5], atol=1e-12)
    assert stage.pick(0, (0, 5, 0), (0, 0, -1)) is None


def test_an_empty_stage_has_nothing_to_hit():
    stage = stage_of()
    assert stage.pick(0, (0, 0, 0), (0, 0, -1)) is None
    assert stage.bounds()[1].tolist() == [0.5, 0.5, 0.5]


def test_rays_stay_exact_far_from_the_origin():
    away = 2_000_000.0
    stage = stage_of(box_at((away, 0, -5)))
    pick = stage.pick(0, (away + 0.25, 0.1, 0), (0, 0, -1))
    assert pick.along == pytest.approx(4.5, abs=1e-6)


def moving(speed, name="/mover"):
    track = Track(np.array([0.0, 10.0]), np.array([[0.0, 0, -5], [speed * 10, 0, -5]]))
    return Node(name, motion=Motion((TransformOp("translate", track),)), mesh=box())


def test_a_moving_node_is_hit_where_it_is():
    stage = stage_of(moving(1.0), box_at((0, 0, -20), (100, 100, 1), "/wall"))
    assert stage.pick(0, (0, 0, 0), (0, 0, -1)).place.path == "/mover"
    assert stage.pick(5, (0, 0, 0), (0, 0, -1)).place.path == "/wall"
    hit = stage.pick(5.5, (5.5, 0, 0), (0, 0, -1))
    assert hit.place.path == "/mover"
    np.testing.assert_allclose(hit.local, [0, 0, 0.5], atol=1e-9)


def test_moving_nodes_alone():
    stage = stage_of(moving(1.0), moving(-1.0, "/other"))
    assert stage.pick(4, (-4, 0, 0), (0, 0, -1)).place.path == "/other"
    assert stage.pick(4, (4, 0, 0), (0, 0, -1)).place.path == "/mover"


def test_many_uses_of_a_large_mesh_share_it():
    shared = sphere(0.4, 80)
    from kobrel.stage.motion import matrix_motion

    nodes = []
    for i in range(5):
        matrix = np.eye(4)
        matrix[:3, 3] = (i, 0, -5)
        nodes.append(Node(f"/ball{i}", motion=matrix_motion(matrix), mesh=shared))
    stage = stage_of(*nodes, box_at((0, 0, -20), (50, 50, 1)))
    stage.prepare()
    assert len({id(scene) for scene in stage._pieces[0].accelerators()[1:]}) == 1
    assert len(stage._pieces[0].accelerators()) == 6
    for i in range(5):
        assert stage.pick(0, (i, 0, 0), (0, 0, -1)).place.path == f"/ball{i}"


def test_hits_agree_with_a_slow_exact_search():
    random = np.random.default_rng(3)
    mesh = sphere(1.0, 20)
    stage = stage_of(ball_at((0, 0, -4), 1.0, around=20))
    snapshot = stage.snapshot(0)
    origins = random.uniform(-0.5, 0.5, (300, 3))
    directions = np.column_stack([random.uniform(-0.3, 0.3, (300, 2)), -np.ones(300)])
    hits = closest_hits(snapshot.handle, snapshot.first_rows, origins - snapshot.origin, directions)
    corners = mesh.points[mesh.triangles].astype(float) + [0, 0, -4]
    for i in range(300):
        expected = slow_distance(corners, origins[i], directions[i])
        assert hits.distance[i] == pytest.approx(expected, rel=2e-5) or (
            np.isinf(expected) and hits.row[i] == -1
        )


def slow_distance(corners, origin, direction):
    """Möller and Trumbore's test against every triangle."""
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    p = np.cross(direction, e2)
    det = np.einsum("ij,ij->i", e1, p)
    t0 = origin - corners[:, 0]
    u = np.einsum("ij,ij->i", t0, p) / det
    q = np.cross(t0, e1)
    v = q @ direction / det
    t = np.einsum("ij,ij->i", e2, q) / det
    good = (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 0)
    return t[good].min() if good.any() else np.inf


def test_blocked_rays():
    stage = stage_of(box_at((0, 0, -5)))
    shot = stage.snapshot(0)
    start = np.array([[0, 0, 0], [3, 0, 0]]) - shot.origin
    assert blocked_rays(shot.handle, start, [[0, 0, -1], [0, 0, -1]]).tolist() == [True, False]


def test_preparing_can_be_cancelled_and_begun_again():
    stage = stage_of(box_at((0, 0, -5)))

    def stop(_what, _part):
        raise Cancelled("enough")

    with pytest.raises(Cancelled):
        stage.prepare(stop)
    assert stage.pick(0, (0, 0, 0), (0, 0, -1)).along == pytest.approx(4.5)


def test_centre_of_a_group_lies_amid_its_parts(moving_scene):
    stage = Stage([("m", load_scene(moving_scene))])
    np.testing.assert_allclose(stage.centre(Place("m", "/Rig"), [1.0]), [[0, 0, 0]], atol=1e-9)
    assert stage.centre(Place("m", "/nothing"), [1.0]) is None
    assert stage.world(Place("other", "/Rig"), [1.0]) is None


@pytest.mark.parametrize(
    ("mesh", "volume"),
    [
        (box((1, 2, 3)), 6.0),
        (sphere(1.0, 96), 4 / 3 * np.pi),
        (cylinder(1.0, 2.0, 200), 2 * np.pi),
        (cone(1.0, 3.0, 200), np.pi),
        (lathe(np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float), 200), np.pi),
    ],
)
def test_solids_are_closed_and_face_outward(mesh, volume):
    a, b, c = (mesh.points[mesh.triangles[:, k]].astype(float) for k in range(3))
    assert np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6 == pytest.approx(volume, rel=3e-3)


def test_the_plane_faces_up():
    mesh = plane(2, 3)
    a, b, c = (mesh.points[mesh.triangles[:, k]] for k in range(3))
    assert (np.cross(b - a, c - a)[:, 1] > 0).all()
