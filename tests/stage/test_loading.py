import numpy as np
import pytest
import trimesh
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdUtils, Vt

from kobrel.errors import SceneError
from kobrel.stage.read.checks import fan_corners, mesh_fault
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Cancelled
from tests.conftest import write_mesh

SQUARE = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]


def test_units_and_axes_become_metres_with_y_up(moving_scene):
    scene = load_scene(moving_scene)
    assert (scene.unit_m, scene.up, scene.fps) == (0.01, "Z", 25)
    assert (scene.first_frame, scene.last_frame) == (1, 11)
    world = scene.world(scene.find("/Rig/Cube"), [1.0])[0]
    np.testing.assert_allclose(world[:3, 3], [0, 0, -1], atol=1e-12)
    np.testing.assert_allclose(world[:3, 2] / 0.01, [0, 1, 0], atol=1e-12)


def test_transforms_agree_with_usd_at_any_frame(moving_scene):
    scene = load_scene(moving_scene)
    stage = Usd.Stage.Open(str(moving_scene))
    frames = np.array([1.0, 3.25, 7.5, 11.0])
    for path in ("/Rig/Cube", "/Camera"):
        got = np.broadcast_to(scene.world(scene.find(path), frames), (4, 4, 4))
        for frame, matrix in zip(frames, got, strict=True):
            cache = UsdGeom.XformCache(Usd.TimeCode(frame))
            usd = np.array(cache.GetLocalToWorldTransform(stage.GetPrimAtPath(path))).T
            np.testing.assert_allclose(np.linalg.inv(scene.root) @ matrix, usd, atol=1e-6)


@pytest.mark.parametrize(
    "add",
    [
        lambda x: x.AddOrientOp().Set(Gf.Quatf(0.8, 0.2, 0.4, 0.4).GetNormalized()),
        lambda x: x.AddRotateZYXOp().Set(Gf.Vec3f(10, 20, 30)),
        lambda x: x.AddRotateYXZOp().Set(Gf.Vec3f(10, 20, 30)),
        lambda x: x.AddScaleOp().Set(Gf.Vec3f(1, 2, -3)),
        lambda x: x.AddTransformOp().Set(Gf.Matrix4d().SetTranslate(Gf.Vec3d(3, 4, 5))),
        lambda x: x.AddRotateYOp().Set(35.0),
    ],
)
def test_every_kind_of_transform_step(tmp_path, add):
    path = tmp_path / "steps.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    xform = UsdGeom.Xform.Define(stage, "/x")
    pivot = xform.AddTranslateOp(opSuffix="pivot")
    pivot.Set(Gf.Vec3d(1, 2, 3))
    add(xform)
    xform.AddTranslateOp(opSuffix="pivot", isInverseOp=True)
    stage.Save()
    expected = np.array(UsdGeom.XformCache().GetLocalToWorldTransform(stage.GetPrimAtPath("/x"))).T
    np.testing.assert_allclose(load_scene(path).world(0, [0.0])[0], expected, atol=1e-6)


def test_reset_of_the_transform_stack(tmp_path):
    path = tmp_path / "reset.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    UsdGeom.Xform.Define(stage, "/a").AddTranslateOp().Set(Gf.Vec3d(9, 9, 9))
    child = UsdGeom.Xform.Define(stage, "/a/b")
    child.AddTranslateOp().Set(Gf.Vec3d(1, 0, 0))
    child.SetResetXformStack(True)
    stage.Save()
    scene = load_scene(path)
    np.testing.assert_allclose(scene.world(scene.find("/a/b"), [0.0])[0, :3, 3], [1, 0, 0])


def test_polygons_fan_into_triangles():
    counts = np.array([3, 4, 5])
    assert fan_corners(counts).tolist() == [
        [0, 1, 2],
        [3, 4, 5],
        [3, 5, 6],
        [7, 8, 9],
        [7, 9, 10],
        [7, 10, 11],
    ]
    assert fan_corners(np.array([2, 3, 1])).tolist() == [[2, 3, 4]]


def test_quads_and_left_handed_faces(tmp_path):
    path = write_mesh(tmp_path / "quad.usda", SQUARE, [4], [0, 1, 2, 3])
    mesh = load_scene(path).nodes[0].mesh
    assert mesh.triangles.tolist() == [[0, 1, 2], [0, 2, 3]]
    stage = Usd.Stage.Open(str(path))
    UsdGeom.Mesh(stage.GetPrimAtPath("/mesh")).CreateOrientationAttr(UsdGeom.Tokens.leftHanded)
    stage.Save()
    assert load_scene(path).nodes[0].mesh.triangles.tolist() == [[2, 1, 0], [3, 2, 0]]


