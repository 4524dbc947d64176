"""Surfaces, lights, cameras and finer shapes of USD."""

import math

import numpy as np
import pytest
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

from kobrel.stage.read.load import load_scene
from kobrel.stage.stage import Stage

from .test_scene_parts import SQUARE, new_stage
from .test_usd_alive import define_mesh, skinned_stage


def surface(stage, path, **inputs):
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, f"{path}/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    for name, value in inputs.items():
        kind = Sdf.ValueTypeNames.Float if isinstance(value, float) else Sdf.ValueTypeNames.Color3f
        shader.CreateInput(name, kind).Set(value)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    return material, shader


def textured(stage, path, file, output):
    texture = UsdShade.Shader.Define(stage, path)
    texture.CreateIdAttr("UsdUVTexture")
    texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(file)
    kind = Sdf.ValueTypeNames.Float if output in "ra" else Sdf.ValueTypeNames.Float3
    return texture, texture.CreateOutput(output, kind)


def bind(mesh, material):
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)


def test_opacity_by_number_and_by_texture(tmp_path):
    Image.new("RGBA", (2, 2), (255, 255, 255, 0)).save(tmp_path / "leaf.png")
    stage = new_stage(tmp_path / "o.usda")
    glass, _ = surface(stage, "/glass", opacity=0.25)
    leaf, shader = surface(stage, "/leaf", opacityThreshold=0.5)
    texture, output = textured(stage, "/leaf/picture", "leaf.png", "a")
    shader.CreateInput("opacity", Sdf.ValueTypeNames.Float).ConnectToSource(output)
    texture.CreateInput("scale", Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(0.5, 0.25, 1, 1))
    colour = texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(colour)
    bind(define_mesh(stage, "/a"), glass)
    bind(define_mesh(stage, "/b"), leaf)
    shown = define_mesh(stage, "/c")
    shown.CreateDisplayOpacityAttr([0.5])
    stage.Save()
    first, second, third = (node.materials[0] for node in load_scene(tmp_path / "o.usda").nodes if node.mesh)
    assert first.cutout.opacity == pytest.approx(0.25)
    assert (second.cutout.channel, second.cutout.cutoff) == ("alpha", 0.5)
    assert second.base == (0.5, 0.25, 1.0)
    assert third.cutout.opacity == 0.5


def test_display_colours_that_differ_are_kept_at_the_corners(tmp_path):
    stage = new_stage(tmp_path / "d.usda")
    mesh = define_mesh(stage, "/m")
    mesh.CreateDisplayColorPrimvar("vertex").Set(Vt.Vec3fArray([Gf.Vec3f(k / 3, 0, 1) for k in range(4)]))
    stage.Save()
    node = load_scene(tmp_path / "d.usda").nodes[0]
    assert node.materials[0].base == (1, 1, 1)
    red = node.mesh.colours[..., 0]
    linear = np.where(red / 255 <= 0.04045, red / 255 / 12.92, ((red / 255 + 0.055) / 1.055) ** 2.4)
    np.testing.assert_allclose(linear, [[0, 1 / 3, 2 / 3], [0, 2 / 3, 1]], atol=0.005)


@pytest.mark.parametrize("scale", [1.0, 0.001])
@pytest.mark.parametrize("kind", ["SphereLight", "DiskLight", "RectLight", "CylinderLight"])
def test_normalised_lights_keep_their_power_at_every_size(tmp_path, kind, scale):
    stage = new_stage(tmp_path / "l.usda")
    light = getattr(UsdLux, kind).Define(stage, "/lamp")
    light.CreateIntensityAttr(5.0)
    light.CreateNormalizeAttr(True)
    light.AddScaleOp().Set(Gf.Vec3f(scale))
    stage.Save()
    scene = load_scene(tmp_path / "l.usda")
    mesh, material = scene.nodes[0].mesh, scene.nodes[0].materials[0]
    corners = mesh.points[mesh.triangles].astype(float) * scale
    sides = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(sides, axis=1).sum() / 2
    if kind == "CylinderLight":
        area -= 2 * math.pi * (0.5 * scale) ** 2  # its ends are not counted
    assert material.emission[0] * area == pytest.approx(5.0, rel=0.02)


def test_a_small_bulb_keeps_its_size_and_one_of_none_its_power(tmp_path):
    stage = new_stage(tmp_path / "b.usda")
    bulb = UsdLux.SphereLight.Define(stage, "/bulb")
    bulb.CreateRadiusAttr(0.00014)
    bulb.CreateIntensityAttr(3.0)
    point = UsdLux.SphereLight.Define(stage, "/point")
    point.CreateRadiusAttr(0.0)
    point.CreateIntensityAttr(2.0)
    stage.Save()
    first, second = load_scene(tmp_path / "b.usda").nodes
    assert np.ptp(first.mesh.points[:, 0]) / 2 == pytest.approx(0.00014, rel=1e-3)
    assert first.materials[0].emission == (3, 3, 3)
    radius = np.ptp(second.mesh.points[:, 0]) / 2
    assert second.materials[0].emission[0] * 4 * math.pi * radius**2 == pytest.approx(2.0, rel=1e-3)


