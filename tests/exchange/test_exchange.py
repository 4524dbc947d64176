import csv
import io

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from kobrel.errors import ExchangeError, SceneError
from kobrel.exchange.cameras.back import read_camera
from kobrel.exchange.cameras.usd import write_usd
from kobrel.exchange.images import EXR_CHANNELS, write_exr, write_png
from kobrel.exchange.table import csv_text, survey_data, write_csv
from kobrel.plan import edit
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import DistanceTarget, Mark
from kobrel.plan.staging import Library, stage_of
from kobrel.plan.start import plan_from_scene
from kobrel.stage.pictures.pixels import read_pixels
from kobrel.stage.read.load import load_scene


def variants(shot):
    keyed = Keyed(value=2, keys=(Key(frame=shot.first, value=2), Key(frame=shot.last, value=5.6)))
    yield shot
    yield shot.replace(glass=shot.glass.replace(f_number=keyed))
    yield shot.replace(
        glass=shot.glass.replace(model="thin", squeeze=1.8, surface="sphere"),
        iris=IrisShape(blades=5, roundness=0.3, rotation_deg=7),
    )


@pytest.mark.parametrize("which", range(3))
def test_a_camera_written_as_usd_reads_back_the_same(demo, tmp_path, which):
    plan, stage = demo
    shot = list(variants(plan.shots[1]))[which]
    write_usd(plan, shot, stage, tmp_path / "cam.usda")
    back = read_camera(tmp_path / "cam.usda")
    first, last = shot.first - shot.handles, shot.last + shot.handles
    expected = survey(plan, shot, stage, np.arange(first, last + 1.0)).camera
    assert (back.frames[0], back.frames[-1]) == (first, last)
    np.testing.assert_allclose(back.pose, expected.pose, atol=1e-9)
    np.testing.assert_allclose(back.focal_mm, expected.image_distance_mm, rtol=1e-12)
    np.testing.assert_allclose(back.f_number, expected.image_distance_mm / expected.pupil_mm, rtol=1e-12)
    np.testing.assert_allclose(back.focus_m, expected.focus_m, rtol=1e-12)
    np.testing.assert_allclose(back.width_mm, expected.sensor_width_mm * expected.squeeze, rtol=1e-6)
    np.testing.assert_allclose(back.height_mm, expected.sensor_height_mm, rtol=1e-6)


def usd_camera(path, frame):
    stage = Usd.Stage.Open(str(path))
    prim = next(prim for prim in stage.Traverse() if prim.IsA(UsdGeom.Camera))
    return stage, UsdGeom.Camera(prim), UsdGeom.Camera(prim).GetCamera(Usd.TimeCode(frame))


def test_any_reader_of_usd_sees_a_render_camera_that_makes_the_same_picture(demo, tmp_path):
    plan, stage = demo
    shot = list(variants(plan.shots[1]))[2]
    write_usd(plan, shot, stage, tmp_path / "cam.usdc")
    camera = survey(plan, shot, stage).camera.frame(60)
    opened, _, plain = usd_camera(tmp_path / "cam.usdc", shot.first + 60)
    tenth_mm = UsdGeom.GetStageMetersPerUnit(opened) * 100
    assert plain.focalLength * tenth_mm == pytest.approx(float(camera.image_distance_mm), rel=1e-5)
    assert plain.focalLength * tenth_mm / plain.fStop == pytest.approx(float(camera.pupil_mm), rel=1e-5)
    assert plain.GetFieldOfView(plain.FOVHorizontal) == pytest.approx(
        float(camera.view_angles_deg[0]), rel=1e-5
    )
    assert plain.GetFieldOfView(plain.FOVVertical) == pytest.approx(
        float(camera.view_angles_deg[1]), rel=1e-5
    )
    assert plain.focusDistance == pytest.approx(float(camera.focus_m), rel=1e-5)


