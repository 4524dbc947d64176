import json

import numpy as np
import pytest
from PIL import Image
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, Slerp

from kobrel.errors import SceneError
from kobrel.stage.read.load import load_scene
from kobrel.stage.stage import Place, Stage

from .gltf_files import FACES, SQUARE, GltfFile


def by_path(scene):
    return {node.path: node for node in scene.nodes}


def test_paths_are_stable_where_names_are_missing_or_double(tmp_path):
    file = GltfFile()
    mesh = file.mesh()
    leaf = [
        file.node(mesh=mesh),
        file.node(name="eye", mesh=mesh),
        file.node(name="eye", camera=0),
        file.node(),
    ]
    file.json["cameras"] = [{"type": "perspective", "perspective": {"yfov": 0.5, "znear": 0.1}}]
    top = file.node(name="a/b", children=leaf)
    file.json["scenes"] = [{"nodes": [top]}]
    path = file.write(tmp_path / "n.glb")
    wanted = ["/a_b", "/a_b/#1", "/a_b/eye#1", "/a_b/eye#2", "/a_b/#4"]
    for _ in range(2):
        scene = load_scene(path)
        assert [node.path for node in scene.nodes] == wanted
        assert [camera.path for camera in scene.cameras] == ["/a_b/eye#2"]


def test_a_camera_without_aspect_and_an_orthographic_one(tmp_path):
    file = GltfFile()
    file.json["cameras"] = [
        {"type": "perspective", "perspective": {"yfov": 0.6, "znear": 0.5}},
        {"type": "orthographic", "orthographic": {"xmag": 3.0, "ymag": 1.5, "znear": 0.0, "zfar": 10.0}},
    ]
    file.node(camera=0)
    file.node(camera=1)
    first, second = load_scene(file.write(tmp_path / "c.glb")).cameras
    assert float(first.width_mm.values[0, 0] / first.height_mm.values[0, 0]) == pytest.approx(16 / 9)
    assert first.near_clip_m == 0.5
    assert (second.projection, second.field_m) == ("orthographic", 6.0)
    in_mm = load_scene(tmp_path / "c.glb").read_as(0.001, "Y").cameras
    assert (in_mm[0].near_clip_m, in_mm[1].field_m) == (0.0005, pytest.approx(0.006))


@pytest.mark.parametrize("way", ["LINEAR", "STEP", "CUBICSPLINE"])
def test_node_animation_agrees_with_its_formulas(tmp_path, way):
    random = np.random.default_rng(3)
    times = np.array([0.0, 0.5, 1.25])
    places = random.normal(size=(3, 3))
    turns = Rotation.random(3, random_state=4).as_quat()
    slopes = random.normal(size=(3, 2, 3))
    file = GltfFile()
    node = file.node(mesh=file.mesh(), scale=[2, 2, 2])
    if way == "CUBICSPLINE":
        values = np.stack([slopes[:, 0], places, slopes[:, 1]], axis=1).reshape(-1, 3)
        file.animate(node, "translation", times, values, way)
    else:
        file.animate(node, "translation", times, places, way)
        file.animate(node, "rotation", times, turns, way)
    scene = load_scene(file.write(tmp_path / "a.glb"))
    assert (scene.fps, scene.first_frame, scene.last_frame) == (24.0, 0, 30)
    seconds = np.array([0.0, 0.2, 0.5, 0.9, 1.25, 2.0])
    world = scene.world(0, seconds * 24)
    inside = np.minimum(seconds, 1.25)
    if way == "LINEAR":
        wanted = np.stack([np.interp(inside, times, places[:, k]) for k in range(3)], axis=1)
        flipped = (
            turns * np.where([1, *np.cumprod(np.sign(np.sum(turns[1:] * turns[:-1], axis=1)))], 1, 1)[:, None]
        )
        expected = Slerp(times, Rotation.from_quat(flipped))(inside).as_matrix() * 2
        np.testing.assert_allclose(world[:, :3, :3], expected, atol=1e-5)
    elif way == "STEP":
        which = np.searchsorted(times, inside, side="right") - 1
        wanted = places[which]
        np.testing.assert_allclose(
            world[:, :3, :3], Rotation.from_quat(turns[which]).as_matrix() * 2, atol=1e-5
        )
    else:
        wanted = np.empty((len(inside), 3))
        for low in range(2):
            part = CubicHermiteSpline(
                times[low : low + 2], places[low : low + 2], [slopes[low, 1], slopes[low + 1, 0]]
            )
            here = (inside >= times[low]) & (inside <= times[low + 1])
            wanted[here] = part(inside[here])
    np.testing.assert_allclose(world[:, :3, 3], wanted, atol=1e-5)


