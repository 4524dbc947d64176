"""Commands for stand-ins and the light."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.plan import edit
from kobrel.plan.keys import LevelKey, PlaceKey
from kobrel.plan.model import Lights, Row, StandIn, StandInAnchor, StandInKind
from kobrel.plan.parts import Ease
from kobrel.plan.pull.fading import Way, faded
from kobrel.plan.space.anchors import subject_points
from kobrel.plan.space.moves import vector
from kobrel.plan.space.stand_ins import SIZES
from kobrel.plan.staging import stage_of
from kobrel.session.commands.subject_list import add_subject
from kobrel.session.needs import needs
from kobrel.session.selection import ChosenStandIn, Selection
from kobrel.session.session import Session
from kobrel.session.tools import Tool

STAND_IN_NAMES: dict[StandInKind, str] = {
    "standing": "Person", "seated": "Seated person", "child": "Child", "box": "Box", "ball": "Ball",
    "cone": "Cone", "cylinder": "Cylinder", "card": "Card", "wall": "Wall", "ground": "Ground",
    "string": "String of lights", "scatter": "Scatter of lights",
}  # fmt: skip
_SMALLEST_M = 0.002
_GREY, _GROUND = (0.3, 0.3, 0.29), (0.16, 0.155, 0.145)


def chosen(session: Session) -> StandIn | None:
    """The chosen stand-in."""
    number = session.selection.stand_in
    return session.plan.stand_in(number) if number is not None else None


needs_chosen = needs(chosen)
"""A command on the selected stand-in, which is its second argument."""


def place(session: Session, kind: StandInKind, position_m: ArrayLike, in_row: bool = False) -> StandIn:
    """Make a stand-in at a place, facing the camera, and choose it."""
    camera = session.camera
    turn = 0.0
    if camera is not None and kind != "ground":
        back = camera.pose[:3, 2]
        turn = round(float(np.degrees(np.arctan2(back[0], back[2]))), 1) + 0.0
    fresh = StandIn(
        number=1, name="Row" if in_row else STAND_IN_NAMES[kind], kind=kind, size_m=SIZES[kind],
        position_m=_rounded(position_m), turn_deg=turn,
        row=Row(direction_deg=round(turn + 180.0, 1) % 360.0) if in_row else None,
        colour=_GROUND if kind == "ground" else _GREY,
        lights=Lights() if kind in ("string", "scatter") else None,
    )  # fmt: skip
    plan, made = edit.add_stand_in(session.plan, fresh)
    chosen = Selection.item.to(ChosenStandIn(made.number))
    session.edit(f"Place {made.name.lower()}", plan, Selection.tool.to(None), chosen)
    session.say(f"{made.name} placed. Drag it, or its handles, in Overhead, Side or Front.")
    return made


def place_ahead(session: Session, kind: StandInKind, in_row: bool = False) -> StandIn:
    """Make a stand-in where the camera looks, on what is beneath; a ground at no height."""
    camera = session.camera
    spot = np.zeros(3)
    if camera is not None and kind != "ground":
        focus = min(float(camera.focus_m), 50.0)
        spot = camera.pose[:3, 3] - camera.pose[:3, 2] * focus
        spot[1] = floor_beneath(session, spot)
        if kind in ("string", "scatter"):
            spot[1] += 2.0
    return place(session, kind, spot, in_row)


def floor_beneath(session: Session, point: ArrayLike, without: int | None = None) -> float:
    """The height of the first surface beneath a point, leaving a stand-in out; 0 where none is."""
    start = np.asarray(point, dtype=float)
    stage = session.stage
    if not stage.built:
        return 0.0
    if without is not None:
        others = tuple(s for s in session.plan.stand_ins if s.number != without)
        stage = stage_of(session.plan.replace(stand_ins=others), session.library, stage)
    pick = stage.pick(session.frame, start, (0.0, -1.0, 0.0))
    return float(pick.point[1]) if pick else 0.0


def current_place(session: Session, stand_in: StandIn) -> np.ndarray:
    """Where a stand-in stands at the frame, (3,)."""
    return stand_in.place_at(session.frame)


@needs_chosen
def change(session: Session, stand_in: StandIn, what: str, /, **changes: object) -> None:
    """Change fields of the chosen stand-in."""
    session.edit(f"{what} of {stand_in.name}", edit.with_stand_in(session.plan, stand_in.number, **changes))


@needs_chosen
def change_row(session: Session, stand_in: StandIn, what: str, /, **changes: object) -> None:
    """Change the row of copies of the chosen stand-in, if it has one."""
    if stand_in.row is not None:
        change(session, what, row=stand_in.row.replace(**_whole(changes, "count")))


@needs_chosen
def change_lights(session: Session, stand_in: StandIn, what: str, /, **changes: object) -> None:
    """Change the lights of the chosen stand-in."""
    lights = stand_in.lights or Lights()
    change(session, what, lights=lights.replace(**_whole(changes, "count", "number")))


@needs_chosen
def set_opacity(session: Session, stand_in: StandIn, value: float) -> None:
    """Change the opacity of the chosen stand-in: by a key at the frame where it has keys."""
    change(session, "Opacity", opacity=stand_in.opacity.set(LevelKey(frame=session.frame, value=value)))


@needs_chosen
def toggle_opacity_key(session: Session, stand_in: StandIn) -> None:
    """Key the opacity of the chosen stand-in at the frame, or take the key there away."""
    change(session, "Key of opacity", opacity=stand_in.opacity.toggled_at(session.frame))


@needs_chosen
def fade(session: Session, stand_in: StandIn, way: Way, frames: float) -> None:
    """Let the chosen stand-in fade in or out over so many frames, from this frame on."""
    last = session.frame + max(1, round(frames))
    change(session, f"Fade {way}", opacity=faded(stand_in.opacity, way, session.frame, last))
    session.say(f"Fade {way} of {stand_in.name}, frames {session.frame:g} to {last:g}.")


@needs_chosen
def set_ease(session: Session, stand_in: StandIn, ease: Ease) -> None:
    """Set how the chosen stand-in goes on from its last key up to the frame."""
    change(session, "Interpolation", keys=stand_in.with_ease(session.frame, ease).keys)


@needs_chosen
def move(session: Session, stand_in: StandIn, position_m: ArrayLike) -> None:
    """Move the chosen stand-in: by a key at the frame where it has keys."""
    moved = stand_in.set(PlaceKey(frame=session.frame, position_m=_rounded(position_m)))
    change(session, "Place", position_m=moved.position_m, keys=moved.keys)


@needs_chosen
def resize(session: Session, stand_in: StandIn, axis: int, metres: float) -> None:
    """Change width, height or depth; a person keeps its proportions, a ball is round."""
    metres = round(max(metres, _SMALLEST_M), 4)
    size = list(stand_in.size_m)
    if stand_in.is_person or stand_in.kind == "ball":
        size = [round(part * metres / size[axis], 4) for part in size]
    size[axis] = metres
    if stand_in.kind in ("cone", "cylinder") and axis != 1:
        size[0] = size[2] = metres
    change(session, "Size", size_m=tuple(size))


@needs_chosen
def drop(session: Session, stand_in: StandIn) -> None:
    """Put the chosen stand-in onto what is beneath it."""
    here = current_place(session, stand_in)
    above = here + np.array([0.0, stand_in.size_m[1], 0.0])
    move(session, (here[0], floor_beneath(session, above, stand_in.number), here[2]))
    session.say(f"{stand_in.name} dropped onto the surface below.")


@needs_chosen
def toggle_key(session: Session, stand_in: StandIn) -> None:
    """Key the chosen stand-in's place at the frame, or take the key there away."""
    key = PlaceKey(frame=session.frame, position_m=vector(current_place(session, stand_in)))
    changed = stand_in.toggled(key)
    change(session, f"Key at {session.frame}", keys=changed.keys, position_m=changed.position_m)


