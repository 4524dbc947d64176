"""How a plan looks: its light, what is done to the picture on the screen, and lines to compose by."""

from typing import Literal

from pydantic import Field

from kobrel.plan.parts import Colour, FilePath, Finite, Part, Stops, Strength


class Surround(Part):
    """An equirectangular picture as background and light; its path is kept as a scene's is."""

    path: FilePath
    rotation_deg: Finite = Field(0.0, description="Counter-clockwise from above.")
    exposure_ev: Stops = 0.0


Surfaces = Literal["full", "plain", "clay"]


class Light(Part):
    """A sky, or a picture all about, and one key light; linear RGB, angles in degrees."""

    key_azimuth_deg: Finite = 35.0
    key_elevation_deg: float = Field(40.0, ge=-90, le=90)
    key_strength: Strength = 2.0
    key_colour: Colour = (1.0, 0.95, 0.88)
    zenith: Colour = (0.28, 0.42, 0.68)
    horizon: Colour = (0.75, 0.78, 0.82)
    ground: Colour = (0.18, 0.17, 0.16)
    sky_strength: Strength = 0.8
    exposure_ev: Stops = 0.0
    shoulder: float = Field(
        0.0, ge=0, le=1, description="Part of the range of brightness in which highlights bend softly."
    )
    surround: Surround | None = None
    surfaces: Surfaces = Field(
        "full",
        description="Surfaces in full, with gloss and lamps; plainly; or all in one grey, to see form.",
    )


class Finish(Part):
    """What is done to the picture on the screen alone; no render and no number has it."""

    glow: float = Field(0.0, ge=0, le=1, description="Part of the light that spreads into a glow.")
    bend_percent: float = Field(
        0.0, ge=-30, le=20, description="Lens distortion, percent: below 0 as a barrel, above as a cushion."
    )


class Guides(Part):
    """Lines over the picture to compose by."""

    thirds: bool = False
    centre: bool = False
    safe_percent: float = Field(0.0, ge=0, le=100, description="Safe area, percent of each side; 0 is none.")
