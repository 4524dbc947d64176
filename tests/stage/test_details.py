"""Details of the stage that a small change would spoil without a crash."""

from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom

from kobrel.stage.joints import Joints
from kobrel.stage.motion import Motion, Track, TransformOp, matrix_motion
from kobrel.stage.piece import Piece
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Cutout, Material, Mesh, Node, Scene, Texture
from kobrel.stage.shapes import box
from kobrel.stage.stage import Place, Setting, Stage
from tests.conftest import box_at
from tests.stage.gltf_files import GltfFile

CORNERS = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
FACES = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)


def stage_of(*nodes):
    return Stage([("s", Scene(Path("s"), nodes))])


@pytest.mark.parametrize("turn", range(4))
def test_a_ray_sees_the_place_of_the_picture_that_it_meets(turn):
    """A square that is there only in one quarter of its picture, however its corners lie in it."""
    there = np.zeros((16, 16, 3), np.uint8)
    there[:8, 8:] = 255  # above, on the right; pictures begin with their top row
    uv = np.roll(CORNERS[:, :2], turn, axis=0)
    leaf = Material("leaf", cutout=Cutout(1.0, Texture("t", pixels=there), "red", 0.5))
    stage = stage_of(Node("/leaf", mesh=Mesh(CORNERS, FACES, uv=uv[FACES]), materials=(leaf,)))
    for x, y in ((0.2, 0.3), (0.8, 0.2), (0.3, 0.8), (0.7, 0.9), (0.9, 0.7)):
        bent = np.array([x, y])
        for _ in range(turn):  # the picture's own place of this point
            bent = np.array([bent[1], 1 - bent[0]])
        met = stage.pick(1, (x, y, 1), (0, 0, -1))
        assert (met is not None) == (bent[0] > 0.5 and bent[1] > 0.5), (x, y, bent)


def test_what_is_hidden_takes_what_lies_below_it_along():
    from kobrel.stage.piece import _hidden_nodes

    nodes = (Node("/a"), Node("/a/b", 0), Node("/a/b/c", 1), Node("/d"))
    scene = Scene(Path("s"), nodes)
    assert _hidden_nodes(scene, frozenset({"/a/b"})) == {1, 2}
    assert _hidden_nodes(scene, frozenset()) == set()


def test_faces_of_what_is_placed_aslant_are_told_as_they_stand():
    """The normal of a face that stands turned and stretched, met by a ray."""
    matrix = np.diag([2.0, 1.0, 1.0, 1.0])
    a = np.radians(30)
    turn = np.array([[np.cos(a), 0, np.sin(a), 0], [0, 1, 0, 0], [-np.sin(a), 0, np.cos(a), 0], [0, 0, 0, 1]])
    stage = stage_of(
        Node("/sheet", motion=matrix_motion(turn @ matrix), mesh=Mesh(CORNERS, FACES)),
        box_at((9, 0, 0), name="/far"),
    )
    met = stage.pick(1, (1.0, 0.5, 5.0), (0, 0, -1))
    assert met.place == Place("s", "/sheet")
    np.testing.assert_allclose(met.along, 5.0 + np.tan(a) * 1.0, atol=1e-5)


def test_faces_of_a_scene_that_is_placed_turned_are_lit_as_they_stand():
    """The second of two scenes, each with several nodes that are merged into one."""
    turned = np.array([[0, 0, 1, 0], [0, 1, 0, 0], [-1, 0, 0, 0], [0, 0, 0, 1.0]])
    scene = Scene(Path("s"), (Node("/a", mesh=Mesh(CORNERS, FACES)), box_at((0, 9, 0), name="/b")))
    stage = Stage([Setting("one", scene), Setting("two", scene, turned)])
    faces = stage.snapshot(1).normal_matrices[1::2]
    np.testing.assert_allclose(faces, [np.eye(3), np.eye(3), turned[:3, :3], turned[:3, :3]], atol=1e-6)


