"""Values over time: eases, keys, and the focus between marks."""

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.model import Mark, SubjectTarget
from kobrel.plan.parts import Ease, Keyed
from kobrel.stage.motion import eased


def _bracket(
    at: Sequence[float], eases: Sequence[Ease], frames: Numbers
) -> tuple[NDArray[np.intp], NDArray[np.intp], Numbers]:
    """For each frame the entries before and after it, and the eased part between them."""
    times = np.asarray(at, dtype=float)
    before = np.clip(np.searchsorted(times, frames, side="right") - 1, 0, len(times) - 1)
    after = np.minimum(before + 1, len(times) - 1)
    span = times[after] - times[before]
    u = np.clip((frames - times[before]) / np.where(span > 0, span, 1.0), 0.0, 1.0)
    smooth = np.asarray([kind == "smooth" for kind in eases])[before]
    return before, after, np.where(span > 0, eased(u, smooth), 0.0)


def keyed_at(keyed: Keyed, frames: ArrayLike) -> Numbers:
    """A keyed value at frames, moving evenly in its logarithm: stops, and zoom by ratio."""
    at = np.atleast_1d(np.asarray(frames, dtype=float))
    if not keyed.keys:
        return np.full(at.shape, keyed.value)
    before, after, part = _bracket([k.frame for k in keyed.keys], [k.ease for k in keyed.keys], at)
    values = np.log(np.asarray([key.value for key in keyed.keys]))
    return np.exp(values[before] * (1 - part) + values[after] * part)


def focus_dpt(marks: Sequence[Mark], frames: ArrayLike, subjects_dpt: Mapping[int, Numbers]) -> Numbers:
    """The focus in dioptres at frames, ``D = (1 - e) Da(t) + e Db(t)``.

    Parameters
    ----------
    marks : in order, at least one; held before the first and after the last
    frames : (F,)
    subjects_dpt : each subject's own nearness at those frames, (F,), by number; a mark on
        a subject that is missing here, or not a number at a frame, counts as infinity

    Returns
    -------
    (F,) dioptres, 0 for infinity.
    """
    at = np.atleast_1d(np.asarray(frames, dtype=float))
    before, after, part = _bracket([m.frame for m in marks], [m.ease for m in marks], at)
    numbers = sorted(subjects_dpt)
    live = np.zeros((len(numbers) + 1, len(at)))
    for row, number in enumerate(numbers):
        live[row] = np.nan_to_num(subjects_dpt[number], nan=0.0, posinf=0.0)
    rows = np.full(len(marks), -1)
    fixed = np.zeros(len(marks))
    for index, mark in enumerate(marks):
        if isinstance(mark.target, SubjectTarget):
            known = mark.target.number in subjects_dpt
            rows[index] = numbers.index(mark.target.number) if known else len(numbers)
        else:
            fixed[index] = 1.0 / mark.target.metres

    def nearness(which: NDArray[np.intp]) -> Numbers:
        return np.where(rows[which] >= 0, live[rows[which], np.arange(len(at))], fixed[which])

    return nearness(before) * (1 - part) + nearness(after) * part
