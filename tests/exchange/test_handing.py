"""Handing over: cameras out and back, frames in terms, lists for the edit, passes, files kept up to date."""

import json
import math
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest
from pxr import Sdf, Usd, UsdGeom
from scipy.spatial.transform import Rotation

import kobrel
from kobrel import trust
from kobrel.errors import ExchangeError, SceneError
from kobrel.exchange.cameras.alembic import write_alembic
from kobrel.exchange.cameras.back import PARTS, _apart, _require_places, compare, read_camera
from kobrel.exchange.cameras.gltf import _turns, write_gltf
from kobrel.exchange.cameras.usd import write_usd
from kobrel.exchange.export import KINDS, Options, export
from kobrel.exchange.passes import matte_channel, write_passes
from kobrel.exchange.timeline import read_list, write_list
from kobrel.exchange.upkeep import Allowance, Asked, Upkept, asked, fault_of, keep_up, state_of
from kobrel.exchange.values import read_values_file, write_values
from kobrel.optics.units import METRE, measure
from kobrel.plan.edit import with_shot
from kobrel.plan.export import PASSES, UpdatedFile
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.occlusion import own_rows
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import (
    CameraKey,
    DistanceTarget,
    FixedCamera,
    MadeCamera,
    Mark,
    Plan,
    PointAnchor,
    Shot,
    Subject,
)
from kobrel.plan.values.back import taken
from kobrel.plan.values.blocks import BLOCKS, block
from kobrel.plan.values.changes import taken_values
from kobrel.plan.values.own import CustomValue, CustomValues
from kobrel.plan.values.render_camera import render_camera
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Cancelled, no_progress
from kobrel.stage.stage import Stage
from tests.conftest import box_at

WRITERS = {
    ".usda": write_usd,
    ".usdc": write_usd,
    ".gltf": write_gltf,
    ".glb": write_gltf,
    ".abc": write_alembic,
}


def breathing(plan):
    """The rack with a thin lens and a zoom, seen a little beside the axis."""
    glass = plan.shots[1].glass
    keys = (Key(frame=1001, value=50.0), Key(frame=1096, value=65.0))
    glass = glass.replace(model="thin", focal_mm=Keyed(value=50.0, keys=keys), shift_mm=(1.0, -0.5))
    return plan.shots[1].replace(glass=glass)


def squeezed(plan):
    """The departure through a lens with a squeeze of 2, a little off its axis."""
    return plan.shots[3].replace(glass=plan.shots[3].glass.replace(squeeze=2.0, shift_mm=(1.0, 0.5)))


def test_a_reader_that_knows_no_squeeze_sees_the_angle_of_an_archives_camera(demo, tmp_path):
    """By the library's own angle of view, in a process of its own as wherever it is used."""
    plan, stage = demo
    shot = squeezed(plan)
    path = tmp_path / "camera.abc"
    write_alembic(plan, shot, stage, path)
    read = (
        "import sys, imath\nfrom alembic3d import Abc, AbcGeom\n"
        "top = Abc.IArchive(sys.argv[1]).getTop()\n"
        "camera = AbcGeom.ICamera(top.getChild(0), 'camera').getSchema()\n"
        "sample = camera.getValue(Abc.ISampleSelector(0))\n"
        "print(sample.getFieldOfView(), sample.getLensSqueezeRatio(),"
        " sample.getHorizontalFilmOffset() / sample.getHorizontalAperture())"
    )
    told = subprocess.run([sys.executable, "-c", read, path], capture_output=True, text=True, check=True)
    angle_deg, squeeze, shifted = map(float, told.stdout.split())
    camera = survey(plan, shot, stage, [shot.first - shot.handles]).camera.frame(0)
    half = float(camera.sensor_width_mm) * 2.0 / 2.0 / float(camera.image_distance_mm)
    assert angle_deg == pytest.approx(2.0 * math.degrees(math.atan(half)), rel=1e-9)
    assert squeeze == 1.0
    assert shifted == pytest.approx(1.0 / float(camera.sensor_width_mm), rel=1e-9)