@pytest.mark.parametrize("frame", [1.0, 2.5, 4.0, 6.2, 9.0, 12.0])
def test_joints_stand_where_their_transforms_say(frame):
    """A chain that moves, turns and is scaled, each over time, against the product of its transforms."""
    times = np.array([1.0, 4.0, 9.0])
    turns = np.array([[1.0, 0, 0, 0], [0.8, 0.6, 0, 0], [0.6, 0, 0.48, 0.64]])

    def motion(k):
        return Motion((
            TransformOp("translate", Track(times, np.array([[0, 1, 0], [1, 2, k], [k, 0, 3.0]]))),
            TransformOp("quaternion", Track(times, np.roll(turns, k, axis=0))),
            TransformOp("scale", Track(times, np.array([[1, 1, 1], [2, 1.5, 1], [0.5, 1, 3.0 + k]]))),
        ))  # fmt: skip

    motions = tuple(motion(k) for k in range(3))
    joints = Joints((-1, 0, 1), motions)
    found = joints.places(np.array([frame]), np.array([0, 1, 2]))[0]
    expected = np.eye(4)
    for k in range(3):
        expected = expected @ motions[k].matrices([frame])[0]
        np.testing.assert_allclose(found[k], expected[:3], atol=1e-9)


_TIMES = np.array([1.0, 4.0, 9.0])
_STEPS = {
    "translate": lambda k, more: TransformOp("translate", Track(_TIMES, np.eye(3) * (k + 1), **more)),
    "rotate": lambda k, more: TransformOp("rotate", Track(_TIMES, np.eye(3) * 40 * (k + 1), **more), "XYZ"),
    "matrix": lambda k, more: TransformOp("matrix", Track.constant(np.diag([1.0 + k, 2, 1, 1]))),
    "pivot": lambda k, more: TransformOp("translate", Track(_TIMES, np.eye(3) + k, **more), inverse=True),
    "quaternion": lambda k, more: TransformOp(
        "quaternion", Track(_TIMES, np.roll([[1.0, 0, 0, 0], [0.8, 0.6, 0, 0], [0, 0, 1, 0]], k, 0), **more)
    ),
}  # fmt: skip


@pytest.mark.parametrize("frame", [0.0, 1.0, 2.5, 4.0, 7.3, 12.0])
@pytest.mark.parametrize(
    "more", [{}, {"held": True}, {"smooth": np.array([True, False, True])}, {"half": True}]
)
def test_nodes_that_move_are_placed_together_as_each_for_itself(more, frame):
    """A crowd of nodes with steps of every kind, some below others, some without a mesh, one that resets."""
    kinds = [
        ("translate", "rotate"),
        ("rotate", "pivot"),
        ("matrix", "translate"),
        ("quaternion",),
        ("translate",),
    ]
    nodes = [Node("/top", motion=Motion((_STEPS["rotate"](0, more),)))]
    for number in range(1, 16):
        ops = tuple(_STEPS[kind](number % 3, more) for kind in kinds[number % len(kinds)])
        mesh = None if number % 7 == 0 else box()
        nodes.append(Node(f"/{number}", (number - 1) // 2, Motion(ops), mesh=mesh, resets=number == 9))
    piece = Piece(Scene(Path("crowd"), tuple(nodes), unit_m=0.01, up="Z"))
    assert len(piece.moving) > 10
    found = piece.matrices(frame)
    for index in piece.moving:
        expected = piece.scene.world(index, [frame])[0]
        np.testing.assert_allclose(found[piece.rows_of(index)][0], expected, atol=1e-9)


def test_points_are_read_at_the_files_own_rate(tmp_path):
    path = tmp_path / "rate.usda"
    stage = Usd.Stage.CreateNew(str(path))
    stage.SetTimeCodesPerSecond(48)
    stage.SetFramesPerSecond(24)
    mesh = UsdGeom.Mesh.Define(stage, "/m")
    mesh.CreateFaceVertexCountsAttr([3])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2])
    for code, x in ((0, 0.0), (10, 1.0), (20, 5.0)):
        mesh.GetPointsAttr().Set([Gf.Vec3f(x, 0, 0), Gf.Vec3f(1, 0, 0), Gf.Vec3f(0, 1, 0)], code)
    stage.Save()
    scene = load_scene(path)
    points = scene.nodes[scene.find("/m")].mesh.deformation
    found = [float(points.points(frame)[0, 0]) for frame in range(0, 11)]
    assert [found[0], found[2], found[5], found[10]] == pytest.approx([0.0, 0.4, 1.0, 5.0])


def test_a_file_of_several_animations_begins_with_the_first(tmp_path):
    file = GltfFile()
    file.mesh()
    one, other = file.node(mesh=0), file.node(mesh=0)
    file.animate(one, "translation", [1, 2], [[0, 0, 0], [1, 0, 0]])
    file.animate(other, "translation", [0.5, 3], [[0, 0, 0], [1, 0, 0]])
    scene = load_scene(file.write(tmp_path / "two.glb"))
    assert (scene.first_frame, scene.last_frame) == (12, 72)


