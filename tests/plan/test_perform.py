"""A pull performed by hand becomes few marks that hold it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.errors import PlanError
from kobrel.plan.pull.interpolation import focus_dpt
from kobrel.plan.pull.live_pull import performed


@given(st.integers(0, 10**6), st.sampled_from([0.005, 0.02, 0.1]))
def test_marks_hold_what_was_performed_within_the_tolerance(seed, tolerance):
    random = np.random.default_rng(seed)
    frames = np.unique(random.integers(1001, 1200, 120))
    focus = np.abs(np.cumsum(random.normal(0, 0.02, len(frames)))) + 0.05
    marks = performed(frames, focus, tolerance)
    path = focus_dpt(marks, frames, {})
    assert np.abs(path - focus).max() <= tolerance * (1 + 1e-6) + 1e-6
    assert len(marks) <= len(frames)


def test_a_steady_pull_with_tremor_needs_few_marks():
    frames = np.arange(1001, 1097)
    way = np.interp(frames, [1001, 1030, 1060, 1096], [0.5, 0.5, 0.2, 0.2])
    tremor = np.random.default_rng(2).uniform(-0.004, 0.004, len(frames))
    marks = performed(frames, way + tremor, 0.01)
    assert len(marks) <= 6
    assert all(mark.ease == "even" for mark in marks)


def test_a_hand_that_rests_leaves_one_mark_and_infinity_stays():
    assert len(performed([1001, 1050], [0.3, 0.3], 0.01)) == 1
    far = performed([1001, 1050], [0.0, 0.0], 0.01)
    assert far[0].target.metres == float("inf")
    with pytest.raises(PlanError, match="Nothing was recorded"):
        performed([], [], 0.01)