@pytest.mark.parametrize("ending", WRITERS)
@pytest.mark.parametrize("which", ["plain", "breathing", "squeezed"])
def test_a_camera_that_comes_back_as_it_was_differs_in_nothing(demo, tmp_path, ending, which):
    plan, stage = demo
    shot = {"plain": lambda plan: plan.shots[3], "breathing": breathing, "squeezed": squeezed}[which](plan)
    path = tmp_path / f"camera{ending}"
    WRITERS[ending](plan, shot, stage, path)
    back = read_camera(path)
    assert (back.frames[0], back.frames[-1]) == (shot.first - shot.handles, shot.last + shot.handles)
    found = compare(plan, shot, stage, back, METRE)
    # The format of glTF has no lens shift; Kobrel's own extras have it.
    assert found.differences == ()
    assert found.taken(list(PARTS)) == shot


def elsewhere(path, frames=None):
    """A camera of USD changed as another program would: stop and focus."""
    stage = Usd.Stage.Open(str(path))
    camera = UsdGeom.Camera(next(prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Camera)))
    for attribute, by in ((camera.GetFStopAttr(), 2.0), (camera.GetFocusDistanceAttr(), 1.05)):
        for frame in attribute.GetTimeSamples():
            attribute.Set(attribute.Get(frame) * by, frame)
    stage.Save()
    return path


@pytest.mark.parametrize("which", ["plain", "breathing"])
def test_two_differences_are_found_and_taken_in_part(demo, tmp_path, which):
    plan, stage = demo
    shot = plan.shots[1] if which == "plain" else breathing(plan)
    path = tmp_path / "camera.usda"
    write_usd(plan, shot, stage, path)
    back = read_camera(elsewhere(path))
    assert any("the lens was edited elsewhere" in line for line in back.told)
    found = compare(plan, shot, stage, back, measure("cm"))
    assert [each.part for each in found.differences] == ["focus", "stop"]
    before = survey(plan, shot, stage)
    for each in found.differences:
        after = survey(plan, found.taken([each.part]), stage)
        with np.errstate(invalid="ignore"):
            seen = before.sight.in_frame | after.sight.in_frame
            off = np.nanmax(np.where(seen, abs(after.sight.blur_px - before.sight.blur_px), 0.0))
        assert each.blur_px >= off - 1e-9
        assert each.blur_px > 1
        assert each.before != each.after
    taken_whole = found.taken([each.part for each in found.differences])
    after = survey(plan, taken_whole, stage)
    with np.errstate(invalid="ignore"):
        rendered = survey(plan, shot, stage).camera
    np.testing.assert_allclose(after.camera.focus_m, rendered.focus_m * 1.05, rtol=2e-4)
    ratio = (after.camera.image_distance_mm / after.camera.pupil_mm) / (
        rendered.image_distance_mm / rendered.pupil_mm
    )
    np.testing.assert_allclose(ratio, 2.0, rtol=1e-4)
    only_stop = found.taken(["stop"])
    assert only_stop.marks == shot.marks


def test_a_camera_made_elsewhere_is_taken_with_its_place(demo, tmp_path):
    """Another place, lens, film back and frame count: each difference by itself, then everything."""
    plan, stage = demo
    shot = plan.shots[1]
    keys = (
        CameraKey(frame=1001, position_m=(0.0, 1.6, 1.0), aim_m=(0.2, 1.2, -4.0), ease="even"),
        CameraKey(frame=1096, position_m=(0.6, 1.9, 0.4), aim_m=(0.4, 1.1, -4.0), roll_deg=4.0, ease="even"),
    )
    other = shot.replace(
        camera=MadeCamera(position_m=(0, 1, 0), aim_m=(0, 1, -1), keys=keys), handles=0,
        glass=shot.glass.replace(focal_mm=Keyed(value=35.0), squeeze=1.0, lens=None,
                             sensor=shot.glass.sensor.replace(width_mm=30.0, height_mm=18.0)),
    )  # fmt: skip
    path = tmp_path / "made.glb"
    write_gltf(plan, other, stage, path)
    found = compare(plan, shot, stage, read_camera(path), METRE)
    parts = [each.part for each in found.differences]
    assert parts == ["place", "squeeze", "film", "lens", "stop"] or set(parts) >= {"place", "film", "lens"}
    made = found.taken(list(PARTS))
    after, wanted = survey(plan, made, stage), survey(plan, other, stage)
    np.testing.assert_allclose(after.camera.pose, wanted.camera.pose, atol=2e-5)
    for x, y in ((after.sight.x_px, wanted.sight.x_px), (after.sight.blur_px, wanted.sight.blur_px)):
        np.testing.assert_allclose(x, y, atol=0.05)