@needs_chosen
def copy(session: Session, stand_in: StandIn) -> None:
    """Make another like the chosen stand-in, beside it, and choose that."""
    aside = np.array([stand_in.size_m[0] + 0.2, 0.0, 0.0])
    there = _rounded(current_place(session, stand_in) + aside)
    plan, made = edit.add_stand_in(session.plan, stand_in.replace(position_m=there, keys=()))
    session.edit(f"Copy {stand_in.name}", plan, Selection.item.to(ChosenStandIn(made.number)))


@needs_chosen
def remove(session: Session, stand_in: StandIn) -> None:
    """Delete the chosen stand-in; what was tied to it stays where it was."""
    spot = subject_points(StandInAnchor(number=stand_in.number), [session.frame], session.stage)[0]
    plan = edit.remove_stand_in(session.plan, stand_in.number, vector(spot))
    session.edit(f"Delete {stand_in.name}", plan, Selection.item.to(None))


@needs_chosen
def make_subject(session: Session, stand_in: StandIn) -> None:
    """Make the chosen stand-in a subject; a person is sharp from the nose to the ears."""
    half = round(0.06 * stand_in.size_m[1], 3) if stand_in.is_person else 0.0
    add_subject(session, stand_in.name, StandInAnchor(number=stand_in.number), half)


def begin_stand_in(session: Session, kind: StandInKind) -> None:
    """The next click places a stand-in."""
    session.selection.tool = Tool("place", stand_in=kind)
    session.say(
        f"Click in a view to place the {STAND_IN_NAMES[kind].lower()}. Enter: in front of the camera. "
        "Esc: cancel."
    )


def light(session: Session, name: str, /, **changes: object) -> None:
    """Change the light of the plan."""
    session.edit(name, session.plan.replace(light=session.plan.light.replace(**changes)))


def surround(session: Session, **changes: object) -> None:
    """Change the picture all about, if there is one."""
    about = session.plan.light.surround
    if about is not None:
        light(session, "Environment map", surround=about.replace(**changes))


def _whole(changes: dict[str, object], *names: str) -> dict[str, object]:
    """The changes with some numbers rounded to whole ones."""
    return {
        name: round(value) if name in names and isinstance(value, float) else value
        for name, value in changes.items()
    }


def _rounded(position_m: ArrayLike) -> tuple[float, float, float]:
    """A place rounded to a tenth of a millimetre: finer than a pointer can tell."""
    x, y, z = np.round(np.asarray(position_m, dtype=float), 4) + 0.0
    return float(x), float(y), float(z)
