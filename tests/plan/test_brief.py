"""A brief: how it fares, what grants it, why it cannot be, and what would do."""

import numpy as np
import pytest

from kobrel.errors import OpticsError
from kobrel.plan import edit
from kobrel.plan.instrument import Lens, Requirement
from kobrel.plan.keys import Key, Keyed, PlaceKey
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import DistanceTarget, Mark, Plan, PointAnchor, Subject, SubjectTarget
from kobrel.plan.solve import brief as briefs
from kobrel.plan.solve.brief import MET, UNASKED, UNMET, UNSEEN
from kobrel.plan.solve.candidates import Where, candidates, solved


@pytest.fixture
def set_up(looking_at):
    """Makes a plan of subjects straight ahead, at distances or moving between two, and a brief."""

    def make(*distances, brief=(), half=0.0, **changes):
        last = changes.pop("last", 10)
        _, shot, stage = looking_at(**changes)
        subjects = []
        for number, far in enumerate(distances, 1):
            begin, end = far if isinstance(far, tuple) else (far, far)
            keys = (
                PlaceKey(frame=1, position_m=(0, 0, -begin), ease="even"),
                PlaceKey(frame=10, position_m=(0, 0, -end), ease="even"),
            )
            anchor = PointAnchor(position_m=(0, 0, -begin), keys=keys if begin != end else ())
            subjects.append(Subject(number=number, name=f"S{number}", anchor=anchor, half_depth_m=half))
        shot = shot.replace(
            last=last, brief=tuple(brief), marks=(Mark(frame=1, target=SubjectTarget(number=1)),)
        )
        plan = Plan(shots=(shot,), subjects=tuple(subjects))
        return plan, shot, stage

    return make


def judged(plan, shot, stage):
    numbers = survey(plan, shot, stage)
    return briefs.judge(plan, shot, numbers), numbers


SHARP, SOFT = "sharp", "at_least"


@pytest.mark.parametrize("glass", [{}, {"model": "thin"}, {"surface": "sphere"}, {"projection": "fisheye"}])
def test_verdicts_agree_with_the_survey(set_up, glass):
    rng = np.random.default_rng(4)
    for half in (0.0, 0.15):
        requirements = [
            Requirement(subject=1),
            Requirement(subject=2, kind=SOFT, px=9),
            Requirement(subject=3, kind="at_most", px=14),
        ]
        plan, shot, stage = set_up((2.0, 2.3), 3.0, (5.0, 9.0), brief=requirements, half=half, glass=glass)
        # off the axis too
        moved = [
            s.replace(anchor=s.anchor.replace(
                position_m=(0.5, 0.3, s.anchor.position_m[2]),
                keys=tuple(k.replace(position_m=(0.5, 0.3, k.position_m[2])) for k in s.anchor.keys),
            )) for s in plan.subjects
        ]  # fmt: skip
        plan = plan.replace(subjects=tuple(moved))
        for stop in rng.uniform(1, 22, 6):
            tried = shot.replace(glass=shot.glass.replace(f_number=shot.glass.f_number.replace(value=stop)))
            found, numbers = judged(plan, tried, stage)
            worst = numbers.worst_px
            assert set(np.unique(found.verdicts)) <= {MET, UNMET}
            np.testing.assert_array_equal(found.verdicts[0] == MET, worst[0] <= numbers.camera.coc_px)
            np.testing.assert_array_equal(found.verdicts[2] == MET, worst[2] <= 14)
            if half == 0:
                np.testing.assert_array_equal(found.verdicts[1] == MET, numbers.sight.blur_px[1] >= 9)


def test_requirements_have_frames_and_their_subjects_may_be_out_of_sight(set_up):
    plan, shot, stage = set_up(
        2.0,
        -3.0,
        brief=[Requirement(subject=1, first=3, last=6), Requirement(subject=2), Requirement(subject=9)],
    )
    found, _ = judged(plan, shot, stage)
    assert found.brief.texts == ("1 S1 sharp", "2 S2 sharp")
    assert found.verdicts[0].tolist() == [UNASKED] * 2 + [MET] * 4 + [UNASKED] * 4
    assert set(found.verdicts[1]) == {UNSEEN}
    assert found.answer.possible.all()
    assert briefs.judge(plan, shot.replace(brief=()), survey(plan, shot, stage)) is None


