"""Pictures of plates that need no file: titles, flat colours, gradients, vignettes and specks. Colours are
linear RGB.
"""

from typing import Annotated, Literal

from pydantic import Field

from kobrel.plan.parts import MOST, Amount, Colour, Finite, Part, PositiveFinite

Align = Literal["left", "centre", "right"]
SHIPPED_FAMILY, PLAIN_STYLE = "B612", "Regular"
MOST_LETTERS, MOST_SPECKS = 500, 2000

_BLACK, _WHITE = (0.0, 0.0, 0.0), (1.0, 1.0, 1.0)


class Title(Part):
    """Letters, each line of the text one below the other."""

    kind: Literal["title"] = "title"
    text: str = Field("Title", min_length=1, max_length=MOST_LETTERS)
    family: str = Field(SHIPPED_FAMILY, max_length=200, description="Typeface.")
    style: str = Field(PLAIN_STYLE, max_length=200, description="Weight or style of the typeface.")
    align: Align = "centre"
    colour: Colour = _WHITE
    tracking: float = Field(0.0, ge=-0.5, le=5, description="Room between letters, in parts of their size.")


class FlatColour(Part):
    """One colour all over."""

    kind: Literal["colour"] = "colour"
    colour: Colour = (0.18, 0.18, 0.18)


class Gradient(Part):
    """From one colour to another, even as it is seen."""

    kind: Literal["gradient"] = "gradient"
    shape: Literal["linear", "radial"] = "linear"
    first: Colour = _BLACK
    first_opacity: Amount = 1.0
    last: Colour = (0.18, 0.18, 0.18)
    last_opacity: Amount = 1.0
    angle_deg: float = Field(
        90.0, ge=-3600, le=3600, description="Way from the first to the last colour: 0 right, 90 up."
    )


class Vignette(Part):
    """A colour toward the corners, clear in the middle."""

    kind: Literal["vignette"] = "vignette"
    colour: Colour = _BLACK
    strength: Amount = Field(0.7, description="Opacity at the corners.")
    clear: Amount = Field(0.45, description="Where it starts, from the centre (0) to the corner (1).")
    round: Amount = Field(0.0, description="0 follows the picture's shape, 1 is a circle.")


class Specks(Part):
    """Small discs that drift within a box about the plate's middle; the same number gives the same specks."""

    kind: Literal["specks"] = "specks"
    count: int = Field(150, ge=1, le=MOST_SPECKS)
    size_m: PositiveFinite = Field(
        0.006, description="Diameter of one; they are half to one and a half of it."
    )
    speed_m: float = Field(0.004, ge=0, le=MOST, description="How far one drifts in a frame.")
    direction_deg: Finite = Field(75.0, description="Way of the drift: 0 right, 90 up.")
    depth_m: float = Field(2.0, ge=0, le=MOST, description="Of the box, from its front to its back.")
    colour: Colour = (1.0, 0.85, 0.6)
    seed: int = Field(1, ge=0, le=2**31, description="Number that the random places come from.")


Drawn = Annotated[Title | FlatColour | Gradient | Vignette | Specks, Field(discriminator="kind")]
DRAWN_NAMES = {
    "title": "Title", "colour": "Flat colour", "gradient": "Gradient", "vignette": "Vignette",
    "specks": "Specks",
}  # fmt: skip
