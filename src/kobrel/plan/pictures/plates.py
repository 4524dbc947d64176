"""Plates as the document has them. Places in a picture are parts of its width and height, from its upper
left corner.
"""

from pathlib import PurePath
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from kobrel.optics.ease import PLAIN
from kobrel.plan.keys import Level, Placed
from kobrel.plan.parts import (
    MOST,
    MOST_FRAME,
    Amount,
    Colour,
    EaseHandles,
    FilePath,
    Finite,
    FrameNumber,
    Part,
    PositiveFinite,
    PullEase,
    Stops,
    Vector,
    require_unique,
)
from kobrel.plan.pictures.drawn import DRAWN_NAMES, Drawn

PLATE_PREFIX = "plate "
"""How the names begin that plates have among the scenes of a stage."""
MOST_PLATES = 500

After = Literal["held", "looped", "turned"]
Beyond = Literal["nothing", "mirrored", "stretched", "repeated"]
FillKind = Literal["mirrored", "diffused", "patches"]
Coordinate = Annotated[float, Field(ge=-10, le=10)]
Point = tuple[Coordinate, Coordinate]
Pixels = Annotated[float, Field(ge=0, le=10_000)]


class Playing(Part):
    """How a sequence or a movie plays."""

    at: FrameNumber = Field(1001, description="Frame of the plan at which it begins.")
    first: int = Field(0, ge=0, le=MOST_FRAME, description="Its own frame that is seen then.")
    last: int = Field(0, ge=0, le=MOST_FRAME, description="Its own last frame.")
    after: After = Field("held", description="Its end: held, looped, or turned back and forth.")
    speed: float = Field(1.0, ge=0.01, le=100, description="Its own frames for each of the plan's.")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.last < self.first:
            raise ValueError(f"its last frame {self.last} comes before its first {self.first}")
        return self


class PlatePicture(Part):
    """A picture file, or what of it is taken, or what is drawn without a file. In the plan's file the path
    is relative to it.
    """

    path: FilePath = Field(
        "", description="The file; of a sequence one of its frames, or a movie. Empty where it is drawn."
    )
    layer: str = Field("", description="Page, layer or part of the file; empty is the whole of it.")
    size_px: tuple[int, int] = Field((1920, 1080), description="Width and height, as when it was read.")
    playing: Playing | None = None
    drawn: Drawn | None = Field(None, description="What is drawn instead of a file.")

    @model_validator(mode="after")
    def _is_one_of_both(self) -> Self:
        if bool(self.path) == (self.drawn is not None):
            raise ValueError("a plate shows a file or what is drawn: one of both")
        return self

    @property
    def aspect(self) -> float:
        """Width over height."""
        return self.size_px[0] / max(1, self.size_px[1])

    @property
    def source(self) -> str:
        """What is read for it: its path, or what it is called where it is drawn."""
        return self.path or self.label

    @property
    def label(self) -> str:
        """What it is, in a few words: the file's name and its layer, or the kind of what is drawn."""
        if self.drawn is not None:
            return DRAWN_NAMES[self.drawn.kind]
        return PurePath(self.path).name + (f", {self.layer}" if self.layer else "")


class _Shape(Part):
    takes_away: bool = Field(False, description="Whether it takes away from the shapes before it.")


class OutlinePoint(Part):
    """A corner of an outline, with what bends the line before and after it."""

    at: Point
    before: Point | None = Field(None, description="Handle of the line that comes; none is straight.")
    after: Point | None = Field(None, description="Handle of the line that goes.")


class Outline(_Shape):
    """A closed line of points."""

    kind: Literal["outline"] = "outline"
    points: tuple[OutlinePoint, ...] = Field(min_length=3, max_length=20_000)


class Rectangle(_Shape):
    """An upright rectangle."""

    kind: Literal["rectangle"] = "rectangle"
    one: Point
    other: Point


class Ellipse(_Shape):
    """The ellipse within an upright rectangle."""

    kind: Literal["ellipse"] = "ellipse"
    one: Point
    other: Point


class ColourRange(_Shape):
    """What is near to a colour."""

    kind: Literal["colour"] = "colour"
    colour: Colour = Field(description="sRGB, 0 to 1.")
    reach: Amount = Field(0.15, description="How far from it, of the way from black to white.")
    soft: Amount = Field(0.05, description="How much farther it fades away.")


