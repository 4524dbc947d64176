from dataclasses import fields

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pxr import Usd, UsdGeom

from kobrel.errors import PlanError
from kobrel.optics import lens
from kobrel.optics.ease import eased
from kobrel.plan import edit
from kobrel.plan.check import findings
from kobrel.plan.instrument import Criterion
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.camera import Camera, camera_at, cameras_at
from kobrel.plan.measure.summary import lens_words, summary
from kobrel.plan.measure.survey import GONE, SHARP, SOFT, survey
from kobrel.plan.model import (
    BoundsAnchor,
    DistanceTarget,
    FileCamera,
    Mark,
    PointAnchor,
    SubjectTarget,
    SurfaceAnchor,
)
from kobrel.plan.pull import marks as pulls
from kobrel.plan.pull.interpolation import focus_dpt
from kobrel.plan.staging import load_stage
from kobrel.plan.start import fewest, plan_from_scene
from kobrel.stage.read.load import load_scene
from tests.conftest import ball_at, box_at


def at(frame, metres, ease="smooth"):
    return Mark(frame=frame, target=DistanceTarget(metres=metres), ease=ease)


def test_focus_moves_in_dioptres_with_its_ease():
    frames = np.array([0, 10, 15, 20, 30])
    even = focus_dpt([at(10, 2.0, "even"), at(20, 5.0)], frames, {})
    np.testing.assert_allclose(even, [0.5, 0.5, 0.35, 0.2, 0.2])
    smooth = focus_dpt([at(10, 2.0), at(20, 5.0)], [12.5], {})
    assert smooth[0] == pytest.approx(0.5 - 0.3 * (3 * 0.25**2 - 2 * 0.25**3))
    assert focus_dpt([at(1, float("inf"))], [1], {})[0] == 0


def test_a_mark_with_a_field_that_is_not_known_yet_is_still_on_its_subject(demo):
    plan, stage = demo
    shot = plan.shots[1]
    marks = shot.marks
    later = marks[0].replace(target=SubjectTarget(number=1, note="from a later version"))
    changed = shot.replace(marks=(later, *marks[1:]))
    followed, known = (survey(plan, s, stage).camera.focus_m for s in (changed, shot))
    np.testing.assert_allclose(followed, known, rtol=1e-12)


def test_a_mark_on_a_subject_follows_it_through_the_pull():
    frames = np.arange(0, 21.0)
    seven = SubjectTarget(number=7)
    live = {seven: 1 / (2 + 0.1 * frames)}
    marks = [Mark(frame=5, target=seven, ease="even"), at(15, 10)]
    got = focus_dpt(marks, frames, live)
    np.testing.assert_allclose(got[:6], live[seven][:6])
    assert got[10] == pytest.approx(0.5 * live[seven][10] + 0.5 * 0.1)
    assert focus_dpt([Mark(frame=0, target=SubjectTarget(number=9))], frames, live)[3] == 0


@given(st.floats(1, 16), st.floats(1, 16), st.floats(0, 1))
def test_keys_move_evenly_in_stops(first, second, part):
    keyed = Keyed(value=1, keys=(Key(frame=0, value=first, ease="even"), Key(frame=100, value=second)))
    got = keyed.at([part * 100])[0]
    assert np.log(got) == pytest.approx(np.log(first) * (1 - part) + np.log(second) * part, abs=1e-9)


