"""Commands for dials: made by setting values at two ends, turned, keyed, settled."""

from typing import get_args

import numpy as np

from kobrel.plan import edit
from kobrel.plan.keys import Level, LevelKey, Settle
from kobrel.plan.model import Plan
from kobrel.plan.parts import PullEase
from kobrel.plan.pictures.plates import Dial, Drive, DrivenOfLens, DrivenOfPlate, Plate
from kobrel.plan.pull.dials import LEVELS, value_at
from kobrel.plan.space.moves import vector
from kobrel.plan.space.plates import pivot_at
from kobrel.session.commands.plates.placing import NAMES
from kobrel.session.needs import needs, needs_now
from kobrel.session.numbers import Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import DialEnd

LENS_NAMES: dict[DrivenOfLens, str] = {"focus": "Focus", "f_number": "Stop", "focal_mm": "Focal length"}
_SAME = 1e-6
_NO_WAY_M = 1e-4


def chosen(session: Session) -> Dial | None:
    """The chosen dial, or else the first."""
    dials = session.plan.dials
    return next((d for d in dials if d.name == session.selection.dial), dials[0] if dials else None)


needs_chosen = needs(chosen)
"""A command on the selected dial, which is its second argument."""


def _with_dial(plan: Plan, old: str, dial: Dial | None) -> Plan:
    dials = [dial if d.name == old else d for d in plan.dials]
    return plan.replace(dials=tuple(d for d in dials if d is not None))


@needs_chosen
def change(session: Session, dial: Dial, what: str, /, **changes: object) -> None:
    """Change fields of the chosen dial."""
    made = dial.replace(**changes)
    session.edit(
        f"{what} of {dial.name}", _with_dial(session.plan, dial.name, made), Selection.dial.to(made.name)
    )


@needs_now
def begin(session: Session, now: Now) -> None:
    """Take all values as they are for a dial's low end."""
    session.selection.dial_start = _end_of(now)
    session.say("Start set. Now change plates and lens to the end state.")


def _end_of(now: Now) -> DialEnd:
    camera = now.camera
    return DialEnd(
        now.plan, now.frame, (float(camera.focus_m), float(camera.f_number), float(camera.focal_mm))
    )


@needs_now
def finish(session: Session, now: Now) -> None:
    """Take all values as they are for the high end, and make a dial of those that differ; everything is put
    back to the low end.
    """
    start = session.selection.dial_start
    if start is None:
        session.say("Set the low end first.")
        return
    before = start.plan
    drives = driven_between(start, _end_of(now), vector(now.camera.pose[:3, 3]))
    if not drives:
        session.say("Nothing has changed since Set 0.")
        return
    name = edit.unused("Dial", [dial.name for dial in before.dials])
    dial = Dial(name=name, drives=drives, shot=now.shot.name)
    session.edit(
        f"Make {name}",
        before.replace(dials=(*before.dials, dial)),
        Selection.dial.to(name),
        Selection.dial_start.to(None),
    )
    session.say(f"{name} drives {len(drives)} values. Drag, key or record it.")


def driven_between(start: DialEnd, end: DialEnd, eye: tuple[float, float, float]) -> tuple[Drive, ...]:
    """What differs between two ends, as a dial would drive it.

    Parameters
    ----------
    eye : where distances are counted from
    """
    found: list[Drive] = []
    before, after = start.plan, end.plan
    for plate in before.plates:
        other = after.plate(plate.number)
        if other is None:
            continue
        places = pivot_at(plate, before.dials, [start.frame])[0], pivot_at(other, after.dials, [end.frame])[0]
        low, high = (float(np.linalg.norm(place - np.asarray(eye))) for place in places)
        if abs(high - low) > _NO_WAY_M:
            found.append(Drive(plate=plate.number, what="distance", low=low, high=high, eye_m=eye))
        for what in LEVELS:
            low = float(value_at(plate, before.dials, what, [start.frame])[0])
            high = float(value_at(other, after.dials, what, [end.frame])[0])
            if abs(high - low) > _SAME:
                found.append(Drive(plate=plate.number, what=what, low=low, high=high))
    lens: tuple[DrivenOfLens, ...] = get_args(DrivenOfLens)
    found += [
        Drive(what=what, low=low, high=high)
        for what, low, high in zip(lens, start.lens, end.lens, strict=True)
        if abs(high - low) > _SAME * max(abs(low), 1.0) and np.isfinite([low, high]).all()
    ]
    return tuple(found)


