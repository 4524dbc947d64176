"""The gate of scene files: what is not finite, or out of bounds, is mended or left out and told."""

import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kobrel.compiled import index_of
from kobrel.errors import ExchangeError, SceneError
from kobrel.exchange.timeline import read_list
from kobrel.optics.iris import Iris
from kobrel.picture import view as views
from kobrel.picture.develop import developed
from kobrel.picture.numbers import light_numbers
from kobrel.picture.service import Request, finished
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.start import plan_from_scene
from kobrel.stage.motion import Track, matrix_motion
from kobrel.stage.read import probe
from kobrel.stage.read import sanitising as gate
from kobrel.stage.read.load import load_scene
from kobrel.stage.read.sanitising import sanitise
from kobrel.stage.scene import CameraSource, Cutout, FileLight, Material, Mesh, Node, Scene
from kobrel.stage.stage import Stage
from tests.conftest import box_at, write_mesh

FINDS = Path(__file__).parents[1] / "campaign" / "finds"
CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
FACE = np.array([[0, 1, 2]], np.uint32)
ODD = [np.nan, np.inf, -np.inf]


def scene_of(*nodes, **more):
    return Scene(Path("set.usda"), tuple(nodes), **more)


def node(mesh=None, **more):
    return Node("/a", mesh=mesh or Mesh(CORNERS, FACE), **more)


def mesh_in(mesh):
    """A mesh behind the gate, and what was said of it."""
    scene = sanitise(scene_of(node(mesh)))
    return scene.nodes[0].mesh, " ".join(scene.warnings)


@pytest.mark.parametrize("number", ODD)
def test_points_that_are_no_numbers_take_the_mesh_out(number):
    points = CORNERS.copy()
    points[1, 2] = number
    found, told = mesh_in(Mesh(points, FACE))
    assert found is None
    assert "/a: skipped" in told


@pytest.mark.parametrize("number", ODD)
def test_normals_and_texture_places_that_are_no_numbers_are_mended(number):
    normals, uv = np.zeros((1, 3, 3), np.float32), np.zeros((1, 3, 2), np.float32)
    normals[0, 1, 1] = uv[0, 2, 0] = number
    found, told = mesh_in(Mesh(CORNERS, FACE, normals, uv=uv))
    assert found.normals is None
    assert np.isfinite(found.uv).all()
    assert "flat faces" in told
    assert "texture coordinates" in told


@pytest.mark.parametrize(
    ("mesh", "words"),
    [
        (Mesh(CORNERS, np.array([[0, 1, 3]], np.uint32)), "a face points at vertex 3 of 3"),
        (Mesh(CORNERS * np.float32(1e13), FACE), "farther than"),
        (Mesh(CORNERS * np.float32(1e9), FACE), "extends farther than 1e+08 m"),
    ],
)
def test_faces_and_places_beyond_all_bounds_take_the_mesh_out(mesh, words):
    found, told = mesh_in(mesh)
    assert found is None
    assert words in told


@pytest.mark.parametrize("field", ["slots", "colours", "shared"])
def test_values_that_do_not_fit_the_faces_are_left_out(field):
    kinds = {"slots": np.uint8, "colours": np.uint8, "shared": np.uint32}
    found, told = mesh_in(replace(Mesh(CORNERS, FACE), **{field: np.zeros((5, 3), kinds[field])}))
    assert getattr(found, field) is None
    assert f"its {field} do not fit" in told


def test_faces_name_no_surface_that_is_not_there():
    scene = sanitise(scene_of(node(Mesh(CORNERS, FACE, slots=np.array([7], np.uint8)))))
    assert scene.nodes[0].mesh.slots.tolist() == [0]
    assert "a surface that it has not" in scene.warnings[0]


@pytest.mark.parametrize("number", [*ODD, -1.0, 1e300])
def test_colours_and_glow_are_within_bounds(number):
    material = Material("m", (number, 0.5, 0.5), (number, number, 0.0), cutout=Cutout(number, cutoff=number))
    scene = sanitise(scene_of(node(materials=(material,))))
    made = scene.nodes[0].materials[0]
    for part in (*made.base, *made.emission):
        assert 0 <= part <= gate.MOST_LIGHT
    assert 0 <= made.cutout.opacity <= 1
    assert made.base[1] == 0.5
    assert "out of bounds" in scene.warnings[0]
    light = sanitise(
        scene_of(light=FileLight((number, 0, 0), (number,) * 3, (0, 0, number), turn_deg=number))
    ).light
    assert all(0 <= part <= gate.MOST_LIGHT for part in (*light.colour, *light.about))
    assert np.isfinite(light.turn_deg)


