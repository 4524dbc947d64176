"""Edits as pure functions: an old plan or shot in, a new one out."""

from collections.abc import Callable, Collection
from typing import Any

from kobrel.plan.instrument import Wish, WishKind
from kobrel.plan.model import (
    ALT_FIELDS,
    Alt,
    Anchor,
    CameraRef,
    DistanceTarget,
    End,
    Mark,
    Plan,
    PointAnchor,
    SceneRef,
    Shot,
    StandIn,
    StandInAnchor,
    Subject,
    SubjectEnd,
    SubjectTarget,
    Tape,
)
from kobrel.plan.parts import Vector
from kobrel.plan.pictures.plates import Plate, PlateAnchor


def with_shot(plan: Plan, index: int, shot: Shot) -> Plan:
    """The plan with one shot exchanged."""
    shots = list(plan.shots)
    shots[index] = shot
    return plan.but(shots=tuple(shots))


def each_way(shot: Shot, change: Callable[[Shot], Shot]) -> Shot:
    """The shot changed, and each of its Alts as if the shot were that."""

    def changed(alt: Alt) -> Alt:
        other = change(shot.but(**{field: getattr(alt, field) for field in ALT_FIELDS}))
        return alt.but(**{field: getattr(other, field) for field in ALT_FIELDS})

    return change(shot).but(alts=tuple(changed(alt) for alt in shot.alts))


def with_camera(shot: Shot, camera: CameraRef) -> Shot:
    """The shot seen from another camera, which stands where it says."""
    return shot.but(camera=camera, ahead_m=0.0, keeps=None)


def add_subject(plan: Plan, name: str, anchor: Anchor) -> tuple[Plan, Subject]:
    """The plan with a new subject, and that subject with the next free number."""
    number = max((subject.number for subject in plan.subjects), default=0) + 1
    subject = Subject(number=number, name=unused(name, [s.name for s in plan.subjects]), anchor=anchor)
    return plan.but(subjects=(*plan.subjects, subject)), subject


def unused(name: str, taken: Collection[str]) -> str:
    """A name, or with a number behind it where it is taken.

    >>> unused("Door", ["Door", "Door 2"]), unused("Door", [])
    ('Door 3', 'Door')
    """
    if name not in taken:
        return name
    low, high = 1, 2  # the first is taken, the second is looked for
    while f"{name} {high}" in taken:
        low, high = high, 2 * high
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if f"{name} {middle}" in taken else (low, middle)
    return f"{name} {high}"


def with_subject(plan: Plan, number: int, **changes: Any) -> Plan:
    """The plan with one subject changed."""
    return plan.but(subjects=tuple(s.but(**changes) if s.number == number else s for s in plan.subjects))


def move_subject(plan: Plan, number: int, by: int) -> Plan:
    """The plan with a subject further down its list, or up; it stops at the ends."""
    subjects = list(plan.subjects)
    at = [subject.number for subject in subjects].index(number)
    subjects.insert(min(max(at + by, 0), len(subjects) - 1), subjects.pop(at))
    return plan.but(subjects=tuple(subjects))


def merge_subjects(plan: Plan, number: int, into: int) -> Plan:
    """The plan without a subject; marks, tapes and cameras that were on it are on another."""

    def turned(shot: Shot) -> Shot:
        camera = shot.camera
        if camera.kind == "made" and camera.aims_at == number:
            camera = camera.but(aims_at=into)
        marks = tuple(
            mark.but(target=mark.target.but(number=into)) if _is_on(mark, number) else mark
            for mark in shot.marks
        )
        brief = tuple(w.but(subject=into) if w.subject == number else w for w in shot.brief)
        keeps = shot.keeps
        if keeps is not None and keeps.subject == number:
            keeps = keeps.but(subject=into)
        return shot.but(marks=marks, camera=camera, brief=brief, keeps=keeps)

    return plan.but(
        subjects=tuple(s for s in plan.subjects if s.number != number),
        shots=tuple(each_way(shot, turned) for shot in plan.shots),
        tapes=_ends_exchanged(plan, SubjectEnd(number=number), SubjectEnd(number=into)),
    )


def _is_on(mark: Mark, number: int) -> bool:
    return isinstance(mark.target, SubjectTarget) and mark.target.number == number


def _ends_exchanged(plan: Plan, old: End, new: End) -> tuple[Tape, ...]:
    return tuple(
        tape.but(start=new if tape.start == old else tape.start, end=new if tape.end == old else tape.end)
        for tape in plan.tapes
    )


def remove_subject(plan: Plan, number: int, focus_m: Callable[[Shot, float], float]) -> Plan:
    """The plan without a subject; marks on it stay, at the distance the subject had there.

    `focus_m` gives the focus of a shot, or of a shot that is as one of its Alts, at a frame. Tapes
    keep what the subject was tied to, a camera keeps its own aim; wishes about it go.
    """
    subject = plan.subject(number)

    def released(shot: Shot) -> Shot:
        camera = shot.camera
        if camera.kind == "made" and camera.aims_at == number:
            camera = camera.but(aims_at=None)
        keeps = None if shot.keeps is not None and shot.keeps.subject == number else shot.keeps
        marks = tuple(freed(shot, mark) for mark in shot.marks)
        brief = tuple(wish for wish in shot.brief if wish.subject != number)
        return shot.but(marks=marks, camera=camera, brief=brief, keeps=keeps)

    def freed(shot: Shot, mark: Mark) -> Mark:
        if not _is_on(mark, number):
            return mark
        return mark.but(target=DistanceTarget(metres=focus_m(shot, mark.frame)))

    return plan.but(
        subjects=tuple(s for s in plan.subjects if s.number != number),
        shots=tuple(each_way(shot, released) for shot in plan.shots),
        tapes=_ends_exchanged(plan, SubjectEnd(number=number), subject.anchor) if subject else plan.tapes,
    )