def test_an_orthographic_view_has_no_stop_to_solve_for(set_up):
    plan, shot, stage = set_up(2.0, brief=[Requirement(subject=1)], glass={"projection": "orthographic"})
    numbers = survey(plan, shot, stage)
    assert briefs.judge(plan, shot, numbers) is None
    with pytest.raises(OpticsError, match="light cone"):
        briefs.terms(plan, shot, numbers)


def test_two_sharp_and_the_background_soft(set_up):
    requirements = [Requirement(subject=1), Requirement(subject=2), Requirement(subject=0, kind=SOFT, px=12)]
    plan, shot, stage = set_up(4.0, 5.0, brief=requirements)
    numbers = survey(plan, shot, stage)
    window = briefs.frame_answer(briefs.terms(plan, shot, numbers), 0)
    # any focus between the limits may do; what is found must hold, and the middle must not do better
    taken = briefs.taken_at(shot, numbers, 0, window)
    found, numbers = judged(plan, taken, stage)
    assert not found.unmet.any()
    assert window.least <= float(numbers.camera.f_number[0]) <= window.greatest
    wider = shot.replace(
        glass=shot.glass.replace(f_number=shot.glass.f_number.replace(value=window.least * 0.99))
    )
    for metres in np.linspace(4.0, 5.0, 41):
        tried = wider.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=metres)),))
        assert judged(plan, tried, stage)[0].unmet.all() or window.greatest / window.least > 1.01


def test_one_unmet_requirement_among_met_ones_is_unmet(set_up):
    plan, shot, stage = set_up(2.0, 9.0, brief=[Requirement(subject=1), Requirement(subject=2)])
    found, _numbers = judged(plan, shot, stage)
    assert (found.verdicts == MET).any(axis=0).all()
    assert found.unmet.all()
    target = briefs.focus_at_stop(plan, shot, _numbers, 0, 1)
    assert target == SubjectTarget(number=1)  # the stop grants both nowhere: it stays on what was asked


def test_the_answer_is_on_a_subject_that_is_just_there(set_up):
    plan, shot, stage = set_up(4.0, 5.0, brief=[Requirement(subject=2)])
    numbers = survey(plan, shot, stage)
    window = briefs.frame_answer(briefs.terms(plan, shot, numbers), 3)
    assert briefs.taken_at(shot, numbers, 3, window).marks[0].target == SubjectTarget(number=2)


def test_over_time_the_focus_moves_no_more_than_it_must(set_up):
    requirements = [Requirement(subject=1, last=4), Requirement(subject=2, first=7)]
    plan, shot, stage = set_up((3.0, 2.8), (5.0, 5.4), brief=requirements, last=30)
    found, _ = judged(plan, shot, stage)
    stop = briefs.nearest_stop(found.answer.stops, 2.8)
    taken = solved(Where(plan, stage, None), shot)
    after, numbers = judged(plan, taken, stage)
    assert not after.unmet.any()
    assert float(numbers.camera.f_number[0]) == stop
    assert len(taken.marks) <= 5
    speed = np.abs(np.diff(1 / numbers.camera.focus_m))
    # between frame 4 and 7 at least the gap of the two bands has to be passed
    before, behind = (1 / np.array([numbers.near_m[i], numbers.far_m[i]]) for i in (3, 6))
    gap = (1 / numbers.sight.axial_m[0, 3] - (before[0] - before[1]) / 2) - (
        1 / numbers.sight.axial_m[1, 6] + (behind[0] - behind[1]) / 2
    )
    assert speed.max() >= gap / 3 * (1 - 1e-9)
    assert speed.max() <= gap / 3 * 1.35


def test_one_focus_stands_still_where_it_may(set_up):
    plan, shot, stage = set_up((3.0, 3.05), brief=[Requirement(subject=1)])
    taken = solved(Where(plan, stage, None), shot)
    assert len(taken.marks) == 1
    assert not judged(plan, taken, stage)[0].unmet.any()


