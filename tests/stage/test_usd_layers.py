"""What a USD file draws in: by every arc only what may be read, and one damaged layer costs itself alone."""

import os

import pytest
from pxr import Sdf, Usd, Vt

from kobrel import trust
from kobrel.errors import SceneError
from kobrel.stage.read.load import load_scene
from kobrel.stage.read.usd import unfolding

CUBE = 'def Cube "{0}" {{\ndouble size = 2\n}}\n'


@pytest.fixture
def rooms(tmp_path, monkeypatch):
    """A folder that is opened, and one beside it that is not trusted; paths that `trust` was asked for."""
    monkeypatch.setattr(trust, "_ALLOWED", set())
    scene, secret = tmp_path / "scene", tmp_path / "secret"
    for folder in (scene, secret):
        folder.mkdir()
        (folder / "part.usda").write_text('#usda 1.0\n(defaultPrim = "Part")\n' + CUBE.format("Part"))
    return scene, secret


def write(path, text, head=""):
    path.write_text(f"#usda 1.0\n({head})\n{text}")
    return path


def paths_of(scene):
    return {node.path for node in scene.nodes if node.mesh is not None}


ARCS = {
    "layer below": ("", "subLayers = [@{0}@]"),
    "reference": ('def "A" (references = @{0}@) {{\n}}', ""),
    "payload": ('def "A" (payload = @{0}@) {{\n}}', ""),
    "variant": (
        'def "A" (\nvariants = {{\nstring v = "no"\n}}\nprepend variantSets = "v"\n) {{\nvariantSet "v" = {{\n'
        '"no" {{\n}}\n"yes" (references = @{0}@) {{\n}}\n}}\n}}', "",
    ),
    "reference within": ('def "A" (references = @./chain.usda@</C>) {{\n}}', ""),
    "variable": ('def "A" (references = @`"${{WHERE}}"`@) {{\n}}', 'expressionVariables = {{ string WHERE = "{0}" }}'),
}  # fmt: skip


@pytest.mark.parametrize("arc", ARCS)
@pytest.mark.parametrize("what", ["allowed", "secret", "pipe", "link", "damaged"])
def test_by_every_arc_only_what_may_be_read_is_drawn_in(rooms, arc, what):
    scene, secret = rooms
    target = "./part.usda"
    if what == "secret":
        target = "../secret/part.usda"
    elif what == "pipe":
        os.mkfifo(scene / "pipe.usda")
        target = "./pipe.usda"
    elif what == "link":
        (scene / "link.usda").symlink_to(secret / "part.usda")
        target = "./link.usda"
    elif what == "damaged":
        (scene / "bad.usda").write_text("#usda 1.0\ndef Cube {{{")
        target = "./bad.usda"
    write(scene / "chain.usda", f'def "C" (references = @{target}@) {{\n}}\n')
    text, head = ARCS[arc]
    path = write(scene / "root.usda", CUBE.format("Own") + text.format(target) + "\n", head.format(target))
    opened = []
    loaded = load_scene(path)
    found = Sdf.Layer.GetLoadedLayers()
    opened = {layer.realPath for layer in found}
    assert "/Own" in paths_of(loaded)
    told = [line for line in loaded.warnings if "skipped" in line]
    if what == "allowed":
        assert told == []
        assert len(paths_of(loaded)) == (1 if arc == "variant" else 2)
        return
    assert paths_of(loaded) == {"/Own"}
    assert str(secret / "part.usda") not in opened
    why = {"secret": "another folder", "link": "another folder", "pipe": "not a file", "damaged": "damaged"}[
        what
    ]
    assert len(told) == 1
    assert why in told[0]
    assert target.rsplit("/", 1)[-1] in told[0]


def clipped(path, clips):
    """A sphere whose radius comes from value clips; a stage would open them."""
    layer = Sdf.Layer.CreateNew(str(path))
    layer.startTimeCode, layer.endTimeCode = 1, 3
    prim = Sdf.CreatePrimInLayer(layer, "/Ball")
    prim.specifier, prim.typeName = Sdf.SpecifierDef, "Sphere"
    prim.SetInfo("clips", {"default": clips})
    layer.Save()
    return path


def clip(path, radius):
    stage = Usd.Stage.CreateNew(str(path))
    stage.DefinePrim("/Ball").CreateAttribute("radius", Sdf.ValueTypeNames.Double).Set(radius, 1)
    stage.GetRootLayer().Save()


