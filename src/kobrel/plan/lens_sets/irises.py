"""Shapes of blur to start from: Kobrel's own, and own ones as files."""

from collections.abc import Callable
from pathlib import Path

from pydantic import Field, ValidationError

from kobrel.errors import PlanError
from kobrel.files import bytes_of, json_of, write_whole
from kobrel.plan.glass import front_stop
from kobrel.plan.instrument import Character
from kobrel.plan.iris import IrisShape, MaskPicture, Stencil
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import Shot
from kobrel.plan.parts import Part, plain_reason

SUFFIX = ".iris.json"
FORMAT = 1


class Preset(Part):
    """An iris with its lens errors. `cat_eye` is a front stop as one plain amount, made for the lens that
    the preset meets, unless the lens errors have one; a squeeze comes only if the preset has one.
    """

    format: int = FORMAT
    name: str = Field(min_length=1)
    iris: IrisShape = Field(default_factory=IrisShape)
    flaws: Character = Field(default_factory=Character)
    cat_eye: float = Field(0.0, ge=0, le=1)
    squeeze: float | None = Field(None, ge=1, le=4)

    def given_to(self, shot: Shot, camera: Camera) -> Shot:
        """A shot that has it."""
        flaws = self.flaws
        if self.cat_eye > 0:
            flaws = flaws.replace(front_stop=front_stop(camera, self.cat_eye))
        glass = shot.glass.replace(squeeze=self.squeeze) if self.squeeze else shot.glass
        return shot.replace(iris=self.iris, flaws=flaws, glass=glass)

    def is_of(self, shot: Shot) -> bool:
        """Whether a shot has it, however its front stop was fitted to the lens."""

        def plain(flaws: Character, stopped: bool) -> tuple[object, ...]:
            return flaws.colour_mm, flaws.swirl_mm, flaws.spherical_mm, stopped

        stopped = self.cat_eye > 0 or self.flaws.front_stop is not None
        alike = plain(self.flaws, stopped) == plain(shot.flaws, shot.flaws.front_stop is not None)
        return alike and self.iris == shot.iris and self.squeeze in (None, shot.glass.squeeze)


OWN = (
    Preset(name="Round"),
    Preset(name="Six blades", iris=IrisShape(blades=6, rotation_deg=15)),
    Preset(name="Nine soft blades", iris=IrisShape(blades=9, roundness=0.6, turn_per_stop_deg=4)),
    Preset(name="2× anamorphic", iris=IrisShape(rim=0.2), squeeze=2.0),
    Preset(name="Soap bubble", iris=IrisShape(rim=0.9), flaws=Character(spherical_mm=-0.15)),
    Preset(name="Creamy", iris=IrisShape(rim=-0.8)),
    Preset(name="Swirl", flaws=Character(swirl_mm=0.7), cat_eye=0.45),
    Preset(
        name="Old portrait",
        iris=IrisShape(blades=8, roundness=0.7),
        flaws=Character(colour_mm=0.12),
        cat_eye=0.3,
    ),
    Preset(name="Five-pointed star", iris=IrisShape(mask=Stencil(outline="star", roundness=0.1, soft=0.08))),
    Preset(name="Heart", iris=IrisShape(mask=Stencil(outline="heart", soft=0.08))),
    Preset(name="Mirror-lens ring", iris=IrisShape(mask=Stencil(outline="ring", inner=0.45))),
    Preset(
        name="Old, dirty lens",
        iris=IrisShape(blades=9, roundness=0.8, mask=Stencil(
            outline="open", dust=0.6, hairs=0.3, scratches=0.5, smudges=0.25, onion=0.25)),
    ),
)  # fmt: skip
"""Those that ship."""


def preset_from(name: str, shot: Shot) -> Preset:
    """What a shot has, as a preset."""
    return Preset(name=name, iris=shot.iris, flaws=shot.flaws, squeeze=shot.glass.squeeze)


def write_preset(path: Path, preset: Preset) -> None:
    """Write a preset; a mask's picture goes beside it, so that both can be given on.

    Raises
    ------
    PlanError
        The file cannot be written, or the mask's picture cannot be read.
    """
    try:
        mask = preset.iris.mask
        if isinstance(mask, MaskPicture):
            source = Path(mask.path)
            beside = path.with_name(path.name.removesuffix(SUFFIX) + source.suffix)
            content = bytes_of(source, PlanError)
            if beside.absolute() != source.absolute():
                write_whole(beside, content)
            preset = preset.replace(iris=preset.iris.replace(mask=mask.replace(path=beside.name)))
        write_whole(path, (preset.model_dump_json(indent=2) + "\n").encode())
    except OSError as error:
        raise PlanError(
            f"cannot be written or read ({error.strerror}).",
            file=error.filename or path,
            remedy="Choose another folder.",
        ) from None


def read_preset(path: Path) -> Preset:
    """Read a preset; the path of a mask's picture becomes absolute.

    Raises
    ------
    PlanError
        The file cannot be read, is no preset, or was made by a newer Kobrel.
    """
    content = json_of(path, PlanError)
    if not isinstance(content, dict) or "iris" not in content or not isinstance(content.get("format"), int):
        raise PlanError("not a preset of an iris (it has no format number or no iris).", file=path)
    if content["format"] > FORMAT:
        raise PlanError("written by a newer Kobrel.", file=path, remedy="Update Kobrel to open it.")
    try:
        preset = Preset.model_validate(content)
    except ValidationError as error:
        raise PlanError(plain_reason(error), file=path) from None
    mask = preset.iris.mask
    if isinstance(mask, MaskPicture):
        whole = str((path.absolute().parent / mask.path).resolve())
        preset = preset.replace(iris=preset.iris.replace(mask=mask.replace(path=whole)))
    return preset


def presets_in(folder: Path, told: Callable[[str], None]) -> list[Preset]:
    """The presets of a folder, by name; what cannot be read is left out, and `told` why."""
    found = []
    for path in sorted(folder.glob(f"*{SUFFIX}")):
        try:
            found.append(read_preset(path))
        except PlanError as error:
            told(str(error))
    return found