def random_skeleton(seed, joints=6):
    random = np.random.default_rng(seed)
    parents = [-1, *(int(random.integers(0, k)) for k in range(1, joints))]
    return random, parents


def skinned_file(seed):
    """A mesh of random points over random joints that turn and move, and what it must become."""
    random, parents = random_skeleton(seed)
    count = 40
    points = random.normal(size=(count, 3)).astype(np.float32)
    joints = random.integers(0, len(parents), (count, 4)).astype(np.uint8)
    weights = random.random((count, 4)).astype(np.float32)
    weights /= weights.sum(axis=1, keepdims=True)
    faces = random.integers(0, count, (50, 3)).astype(np.uint16)
    file = GltfFile()
    mesh = file.mesh(points, faces.ravel(), JOINTS_0=file.accessor(joints), WEIGHTS_0=file.accessor(weights))
    bind = random.normal(size=(len(parents), 4, 4)).astype(np.float32)
    bind[:, 3] = [0, 0, 0, 1]
    times = np.array([0.0, 1.0, 2.0])
    places, turns = random.normal(size=(len(parents), 3, 3)), []
    for parent in parents:
        file.node(name=f"j{parent}", children=[])
        turns.append(Rotation.random(3, random_state=random).as_quat())
    for index, parent in enumerate(parents):
        if parent >= 0:
            file.json["nodes"][parent]["children"].append(index)
        file.animate(index, "translation", times, places[index])
        file.animate(index, "rotation", times, turns[index])
    file.json["nodes"] = [{k: v for k, v in n.items() if v != []} for n in file.json["nodes"]]
    file.json["skins"] = [{
        "joints": list(range(len(parents))),
        "inverseBindMatrices": file.accessor(np.swapaxes(bind, 1, 2).reshape(-1, 16)),
    }]  # fmt: skip
    skin = file.node(name="body", mesh=mesh, skin=0, translation=[5, 5, 5])
    file.json["scenes"] = [{"nodes": [0, skin]}]

    def expected(sample):
        locals_ = np.tile(np.eye(4), (len(parents), 1, 1))
        for k in range(len(parents)):
            locals_[k, :3, :3] = Rotation.from_quat(turns[k][sample]).as_matrix()
            locals_[k, :3, 3] = places[k, sample]
        world = []
        for k, parent in enumerate(parents):
            world.append(locals_[k] if parent < 0 else world[parent] @ locals_[k])
        moved = np.einsum("jab,vb->jva", np.asarray(world) @ bind, np.c_[points, np.ones(count)])[..., :3]
        return sum(weights[:, k, None] * moved[joints[:, k], np.arange(count)] for k in range(4))

    return file, expected, faces


@pytest.mark.parametrize("seed", range(5))
def test_skins_agree_with_the_formula(tmp_path, seed):
    file, expected, _ = skinned_file(seed)
    scene = load_scene(file.write(tmp_path / "s.glb"))
    body = by_path(scene)["/body"]
    np.testing.assert_allclose(scene.world(scene.find("/body"), [0.0])[0], np.eye(4))
    for sample in range(3):
        wanted = expected(sample)
        found = body.mesh.deformation.points(24.0 * sample)
        assert np.abs(found - wanted).max() < 1e-5 * np.ptp(wanted)
        few = body.mesh.deformation.some([24.0 * sample], [3, 17, 3])[0]
        np.testing.assert_allclose(few, wanted[[3, 17, 3]], atol=1e-5 * np.ptp(wanted))


