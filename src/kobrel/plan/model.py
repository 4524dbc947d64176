"""The document. Every part is frozen; an edit makes a new plan.

Lengths are metres (lens and sensor: millimetres), times are frames. Fields that this
version does not know are kept and written back.
"""

import itertools
from pathlib import PurePath
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from kobrel.optics.lens import FocusSurface, LensModel
from kobrel.optics.sensor import CriterionKind
from kobrel.optics.units import LengthUnit

FORMAT = 1
SUFFIX = ".kobrel"

Ease = Literal["even", "smooth"]
Positive = Annotated[float, Field(gt=0)]
Finite = Annotated[float, Field(allow_inf_nan=False)]
PositiveFinite = Annotated[float, Field(gt=0, allow_inf_nan=False)]
Vector = tuple[Finite, Finite, Finite]
Colour = Vector


def _require_rising(frames: list[float], what: str) -> None:
    for before, after in itertools.pairwise(frames):
        if after <= before:
            raise ValueError(
                f"{what} at frames {before:g} and {after:g} are not in order, or at one frame twice"
            )


def _require_unique(names: list[str], what: str) -> None:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            raise ValueError(f"{what} {name} is used twice")
        seen.add(name)


class Part(BaseModel):
    """Base of all parts of a plan."""

    # Each part is compiled when first used: a start needs few of them.
    model_config = ConfigDict(frozen=True, extra="allow", ser_json_inf_nan="strings", defer_build=True)

    def but(self, **changes: Any) -> Self:
        """The same with some fields changed, checked anew.

        Raises
        ------
        pydantic.ValidationError
            A change breaks a rule of the part.
        """
        return type(self)(**{**{name: value for name, value in self}, **changes})  # noqa: C416, a part may have keys


class SceneRef(Part):
    """A scene file. In memory the path is absolute, in the file relative to the plan."""

    name: str = Field(min_length=1, description="Name that anchors and cameras use.")
    path: str = Field(description="The scene file.")
    unit_m: PositiveFinite | None = Field(None, description="Metres in one unit, if not what the file says.")


class SurfaceAnchor(Part):
    """A point picked on a surface; it rides on its node."""

    kind: Literal["surface"] = "surface"
    scene: str
    node: str = Field(description="Path of the node in the scene.")
    local: Vector = Field(description="The point in the node's own space and unit.")


class BoundsAnchor(Part):
    """The middle of a node's bounds, with all that lies below it."""

    kind: Literal["bounds"] = "bounds"
    scene: str
    node: str = Field(description="Path of the node in the scene.")


class PointAnchor(Part):
    """A point that stands still in space."""

    kind: Literal["point"] = "point"
    position_m: Vector


Anchor = Annotated[SurfaceAnchor | BoundsAnchor | PointAnchor, Field(discriminator="kind")]


class Subject(Part):
    """Something that shall be sharp or soft."""

    number: int = Field(ge=1)
    name: str = Field(min_length=1)
    anchor: Anchor


class Key(Part):
    """A value at a frame; `ease` is the way to the next key."""

    frame: Finite
    value: PositiveFinite
    ease: Ease = "smooth"


class Keyed(Part):
    """A value that stands still, or follows keys if there are any."""

    value: PositiveFinite
    keys: tuple[Key, ...] = ()

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        _require_rising([key.frame for key in self.keys], "keys")
        return self


class Sensor(Part):
    """Size of the sensor."""

    width_mm: PositiveFinite = 36.0
    height_mm: PositiveFinite = 20.25


class Criterion(Part):
    """The largest blur still called sharp: pixels at delivery, millimetres, or diagonal / value."""

    kind: CriterionKind = "pixels"
    value: PositiveFinite = 2.0


class Glass(Part):
    """Sensor, lens and stop."""

    sensor: Sensor = Field(default_factory=Sensor)
    focal_mm: Keyed = Field(default_factory=lambda: Keyed(value=50.0))
    f_number: Keyed = Field(default_factory=lambda: Keyed(value=2.8))
    squeeze: float = Field(1.0, ge=1, le=4, description="Anamorphic squeeze.")
    model: LensModel = "render"
    surface: FocusSurface = "plane"
    criterion: Criterion = Field(default_factory=Criterion)