@pytest.mark.parametrize("unit", [0.0, -1.0, np.nan, np.inf, 1e12])
@pytest.mark.parametrize("fps", [0.0, -24.0, np.nan, np.inf, 1e9])
def test_units_and_rates_that_cannot_be_are_told_and_replaced(unit, fps):
    scene = sanitise(scene_of(node(), unit_m=unit, fps=fps))
    assert (scene.unit_m, scene.fps) == (0.01, 24.0)
    assert [w.split(":")[0] for w in scene.warnings] == ["set.usda"] * 2


@pytest.mark.parametrize(
    ("first", "last", "found"),
    [
        (1, 100, (1, 100)), (0, 10**15, (None, None)), (-(10**7), 5, (None, None)), (9, 3, (None, None)),
        (0, 100_000, (0, 19_999)), (None, 7, (None, None)),
    ],
)  # fmt: skip
def test_ranges_of_frames_are_as_long_as_can_be_worked_with(first, last, found):
    scene = sanitise(scene_of(node(), first_frame=first, last_frame=last))
    assert (scene.first_frame, scene.last_frame) == found


def camera(**changes):
    tracks = {"focal_mm": 50.0, "width_mm": 36.0, "height_mm": 24.0, "f_number": 2.8, "focus_m": 3.0}
    made = {name: Track.constant([changes.pop(name, value)]) for name, value in tracks.items()}
    return CameraSource("/eye", 0, **made, **changes)


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        *(({field: number}, words) for number in (np.nan, -1.0, 1e30) for field, words in (
            ("focal_mm", "focal length"), ("width_mm", "sensor"), ("height_mm", "sensor"), ("f_number", "stop"),
            ("squeeze", "squeeze"), ("cone_deg", "light cone"), ("field_m", "field"), ("near_clip_m", "near clip"),
        )),
        ({"focus_m": np.nan}, "focus"), ({"focus_m": 0.0}, "focus"), ({"squeeze": 9.0}, "squeeze"),
        ({"iris": Iris(100_000)}, "iris"), ({"iris": Iris(6, 0, np.nan)}, "iris"),
        ({"shift_mm": (np.inf, 0.0)}, "lens shift"),
    ],
)  # fmt: skip
def test_cameras_that_cannot_be_are_told_and_made_usual(changes, words):
    scene = scene_of(node(), cameras=(camera(**changes),))
    scene = sanitise(replace(scene, cameras_in=lambda _unit: ((camera(**changes),), [])))
    assert f"invalid {words}" in scene.warnings[0]
    assert words in scene.cameras_in(0.01)[1][0]
    plan, _stage = plan_from_scene(Path("/set.usda"), scene)  # the plan takes it
    assert plan.shots[0].camera.path == "/eye"


def test_a_good_scene_passes_as_it_is():
    whole = scene_of(
        node(), box_at((0, 0, -5)), cameras=(camera(focus_m=np.inf),), first_frame=1, last_frame=9
    )
    passed = sanitise(whole)
    assert passed.nodes == whole.nodes
    assert (passed.cameras, passed.warnings) == (whole.cameras, ())


# Kernels bear with anything


@pytest.mark.parametrize("place", [np.nan, np.inf, -np.inf, -1.0, 0.0, 2.5, 1e300])
def test_an_index_lies_within_what_it_counts(place):
    assert 0 <= index_of(place, 4) < 4


def odd_light(light, number):
    return light._replace(x=np.float32(number), key_r=np.float32(number), zenith_g=np.float32(number))


