"""The focus between marks."""

import itertools
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.ease import eased, swinging
from kobrel.optics.lens import Numbers
from kobrel.plan.model import DistanceTarget, Mark, Search, Target


def focus_dpt(
    marks: Sequence[Mark],
    frames: ArrayLike,
    targets_dpt: Mapping[Target, Numbers],
    ways_dpt: Sequence[float] | None = None,
) -> Numbers:
    """The focus in dioptres at frames, ``D = (1 - e) Da(t) + e Db(t)``.

    Parameters
    ----------
    marks : in order, at least one; held before the first and after the last
    frames : (F,)
    targets_dpt : the nearness at those frames, (F,), of each subject and point that marks are on;
        one that is missing here, or not a number at a frame, counts as infinity
    ways_dpt : how far each pull goes, as it arrives, see :func:`ways`; searches need it

    Returns
    -------
    (F,) dioptres, 0 for infinity.
    """
    at = np.atleast_1d(np.asarray(frames, dtype=float))
    live = {target: _nearness(target, at, targets_dpt) for target in {mark.target for mark in marks}}
    nearness = [live[mark.target] for mark in marks]
    focus = nearness[0].copy()
    ends = np.asarray([mark.frame for mark in marks[1:]])
    for k, end in enumerate(ends):
        mark, begins, after = marks[k], marks[k].leaves, nearness[k + 1]
        moving, there = (at > begins) & (at < end), at >= end
        if mark.target == marks[k + 1].target:  # it is followed, without rounding on the way
            there = at > begins
        else:
            e = eased((at[moving] - begins) / (end - begins), mark.ease, mark.handles)
            focus[moving] = _between(nearness[k][moving], after[moving], e, mark.by)
        focus[there] = after[there]
    for k, end in enumerate(ends):
        search = marks[k].search
        if search is not None and ways_dpt is not None:
            stays = ends[k + 1] - end if k + 1 < len(ends) else np.inf  # until the next pull arrives
            focus += _searched(search, at - end, min(search.frames, stays), ways_dpt[k])
    return np.maximum(focus, 0.0)


def ways(marks: Sequence[Mark], targets_dpt: Mapping[Target, Numbers]) -> list[float]:
    """How far each pull goes, in dioptres, where it arrives.

    Parameters
    ----------
    targets_dpt : as for :func:`focus_dpt`, at the frames of all marks but the first
    """
    at = np.asarray([mark.frame for mark in marks[1:]])
    return [
        float(_nearness(after.target, at, targets_dpt)[k] - _nearness(before.target, at, targets_dpt)[k])
        for k, (before, after) in enumerate(itertools.pairwise(marks))
    ]


def _nearness(target: Target, at: Numbers, targets_dpt: Mapping[Target, Numbers]) -> Numbers:
    """Where a mark on something would have the focus at each frame, dioptres."""
    if isinstance(target, DistanceTarget):
        return np.full(at.shape, 1.0 / target.metres)
    live = targets_dpt.get(target, np.zeros(at.shape))
    return np.broadcast_to(np.where(np.isfinite(live), live, 0.0), at.shape)


def _between(start: Numbers, end: Numbers, e: Numbers, by: str) -> Numbers:
    """Part of the way from one nearness to another; in metres where both are finite."""
    plain = start * (1 - e) + end * e
    if by == "dioptres":
        return plain
    finite = (start > 0) & (end > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        metres = np.where(finite, (1 - e) / start + e / end, 1.0)
    return np.where(finite, 1.0 / np.maximum(metres, 1e-9), plain)


def _searched(search: Search, since: Numbers, frames: float, way: float) -> Numbers:
    """What a search adds so many frames after its pull arrived, dioptres: first beyond it, then back."""
    if frames <= 0:
        return np.zeros_like(since)
    size = search.amount * (abs(way) if search.unit == "part" else 1.0)
    result: Numbers = np.sign(way) * size * swinging(since / frames, search.swings, search.decay)
    return result
