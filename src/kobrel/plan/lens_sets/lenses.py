"""Kits of lenses: a few generic ones that ship, and own ones as JSON or CSV."""

from pathlib import Path
from typing import Any

from pydantic import Field, ValidationError

import kobrel
from kobrel.errors import PlanError
from kobrel.files import csv_lines, json_of, text_of
from kobrel.plan.instrument import Lens
from kobrel.plan.parts import Part, plain_reason

_FOLDER = Path(kobrel.__file__).parent / "data" / "lenses"
_COLUMNS = (
    "name", "focal_mm", "longest_mm", "widest", "narrowest", "close_focus_m", "squeeze", "transmission",
)  # fmt: skip
_EXAMPLE = "name,focal_mm,longest_mm,widest,narrowest,close_focus_m,squeeze,transmission"
SUFFIXES = (".json", ".csv")


class LensSet(Part):
    """Lenses that belong together."""

    kit: str = Field(min_length=1, description="Name of the lens set.")
    lenses: tuple[Lens, ...] = Field(min_length=1)


def shipped_lens_sets() -> list[LensSet]:
    """The generic lens sets, by name."""
    return sorted((read_lens_set(path) for path in _FOLDER.glob("*.json")), key=lambda kit: kit.kit)


def read_lens_set(path: Path) -> LensSet:
    """A lens set from a JSON or CSV file.

    JSON: ``{"kit": "Mine", "lenses": [{"name": "50 mm", "focal_mm": 50, "widest": 1.4,
    "narrowest": 22, "close_focus_m": 0.45, "squeeze": 1, "transmission": 0.9}]}``, a zoom's
    ``focal_mm`` is ``[24, 70]``. CSV: a line of the same names, with ``longest_mm`` for zooms,
    then a line for each lens; the lens set is called as the file.

    Raises
    ------
    PlanError
        The file cannot be read or a lens in it makes no sense; says where.
    """
    is_csv = path.suffix.lower() == ".csv"
    content = (
        _from_csv(path, text_of(path, PlanError)) if is_csv else _checked(path, json_of(path, PlanError))
    )
    try:
        return LensSet.model_validate(content)
    except ValidationError as error:
        raise PlanError(plain_reason(error), file=path) from None


def _checked(path: Path, content: Any) -> dict[str, Any]:
    if not isinstance(content, dict) or not isinstance(content.get("lenses"), list):
        raise PlanError("not a lens set: it has no list “lenses”.", file=path)
    lenses = [
        {**lens, "focal_mm": _pair(lens.get("focal_mm"))} if isinstance(lens, dict) else lens
        for lens in content["lenses"]
    ]
    return {"kit": path.stem, **content, "lenses": lenses}


def _pair(focal: Any) -> Any:
    """Shortest and longest focal length; a prime gives one number."""
    return focal if isinstance(focal, list) else [focal, focal]


def _from_csv(path: Path, text: str) -> dict[str, Any]:
    delimiter = ";" if text.split("\n", 1)[0].count(";") else ","
    lines = csv_lines(text, path, PlanError, delimiter)
    names = [name.strip() for name in lines[0]] if lines else []
    if not {"name", "focal_mm"} <= set(names):
        raise PlanError(f"a lens set starts with a line such as {_EXAMPLE}.", file=path, place="line 1")
    unknown = [name for name in names if name and name not in _COLUMNS]
    if unknown:
        raise PlanError(
            f"column “{unknown[0]}” is not known.",
            file=path,
            place="line 1",
            remedy=f"Columns: {', '.join(_COLUMNS)}.",
        )
    lenses = [
        _csv_lens(path, number, dict(zip(names, line, strict=False)))
        for number, line in enumerate(lines[1:], 2)
        if any(line)
    ]
    return {"kit": path.stem, "lenses": lenses}


def _csv_lens(path: Path, number: int, row: dict[str, str]) -> dict[str, Any]:
    given = {key: value.strip() for key, value in row.items() if key}
    lens: dict[str, Any] = {"name": given.pop("name")}
    numbers = {}
    for column, value in given.items():
        if value:
            try:
                numbers[column] = float(value.replace(",", "."))
            except ValueError:
                raise PlanError(
                    f"“{value}” in column {column} is not a number.", file=path, place=f"line {number}"
                ) from None
    if "focal_mm" not in numbers:
        raise PlanError(f"lens “{lens['name']}” has no focal length.", file=path, place=f"line {number}")
    shortest = numbers.pop("focal_mm")
    longest = numbers.pop("longest_mm", shortest)
    return {**lens, **numbers, "focal_mm": [shortest, longest]}


def nearest_lens(kit: LensSet, focal_mm: float, widest_wanted: float, closest_wanted_m: float) -> Lens | None:
    """The lens of a lens set nearest in focal length that opens so wide and focuses so near."""
    able = [
        lens
        for lens in kit.lenses
        if lens.widest <= widest_wanted * (1 + 1e-3) and lens.close_focus_m <= closest_wanted_m * (1 + 1e-9)
    ]
    return min(able, key=lambda lens: _ratio(lens, focal_mm), default=None)


def _ratio(lens: Lens, focal_mm: float) -> float:
    """By how much a focal length lies outside a lens's, 1 within."""
    low, high = lens.focal_mm
    return max(low / focal_mm, focal_mm / high, 1.0)
