"""Commands that cut plates out of pictures, lift one from another, and fill what is behind."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from kobrel.errors import KobrelError
from kobrel.plan import edit
from kobrel.plan.model import Plan
from kobrel.plan.pictures.drawn import Specks
from kobrel.plan.pictures.plates import (
    BrightnessRange,
    ColourRange,
    Cut,
    CutShape,
    DepthRange,
    Ellipse,
    Fill,
    FillKind,
    MaskFile,
    Outline,
    OutlinePoint,
    OwnAlpha,
    Plate,
    Point,
    Rectangle,
)
from kobrel.plan.plates import placing
from kobrel.plan.plates.pixels import as_srgb, original_of
from kobrel.plan.space.plates import pivot_at
from kobrel.session import settings
from kobrel.session.commands.plates.placing import chosen, needs_both, needs_chosen
from kobrel.session.numbers import Now
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session
from kobrel.session.tools import CutTool, Tool
from kobrel.stage.plates import PlatePixels

_NEARER = 0.8
_LEAST = 1e-3
_NO_PICTURE = "Specks have no picture to cut or to lay out."
SHAPE_NAMES = {
    "outline": "Outline", "rectangle": "Rectangle", "ellipse": "Ellipse", "colour": "Colour range",
    "brightness": "Brightness range", "depth": "Depth range", "alpha": "Its own alpha", "mask": "Mask file",
}  # fmt: skip
_HINTS: dict[CutTool, str] = {
    "points": "Click to add points, drag for curves. Enter or first point: close. Backspace: undo point",
    "freehand": "Drag around the object.",
    "rectangle": "Drag from corner to corner.",
    "ellipse": "Drag the ellipse's bounding box.",
    "edge": "Click along an edge; the line snaps between clicks. Enter or first point: close.",
    "colour": "Click a colour of it.",
}


def begin(session: Session, tool: CutTool) -> None:
    """Take up a tool that draws a shape in Picture."""
    if chosen(session) is None:
        session.say("Select a plate first: click it in Picture, or in the list.")
        return
    if _are_specks(session):
        return
    session.selection.tool = Tool("cut", cut=tool)
    session.say(_HINTS[tool] + " Esc: cancel tool.")


def take_shape(session: Session, shape: CutShape) -> None:
    """Take a drawn shape: as a plate that is lifted, or into the chosen plate's own cut."""
    session.selection.tool = None
    if _are_specks(session):
        return
    if session.selection.cut_mode == "lift":
        lift(session, shape)
    else:
        add_shape(session, shape.replace(takes_away=session.selection.cut_mode == "take away"))


def _are_specks(session: Session) -> bool:
    """Whether the chosen plate is of specks, which have no picture to cut; then that is said."""
    plate = chosen(session)
    specks = plate is not None and isinstance(plate.picture.drawn, Specks)
    if specks:
        session.say(_NO_PICTURE)
    return specks


@needs_both
def lift(session: Session, both: tuple[Now, Plate], shape: CutShape) -> None:
    """Lift what a shape holds from the chosen plate: it becomes a plate of its own, nearer, that looks the
    same; what is behind is filled.
    """
    now, source = both
    dials = now.plan.dials
    pivot = middle_of(shape)
    made = source.replace(
        name=f"{source.name} part", cut=Cut(shapes=(shape,)), fill=None, beyond="nothing", lies=False
    )
    if pivot is not None and not source.lies:
        made = placing.pivoted(made, dials, now.camera, now.frame, pivot)
    here = placing.axial_m(now.camera, pivot_at(made, dials, [now.frame])[0])
    if here > 0 and not source.lies:
        made = placing.brought_nearer(made, dials, now.camera, now.frame, _NEARER)
    plan, made = edit.add_plate(now.plan, made)
    before = source.fill or Fill()
    filled = source.replace(fill=before.replace(of=(*before.of, made.number)))
    plan = edit.with_plate(plan, filled)
    for other in plan.plates:  # a ground of the same picture is filled as well
        if other.lies and other is not source and other.picture == source.picture:
            own = other.fill or Fill(kind=before.kind)
            plan = edit.with_plate(plan, other.replace(fill=own.replace(of=(*own.of, made.number))))
    session.edit(f"Lift {made.name}", plan, Selection.item.to(ChosenPlates(made.number)))
    session.say(f"{made.name} cut out of {source.name}; hole filled.")


@needs_chosen
def add_shape(session: Session, plate: Plate, shape: CutShape) -> None:
    """Add a shape to what the chosen plate shows, or take it away from that."""
    cut = plate.cut
    made = Cut(shapes=(shape,)) if cut is None else cut.replace(shapes=(*cut.shapes, shape))
    _change_cut(session, plate, "Cut", made)


@needs_chosen
def change_shape(session: Session, plate: Plate, index: int, shape: CutShape) -> None:
    """Exchange a shape of the chosen plate's cut."""
    if plate.cut is not None and index < len(plate.cut.shapes):
        shapes = (*plate.cut.shapes[:index], shape, *plate.cut.shapes[index + 1 :])
        _change_cut(session, plate, "Outline", plate.cut.replace(shapes=shapes))


@needs_chosen
def remove_shape(session: Session, plate: Plate, index: int) -> None:
    """Take a shape out of the chosen plate's cut; without any it shows all of its picture."""
    if plate.cut is not None and index < len(plate.cut.shapes):
        left = (*plate.cut.shapes[:index], *plate.cut.shapes[index + 1 :])
        _change_cut(session, plate, "Cut", plate.cut.replace(shapes=left) if left else None)


