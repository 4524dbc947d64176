"""Edits as pure functions: an old plan or shot in, a new one out."""

from collections.abc import Callable, Collection
from typing import Any

from kobrel.plan.instrument import Requirement, RequirementKind
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
    return plan.replace(shots=tuple(shots))


def each_way(shot: Shot, change: Callable[[Shot], Shot]) -> Shot:
    """The shot changed, and each of its Alts as if the shot were that."""

    def changed(alt: Alt) -> Alt:
        other = change(shot.replace(**{field: getattr(alt, field) for field in ALT_FIELDS}))
        return alt.replace(**{field: getattr(other, field) for field in ALT_FIELDS})

    return change(shot).replace(alts=tuple(changed(alt) for alt in shot.alts))


def with_camera(shot: Shot, camera: CameraRef) -> Shot:
    """The shot seen from another camera, which stands where it says."""
    return shot.replace(camera=camera, ahead_m=0.0, keeps=None)


def add_subject(plan: Plan, name: str, anchor: Anchor) -> tuple[Plan, Subject]:
    """The plan with a new subject, and that subject with the next free number."""
    number = max((subject.number for subject in plan.subjects), default=0) + 1
    subject = Subject(number=number, name=unused(name, [s.name for s in plan.subjects]), anchor=anchor)
    return plan.replace(subjects=(*plan.subjects, subject)), subject


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
    return plan.replace(
        subjects=tuple(s.replace(**changes) if s.number == number else s for s in plan.subjects)
    )


def move_subject(plan: Plan, number: int, by: int) -> Plan:
    """The plan with a subject further down its list, or up; it stops at the ends."""
    subjects = list(plan.subjects)
    at = [subject.number for subject in subjects].index(number)
    subjects.insert(min(max(at + by, 0), len(subjects) - 1), subjects.pop(at))
    return plan.replace(subjects=tuple(subjects))


def merge_subjects(plan: Plan, number: int, into: int) -> Plan:
    """The plan without a subject; marks, tapes and cameras that were on it are on another."""

    def turned(shot: Shot) -> Shot:
        camera = shot.camera
        if camera.kind == "made" and camera.aims_at == number:
            camera = camera.replace(aims_at=into)
        marks = tuple(
            mark.replace(target=mark.target.replace(number=into)) if _is_on(mark, number) else mark
            for mark in shot.marks
        )
        brief = tuple(w.replace(subject=into) if w.subject == number else w for w in shot.brief)
        keeps = shot.keeps
        if keeps is not None and keeps.subject == number:
            keeps = keeps.replace(subject=into)
        return shot.replace(marks=marks, camera=camera, brief=brief, keeps=keeps)

    return plan.replace(
        subjects=tuple(s for s in plan.subjects if s.number != number),
        shots=tuple(each_way(shot, turned) for shot in plan.shots),
        tapes=_ends_exchanged(plan, SubjectEnd(number=number), SubjectEnd(number=into)),
    )


def _is_on(mark: Mark, number: int) -> bool:
    return isinstance(mark.target, SubjectTarget) and mark.target.number == number


def _ends_exchanged(plan: Plan, old: End, new: End) -> tuple[Tape, ...]:
    return tuple(
        tape.replace(start=new if tape.start == old else tape.start, end=new if tape.end == old else tape.end)
        for tape in plan.tapes
    )


def remove_subject(plan: Plan, number: int, focus_m: Callable[[Shot, float], float]) -> Plan:
    """The plan without a subject; marks on it stay, at the distance the subject had there.

    `focus_m` gives the focus of a shot, or of a shot that is as one of its Alts, at a frame. Tapes
    keep what the subject was tied to, a camera keeps its own aim; requirements about it go.
    """
    subject = plan.subject(number)

    def released(shot: Shot) -> Shot:
        camera = shot.camera
        if camera.kind == "made" and camera.aims_at == number:
            camera = camera.replace(aims_at=None)
        keeps = None if shot.keeps is not None and shot.keeps.subject == number else shot.keeps
        marks = tuple(freed(shot, mark) for mark in shot.marks)
        brief = tuple(requirement for requirement in shot.brief if requirement.subject != number)
        return shot.replace(marks=marks, camera=camera, brief=brief, keeps=keeps)

    def freed(shot: Shot, mark: Mark) -> Mark:
        if not _is_on(mark, number):
            return mark
        return mark.replace(target=DistanceTarget(metres=focus_m(shot, mark.frame)))

    return plan.replace(
        subjects=tuple(s for s in plan.subjects if s.number != number),
        shots=tuple(each_way(shot, released) for shot in plan.shots),
        tapes=_ends_exchanged(plan, SubjectEnd(number=number), subject.anchor) if subject else plan.tapes,
    )


def with_scene(plan: Plan, name: str, /, **changes: Any) -> Plan:
    """The plan with one scene reference changed."""
    return plan.replace(scenes=tuple(s.replace(**changes) if s.name == name else s for s in plan.scenes))


def add_scene(plan: Plan, scene: SceneRef) -> Plan:
    """The plan with another scene."""
    return plan.replace(scenes=(*plan.scenes, scene))


