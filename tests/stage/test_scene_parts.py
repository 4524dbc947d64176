"""More of what scene files hold: instances, hidden things, solids, spreads of normals, cameras."""

import json
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from kobrel.stage.engine.meshes import corner_normals
from kobrel.stage.motion import Track, rigid
from kobrel.stage.pictures.textures import decode, pack
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Mesh, Texture
from kobrel.stage.shapes import sphere
from kobrel.stage.stage import Stage
from tests.conftest import write_mesh

SQUARE = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]


def new_stage(path):
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    return stage


def test_instances_share_one_mesh(tmp_path):
    stage = new_stage(tmp_path / "i.usda")
    stage.CreateClassPrim("/Proto")
    UsdGeom.Sphere.Define(stage, "/Proto/Ball").CreateRadiusAttr(0.5)
    for i in range(3):
        copy = UsdGeom.Xform.Define(stage, f"/Copy{i}")
        copy.GetPrim().GetReferences().AddInternalReference("/Proto")
        copy.GetPrim().SetInstanceable(True)
        copy.AddTranslateOp().Set(Gf.Vec3d(i * 2, 0, 0))
    stage.Save()
    scene = load_scene(tmp_path / "i.usda")
    balls = [node for node in scene.nodes if node.mesh is not None]
    assert [node.path for node in balls] == [f"/Copy{i}/Ball" for i in range(3)]
    assert len({id(node.mesh) for node in balls}) == 1
    pick = Stage([("i", scene)]).pick(0, (4, 0, 5), (0, 0, -1))
    assert pick.place.path == "/Copy2/Ball"
    assert pick.point[2] == pytest.approx(0.5, abs=1e-3)


def test_hidden_things_and_guides_are_not_drawn(tmp_path):
    stage = new_stage(tmp_path / "h.usda")
    UsdGeom.Cube.Define(stage, "/seen")
    UsdGeom.Imageable(UsdGeom.Cube.Define(stage, "/hidden")).MakeInvisible()
    UsdGeom.Imageable(UsdGeom.Cube.Define(stage, "/guide")).CreatePurposeAttr("guide")
    UsdGeom.Imageable(UsdGeom.Cube.Define(stage, "/proxy")).CreatePurposeAttr("proxy")
    UsdGeom.Imageable(UsdGeom.Cube.Define(stage, "/final")).CreatePurposeAttr("render")
    stage.Save()
    scene = load_scene(tmp_path / "h.usda")
    assert [node.path for node in scene.nodes if node.mesh is not None] == ["/seen", "/final"]


@pytest.mark.parametrize("axis", ["X", "Y", "Z"])
def test_solids_kept_as_formulas(tmp_path, axis):
    stage = new_stage(tmp_path / "s.usda")
    for kind in (UsdGeom.Cylinder, UsdGeom.Cone):
        solid = kind.Define(stage, f"/{kind.__name__}")
        solid.CreateRadiusAttr(0.5)
        solid.CreateHeightAttr(3.0)
        solid.CreateAxisAttr(axis)
    stage.Save()
    for node in load_scene(tmp_path / "s.usda").nodes:
        low, high = node.mesh.bounds()
        expected = np.ones(3)
        expected["XYZ".index(axis)] = 3.0
        np.testing.assert_allclose(high - low, expected, atol=0.01)
        a, b, c = (node.mesh.points[node.mesh.triangles[:, k]].astype(float) for k in range(3))
        assert np.einsum("ij,ij->i", a, np.cross(b, c)).sum() > 0, "faces look outward"


def test_points_that_move_are_followed(tmp_path):
    stage = new_stage(tmp_path / "p.usda")
    mesh = UsdGeom.Mesh.Define(stage, "/soft")
    mesh.CreateFaceVertexCountsAttr([4])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    points = mesh.CreatePointsAttr()
    points.Set(Vt.Vec3fArray.FromNumpy(np.array(SQUARE, np.float32)), 1)
    points.Set(Vt.Vec3fArray.FromNumpy(np.array(SQUARE, np.float32) * 2), 2)
    stage.Save()
    scene = load_scene(tmp_path / "p.usda")
    soft = scene.nodes[0].mesh.deformation
    np.testing.assert_allclose(soft.points(1.5), np.array(SQUARE) * 1.5)
    np.testing.assert_allclose(soft.some([0.0, 1.25, 9.0], [2])[:, 0], np.outer([1, 1.25, 2], SQUARE[2]))
    assert scene.warnings == ()


