"""Values of a person's own: names, what each is, unit, scale, sign and decimals, in a small file."""

import json
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Literal, Self

import numpy as np
from pydantic import Field, ValidationError, field_validator, model_validator

from kobrel.errors import PlanError
from kobrel.files import json_of, reason, write_whole
from kobrel.optics.lens import Numbers
from kobrel.optics.units import Measure, measure
from kobrel.plan.parts import Part, PositiveFinite, plain_reason, require_unique
from kobrel.plan.values.blocks import Block, Term, block, decimals, in_unit, symbol_of, terms
from kobrel.plan.values.quantities import QUANTITIES, Quantity
from kobrel.plan.values.render_camera import RenderCamera

SUFFIX = ".terms.json"
MOST_VALUES = 40
_MOST_DECIMALS = 12
OwnUnit = Literal["scene", "m", "cm", "mm", "in", "ft"]


class CustomValue(Part):
    """One value: what it is called, what it is, and how it is written."""

    name: str = Field(min_length=1, max_length=80, description="As the renderer calls it.")
    quantity: str = Field(description="Key of a quantity, see docs/terms.md.")
    unit: OwnUnit = Field("scene", description="Of a length.")
    scale: PositiveFinite = Field(1.0, description="The value is multiplied by it.")
    sign: Literal[1, -1] = Field(1, description="-1 turns the value about.")
    decimals: int | None = Field(None, ge=0, le=_MOST_DECIMALS, description="None are as many as blur needs.")

    @field_validator("quantity")
    @classmethod
    def _is_known(cls, key: str) -> str:
        if key not in QUANTITIES:
            raise ValueError(f"no quantity named “{key[:60]}”")
        return key

    @property
    def what(self) -> Quantity:
        """Its quantity."""
        return QUANTITIES[self.quantity]

    def measure(self, scene: Measure) -> Measure:
        """The unit of its lengths."""
        return scene if self.unit == "scene" else measure(self.unit)

    def out(self, values: Numbers, scene: Measure) -> Numbers:
        """Values of its quantity as they are written."""
        return in_unit(self.what, values, self.measure(scene)) * (self.scale * self.sign)

    def back(self, values: Numbers, scene: Measure) -> Numbers:
        """Values of its quantity, lengths in metres, from what is written."""
        unit = self.measure(scene).metres if self.what.kind == "length" else 1.0
        return values / (self.scale * self.sign) * unit


class CustomValues(Part):
    """A block of a person's own."""

    title: str = Field(min_length=1, max_length=80)
    terms: tuple[CustomValue, ...] = Field(min_length=1, max_length=MOST_VALUES)

    @model_validator(mode="after")
    def _is_clear(self) -> Self:
        require_unique([term.name for term in self.terms], "term")
        return self

    @property
    def key(self) -> str:
        """Its name in files and commands."""
        return re.sub(r"\W+", "_", self.title.strip().lower()).strip("_") or "own"


def as_own(which: Block) -> CustomValues:
    """A block of Kobrel's as one to begin an own one with."""
    terms = tuple(CustomValue(name=quantity.label, quantity=quantity.key) for quantity in which.quantities)
    return CustomValues(title=f"My {which.title[0].lower()}{which.title[1:]}", terms=terms)


def own_block(own: CustomValues) -> Block:
    """What an own block tells, as a block."""
    keys = dict.fromkeys(term.quantity for term in own.terms)
    return Block(own.key, own.title, tuple(keys))


def own_values(own: CustomValues, camera: RenderCamera, unit: Measure, distances_m: Numbers) -> list[Term]:
    """The values of an own block at the camera's one frame, see :func:`kobrel.plan.values.blocks.terms`."""
    found = []
    which = own_block(own)
    for term in own.terms:
        measured = term.measure(unit)
        places = term.decimals
        if places is None:
            needed = decimals(which, camera, measured, distances_m)[term.quantity]
            places = min(max(needed - int(np.floor(np.log10(term.scale))), 0), _MOST_DECIMALS)
        value = float(term.out(term.what.values(camera), unit)[0])
        symbol = symbol_of(term.what, measured) if term.scale == 1.0 else ""
        found.append(Term(term.what, value, places, symbol, term.name))
    return found


def read_own(path: Path) -> CustomValues:
    """An own block from its file.

    Raises
    ------
    PlanError
        The file cannot be read, or says what makes no sense; tells where.
    """
    content = json_of(path, PlanError)
    if not isinstance(content, dict) or "terms" not in content:
        raise PlanError("not a file of values: it has no list “terms”.", file=path)
    try:
        return CustomValues.model_validate(content)
    except ValidationError as error:
        raise PlanError(plain_reason(error), file=path) from None


def own_text(own: CustomValues) -> str:
    """An own block as its file has it."""
    return json.dumps(own.model_dump(mode="json", exclude_none=True), indent=2, ensure_ascii=False) + "\n"


def write_own(folder: Path, own: CustomValues) -> Path:
    """Keep an own block in a folder of them; returns its file.

    Raises
    ------
    PlanError
        It cannot be written.
    """
    path = folder / f"{own.key}{SUFFIX}"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_whole(path, own_text(own).encode())
    except OSError as error:
        raise PlanError(f"cannot be written ({reason(error)}).", file=path) from None
    return path


def read_folder(folder: Path) -> tuple[list[CustomValues], list[str]]:
    """All own blocks in a folder, by title, and what is wrong with the others, in sentences."""
    found, told = [], []
    for path in sorted(folder.glob(f"*{SUFFIX}")) if folder.is_dir() else []:
        try:
            found.append(read_own(path))
        except PlanError as error:
            told.append(str(error))
    return sorted(found, key=lambda own: own.title.casefold()), told


Family = Block | CustomValues
"""A block of Kobrel's, or one of a person's own."""


def family(name: str, owns: Sequence[CustomValues] = ()) -> Family:
    """The values of a name: a person's own, or Kobrel's.

    Raises
    ------
    PlanError
        There are none; tells which there are.
    """
    wanted = name.strip().lower()
    for own in owns:
        if wanted in (own.key, own.title.lower()):
            return own
    return block(wanted)


def as_block(which: Family) -> Block:
    """Custom values as a block."""
    return which if isinstance(which, Block) else own_block(which)


def values_of(which: Family, camera: RenderCamera, unit: Measure, distances_m: Numbers) -> list[Term]:
    """The values of any block at the camera's one frame, see :func:`kobrel.plan.values.blocks.terms`."""
    if isinstance(which, Block):
        return terms(which, camera, unit, distances_m)
    return own_values(which, camera, unit, distances_m)