@needs_chosen
def change_edge(session: Session, plate: Plate, what: str, **changes: float) -> None:
    """Change how far the cut's edge is grown, smoothed or feathered."""
    if plate.cut is not None:
        _change_cut(session, plate, what, plate.cut.replace(**changes))


def _change_cut(session: Session, plate: Plate, what: str, cut: Cut | None) -> None:
    session.edit(f"{what} of {plate.name}", edit.with_plate(session.plan, plate.replace(cut=cut)))


def lifted_from(plan: Plan, plate: Plate) -> Plate | None:
    """The plate that another was lifted from."""
    return next((p for p in plan.plates if p.fill is not None and plate.number in p.fill.of), None)


def filled_plate(session: Session) -> Plate | None:
    """The plate whose fill the chosen one is about: that it was lifted from, or itself."""
    plate = chosen(session)
    if plate is None:
        return None
    source = lifted_from(session.plan, plate)
    return source if source is not None else plate if plate.fill is not None else None


def set_fill(session: Session, kind: FillKind | None = None, grow_px: float | None = None) -> None:
    """Fill what is behind otherwise, or farther beyond the edge."""
    plate = filled_plate(session)
    if plate is None or plate.fill is None:
        return
    fill = plate.fill
    fill = fill.replace(kind=kind or fill.kind, grow_px=fill.grow_px if grow_px is None else grow_px)
    session.edit(f"Fill of {plate.name}", edit.with_plate(session.plan, plate.replace(fill=fill)))


# Shapes


def middle_of(shape: CutShape) -> Point | None:
    """The middle of a shape that has a place."""
    if isinstance(shape, Outline):
        at = np.array([point.at for point in shape.points])
        low, high = at.min(axis=0), at.max(axis=0)
    elif isinstance(shape, Rectangle | Ellipse):
        low, high = np.asarray(shape.one), np.asarray(shape.other)
    else:
        return None
    x, y = (low + high) / 2
    return float(x), float(y)


def outline_of(points: Sequence[Point], size_px: tuple[int, int], smooth_px: float = 0.0) -> Outline | None:
    """A closed line through points, smoothed as one drawn by hand; None where it holds hardly anything."""
    at = np.asarray(points, float).reshape(-1, 2)
    if len(at) < 3 or np.ptp(at, axis=0).max() < _LEAST:
        return None
    if smooth_px:
        from kobrel.stage.pictures import masks

        at = masks.smoothed_line(at * size_px, smooth_px) / size_px
    return Outline(points=tuple(OutlinePoint(at=_kept(place)) for place in at.tolist()))


def bent_outline(points: Sequence[tuple[Point, Point | None]]) -> Outline | None:
    """A closed line through points, each with the handle of the line that goes on, if it bends there."""
    if len(points) < 3:
        return None
    made = []
    for at, after in points:
        before = None if after is None else _kept([2 * at[0] - after[0], 2 * at[1] - after[1]])
        made.append(OutlinePoint(at=_kept(at), before=before, after=None if after is None else _kept(after)))
    return Outline(points=tuple(made))


def _kept(place: Sequence[float]) -> Point:
    x, y = np.clip(np.asarray(place, float), -9.0, 9.0)
    return float(x), float(y)


def box_of(one: Point, other: Point, round_: bool) -> Rectangle | Ellipse | None:
    """A rectangle or an ellipse between two corners; None where it is too small to mean anything."""
    if abs(one[0] - other[0]) < _LEAST or abs(one[1] - other[1]) < _LEAST:
        return None
    kind = Ellipse if round_ else Rectangle
    return kind(one=_kept(one), other=_kept(other))


def pixels_of(session: Session, plate: Plate) -> PlatePixels | None:
    """The picture of a plate as its file has it, or as it is drawn; None where there is none."""
    try:
        playing = plate.picture.playing
        if playing is not None:
            return None
        if isinstance(plate.picture.drawn, Specks):
            session.say(_NO_PICTURE)
            return None
        return session.library.shelf.original(original_of(plate.picture))
    except KobrelError as error:
        session.say(str(error))
        return None


def take_colour(session: Session, place: Point) -> None:
    """Take the colour at a place of the chosen plate's picture as a range."""
    plate = chosen(session)
    pixels = pixels_of(session, plate) if plate is not None else None
    if pixels is None:
        session.say("Colours can be taken from still pictures.")
        return
    x, y = (min(max(int(p * n), 0), n - 1) for p, n in zip(place, (pixels.width, pixels.height), strict=True))
    near = pixels.rgba[max(y - 1, 0) : y + 2, max(x - 1, 0) : x + 2]
    red, green, blue = as_srgb(PlatePixels(near)).reshape(-1, 3).mean(axis=0).tolist()
    take_shape(session, ColourRange(colour=(round(red, 4), round(green, 4), round(blue, 4))))


def take_brightness(session: Session) -> None:
    """Take what is bright as a range."""
    take_shape(session, BrightnessRange())


def take_alpha(session: Session) -> None:
    """Take what the picture's own alpha leaves."""
    take_shape(session, OwnAlpha())


def take_mask(session: Session, path: str) -> None:
    """Take where another picture is white."""
    settings.allow_chosen(session.settings, Path(path))
    take_shape(session, MaskFile(path=path))


def take_depth(session: Session, path: str) -> None:
    """Take what lies in the nearer half of a depth picture."""
    settings.allow_chosen(session.settings, Path(path))
    take_shape(session, DepthRange(path=path, low=0.5, high=1.0, soft=0.05))
