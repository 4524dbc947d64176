"""Tables of depth of field in words: for paper, page and CSV."""

import math
from collections.abc import Sequence
from pathlib import Path

from kobrel.exchange.writing.whole import csv_text, write_text
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.depth_table import DepthTable

HEADS = ("lens", "f_number", "distance", "near", "far", "depth", "hyperfocal")


def table_heads(table: DepthTable) -> list[str]:
    """The stops of a table."""
    return [f"f/{stop:.3g}" for stop in table.stops]


def cell_words(table: DepthTable, row: int, column: int, unit: Measure) -> tuple[str, str]:
    """Near and far limit of a cell, and the depth between them, without their unit."""
    near, far, depth = (
        _bare(float(values[row, column]), unit) for values in (table.near_m, table.far_m, table.depth_m)
    )
    return f"{near}–{far}", depth


def _bare(metres: float, unit: Measure) -> str:
    return format_length(metres, unit).removesuffix(f" {unit.symbol}")


def tables_csv(tables: Sequence[DepthTable], unit: Measure) -> str:
    """A line a distance and stop; lengths in the unit of the heading, infinity ``inf``."""
    heads = [f"{name} [{unit.symbol}]" if name not in HEADS[:2] else name for name in HEADS]
    rows = [
        (table.title, _number(float(stop)), *(_number(float(value) / unit.metres) for value in (
            distance, table.near_m[row, column], table.far_m[row, column], table.depth_m[row, column],
            table.hyperfocal_m[column],
        )))
        for table in tables
        for row, distance in enumerate(table.distances_m)
        for column, stop in enumerate(table.stops)
    ]  # fmt: skip
    return csv_text([heads, *rows])


def _number(value: float) -> str:
    return "" if math.isnan(value) else f"{value:.9g}"


def write_tables(tables: Sequence[DepthTable], unit: Measure, path: Path) -> None:
    """Write tables of depth of field as CSV.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    write_text(path, tables_csv(tables, unit))