def test_laid_over_its_scene_it_replaces_the_camera_and_nothing_else(moving_scene, tmp_path):
    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    shot = plan.shots[0].replace(glass=plan.shots[0].glass.replace(focal_mm=Keyed(value=85)))
    write_usd(plan, shot, stage, tmp_path / "over.usda")
    top = Usd.Stage.Open(str(tmp_path / "over.usda"))
    top.GetRootLayer().subLayerPaths = [moving_scene.name]
    top.Save()
    joined = load_scene(tmp_path / "over.usda")
    alone = load_scene(moving_scene)
    assert [node.path for node in joined.nodes] == [node.path for node in alone.nodes]
    assert joined.triangle_count == alone.triangle_count
    assert joined.camera("/Camera").focal_mm.values[0, 0] == pytest.approx(85)
    for frame in (1.0, 6.0, 11.0):
        got = joined.world(joined.find("/Camera"), [frame])[0] @ np.diag([100, 100, 100, 1])
        expected = alone.world(alone.find("/Camera"), [frame])[0] @ np.diag([100, 100, 100, 1])
        np.testing.assert_allclose(got, expected, atol=1e-6)
    kinds = {prim.GetPath().pathString: prim.GetTypeName() for prim in top.Traverse()}
    assert kinds["/Rig"] == "Xform"


def test_units_and_axes_of_the_scene_are_kept(moving_scene, tmp_path):
    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    write_usd(plan, plan.shots[0], stage, tmp_path / "cam.usda")
    opened, schema, plain = usd_camera(tmp_path / "cam.usda", 1)
    assert UsdGeom.GetStageMetersPerUnit(opened) == 0.01
    assert UsdGeom.GetStageUpAxis(opened) == "Z"
    assert opened.GetTimeCodesPerSecond() == 25
    assert plain.focalLength == pytest.approx(50)
    assert plain.focusDistance == pytest.approx(400)
    assert schema.GetClippingRangeAttr().Get()[0] == pytest.approx(10)
    assert plain.transform.ExtractTranslation() == pytest.approx((0, -400, 0), abs=1e-9)


def test_a_camera_made_here_gets_a_prim_of_its_own(looking_at, tmp_path):
    plan, shot, stage = looking_at()
    write_usd(plan, shot, stage, tmp_path / "cam.usda")
    assert read_camera(tmp_path / "cam.usda", "/shot_1").focal_mm[0] == 50


def test_a_focus_at_infinity_is_far_for_others_and_exact_for_kobrel(looking_at, tmp_path):
    plan, shot, stage = looking_at()
    shot = shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=np.inf)),))
    write_usd(plan, shot, stage, tmp_path / "cam.usda")
    _, _, plain = usd_camera(tmp_path / "cam.usda", 5)
    assert plain.focusDistance == 1e6
    assert np.isinf(read_camera(tmp_path / "cam.usda").focus_m).all()


def test_usd_that_cannot_be_written_or_read(demo, moving_scene, tmp_path):
    plan, stage = demo
    with pytest.raises(ExchangeError, match="cannot be written"):
        write_usd(plan, plan.shots[0], stage, tmp_path / "nowhere" / "cam.usda")
    with pytest.raises(ExchangeError, match="ends in"):
        write_usd(plan, plan.shots[0], stage, tmp_path / "cam.txt")
    with pytest.raises(SceneError, match="no such file"):
        read_camera(tmp_path / "none.usda")
    with pytest.raises(ExchangeError, match="no camera named /Other"):
        read_camera(moving_scene, "/Other")


def test_csv_has_a_row_a_frame_in_full_precision(demo, tmp_path):
    plan, stage = demo
    shot = plan.shots[1]
    numbers = survey(plan, shot, stage)
    write_csv(plan, shot, numbers, tmp_path / "a.csv")
    rows = list(csv.DictReader(io.StringIO((tmp_path / "a.csv").read_text())))
    assert [int(row["frame"]) for row in rows] == list(range(shot.first, shot.last + 1))
    for i in (0, 50, 95):
        assert float(rows[i]["focus_m"]) == float(numbers.camera.focus_m[i])
        assert float(rows[i]["2 Ferryman blur_px"]) == float(numbers.sight.blur_px[1, i])
        assert rows[i]["1 Lantern state"] in ("sharp", "soft", "gone")
    assert csv_text(plan, shot, numbers) == (tmp_path / "a.csv").read_text()
    with pytest.raises(ExchangeError, match="cannot be written"):
        write_csv(plan, shot, numbers, tmp_path / "nowhere" / "a.csv")


