"""Edits of a shot's marks as pure functions: an old shot in, a new one out."""

import itertools
import math
from collections.abc import Callable, Collection, Iterable, Sequence
from typing import Any

from kobrel.plan.keys import changed_at, in_order, key_at, without_key
from kobrel.plan.model import DistanceTarget, Mark, Shot, Target
from kobrel.plan.parts import PullEase
from kobrel.plan.pull.live_pull import metres_of


def set_mark(shot: Shot, frame: float, target: Target, ease: PullEase | None = None) -> Shot:
    """The shot with a mark at a frame, in place of one that is there, whose way on it keeps."""
    old = key_at(shot.marks, frame)
    made = old.replace(target=target) if old else Mark(frame=frame, target=target)
    return with_marks(shot, [*without_key(shot.marks, frame), made.replace(ease=ease) if ease else made])


def with_marks(shot: Shot, marks: Iterable[Mark]) -> Shot:
    """The shot with other marks; a hold ends before the next mark."""
    ordered = in_order(marks)
    kept = [
        mark if mark.leaves < after.frame else mark.replace(until=_before(mark.frame, after.frame))
        for mark, after in itertools.pairwise(ordered)
    ]
    return shot.replace(marks=(*kept, ordered[-1]))


def _before(frame: float, after: float) -> float | None:
    """The last whole frame before the next mark until which one can hold, if any."""
    last = math.ceil(after) - 1.0
    return last if last > frame else None


def change_mark(shot: Shot, frame: float, **changes: Any) -> Shot:
    """The shot with a mark changed in some fields."""
    return with_marks(shot, changed_at(shot.marks, frame, **changes))


def pull_between(shot: Shot, first: float, start: Target, last: float, end: Target) -> Shot:
    """The shot with a pull from one target to another, in place of all marks on its way.

    What held before the pull holds until it begins; later marks stay.
    """
    begin, finish = sorted((first, last))
    targets = (start, end) if first <= last else (end, start)
    outside = [mark for mark in shot.marks if not begin <= mark.frame <= finish]
    fresh = [Mark(frame=begin, target=targets[0]), Mark(frame=finish, target=targets[1])]
    lone = len(shot.marks) == 1 and outside  # a single mark was the focus of the whole shot
    return with_marks(shot, fresh if lone else [*outside, *fresh])


def pulled_back(shot: Shot, arrived: float, at: float) -> Shot | None:
    """The shot with a pull and back: what it came from is in focus again, after as many frames as the way
    there took.

    Parameters
    ----------
    arrived : frame of the mark at which the pull arrives
    at : frame at which the way back begins; before the mark is left it begins there

    Returns
    -------
    None where no pull arrives there, or other marks stand on the way back.
    """
    number = next((k for k, mark in enumerate(shot.marks) if mark.frame == arrived), 0)
    if number == 0:
        return None
    start, end = shot.marks[number - 1], shot.marks[number]
    leaves = max(at, end.leaves)
    last = leaves + max(1.0, end.frame - start.leaves)
    if any(end.frame < mark.frame <= last for mark in shot.marks):
        return None
    held = end.replace(
        until=leaves if leaves > end.frame else None, ease=start.ease, handles=start.handles, by=start.by
    )
    back = end.replace(frame=last, target=start.target, until=None, search=None)
    return with_marks(shot, [*(m for m in shot.marks if m.frame != arrived), held, back])


def moved_marks(shot: Shot, frames: Collection[float], by: float, scale: float = 1.0) -> Shot:
    """The shot with several marks moved in time, and drawn apart from the first of them; -1 mirrors
    them. They keep their order among the others and a frame between them.
    """
    chosen = sorted(frame for frame in frames if any(mark.frame == frame for mark in shot.marks))
    if not chosen:
        return shot
    low, high = chosen[0], chosen[-1]
    others = [mark.frame for mark in shot.marks if mark.frame not in chosen]
    floor = max((f for f in others if f < low), default=-math.inf)
    roof = min((f for f in others if f > high), default=math.inf)

    def place(frame: float) -> float:
        return round(high - (frame - low) if scale < 0 else low + (frame - low) * scale) + by

    new = {frame: place(frame) for frame in chosen}
    step = max(floor + 1 - min(new.values()), 0.0) or min(roof - 1 - max(new.values()), 0.0)
    new = {frame: at + step for frame, at in new.items()}
    taken = sorted(new.values())
    if len(set(taken)) < len(taken) or taken[0] <= floor or taken[-1] >= roof:
        return shot
    if any(frame in new.values() for frame in others):
        return shot
    places = [new.get(mark.frame, mark.frame) for mark in shot.marks]
    if scale > 0 and places != sorted(places):
        return shot
    return with_marks(shot, [_shifted(m, new.get(m.frame, m.frame)) for m in shot.marks])