def test_morph_targets_with_moving_weights_and_sparse_ones(tmp_path):
    file = GltfFile()
    up, out = np.zeros((4, 3)), np.zeros((4, 3))
    up[2], out[:, 2] = (0, 2, 0), 1.0
    mesh = file.mesh(targets=(up, out))
    empty = {"componentType": 5126, "count": 4, "type": "VEC3", "sparse": {
        "count": 1,
        "indices": {"bufferView": file.view(np.array([2], np.uint16).tobytes()), "componentType": 5123},
        "values": {"bufferView": file.view(np.array([0, 2, 0], np.float32).tobytes())},
    }}  # fmt: skip
    file.json["accessors"].append(empty)
    file.json["meshes"][0]["primitives"][0]["targets"][0]["POSITION"] = len(file.json["accessors"]) - 1
    node = file.node(name="face", mesh=mesh)
    file.animate(node, "weights", [0, 1], [0.0, 0.0, 1.0, 0.5])
    face = load_scene(file.write(tmp_path / "m.glb")).nodes[0].mesh.deformation
    np.testing.assert_allclose(face.points(0.0), SQUARE)
    np.testing.assert_allclose(face.points(12.0), SQUARE + 0.5 * up + 0.25 * out)
    np.testing.assert_allclose(
        face.some([24.0, 48.0], [2])[:, 0], np.tile(SQUARE[2] + up[2] + 0.5 * out[2], (2, 1))
    )


def test_still_weights_of_a_node_count_before_those_of_its_mesh(tmp_path):
    file = GltfFile()
    mesh = file.mesh(targets=(np.ones((4, 3)),))
    file.json["meshes"][0]["weights"] = [0.5]
    file.node(mesh=mesh)
    file.node(mesh=mesh, weights=[0.25])
    first, second = load_scene(file.write(tmp_path / "w.glb")).nodes
    np.testing.assert_allclose(first.mesh.deformation.points(0), SQUARE + 0.5)
    np.testing.assert_allclose(second.mesh.deformation.points(0), SQUARE + 0.25)


def test_draco_is_unpacked(tmp_path):
    import DracoPy

    file = GltfFile(
        extensionsUsed=["KHR_draco_mesh_compression"], extensionsRequired=["KHR_draco_mesh_compression"]
    )
    packed = DracoPy.encode(SQUARE, FACES.reshape(-1, 3).astype(np.uint32), quantization_bits=14)
    ids = {a["attribute_type"]: a["unique_id"] for a in DracoPy.decode(packed).attributes}
    points = len(DracoPy.decode(packed).points)
    view = file.view(packed)
    file.json["accessors"] = [
        {"componentType": 5126, "count": points, "type": "VEC3"}, {"componentType": 5125, "count": 6, "type": "SCALAR"},
    ]  # fmt: skip
    said = {"KHR_draco_mesh_compression": {"bufferView": view, "attributes": {"POSITION": ids[0]}}}
    file.json["meshes"] = [
        {"primitives": [{"attributes": {"POSITION": 0}, "indices": 1, "extensions": said}]}
    ]
    file.node(mesh=0)
    path = file.write(tmp_path / "d.glb")
    mesh = load_scene(path).nodes[0].mesh
    corners = mesh.points[mesh.triangles].astype(float)
    area = (
        np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum()
        / 2
    )
    assert area == pytest.approx(1.0, abs=1e-3)
    file.content[file.json["bufferViews"][view]["byteOffset"]] ^= 0xFF
    bad = file.write(tmp_path / "bad.glb")
    with pytest.raises(SceneError, match="Draco cannot be unpacked"):
        load_scene(bad)


