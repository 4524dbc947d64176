"""Commands on plates that need no file: titles, flat colours, gradients, vignettes and specks."""

from typing import Any

from kobrel.plan import edit
from kobrel.plan.pictures.drawn import (
    DRAWN_NAMES,
    Align,
    Drawn,
    FlatColour,
    Gradient,
    Specks,
    Title,
    Vignette,
)
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates import placing
from kobrel.plan.plates.drawing import letters_in_height, picture_of_drawn
from kobrel.session.commands.plates.placing import chosen, needs_both, needs_chosen
from kobrel.session.needs import needs
from kobrel.session.numbers import Now
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session

KINDS: tuple[Drawn, ...] = (Title(), FlatColour(), Gradient(), Vignette(), Specks())
"""What can be added, as it is at first."""
_FARTHEST_M, _BEFORE = 50.0, 0.3
_LETTER, _SPECKS_DEPTH, _SPECK = 0.12, 0.8, 0.006
"""Of the frame's height: a title's letters, and a speck; of its distance: how deep specks reach."""


@needs(lambda session: session.now)
def add(session: Session, now: Now, drawn: Drawn) -> None:
    """Add what needs no file, at the focus: a title in the middle of the frame, all else over all of it. A
    vignette stands nearer, before the other things.
    """
    camera = now.camera
    distance = min(float(camera.focus_m), _FARTHEST_M) * (_BEFORE if isinstance(drawn, Vignette) else 1.0)
    aspect = camera.width_px / camera.height_px
    place, height = placing.filling(camera, distance, aspect)
    if isinstance(drawn, Specks):
        drawn = drawn.replace(
            depth_m=_SPECKS_DEPTH * distance, size_m=_SPECK * height, speed_m=_SPECK / 2 * height
        )
    picture = picture_of_drawn(drawn, aspect)
    if isinstance(drawn, Title):
        height *= _LETTER * letters_in_height(drawn)
    fresh = Plate(
        number=1, name=DRAWN_NAMES[drawn.kind], picture=picture, position_m=place, height_m=height,
        beyond="stretched" if isinstance(drawn, Vignette) else "nothing",
    )  # fmt: skip
    plan, plate = edit.add_plate(now.plan, fresh)
    session.edit(f"Add {plate.name}", plan, Selection.item.to(ChosenPlates(plate.number)))
    session.say(
        f"{plate.name} added at {session.length(distance)}. Drag it in Overhead, or type its distance."
    )


@needs_chosen
def change(session: Session, plate: Plate, what: str, /, **changes: Any) -> None:
    """Change what the chosen plate draws; a title's letters stay as large as they are."""
    drawn = plate.picture.drawn
    if drawn is None:
        return
    fresh = drawn.replace(**changes)
    if fresh == drawn:
        return
    height, size = plate.height_m, plate.picture.size_px
    if isinstance(drawn, Title) and isinstance(fresh, Title):
        height *= letters_in_height(fresh) / letters_in_height(drawn)
        size = picture_of_drawn(fresh, plate.picture.aspect).size_px
    picture = plate.picture.replace(drawn=fresh, size_px=size)
    made = plate.replace(picture=picture, height_m=height)
    session.edit(f"{what} of {plate.name}", edit.with_plate(session.plan, made))


def set_text(session: Session, text: str) -> None:
    """Give the chosen title another text; without any the old one stays."""
    if text.strip():
        change(session, "Text", text=text.strip("\n"))
    else:
        session.say("A title needs a letter at least; the old text stays.")


@needs_both
def set_align(session: Session, both: tuple[Now, Plate], align: Align) -> None:
    """Align the lines of the chosen title; from that side it grows when its text does."""
    now, plate = both
    pivot = {"left": 0.0, "centre": 0.5, "right": 1.0}[align], plate.pivot[1]
    with session.as_one():
        moved = placing.pivoted(plate, now.plan.dials, now.camera, now.frame, pivot)
        session.edit(f"Alignment of {plate.name}", edit.with_plate(now.plan, moved))
        change(session, "Alignment", align=align)


@needs_chosen
def set_letters(session: Session, plate: Plate, metres: float) -> None:
    """Make the letters of the chosen title so large, at a scale of 1."""
    drawn = plate.picture.drawn
    if isinstance(drawn, Title):
        made = plate.replace(height_m=metres * letters_in_height(drawn))
        session.edit(f"Size of {plate.name}", edit.with_plate(session.plan, made))


def chosen_drawn(session: Session) -> Plate | None:
    """The chosen plate, if it needs no file."""
    plate = chosen(session)
    return plate if plate is not None and plate.picture.drawn is not None else None
