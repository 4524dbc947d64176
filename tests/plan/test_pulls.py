"""Pulls: eases, holds, searches, and edits of several marks."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from kobrel.optics.ease import eased, swinging
from kobrel.plan.instrument import Lens
from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.camera import camera_at, cameras_at
from kobrel.plan.measure.pace import breathing_percent, closest_m, pace, pace_doubts
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import (
    DistanceTarget,
    FixedCamera,
    MadeCamera,
    Mark,
    Plan,
    PointAnchor,
    PointTarget,
    Search,
    Shot,
    Subject,
    SubjectTarget,
)
from kobrel.plan.pull import marks as pulls
from kobrel.plan.space.anchors import subject_points
from kobrel.stage.stage import Stage

STILL = FixedCamera(pose=tuple(np.eye(4).ravel().tolist()))
U = np.linspace(0, 1, 201)


def at_m(metres):
    return DistanceTarget(metres=metres)


def shot_of(*marks, camera=STILL, last=1100):
    return Shot(name="1", first=1001, last=last, camera=camera, marks=marks)


def focus(shot, plan=None, frames=None):
    plan = (plan or Plan()).replace(shots=(shot,))
    frames = np.arange(shot.first, shot.last + 1.0) if frames is None else frames
    return 1 / cameras_at(plan, shot, frames, Stage()).focus_m


@pytest.mark.parametrize("kind", ["even", "smooth", "fast", "late", "own"])
def test_eases_begin_and_end_and_never_turn_back(kind):
    e = eased(U, kind)
    assert (e[0], e[-1]) == pytest.approx((0, 1), abs=1e-9)
    assert np.all(np.diff(e) >= -1e-12)
    fast = {"fast": e[20] > 0.2, "late": e[20] < 0.02}
    assert fast.get(kind, True)


@given(st.floats(0, 1), st.floats(-1, 2), st.floats(0, 1), st.floats(-1, 2))
def test_own_eases_pass_through_their_curve(x1, y1, x2, y2):
    t = np.linspace(0, 1, 41)[1:-1]
    x = 3 * (1 - t) ** 2 * t * x1 + 3 * (1 - t) * t * t * x2 + t**3
    y = 3 * (1 - t) ** 2 * t * y1 + 3 * (1 - t) * t * t * y2 + t**3
    steep = np.gradient(x, t) > 0.05
    np.testing.assert_allclose(eased(x, "own", (x1, y1, x2, y2))[steep], y[steep], atol=1e-6)


@pytest.mark.parametrize(("swings", "decay"), [(0.5, 0.0), (1.5, 3.0), (4.0, 8.0)])
def test_a_swing_begins_with_its_crest_and_dies_away(swings, decay):
    wave = swinging(U, swings, decay)
    first = wave[: int(200 * min(1.0, 0.5 / swings)) + 1]
    assert first.max() == pytest.approx(1.0, abs=0.01)
    assert wave[0] == wave[-1] == 0
    turns = np.flatnonzero(np.diff(np.sign(wave[1:-1])))
    assert len(turns) == pytest.approx(2 * swings - 1, abs=1)
    assert swinging(np.array([-0.5, 1.5]), swings, decay).tolist() == [0, 0]


def test_a_pull_is_even_in_dioptres_or_in_metres():
    marks = (Mark(frame=1011, target=at_m(2), ease="even"), Mark(frame=1031, target=at_m(8)))
    by_dioptres = focus(shot_of(*marks))
    assert by_dioptres[20] == pytest.approx((1 / 2 + 1 / 8) / 2)
    by_metres = focus(shot_of(marks[0].replace(by="metres"), marks[1]))
    assert 1 / by_metres[20] == pytest.approx(5.0)
    for path in (by_dioptres, by_metres):
        assert (path[0], path[-1]) == pytest.approx((0.5, 0.125))
    infinite = (marks[0].replace(by="metres"), Mark(frame=1031, target=at_m(float("inf"))))
    assert focus(shot_of(*infinite))[20] == pytest.approx(0.25)


def test_a_hold_keeps_to_its_subject_until_its_frame():
    walker = PointAnchor(
        position_m=(0, 0, -2),
        keys=(
            PlaceKey(frame=1001, position_m=(0, 0, -2), ease="even"),
            PlaceKey(frame=1101, position_m=(0, 0, -4)),
        ),
    )
    plan = Plan(subjects=(Subject(number=1, name="Walker", anchor=walker),))
    shot = shot_of(
        Mark(frame=1010, target=SubjectTarget(number=1), until=1050), Mark(frame=1070, target=at_m(9))
    )
    numbers = survey(plan.replace(shots=(shot,)), shot, Stage())
    on = 1 / numbers.sight.axial_m[0]
    path = focus(shot, plan)
    np.testing.assert_allclose(path[:50], on[:50])
    assert np.all(np.abs(path[52:69] - on[52:69]) > 1e-6)
    np.testing.assert_allclose(path[69:], 1 / 9)


@pytest.mark.parametrize("ends", [(2.0, 8.0), (8.0, 2.0)])
@pytest.mark.parametrize("unit", ["part", "dioptres"])
def test_a_search_overshoots_after_it_arrives_and_comes_to_rest(ends, unit):
    search = Search(amount=0.2, unit=unit, swings=2, decay=2, frames=30)
    marks = (Mark(frame=1010, target=at_m(ends[0]), search=search), Mark(frame=1020, target=at_m(ends[1])))
    path, plain = focus(shot_of(*marks)), focus(shot_of(marks[0].replace(search=None), marks[1]))
    off = path - plain
    assert np.all(off[:20] == 0)
    assert np.all(off[50:] == 0)
    way = 1 / ends[1] - 1 / ends[0]
    size = 0.2 * (abs(way) if unit == "part" else 1.0)
    fine = focus(shot_of(*marks), frames=np.arange(1001, 1100, 0.05)) - focus(
        shot_of(marks[0].replace(search=None), marks[1]), frames=np.arange(1001, 1100, 0.05)
    )
    beyond = fine * np.sign(way)
    clamped = size > 1 / max(ends) and way < 0  # infinity is as far as a focus goes
    assert beyond.max() == pytest.approx(1 / max(ends) if clamped else size, rel=0.01)
    assert beyond.min() < 0


def test_a_search_ends_where_the_next_pull_arrives():
    search = Search(amount=1.0, unit="dioptres", swings=3, decay=0, frames=500)
    shot = shot_of(
        Mark(frame=1010, target=at_m(4), search=search), Mark(frame=1020, target=at_m(2), until=1040),
        Mark(frame=1060, target=at_m(3)),
    )  # fmt: skip
    path = focus(shot)
    plain = focus(shot_of(*(m.replace(search=None) for m in shot.marks)))
    assert np.ptp(path[20:39]) > 0.5
    assert np.abs(path[40:58] - plain[40:58]).max() > 0.01
    np.testing.assert_allclose(path[59:], plain[59:])


@given(st.integers(0, 10**6))
def test_a_pull_stays_on_subjects_that_move_before_a_camera_that_moves(seed):
    """Blur at the marks below 0.01 px, whatever the camera and the subjects do; frames one by one agree."""
    random = np.random.default_rng(seed)

    def path(low, high):
        keys = [
            PlaceKey(frame=float(f), position_m=tuple(random.uniform(low, high)), ease="smooth")
            for f in sorted(random.choice(np.arange(1001, 1101), 4, replace=False))
        ]
        return PointAnchor(position_m=(0, 0, 0), keys=tuple(keys))

    subjects = [
        Subject(number=n, name=f"S{n}", anchor=path((-0.5, -0.5, -9), (0.5, 0.5, -3))) for n in (1, 2, 3)
    ]
    camera = MadeCamera(
        position_m=(0, 0, 0), aim_m=(0, 0, -5),
        keys=tuple(
            {"frame": f, "position_m": tuple(random.uniform((-1, -1, -1), (1, 1, 1))), "aim_m": (0, 0, -6)}
            for f in (1001, 1050, 1100)
        ),
    )  # fmt: skip
    frames = sorted(random.choice(np.arange(1001, 1101), 4, replace=False).astype(float))
    eases = random.choice(["even", "smooth", "fast", "late", "own"], 4)
    marks = [
        Mark(frame=f, target=SubjectTarget(number=int(random.integers(1, 4))), ease=str(e), by=str(b))
        for f, e, b in zip(frames, eases, random.choice(["dioptres", "metres"], 4), strict=True)
    ]
    if seed % 2:
        marks[0] = marks[0].replace(search=Search())
    shot = shot_of(*marks, camera=camera)
    plan = Plan(subjects=tuple(subjects), shots=(shot,))
    numbers = survey(plan, shot, Stage())
    for mark in marks:
        column = numbers.index_of(mark.frame)
        assert numbers.sight.blur_px[mark.target.number - 1, column] < 0.01
    some = int(random.integers(0, 100))
    alone = camera_at(plan, shot, 1001.0 + some, Stage())
    assert float(alone.focus_m) == pytest.approx(float(numbers.camera.focus_m[some]), rel=1e-9)


# Edits

THREE = shot_of(
    Mark(frame=1010, target=at_m(2), until=1014),
    Mark(frame=1020, target=at_m(3)),
    Mark(frame=1040, target=at_m(5)),
)


def frames_of(shot):
    return [mark.frame for mark in shot.marks]


def test_a_hold_does_not_reach_the_next_mark():
    with pytest.raises(ValidationError, match="holds until 1020"):
        shot_of(Mark(frame=1010, target=at_m(2), until=1020), Mark(frame=1020, target=at_m(3)))
    near = pulls.move_mark(THREE, 1020, 1012)
    assert near.marks[0].until == 1011
    assert pulls.move_mark(THREE, 1020, 1000).marks[0].until is None
    later = pulls.move_mark(THREE, 1010, 1013)
    assert later.marks[0].until == 1017
    assert pulls.set_mark(THREE, 1010, at_m(7)).marks[0].until == 1014


def test_a_pull_takes_the_place_of_what_was_on_its_way():
    made = pulls.pull_between(THREE, 1015, at_m(2), 1035, SubjectTarget(number=1))
    assert frames_of(made) == [1010, 1015, 1035, 1040]
    assert made.marks[0].until == 1014
    backward = pulls.pull_between(THREE, 1035, at_m(9), 1015, at_m(1))
    assert [m.target for m in backward.marks[1:3]] == [at_m(1), at_m(9)]
    alone = shot_of(Mark(frame=1001, target=at_m(3)))
    assert frames_of(pulls.pull_between(alone, 1020, at_m(2), 1050, at_m(4))) == [1020, 1050]


def test_several_marks_move_scale_and_mirror_together():
    assert frames_of(pulls.moved_marks(THREE, {1010, 1020}, 5)) == [1015, 1025, 1040]
    assert pulls.moved_marks(THREE, {1010, 1020}, 5).marks[0].until == 1019
    assert frames_of(pulls.moved_marks(THREE, {1010, 1020}, 50)) == [1029, 1039, 1040]
    assert frames_of(pulls.moved_marks(THREE, {1010, 1020, 1040}, 0, 0.5)) == [1010, 1015, 1025]
    mirrored = pulls.moved_marks(THREE, {1010, 1020, 1040}, 0, -1)
    assert frames_of(mirrored) == [1010, 1030, 1040]
    assert [m.target.metres for m in mirrored.marks] == [5, 3, 2]
    assert pulls.moved_marks(THREE, {1010, 1020}, 0, 0.01) == THREE
    assert pulls.moved_marks(THREE, {999}, 3) == THREE
    assert pulls.moved_marks(THREE, {1010, 1040}, 15) == THREE  # one would pass the mark between them


def test_marks_are_pasted_in_place_of_what_is_there():
    copies = THREE.marks[:2]
    pasted = pulls.pasted_marks(THREE, copies, 1035)
    assert frames_of(pasted) == [1010, 1020, 1035, 1045]
    assert pasted.marks[2].until == 1039
    assert [m.target.metres for m in pasted.marks] == [2, 3, 2, 3]


def test_a_search_becomes_plain_marks_on_its_crests():
    search = Search(amount=0.5, unit="dioptres", swings=2, decay=1, frames=24)
    shot = shot_of(Mark(frame=1010, target=at_m(4), search=search), Mark(frame=1020, target=at_m(1)))
    path = focus(shot)
    plain = pulls.searched_out(shot, 1010, lambda frame: float(path[round(frame) - 1001]))
    assert plain.marks[0].search is None
    assert frames_of(plain) == [1010, 1020, 1023, 1029, 1035, 1041, 1044]
    after = focus(plain)
    for frame in (1023, 1029, 1035, 1041):
        assert after[frame - 1001] == pytest.approx(path[frame - 1001])
    np.testing.assert_allclose(after[43:], path[43:])
    assert np.abs(after - path).max() < 0.2
    assert pulls.searched_out(plain, 1010, lambda _f: 1.0) == plain


# Pace


def test_the_pace_is_the_slope_of_the_focus():
    marks = (Mark(frame=1011, target=at_m(2), ease="even"), Mark(frame=1035, target=at_m(4)))
    shot = shot_of(*marks).replace(fps=24.0, ring={"throw_deg": 300, "closest_m": 0.5, "most_deg_s": 30})
    numbers = survey(Plan(shots=(shot,)), shot, Stage())
    made = pace(shot, numbers)
    assert made.dpt_s[20] == pytest.approx(0.25)
    assert made.deg_s[20] == pytest.approx(0.25 * 300 / 2)
    assert made.too_fast[10:33].all()
    assert not made.too_fast[:9].any()
    told = pace_doubts(Plan(), shot, numbers)
    assert len(told) == 1
    assert "38°/s at 1011–1034" in told[0]
    kit = Lens(name="50", focal_mm=(50, 50), close_focus_m=0.25)
    assert closest_m(shot.replace(glass=shot.glass.replace(lens=kit))) == 0.25


@pytest.mark.parametrize(
    ("apart", "stop", "told"), [(0.05, 2.8, "would show it"), (2.0, 2.8, ""), (1e-6, 2.8, "No lens")]
)
def test_a_rack_that_shows_nothing_is_told_with_the_stop_that_would(apart, stop, told):
    plan = Plan(
        subjects=tuple(
            Subject(number=n, name=f"S{n}", anchor=PointAnchor(position_m=(0, 0, -z)))
            for n, z in ((1, 1.5), (2, 1.5 + apart))
        )
    )
    shot = shot_of(
        Mark(frame=1010, target=SubjectTarget(number=1)), Mark(frame=1020, target=SubjectTarget(number=2))
    )
    numbers = survey(plan.replace(shots=(shot,)), shot, Stage())
    found = [line for line in pace_doubts(plan, shot, numbers) if "barely visible" in line]
    assert bool(found) == bool(told)
    if told == "would show it":
        wanted = float(found[0].split("f/")[1].split()[0])
        camera = camera_at(
            plan, shot.replace(glass=shot.glass.replace(f_number={"value": wanted})), 1020, Stage()
        )
        assert float(camera.blur_px(1.5)) == pytest.approx(2 * camera.coc_px, rel=0.06)
    elif told:
        assert told in found[0]


@given(st.integers(0, 10_000))
def test_a_mark_on_a_free_point_follows_its_path_before_a_camera_that_moves(seed):
    rng = np.random.default_rng(seed)
    path = tuple(
        PlaceKey(frame=float(f), position_m=tuple(rng.uniform(-1, 1, 3) + (0, 0, -6.0)))
        for f in (1001, 1030, 1100)
    )
    point = PointTarget(position_m=path[0].position_m, keys=path)
    camera = MadeCamera(position_m=tuple(rng.uniform(-1, 1, 3)), aim_m=(0.0, 0.0, -6.0))
    shot = shot_of(Mark(frame=1010, target=at_m(2.0)), Mark(frame=1040, target=point), camera=camera)
    plan = Plan(shots=(shot,))
    frames = np.arange(1040, 1101.0)
    cameras = cameras_at(plan, shot, frames, Stage())
    places = subject_points(point, frames, Stage())
    assert np.nanmax(cameras.see(places).blur_px) < 0.01
    assert focus(shot)[9] == pytest.approx(0.5)
    assert plan.name_of(point) == "a free point"


def test_a_jerk_is_told_with_its_frames_and_a_smooth_pull_has_none():
    even = shot_of(Mark(frame=1010, target=at_m(1.0), ease="even"), Mark(frame=1020, target=at_m(10.0)))
    ring = even.ring.replace(most_deg_s=1e6, most_deg_s2=5000.0)
    even = even.replace(ring=ring)
    numbers = survey(Plan(shots=(even,)), even, Stage())
    made = pace(even, numbers)
    assert numbers.frames[made.too_jerky].tolist() == [1010, 1020]
    told = pace_doubts(Plan(), even, numbers)
    assert len(told) == 1
    assert "1010, 1020" in told[0]
    smooth = even.replace(marks=tuple(m.replace(ease="smooth") for m in even.marks))
    assert not pace(smooth, survey(Plan(shots=(smooth,)), smooth, Stage())).too_jerky.any()


def test_breathing_is_what_refocusing_does_to_the_size_of_things():
    shot = shot_of(Mark(frame=1001, target=at_m(1.0)), Mark(frame=1100, target=at_m(float("inf"))))
    numbers = survey(Plan(shots=(shot,)), shot, Stage())
    percent = breathing_percent(numbers)
    assert percent.shape == numbers.frames.shape
    assert percent[-1] == pytest.approx(0.0, abs=1e-9)
    thin = shot.replace(glass=shot.glass.replace(model="thin"))
    moved = breathing_percent(survey(Plan(shots=(thin,)), thin, Stage()))
    assert moved[0] == pytest.approx(100 * 0.05 / (1 - 0.05), rel=1e-9)
    angles = numbers.camera.half_widths()[0]
    assert np.ptp(angles) == pytest.approx(0.0, abs=1e-12) or percent[0] > 0


def test_a_pull_goes_back_to_where_it_came_from_in_as_many_frames():
    near, far = at_m(2), at_m(8)
    there = shot_of(Mark(frame=1010, target=near, until=1015, ease="even"), Mark(frame=1030, target=far))
    made = pulls.pulled_back(there, 1030, 1001)  # before it is left: as soon as it arrives
    assert [(m.frame, m.target, m.leaves) for m in made.marks] == [
        (1010, near, 1015), (1030, far, 1030), (1045, near, 1045)
    ]  # fmt: skip
    frames = np.arange(16)
    np.testing.assert_allclose(
        focus(made, frames=1030.0 + frames), focus(made, frames=1030.0 - frames), rtol=1e-9
    )
    later = pulls.pulled_back(there, 1030, 1050)
    assert [(m.frame, m.leaves) for m in later.marks] == [(1010, 1015), (1030, 1050), (1065, 1065)]


def test_a_pull_does_not_go_back_where_none_arrives_or_over_other_marks():
    marks = [Mark(frame=frame, target=at_m(metres)) for frame, metres in ((1010, 2), (1030, 8), (1040, 3))]
    assert pulls.pulled_back(shot_of(*marks), 1010, 1001) is None
    assert pulls.pulled_back(shot_of(*marks), 1030, 1001) is None
    assert pulls.pulled_back(shot_of(*marks), 1040, 1001) is not None