def test_meshopt_is_unpacked(tmp_path):
    import meshoptimizer

    file = GltfFile(
        extensionsUsed=["EXT_meshopt_compression"], extensionsRequired=["EXT_meshopt_compression"]
    )
    mesh = file.mesh(faces=FACES)
    for accessor, source, mode, stride in (
        (0, meshoptimizer.encode_vertex_buffer(SQUARE, 4, 12), "ATTRIBUTES", 12),
        (1, meshoptimizer.encode_index_buffer(FACES.astype(np.uint32), 6, 4), "TRIANGLES", 2),
    ):
        packed = file.json["bufferViews"][file.view(source)]
        said = {**packed, "byteStride": stride, "count": 4 if stride == 12 else 6, "mode": mode}
        file.json["bufferViews"][file.json["accessors"][accessor]["bufferView"]]["extensions"] = {
            "EXT_meshopt_compression": said
        }
    file.node(mesh=mesh)
    found = load_scene(file.write(tmp_path / "o.glb")).nodes[0].mesh
    np.testing.assert_array_equal(found.points, SQUARE)
    assert sorted(map(sorted, found.triangles.tolist())) == [[0, 1, 2], [0, 2, 3]]


def test_quantized_points_are_normalised(tmp_path):
    file = GltfFile(extensionsUsed=["KHR_mesh_quantization"], extensionsRequired=["KHR_mesh_quantization"])
    mesh = file.mesh()
    short = np.zeros((4, 4), np.int16)
    short[:, :3] = SQUARE * 32767
    view = file.view(short.tobytes(), byteStride=8)
    file.json["accessors"][0] = {
        "bufferView": view, "componentType": 5122, "count": 4, "type": "VEC3", "normalized": True
    }  # fmt: skip
    file.node(mesh=mesh, scale=[4, 4, 4])
    scene = load_scene(file.write(tmp_path / "q.glb"))
    np.testing.assert_allclose(scene.nodes[0].mesh.points, SQUARE, atol=1e-6)


def test_copies_stand_where_the_file_says(tmp_path):
    file = GltfFile(extensionsUsed=["EXT_mesh_gpu_instancing"])
    places = np.array([[0, 0, 0], [3, 0, 0], [0, 0, 5]], np.float32)
    said = {
        "attributes": {
            "TRANSLATION": file.accessor(places),
            "SCALE": file.accessor(np.full((3, 3), 2, np.float32)),
        }
    }
    file.node(
        name="field", mesh=file.mesh(), translation=[0, 1, 0], extensions={"EXT_mesh_gpu_instancing": said}
    )
    scene = load_scene(file.write(tmp_path / "i.glb"))
    stage = Stage([("s", scene)])
    assert scene.triangle_count == 6
    hit = stage.pick(0, (3.5, 1.5, 9), (0, 0, -1))
    assert hit.place == Place("s", "/field/copies[1]")
    np.testing.assert_allclose(
        stage.world(hit.place, [0.0])[0] @ [*hit.local, 1], [3.5, 1.5, 0, 1], atol=1e-6
    )
    np.testing.assert_allclose(stage.pick(0, (0.5, 1.5, 9), (0, 0, -1)).point, [0.5, 1.5, 5], atol=1e-6)
    assert len(stage.rows_below(Place("s", "/field"))) == 3
    assert len(stage.rows_below(Place("s", "/field/copies[2]"))) == 1
    np.testing.assert_allclose(stage.bounds()[1], [5, 3, 5], atol=1e-6)


@pytest.mark.parametrize("kind", [np.int8, np.int16])
@pytest.mark.parametrize("way", ["LINEAR", "STEP"])
def test_rotations_in_small_whole_numbers_turn_as_unit_ones(tmp_path, kind, way):
    """Rounded to 1/127 their lengths differ by a percent; the way between them must not."""
    random = np.random.default_rng(5)
    turns = Rotation.random(6, random_state=random).as_quat()
    turns *= np.sign((turns * np.roll(turns, 1, axis=0)).sum(axis=1, keepdims=True))
    most = np.iinfo(kind).max
    whole = np.round(turns * most).astype(kind)
    file = GltfFile()
    index = file.node(mesh=file.mesh())
    times = np.arange(6, dtype=np.float32)
    file.animate(index, "rotation", times, turns, way)
    file.json["animations"][0]["samplers"][0]["output"] = file.accessor(whole, normalized=True)
    scene = load_scene(file.write(tmp_path / "r.gltf"))
    stored = Rotation.from_quat(np.maximum(whole / most, -1.0))
    between = Slerp(times, stored)
    for seconds in (0.0, 0.25, 1.5, 2.8, 4.4, 5.0):
        wanted = (between(seconds) if way == "LINEAR" else stored[int(seconds)]).as_matrix()
        found = scene.world(index, [seconds * scene.fps])[0, :3, :3]
        np.testing.assert_allclose(found, wanted, atol=1e-6)