def test_frames_that_are_counted_from_elsewhere_are_matched_by_length(demo, tmp_path):
    plan, stage = demo
    shot = plan.shots[1].replace(handles=0)
    path = tmp_path / "camera.gltf"
    write_gltf(plan, shot, stage, path)
    content = json.loads(path.read_text())
    content["asset"]["extras"]["kobrel"]["first"] = 1
    path.write_text(json.dumps(content))
    found = compare(plan, shot, stage, read_camera(path), METRE)
    assert found.differences == ()
    assert "start at 1; they are taken from 1001" in found.told[0]
    content["asset"]["extras"]["kobrel"] = {"fps": 24, "first": 5000}
    path.write_text(json.dumps(content))
    with pytest.raises(ExchangeError, match="are none of shot 03"):
        compare(plan, plan.shots[2], stage, read_camera(path), METRE)
    short = plan.shots[1].replace(first=1050, last=1200)
    content["asset"]["extras"]["kobrel"] = {"fps": 24, "first": 1001}
    path.write_text(json.dumps(content))
    assert "55 of the shot's 151 frames" in compare(plan, short, stage, read_camera(path), METRE).told[0]


@pytest.mark.parametrize("ending", WRITERS)
def test_a_camera_that_stands_still_has_no_frames_to_match(tmp_path, ending):
    plan = Plan(shots=(Shot(name="1", camera=MadeCamera(position_m=(0, 1, 3), aim_m=(0, 1, 0))),))
    path = tmp_path / f"still{ending}"
    WRITERS[ending](plan, plan.shots[0], Stage(), path)
    other = plan.shots[0].replace(marks=(Mark(frame=1001, target=DistanceTarget(metres=2.0)),))
    found = compare(plan, other, Stage(), read_camera(path), METRE)
    assert [each.part for each in found.differences] == ["focus"]
    assert found.taken(["focus"]).marks == plan.shots[0].marks


def test_what_somebody_broke_in_extras_does_not_count(demo, tmp_path):
    plan, stage = demo
    path = tmp_path / "camera.gltf"
    write_gltf(plan, plan.shots[1], stage, path)
    content = json.loads(path.read_text())
    content["cameras"][0]["perspective"]["yfov"] *= 1.2
    path.write_text(json.dumps(content))
    back = read_camera(path)
    assert back.f_number is None
    assert any("its angle of view was changed" in line for line in back.told)
    found = compare(plan, plan.shots[1], stage, back, METRE)
    assert {"film", "lens"} & {each.part for each in found.differences}
    assert any("says nothing of the stop" in line for line in found.told)
    for extras in ({"kobrel": {"focalMm": [-1]}}, {"kobrel": "x"}, [], None):
        content["cameras"][0]["extras"] = extras
        path.write_text(json.dumps(content))
        assert load_scene(path).cameras[0].focus_m is None


