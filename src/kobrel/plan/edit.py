"""Edits as pure functions: an old plan or shot in, a new one out."""

from kobrel.plan.model import (
    Anchor,
    DistanceTarget,
    Ease,
    Key,
    Keyed,
    Mark,
    Plan,
    Shot,
    Subject,
    SubjectTarget,
    Target,
)


def with_shot(plan: Plan, index: int, shot: Shot) -> Plan:
    """The plan with one shot exchanged."""
    shots = list(plan.shots)
    shots[index] = shot
    return plan.but(shots=tuple(shots))


def add_subject(plan: Plan, name: str, anchor: Anchor) -> tuple[Plan, Subject]:
    """The plan with a new subject, and that subject with the next free number."""
    number = max((subject.number for subject in plan.subjects), default=0) + 1
    subject = Subject(number=number, name=_unused_name(plan, name), anchor=anchor)
    return plan.but(subjects=(*plan.subjects, subject)), subject


def _unused_name(plan: Plan, name: str) -> str:
    taken = {subject.name for subject in plan.subjects}
    count, result = 2, name
    while result in taken:
        result, count = f"{name} {count}", count + 1
    return result


def rename_subject(plan: Plan, number: int, name: str) -> Plan:
    """The plan with one subject called otherwise."""
    return plan.but(subjects=tuple(s.but(name=name) if s.number == number else s for s in plan.subjects))


def remove_subject(plan: Plan, number: int, distances_m: dict[tuple[str, float], float]) -> Plan:
    """The plan without a subject; marks on it stay, at the distance the subject had there.

    `distances_m` gives that distance for (shot name, frame).
    """
    gone = SubjectTarget(number=number)

    def freed(shot: Shot, mark: Mark) -> Mark:
        if mark.target != gone:
            return mark
        return mark.but(target=DistanceTarget(metres=distances_m[shot.name, mark.frame]))

    return plan.but(
        subjects=tuple(s for s in plan.subjects if s.number != number),
        shots=tuple(shot.but(marks=tuple(freed(shot, m) for m in shot.marks)) for shot in plan.shots),
    )


def set_mark(shot: Shot, frame: float, target: Target, ease: Ease | None = None) -> Shot:
    """The shot with a mark at a frame, in place of one that is there."""
    old = next((mark for mark in shot.marks if mark.frame == frame), None)
    kept = ease or (old.ease if old else "smooth")
    others = [mark for mark in shot.marks if mark.frame != frame]
    return shot.but(marks=_sorted([*others, Mark(frame=frame, target=target, ease=kept)]))


def refocus(shot: Shot, frame: float, target: Target) -> Shot:
    """The shot focused on something at a frame.

    With a single mark the whole shot changes; with several a mark is set at the frame.
    """
    if len(shot.marks) == 1:
        return shot.but(marks=(shot.marks[0].but(target=target),))
    return set_mark(shot, frame, target)


def move_mark(shot: Shot, from_frame: float, to_frame: float) -> Shot:
    """The shot with a mark at another frame; it does not go past or onto its neighbours."""
    frames = [mark.frame for mark in shot.marks]
    at = frames.index(from_frame)
    low = frames[at - 1] + 1 if at else float("-inf")
    high = frames[at + 1] - 1 if at + 1 < len(frames) else float("inf")
    moved = shot.marks[at].but(frame=min(max(to_frame, low), high))
    return shot.but(marks=(*shot.marks[:at], moved, *shot.marks[at + 1 :]))


def remove_mark(shot: Shot, frame: float) -> Shot:
    """The shot without the mark at a frame; the last one stays."""
    left = tuple(mark for mark in shot.marks if mark.frame != frame)
    return shot.but(marks=left) if left else shot


def _sorted(marks: list[Mark]) -> tuple[Mark, ...]:
    return tuple(sorted(marks, key=lambda mark: mark.frame))


def set_value(keyed: Keyed, frame: float, value: float) -> Keyed:
    """The value changed: everywhere, or by a key at the frame where there are keys."""
    return set_key(keyed, frame, value) if keyed.keys else keyed.but(value=value)


def set_key(keyed: Keyed, frame: float, value: float, ease: Ease | None = None) -> Keyed:
    """The value with a key at a frame, in place of one that is there."""
    old = next((key for key in keyed.keys if key.frame == frame), None)
    new = Key(frame=frame, value=value, ease=ease or (old.ease if old else "smooth"))
    others = [key for key in keyed.keys if key.frame != frame]
    return keyed.but(keys=tuple(sorted([*others, new], key=lambda key: key.frame)))


def remove_key(keyed: Keyed, frame: float) -> Keyed:
    """The value without the key at a frame; the last key leaves its value behind."""
    left = tuple(key for key in keyed.keys if key.frame != frame)
    gone = next((key.value for key in keyed.keys if key.frame == frame), keyed.value)
    return keyed.but(keys=left) if left else keyed.but(keys=(), value=gone)