@pytest.mark.parametrize("by", ["list", "template"])
@pytest.mark.parametrize("what", ["allowed", "secret", "pipe", "damaged"])
def test_value_clips_pass_the_gate_too(rooms, by, what):
    scene, secret = rooms
    folder = secret if what == "secret" else scene
    clip(folder / "clip.1.usda", 3.0)
    if what == "pipe":
        os.mkfifo(folder / "clip.2.usda")
    elif what == "damaged":
        (folder / "clip.2.usda").write_text("#usda 1.0\ndef {{{{")
    else:
        clip(folder / "clip.2.usda", 5.0)
    at = "../secret/clip." if what == "secret" else "./clip."
    clips = {"primPath": "/Ball"}
    if by == "list":
        assets = Sdf.AssetPathArray([Sdf.AssetPath(f"{at}{k}.usda") for k in (1, 2)])
        clips |= {"assetPaths": assets, "active": Vt.Vec2dArray([(1, 0), (2, 1)])}
    else:
        clips |= {
            "templateAssetPath": f"{at}#.usda", "templateStartTime": 1.0, "templateEndTime": 2.0,
            "templateStride": 1.0,
        }  # fmt: skip
    loaded = load_scene(clipped(scene / "root.usda", clips))
    layers = {layer.realPath for layer in Sdf.Layer.GetLoadedLayers()}
    if what == "allowed":
        assert not [line for line in loaded.warnings if "skipped" in line]
        return
    assert [line for line in loaded.warnings if "clip." in line and "skipped" in line]
    assert not [name for name in layers if name.startswith(str(secret))]


def test_what_is_allowed_later_is_there_when_the_scene_is_read_again(rooms):
    scene, secret = rooms
    path = write(scene / "root.usda", 'def "A" (references = @../secret/part.usda@) {\n}\n')
    first = load_scene(path)
    held = Usd.Stage.Open(str(path))  # somebody still reads from it
    assert paths_of(first) == set()
    assert path.read_text().count("secret") == 1  # nothing is written
    trust.allow([secret])
    assert paths_of(load_scene(path)) == {"/A"}
    assert held


def test_a_variable_with_several_meanings_is_left_out(rooms):
    scene, _secret = rooms
    write(
        scene / "other.usda",
        CUBE.format("B"),
        'expressionVariables = { string WHERE = "../secret/part.usda" }',
    )
    path = write(
        scene / "root.usda", CUBE.format("Own") + 'def "A" (references = @`"${WHERE}"`@) {\n}\n'
        'def "B" (references = @./other.usda@</B>) {\n}\n', 'expressionVariables = { string WHERE = "./part.usda" }',
    )  # fmt: skip
    loaded = load_scene(path)
    assert paths_of(loaded) == {"/Own", "/B"}
    assert [line for line in loaded.warnings if "more than one" in line]


def test_what_layers_below_unfold_to_counts(rooms, monkeypatch):
    scene, _secret = rooms
    monkeypatch.setattr(unfolding, "MOST_PRIMS", 2000)
    monkeypatch.setattr("kobrel.stage.read.usd.layers.MOST_PRIMS", 2000)
    write(scene / "l0.usda", CUBE.format("P"), 'defaultPrim = "P"')
    for k in range(1, 13):
        head = f'defaultPrim = "P"\nexpressionVariables = {{ string V{k} = "./l{k - 1}.usda" }}'
        text = (
            f'def "P" {{\ndef "a" (references = @`"${{V{k}}}"`@) {{\n}}\n'
            f'def "b" (references = @./l{k - 1}.usda@) {{\n}}\n}}\n'
        )
        write(scene / f"l{k}.usda", text, head)
    path = write(scene / "root.usda", "", "subLayers = [@./l12.usda@]")
    with pytest.raises(SceneError, match="unfold to more than"):
        load_scene(path)


@pytest.mark.parametrize("step", [1e-6, 0.0, -1.0, float("nan")])
def test_clips_that_a_rule_makes_too_many_of_are_left_out(rooms, step):
    scene, _secret = rooms
    clips = {"primPath": "/Ball", "templateAssetPath": "./c.#.usda", "templateStartTime": 1.0}
    below = scene / "below.usda"  # the rule stands in two layers
    clipped(below, {"templateEndTime": 1e9, "templateStride": step})
    path = clipped(scene / "root.usda", clips)
    layer = Sdf.Layer.FindOrOpen(str(path))
    layer.subLayerPaths.append("./below.usda")
    layer.Save()
    loaded = load_scene(path)
    assert [line for line in loaded.warnings if "value clips of /Ball" in line and "more than" in line]