@pytest.mark.parametrize(("spread", "count"), [("vertex", 4), ("faceVarying", 4), ("uniform", 1)])
def test_normals_in_every_spread(tmp_path, spread, count):
    path = write_mesh(tmp_path / "n.usda", SQUARE, [4], [0, 1, 2, 3])
    stage = Usd.Stage.Open(str(path))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/mesh"))
    mesh.CreateNormalsAttr(Vt.Vec3fArray([Gf.Vec3f(0, 0, 1)] * count))
    mesh.SetNormalsInterpolation(spread)
    stage.Save()
    normals = load_scene(path).nodes[0].mesh.normals
    assert normals.shape == (2, 3, 3)
    assert (normals == [0, 0, 1]).all()


def test_normals_that_do_not_fit_are_left_out(tmp_path):
    path = write_mesh(tmp_path / "n.usda", SQUARE, [4], [0, 1, 2, 3])
    stage = Usd.Stage.Open(str(path))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/mesh"))
    mesh.CreateNormalsAttr(Vt.Vec3fArray([Gf.Vec3f(0, 0, 1)] * 3))
    mesh.SetNormalsInterpolation("vertex")
    stage.Save()
    assert load_scene(path).nodes[0].mesh.normals is None


def test_smooth_normals_of_a_ball_point_outward():
    mesh = sphere(1.0, 48)
    normals = corner_normals(mesh)
    normals = normals / np.linalg.norm(normals, axis=-1, keepdims=True)
    np.testing.assert_allclose(normals, mesh.points[mesh.triangles], atol=0.07)
    assert corner_normals(Mesh(mesh.points, mesh.triangles)) is None


def test_the_display_colour_serves_where_there_is_no_material(tmp_path):
    stage = new_stage(tmp_path / "c.usda")
    UsdGeom.Cube.Define(stage, "/red").CreateDisplayColorAttr([Gf.Vec3f(0.8, 0.1, 0.2)])
    stage.Save()
    assert load_scene(tmp_path / "c.usda").nodes[0].materials[0].base == pytest.approx((0.8, 0.1, 0.2))


def test_animated_lens_and_sensor_of_a_camera(tmp_path):
    stage = new_stage(tmp_path / "z.usda")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    camera = UsdGeom.Camera.Define(stage, "/zoom")
    focal = camera.CreateFocalLengthAttr()
    width = camera.CreateHorizontalApertureAttr()
    for frame, f, w in ((1, 24.0, 36.0), (11, 70.0, 30.0)):
        focal.Set(f, frame)
        width.Set(w, frame)
    camera.CreateVerticalApertureAttr(20.0)
    stage.Save()
    scene = load_scene(tmp_path / "z.usda")
    np.testing.assert_allclose(scene.cameras[0].focal_mm.at([1, 6, 11])[:, 0], [24, 47, 70])
    assert any("changes over time" in warning for warning in scene.warnings)


def test_a_camera_without_focus_or_stop_says_nothing_of_them(tmp_path):
    stage = new_stage(tmp_path / "n.usda")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    UsdGeom.Camera.Define(stage, "/bare")
    stage.Save()
    source = load_scene(tmp_path / "n.usda").cameras[0]
    assert source.focus_m is None
    assert source.f_number is None