@given(
    st.lists(st.tuples(st.sampled_from(["even", "smooth", "fast", "late", "own"]), st.floats(1, 32)),
             min_size=1, max_size=6),
    st.floats(-5, 65),
)  # fmt: skip
def test_keys_of_any_ease_agree_with_each_move_by_itself(pairs, frame):
    handles = (0.2, -0.1, 0.9, 1.2)
    keys = [
        Key(frame=10 * k, value=value, ease=ease, handles=handles) for k, (ease, value) in enumerate(pairs)
    ]
    got = float(Keyed(value=1, keys=tuple(keys)).at([frame])[0])
    k = min(max(int(frame // 10), 0), len(keys) - 1)
    after = keys[min(k + 1, len(keys) - 1)]
    u = min(max((frame - keys[k].frame) / 10, 0.0), 1.0) if after is not keys[k] else 0.0
    e = float(eased(np.array([u]), keys[k].ease, handles)[0])
    assert got == pytest.approx(keys[k].value ** (1 - e) * after.value**e)


def test_pixels_and_rays_are_each_others_inverse(looking_at):
    plan, shot, stage = looking_at()
    camera = camera_at(plan, shot, 1, stage)
    origin, toward = camera.ray(500, 200, camera.width_px, camera.height_px)
    sight = camera.see(origin + 7.5 * toward)
    assert float(sight.axial_m) == pytest.approx(7.5)
    assert (float(sight.x_px), float(sight.y_px)) == pytest.approx((500, 200))
    assert float(sight.straight_m) == pytest.approx(7.5 * np.linalg.norm(toward))


def test_what_is_behind_or_beside_is_gone(looking_at):
    plan, shot, stage = looking_at()
    for name, position in (("a", (0, 0, -3)), ("b", (0, 0, 3)), ("c", (5, 0, -3)), ("d", (0, 0, -9))):
        plan, _ = edit.add_subject(plan, name, PointAnchor(position_m=position))
    numbers = survey(plan, shot.replace(marks=(at(1, 3.0),)), stage, [1])
    assert numbers.state[:, 0].tolist() == [SHARP, GONE, GONE, SOFT]
    assert np.isnan(numbers.sight.blur_px[1, 0])
    assert numbers.nearer[:, 0].tolist() == [False, True, False, False]


@pytest.mark.parametrize("model", ["render", "thin"])
@pytest.mark.parametrize("squeeze", [1.0, 2.0])
def test_a_subject_at_a_limit_is_just_sharp(looking_at, model, squeeze):
    plan, shot, stage = looking_at(
        glass={"model": model, "squeeze": squeeze, "criterion": Criterion(value=3)}
    )
    shot = shot.replace(marks=(at(1, 4.0),))
    camera = camera_at(plan, shot, 1, stage)
    near, far = camera.limits_m
    for distance in (near, far):
        assert float(camera.see([0, 0, -distance]).blur_px) == pytest.approx(3.0, rel=1e-9)
        assert float(camera.blur_px(distance)) == pytest.approx(3.0, rel=1e-9)
    assert camera.coc_px == pytest.approx(3.0)


def test_on_a_sphere_the_straight_distance_is_in_focus(looking_at):
    plan, shot, stage = looking_at(glass={"surface": "sphere"})
    camera = camera_at(plan, shot.replace(marks=(at(1, 5.0),)), 1, stage)
    aside = 5.0 * np.array([np.sin(0.3), 0, -np.cos(0.3)])
    assert float(camera.see(aside).blur_px) == pytest.approx(0, abs=1e-9)
    assert float(camera.see([0, 0, -5]).blur_px) == pytest.approx(0, abs=1e-9)
    flat = camera_at(
        plan, shot.replace(marks=(at(1, 5.0),), glass=shot.glass.replace(surface="plane")), 1, stage
    )
    assert float(flat.see(aside).blur_px) > 0.4


def test_the_survey_is_the_camera_at_every_frame(demo):
    plan, stage = demo
    for shot in plan.shots:
        numbers = survey(plan, shot, stage)
        for frame in (shot.first, (shot.first + shot.last) // 2, shot.last):
            one = camera_at(plan, shot, frame, stage)
            row = numbers.index_of(frame)
            assert float(one.focus_m) == pytest.approx(float(numbers.camera.focus_m[row]), rel=1e-12)
            assert float(one.limits_m[0]) == pytest.approx(float(numbers.near_m[row]), rel=1e-12)
            np.testing.assert_allclose(one.pose, numbers.camera.pose[row], atol=1e-12)


def _numbers_of(one):
    sight = {f"sight.{field.name}": getattr(one.sight, field.name) for field in fields(one.sight)}
    names = ("frames", "near_m", "far_m", "points", "worst_px", "state")
    lens_now = {name: getattr(one.camera, name) for name in ("pose", "focal_mm", "f_number", "focus_m")}
    return {**{name: getattr(one, name) for name in names}, **sight, **lens_now}


_KEYS = Keyed(value=2.8, keys=(Key(frame=1080, value=2.8), Key(frame=1090, value=8.0)))
CHANGES = {
    "mark": lambda p, s: (p, pulls.move_mark(s, 1061, 1058)),
    "stop keyed": lambda p, s: (p, s.replace(glass=s.glass.replace(f_number=_KEYS))),
    "focal length": lambda p, s: (p, s.replace(glass=s.glass.replace(focal_mm=Keyed(value=40.0)))),
    "sensor": lambda p, s: (
        p,
        s.replace(glass=s.glass.replace(sensor=s.glass.sensor.replace(width_mm=24.0))),
    ),
    "criterion": lambda p, s: (
        p,
        s.replace(glass=s.glass.replace(criterion=Criterion(kind="pixels", value=9))),
    ),
    "frames": lambda p, s: (p, s.replace(last=s.last + 3)),
    "iris": lambda p, s: (p, s.replace(iris=s.iris.replace(blades=5))),
    "subject moved": lambda p, s: (edit.with_subject(p, 3, anchor=PointAnchor(position_m=(0, 1, -4))), s),
    "subject deeper": lambda p, s: (edit.with_subject(p, 1, half_depth_m=0.6), s),
    "subject gone": lambda p, s: (p.replace(subjects=p.subjects[:-1]), s),
    "camera moved": lambda p, s: (p, s.replace(ahead_m=0.2)),
    "another scene": lambda p, s: (
        edit.with_subject(p, 2, anchor=BoundsAnchor(scene="nowhere", node="/none")),
        s,
    ),
    "nothing": lambda p, s: (p, s),
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_survey_mended_from_an_earlier_one_is_the_survey(demo, change):
    plan, stage = demo
    shot = plan.shots[1]
    last = survey(plan, shot, stage)
    plan, shot = CHANGES[change](plan, shot)
    mended, fresh = survey(plan, shot, stage, last=last), survey(plan, shot, stage)
    assert mended.subjects == fresh.subjects
    assert mended.camera.iris == fresh.camera.iris
    for name, value in _numbers_of(fresh).items():
        np.testing.assert_array_equal(_numbers_of(mended)[name], value, name)


def test_a_mended_survey_looks_only_at_frames_that_changed(demo, monkeypatch):
    plan, stage = demo
    shot = plan.shots[1]
    last = survey(plan, shot, stage)
    seen = []
    see = Camera.see
    monkeypatch.setattr(Camera, "see", lambda self, points: seen.append(len(self.pose)) or see(self, points))
    survey(plan, pulls.move_mark(shot, 1061, 1058), stage, last=last)
    assert seen
    assert set(seen) == {1060 - 1038 + 1}, "strictly between the neighbours, to where the mark was"
    seen.clear()
    survey(plan, shot, stage, last=last)
    assert set(seen) <= {0}


def test_distances_for_a_moving_camera_and_subject(moving_scene):
    """Against places worked out by hand from the scene file's numbers."""
    scene = load_scene(moving_scene)
    plan, stage = plan_from_scene(moving_scene, scene)
    local = (10.0, -25.0, 5.0)
    plan, subject = edit.add_subject(
        plan, "corner", SurfaceAnchor(scene="moving", node="/Rig/Cube", local=local)
    )
    shot = pulls.set_mark(plan.shots[0], 1, SubjectTarget(number=subject.number))
    for frame in (1.0, 2.5, 6.1, 11.0):
        u = (frame - 1) / 10
        x, y, z = np.radians([30 * u, 60 * u, 90 * u])
        turn_x = np.array([[1, 0, 0], [0, np.cos(x), -np.sin(x)], [0, np.sin(x), np.cos(x)]])
        turn_y = np.array([[np.cos(y), 0, np.sin(y)], [0, 1, 0], [-np.sin(y), 0, np.cos(y)]])
        turn_z = np.array([[np.cos(z), -np.sin(z), 0], [np.sin(z), np.cos(z), 0], [0, 0, 1]])
        corner = turn_z @ turn_y @ turn_x @ local + [40 * u, 200 * u + 100, 10 * u]
        lens_at = np.array([0, -400 + 100 * u, 20 * u])
        away = (corner - lens_at) / 100
        numbers = survey(plan, shot, stage, [frame])
        row = numbers.subjects.index(subject.number)
        assert float(numbers.sight.axial_m[row, 0]) == pytest.approx(away[1], rel=1e-6)
        assert float(numbers.sight.straight_m[row, 0]) == pytest.approx(np.linalg.norm(away), rel=1e-6)


def test_a_pull_between_subjects_stays_on_them(demo):
    plan, stage = demo
    numbers = survey(plan, plan.shots[1], stage)
    blur = numbers.sight.blur_px
    assert np.abs(blur[0, : 1037 - 1001 + 1]).max() < 0.01
    assert np.abs(blur[1, 1061 - 1001 :]).max() < 0.01
    assert blur[0, -1] > 10


def test_stop_and_focal_length_follow_their_keys(looking_at):
    keys = Keyed(value=2, keys=(Key(frame=1, value=2), Key(frame=10, value=8)))
    plan, shot, stage = looking_at(glass={"f_number": keys})
    cameras = cameras_at(plan, shot, np.arange(1, 11), stage)
    assert cameras.f_number[[0, -1]].tolist() == pytest.approx([2, 8])
    assert np.all(np.diff(cameras.f_number) > 0)


def test_a_lens_in_words(demo):
    glass = demo[0].shots[1].glass
    assert lens_words(glass) == "50 mm  f/1.4"
    keys = tuple(Key(frame=frame, value=value) for frame, value in ((1, 8.0), (9, 2.8), (20, 8.0)))
    assert lens_words(glass.replace(f_number=Keyed(value=2, keys=keys))) == "50 mm  f/2.8–8"
    assert lens_words(glass.replace(projection="orthographic", cone_deg=1.5)) == "orthographic, cone 1.5°"


def test_a_thin_lens_never_focuses_within_its_focal_length(looking_at):
    plan, shot, stage = looking_at(glass={"model": "thin", "focal_mm": Keyed(value=200)})
    camera = camera_at(plan, shot.replace(marks=(at(1, 0.05),)), 1, stage)
    assert float(camera.focus_m) == pytest.approx(0.202)
    assert np.isfinite(float(camera.limits_m[0]))


def test_a_new_plan_takes_the_cameras_own_values(moving_scene):
    scene = load_scene(moving_scene)
    plan, stage = plan_from_scene(moving_scene, scene)
    shot = plan.shots[0]
    assert (shot.first, shot.last, shot.fps) == (1, 11, 25)
    camera = camera_at(plan, shot, 6, stage)
    assert float(camera.focal_mm) == 50
    assert float(camera.f_number) == pytest.approx(2.8)
    assert float(camera.focus_m) == pytest.approx(3.5, rel=2e-3)
    assert camera.near_clip_m == pytest.approx(0.1)
    assert [float(camera_at(plan, shot, f, stage).focus_m) for f in (1, 11)] == pytest.approx([4, 3])


def test_a_new_plan_makes_a_subject_of_the_point_in_focus(moving_scene):
    plan, stage = plan_from_scene(moving_scene, load_scene(moving_scene))
    subject = plan.subjects[0]
    numbers = survey(plan, plan.shots[0], stage, [1])
    assert isinstance(subject.anchor, PointAnchor)
    assert float(numbers.sight.axial_m[0, 0]) == pytest.approx(4.0)


def test_a_scene_without_a_camera_is_seen_whole(tmp_path):
    import trimesh

    trimesh.creation.box((4, 2, 1)).export(tmp_path / "box.ply")
    scene = load_scene(tmp_path / "box.ply")
    plan, stage = plan_from_scene(tmp_path / "box.ply", scene)
    camera = camera_at(plan, plan.shots[0], plan.shots[0].first, stage)
    assert camera.see(stage.boxes().reshape(-1, 3)).in_frame.all()
    with pytest.raises(PlanError, match="no camera /x"):
        plan_from_scene(tmp_path / "box.ply", scene, "/x")


@pytest.mark.parametrize(("focal", "stop"), [(400.0, 2.8), (50.0, 2.8), (18.0, 16.0)])
def test_the_focus_of_a_file_is_kept_within_a_twentieth_of_a_pixel(moving_scene, focal, stop):
    """Whatever the lens: at 400 mm a thousandth of a dioptre would be three pixels."""
    stage = Usd.Stage.Open(str(moving_scene))
    camera = UsdGeom.Camera(stage.GetPrimAtPath("/Camera"))
    camera.GetFocalLengthAttr().Set(focal)
    camera.GetFStopAttr().Set(stop)
    frames = np.arange(1, 12)
    metres = 3.0 + 0.8 * np.sin(frames / 3.0)
    for frame, distance in zip(frames, metres, strict=True):
        camera.GetFocusDistanceAttr().Set(float(distance * 100), float(frame))
    stage.Save()
    scene = load_scene(moving_scene)
    plan, made = plan_from_scene(moving_scene, scene)
    shot = plan.shots[0]
    numbers = survey(plan, shot, made)
    off = [float(numbers.camera.frame(k).blur_px(metres[k])) for k in range(len(frames))]
    assert max(off) < 0.06


@given(st.lists(st.floats(-5, 5), min_size=2, max_size=60))
def test_the_fewest_samples_still_pass_all_others(values):
    times = np.arange(float(len(values)))
    kept = fewest(times, np.array(values), 0.05)
    line = np.interp(times, times[kept], np.array(values)[kept])
    assert np.abs(line - values).max() <= 0.05 + 1e-12


def test_a_camera_that_is_missing_is_named(demo):
    plan, stage = demo
    lost = plan.shots[0].replace(camera=FileCamera(scene="ferry", path="/Nowhere"))
    with pytest.raises(PlanError, match=r"Shot 01.*/Nowhere"):
        survey(plan, lost, stage)


def test_findings_name_what_cannot_be(demo):
    plan, stage = demo
    assert findings(plan, stage) == []
    lost = plan.replace(
        subjects=(
            plan.subjects[0].replace(anchor=BoundsAnchor(scene="ferry", node="/Gone")),
            *plan.subjects[1:],
        )
    )
    assert any("Lantern" in line and "/Gone" in line for line in findings(lost, stage))
    bad = edit.with_shot(plan, 2, pulls.set_mark(plan.shots[2], 1020, SubjectTarget(number=6)))
    assert any("Ferry" in line and "out of the picture" in line for line in findings(bad, stage))
    none = edit.with_shot(plan, 2, pulls.set_mark(plan.shots[2], 1020, SubjectTarget(number=42)))
    assert any("subject 42" in line for line in findings(none, stage))


def test_a_scene_that_is_missing_is_a_problem_not_a_crash(demo, tmp_path):
    plan, _ = demo
    gone = str(tmp_path / "scene.usd")
    broken = plan.replace(scenes=(plan.scenes[0].replace(path=gone),))
    stage, problems = load_stage(broken)
    assert f"{gone}: no such file." in problems[0]
    assert "ferry" not in stage.scenes


def test_the_summary_reads_like_a_note(demo):
    plan, stage = demo
    shot = plan.shots[1]
    lines = summary(plan, shot, survey(plan, shot, stage))
    assert lines[0].startswith("Lantern in focus to 10")
    assert lines[1].startswith("pull of 24 frames, up to 0.")
    assert lines[2].startswith("Ferryman in focus from 10")


def test_exposure_of_a_thin_lens_at_close_focus(looking_at):
    plan, shot, stage = looking_at(ball_at((0, 0, -5)), box_at((0, 0, -9)), glass={"model": "thin"})
    camera = camera_at(plan, shot.replace(marks=(at(1, 0.1),)), 1, stage)
    assert (
        float(camera.magnification)
        == pytest.approx(float(lens.magnification(50, 0.1, "thin")))
        == pytest.approx(1)
    )
    assert float(camera.effective_f_number) == pytest.approx(5.6)
