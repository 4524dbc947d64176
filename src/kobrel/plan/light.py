"""The light of a plan: a sky or a picture all about, and one key light."""

from pydantic import Field

from kobrel.plan.parts import Colour, FilePath, Finite, Part, Stops, Strength


class Surround(Part):
    """An equirectangular picture as background and light; its path is kept as a scene's is."""

    path: FilePath
    rotation_deg: Finite = Field(0.0, description="Counter-clockwise from above.")
    exposure_ev: Stops = 0.0


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
    clay: bool = Field(False, description="Draw all surfaces in one grey, for a quick look at form.")