def with_scene(plan: Plan, name: str, /, **changes: Any) -> Plan:
    """The plan with one scene reference changed."""
    return plan.but(scenes=tuple(s.but(**changes) if s.name == name else s for s in plan.scenes))


def add_scene(plan: Plan, scene: SceneRef) -> Plan:
    """The plan with another scene."""
    return plan.but(scenes=(*plan.scenes, scene))


def remove_scene(plan: Plan, name: str) -> Plan:
    """The plan without a scene; what was tied to it is reported as missing."""
    return plan.but(scenes=tuple(s for s in plan.scenes if s.name != name))


def add_stand_in(plan: Plan, stand_in: StandIn) -> tuple[Plan, StandIn]:
    """The plan with a new stand-in, and that with the next free number and name."""
    number = max((s.number for s in plan.stand_ins), default=0) + 1
    name = unused(stand_in.name, [s.name for s in plan.stand_ins])
    fresh = stand_in.but(number=number, name=name)
    return plan.but(stand_ins=(*plan.stand_ins, fresh)), fresh


def with_stand_in(plan: Plan, number: int, **changes: Any) -> Plan:
    """The plan with one stand-in changed."""
    return plan.but(stand_ins=tuple(s.but(**changes) if s.number == number else s for s in plan.stand_ins))


def remove_stand_in(plan: Plan, number: int, place_m: Vector) -> Plan:
    """The plan without a stand-in; what was tied to it stays at the place it had."""
    tied, freed = StandInAnchor(number=number), PointAnchor(position_m=place_m)
    return plan.but(
        stand_ins=tuple(s for s in plan.stand_ins if s.number != number),
        subjects=tuple(s.but(anchor=freed) if s.anchor == tied else s for s in plan.subjects),
        tapes=_ends_exchanged(plan, tied, freed),
    )


def add_plate(plan: Plan, plate: Plate) -> tuple[Plan, Plate]:
    """The plan with a new plate, and that with the next free number and name."""
    number = max((p.number for p in plan.plates), default=0) + 1
    fresh = plate.but(number=number, name=unused(plate.name, [p.name for p in plan.plates]))
    return plan.but(plates=(*plan.plates, fresh)), fresh


def with_plate(plan: Plan, plate: Plate) -> Plan:
    """The plan with one plate exchanged, by its number."""
    return plan.but(plates=tuple(plate if p.number == plate.number else p for p in plan.plates))


def remove_plate(plan: Plan, number: int, place_m: Vector) -> Plan:
    """The plan without a plate; what was tied to it stays at the place it had, what a dial drove of it goes,
    and other plates are no longer filled for it.
    """
    tied, freed = PlateAnchor(number=number), PointAnchor(position_m=place_m)

    def unfilled(plate: Plate) -> Plate:
        if plate.fill is None or number not in plate.fill.of:
            return plate
        left = tuple(one for one in plate.fill.of if one != number)
        return plate.but(fill=plate.fill.but(of=left) if left else None)

    return plan.but(
        plates=tuple(unfilled(p) for p in plan.plates if p.number != number),
        dials=tuple(
            dial.but(drives=tuple(d for d in dial.drives if d.plate != number)) for dial in plan.dials
        ),
        subjects=tuple(s.but(anchor=freed) if s.anchor == tied else s for s in plan.subjects),
        tapes=_ends_exchanged(plan, tied, freed),
    )


def add_tape(plan: Plan, name: str, start: End, end: End) -> tuple[Plan, Tape]:
    """The plan with a new tape, and that under an unused name."""
    tape = Tape(name=unused(name, [t.name for t in plan.tapes]), start=start, end=end)
    return plan.but(tapes=(*plan.tapes, tape)), tape


def with_tape(plan: Plan, name: str, /, **changes: Any) -> Plan:
    """The plan with one tape changed."""
    return plan.but(tapes=tuple(t.but(**changes) if t.name == name else t for t in plan.tapes))


def remove_tape(plan: Plan, name: str) -> Plan:
    """The plan without a tape."""
    return plan.but(tapes=tuple(t for t in plan.tapes if t.name != name))


_EXCLUDES: dict[WishKind, tuple[WishKind, ...]] = {
    "sharp": ("sharp", "at_least", "at_most"),
    "at_least": ("sharp", "at_least"),
    "at_most": ("sharp", "at_most"),
}


def painted(shot: Shot, wish: Wish) -> Shot:
    """The shot with a wish over its frames, in place of what was wished there that it excludes."""
    kept = cleared(shot, wish, _EXCLUDES[wish.kind]).brief
    fresh = wish.but(
        first=None if wish.first is None or wish.first <= shot.first else wish.first,
        last=None if wish.last is None or wish.last >= shot.last else wish.last,
    )
    return shot.but(brief=(*kept, fresh))


def cleared(shot: Shot, where: Wish, kinds: tuple[WishKind, ...] = ("sharp", "at_least", "at_most")) -> Shot:
    """The shot without wishes of some kinds about a subject, over a wish's frames."""
    first = shot.first if where.first is None else where.first
    last = shot.last if where.last is None else where.last
    kept: list[Wish] = []
    for old in shot.brief:
        if old.subject != where.subject or old.kind not in kinds:
            kept.append(old)
            continue
        begin = shot.first if old.first is None else old.first
        end = shot.last if old.last is None else old.last
        if begin < first:
            kept.append(old.but(last=min(end, first - 1)))
        if end > last:
            kept.append(old.but(first=max(begin, last + 1)))
    return shot.but(brief=tuple(kept))