def test_scenes_animations_and_variants_can_be_chosen(tmp_path):
    file = GltfFile(extensions={"KHR_materials_variants": {"variants": [{"name": "red"}, {"name": "blue"}]}})
    file.json["materials"] = [{"name": "plain"}, {"name": "r"}, {"name": "b"}]
    variants = [{"material": 1, "variants": [0]}, {"material": 2, "variants": [1]}]
    mesh = file.mesh(
        primitive={"material": 0, "extensions": {"KHR_materials_variants": {"mappings": variants}}}
    )
    first, second = file.node(name="one", mesh=mesh), file.node(name="two", mesh=mesh)
    file.json["scenes"] = [{"name": "day", "nodes": [first]}, {"name": "night", "nodes": [second]}]
    file.animate(first, "translation", [0, 1], [[0, 0, 0], [1, 0, 0]], name="walk")
    file.animate(first, "translation", [0, 2], [[0, 0, 0], [9, 0, 0]], name="run")
    path = file.write(tmp_path / "v.glb")
    scene = load_scene(path)
    assert [(c.label, c.options, c.chosen) for c in scene.choices] == [
        ("Scene", ("day", "night"), "day"), ("Animation", ("walk", "run"), "walk"),
        ("Materials", ("as it is", "red", "blue"), "as it is"),
    ]  # fmt: skip
    assert (scene.last_frame, scene.nodes[0].materials[0].name) == (24, "plain")
    other = load_scene(path, choices=(("scene", "night"), ("animation", "run"), ("material variant", "blue")))
    assert [node.path for node in other.nodes] == ["/two"]
    assert (other.last_frame, other.nodes[0].materials[0].name) == (48, "b")


def test_lights_become_key_light_and_bulbs(tmp_path):
    file = GltfFile(
        extensions={"KHR_lights_punctual": {"lights": [
            {"type": "directional", "intensity": 3.0, "color": [1, 0.5, 0.25]},
            {"type": "point", "intensity": 2.0}, {"type": "spot", "intensity": 1.0},
        ]}}
    )  # fmt: skip
    down = Rotation.from_euler("x", -90, degrees=True).as_quat().tolist()
    for number in range(3):
        file.node(name=f"l{number}", rotation=down, extensions={"KHR_lights_punctual": {"light": number}})
    scene = load_scene(file.write(tmp_path / "l.glb"))
    np.testing.assert_allclose(scene.light.toward, [0, 1, 0], atol=1e-6)
    np.testing.assert_allclose(scene.light.colour, np.array([3, 1.5, 0.75]) / np.pi, rtol=1e-6)
    bulb = by_path(scene)["/l1/light"]
    radius = np.ptp(bulb.mesh.points[:, 0]) / 2
    assert bulb.materials[0].emission[0] * np.pi * radius**2 == pytest.approx(2.0, rel=1e-3)
    assert any("/l2" in w and "spot" in w for w in scene.warnings)


