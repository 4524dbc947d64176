import numpy as np
import pytest
from PIL import Image

from kobrel.errors import SceneError
from kobrel.stage.read.files import Beside, text_of
from kobrel.stage.read.load import load_scene

FACE = "v 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\n"


@pytest.mark.parametrize(
    "encoding", ["utf-8", "utf-8-sig", "utf-16", "latin-1", "cp1252", "shift_jis", "gb18030"]
)
def test_obj_in_any_encoding_with_its_textures(tmp_path, encoding):
    word = {"shift_jis": "日本語のテクスチャ素材", "gb18030": "中文材质贴图文件"}.get(
        encoding, "Straßenlaterne_für_Höhe"
    )
    Image.new("RGB", (4, 4), (200, 10, 10)).save(tmp_path / f"{word}.png")
    lines = f"# {word} {word}\nmtllib m.mtl\no {word}\n{FACE}usemtl red\nf 1/1 2/2 3/3\n"
    (tmp_path / "m.obj").write_bytes(lines.encode(encoding))
    (tmp_path / "m.mtl").write_bytes(
        f"# {word} {word}\nnewmtl red\nmap_Kd textures\\{word}.png\n".encode(encoding)
    )
    scene = load_scene(tmp_path / "m.obj")
    assert scene.triangle_count == 1
    texture = scene.nodes[0].materials[0].base_texture
    assert texture is not None
    assert texture.pixels[0, 0, 0] == 200


def test_textures_are_found_by_name_alone_and_lost_ones_are_named(tmp_path):
    (tmp_path / "deep").mkdir()
    Image.new("RGB", (2, 2), (1, 2, 3)).save(tmp_path / "deep" / "Wood.PNG")
    (tmp_path / "m.mtl").write_text(
        "newmtl a\nmap_Kd C:\\art\\old\\wood.png\nmap_d mask.png\nnewmtl b\nd 0.4\n"
    )
    text = f"mtllib m.mtl\n{FACE}usemtl a\nf 1/1 2/2 3/3\nusemtl b\nf 1/1 2/2 3/3\n"
    (tmp_path / "m.obj").write_text(text)
    scene = load_scene(tmp_path / "m.obj")
    by_name = {node.materials[0].name: node.materials[0] for node in scene.nodes}
    assert sum(m.base_texture is not None for m in by_name.values()) == 1
    assert [m.cutout.opacity for m in by_name.values() if m.cutout] == [pytest.approx(0.4)]
    assert any("mask.png not found" in warning for warning in scene.warnings)


def test_files_outside_the_folder_are_not_read(tmp_path):
    (tmp_path / "in").mkdir()
    (tmp_path / "secret.png").write_bytes(b"x")
    beside = Beside(tmp_path / "in")
    assert beside.find("../secret.png") is None
    assert "secret.png" in beside.warnings[0]
    assert beside.find(str(tmp_path / "secret.png")) is None


def test_links_do_not_lead_out_of_the_folder(tmp_path):
    folder = tmp_path / "in"
    folder.mkdir()
    (tmp_path / "secret.png").write_bytes(b"x")
    (folder / "mine.png").write_bytes(b"y")
    (folder / "out.png").symlink_to(tmp_path / "secret.png")
    (folder / "same.png").symlink_to(folder / "mine.png")
    beside = Beside(folder)
    assert beside.find("out.png") is None
    assert beside.find("elsewhere/out.png") is None
    assert beside.find("elsewhere/same.png") is not None


def test_text_that_is_no_text_still_comes_through():
    assert text_of(bytes(range(256)))
    assert text_of("v 1 2 3\n".encode("utf-16")) == "v 1 2 3\n"


def test_colours_of_the_points_of_ply_are_kept(tmp_path):
    header = "ply\nformat ascii 1.0\nelement vertex 3\n" + "".join(f"property float {a}\n" for a in "xyz")
    header += "".join(f"property uchar {c}\n" for c in ("red", "green", "blue"))
    header += "element face 1\nproperty list uchar int vertex_indices\nend_header\n"
    (tmp_path / "p.ply").write_text(header + "0 0 0 255 0 0\n1 0 0 0 255 0\n0 1 0 0 0 255\n3 0 1 2\n")
    node = load_scene(tmp_path / "p.ply").nodes[0]
    np.testing.assert_array_equal(node.mesh.colours[0], np.eye(3) * 255)
    assert node.materials[0].base == (1, 1, 1)


@pytest.mark.parametrize("text", ["", "v 1 2\nf 1 2 3\n", "f 1 2 9\n", "hello", "v a b c\nf 1 1 1\n"])
def test_obj_of_nothing_is_refused_in_a_sentence(tmp_path, text):
    (tmp_path / "bad.obj").write_text(text)
    try:
        scene = load_scene(tmp_path / "bad.obj")
    except SceneError as error:
        assert "bad.obj" in str(error)
        assert "object" not in str(error)
    else:
        assert scene.triangle_count == 0
        assert scene.warnings


def test_lines_and_points_beside_faces_are_told(tmp_path):
    corners = "".join(f"v {x} {y} 0\n" for x, y in ((0, 0), (1, 0), (0, 1)))
    (tmp_path / "mixed.obj").write_text(f"# l 1 2\n{corners}f 1 2 3\nl 1 2\nl 2 3\n  p 3\n")
    scene = load_scene(tmp_path / "mixed.obj")
    assert scene.triangle_count == 1
    assert scene.warnings == ("mixed.obj: skipped lines (2), points (1); only faces are drawn.",)


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.usda", "#usda 1.0\n"),
        ("b.usda", '#usda 1.0\ndef Xform "empty" {}\n'),
        ("c.gltf", '{"asset": {"version": "2.0"}}'),
        ("d.gltf", '{"asset": {"version": "2.0"}, "scenes": [{}]}'),
    ],
)
def test_a_scene_in_which_nothing_is_seen_says_so(tmp_path, name, text):
    (tmp_path / name).write_text(text)
    assert any("nothing in it is seen" in warning for warning in load_scene(tmp_path / name).warnings)