def test_a_camera_that_is_not_there_is_told(demo, tmp_path, moving_scene):
    plan, stage = demo
    path = tmp_path / "camera.usda"
    write_usd(plan, plan.shots[1], stage, path)
    with pytest.raises(ExchangeError, match=r"no camera named /x in it\. It has /NightFerry"):
        read_camera(path, "/x")
    (tmp_path / "none.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    with pytest.raises(ExchangeError, match="no camera found"):
        read_camera(tmp_path / "none.obj")
    with pytest.raises(SceneError, match="no such file"):
        read_camera(tmp_path / "gone.usda")
    round_view = plan.shots[1].replace(glass=plan.shots[1].glass.replace(projection="fisheye"))
    for ending, write in WRITERS.items():
        with pytest.raises(ExchangeError, match="fisheye"):
            write(plan, round_view, stage, tmp_path / f"x{ending}")
    flat = plan.shots[1].replace(glass=plan.shots[1].glass.replace(projection="orthographic"))
    write_gltf(plan, flat, stage, tmp_path / "flat.gltf")
    source = load_scene(tmp_path / "flat.gltf").cameras[0]
    assert (source.projection, source.field_m, source.cone_deg) == ("orthographic", 4.0, 1.0)
    with pytest.raises(ExchangeError, match="orthographic view"):
        read_camera(tmp_path / "flat.gltf")
    for wrong, write in (("x.usda", write_gltf), ("x.gltf", write_alembic), ("x.txt", write_usd)):
        with pytest.raises(ExchangeError, match=wrong):
            write(plan, plan.shots[1], stage, tmp_path / wrong)


def test_only_what_changed_lies_over_the_scene(demo, tmp_path):
    plan, stage = demo
    shot = plan.shots[1]
    path = tmp_path / "changes.usda"
    write_usd(plan, shot, stage, path, only_changes=True)
    layer = Usd.Stage.Open(str(path))
    prim = layer.GetPrimAtPath("/NightFerry/Cameras/Rack")
    assert prim.GetSpecifier() == Sdf.SpecifierOver
    authored = {name for name in prim.GetAuthoredPropertyNames() if not name.startswith("kobrel")}
    assert "focusDistance" in authored
    assert not authored & {"focalLength", "xformOp:transform", "horizontalAperture", "projection"}
    path = tmp_path / "nearer.usda"
    nearer = shot.replace(ahead_m=0.3, glass=shot.glass.replace(focal_mm=Keyed(value=60.0)))
    write_usd(plan, nearer, stage, path, only_changes=True)
    layer = Usd.Stage.Open(str(path))
    authored = set(layer.GetPrimAtPath("/NightFerry/Cameras/Rack").GetAuthoredPropertyNames())
    assert authored >= {"focalLength", "xformOp:transform", "xformOpOrder"}
    # Laid over the scene it makes the plan's camera.
    root = Usd.Stage.CreateInMemory()
    root.GetRootLayer().subLayerPaths = [str(path), plan.scenes[0].path]
    camera = UsdGeom.Camera(root.GetPrimAtPath("/NightFerry/Cameras/Rack")).GetCamera(1050)
    numbers = survey(plan, nearer, stage).camera.frame(49)
    assert camera.focusDistance == pytest.approx(float(numbers.focus_m), rel=1e-6)
    assert camera.horizontalAperture == pytest.approx(
        numbers.sensor_width_mm * numbers.squeeze / 100, rel=1e-5
    )
    fixed = shot.replace(camera=MadeCamera(position_m=(0, 1, 0), aim_m=(0, 1, -1)))
    with pytest.raises(ExchangeError, match="of no scene file"):
        write_usd(plan, fixed, stage, path, only_changes=True)


@pytest.mark.parametrize("ending", [".csv", ".json"])
def test_frames_in_terms_go_out_and_come_back(demo, tmp_path, ending):
    plan, stage = demo
    shot = breathing(plan)
    numbers, path = survey(plan, shot, stage), tmp_path / f"frames{ending}"
    own = CustomValues(
        title="Mine", terms=(CustomValue(name="ap", quantity="aperture_radius", scale=10.0, unit="in"),)
    )
    write_values(plan, shot, numbers, [own, *BLOCKS[:9]], measure("cm"), path)
    back = read_values_file(path, METRE, [own])
    assert back.frames.tolist() == numbers.frames.tolist()
    assert back.unknown == ()
    camera = render_camera(shot, numbers)
    made = taken(camera, back.given)
    np.testing.assert_allclose(made.blur_px(3.0), camera.blur_px(3.0), atol=1e-4)
    other = shot.replace(glass=shot.glass.replace(f_number=Keyed(value=8.0)))
    found = taken_values(plan, other, stage, back, 1001, METRE)
    after = survey(plan, found.shot, stage)
    np.testing.assert_allclose(after.sight.blur_px, numbers.sight.blur_px, atol=0.01)
    with pytest.raises(ExchangeError, match=r"written as \.csv or \.json"):
        write_values(plan, shot, numbers, BLOCKS, METRE, tmp_path / "x.xml")
    path.write_text("Radius,f-number\n1,2\n2,3")
    with pytest.raises(ExchangeError, match=re.escape(str(path))):
        read_values_file(path, METRE)


def test_lists_tell_marks_and_lens(demo, tmp_path):
    plan, stage = demo
    write_list(plan, stage, tmp_path / "cut.otio")
    content = json.loads((tmp_path / "cut.otio").read_text())
    clip = content["tracks"]["children"][0]["children"][1]
    focus = [
        marker for marker in clip["markers"] if marker["metadata"].get("kobrel", {}).get("kind") == "mark"
    ]
    assert [marker["name"] for marker in focus] == ["Focus: Lantern"] * 2 + ["Focus: Ferryman"] * 2
    assert focus[0]["metadata"]["kobrel"]["timecode"] == "00:00:41:17"
    numbers = survey(plan, plan.shots[1], stage)
    assert focus[2]["metadata"]["kobrel"]["focus_m"] == pytest.approx(float(numbers.camera.focus_m[60]))
    lens = clip["metadata"]["kobrel"]
    assert (lens["focal_mm"], lens["squeeze"], lens["sensor_mm"]) == (50.0, 2.0, [12.445, 14.0])
    assert [entry.cues for entry in read_list(tmp_path / "cut.otio")] == [shot.cues for shot in plan.shots]
    write_list(plan, stage, tmp_path / "cut.edl")
    assert [entry.name for entry in read_list(tmp_path / "cut.edl")] == [shot.name for shot in plan.shots]
    assert "FOCUS: LANTERN" in (tmp_path / "cut.edl").read_text()
    mixed = with_shot(plan, 0, plan.shots[0].replace(fps=25))
    with pytest.raises(ExchangeError, match="has one frame rate"):
        write_list(mixed, stage, tmp_path / "mixed.edl")
    bare = plan.replace(scenes=())
    write_list(bare, Stage(), tmp_path / "bare.otio")  # a camera that is missing is no reason


def channels(path):
    image = oiio.ImageInput.open(str(path))
    pixels, spec = image.read_image(format="float"), image.spec()
    image.close()
    return dict(zip(spec.channelnames, np.moveaxis(np.asarray(pixels), -1, 0), strict=True))


def test_passes_are_what_the_note_says(demo, tmp_path):
    plan, stage = demo
    shot = plan.shots[1]
    size = (192, 108)
    paths = write_passes(
        plan, shot, stage, [1001, 1050], list(PASSES), tmp_path / "rack.exr", no_progress, measure("cm"), size
    )
    assert [path.name for path in paths] == ["rack.1001.exr", "rack.1050.exr", "rack.txt"]
    made = channels(paths[0])
    numbers = survey(plan, shot, stage)
    camera = numbers.camera.frame(0)
    # The ferryman's own pixel: depth, straight distance, blur, and his matte.
    x, y = (int(float(v[1, 0]) / 1920 * 192) for v in (numbers.sight.x_px, numbers.sight.y_px))
    depth = made["Z"][y, x] / 100
    matte = made[matte_channel(2, "Ferryman")]
    assert matte[y, x] == 1.0
    assert depth == pytest.approx(float(numbers.sight.axial_m[1, 0]), abs=0.3)
    start, toward = camera.ray(x + 0.5, y + 0.5, 192, 108)
    pick = stage.pick(1001, start, toward)
    assert depth == pytest.approx(pick.along, rel=1e-4)
    assert made["distance"][y, x] / 100 == pytest.approx(float(np.linalg.norm(pick.point - start)), rel=1e-4)
    blur = float(camera.blur_px(depth)) * 192 / 1920
    assert abs(made["blur"][y, x]) == pytest.approx(blur, abs=1e-3)
    near, far = (
        float(v) / 100 for v in re.findall(r"0 at ([\d.]+) cm and 1 at ([\d.]+) cm", paths[2].read_text())[0]
    )
    assert made["depth01"][y, x] == pytest.approx((depth - near) / (far - near), abs=1e-4)
    assert made["inverse01"][y, x] == pytest.approx(near / depth, abs=1e-4)
    assert set(np.unique(made["focus"])) <= {0.0, 1.0}
    assert made["blur"].min() < 0 < made["blur"].max()
    # Edges of mattes are parts of a pixel, and hold as much as finer rays find.
    assert ((matte > 0) & (matte < 1)).any()
    rows = own_rows(stage, plan.subjects[1].anchor)
    assert rows
    for text in (
        "Z: distance on axis, cm",
        matte_channel(2, "Ferryman"),
        "below 0 nearer",
    ):
        assert text in paths[2].read_text()


def test_passes_stop_and_refuse(demo, tmp_path):
    plan, stage = demo
    shot = plan.shots[0]

    def stop(what, part):
        if what.startswith("Frame") and part > 0:
            raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        write_passes(plan, shot, stage, [1001, 1002], ["blur"], tmp_path / "x.exr", stop, size=(32, 18))
    assert [path.name for path in tmp_path.iterdir()] == ["x.1001.exr"]


@pytest.mark.parametrize("size", [(96, 96), (96, 54), (96, 30)])
def test_passes_of_another_shape_are_those_of_the_picture_of_that_shape(looking_at, tmp_path, size):
    """A wall across the axis at 5 m: straight distances in closed form, with pixels as wide as high."""
    plan, shot, stage = looking_at(box_at((0, 0, -6), (40, 40, 2)))
    path = write_passes(
        plan, shot, stage, [1], ["depth", "straight"], tmp_path / "p.exr", no_progress, size=size
    )[0]
    made = channels(path)
    depth, straight = made["Z"], made["distance"]
    np.testing.assert_allclose(depth, 5.0, rtol=1e-5)
    half = float(camera_at(plan, shot, 1, stage).half_widths()[0])
    wide, tall = size
    x = ((np.arange(wide) + 0.5) / wide * 2 - 1) * half
    y = ((np.arange(tall) + 0.5) / tall * 2 - 1) * half * tall / wide
    np.testing.assert_allclose(straight, 5.0 * np.sqrt(1 + x**2 + y[:, None] ** 2), rtol=1e-5)
    with pytest.raises(ExchangeError, match=r"written as \.exr"):
        write_passes(plan, shot, stage, [1001], ["blur"], tmp_path / "x.png", no_progress)
    with pytest.raises(ExchangeError, match="no passes"):
        write_passes(plan, shot, stage, [], ["blur"], tmp_path / "x.exr", no_progress)
    with pytest.raises(ExchangeError, match="0 x 5"):
        write_passes(plan, shot, stage, [1001], ["blur"], tmp_path / "x.exr", no_progress, size=(0, 5))


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind not in ("sheet", "html", "plates")])
def test_each_kind_is_written(demo, tmp_path, kind):
    plan, stage = demo
    path = tmp_path / f"out{KINDS[kind].endings[0]}"
    export(plan, plan.shots[1], stage, kind, path)
    assert path.stat().st_size > 100
    export(plan, plan.shots[1], stage, kind, path, Options(measure("cm"), [block("aperture")], (1010, 1012)))
    if kind in ("csv", "json"):
        assert path.read_text().count("1012") == 1
        with pytest.raises(ExchangeError, match="comes before the first"):
            export(plan, plan.shots[1], stage, kind, path, Options(frames=(5, 4)))