def test_the_brightest_far_light_and_dome_light_the_scene(tmp_path):
    Image.new("RGB", (8, 4), (10, 20, 30)).save(tmp_path / "sky.png")
    stage = new_stage(tmp_path / "f.usda")
    weak, sun = UsdLux.DistantLight.Define(stage, "/weak"), UsdLux.DistantLight.Define(stage, "/sun")
    weak.CreateIntensityAttr(1.0)
    sun.CreateIntensityAttr(7.0)
    sun.CreateNormalizeAttr(True)
    sun.CreateColorAttr(Gf.Vec3f(1, 0.5, 0))
    sun.AddRotateXOp().Set(-90.0)
    dome = UsdLux.DomeLight.Define(stage, "/dome")
    dome.CreateTextureFileAttr("sky.png")
    dome.CreateExposureAttr(2.0)
    dome.AddRotateYOp().Set(40.0)
    stage.Save()
    scene = load_scene(tmp_path / "f.usda")
    np.testing.assert_allclose(scene.light.toward, [0, 1, 0], atol=1e-6)
    np.testing.assert_allclose(scene.light.colour, np.array([7, 3.5, 0]) / math.pi)
    assert scene.light.about == (4, 4, 4)
    assert scene.light.picture.name == "sky.png"
    assert scene.light.turn_deg % 360 == pytest.approx(220.0)
    assert any("/weak" in warning for warning in scene.warnings)


def test_a_shifted_lens_is_read(tmp_path):
    stage = new_stage(tmp_path / "s.usda")
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    camera = UsdGeom.Camera.Define(stage, "/c")
    camera.CreateHorizontalApertureAttr(36.0)
    camera.CreateVerticalApertureAttr(24.0)
    camera.CreateHorizontalApertureOffsetAttr(4.5)
    camera.CreateVerticalApertureOffsetAttr(-3.0)
    camera.CreateClippingRangeAttr(Gf.Vec2f(7, 900))
    stage.Save()
    source = load_scene(tmp_path / "s.usda").cameras[0]
    assert source.shift_mm == pytest.approx((4.5, -3.0))
    assert (source.near_clip_m, source.far_clip_m) == (pytest.approx(0.07), pytest.approx(9.0))


CUBE = (
    [[-1, -1, -1], [1, -1, -1], [1, 1, -1], [-1, 1, -1], [-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1]],
    [4] * 6,
    [0, 3, 2, 1, 4, 5, 6, 7, 0, 1, 5, 4, 2, 3, 7, 6, 1, 2, 6, 5, 0, 4, 7, 3],
)


def test_subdivision_agrees_with_the_rules(tmp_path):
    stage = new_stage(tmp_path / "c.usda")
    define_mesh(stage, "/cube", *CUBE)
    open_edge = define_mesh(stage, "/sheet")
    UsdGeom.Xformable(open_edge.GetPrim()).AddTranslateOp().Set(Gf.Vec3d(9, 0, 0))
    stage.Save()
    scene = load_scene(tmp_path / "c.usda", choices=(("subdivision", "1 level"),))
    cube, sheet = (node.mesh for node in scene.nodes)
    assert len(cube.triangles) == 48
    # The corner: (F + 2 R + (n - 3) P) / n, with n = 3: faces' middles, edges' middles.
    faces, edges = np.array([1, 1, 1]) / 3, np.array([2, 2, 2]) / 3
    np.testing.assert_allclose(cube.points[6], (faces + 2 * edges) / 3, atol=1e-6)
    assert np.abs(cube.points).max() == pytest.approx(1.0)
    middles = cube.points[8:20]  # edge points: ends and the two faces' middles
    np.testing.assert_allclose(np.sort(np.abs(middles), axis=1), np.tile([0, 0.75, 0.75], (12, 1)), atol=1e-6)
    corner = sheet.points[0]  # on a border: (6 P + neighbours) / 8
    np.testing.assert_allclose(corner, (np.array(SQUARE[0]) * 6 + SQUARE[1] + SQUARE[3]) / 8)
    assert scene.choices[-1].options == ("cage", "1 level", "2 levels")
    assert sheet.deformation is None
    twice = load_scene(tmp_path / "c.usda", choices=(("subdivision", "2 levels"),)).nodes[0].mesh
    assert len(twice.triangles) == 192
    smooth = np.linalg.norm(twice.points, axis=1)
    assert smooth.max() / smooth.min() < np.sqrt(3) * 0.8


def test_a_skin_is_bent_before_it_is_refined(tmp_path):
    skinned_stage(tmp_path / "s.usda", 3)
    cage = load_scene(tmp_path / "s.usda")
    fine = load_scene(tmp_path / "s.usda", choices=(("subdivision", "1 level"),))
    index = cage.find("/Body/skin")
    rough, smooth = cage.nodes[index].mesh.deformation, fine.nodes[index].mesh.deformation
    points = rough.points(5.0)
    np.testing.assert_allclose(smooth.points(5.0), smooth.refined @ points, atol=1e-4)
    np.testing.assert_allclose(smooth.some([5.0], [100, 3])[0], smooth.points(5.0)[[100, 3]], atol=1e-4)


def test_a_file_read_anew_while_its_scene_is_in_use_is_the_new_one(tmp_path):
    path = tmp_path / "a.usda"
    for size in (1.0, 2.0):
        stage = Usd.Stage.CreateInMemory()
        UsdGeom.Sphere.Define(stage, "/ball").CreateRadiusAttr(size)
        stage.Export(str(path))
        scene = load_scene(path)
        assert Stage([("s", scene)]).bounds()[1][0] == pytest.approx(size * 1.0 * scene.unit_m, rel=1e-3)