@pytest.mark.parametrize(
    ("points", "counts", "indices", "reason"),
    [
        (SQUARE, [3], [0, 1, 7], "vertex 7 of 4"),
        (SQUARE, [3], [0, 1, -1], "vertex -1 of 4"),
        (SQUARE, [3, 3], [0, 1, 2], "6 corners but 3"),
        ([], [], [], "empty"),
        ([[0, 0, 0], [1, np.nan, 0], [1, 1, 0]], [3], [0, 1, 2], "not numbers"),
        ([[0, 0, 0], [1, np.inf, 0], [1, 1, 0]], [3], [0, 1, 2], "not numbers"),
    ],
)
def test_a_bad_mesh_is_left_out_by_name(tmp_path, points, counts, indices, reason):
    path = write_mesh(tmp_path / "bad.usda", np.reshape(points, (-1, 3)), counts, indices)
    scene = load_scene(path)
    assert scene.triangle_count == 0
    assert any("/mesh" in warning and reason in warning for warning in scene.warnings)


def test_large_but_finite_points_are_no_fault():
    points = np.full((4, 3), 3e38, np.float32)
    assert mesh_fault(points, np.array([0, 1, 2], np.int32)) is None


def test_a_zero_scale_is_left_out_by_name(tmp_path):
    path = write_mesh(tmp_path / "flat.usda", SQUARE, [4], [0, 1, 2, 3])
    stage = Usd.Stage.Open(str(path))
    UsdGeom.Xformable(stage.GetPrimAtPath("/mesh")).AddScaleOp().Set(Gf.Vec3f(1, 0, 1))
    stage.Save()
    scene = load_scene(path)
    assert scene.triangle_count == 0
    assert "/mesh: skipped, its transform is degenerate." in scene.warnings


def test_a_missing_reference_is_told_and_the_rest_is_there(tmp_path, capfd):
    path = write_mesh(tmp_path / "refs.usda", SQUARE, [4], [0, 1, 2, 3])
    stage = Usd.Stage.Open(str(path))
    stage.DefinePrim("/gone").GetReferences().AddReference("./nowhere.usda")
    stage.Save()
    capfd.readouterr()
    scene = load_scene(path)
    assert scene.triangle_count == 2
    assert any("nowhere.usda" in warning for warning in scene.warnings)
    assert capfd.readouterr().err == ""


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("empty.usda", b"", "file is empty"),
        ("broken.usda", b"#usda 1.0\ndef Mesh {{{", "not readable as USD"),
        ("broken.usdc", b"PXR-USDC but not really", "not readable as USD"),
        ("broken.glb", b"glTF nonsense", "breaks off"),
        ("broken.stl", b"solid nothing at all", "no mesh is in it|not readable|empty"),
        ("scene.xyz", b"1 2 3", "not a kind of scene"),
    ],
)
def test_a_broken_file_is_a_clear_error_that_names_it(tmp_path, name, content, message):
    path = tmp_path / name
    path.write_bytes(content)
    try:
        scene = load_scene(path)
    except SceneError as error:
        assert name in str(error)
        assert any(part in str(error) for part in message.split("|"))
    else:
        assert scene.triangle_count == 0


@pytest.mark.parametrize("seed", range(12))
def test_a_damaged_file_is_an_error_or_a_warning_never_a_crash(tmp_path, seed, moving_scene):
    """Bytes changed or cut off at random, in text and in binary."""
    random = np.random.default_rng(seed)
    binary = tmp_path / "whole.usdc"
    Usd.Stage.Open(str(moving_scene)).Export(str(binary))
    for source in (moving_scene, binary):
        content = bytearray(source.read_bytes())
        for _ in range(int(random.integers(1, 12))):
            content[int(random.integers(len(content)))] = int(random.integers(256))
        if seed % 3 == 0:
            content = content[: int(random.integers(len(content)))]
        damaged = tmp_path / f"damaged{source.suffix}"
        damaged.write_bytes(bytes(content))
        try:
            scene = load_scene(damaged)
        except SceneError as error:
            assert "damaged" in str(error)
        else:
            assert all(isinstance(warning, str) for warning in scene.warnings)