def test_files_are_kept_up_to_date_only_where_they_change(demo, tmp_path):
    plan, stage = demo
    trust.allow([tmp_path])
    outs = tuple(
        UpdatedFile(kind=kind, path=str(tmp_path / f"{kind}{KINDS[kind].endings[0]}"), shots=("02",),
                terms=("aperture",) if kind == "json" else ())
        for kind in ("usd", "gltf", "csv", "json")
    )  # fmt: skip
    plan = plan.replace(handed=(*outs, UpdatedFile(kind="otio", path=str(tmp_path / "cut.otio"))))
    save_plan(plan, tmp_path / "ferry.kobrel")
    text = (tmp_path / "ferry.kobrel").read_text()
    assert '"path": "cut.otio"' in text
    again = open_plan(tmp_path / "ferry.kobrel")
    assert again.handed == plan.handed
    may = Allowance(frozenset({tmp_path}))
    done = keep_up(plan, stage, may)
    assert (len(done.written), done.told) == (5, ())
    may = Allowance(may.folders, {str(path): state_of(path) for path in done.written})
    assert keep_up(plan, stage, may) == Upkept((), ())
    stamps = {path: path.stat().st_mtime_ns for path in done.written}
    changed = with_shot(
        plan, 1, plan.shots[1].replace(marks=(Mark(frame=1001, target=DistanceTarget(metres=2.0)),))
    )
    assert set(keep_up(changed, stage, may).written) == set(done.written)
    assert all(path.stat().st_mtime_ns != stamp for path, stamp in stamps.items())
    assert len(list(tmp_path.glob("*~"))) == 5  # earlier versions
    assert not [path for path in tmp_path.iterdir() if path.name.startswith(".")]
    # What cannot be written is told, and the others are.
    odd = (
        UpdatedFile(kind="usd", path=str(tmp_path / "a.usda"), shots=("99",)),
        UpdatedFile(kind="csv", path=str(tmp_path / "gone" / "a.csv"), shots=("02",)),
        UpdatedFile(kind="json", path=str(tmp_path / "b.json"), shots=("02",), terms=("nothing",)),
        UpdatedFile(kind="csv", path="/etc/kobrel_never.csv", shots=("02",)),
        UpdatedFile(kind="otio", path=str(tmp_path / "fresh.otio")),
    )
    may = Allowance(frozenset({tmp_path, tmp_path / "gone"}))
    done = keep_up(plan.replace(handed=odd), stage, may)
    assert [path.name for path in done.written] == ["fresh.otio"]
    for line, why in zip(
        done.told, ("not in the plan any more", "no such folder", "no values", "of the system"), strict=True
    ):
        assert why in line


