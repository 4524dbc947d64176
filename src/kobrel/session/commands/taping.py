"""Commands for tapes."""

import math
from typing import assert_never

import numpy as np
from numpy.typing import NDArray

from kobrel.plan import edit
from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.tapes import TapeNumbers, end_points, measure_with
from kobrel.plan.model import (
    BoundsAnchor,
    CameraEnd,
    DistanceTarget,
    End,
    NearestAnchor,
    OriginAnchor,
    PointAnchor,
    StandInAnchor,
    SubjectEnd,
    SubjectTarget,
    SurfaceAnchor,
    Tape,
)
from kobrel.plan.names import thing_name
from kobrel.plan.parts import Vector
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.space.anchors import at_surface, on_surface
from kobrel.plan.space.moves import vector
from kobrel.session.commands.focusing import focus_distance, focus_on
from kobrel.session.needs import needs_now
from kobrel.session.numbers import Now
from kobrel.session.selection import ChosenTape, Selection
from kobrel.session.session import Session
from kobrel.session.tools import Tool
from kobrel.stage.stage import Pick, Place

SNAP_PX = 9


def begin(session: Session) -> None:
    """Start a tape: the next two clicks are its ends."""
    if session.shot is None:
        return
    session.selection.tool = Tool("tape")
    session.say("Click the tape's start in any view (C: at camera). Esc: cancel")


def take_end(session: Session, end: End) -> None:
    """Take an end for the tape being made; the second one makes it."""
    tool = session.selection.tool
    if tool is None or tool.does != "tape":
        return
    if tool.start is None:
        session.selection.tool = Tool("tape", start=end)
        session.say(f"Start: {end_name(session, end)}. Click the end.")
        return
    if end == tool.start:
        session.say("Start and end are the same point. Click the end")
        return
    plan, tape = edit.add_tape(
        session.plan, f"{end_name(session, tool.start)} to {end_name(session, end)}", tool.start, end
    )
    session.edit(f"Tape {tape.name}", plan, Selection.tool.to(None), Selection.item.to(ChosenTape(tape.name)))
    numbers = numbers_of(session, tape)
    if numbers is not None:
        session.say(f"{tape.name}: {session.length(float(numbers.straight_m[0]))}. F focuses on its end.")


def take_camera(session: Session) -> None:
    """Take the camera as an end, starting a tape if none is being made."""
    if session.selection.tool is None or session.selection.tool.does != "tape":
        begin(session)
    take_end(session, CameraEnd())


def end_name(session: Session, end: End) -> str:
    """What an end of a tape is on, in words."""
    plan = session.plan
    match end:
        case CameraEnd():
            return "camera"
        case SubjectEnd():
            subject = plan.subject(end.number)
            return subject.name if subject else f"missing subject {end.number}"
        case StandInAnchor():
            stand_in = plan.stand_in(end.number)
            return stand_in.name if stand_in else "missing stand-in"
        case PlateAnchor():
            plate = plan.plate(end.number)
            return plate.name if plate else "missing plate"
        case PointAnchor():
            return "a point"
        case SurfaceAnchor() | BoundsAnchor() | OriginAnchor() | NearestAnchor():
            return thing_name(plan, Place(end.scene, end.node))
        case _:
            assert_never(end)


def chosen(session: Session) -> Tape | None:
    """The chosen tape."""
    return next((tape for tape in session.plan.tapes if tape.name == session.selection.tape), None)


@needs_now
def numbers_of(session: Session, now: Now, tape: Tape) -> TapeNumbers:
    """A tape's numbers at the frame."""
    return measure_with(now.camera, now.plan, now.stage, tape, [now.frame])


def rename(session: Session, tape: Tape, name: str) -> None:
    """Call a tape otherwise; another one of that name keeps it."""
    name = edit.unused(name, [other.name for other in session.plan.tapes])
    plan = edit.with_tape(session.plan, tape.name, name=name)
    session.edit(f"Rename {tape.name}", plan, Selection.item.to(ChosenTape(name)))


