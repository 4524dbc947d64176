"""The list of shots: added, doubled, moved, renamed, given lenses; cues; and what cuts do."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from kobrel.errors import PlanError
from kobrel.plan.edit import with_shot
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Cue, DistanceTarget, FileCamera, FixedCamera, MadeCamera, Mark, Plan, Shot
from kobrel.plan.sequence import cues, cuts, shots
from kobrel.plan.variants.alts import kept
from kobrel.stage.stage import Stage

STILL = FixedCamera(pose=tuple(np.eye(4).ravel().tolist()))


def shot(name, **changes):
    return Shot(name=name, camera=STILL).replace(**changes)


def names(plan):
    return [each.name for each in plan.shots]


def glass(focal, stop):
    return shot("x").glass.replace(focal_mm=Keyed(value=focal), f_number=Keyed(value=stop))


@pytest.fixture
def three():
    return Plan(shots=(shot("01"), shot("02"), shot("03")))


def test_a_copy_stands_behind_its_shot_under_a_name_of_its_own(three):
    plan = shots.duplicated(three, 0)
    assert names(plan) == ["01", "01 2", "02", "03"]
    assert plan.shots[1].replace(name="01") == plan.shots[0]
    assert names(shots.duplicated(plan, 0)) == ["01", "01 3", "01 2", "02", "03"]


@given(st.integers(0, 2), st.integers(-5, 7))
def test_moving_keeps_all_shots_and_stops_at_the_ends(index, to):
    plan = Plan(shots=(shot("01"), shot("02"), shot("03")))
    moved = shots.moved(plan, index, to)
    assert sorted(names(moved)) == names(plan)
    assert names(moved).index(names(plan)[index]) == min(max(to, 0), 2)
    others = [name for name in names(plan) if name != names(plan)[index]]
    assert [name for name in names(moved) if name != names(plan)[index]] == others


def test_shots_are_renamed_and_deleted_unless_that_makes_no_sense(three):
    assert names(shots.renamed(three, 1, " 02B ")) == ["01", "02B", "03"]
    for wrong, why in (("01", "called 01 already"), ("  ", "needs a name")):
        with pytest.raises(PlanError, match=why):
            shots.renamed(three, 1, wrong)
    assert names(shots.removed(three, 1)) == ["01", "03"]
    with pytest.raises(PlanError, match="at least one"):
        shots.removed(Plan(shots=three.shots[:1]), 0)


def test_frames_of_a_shot_change_and_its_marks_stay():
    before = shot("01")
    after = shots.with_frames(before, 990, 1010)
    assert (after.first, after.last, after.length, after.marks) == (990, 1010, 21, before.marks)
    with pytest.raises(PlanError, match="before its start"):
        shots.with_frames(before, 20, 10)
    with pytest.raises(PlanError, match="20000 frames at most"):
        shots.with_frames(before, 1, 20_001)


def test_a_lens_is_given_to_several_shots_and_marks_stay_theirs(three):
    source = three.shots[0].replace(glass=glass(85, 1.4))
    plan = shots.with_lens_of(with_shot(three, 0, source), 0, [0, 2])
    assert plan.shots[2].glass == source.glass
    assert plan.shots[1] == three.shots[1]
    assert plan.shots[2].marks == three.shots[2].marks
    assert set(shots.LENS_FIELDS) == {"glass", "iris", "flaws", "exposure"}


def test_every_camera_of_a_scene_becomes_a_shot_once(demo):
    plan, stage = demo
    one = plan.replace(shots=plan.shots[:1])
    more, count = shots.from_cameras(one, stage)
    assert count == sum(len(scene.cameras) for scene in stage.scenes.values()) - 1
    assert len(set(names(more))) == len(more.shots) == count + 1
    cameras = {each.camera for each in more.shots}
    assert cameras >= {each.camera for each in plan.shots}
    assert survey(more, more.shots[-1], stage).frames.size > 1
    assert shots.from_cameras(more, stage) == (more, 0)


def test_an_edit_list_changes_known_shots_and_adds_the_others(demo):
    plan, stage = demo
    cue = Cue(name="Bell", first=1012)
    listed = [
        shots.Listed("Compass", 1001, 1030, 25.0),
        shots.Listed("02", 1010, 1050, 25.0, 12, (cue,)),
        shots.Listed("insert", 1, 20, 25.0),
    ]
    made = shots.with_list(plan, listed, 0, stage)
    assert names(made) == ["Compass", "02", "insert", "01", "03", "04"]
    compass, known, insert = made.shots[:3]
    assert isinstance(compass.camera, FileCamera)
    assert compass.camera.path.endswith("/Compass")
    assert (known.first, known.last, known.fps, known.handles, known.cues) == (1010, 1050, 25.0, 12, (cue,))
    assert known.marks == plan.shots[1].marks
    assert insert.camera == plan.shots[0].camera
    assert insert.alts == ()
    assert shots.with_list(made, listed, 0, stage) == made


def test_cues_are_kept_in_order_and_end_after_they_begin():
    made, one = cues.add_cue(shot("01"), 1050, name="Cue")
    made, two = cues.add_cue(made, 1010, 1020, "Cue")
    assert [cue.name for cue in made.cues] == ["Cue 2", "Cue"]
    assert cues.cue_frames(made) == [1010, 1020, 1050]
    assert (one.end, two.end) == (1050, 1020)
    later = cues.change_cue(made, two, two.replace(first=1060, last=1070))
    assert [cue.first for cue in later.cues] == [1050, 1060]
    assert cues.remove_cue(made, one).cues == (two,)
    with pytest.raises(ValidationError, match="before its start"):
        Cue(name="x", first=5, last=4)


@given(st.floats(-50, 50), st.lists(st.integers(-50, 50), max_size=6), st.floats(0, 9))
def test_snapping_goes_to_the_nearest_place_in_reach_or_nowhere(frame, places, reach):
    got = cues.snapped(frame, places, reach)
    near = [place for place in places if abs(place - frame) <= reach]
    assert got == (min(near, key=lambda place: abs(place - frame)) if near else frame)


def test_a_cut_tells_what_jumps():
    plain = cuts.Depth(focus_dpt=0.5, blur_percent=2.0, depth_dpt=0.1)
    assert cuts.Cut(plain, plain).jumps == ()
    assert cuts.Cut(plain, cuts.Depth(0.7, 3.0, 0.15)).jumps == ()
    assert cuts.Cut(plain, cuts.Depth(1.5, 8.0, 0.02)).jumps == (
        "focus +1.00 dpt",
        "blur 4× more",
        "depth 5× less",
    )
    for unknown in (float("nan"), float("inf")):
        assert cuts.Cut(plain, cuts.Depth(0.5, unknown, 0.1)).jumps == ()


@pytest.mark.parametrize("by", [-1, 1])
@pytest.mark.parametrize("focal", [24.0, 85.0, 135.0])
def test_a_matched_shot_has_its_neighbours_background_at_the_cut(by, focal):
    keys = (Key(frame=1001, value=2.0), Key(frame=1096, value=4.0))
    zoomed = glass(focal, 4.0).replace(f_number=Keyed(value=2.0, keys=keys))
    plan = Plan(
        shots=(shot("1", glass=glass(35, 2.0)), shot("2", glass=zoomed), shot("3", glass=glass(50, 11.0)))
    )
    made = cuts.matched(plan, 1, 1 + by, Stage())
    left, right = (min(1, 1 + by), max(1, 1 + by))
    cut = cuts.cut_between(*(survey(made, made.shots[k], Stage()) for k in (left, right)))
    assert cut.before.blur_percent == pytest.approx(cut.after.blur_percent, rel=1e-9)
    stops = [key.value for key in made.shots[1].glass.f_number.keys]
    assert stops[1] / stops[0] == pytest.approx(2.0)
    assert (made.shots[0], made.shots[2]) == (plan.shots[0], plan.shots[2])


def test_no_match_where_no_stop_can_make_it():
    flat = shot("2", glass=glass(50, 2.0).replace(projection="orthographic"))
    with pytest.raises(PlanError, match="orthographic"):
        cuts.matched(Plan(shots=(shot("1"), flat)), 0, 1, Stage())
    plan = Plan(shots=(shot("1", glass=glass(12, 8.0)), shot("2", glass=glass(300, 1.4))))
    with pytest.raises(PlanError, match="would need f/0"):
        cuts.matched(plan, 0, 1, Stage())
    assert cuts.depth_at(survey(Plan(shots=(flat,)), flat, Stage()).camera.frame(0)).focus_dpt > 0


def test_no_match_of_a_background_that_is_sharp():
    """A shot that is focused so far away that nothing behind is soft: no stop can make it so."""
    far = shot("1").replace(marks=(Mark(frame=1001, target=DistanceTarget(metres=1e30)),))
    with pytest.raises(PlanError, match="Shot 1 would need f/"):
        cuts.matched(Plan(shots=(far, shot("2"))), 0, 1, Stage())


def test_the_demo_has_cues_handles_and_an_alt_to_compare(demo):
    rack = demo[0].shots[1]
    assert [cue.name for cue in rack.cues] == ["He turns", "First word"]
    assert rack.handles == 8
    assert [alt.name for alt in rack.alts] == ["Later, f/4"]
    assert kept(rack, "x").alts[0] == rack.alts[0]


def test_a_moving_camera_is_no_hindrance():
    camera = MadeCamera(position_m=(0, 0, 5), aim_m=(0, 0, 0))
    plan = Plan(shots=(shot("1", camera=camera), shot("2", glass=glass(85, 2.0))))
    assert cuts.matched(plan, 0, 1, Stage()).shots[0].glass != plan.shots[0].glass