@pytest.mark.parametrize("number", [np.nan, np.inf, -np.inf, 3e38])
def test_a_picture_of_what_is_no_number_is_drawn_all_the_same(number, looking_at, monkeypatch):
    """Behind the gate's back: normals, texture places, glow and light straight into the kernels."""
    from kobrel.stage.scene import Texture

    normals, uv = np.full((1, 3, 3), number, np.float32), np.full((1, 3, 2), number, np.float32)
    paint = Texture("p", pixels=np.full((4, 4, 3), 200, np.uint8))
    material = Material(
        "m", (1, 1, 1), (number, 0, 0), paint, paint, number, number, paint, Cutout(0.5, paint, "red")
    )
    place = np.eye(4)
    place[:3, :3] *= 4
    place[:3, 3] = (-2, -2, -3)
    odd = Node(
        "/odd", motion=matrix_motion(place), mesh=Mesh(CORNERS, FACE, normals, uv=uv), materials=(material,)
    )
    plan, shot, stage = looking_at(odd, box_at((0, 0, -9)))
    monkeypatch.setattr(views, "light_numbers", lambda light: odd_light(light_numbers(light), number))
    request = Request(stage, camera_at(plan, shot, 1, stage), 1, Light(), 32, 18, passes=2)
    assert finished(request, lambda: False).shape == (18, 32, 3)


def test_what_is_no_light_is_black_or_white():
    linear = np.array([[[np.nan, np.inf, -np.inf], [0.5, -1.0, 9.0]]], np.float32)
    shown = developed(linear)
    assert shown[0, 0].tolist() in ([0, 255, 0], [255, 255, 0])
    assert (shown[0, 1, 1], shown[0, 1, 2]) == (0, 255)


# Another process opens first what a library does not survive


def test_a_file_that_a_library_hangs_on_is_refused(monkeypatch):
    monkeypatch.setattr(probe, "_OPEN_S", 1.0)
    with pytest.raises(SceneError, match=r"hang_1\.usdc.*damaged"):
        load_scene(FINDS / "hang_1.usdc")


def test_a_list_that_ends_its_library_is_refused():
    with pytest.raises(ExchangeError, match=r"signal11_1\.otio.*damaged"):
        read_list(FINDS / "signal11_1.otio")


def test_good_files_follow_bad_ones(tmp_path, monkeypatch):
    monkeypatch.setattr(probe, "_OPEN_S", 1.0)
    good = write_mesh(tmp_path / "good.usdc", CORNERS, [3], [0, 1, 2])
    for _ in range(2):
        with pytest.raises(SceneError):
            load_scene(FINDS / "hang_1.usdc")
        assert load_scene(good).triangle_count == 1


def test_references_that_unfold_without_end_are_refused(tmp_path):
    levels = ['def "L0" {\ndef Cube "c" {\n}\n}\n']
    levels += [
        f'def "L{i}" {{\n' + "".join(f'def "r{k}" (references = </L{i - 1}>) {{\n}}\n' for k in range(10)) + "}\n"
        for i in range(1, 12)
    ]  # fmt: skip
    (tmp_path / "bomb.usda").write_text("#usda 1.0\n" + "".join(levels))
    with pytest.raises(SceneError, match="unfold to more than 2,000,000 parts"):
        load_scene(tmp_path / "bomb.usda")
    (tmp_path / "few.usda").write_text("#usda 1.0\n" + "".join(levels[:3]))
    assert load_scene(tmp_path / "few.usda").triangle_count > 0


@pytest.mark.parametrize("depth", [400, 100_000])
def test_parts_nested_without_end_are_refused(tmp_path, depth):
    (tmp_path / "deep.usda").write_text("#usda 1.0\n" + 'def "d" {\n' * depth + "}\n" * depth)
    with pytest.raises(SceneError, match="300 deep"):
        load_scene(tmp_path / "deep.usda")


def test_no_plug_ins_of_the_environment_are_followed():
    code = "import os, kobrel.cli; print([n for n in os.environ if 'PLUGIN' in n and 'PXR' in n])"
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True,
        env={"PXR_PLUGINPATH_NAME": "/tmp/x", "PATH": "/usr/bin"},
    )  # fmt: skip
    assert done.stdout.strip() == "[]"


def test_a_stage_of_nothing_usable_is_still_a_stage():
    scene = sanitise(scene_of(node(Mesh(CORNERS * np.float32(np.nan), FACE))))
    assert Stage([("s", scene)]).triangle_count == 0