def test_a_missing_file_is_named(tmp_path):
    with pytest.raises(SceneError, match=r"nothing\.usd: no such file"):
        load_scene(tmp_path / "nothing.usd")


def test_loading_can_be_cancelled(moving_scene):
    def stop(_what, _part):
        raise Cancelled("enough")

    with pytest.raises(Cancelled):
        load_scene(moving_scene, progress=stop)


def camera_file(path, unit, focal, width, height, **more):
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, unit)
    camera = UsdGeom.Camera.Define(stage, "/cam")
    camera.CreateFocalLengthAttr(focal)
    camera.CreateHorizontalApertureAttr(width)
    camera.CreateVerticalApertureAttr(height)
    camera.CreateFStopAttr(more.get("stop", 4.0))
    camera.CreateFocusDistanceAttr(more.get("focus", 5.0))
    stage.Save()
    return load_scene(path)


def test_camera_lengths_are_tenths_of_the_scene_unit(tmp_path):
    for unit, part in ((0.01, 1.0), (1.0, 0.01), (0.001, 10.0)):
        scene = camera_file(tmp_path / f"{unit}.usda", unit, 50 * part, 36 * part, 24 * part)
        source = scene.cameras[0]
        assert source.focal_mm.values[0, 0] == pytest.approx(50)
        assert source.width_mm.values[0, 0] == pytest.approx(36)
        assert source.focus_m.values[0, 0] == pytest.approx(5 * unit)
        assert scene.warnings == ()


def test_millimetres_in_a_scene_of_metres_are_understood_with_a_warning(tmp_path):
    scene = camera_file(tmp_path / "mm.usda", 1.0, 50, 36, 24)
    assert scene.cameras[0].focal_mm.values[0, 0] == 50
    assert scene.cameras[0].height_mm.values[0, 0] == 24
    assert "/cam" in scene.warnings[0]
    assert "millimetres" in scene.warnings[0]


def test_a_senseless_sensor_is_replaced_with_a_warning(tmp_path):
    scene = camera_file(tmp_path / "none.usda", 0.01, 50, 0, 0, stop=0.0)
    assert scene.cameras[0].width_mm.values[0, 0] == 36
    assert "makes no sense" in scene.warnings[0]
    assert "f-number" in scene.warnings[1]


