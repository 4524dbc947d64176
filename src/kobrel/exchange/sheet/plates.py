"""The plates of a shot on a sheet: where they stand and how soft they are, at its first and last frame."""

from typing import Any

from kobrel.exchange.plates.numbers import plate_rows
from kobrel.optics.units import Measure, format_length
from kobrel.plan.model import Plan, Shot
from kobrel.stage.stage import Stage

HEADS = ("", "Plate", "Distance", "Blur px", "Blur %", "Scale %", "Opacity", "Picture")
WIDTHS = (4.0, 22.0, 26.0, 20.0, 18.0, 20.0, 18.0, 30.0)
"""Shares of the page that the columns have."""


def plate_words(plan: Plan, shot: Shot, stage: Stage, unit: Measure) -> tuple[tuple[str, ...], ...]:
    """A row of words for each plate, the farthest first: values at the first frame, and at the last where
    they are others.
    """
    ends = [
        {row["plate"]: row for row in plate_rows(plan, shot, stage, (frame, frame))}
        for frame in (shot.first, shot.last)
    ]
    files = {plate.name: plate.picture for plate in plan.plates}
    rows = []
    for name, first in ends[0].items():
        last = ends[1][name]
        rows.append((
            str(first["order"]), name,
            _both(first["distance_m"], last["distance_m"], lambda metres: format_length(metres, unit)),
            _both(first["blur_px"], last["blur_px"], lambda value: f"{value:.1f}"),
            _both(first["blur_percent"], last["blur_percent"], lambda value: f"{value:.2f}"),
            _both(first["scale_percent"], last["scale_percent"], lambda value: f"{value:.1f}"),
            _both(first["opacity"], last["opacity"], lambda value: f"{value:.2g}"),
            files[name].label,
        ))  # fmt: skip
    return tuple(rows)


def _both(first: float | None, last: float | None, words: Any) -> str:
    one, other = ("–" if value is None else words(value) for value in (first, last))
    return one if one == other else f"{one} → {other}"