def value_now(session: Session, dial: Dial) -> float:
    """Where a dial is at the frame."""
    return dial.level.value_at(session.frame)


@needs_chosen
def turn(session: Session, dial: Dial, value: float) -> None:
    """Turn the chosen dial: by a key at the frame where it has keys, or altogether."""
    key = LevelKey(frame=session.frame, value=float(np.clip(value, 0.0, 1.0)))
    change(session, "Turn", level=dial.level.set(key))


@needs_chosen
def toggle_key(session: Session, dial: Dial) -> None:
    """Key the chosen dial at the frame, or take the key there away."""
    change(session, "Key", level=dial.level.toggled_at(session.frame))


def key_under_way(session: Session, dial: Dial) -> LevelKey | None:
    """The last key up to the frame."""
    return dial.level.last_key(session.frame)


@needs_chosen
def set_ease(session: Session, dial: Dial, ease: PullEase) -> None:
    """Set how the chosen dial goes on from its last key."""
    _change_key(session, dial, "Way", ease=ease)


@needs_chosen
def set_settle(session: Session, dial: Dial, part: float) -> None:
    """Let the chosen dial overshoot the key that it comes to by a part of the way, and settle; 0 does not."""
    _change_key(session, dial, "Settling", settle=Settle(part=part) if part > 0 else None)


def _change_key(session: Session, dial: Dial, what: str, **changes: object) -> None:
    at = key_under_way(session, dial)
    if at is not None:
        change(session, what, level=dial.level.with_key_changed(at.frame, **changes))


@needs_chosen
def change_drive(session: Session, dial: Dial, index: int, **changes: object) -> None:
    """Change one end or the ease of a value that the chosen dial drives."""
    if 0 <= index < len(dial.drives):
        made = dial.drives[index].replace(**changes)
        change(session, "Range", drives=(*dial.drives[:index], made, *dial.drives[index + 1 :]))


@needs_chosen
def turn_round(session: Session, dial: Dial, index: int) -> None:
    """Let a value go the other way."""
    if 0 <= index < len(dial.drives):
        drive = dial.drives[index]
        change_drive(session, index, low=drive.high, high=drive.low)


@needs_chosen
def drop_drive(session: Session, dial: Dial, index: int) -> None:
    """Take a value from the chosen dial; it keeps what it is at the frame."""
    if not 0 <= index < len(dial.drives):
        return
    drive = dial.drives[index]
    left = (*dial.drives[:index], *dial.drives[index + 1 :])
    plan = _with_dial(session.plan, dial.name, dial.replace(drives=left))
    plate = session.plan.plate(drive.plate)
    if plate is not None:
        plan = edit.with_plate(plan, _as_now(session, plate, drive))
    session.edit(f"Remove a value from {dial.name}", plan)


def _as_now(session: Session, plate: Plate, drive: Drive) -> Plate:
    dials = session.plan.dials
    if drive.what == "distance":
        return plate.replace(position_m=vector(pivot_at(plate, dials, [session.frame])[0]), keys=())
    what: DrivenOfPlate = drive.what  # type: ignore[assignment]
    return plate.replace(**{what: Level(value=float(value_at(plate, dials, what, [session.frame])[0]))})


@needs_chosen
def remove(session: Session, dial: Dial) -> None:
    """Delete the chosen dial; plates stand as they do at the frame."""
    plan = session.plan
    for drive in dial.drives:
        plate = plan.plate(drive.plate)
        if plate is not None:
            plan = edit.with_plate(plan, _as_now(session, plate, drive))
    session.edit(f"Delete {dial.name}", _with_dial(plan, dial.name, None), Selection.dial.to(None))


def rename(session: Session, name: str) -> None:
    """Give the chosen dial another name."""
    others = [dial.name for dial in session.plan.dials if dial is not chosen(session)]
    if name and name not in others:
        change(session, "Name", name=name)
    elif name:
        session.say(f"A dial named {name} exists.")


def drive_name(plan: Plan, drive: Drive) -> str:
    """What a dial drives, in words."""
    plate = plan.plate(drive.plate)
    if drive.plate is None:
        return LENS_NAMES[drive.what]  # type: ignore[index]
    return f"{plate.name if plate else 'missing'}: {NAMES[drive.what].lower()}"  # type: ignore[index]