def test_survey_data_has_no_infinities(demo):
    plan, stage = demo
    wide = plan.shots[0]
    data = survey_data(plan, wide, survey(plan, wide, stage))
    assert data["frames"][0]["far_m"] is None
    closed = edit.with_shot(plan, 0, wide).subjects
    assert [s["name"] for s in data["frames"][0]["subjects"]] == [s.name for s in closed]


def test_exr_keeps_light_depth_and_blur(tmp_path):
    random = np.random.default_rng(2)
    colour = random.random((9, 16, 3)).astype(np.float32) * 40
    depth = random.random((9, 16)).astype(np.float32) * 100
    depth[0, 0] = np.inf
    blur = random.random((9, 16)).astype(np.float32)
    write_exr(tmp_path / "a.exr", colour, depth, blur)
    pixels, names = read_pixels(tmp_path / "a.exr")
    assert names == EXR_CHANNELS
    np.testing.assert_array_equal(pixels, np.dstack([colour, depth, blur]))
    assert [p.name for p in tmp_path.iterdir()] == ["a.exr"]


def test_png_and_places_that_cannot_be_written(tmp_path):
    pixels = np.arange(60, dtype=np.uint8).reshape(4, 5, 3)
    write_png(tmp_path / "a.png", pixels)
    np.testing.assert_allclose(read_pixels(tmp_path / "a.png")[0] * 255, pixels, atol=0.01)
    with pytest.raises(ExchangeError, match="cannot be written"):
        write_png(tmp_path / "nowhere" / "a.png", pixels)
    with pytest.raises(SceneError, match="no such file"):
        read_pixels(tmp_path / "none.png")


def test_an_orthographic_view_survives_usd(moving_scene, tmp_path):
    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    shot = plan.shots[0]
    shot = shot.replace(glass=shot.glass.replace(projection="orthographic", field_m=3.2, cone_deg=1.5))
    write_usd(plan, shot, stage, tmp_path / "o.usda")
    written = Usd.Stage.Open(str(tmp_path / "o.usda"))
    camera = UsdGeom.Camera(written.GetPrimAtPath("/Camera"))
    assert camera.GetProjectionAttr().Get() == "orthographic"
    # Tenths of a centimetre.
    assert camera.GetHorizontalApertureAttr().Get(1) == pytest.approx(3200)
    again, _ = plan_from_scene(tmp_path / "o.usda", load_scene(tmp_path / "o.usda"))
    glass = again.shots[0].glass
    assert (glass.projection, glass.cone_deg) == ("orthographic", 1.5)
    assert glass.field_m == pytest.approx(3.2)
    assert (glass.sensor.width_mm, glass.sensor.height_mm) == pytest.approx((36, 24))


def test_a_fisheye_is_refused_by_usd_with_a_way_out(moving_scene, tmp_path):
    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    shot = plan.shots[0].replace(glass=plan.shots[0].glass.replace(projection="fisheye"))
    with pytest.raises(ExchangeError, match="Export its numbers as CSV"):
        write_usd(plan, shot, stage, tmp_path / "f.usda")


def test_a_camera_of_a_placed_scene_fits_that_scenes_file(moving_scene, tmp_path):
    scene = load_scene(moving_scene)
    plan, plain = plan_from_scene(moving_scene, scene)
    shot = plan.shots[0]
    write_usd(plan, shot, plain, tmp_path / "a.usda")
    moved = edit.with_scene(plan, plan.scenes[0].name, position_m=(4, 1, -2), turn_deg=50)
    stage = stage_of(moved, Library({(plan.scenes[0].path, ()): scene}), plain)
    assert not np.allclose(survey(moved, shot, stage).camera.pose, survey(plan, shot, plain).camera.pose)
    write_usd(moved, shot, stage, tmp_path / "b.usda")
    one, other = read_camera(tmp_path / "a.usda"), read_camera(tmp_path / "b.usda")
    np.testing.assert_allclose(other.pose, one.pose, atol=1e-9)
    np.testing.assert_allclose(other.focus_m, one.focus_m)
