"""Commands for the list of subjects."""

from typing import assert_never

import numpy as np

from kobrel.errors import PlanError
from kobrel.plan import edit
from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import (
    Anchor,
    AnchorKind,
    BoundsAnchor,
    NearestAnchor,
    OriginAnchor,
    PointAnchor,
    Shot,
    StandInAnchor,
    Subject,
    SubjectTarget,
    SurfaceAnchor,
)
from kobrel.plan.parts import Vector
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.space.anchors import at_surface, subject_points
from kobrel.plan.space.moves import vector
from kobrel.session.commands.focusing import focus_on
from kobrel.session.needs import needs, needs_now
from kobrel.session.numbers import Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.stage.stage import Place

_WITHOUT_CAMERA_M = 3.0


_NODE_TIES: dict[AnchorKind, type[BoundsAnchor | OriginAnchor | NearestAnchor]] = {
    "bounds": BoundsAnchor, "origin": OriginAnchor, "nearest": NearestAnchor,
}  # fmt: skip


def chosen(session: Session) -> Subject | None:
    """The chosen subject, or else the first."""
    subjects, number = session.plan.subjects, session.selection.subject
    return next((s for s in subjects if s.number == number), subjects[0] if subjects else None)


needs_chosen = needs(chosen)
"""A command on the selected subject, which is its second argument."""


def add_subject(session: Session, name: str, anchor: Anchor, half_depth_m: float = 0.0) -> Subject:
    """Make something a subject, and choose it."""
    plan, subject = edit.add_subject(session.plan, name, anchor)
    if half_depth_m:
        plan = edit.with_subject(plan, subject.number, half_depth_m=half_depth_m)
    session.edit(f"Add subject {subject.name}", plan, Selection.subject.to(subject.number))
    session.say(f"Subject {subject.number}: {subject.name}")
    return subject


@needs_now
def make_of_readings(session: Session, now: Now) -> int:
    """Make every reading a subject, ahead of the lens where it has no place; return how many."""
    plan, number = now.plan, session.selection.subject
    for reading in plan.readings:
        ahead = now.camera.pose[:3, 3] - now.camera.pose[:3, 2] * reading.distance_m
        place = reading.point_m or vector(ahead)
        plan, subject = edit.add_subject(plan, reading.name, PointAnchor(position_m=place))
        number = subject.number
    session.edit("Subjects from readings", plan, Selection.subject.to(number))
    return len(plan.readings)


def remove_subject(session: Session, number: int) -> None:
    """Delete a subject; marks on it keep its distance."""
    subject = session.plan.subject(number)
    if subject is None:
        return

    def focus_at(shot: Shot, frame: float) -> float:
        try:
            return float(camera_at(session.plan, shot, frame, session.stage).focus_m)
        except PlanError:
            return _WITHOUT_CAMERA_M

    session.edit(f"Delete subject {subject.name}", edit.remove_subject(session.plan, number, focus_at))


def merge_subjects(session: Session, number: int, into: int) -> None:
    """Put the marks and tapes of a subject onto another, and delete it."""
    subject, other = session.plan.subject(number), session.plan.subject(into)
    if subject is not None and other is not None and number != into:
        plan = edit.merge_subjects(session.plan, number, into)
        session.edit(f"Merge {subject.name} into {other.name}", plan, Selection.subject.to(into))


@needs_chosen
def change(session: Session, subject: Subject, what: str, /, **changes: object) -> None:
    """Change fields of the chosen subject."""
    session.edit(f"{what} of {subject.name}", edit.with_subject(session.plan, subject.number, **changes))


@needs_chosen
def focus_on_chosen(session: Session, subject: Subject) -> None:
    """Put the focus on the chosen subject."""
    focus_on(session, SubjectTarget(number=subject.number))


@needs_chosen
def move(session: Session, subject: Subject, by: int) -> None:
    """Move the chosen subject down the list, or up."""
    session.edit(f"Move {subject.name}", edit.move_subject(session.plan, subject.number, by))


@needs_chosen
def merge_chosen(session: Session, subject: Subject, into: int) -> None:
    """Merge the chosen subject into another."""
    merge_subjects(session, subject.number, into)


@needs_chosen
def remove_chosen(session: Session, subject: Subject) -> None:
    """Delete the chosen subject; marks on it keep its distance."""
    remove_subject(session, subject.number)


# What a subject is tied to


def node_of(subject: Subject) -> Place | None:
    """The node that a subject is tied to."""
    anchor = subject.anchor
    match anchor:
        case PointAnchor() | StandInAnchor() | PlateAnchor():
            return None
        case SurfaceAnchor() | BoundsAnchor() | OriginAnchor() | NearestAnchor():
            return Place(anchor.scene, anchor.node)
        case _:
            assert_never(anchor)


def ties(subject: Subject) -> list[AnchorKind]:
    """Kinds of anchors that a subject could have."""
    anchor = subject.anchor
    match anchor:
        case PointAnchor():
            return ["point"]
        case StandInAnchor() | PlateAnchor():
            return [anchor.kind, "point"]
        case SurfaceAnchor() | BoundsAnchor() | OriginAnchor() | NearestAnchor():
            return ["surface", *_NODE_TIES, "point"]
        case _:
            assert_never(anchor)


def place_of(session: Session, subject: Subject) -> Vector:
    """Where a subject is at the frame, metres."""
    return vector(subject_points(subject.anchor, [session.frame], session.stage)[0])


@needs_chosen
def tie(session: Session, subject: Subject, kind: AnchorKind) -> None:
    """Tie the chosen subject by another kind of anchor; a point of the surface stays where it is."""
    node = node_of(subject)
    if kind == subject.anchor.kind:
        return
    here = place_of(session, subject)
    if not np.isfinite(here).all():
        session.say(f"{subject.name} has no position: what it is attached to does not exist. Pick it again.")
        return
    if kind == "point":
        change(session, "Tie", anchor=PointAnchor(position_m=here))
    elif node is not None and kind in _NODE_TIES:
        change(session, "Tie", anchor=_NODE_TIES[kind](scene=node.scene, node=node.path))
    elif node is not None and (anchor := at_surface(session.stage, node, here, session.frame)) is not None:
        change(session, "Tie", anchor=anchor)


@needs_chosen
def put(session: Session, subject: Subject, place: Vector) -> None:
    """Put the chosen subject, a free point, elsewhere: by a key at the frame where it has keys."""
    if isinstance(subject.anchor, PointAnchor):
        change(session, "Place", anchor=subject.anchor.set(PlaceKey(frame=session.frame, position_m=place)))


@needs_chosen
def toggle_key(session: Session, subject: Subject) -> None:
    """Key the place of the chosen subject, a free point, at the frame, or take the key there away."""
    anchor, frame = subject.anchor, float(session.frame)
    if not isinstance(anchor, PointAnchor):
        return
    here = vector(anchor.place_at(frame))
    change(session, "Key", anchor=anchor.toggled(PlaceKey(frame=frame, position_m=here)))