def remove_scene(plan: Plan, name: str) -> Plan:
    """The plan without a scene; what was tied to it is reported as missing."""
    return plan.replace(scenes=tuple(s for s in plan.scenes if s.name != name))


def add_stand_in(plan: Plan, stand_in: StandIn) -> tuple[Plan, StandIn]:
    """The plan with a new stand-in, and that with the next free number and name."""
    number = max((s.number for s in plan.stand_ins), default=0) + 1
    name = unused(stand_in.name, [s.name for s in plan.stand_ins])
    fresh = stand_in.replace(number=number, name=name)
    return plan.replace(stand_ins=(*plan.stand_ins, fresh)), fresh


def with_stand_in(plan: Plan, number: int, **changes: Any) -> Plan:
    """The plan with one stand-in changed."""
    return plan.replace(
        stand_ins=tuple(s.replace(**changes) if s.number == number else s for s in plan.stand_ins)
    )


def remove_stand_in(plan: Plan, number: int, place_m: Vector) -> Plan:
    """The plan without a stand-in; what was tied to it stays at the place it had."""
    tied, freed = StandInAnchor(number=number), PointAnchor(position_m=place_m)
    return plan.replace(
        stand_ins=tuple(s for s in plan.stand_ins if s.number != number),
        subjects=tuple(s.replace(anchor=freed) if s.anchor == tied else s for s in plan.subjects),
        tapes=_ends_exchanged(plan, tied, freed),
    )


def add_plate(plan: Plan, plate: Plate) -> tuple[Plan, Plate]:
    """The plan with a new plate, and that with the next free number and name."""
    number = max((p.number for p in plan.plates), default=0) + 1
    fresh = plate.replace(number=number, name=unused(plate.name, [p.name for p in plan.plates]))
    return plan.replace(plates=(*plan.plates, fresh)), fresh


def with_plate(plan: Plan, plate: Plate) -> Plan:
    """The plan with one plate exchanged, by its number."""
    return plan.replace(plates=tuple(plate if p.number == plate.number else p for p in plan.plates))


def remove_plate(plan: Plan, number: int, place_m: Vector) -> Plan:
    """The plan without a plate; what was tied to it stays at the place it had, what a dial drove of it goes,
    and other plates are no longer filled for it.
    """
    tied, freed = PlateAnchor(number=number), PointAnchor(position_m=place_m)

    def unfilled(plate: Plate) -> Plate:
        if plate.fill is None or number not in plate.fill.of:
            return plate
        left = tuple(one for one in plate.fill.of if one != number)
        return plate.replace(fill=plate.fill.replace(of=left) if left else None)

    return plan.replace(
        plates=tuple(unfilled(p) for p in plan.plates if p.number != number),
        dials=tuple(
            dial.replace(drives=tuple(d for d in dial.drives if d.plate != number)) for dial in plan.dials
        ),
        subjects=tuple(s.replace(anchor=freed) if s.anchor == tied else s for s in plan.subjects),
        tapes=_ends_exchanged(plan, tied, freed),
    )


def add_tape(plan: Plan, name: str, start: End, end: End) -> tuple[Plan, Tape]:
    """The plan with a new tape, and that under an unused name."""
    tape = Tape(name=unused(name, [t.name for t in plan.tapes]), start=start, end=end)
    return plan.replace(tapes=(*plan.tapes, tape)), tape


def with_tape(plan: Plan, name: str, /, **changes: Any) -> Plan:
    """The plan with one tape changed."""
    return plan.replace(tapes=tuple(t.replace(**changes) if t.name == name else t for t in plan.tapes))


def remove_tape(plan: Plan, name: str) -> Plan:
    """The plan without a tape."""
    return plan.replace(tapes=tuple(t for t in plan.tapes if t.name != name))


_EXCLUDES: dict[RequirementKind, tuple[RequirementKind, ...]] = {
    "sharp": ("sharp", "at_least", "at_most"),
    "at_least": ("sharp", "at_least"),
    "at_most": ("sharp", "at_most"),
}


def painted(shot: Shot, requirement: Requirement) -> Shot:
    """The shot with a requirement over its frames, in place of what was wished there that it excludes."""
    kept = cleared(shot, requirement, _EXCLUDES[requirement.kind]).brief
    fresh = requirement.replace(
        first=None if requirement.first is None or requirement.first <= shot.first else requirement.first,
        last=None if requirement.last is None or requirement.last >= shot.last else requirement.last,
    )
    return shot.replace(brief=(*kept, fresh))


def cleared(
    shot: Shot, where: Requirement, kinds: tuple[RequirementKind, ...] = ("sharp", "at_least", "at_most")
) -> Shot:
    """The shot without requirements of some kinds about a subject, over a requirement's frames."""
    first = shot.first if where.first is None else where.first
    last = shot.last if where.last is None else where.last
    kept: list[Requirement] = []
    for old in shot.brief:
        if old.subject != where.subject or old.kind not in kinds:
            kept.append(old)
            continue
        begin = shot.first if old.first is None else old.first
        end = shot.last if old.last is None else old.last
        if begin < first:
            kept.append(old.replace(last=min(end, first - 1)))
        if end > last:
            kept.append(old.replace(first=max(begin, last + 1)))
    return shot.replace(brief=tuple(kept))