def test_a_plan_writes_only_what_was_allowed(demo, tmp_path, monkeypatch):
    """Whatever a stranger's plan names, it writes nothing unasked, and some things never."""
    plan, stage = demo
    home = tmp_path / "home"
    trust.allow([home])  # may be read: that is another permission
    for folder in ("shots", "own", ".config", "config"):
        (home / folder).mkdir(parents=True)
    monkeypatch.setenv("XDG_CONFIG_HOME", str(home / "config"))
    mine = home / "own" / "budget.csv"
    for path in (home / ".bashrc", mine, home / "own" / "run.sh"):
        path.write_text("mine")
    (home / "shots" / "linked.csv").symlink_to(home / ".bashrc")

    def out(path, kind="csv"):
        return UpdatedFile(kind=kind, path=str(path), shots=("02",))

    never = {
        out(home / ".bashrc"): "must end in .csv",
        out(home / "own" / "run.sh"): "must end in .csv",
        out(home / "own" / "x.json"): "must end in .csv",
        out(home / "shots" / "linked.csv"): "must end in .csv",
        out(home / ".config" / "x.csv"): "hidden",
        out(home / "shots" / ".x.csv"): "hidden",
        out(home / "config" / "x.csv"): "folders of settings",
        out("/etc/cron.d/x.csv"): "of the system",
        out(Path(kobrel.__file__).parent / "demo" / "x.csv"): "of Kobrel",
    }
    for each, why in never.items():
        assert why in fault_of(each)
    fresh = out(home / "shots" / "new.csv")
    theirs = plan.replace(handed=(*never, fresh, out(mine)))
    wanted = asked(theirs, Allowance())
    assert (wanted.new, wanted.replaced) == ((home / "shots" / "new.csv",), (mine,))
    assert wanted.folders == {home / "shots", home / "own"}
    before = {path: path.read_bytes() for path in home.rglob("*") if path.is_file()}
    for may in (Allowance(), Allowance(frozenset({home / "own"}))):
        done = keep_up(theirs, stage, may)
        assert (done.written, len(done.told)) == ((), 11)
        assert {path: path.read_bytes() for path in home.rglob("*") if path.is_file()} == before
    allowed = Allowance(wanted.folders, {str(mine): state_of(mine)})
    done = keep_up(theirs, stage, allowed)
    assert set(done.written) == {home / "shots" / "new.csv", mine}
    assert (home / "own" / "budget.csv~").read_text() == "mine"
    assert (home / ".bashrc").read_text() == "mine"
    # Names that are too long are told as anything that cannot be written.
    for long in (home / "own" / ("a" * 300 + ".csv"), home / ("a" * 300) / "x.csv"):
        odd = plan.replace(handed=(out(long),))
        assert asked(odd, Allowance()).new == (long,)
        assert "cannot be written" in keep_up(odd, stage, Allowance(frozenset({long.parent}))).told[0]
    # Changed by somebody else meanwhile, it is asked for again.
    allowed = Allowance(wanted.folders, {str(path): state_of(path) for path in done.written})
    assert asked(theirs, allowed) == Asked()
    mine.write_text("mine again")
    assert asked(theirs, allowed).replaced == (mine,)