def end_of(tape: Tape, which: str) -> End:
    """An end of a tape, "start" or "end"."""
    return tape.start if which == "start" else tape.end


def points_of(numbers: TapeNumbers, which: str) -> NDArray[np.float64]:
    """Where an end of a tape is, (n, 3)."""
    return numbers.start if which == "start" else numbers.end


def nudge_end(session: Session, which: str, place: Vector) -> None:
    """Put an end of the chosen tape at a place, metres; it stays tied to what it rides on."""
    tape = chosen(session)
    if tape is not None:
        end = moved_end(session, end_of(tape, which), np.asarray(place))
        set_end(session, tape, which, end)


def set_end(session: Session, tape: Tape, which: str, end: End) -> None:
    """Put an end, "start" or "end", of a tape elsewhere."""
    other = tape.start if which == "end" else tape.end
    if end != other:
        session.edit(f"Move {which} of {tape.name}", edit.with_tape(session.plan, tape.name, **{which: end}))


def moved_end(session: Session, end: End, point: NDArray[np.float64]) -> End:
    """An end nudged to a point: it stays tied to what it rides on where that is a node."""
    if isinstance(end, SurfaceAnchor):
        moved = at_surface(session.stage, Place(end.scene, end.node), point, session.frame)
        if moved is not None:
            return moved
    if isinstance(end, PointAnchor):
        return end.set(PlaceKey(frame=session.frame, position_m=vector(np.round(point, 5))))
    return PointAnchor(position_m=vector(np.round(point, 5)))


def focus_on_end(session: Session) -> None:
    """Put the focus on the end of the chosen tape that is not at the camera: on its subject, or at
    its distance.
    """
    tape, camera = chosen(session), session.camera
    if tape is None or camera is None:
        session.say("Select a tape first.")
        return
    end = tape.start if isinstance(tape.end, CameraEnd) else tape.end
    if isinstance(end, SubjectEnd):
        focus_on(session, SubjectTarget(number=end.number))
        return
    lens = camera.pose[None, :3, 3]
    point = end_points(session.plan, end, [session.frame], session.stage, lens)[0]
    distance = focus_distance(camera, point)
    if distance > 0:
        focus_on(session, DistanceTarget(metres=distance))
    else:
        session.say("The end of the tape is behind the camera.")


def remove(session: Session) -> None:
    """Delete the chosen tape."""
    tape = chosen(session)
    if tape is not None:
        left = edit.remove_tape(session.plan, tape.name)
        session.edit(f"Delete tape {tape.name}", left, Selection.item.to(None))


def snapped(now: Now, pick: Pick, x: float, y: float, width: float) -> tuple[End, str]:
    """An end at what was picked, drawn to a vertex, else an edge, of the triangle within reach.

    `x` and `y` are where the pointer is in a picture of this width. Also says what it snapped to.
    """
    end, camera = on_surface(pick), now.camera
    world = now.stage.world(pick.place, [now.frame])
    if world is None:
        return end, ""
    scale = width / camera.width_px

    def away(local: NDArray[np.float64]) -> float:
        sight = camera.see(world[0, :3, :3] @ local + world[0, :3, 3])
        return math.hypot(float(sight.x_px) * scale - x, float(sight.y_px) * scale - y)

    corner = min(pick.corners, key=away)
    if away(corner) <= SNAP_PX:
        return on_surface(pick, corner), "vertex"
    feet = []
    for i in range(3):
        start, along = pick.corners[i], pick.corners[(i + 1) % 3] - pick.corners[i]
        size = float(along @ along)
        part = min(max(float((pick.local - start) @ along) / size, 0.0), 1.0) if size else 0.0
        feet.append(start + part * along)
    foot = min(feet, key=away)
    if away(foot) <= SNAP_PX * 0.6:
        return on_surface(pick, foot), "edge"
    return end, "surface"


def bounds_end(place: Place) -> BoundsAnchor:
    """An end in the middle of a thing."""
    return BoundsAnchor(scene=place.scene, node=place.path)