def test_surfaces(tmp_path):
    Image.new("RGBA", (2, 2), (255, 0, 0, 128)).save(tmp_path / "t.png")
    turned = {"KHR_texture_transform": {"offset": [0.5, 0], "scale": [2, 2], "texCoord": 1}}
    file = GltfFile(images=[{"uri": "t.png"}], textures=[{"source": 0}])
    file.json["materials"] = [
        {"pbrMetallicRoughness": {
            "baseColorFactor": [0.5, 1, 1, 0.5], "baseColorTexture": {"index": 0, "extensions": turned},
        }, "alphaMode": "MASK", "alphaCutoff": 0.25},
        {"emissiveFactor": [1, 1, 0], "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 5}}},
        {"pbrMetallicRoughness": {"baseColorFactor": [0.2, 0.3, 0.4, 1]}, "extensions": {"KHR_materials_unlit": {}}},
        {"extensions": {"KHR_materials_transmission": {"transmissionFactor": 1.0}}},
    ]  # fmt: skip
    uv = file.accessor(np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32))
    colour = file.accessor(np.full((4, 3), 255, np.uint8), normalized=True)
    for material in range(4):
        mesh = file.mesh(primitive={"material": material}, TEXCOORD_0=colour, TEXCOORD_1=uv, COLOR_0=colour)
        file.node(mesh=mesh)
    path = file.write(tmp_path / "m.gltf")
    masked, glowing, unlit, glass = (node.materials[0] for node in load_scene(path).nodes)
    assert masked.base == (0.5, 1, 1)
    assert (masked.cutout.opacity, masked.cutout.cutoff, masked.cutout.channel) == (0.5, 0.25, "alpha")
    assert glowing.emission == (5, 5, 0)
    assert (unlit.base, unlit.emission) == ((0, 0, 0), (0.2, 0.3, 0.4))
    assert glass.cutout.opacity == pytest.approx(0.1)
    mesh = load_scene(path).nodes[0].mesh
    np.testing.assert_allclose(mesh.uv[0], [[0.5, 1], [2.5, 1], [2.5, -1]])
    assert (mesh.colours == 255).all()


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"asset": {"version": "1.0"}}, "glTF 1.0"),
        ({"asset": {}}, "does not say its version"),
        ({"asset": {"version": 1.0}, "nodes": {"a": {}}, "meshes": {"b": {}}}, "it is glTF 1.0"),
        ({"extensionsRequired": ["ACME_magic"]}, "requires ACME_magic"),
        ({"nodes": [{"mesh": 7}]}, "mesh 7"),
        ({"nodes": [{"mesh": "x"}]}, r"nodes\[0\]\.mesh"),
        ({"nodes": 5}, "nodes"),
        (
            {"accessors": [{"componentType": 5126, "count": 10**9, "type": "VEC3"}]},
            "more than the file holds",
        ),
        ({"accessors": [{"componentType": 5126, "count": 99, "type": "VEC3", "bufferView": 0}]}, "counts 99"),
        ({"bufferViews": [{"buffer": 0, "byteLength": 10**6}]}, "ends at byte 1000000"),
        ({"scenes": [{"nodes": [3]}]}, "node 3"),
    ],
)
def test_what_makes_no_sense_is_refused_in_a_sentence(tmp_path, change, message):
    file = GltfFile()
    file.node(mesh=file.mesh())
    file.json |= change
    path = file.write(tmp_path / "bad.gltf")
    with pytest.raises(SceneError, match=message) as caught:
        load_scene(path)
    assert "bad.gltf" in str(caught.value)


def test_circles_and_unknown_parts_are_mended(tmp_path):
    file = GltfFile(extensionsUsed=["ACME_shine"])
    mesh = file.mesh()
    file.node(name="a", children=[1])
    file.node(name="b", children=[0], mesh=mesh)
    file.node(name="c", mesh=mesh)
    file.json["scenes"] = [{"nodes": [0, 2]}]
    scene = load_scene(file.write(tmp_path / "c.glb"))
    assert [node.path for node in scene.nodes] == ["/a", "/a/b", "/c"]
    assert any("twice" in w for w in scene.warnings)
    assert any("ACME_shine" in w for w in scene.warnings)