def textured(tmp_path, value="wood.png"):
    from PIL import Image

    Image.new("RGB", (4, 2), (255, 0, 0)).save(tmp_path / "wood.png")
    path = write_mesh(tmp_path / "tex.usda", SQUARE, [4], [0, 1, 2, 3])
    stage = Usd.Stage.Open(str(path))
    prim = stage.GetPrimAtPath("/mesh")
    primvar = UsdGeom.PrimvarsAPI(prim).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "vertex")
    primvar.Set(Vt.Vec2fArray([(0, 0), (1, 0), (1, 1), (0, 1)]))
    material = UsdShade.Material.Define(stage, "/mat")
    shader = UsdShade.Shader.Define(stage, "/mat/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    shader.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(1, 2, 3))
    texture = UsdShade.Shader.Define(stage, "/mat/texture")
    texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(value)
    texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(
        texture.ConnectableAPI(), "rgb"
    )
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(prim).Bind(material)
    stage.Save()
    return path


def test_materials_with_textures_and_emission(tmp_path):
    node = load_scene(textured(tmp_path)).nodes[0]
    assert node.materials[0].emission == (1, 2, 3)
    assert node.materials[0].base_texture.path.name == "wood.png"
    assert node.mesh.uv.shape == (2, 3, 2)


def test_a_missing_texture_is_told(tmp_path):
    scene = load_scene(textured(tmp_path, "lost.png"))
    assert any("lost.png" in warning for warning in scene.warnings)
    assert scene.nodes[0].materials[0].base_texture is None


def test_a_texture_inside_usdz(tmp_path):
    textured(tmp_path)
    packed = tmp_path / "packed.usdz"
    assert UsdUtils.CreateNewUsdzPackage(str(tmp_path / "tex.usda"), str(packed))
    texture = load_scene(packed).nodes[0].materials[0].base_texture
    assert texture.content[:8] == b"\x89PNG\r\n\x1a\n"


def test_faces_with_materials_of_their_own(tmp_path):
    path = write_mesh(
        tmp_path / "two.usda", [*SQUARE, [2, 0, 0], [2, 1, 0]], [4, 4], [0, 1, 2, 3, 1, 4, 5, 2]
    )
    stage = Usd.Stage.Open(str(path))
    UsdShade.Material.Define(stage, "/red")
    prim = stage.GetPrimAtPath("/mesh")
    subset = UsdShade.MaterialBindingAPI.Apply(prim).CreateMaterialBindSubset("right", [1])
    UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(UsdShade.Material.Get(stage, "/red"))
    stage.Save()
    node = load_scene(path).nodes[0]
    assert node.mesh.slots.tolist() == [0, 0, 1, 1]
    assert [material.name for material in node.materials] == ["default", "/red"]


@pytest.mark.parametrize("kind", ["obj", "ply", "stl", "glb", "gltf"])
def test_other_formats_through_trimesh(tmp_path, kind):
    path = tmp_path / f"box.{kind}"
    source = trimesh.creation.box((1, 2, 3))
    if kind == "gltf":
        for name, content in trimesh.exchange.gltf.export_gltf(trimesh.Scene(source)).items():
            (tmp_path / name).write_bytes(content)
        path = next(tmp_path.glob("*.gltf"))
    else:
        source.export(path)
    scene = load_scene(path).read_as(0.01, "Y")
    assert scene.triangle_count == 12
    node = next(i for i, node in enumerate(scene.nodes) if node.mesh is not None)
    low, high = scene.nodes[node].mesh.bounds()
    np.testing.assert_allclose(
        (high - low) * scene.world(node, [0.0])[0, 0, 0], [0.01, 0.02, 0.03], rtol=1e-5
    )


def test_a_format_without_a_unit_says_what_it_assumes(tmp_path):
    trimesh.creation.box().export(tmp_path / "box.obj")
    assert "does not say its unit" in load_scene(tmp_path / "box.obj").assumed[0]


def test_gltf_colours_are_linear(tmp_path):
    source = trimesh.creation.box()
    source.visual = trimesh.visual.TextureVisuals(
        material=trimesh.visual.material.PBRMaterial(
            baseColorFactor=[128, 0, 255, 255], emissiveFactor=[0.5, 0, 0]
        )
    )
    source.export(tmp_path / "c.glb")
    material = load_scene(tmp_path / "c.glb").nodes[0].materials[0]
    assert material.base == pytest.approx((128 / 255, 0, 1), abs=0.01)
    assert material.emission == pytest.approx((0.5, 0, 0), abs=0.01)


def test_sphere_lights_glow_as_balls(tmp_path):
    from pxr import UsdLux

    stage = Usd.Stage.CreateNew(str(tmp_path / "lamps.usda"))
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    plain = UsdLux.SphereLight.Define(stage, "/Plain")
    plain.CreateRadiusAttr(2.0)
    plain.CreateIntensityAttr(10.0)
    plain.CreateExposureAttr(1.0)
    plain.CreateColorAttr(Gf.Vec3f(1.0, 0.5, 0.25))
    plain.AddTranslateOp().Set(Gf.Vec3d(0, 100, -300))
    even = UsdLux.SphereLight.Define(stage, "/Even")
    even.CreateRadiusAttr(0.5)
    even.CreateIntensityAttr(np.pi)
    even.CreateNormalizeAttr(True)
    even.CreateEnableColorTemperatureAttr(True)
    even.CreateColorTemperatureAttr(2500.0)
    UsdLux.DistantLight.Define(stage, "/Sun")
    stage.Save()
    scene = load_scene(tmp_path / "lamps.usda")
    nodes = {node.path: node for node in scene.nodes}
    assert nodes["/Plain"].materials[0].emission == pytest.approx((20.0, 10.0, 5.0))
    assert np.ptp(nodes["/Plain"].mesh.points[:, 1]) == pytest.approx(4.0)
    red, green, blue = nodes["/Even"].materials[0].emission
    assert red > 1.0 > green > blue
    assert "/Sun" not in nodes or nodes["/Sun"].mesh is None
    from kobrel.stage.stage import Stage

    lamps = Stage([("lamps", scene)]).snapshot(1).emitters
    np.testing.assert_allclose(sorted(lamps.radii), [0.005, 0.02], rtol=0.02)
