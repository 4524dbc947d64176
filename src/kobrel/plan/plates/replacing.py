"""Another picture in a plate's place, which keeps where it stands, its keys, dials, fades and cut-out."""

from collections.abc import Sequence
from pathlib import Path

from kobrel.plan.model import Plan
from kobrel.plan.pictures.plates import (
    CutShape,
    Ellipse,
    Outline,
    Plate,
    PlatePicture,
    Point,
    Rectangle,
)
from kobrel.plan.plates.pixels import original_of, picture_of
from kobrel.stage.read.plates.playing import is_movie
from kobrel.stage.read.plates.stills import layers_of

_SAME_SHAPE = 0.01


def set_of(plates: Sequence[Plate], plate: Plate) -> list[Plate]:
    """The plates that show the same picture as one of them, such as what was cut from it; that one among
    them.
    """
    own = original_of(plate.picture)
    return [each for each in plates if original_of(each.picture) == own]


def shapes_differ(plate: Plate, picture: PlatePicture) -> bool:
    """Whether a picture is wider or narrower for its height than the one of a plate."""
    return abs(picture.aspect / plate.picture.aspect - 1.0) > _SAME_SHAPE


def with_picture(plan: Plan, plates: Sequence[Plate], picture: PlatePicture, stretch: bool) -> Plan:
    """A plan in which plates show another picture; each keeps its height.

    Parameters
    ----------
    stretch : whether cut-outs go with the picture's width where its shape differs; else they keep their own
        shape, about the picture's middle
    """
    chosen = {plate.number for plate in plates}
    return plan.replace(
        plates=tuple(
            replaced(each, picture, stretch) if each.number in chosen else each for each in plan.plates
        )
    )


def replaced(plate: Plate, picture: PlatePicture, stretch: bool) -> Plate:
    """A plate that shows another picture; parameters as :func:`with_picture`. Widths of edges, in pixels,
    stay the same part of the picture's height.
    """
    old = plate.picture
    finer = picture.size_px[1] / max(1, old.size_px[1])
    if old.playing is not None and picture.playing is not None:
        kept = {"at": old.playing.at, "after": old.playing.after, "speed": old.playing.speed}
        picture = picture.replace(playing=picture.playing.replace(**kept))
    cut, fill = plate.cut, plate.fill
    if cut is not None:
        wider = 1.0 if stretch else picture.aspect / old.aspect
        cut = cut.replace(
            shapes=tuple(_narrowed(shape, wider) for shape in cut.shapes), grow_px=cut.grow_px * finer,
            smooth_px=cut.smooth_px * finer, feather_px=cut.feather_px * finer,
        )  # fmt: skip
    if fill is not None:
        fill = fill.replace(grow_px=fill.grow_px * finer)
    return plate.replace(picture=picture, cut=cut, fill=fill)


def picture_for(plate: Plate, path: Path) -> PlatePicture:
    """The picture of a file that takes the place of a plate's: where it has layers, the one of the same name,
    else the first.

    Raises
    ------
    SceneError
        It cannot be read.
    """
    if is_movie(path):
        return picture_of(path)
    layers = layers_of(path)
    return picture_of(path, plate.picture.layer if plate.picture.layer in layers else layers[0])


def _narrowed(shape: CutShape, wider: float) -> CutShape:
    """A shape as wide as it was, on a picture that is so many times as wide."""
    if wider == 1.0:
        return shape

    def moved(point: Point) -> Point:
        return 0.5 + (point[0] - 0.5) / wider, point[1]

    match shape:
        case Outline():
            points = tuple(
                point.replace(
                    at=moved(point.at), before=point.before and moved(point.before),
                    after=point.after and moved(point.after),
                )
                for point in shape.points
            )  # fmt: skip
            return shape.replace(points=points)
        case Rectangle() | Ellipse():
            return shape.replace(one=moved(shape.one), other=moved(shape.other))
        case _:  # by colour, brightness, depth, alpha or a mask: it goes with the picture
            return shape
