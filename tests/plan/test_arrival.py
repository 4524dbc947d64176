"""A scene at first sight: what is focused on, how bright it is, what can hardly be meant, what follows."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from kobrel.picture.metering import metered, metered_ev, swallowed
from kobrel.picture.tracer import sharp_picture
from kobrel.picture.view import View
from kobrel.plan import edit
from kobrel.plan.check import findings, unit_doubts
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.look import Light
from kobrel.plan.measure.arrival import light_of, mended, shot_doubts
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import (
    BoundsAnchor,
    DistanceTarget,
    FileCamera,
    Mark,
    PointAnchor,
    SceneRef,
    Subject,
    SubjectTarget,
    SurfaceAnchor,
    Tape,
)
from kobrel.plan.space.anchors import subject_points
from kobrel.plan.space.overview import followed, overview_camera
from kobrel.plan.space.rebinding import rebound
from kobrel.plan.staging import Library, load_stage, source_of, stage_of
from kobrel.plan.start import plan_from_scene
from kobrel.stage.motion import Track
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import FileLight, Scene
from kobrel.stage.stage import Place, Setting, Stage
from tests.conftest import ball_at, box_at
from tests.stage.gltf_files import GltfFile


def a_file(path, size=1.0, cameras=(4.0,)):
    """Two squares a size wide, and cameras that look at them from so many sizes away."""
    file = GltfFile(cameras=[{"type": "perspective", "perspective": {"yfov": 0.6, "aspectRatio": 1.5}}])
    mesh = file.mesh(np.array([[-0.5, -0.5, 0], [0.5, -0.5, 0], [0.5, 0.5, 0], [-0.5, 0.5, 0]]) * size)
    file.node(name="near", mesh=mesh)
    file.node(name="far", mesh=mesh, translation=[0.4 * size, 0.4 * size, -3 * size])
    for k, away in enumerate(cameras):
        file.node(name=f"cam{k}", camera=0, translation=[0, 0, away * size])
    return file.write(path)


@pytest.mark.parametrize("size", [0.004, 1.0, 4000.0])
def test_without_a_focus_the_middle_of_the_picture_is_sharp(tmp_path, size):
    told = []
    path = a_file(tmp_path / "s.glb", size)
    plan, stage = plan_from_scene(path, load_scene(path), told=told)
    shot = plan.shots[0]
    assert plan.subjects[0].name == "near"
    assert shot.marks[0].target == SubjectTarget(number=1)
    assert float(camera_at(plan, shot, shot.first, stage).focus_m) == pytest.approx(4 * size, rel=1e-6)
    assert any("has no focus" in text and "near" in text for text in told)
    assert shot_doubts(plan, shot, stage) == []


def test_each_camera_of_a_file_becomes_a_shot(tmp_path):
    path = a_file(tmp_path / "s.glb", cameras=(4.0, 6.0, 8.0))
    plan, _ = plan_from_scene(path, load_scene(path))
    assert [(s.name, s.camera.path) for s in plan.shots] == [
        ("01", "/cam0"),
        ("02", "/cam1"),
        ("03", "/cam2"),
    ]
    one, _ = plan_from_scene(path, load_scene(path), "/cam1")
    assert [s.camera.path for s in one.shots] == ["/cam1"]


def test_a_focus_of_the_file_in_empty_space_is_kept_told_and_mended_by_a_click(tmp_path):
    scene = load_scene(a_file(tmp_path / "s.glb", 100.0))

    for metres, name in ((3.0, "In focus"), (400.2, "near")):
        camera = replace(scene.cameras[0], focus_m=Track.constant([metres]), focal_mm=Track.constant([85.0]))
        told = []
        plan, stage = plan_from_scene(tmp_path / "s.glb", replace(scene, cameras=(camera,)), told=told)
        focus = float(camera_at(plan, plan.shots[0], 0, stage).focus_m)
        assert plan.subjects[0].name == name
        assert bool(told) == (metres == 3.0)
        assert focus == pytest.approx(metres, rel=1e-6)
        if told:
            assert "nothing is at the focus distance" in told[0]
            doubt = next(doubt for doubt in shot_doubts(plan, plan.shots[0], stage))
            better = mended(plan, stage, plan.shots[0], doubt)
            assert float(camera_at(better, better.shots[0], 0, stage).focus_m) == pytest.approx(400.0)


def test_a_zoom_of_the_file_keeps_its_framing(tmp_path):
    """A zoom with a wobble of 0.1 %, which would be 0.96 px at the edges of 1920."""
    frames = np.arange(1.0, 101.0)
    zoom = 50.0 * np.exp(np.linspace(0.0, 0.5, 100)) * (1 + 0.001 * np.sin(frames / 3.0))
    scene = load_scene(a_file(tmp_path / "s.glb", 100.0))
    camera = replace(scene.cameras[0], focal_mm=Track(frames, zoom[:, None]))
    scene = replace(scene, cameras=(camera,), first_frame=1, last_frame=100)
    plan, _stage = plan_from_scene(tmp_path / "s.glb", scene)
    kept = plan.shots[0].glass.focal_mm.at(frames)
    corner_px = 960 * np.hypot(1.0, 20.25 / 36)
    assert np.max(np.abs(kept / zoom - 1)) * corner_px < 0.051


def test_nothing_in_the_picture_is_told_and_mended(looking_at):
    plan, shot, stage = looking_at(ball_at((0, 0, 5.0), 1.0))
    doubt = shot_doubts(plan, shot, stage)[0]
    assert (doubt.mend, "nothing is in frame" in doubt.text) == ("camera", True)
    better = mended(plan, stage, shot, doubt)
    assert shot_doubts(better, better.shots[0], stage) == []
    assert float(survey(better, better.shots[0], stage).worst_px.max()) < 0.5


def test_a_focus_where_nothing_is_is_told_and_mended(looking_at):
    plan, shot, stage = looking_at(ball_at((0, 0, -50.0), 1.0))
    shot = shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=2.0)),))
    plan = plan.replace(shots=(shot,))
    doubt = shot_doubts(plan, shot, stage)[0]
    assert (doubt.mend, "2.00 m" in doubt.text) == ("focus", True)
    better = mended(plan, stage, shot, doubt)
    assert float(camera_at(better, better.shots[0], 1, stage).focus_m) == pytest.approx(49.0, abs=0.01)
    assert any(doubt.text in found for found in findings(plan, stage))


def in_unit(scene, unit_m, up="Y"):
    return Stage([("s", scene.read_as(unit_m, up))])


def test_what_was_made_for_a_scene_follows_its_unit_and_axis():
    scene = Scene(Path("s.obj"), (box_at((3, 0, 0), (100, 300, 200)), ball_at((50, 0, 0), 20.0)))
    before = in_unit(scene, 1.0)
    plan, _ = plan_from_scene(Path("s.obj"), scene)
    plan = plan.replace(scenes=(SceneRef(name="s", path="s.obj"),))
    free = Subject(number=9, name="free", anchor=PointAnchor(position_m=(10.0, 20.0, 30.0)))
    plan = plan.replace(subjects=(*plan.subjects, free))
    for unit, up in ((0.01, "Y"), (0.01, "Z"), (1.0, "Z")):
        after = in_unit(scene, unit, up)
        moved = followed(plan, before, after, "s")
        shot = moved.shots[0]
        assert shot.camera == overview_camera(after)
        assert shot_doubts(moved, shot, after) == []
        wanted = after.scenes["s"].root[:3, :3] @ (10.0, 20.0, 30.0)
        np.testing.assert_allclose(moved.subjects[-1].anchor.position_m, wanted)
        back = followed(moved, after, before, "s")
        assert back.shots[0].camera == plan.shots[0].camera


def test_a_camera_that_somebody_moved_stays_and_one_of_the_file_scales_its_distances(tmp_path):
    scene = load_scene(a_file(tmp_path / "s.glb"))
    plan, stage = plan_from_scene(tmp_path / "s.glb", scene)
    name = plan.scenes[0].name
    shot = plan.shots[0].replace(marks=(Mark(frame=0, target=DistanceTarget(metres=2.0)),), ahead_m=1.0)
    moved = overview_camera(stage).replace(position_m=(1.0, 2.0, 3.0))
    plan = plan.replace(shots=(shot, plan.shots[0].replace(name="02", camera=moved)))
    after = Stage([Setting(name, scene.read_as(0.1, "Y"))])
    changed = followed(plan, Stage([Setting(name, scene)]), after, name)
    assert changed.shots[0].marks[0].target.metres == pytest.approx(0.2)
    assert changed.shots[0].ahead_m == pytest.approx(0.1)
    assert changed.shots[1] == plan.shots[1]


@pytest.mark.parametrize("strength", [1e-4, 1.0, 5e4])
def test_a_first_picture_is_neither_white_nor_black(looking_at, strength):
    plan, shot, stage = looking_at(box_at((0, 0, -6), (30, 1, 1)), ball_at((0, 0.6, -4), 0.6))
    light = plan.light.replace(key_strength=3 * strength, sky_strength=strength)
    plan = metered(plan.replace(light=light), shot, stage)
    view = View(stage.snapshot(1), camera_at(plan, shot, 1, stage), plan.light, 192, 128)
    white, black = swallowed(sharp_picture(view).colour, plan.light.exposure_ev)
    assert white <= 0.04
    assert black <= 0.04


def test_a_picture_that_is_fine_keeps_its_exposure_and_black_ones_are_no_trap():
    fine = np.random.default_rng(1).uniform(0.05, 0.9, (20, 30, 3))
    assert metered_ev(fine) == 0.0
    assert metered_ev(np.zeros((4, 4, 3))) == 0.0
    assert np.isfinite(metered_ev(np.full((4, 4, 3), np.inf)))


def test_lights_of_a_file_become_the_plans():
    lit = Scene(
        "s", (), unit_m=0.01, up="Z", light=FileLight((0.0, 0.0, 1.0), (4.0, 2.0, 1.0), (0.5, 0.25, 0.5))
    )
    light = light_of(lit, Light())
    assert light.key_elevation_deg == pytest.approx(90.0)
    assert (light.key_strength, light.key_colour) == (4.0, (1.0, 0.5, 0.25))
    assert (light.sky_strength, light.zenith) == (0.5, (1.0, 0.5, 1.0))
    assert light_of(replace(lit, light=None), Light()) == Light()


def test_a_plan_on_nameless_and_doubled_nodes_reopens_with_everything_in_place(tmp_path):
    file = GltfFile(cameras=[{"type": "perspective", "perspective": {"yfov": 0.6, "aspectRatio": 1.5}}])
    mesh = file.mesh()
    nodes = [file.node(mesh=mesh), file.node(name="eye", mesh=mesh, translation=[2, 0, -1]), file.node(name="eye", mesh=mesh, translation=[-2, 0, -3])]  # fmt: skip
    nodes += [
        file.node(camera=0, translation=[0, 0, 9]),
        file.node(name="eye", camera=0, translation=[0, 1, 8]),
    ]
    file.json["scenes"] = [{"nodes": nodes}]
    path = file.write(tmp_path / "n.glb")
    plan, stage = plan_from_scene(path, load_scene(path))
    name = plan.scenes[0].name
    for k, node in enumerate(("/#1", "/eye#1", "/eye#2"), start=10):
        anchor = SurfaceAnchor(scene=name, node=node, local=(0.5, 0.5, 0.0))
        plan = plan.replace(subjects=(*plan.subjects, Subject(number=k, name=node, anchor=anchor)))
    before = [survey(plan, shot, stage).points for shot in plan.shots]
    save_plan(plan, tmp_path / "n.kobrel")
    again = open_plan(tmp_path / "n.kobrel")
    restaged, problems = load_stage(again)
    assert (problems, findings(again, restaged)) == ([], [])
    assert [shot.camera.path for shot in again.shots] == ["/#4", "/eye#3"]
    for shot, points in zip(again.shots, before, strict=True):
        np.testing.assert_allclose(survey(again, shot, restaged).points, points)


def renamed(scene, names):
    return replace(scene, nodes=tuple(replace(n, path=names.get(n.path, n.path)) for n in scene.nodes))


def test_parts_are_found_again_by_name_then_by_place():
    scene = Scene("s", (box_at((0, 0, -4), name="/set/box"), ball_at((3, 0, -4), 0.5, "/set/ball"), ball_at((6, 0, -4), 0.7, "/set/egg")))  # fmt: skip
    before = Stage([("s", scene)])
    anchors = (
        SurfaceAnchor(scene="s", node="/set/box", local=(0.5, 0.1, 0.2)),
        SurfaceAnchor(scene="s", node="/set/ball", local=tuple(map(float, scene.nodes[1].mesh.points[7]))),
        BoundsAnchor(scene="s", node="/set/egg"),
        BoundsAnchor(scene="s", node="/gone"),
    )
    plan = plan_with(anchors)
    again = renamed(scene, {"/set/box": "/new/house/box", "/set/ball": "/mesh_1", "/set/egg": "/mesh_2"})
    found, told = rebound(plan, Stage([("s", again)]), before)
    assert [s.anchor.node for s in found.subjects] == ["/new/house/box", "/mesh_1", "/mesh_2", "/gone"]
    assert found.tapes[0].end.node == "/mesh_1"
    assert len(told) == 4
    assert any("by its name" in text for text in told)
    assert any("by its place" in text for text in told)
    same, nothing = rebound(plan, before, before)
    assert (same is plan, nothing) == (True, [])
    lost = findings(found, Stage([("s", again)]))
    assert any("/gone" in text and "Pick it again" in text for text in lost)


def plan_with(anchors):
    from kobrel.plan.model import Plan

    subjects = tuple(Subject(number=k, name=f"s{k}", anchor=a) for k, a in enumerate(anchors, start=1))
    return Plan(subjects=subjects, tapes=(Tape(name="t", end=anchors[1]),))


def test_of_several_with_the_same_name_the_nearest_path_is_taken_or_none():
    scene = Scene("s", (box_at((0, 0, -4), name="/a/x/box"), box_at((2, 0, -4), name="/b/x/box")))
    stage = Stage([("s", scene)])
    plan = plan_with((BoundsAnchor(scene="s", node="/old/b/box"), BoundsAnchor(scene="s", node="/y/box")))
    found, told = rebound(plan, stage)
    assert [s.anchor.node for s in found.subjects] == ["/b/x/box", "/y/box"]
    assert len(told) == 1


def test_a_camera_that_was_renamed_is_found(tmp_path):
    path = a_file(tmp_path / "s.glb")
    plan, stage = plan_from_scene(path, load_scene(path))
    other = renamed(stage.scenes[plan.scenes[0].name], {})
    moved = replace(other.cameras[0], path="/rig/cam9")
    again = Stage([(plan.scenes[0].name, replace(other, cameras=(moved,)))])
    found, told = rebound(plan, again)
    assert found.shots[0].camera == FileCamera(scene=plan.scenes[0].name, path="/rig/cam9")
    assert "camera was found" in told[0]


def test_a_speck_of_a_file_that_tells_its_unit_is_no_doubt():
    small = Scene("s", (ball_at((0, 0, 0), 0.004),))
    assert unit_doubts("s", Stage([("s", small)])) == []
    doubt = unit_doubts("s", Stage([("s", replace(small, says_unit=False))]))[0]
    assert (doubt.mend, doubt.scene) == ("unit", "s")
    assert unit_doubts("s", Stage([("s", Scene("s", ()))])) == []


def test_a_scene_that_counts_other_frames_than_the_shot_is_told(moving_scene):
    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    assert not any("fps" in text for text in findings(plan, stage))
    slow = plan.replace(shots=(plan.shots[0].replace(fps=50.0),))
    assert any("25 fps: motion will be faster" in text for text in findings(slow, stage))


def test_choices_and_axes_of_a_scene_are_kept_in_the_plan(tmp_path):
    path = a_file(tmp_path / "s.glb")
    plan, _ = plan_from_scene(path, load_scene(path))
    turned = edit.with_scene(plan, plan.scenes[0].name, up="Z", unit_m=0.01, choices=(("scene", "day"),))
    save_plan(turned, tmp_path / "p.kobrel")
    assert open_plan(tmp_path / "p.kobrel").scenes[0] == turned.scenes[0]
    library = Library()
    library.read(turned)
    scene = library.scene(turned.scenes[0])
    assert (scene.unit_m, scene.up) == (0.01, "Z")
    assert library.scene(turned.scenes[0]) is scene
    stage = stage_of(turned, library)
    np.testing.assert_allclose(
        stage.world(Place(turned.scenes[0].name, "/far"), [0])[0, :3, 3], [0.004, -0.03, -0.004]
    )
    anchor = BoundsAnchor(scene=turned.scenes[0].name, node="/near")
    np.testing.assert_allclose(subject_points(anchor, [0], stage), [[0, 0, 0]], atol=1e-9)
    assert source_of(turned.scenes[0]) == (str(path), (("scene", "day"),), None)
