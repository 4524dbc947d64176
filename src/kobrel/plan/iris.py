"""The shape of the iris, and the masks that may stand in it."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from kobrel.plan.parts import Amount, FilePath, Finite, Part

Outline = Literal["open", "blades", "star", "heart", "slot", "ring", "polygon", "text"]


class MaskPicture(Part):
    """A greyscale picture in the iris: white passes light. In memory its path is absolute, in the
    file relative to the plan.
    """

    kind: Literal["picture"] = "picture"
    path: FilePath = Field(description="PNG, TIFF or EXR; its longer side spans the pupil.")
    made_up: bool = Field(False, description="Whether exposure makes up for the light that it takes.")


class Stencil(Part):
    """A mask drawn in Kobrel: an outline, its edge, and what spoils it; amounts from 0 to 1."""

    kind: Literal["drawn"] = "drawn"
    outline: Outline = "star"
    count: int = Field(5, ge=3, le=32, description="Blades, or points of a star.")
    inner: float = Field(
        0.45, ge=0.05, le=0.95, description="Inner corners of a star, height of a slot, hole of a ring."
    )
    points: tuple[tuple[Finite, Finite], ...] = Field(
        ((-0.7, -0.6), (0.7, -0.6), (0.0, 0.9)), max_length=64, description="Corners of a polygon, x and y."
    )
    text: str = Field("K", min_length=1, max_length=3)
    roundness: Amount = Field(0.0, description="Of its corners.")
    size: float = Field(1.0, ge=0.05, le=1, description="Against the pupil.")
    turn_deg: Finite = 0.0
    soft: Amount = Field(0.0, description="Soft edge.")
    rim: Amount = Field(0.0, description="Bright rim.")
    dust: Amount = 0.0
    hairs: Amount = 0.0
    scratches: Amount = 0.0
    smudges: Amount = 0.0
    onion: Amount = Field(0.0, description="Onion rings.")
    seed: int = Field(1, ge=0, le=999999, description="Number that the random places follow from.")
    made_up: bool = Field(False, description="Whether exposure makes up for the light that it takes.")

    @model_validator(mode="after")
    def _has_something_to_see(self) -> Self:
        if not self.text.strip():
            raise ValueError("a mask of text needs a letter or a sign that can be seen")
        if len(self.points) < 3:
            raise ValueError("a polygon needs three corners or more")
        return self


class IrisShape(Part):
    """The opening of the lens."""

    blades: int = Field(0, ge=0, le=64, description="0 is a circle.")
    roundness: float = Field(0.0, ge=0, le=1)
    rotation_deg: Finite = 0.0
    turn_per_stop_deg: Finite = Field(0.0, description="How far it turns for each stop it closes, from f/1.")
    rim: float = Field(0.0, ge=-1, le=1, description="Weight of the rim: +1 bright rim, -1 bright centre.")
    mask: Annotated[MaskPicture | Stencil, Field(discriminator="kind")] | None = Field(
        None, description="Mask in the iris; rotates with it."
    )

    @model_validator(mode="after")
    def _enough_blades(self) -> Self:
        if self.blades in (1, 2):
            raise ValueError("an iris has 3 blades or more, or 0 for a circle")
        return self