def test_a_hand_over_is_stopped_within_a_file(demo, tmp_path):
    plan, stage = demo
    trust.allow([tmp_path])
    seen = []

    def stop(what, part):
        seen.append(what)
        if len(seen) > 3:
            raise Cancelled("Stopped.")

    out = UpdatedFile(kind="sheet", path=str(tmp_path / "sheet.pdf"), shots=("03",))
    with pytest.raises(Cancelled):
        keep_up(plan.replace(handed=(out,)), stage, Allowance(frozenset({tmp_path})), progress=stop)
    assert list(tmp_path.iterdir()) == []
    assert set(seen) == {"Handing over sheet.pdf"}


def test_an_empty_plan_hands_nothing_over():
    assert keep_up(Plan(), Stage(), Allowance()) == Upkept((), ())
    plan = Plan(shots=(Shot(name="1", camera=MadeCamera(position_m=(0, 0, 0), aim_m=(0, 0, -1))),))
    assert keep_up(plan, Stage(), Allowance()) == Upkept((), ())


def test_a_camera_that_stands_nowhere_is_refused(demo, tmp_path):
    plan, stage = demo
    path = tmp_path / "odd.gltf"
    write_gltf(plan, plan.shots[2], stage, path)
    content = json.loads(path.read_text())
    content["animations"] = []
    for place in ({"scale": [0, 0, 0]}, {"translation": [1e30, 0, 0]}):
        content["nodes"][0] = {"camera": 0, **place}
        path.write_text(json.dumps(content))
        with pytest.raises(ExchangeError, match="the camera position is invalid at frame 0"):
            read_camera(path)


