"""Answers at the very end of what is possible, and lengths that tell close limits apart."""

import numpy as np
import pytest

from kobrel.optics import reach
from kobrel.optics.units import format_lengths
from kobrel.plan.instrument import Requirement
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Mark, PointAnchor, Subject, SubjectTarget
from kobrel.plan.solve import brief as briefs
from kobrel.plan.solve.candidates import Where, solved
from tests.conftest import ball_at


@pytest.mark.parametrize("seed", range(60))
def test_every_answer_is_one_by_a_survey_too(looking_at, seed):
    random = np.random.default_rng(seed)
    plan, shot, stage = looking_at(ball_at((0, 0, -3)))
    places = random.uniform(0.8, 12.0, 3)
    plan = plan.replace(
        subjects=tuple(
            Subject(number=k, name=f"s{k}", anchor=PointAnchor(position_m=(0.0, 0.0, -float(d))))
            for k, d in enumerate(places, start=1)
        )
    )
    kinds = random.permutation(["sharp", "at_least", "at_most"])
    requirements = tuple(
        Requirement(subject=k, kind=str(kind), px=float(random.uniform(3, 40)))
        for k, kind in enumerate(kinds, start=1)
    )
    shot = shot.replace(
        glass=shot.glass.replace(focal_mm=Keyed(value=float(random.choice([35, 85, 200]))), model=str(random.choice(["thin", "render"]))),
        brief=requirements, first=1, last=2,
        marks=(Mark(frame=1, target=SubjectTarget(number=1)),),
    )  # fmt: skip
    where = Where(plan, stage)
    terms = where.terms(shot)
    stops = briefs.answer(terms).stops
    for end in [edge for pair in stops for edge in pair]:  # at the very ends the band has no width
        wanted = shot.replace(glass=shot.glass.replace(f_number=Keyed(value=float(np.clip(end, 0.5, 64)))))
        taken = solved(where, wanted)
        assert taken is not None
        numbers = survey(plan, taken, stage)
        verdicts = briefs.verdicts(briefs.terms(plan, taken, numbers), numbers)
        assert not (verdicts == briefs.UNMET).any()


def test_a_band_without_width_is_not_turned_over_by_rounding():
    x = np.array([[0.30000000000000004, 0.2]])
    requirements = reach.Requirements(
        x, x, np.full((1, 2), 0.05), np.full((1, 2), 0.05), np.array([True, True]), np.ones((1, 2), bool)
    )
    lens = reach.Range(0.5, 64.0, np.array([10.0]))
    least = reach.stop_ranges(requirements, lens)[0][0, 0]
    for nudge in (0.0, -1e-14, 1e-14):
        low, high = reach.focus_bands(requirements, lens, least * (1 + nudge))
        assert low[0, 0] <= high[0, 0]
    low, high = reach.focus_bands(requirements, lens, least * 0.99)
    assert low[0, 0] > high[0, 0]


def test_close_limits_are_told_apart():
    assert format_lengths([0.29996, 0.30004]) == ["0.29996 m", "0.30004 m"]
    assert format_lengths([0.3, 0.3]) == ["0.300 m", "0.300 m"]
    assert format_lengths([2.0, float("inf")]) == ["2.00 m", "∞"]
    assert format_lengths([1.0000000001, 1.0]) == ["1.00 m", "1.00 m"]
    assert len(set(format_lengths([0.29996, 0.3, 0.30004], "cm"))) == 3