class IrisShape(Part):
    """The opening of the lens."""

    blades: int = Field(0, ge=0, le=64, description="0 is a circle.")
    roundness: float = Field(0.0, ge=0, le=1)
    rotation_deg: Finite = 0.0

    @model_validator(mode="after")
    def _enough_blades(self) -> Self:
        if self.blades in (1, 2):
            raise ValueError("an iris has 3 blades or more, or 0 for a circle")
        return self


class SubjectTarget(Part):
    """Focus on a subject, wherever it is at each frame."""

    kind: Literal["subject"] = "subject"
    number: int


class DistanceTarget(Part):
    """Focus at a distance."""

    kind: Literal["distance"] = "distance"
    metres: Positive


Target = Annotated[SubjectTarget | DistanceTarget, Field(discriminator="kind")]


class Mark(Part):
    """Where the focus is at a frame; `ease` is the way to the next mark."""

    frame: Finite
    target: Target
    ease: Ease = "smooth"


class FileCamera(Part):
    """A camera of a scene file: its place and movement."""

    kind: Literal["file"] = "file"
    scene: str
    path: str


class FixedCamera(Part):
    """A camera that stands still. Rows of its 4 x 4 pose, metres, looking along -Z."""

    kind: Literal["fixed"] = "fixed"
    pose: tuple[Finite, ...] = Field(min_length=16, max_length=16)


CameraRef = Annotated[FileCamera | FixedCamera, Field(discriminator="kind")]


class Shot(Part):
    """One shot: a camera, a lens, and focus over its frames."""

    name: str = Field(min_length=1, description="Short name, often a number.")
    title: str = ""
    first: int = 1001
    last: int = 1096
    fps: PositiveFinite = 24.0
    camera: CameraRef
    glass: Glass = Field(default_factory=Glass)
    iris: IrisShape = Field(default_factory=IrisShape)
    width_px: int = Field(1920, ge=16, le=32768, description="Delivery width in pixels.")
    marks: tuple[Mark, ...] = Field(
        default_factory=lambda: (Mark(frame=1001, target=DistanceTarget(metres=3.0)),)
    )

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        if self.last < self.first:
            raise ValueError(f"last frame {self.last} comes before first frame {self.first}")
        if not self.marks:
            raise ValueError("a shot needs at least one mark, it says where the focus is")
        _require_rising([mark.frame for mark in self.marks], "marks")
        return self

    @property
    def label(self) -> str:
        """Name and title as shown."""
        return f"{self.name} {self.title}".strip()


class Light(Part):
    """A sky and one key light, linear RGB; angles in degrees."""

    key_azimuth_deg: Finite = 35.0
    key_elevation_deg: float = Field(40.0, ge=-90, le=90)
    key_strength: float = Field(2.0, ge=0)
    key_colour: Colour = (1.0, 0.95, 0.88)
    zenith: Colour = (0.28, 0.42, 0.68)
    horizon: Colour = (0.75, 0.78, 0.82)
    ground: Colour = (0.18, 0.17, 0.16)
    sky_strength: float = Field(0.8, ge=0)
    exposure_ev: Finite = 0.0


class Plan(Part):
    """The whole document."""

    format: int = FORMAT
    name: str = "Untitled"
    unit: LengthUnit = Field("m", description="Unit for showing lengths; the plan itself is in metres.")
    scenes: tuple[SceneRef, ...] = ()
    subjects: tuple[Subject, ...] = ()
    shots: tuple[Shot, ...] = ()
    light: Light = Field(default_factory=Light)

    @model_validator(mode="after")
    def _names_are_unique(self) -> Self:
        _require_unique([scene.name for scene in self.scenes], "scene name")
        _require_unique([str(subject.number) for subject in self.subjects], "subject number")
        _require_unique([shot.name for shot in self.shots], "shot name")
        return self

    def subject(self, number: int) -> Subject | None:
        """A subject by its number."""
        return next((subject for subject in self.subjects if subject.number == number), None)


def scene_name(path: str | PurePath, taken: set[str]) -> str:
    """A short unused name for a scene file."""
    stem = PurePath(path).stem or "scene"
    name, count = stem, 2
    while name in taken:
        name, count = f"{stem}_{count}", count + 1
    return name