def test_turns_of_a_camera_that_goes_round_take_the_short_way():
    """A quaternion and its opposite are the same turn; between two frames a reader goes the way between them."""
    angles = np.radians(np.linspace(0.0, 720.0, 145))
    turns = _turns(Rotation.from_euler("y", angles[:, None]).as_matrix())
    assert (np.sum(turns[1:] * turns[:-1], axis=1) > 0.99).all()
    assert np.abs(turns[:, 1]) == pytest.approx(np.abs(np.sin(angles / 2)), abs=1e-9)


@pytest.mark.parametrize("fault", ["shear", "far", "nothing"])
def test_a_camera_that_comes_back_with_one_thing_wrong_is_refused(fault):
    pose = np.tile(np.eye(4), (3, 1, 1))
    if fault == "shear":
        pose[1, 0, 1] = pose[1, 1, 0] = 0.9
    elif fault == "far":
        pose[1, 0, 3] = 1e12
    else:
        pose[1, 2, 3] = np.nan
    with pytest.raises(ExchangeError, match="frame 1002"):
        _require_places(pose, np.array([1001.0, 1002.0, 1003.0]), Path("a.usd"))
    _require_places(np.tile(np.eye(4), (3, 1, 1)), np.arange(3.0), Path("a.usd"))


def test_what_one_of_two_cameras_sees_is_compared(looking_at):
    plan, shot, stage = looking_at()
    plan = plan.replace(
        subjects=(Subject(number=1, name="a", anchor=PointAnchor(position_m=(0.0, 0.0, -3.0))),)
    )
    turned = Rotation.from_euler("y", 40, degrees=True).as_matrix()
    pose = np.eye(4)
    pose[:3, :3] = turned
    away = shot.replace(camera=FixedCamera(pose=tuple(pose.ravel().tolist())))
    one, other = (survey(plan, each, stage, np.array([1.0])) for each in (shot, away))
    assert (one.sight.in_frame.tolist(), other.sight.in_frame.tolist()) == ([[True]], [[False]])
    wanted = abs(float(one.sight.blur_px[0, 0] - other.sight.blur_px[0, 0]))
    assert wanted > 1.0
    for first, second in ((one, other), (other, one)):
        assert _apart(first, second)[0] == pytest.approx([wanted])