def test_marks_outside_a_brief_stay(set_up):
    plan, shot, stage = set_up(3.0, brief=[Requirement(subject=1)], last=30)
    shot = shot.replace(marks=tuple(Mark(frame=f, target=DistanceTarget(metres=9.0)) for f in (1, 28)))
    numbers = survey(plan, shot, stage, np.arange(5, 11))
    some = briefs.terms(plan, shot, numbers)
    taken = briefs.taken_over(shot, some, shot.glass.f_number, np.full(6, 2.8))
    assert [mark.frame for mark in taken.marks] == [1, 5, 10, 28]


def test_keys_of_the_stop_outside_a_brief_stay(set_up):
    keys = tuple(Key(frame=f, value=v) for f, v in ((1, 4.0), (7, 5.6), (28, 11.0)))
    keyed = Keyed(value=4.0, keys=keys)
    plan, shot, stage = set_up(3.0, brief=[Requirement(subject=1)], last=30, glass={"f_number": keyed})
    some = briefs.terms(plan, shot, survey(plan, shot, stage, np.arange(5, 11)))
    taken = briefs.taken_over(shot, some, Keyed(value=2.0), np.full(6, 2.0))
    assert [(k.frame, k.value) for k in taken.glass.f_number.keys] == [(1, 4), (5, 2), (10, 2), (28, 11)]


def test_where_one_stop_does_not_do_the_stop_is_keyed(set_up):
    # first both near and far sharp, later the far one very soft
    requirements = [
        Requirement(subject=1),
        Requirement(subject=2, last=4),
        Requirement(subject=2, kind=SOFT, px=40, first=7),
    ]
    plan, shot, stage = set_up(2.0, 3.0, brief=requirements)
    found, _ = judged(plan, shot, stage)
    assert found.answer.stops == ()
    assert found.answer.possible.all()
    assert solved(Where(plan, stage, None), shot) is None
    taken = briefs.with_keyed_stop(shot, found.answer)
    after, numbers = judged(plan, taken, stage)
    assert not after.unmet.any()
    assert len(taken.glass.f_number.keys) >= 2
    stops = taken.glass.f_number.at(numbers.frames)
    assert np.all(stops >= found.answer.least * (1 - 1e-9))
    assert np.all(stops <= found.answer.greatest * (1 + 1e-9))


def test_a_clash_names_the_requirements_and_how_far_apart_they_are(set_up):
    requirements = [Requirement(subject=1), Requirement(subject=2), Requirement(subject=3, kind=SOFT, px=15)]
    plan, shot, stage = set_up(2.0, 4.0, 6.0, brief=requirements)
    found, _ = judged(plan, shot, stage)
    clash = briefs.clash(found.brief, 0)
    assert not found.answer.possible.any()
    assert set(clash.requirements) == {0, 1, 2}
    assert clash.text.startswith("1 S1 sharp and 2 S2 sharp need f/")
    assert "3 S3 at least 15 px soft" in clash.text
    assert clash.stops_apart > 1
    both = [Requirement(subject=1), Requirement(subject=1, kind=SOFT, px=30)]
    plan, shot, stage = set_up(2.0, 4.0, brief=both)
    clash = briefs.clash(judged(plan, shot, stage)[0].brief, 0)
    assert clash.requirements == (0, 1)
    assert np.isinf(clash.stops_apart) or clash.stops_apart > 1
    plan, shot, stage = set_up(2.0, brief=[Requirement(subject=1)])
    assert briefs.clash(judged(plan, shot, stage)[0].brief, 0) is None


def test_a_clash_with_the_lens_says_so(set_up):
    short = Lens(name="Short", focal_mm=(50, 50), widest=2.0, narrowest=4.0, close_focus_m=0.5)
    plan, shot, stage = set_up(
        1.0, 3.0, brief=[Requirement(subject=1), Requirement(subject=2)], glass={"lens": short}
    )
    clash = briefs.clash(judged(plan, shot, stage)[0].brief, 0)
    assert clash.text.endswith("stops apart.")
    assert "the lens's smallest stop is f/4" in clash.text
    near = Lens(name="Far", focal_mm=(50, 50), widest=1.0, narrowest=22, close_focus_m=2.0)
    plan, shot, stage = set_up(0.5, brief=[Requirement(subject=1)], glass={"lens": near})
    assert briefs.clash(judged(plan, shot, stage)[0].brief, 0).requirements == (0,)


def names(found):
    return [candidate.text for candidate in found]