def _shifted(mark: Mark, frame: float) -> Mark:
    """A mark at another frame, with its hold as long as before."""
    return mark.replace(frame=frame, until=None if mark.until is None else mark.until + frame - mark.frame)


def lifted_marks(shot: Shot, frames: Collection[float], by_dpt: float) -> Shot:
    """The shot with the marks that are at distances moved nearer by so many dioptres; none goes beyond
    infinity, and those on subjects or points stay there.
    """

    def lifted(mark: Mark) -> Mark:
        if mark.frame not in frames or not isinstance(mark.target, DistanceTarget):
            return mark
        return mark.replace(target=DistanceTarget(metres=metres_of(1.0 / mark.target.metres + by_dpt)))

    return with_marks(shot, [lifted(mark) for mark in shot.marks])


def pasted_marks(shot: Shot, marks: Sequence[Mark], at: float) -> Shot:
    """The shot with copies of marks that begin at a frame, in place of those on their way."""
    by = at - marks[0].frame
    fresh = [_shifted(mark, mark.frame + by) for mark in marks]
    kept = [mark for mark in shot.marks if not fresh[0].frame <= mark.frame <= fresh[-1].frame]
    return with_marks(shot, [*kept, *fresh])


def searched_out(shot: Shot, frame: float, focus_dpt: Callable[[float], float]) -> Shot:
    """The shot with the search of a pull as plain marks at its crests.

    Parameters
    ----------
    frame : of the mark that the pull leaves
    focus_dpt : the focus at a frame, dioptres
    """
    at = [mark.frame for mark in shot.marks].index(frame)
    search = shot.marks[at].search
    if search is None or at + 1 >= len(shot.marks):
        return shot
    arrives, half = shot.marks[at + 1].frame, search.frames / search.swings / 2
    roof = shot.marks[at + 2].frame if at + 2 < len(shot.marks) else math.inf
    crests = [round(arrives + half * (k + 0.5)) for k in range(round(2 * search.swings))]
    ends = [*dict.fromkeys(f for f in crests if arrives < f < roof - 1), round(arrives + search.frames)]
    fresh = [Mark(frame=f, target=DistanceTarget(metres=1 / max(focus_dpt(f), 1e-9))) for f in ends[:-1]]
    if arrives < ends[-1] < roof and ends[-1] not in ends[:-1]:
        fresh.append(shot.marks[at + 1].replace(frame=float(ends[-1])))
    plain = [m.replace(search=None) if m.frame == frame else m for m in shot.marks]
    return with_marks(shot, [*plain, *fresh])


def refocus(shot: Shot, frame: float, target: Target) -> Shot:
    """The shot focused on something at a frame.

    With a single mark the whole shot changes; with several a mark is set at the frame.
    """
    if len(shot.marks) == 1:
        return shot.replace(marks=(shot.marks[0].replace(target=target),))
    return set_mark(shot, frame, target)


def move_mark(shot: Shot, from_frame: float, to_frame: float) -> Shot:
    """The shot with a mark at another frame; it does not go past or onto its neighbours."""
    frames = [mark.frame for mark in shot.marks]
    at = frames.index(from_frame)
    low = frames[at - 1] + 1 if at else float("-inf")
    high = frames[at + 1] - 1 if at + 1 < len(frames) else float("inf")
    moved = _shifted(shot.marks[at], min(max(to_frame, low), high))
    return with_marks(shot, [*shot.marks[:at], moved, *shot.marks[at + 1 :]])


def remove_mark(shot: Shot, frame: float) -> Shot:
    """The shot without the mark at a frame; the last one stays."""
    left = without_key(shot.marks, frame)
    return shot.replace(marks=left) if left else shot