def test_the_extent_of_a_stage_holds_all_its_frames(moving_scene):
    stage = Stage([("s", load_scene(moving_scene))])
    low, high = stage.extent()
    for frame in (1.0, 11.0):
        first, last = stage.bounds(frame)
        assert (low <= first + 1e-9).all()
        assert (high >= last - 1e-9).all()
    assert (high - low)[2] > 1.9  # it travels two metres


def test_a_transform_with_one_odd_number_takes_its_mesh_out():
    from kobrel.stage.read.sanitising import sanitise

    odd = np.eye(4)
    odd[0, 3] = np.inf
    scene = sanitise(Scene(Path("s"), (Node("/a", motion=matrix_motion(odd), mesh=Mesh(CORNERS, FACES)),)))
    assert scene.nodes[0].mesh is None


def test_each_of_several_scenes_has_its_own_surfaces(looking_at):
    """Two scenes side by side, the first with two surfaces: the second's is not the first's."""
    from kobrel.picture.service import Request, finished
    from kobrel.plan.look import Light
    from kobrel.plan.measure.camera import camera_at

    plan, shot, _stage = looking_at(box_at((0, 0, -5)))
    green, blue, red = (0.0, 0.8, 0.0), (0.0, 0.0, 0.8), (0.8, 0.0, 0.0)
    slots = np.array([0, 1] * 6, np.uint8)
    from kobrel.stage.shapes import box

    two = Node(
        "/two", motion=matrix_motion(box_at((-1.2, 0, -5)).motion.matrices([0.0])[0]),
        mesh=Mesh(box().points, box().triangles, slots=slots), materials=(Material("g", green), Material("b", blue)),
    )  # fmt: skip
    stage = Stage(
        [("a", Scene(Path("a"), (two,))), ("b", Scene(Path("b"), (box_at((1.2, 0, -5), base=red),)))]
    )
    request = Request(stage, camera_at(plan, shot, 1, stage), 1, Light(), 48, 32, passes=4)
    pixels = finished(request, lambda: False).astype(int)
    left, right = pixels[16, 13], pixels[16, 35]
    assert right[0] > 3 * max(right[1], right[2])
    assert max(left[1], left[2]) > 3 * left[0]


def test_of_a_mesh_in_two_parts_the_part_without_joints_stands_still(tmp_path):
    """Two primitives of one skinned mesh, the second without joints."""
    file = GltfFile()
    file.mesh(
        JOINTS_0=file.accessor(np.zeros((4, 4), np.uint8)),
        WEIGHTS_0=file.accessor(np.tile(np.array([1, 0, 0, 0], np.float32), (4, 1))),
    )
    file.mesh(points=CORNERS + np.float32(5))
    file.json["meshes"][0]["primitives"] += file.json["meshes"].pop(1)["primitives"]
    joint = file.node(name="joint")
    file.json["skins"] = [{"joints": [joint]}]
    body = file.node(name="body", mesh=0, skin=0)
    file.json["scenes"] = [{"nodes": [joint, body]}]
    file.animate(joint, "translation", [0, 1], [[0, 0, 0], [2, 0, 0]])
    scene = load_scene(file.write(tmp_path / "parts.glb"))
    mesh = scene.nodes[scene.find("/body")].mesh
    first, last = mesh.deformation.points(0.0), mesh.deformation.points(24.0)
    np.testing.assert_allclose(last[:4] - first[:4], [[2, 0, 0]] * 4, atol=1e-6)


@pytest.mark.parametrize(("opacity", "met"), [(0.3, "/pane"), (0.1, "/far")])
def test_a_click_meets_what_can_well_be_seen(opacity, met):
    """Rays pass a pane by its opacity; a click means the pane wherever it can be seen."""
    pane = Node("/pane", mesh=Mesh(CORNERS, FACES), materials=(Material("glass", cutout=Cutout(opacity)),))
    stage = stage_of(pane, box_at((0.5, 0.5, -5), (4, 4, 1), name="/far"))
    for x in np.linspace(0.1, 0.9, 9):
        assert stage.pick(1, (x, 0.4, 5.0), (0, 0, -1)).place == Place("s", met)