EXTENSIONS = [
    (("materials", 0), "KHR_materials_emissive_strength", {"emissiveStrength": 2}),
    (("materials", 0), "KHR_materials_transmission", {"transmissionFactor": 0.5}),
    (("materials", 0), "KHR_materials_pbrSpecularGlossiness", {"diffuseFactor": [1, 1, 1, 1]}),
    (("materials", 0, "emissiveTexture"), "KHR_texture_transform", {"offset": [0, 1], "rotation": 1}),
    (("textures", 0), "EXT_texture_webp", {"source": 0}),
    (("meshes", 0, "primitives", 0), "KHR_draco_mesh_compression", {"bufferView": 0, "attributes": {}}),
    (("meshes", 0, "primitives", 0), "KHR_materials_variants", {"mappings": [{"material": 0}]}),
    (("bufferViews", 0), "EXT_meshopt_compression", {"buffer": 0, "byteStride": 12, "count": 4}),
    (("nodes", 0), "KHR_lights_punctual", {"light": 0}),
    (("nodes", 0), "EXT_mesh_gpu_instancing", {"attributes": {"ROTATION": 0}}),
    (("nodes", 0), "KHR_node_visibility", {"visible": True}),
    ((), "KHR_materials_variants", {"variants": [{"name": "a"}]}),
    ((), "KHR_lights_punctual", {"lights": [{"type": "point", "color": [1, 1, 1], "intensity": 3}]}),
]
WRONG = (None, "x", [1], -1, 1e300, {}, {"a": 1}, 99)


def spoiled(value):
    """A value with each of its parts in turn, or all of it, replaced by what does not belong there."""
    yield from WRONG
    for key in value if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ():
        for wrong in spoiled(value[key]):
            changed = value.copy()
            changed[key] = wrong
            yield changed


@pytest.mark.parametrize(("place", "extension", "said"), EXTENSIONS, ids=[e[1] for e in EXTENSIONS])
def test_what_an_extension_should_not_say_is_refused_or_told_never_a_fault(tmp_path, place, extension, said):
    file = GltfFile(materials=[{"emissiveTexture": {"index": 0}}], textures=[{}], images=[{"uri": "data:,"}])
    uv = file.accessor(np.zeros((4, 2), np.float32))
    file.node(mesh=file.mesh(primitive={"material": 0}, TEXCOORD_0=uv))
    file.json["scenes"] = [{"nodes": [0]}]
    part = file.json
    for step in place:
        part = part[step]
    refused = 0
    for wrong in spoiled(said):
        part["extensions"] = {extension: wrong}
        path = file.write(tmp_path / "x.gltf")
        try:
            load_scene(path)
        except SceneError as error:
            assert "x.gltf" in str(error)
            refused += 1
    assert refused


def test_turns_of_copies_with_three_parts_leave_the_copies_out(tmp_path):
    file = GltfFile()
    turns = file.accessor(np.zeros((2, 3), np.float32))
    copies = {"EXT_mesh_gpu_instancing": {"attributes": {"ROTATION": turns}}}
    file.node(name="a", mesh=file.mesh(), extensions=copies)
    scene = load_scene(file.write(tmp_path / "x.glb"))
    assert any("/a: its copies are skipped" in warning for warning in scene.warnings)


def test_a_missing_buffer_names_its_file(tmp_path):
    file = GltfFile()
    file.node(mesh=file.mesh())
    path = file.write(tmp_path / "x.gltf")
    (tmp_path / "x.bin").unlink()
    with pytest.raises(SceneError, match=r"x\.bin"):
        load_scene(path)
    outside = json.loads(path.read_text())
    (tmp_path / "in").mkdir()
    (tmp_path / "secret.bin").write_bytes(bytes(file.content))
    outside["buffers"][0]["uri"] = "../secret.bin"
    (tmp_path / "in" / "x.gltf").write_text(json.dumps(outside))
    with pytest.raises(SceneError, match=r"secret\.bin"):
        load_scene(tmp_path / "in" / "x.gltf")


@pytest.mark.parametrize("seed", range(30))
def test_a_damaged_file_is_an_error_or_drawn_never_a_crash(tmp_path, seed):
    file, _, _ = skinned_file(1)
    content = bytearray(file.write(tmp_path / "w.glb").read_bytes())
    random = np.random.default_rng(seed)
    for _ in range(int(random.integers(1, 12))):
        content[int(random.integers(12, len(content)))] = int(random.integers(256))
    (tmp_path / "d.glb").write_bytes(content[: len(content) - int(random.integers(0, 2)) * 300])
    try:
        stage = Stage([("d", load_scene(tmp_path / "d.glb"))])
    except SceneError as error:
        assert "d.glb" in str(error)
    else:
        stage.pick(12, (0, 0, 50), (0, 0, -1))