class BrightnessRange(_Shape):
    """What is as bright as that, as it is seen: 0 black, 1 white."""

    kind: Literal["brightness"] = "brightness"
    low: Amount = 0.5
    high: Amount = 1.0
    soft: Amount = 0.05


class DepthRange(_Shape):
    """What lies between two values of a depth picture, whose values go from 0 to 1 of their range."""

    kind: Literal["depth"] = "depth"
    path: FilePath
    low: Amount = 0.0
    high: Amount = 1.0
    soft: Amount = 0.0


class OwnAlpha(_Shape):
    """What the picture's own alpha leaves."""

    kind: Literal["alpha"] = "alpha"


class MaskFile(_Shape):
    """Where another picture is white."""

    kind: Literal["mask"] = "mask"
    path: FilePath


CutShape = Annotated[
    Outline | Rectangle | Ellipse | ColourRange | BrightnessRange | DepthRange | OwnAlpha | MaskFile,
    Field(discriminator="kind"),
]


class Cut(Part):
    """What of a picture a plate shows: shapes, one after the other. Pixels are the picture's."""

    shapes: tuple[CutShape, ...] = Field(min_length=1, max_length=200)
    grow_px: float = Field(0.0, ge=-1000, le=1000, description="How far it is grown; below 0 shrunk.")
    smooth_px: Pixels = Field(0.0, description="How round its edge is made.")
    feather_px: Pixels = Field(1.5, description="How wide its edge fades.")


class Fill(Part):
    """What stands where other plates were lifted from a plate."""

    kind: FillKind = "diffused"
    grow_px: Pixels = Field(
        6.0, description="How far beyond the edge of what was lifted; 0 is only where that covers wholly."
    )
    of: tuple[int, ...] = Field((), description="Numbers of the plates that were lifted.")


class Fade(Part):
    """Opacity that follows blur or distance."""

    by: Literal["blur", "distance"] = "blur"
    whole: float = Field(0.0, ge=0, le=MOST, description="Blur in pixels or metres up to which it is whole.")
    gone: float = Field(100.0, ge=0, le=MOST, description="From where it is gone.")


class PlateAnchor(Part):
    """A plate: its pivot."""

    kind: Literal["plate"] = "plate"
    number: int


class Plate(Placed):
    """A flat picture; its place is where its pivot stands."""

    number: int = Field(ge=1, le=1_000_000)
    name: str = Field(min_length=1)
    picture: PlatePicture
    height_m: PositiveFinite = Field(description="Height of the picture at a scale of 1.")
    pivot: Point = (0.5, 0.5)
    faces: bool = Field(True, description="Whether it is always parallel to the sensor.")
    turn_deg: Level = Level()
    tilt_deg: Level = Level()
    roll_deg: Level = Level()
    scale: Level = Level(value=1.0)
    opacity: Level = Level(value=1.0)
    fade: Fade | None = None
    brightness_ev: Stops = 0.0
    beyond: Beyond = Field("nothing", description="What is seen beyond its edges.")
    beyond_part: float = Field(0.25, ge=0, le=4, description="How far, of its width and height.")
    lies: bool = Field(False, description="Whether it lies on the ground, as the picture has it.")
    horizon: Amount = Field(0.5, description="Of a ground: where the horizon is, from the top.")
    shown: bool = True
    cut: Cut | None = None
    fill: Fill | None = None


DrivenOfPlate = Literal["distance", "scale", "turn_deg", "tilt_deg", "roll_deg", "opacity"]
DrivenOfLens = Literal["focus", "f_number", "focal_mm"]


class Drive(Part):
    """A value that a dial drives: from what it is at the dial's low end to what it is at the high one."""

    plate: int | None = Field(None, description="Number of a plate; none is the lens.")
    what: DrivenOfPlate | DrivenOfLens
    low: Finite
    high: Finite
    ease: PullEase = "even"
    handles: EaseHandles = PLAIN
    eye_m: Vector | None = Field(None, description="Where distances are counted from, straight.")


class Dial(Part):
    """One value, 0 to 1, that drives several."""

    name: str = Field(min_length=1)
    level: Level = Level()
    drives: tuple[Drive, ...] = Field((), max_length=200)
    shot: str = Field("", description="Shot whose lens it drives.")

    @model_validator(mode="after")
    def _once_each(self) -> Self:
        require_unique([f"{d.what} of {d.plate or 'the lens'}" for d in self.drives], "the value")
        return self
