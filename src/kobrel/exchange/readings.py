"""Measured distances as lines of text: name, distance, unit."""

from pathlib import Path

from kobrel.errors import ExchangeError, KobrelError
from kobrel.exchange.writing.whole import csv_text, write_text
from kobrel.files import csv_lines
from kobrel.optics.units import LengthUnit, Measure, parse_length
from kobrel.plan.model import Reading


def read_readings(text: str, unit: LengthUnit | Measure = "m") -> list[Reading]:
    """Readings from text with commas, semicolons or tabs between; a heading is passed over.

    Parameters
    ----------
    unit : of distances without one

    Raises
    ------
    ExchangeError
        A line that is no reading, by its number, or no reading at all.

    Examples
    --------
    >>> [(r.name, r.distance_m) for r in read_readings("Door, 320, cm")]
    [('Door', 3.2)]
    """
    found: list[Reading] = []
    between = max("\t;,", key=text.count)
    for number, cells in enumerate(csv_lines(text, "", ExchangeError, between), 1):
        parts = [cell.strip() for cell in cells]
        if not any(parts):
            continue
        if number == 1 and len(parts) > 1 and not any(ch.isdigit() for ch in parts[1]):
            continue
        try:
            name, distance, *rest = parts
            metres = parse_length(f"{distance} {rest[0]}" if rest and rest[0] else distance, unit)
            found.append(Reading(name=name or f"Reading {number}", distance_m=metres))
        except KobrelError as error:
            raise ExchangeError(f"Line {number}: {error}") from None
        except ValueError:
            raise ExchangeError(
                f"Line {number}: “{between.join(cells)[:60]}” is not a reading.",
                remedy="Write name, distance, unit; the distance greater than nought.",
            ) from None
    if not found:
        raise ExchangeError("No readings found.", remedy="Write a line each: name, distance, unit.")
    return found


def write_readings(readings: tuple[Reading, ...], path: Path) -> None:
    """Write readings as CSV, in metres.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    headings = ("name", "distance", "unit", "spread_m", "count")
    rows = [(r.name, repr(r.distance_m), "m", repr(r.spread_m), r.count) for r in readings]
    write_text(path, csv_text([headings, *rows]))
