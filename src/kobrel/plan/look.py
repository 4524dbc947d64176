"""How a plan looks: its light, what is done to the picture on the screen, and lines to compose by."""

from typing import Literal

from pydantic import Field

from kobrel.plan.parts import Colour, FilePath, Finite, Part, Stops, Strength


class Surround(Part):
    """An equirectangular picture as background and light; its path is kept as a scene's is."""

    path: FilePath
    rotation_deg: Finite = Field(0.0, description="Rotation of the picture, counter-clockwise from above.")
    exposure_ev: Stops = Field(
        0.0, description="Brightness of the picture as light and background, in stops."
    )


Surfaces = Literal["full", "plain", "clay"]


class Light(Part):
    """A sky, or a picture all about, and one key light; linear RGB, angles in degrees."""

    key_azimuth_deg: Finite = Field(35.0, description="Where the key light comes from, about the vertical.")
    key_elevation_deg: float = Field(
        40.0, ge=-90, le=90, description="How high the key light stands above the horizon."
    )
    key_strength: Strength = Field(2.0, description="Strength of the key light.")
    key_colour: Colour = (1.0, 0.95, 0.88)
    zenith: Colour = (0.28, 0.42, 0.68)
    horizon: Colour = (0.75, 0.78, 0.82)
    ground: Colour = (0.18, 0.17, 0.16)
    sky_strength: Strength = Field(0.8, description="Strength of the sky, or of the environment map.")
    exposure_ev: Stops = Field(
        0.0, description="Brightness of the picture in stops, on the screen and in PNG files."
    )
    shoulder: float = Field(
        0.0, ge=0, le=1,
        description="Range over which highlights roll off. 0: hard clip (discs go white); above 0: "
                    "discs keep their colour",
    )  # fmt: skip
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

    thirds: bool = Field(False, description="Lines at thirds of the frame.")
    centre: bool = Field(False, description="A cross in the middle.")
    safe_percent: float = Field(0.0, ge=0, le=100, description="Safe area, percent of each side; 0 is none.")