@pytest.mark.parametrize("frame", [None, 4.0])
def test_trials_meet_the_brief(set_up, frame):
    requirements = [Requirement(subject=1), Requirement(subject=2), Requirement(subject=3, kind=SOFT, px=9)]
    plan, shot, stage = set_up(2.0, (3.0, 3.02), 6.0, brief=requirements)
    where = Where(plan, stage, frame)
    found = list(candidates(where, shot))
    assert any("lens," in text for text in names(found))
    assert any(text.startswith("Camera ") for text in names(found))
    assert any("instead of sharp" in text for text in names(found))
    assert any("instead of 9" in text for text in names(found))
    for candidate in found:
        changed = plan.replace(shots=(candidate.shot,))
        numbers = survey(changed, candidate.shot, stage, None if frame is None else [frame])
        after = briefs.judge(changed, candidate.shot, numbers)
        assert not after.unmet.any(), candidate.text


def test_a_stop_beyond_the_lens_or_a_smaller_sensor_is_tried(set_up):
    short = Lens(name="Short", focal_mm=(50, 50), widest=2.0, narrowest=4.0, close_focus_m=0.5)
    plan, shot, stage = set_up(
        2.0, 3.0, brief=[Requirement(subject=1), Requirement(subject=2)], glass={"lens": short}
    )
    found = list(candidates(Where(plan, stage, None), shot))
    beyond = next(t for t in found if t.text.startswith("A stop beyond the Short"))
    assert beyond.shot.glass.lens is None
    sensor = next(t for t in found if "at the same framing" in t.text)
    assert sensor.shot.glass.sensor.width_mm < shot.glass.sensor.width_mm
    angles = [survey(plan, s, stage).camera.view_angles_deg[0][0] for s in (shot, sensor.shot)]
    assert angles[0] == pytest.approx(angles[1])


def test_no_trial_where_nothing_is_wrong(set_up):
    plan, shot, stage = set_up(2.0, brief=[Requirement(subject=1)])
    assert list(candidates(Where(plan, stage, None), shot)) == []


# Painting


def test_painting_replaces_what_it_excludes(set_up):
    _, shot, _ = set_up(2.0, last=30)
    shot = edit.painted(shot, Requirement(subject=1))
    assert shot.brief == (Requirement(subject=1),)
    shot = edit.painted(shot, Requirement(subject=1, kind=SOFT, px=5, first=10, last=20))
    assert [(w.kind, w.first, w.last) for w in shot.brief] == [
        (SHARP, None, 9), (SHARP, 21, None), (SOFT, 10, 20),
    ]  # fmt: skip
    shot = edit.painted(shot, Requirement(subject=1, kind="at_most", px=9, first=12, last=14))
    assert [w.kind for w in shot.brief] == [SHARP, SHARP, SOFT, "at_most"]
    cleared = edit.cleared(shot, Requirement(subject=1, first=1, last=15))
    assert [(w.kind, w.first, w.last) for w in cleared.brief] == [(SHARP, 21, None), (SOFT, 16, 20)]
    whole = edit.painted(shot, Requirement(subject=1, first=1, last=30))
    assert whole.brief == (Requirement(subject=1),)
    assert edit.cleared(whole, Requirement(subject=2)).brief == whole.brief


def test_requirements_follow_their_subject(set_up):
    plan, _shot, _ = set_up(2.0, 3.0, brief=[Requirement(subject=1), Requirement(subject=2)])
    assert [w.subject for w in edit.merge_subjects(plan, 1, 2).shots[0].brief] == [2, 2]
    assert [w.subject for w in edit.remove_subject(plan, 1, lambda _shot, _frame: 2.0).shots[0].brief] == [2]


def test_a_requirement_in_words(set_up):
    plan, _, _ = set_up(2.0)
    assert briefs.requirement_text(plan, Requirement(subject=1)) == "1 S1 sharp"
    assert (
        briefs.requirement_text(plan, Requirement(subject=0, kind=SOFT, px=12))
        == "Background at least 12 px soft"
    )
    assert briefs.short_text(plan, Requirement(subject=1, kind="at_most", px=3)) == "1 S1 ≤ 3 px"
    with pytest.raises(ValueError, match="before its start"):
        Requirement(subject=1, first=5, last=4)
