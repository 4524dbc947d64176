"""Shots in any renderer's convention as files: CSV and JSON of all frames, and values that come back."""

import json
import math
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kobrel.errors import ExchangeError, PlanError
from kobrel.exchange.writing.whole import csv_text, write_text
from kobrel.files import text_of
from kobrel.optics.lens import Numbers
from kobrel.optics.units import Measure
from kobrel.plan.measure.survey import Survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.values.blocks import in_unit, symbol_of
from kobrel.plan.values.own import CustomValues, Family
from kobrel.plan.values.reading import Values, read_values
from kobrel.plan.values.render_camera import RenderCamera, render_camera

SUFFIXES = (".csv", ".json")


def columns(
    families: Sequence[Family], camera: RenderCamera, unit: Measure
) -> list[tuple[str, str, Numbers]]:
    """Each value once: its name, its unit (none for a custom value), and it at each frame, (F,)."""
    found: dict[str, tuple[str, str, Numbers]] = {}

    def add(name: str, symbol: str, values: Numbers) -> None:
        found.setdefault(name, (name, symbol, values))

    for family in families:
        if isinstance(family, CustomValues):
            for term in family.terms:
                add(term.name, "", term.out(term.what.values(camera), unit))
        else:
            for quantity in family.quantities:
                values = in_unit(quantity, quantity.values(camera), unit)
                add(quantity.key, symbol_of(quantity, unit), values)
    return list(found.values())


def values_csv(shot: Shot, numbers: Survey, families: Sequence[Family], unit: Measure) -> str:
    """A line a frame; headings give the unit in brackets, infinity is ``inf``."""
    made = columns(families, render_camera(shot, numbers), unit)
    heads = ["frame", *(f"{name} [{symbol}]" if symbol else name for name, symbol, _ in made)]
    cells = [[f"{value:.10g}" for value in values.tolist()] for _, _, values in made]
    frames = [f"{frame:g}" if frame < 1e5 else f"{frame:.0f}" for frame in numbers.frames.tolist()]
    return csv_text([heads, *zip(frames, *cells, strict=True)])


def values_json(plan: Plan, shot: Shot, numbers: Survey, families: Sequence[Family], unit: Measure) -> str:
    """An object with the frames in a list; infinity is null."""
    made = columns(families, render_camera(shot, numbers), unit)
    values = [column.tolist() for _, _, column in made]
    names = [name for name, _, _ in made]
    rows: list[dict[str, Any]] = [
        {"frame": frame, **{name: _plain(column[k]) for name, column in zip(names, values, strict=True)}}
        for k, frame in enumerate(numbers.frames.tolist())
    ]
    content = {
        "plan": plan.name, "shot": shot.name, "fps": shot.fps,
        "unit": unit.symbol, "metres_in_unit": unit.metres,
        "units": {name: symbol for name, symbol, _ in made if symbol},
        "frames": rows,
    }  # fmt: skip
    return json.dumps(content, indent=1, ensure_ascii=False, allow_nan=False) + "\n"


def _plain(value: float) -> float | None:
    return float(f"{value:.10g}") if math.isfinite(value) else None


def write_values(
    plan: Plan, shot: Shot, numbers: Survey, families: Sequence[Family], unit: Measure, path: Path
) -> None:
    """Write a shot's frames in values: .csv or .json.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    kind = path.suffix.lower()
    if kind not in SUFFIXES:
        raise ExchangeError(f"values of all frames are written as {' or '.join(SUFFIXES)}.", file=path)
    if kind == ".csv":
        write_text(path, values_csv(shot, numbers, families, unit))
    else:
        write_text(path, values_json(plan, shot, numbers, families, unit))


def read_values_file(path: Path, unit: Measure, owns: Sequence[CustomValues] = ()) -> Values:
    """Values out of a file: CSV, JSON, or lines of text, see :func:`kobrel.plan.values.reading.read_values`.

    Raises
    ------
    KobrelError
        The file cannot be read, or has no values; names the file and the place.
    """
    try:
        return read_values(text_of(path, ExchangeError), unit, owns)
    except PlanError as error:
        raise ExchangeError(error.what, file=path, place=error.place, remedy=error.remedy) from None
