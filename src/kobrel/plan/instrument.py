"""The camera as an instrument: sensor, lens, iris, exposure, and what a brief asks of it."""

from typing import Literal, Self

from pydantic import Field, model_validator

from kobrel.optics.exposure import light_value
from kobrel.optics.lens import FocusSurface, LensModel
from kobrel.optics.projection import Projection
from kobrel.optics.sensor import CriterionKind, Fit
from kobrel.plan.keys import Keyed
from kobrel.plan.parts import Finite, Frame, Part, PositiveFinite


class Sensor(Part):
    """Size of the sensor."""

    width_mm: PositiveFinite = 36.0
    height_mm: PositiveFinite = 20.25


class Criterion(Part):
    """The largest blur still called sharp: pixels at delivery, millimetres, or diagonal / value."""

    kind: CriterionKind = "pixels"
    value: PositiveFinite = 2.0


class Lens(Part):
    """A lens as a lens set has it: what it can do."""

    name: str = Field(min_length=1)
    focal_mm: tuple[PositiveFinite, PositiveFinite] = Field(
        description="Shortest and longest; a prime's alike."
    )
    widest: PositiveFinite = Field(2.8, description="Widest f-number.")
    narrowest: PositiveFinite = 22.0
    close_focus_m: PositiveFinite = Field(0.5, description="Closest focus, from the entrance pupil.")
    squeeze: float = Field(1.0, ge=1, le=4)
    transmission: float = Field(1.0, gt=0, le=1, description="Part of the light that it lets through.")

    @model_validator(mode="after")
    def _makes_sense(self) -> Self:
        if self.focal_mm[1] < self.focal_mm[0]:
            raise ValueError(f"lens {self.name}: its longest focal length is below its shortest")
        if self.narrowest < self.widest:
            raise ValueError(f"lens {self.name}: its narrowest stop is wider than its widest")
        return self

    @property
    def is_zoom(self) -> bool:
        """Whether its focal length can be changed."""
        return self.focal_mm[1] > self.focal_mm[0]


class Delivery(Part):
    """The delivered frame on the sensor."""

    aspect: float = Field(0.0, ge=0, le=20, description="Width over height; 0 is the whole sensor.")
    fit: Fit = Field("inside", description="Inside the sensor, or as wide or as high as it.")


class Glass(Part):
    """Sensor, lens and stop."""

    sensor: Sensor = Field(default_factory=Sensor)
    focal_mm: Keyed = Field(default_factory=lambda: Keyed(value=50.0))
    f_number: Keyed = Field(default_factory=lambda: Keyed(value=2.8))
    squeeze: float = Field(1.0, ge=1, le=4, description="Anamorphic squeeze.")
    shift_mm: tuple[Finite, Finite] = Field(
        (0.0, 0.0), description="Lens shift: the picture's middle right of and above the axis, on the sensor."
    )
    model: LensModel = "render"
    surface: FocusSurface = "plane"
    projection: Projection = "perspective"
    field_m: PositiveFinite = Field(4.0, description="Width of the field of an orthographic view.")
    cone_deg: float = Field(1.0, gt=0, lt=90, description="Full angle of an orthographic view's light cone.")
    criterion: Criterion = Field(default_factory=Criterion)
    delivery: Delivery = Field(default_factory=Delivery)
    lens: Lens | None = Field(None, description="The lens of a lens set, with its limits.")
    transmission: float = Field(1.0, gt=0, le=1, description="Part of the light that the lens lets through.")


class FrontStop(Part):
    """A second round stop before the pupil, which cuts the discs towards the corners."""

    distance_mm: PositiveFinite = Field(description="How far before the pupil.")
    diameter_mm: PositiveFinite
    made_up: bool = Field(False, description="Whether the corners are lifted by the light that it takes.")


class Character(Part):
    """What a real lens does besides; all off by default. Amounts are shifts of the image, mm."""

    front_stop: FrontStop | None = None
    colour_mm: Finite = Field(0.0, description="Red and blue focus so much farther than green.")
    swirl_mm: Finite = Field(0.0, description="Astigmatism in the corner: between the two foci.")
    spherical_mm: Finite = Field(0.0, description="Spherical: between the rim's focus and the middle's.")


class Ring(Part):
    """The focus ring that turns the pull: how far from its near end to infinity, and how fast at most."""

    throw_deg: PositiveFinite = 270.0
    closest_m: PositiveFinite = Field(0.5, description="Its near end, where no lens of a set gives it.")
    most_deg_s: PositiveFinite = Field(400.0, description="Degrees a second that are called too fast beyond.")
    most_deg_s2: PositiveFinite = Field(
        10_000.0, description="Change of that in a second that is called too jerky beyond."
    )


RequirementKind = Literal["sharp", "at_least", "at_most"]
BACKGROUND = 0
"""The subject's number in a requirement that is about the background."""


class Requirement(Part):
    """What a subject shall be over some frames: sharp, or blurred at least or at most so much."""

    subject: int = Field(ge=0, description="Number of a subject; 0 is the background.")
    kind: RequirementKind = "sharp"
    px: PositiveFinite = Field(8.0, description="Blur in pixels at delivery, of at_least and at_most.")
    first: Frame | None = Field(None, description="First frame; the shot's if none.")
    last: Frame | None = Field(None, description="Last frame; the shot's if none.")

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.first is not None and self.last is not None and self.last < self.first:
            raise ValueError(f"a requirement ends at frame {self.last:g}, before its start at {self.first:g}")
        return self


class Exposure(Part):
    """How bright the shot is recorded, against how bright it should be."""

    kept: bool = Field(True, description="Whether the picture keeps its brightness when the stop changes.")
    iso: PositiveFinite = 800.0
    shutter_deg: float = Field(180.0, gt=0, le=360)
    nd_stops: float = Field(0.0, ge=0, le=20, description="Neutral density before the lens, in stops.")
    metered: Finite = Field(
        default_factory=lambda: float(light_value(2.8, 800.0, 180.0, 0.0)),
        description="Light value, log2(ISO shutter / T^2) - ND, that is right here.",
    )

    @classmethod
    def right_at(cls, stop: float) -> Self:
        """Exposed rightly at a T-stop, with everything else as it is by default."""
        return cls(metered=float(light_value(stop, 800.0, 180.0, 0.0)))


class KeepSize(Part):
    """The camera moves along its axis so that a subject keeps its size while the lens changes."""

    subject: int
    focal_mm: PositiveFinite = Field(description="Focal length at which the camera stands where it stood.")
    frame: Frame | None = Field(None, description="Frame whose size is kept; none is each frame's own.")