def glb_with_camera(path):
    """A minimal binary glTF: a triangle, and a camera 4 m up the Z axis."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32).tobytes()
    faces = np.array([0, 1, 2], np.uint32).tobytes()
    header = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0, 1]}],
        "nodes": [{"mesh": 0, "name": "tri"}, {"camera": 0, "name": "eye", "translation": [0, 0, 4]}],
        "cameras": [{"type": "perspective", "perspective": {"yfov": 0.6, "aspectRatio": 1.5, "znear": 0.1}}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "min": [0, 0, 0], "max": [1, 1, 0]},
            {"bufferView": 1, "componentType": 5125, "count": 3, "type": "SCALAR"},
        ],
        "bufferViews": [{"buffer": 0, "byteOffset": 0, "byteLength": 36}, {"buffer": 0, "byteOffset": 36, "byteLength": 12}],
        "buffers": [{"byteLength": 48}],
    }  # fmt: skip
    text = json.dumps(header).encode()
    text += b" " * (-len(text) % 4)
    body = points + faces
    total = 12 + 8 + len(text) + 8 + len(body)
    path.write_bytes(
        struct.pack("<4sII", b"glTF", 2, total)
        + struct.pack("<I4s", len(text), b"JSON") + text
        + struct.pack("<I4s", len(body), b"BIN\0") + body
    )  # fmt: skip
    return path


def test_a_camera_of_gltf_keeps_its_angle_and_place(tmp_path):
    scene = load_scene(glb_with_camera(tmp_path / "eye.glb"))
    source = scene.cameras[0]
    height, focal = source.height_mm.values[0, 0], source.focal_mm.values[0, 0]
    assert 2 * np.arctan(height / 2 / focal) == pytest.approx(0.6, abs=1e-6)
    assert source.width_mm.values[0, 0] / height == pytest.approx(1.5, rel=1e-3)
    np.testing.assert_allclose(scene.world(source.node, [0.0])[0, :3, 3], [0, 0, 4])


def test_textures_that_cannot_be_read_are_grey_and_told(tmp_path):
    (tmp_path / "bad.png").write_bytes(b"not a picture")
    block, warnings = pack(
        [Texture("good", pixels=np.zeros((2, 3, 3), np.uint8)), Texture("bad", path=tmp_path / "bad.png")]
    )
    assert block.sizes.tolist() == [[0, 3, 2], [6, 1, 1]]
    assert "bad" in warnings[0]
    assert decode(Texture("none", path=tmp_path / "none.png")) is None


@given(st.lists(st.floats(-50, 50), min_size=2, max_size=6), st.floats(-5, 20))
def test_tracks_are_linear_and_held(values, frame):
    times = np.arange(len(values)) * 2.0
    track = Track(times, np.array(values)[:, None])
    assert track.at(frame)[0, 0] == pytest.approx(np.interp(frame, times, values), abs=1e-9)


def test_quaternions_turn_the_short_way():
    half = np.sqrt(0.5)
    track = Track(np.array([0.0, 1.0]), np.array([[1.0, 0, 0, 0], [-half, 0, -half, 0]]))
    got = track.slerp_at([0.5])[0]
    assert abs(got @ [np.cos(np.pi / 8), 0, np.sin(np.pi / 8), 0]) == pytest.approx(1)


def test_a_pose_loses_scale_but_not_direction():
    turn = np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn))
    pose = np.eye(4)
    pose[:3, :3] = turn * 0.01
    np.testing.assert_allclose(rigid(pose)[:3, :3], turn, atol=1e-12)


def test_usd_attributes_of_kobrels_own_win(tmp_path):
    stage = new_stage(tmp_path / "k.usda")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    camera = UsdGeom.Camera.Define(stage, "/cam")
    camera.CreateFocalLengthAttr(51.0)
    camera.GetPrim().CreateAttribute("kobrel:focalMm", Sdf.ValueTypeNames.Double).Set(50.0)
    camera.GetPrim().CreateAttribute("kobrel:lensModel", Sdf.ValueTypeNames.Token).Set("thin")
    camera.GetPrim().CreateAttribute("kobrel:irisBlades", Sdf.ValueTypeNames.Int).Set(9)
    stage.Save()
    source = load_scene(tmp_path / "k.usda").cameras[0]
    assert (source.focal_mm.values[0, 0], source.model, source.iris.blades) == (50, "thin", 9)
