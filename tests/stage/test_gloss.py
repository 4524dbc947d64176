"""Roughness and metal as files have them."""

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from pxr import Sdf, Usd, UsdGeom, UsdShade

from kobrel.stage.read.load import load_scene
from kobrel.stage.read.sanitising import sanitise
from kobrel.stage.scene import Material, Node, Scene
from kobrel.stage.shapes import box
from tests.stage.gltf_files import GltfFile

CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
FACE = np.array([0, 1, 2], np.uint32)


def of(scene):
    return next(node.materials[0] for node in scene.nodes if node.mesh is not None)


def usd_file(path, set_inputs):
    stage = Usd.Stage.CreateNew(str(path))
    mesh = UsdGeom.Mesh.Define(stage, "/m")
    mesh.CreatePointsAttr([tuple(map(float, p)) for p in CORNERS])
    mesh.CreateFaceVertexCountsAttr([3])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2])
    material = UsdShade.Material.Define(stage, "/look")
    shader = UsdShade.Shader.Define(stage, "/look/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    set_inputs(stage, shader)
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
    stage.Save()
    return of(load_scene(path))


def test_numbers_of_usd_and_what_is_left_unsaid(tmp_path):
    def given(_stage, shader):
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(0.2)
        shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(0.75)

    material = usd_file(tmp_path / "a.usda", given)
    assert (material.rough, material.metal) == pytest.approx((0.2, 0.75))
    material = usd_file(tmp_path / "b.usda", lambda *_: None)
    assert (material.rough, material.metal, material.gloss_texture) == (0.5, 0.0, None)


@pytest.mark.parametrize("channels", ["gb", "g", "r"])
def test_a_picture_of_usd_counts_where_it_has_gloss_in_green_and_blue(tmp_path, channels):
    Image.new("RGB", (4, 4), (0, 128, 255)).save(tmp_path / "gloss.png")

    def given(stage, shader):
        texture = UsdShade.Shader.Define(stage, "/look/gloss")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set("gloss.png")
        for channel, entry in zip(channels, ("roughness", "metallic"), strict=False):
            texture.CreateOutput(channel, Sdf.ValueTypeNames.Float)
            target = shader.CreateInput(entry, Sdf.ValueTypeNames.Float)
            target.ConnectToSource(texture.ConnectableAPI(), channel)

    material = usd_file(tmp_path / "a.usda", given)
    if channels == "r":
        assert (material.rough, material.gloss_texture) == (0.5, None)
    else:
        assert material.gloss_texture is not None
        assert (material.rough, material.metal) == (1.0, 1.0 if channels == "gb" else 0.0)


def test_a_picture_of_metal_that_is_not_there_makes_nothing_metal(tmp_path):
    def given(stage, shader):
        texture = UsdShade.Shader.Define(stage, "/look/gloss")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set("lost.png")
        for channel, entry in (("g", "roughness"), ("b", "metallic")):
            texture.CreateOutput(channel, Sdf.ValueTypeNames.Float)
            target = shader.CreateInput(entry, Sdf.ValueTypeNames.Float)
            target.ConnectToSource(texture.ConnectableAPI(), channel)

    material = usd_file(tmp_path / "a.usda", given)
    assert (material.rough, material.metal, material.gloss_texture) == (0.5, 0.0, None)
    assert any("gloss" in warning for warning in load_scene(tmp_path / "a.usda").warnings)


def test_factors_and_the_picture_of_gltf(tmp_path):
    file = GltfFile()
    file.json["materials"] = [
        {"pbrMetallicRoughness": {"metallicFactor": 0.25, "roughnessFactor": 0.4}},
        {"pbrMetallicRoughness": {}},
        {"extensions": {"KHR_materials_unlit": {}}},
    ]
    for number in range(3):
        mesh = file.mesh(CORNERS, FACE)
        file.json["meshes"][mesh]["primitives"][0]["material"] = number
        file.node(mesh=mesh)
    scene = load_scene(file.write(tmp_path / "a.gltf"))
    looks = [node.materials[0] for node in scene.nodes if node.mesh is not None]
    assert [(m.rough, m.metal) for m in looks] == [(0.4, 0.25), (1.0, 1.0), (1.0, 0.0)]


@pytest.mark.parametrize(("exponent", "rough"), [(10.0, 0.639), (1000.0, 0.211), (0.0, Material.rough)])
def test_an_exponent_of_obj_is_a_roughness(tmp_path, exponent, rough):
    (tmp_path / "a.mtl").write_text(f"newmtl m\nKd 0.5 0.5 0.5\nNs {exponent}\n")
    (tmp_path / "a.obj").write_text("mtllib a.mtl\nusemtl m\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    assert of(load_scene(tmp_path / "a.obj")).rough == pytest.approx(rough, abs=2e-3)


@pytest.mark.parametrize("number", [float("nan"), float("inf"), -3.0, 7.0])
def test_the_gate_keeps_gloss_within_bounds(number):
    node = Node("/m", mesh=box(), materials=(Material("m", rough=number, metal=number),))
    material = of(sanitise(Scene(Path("s"), (node,))))
    assert 0.0 <= material.rough <= 1.0
    assert 0.0 <= material.metal <= 1.0
