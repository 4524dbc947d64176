"""Numbers of every plate at every frame, as CSV or JSON: for programs that blur flat layers themselves."""

import json
import math
from pathlib import Path
from typing import Any

import numpy as np

from kobrel.errors import ExchangeError
from kobrel.exchange.writing.whole import csv_text, write_text
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera, cameras_at
from kobrel.plan.model import Plan, Shot
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.placing import corners_at
from kobrel.plan.pull.dials import value_at
from kobrel.plan.space.plates import fade_of, pivot_at
from kobrel.stage.stage import Stage

FIELDS = (
    "frame", "order", "plate", "distance_m", "blur_px", "blur_percent", "x_px", "y_px", "width_px",
    "height_px", "scale_percent", "turn_deg", "opacity",
)  # fmt: skip
"""Columns: the order counts from the farthest, 1; blur is the diameter of the disc, in percent of the
delivered width; x and y are where the middle of the picture is, width and height as it is seen, its scale in
percent of the picture's own pixels; the turn is clockwise in the frame."""


def plate_rows(
    plan: Plan, shot: Shot, stage: Stage, frames: tuple[int, int] | None = None
) -> list[dict[str, Any]]:
    """A row for each frame and plate, the farthest first; see :data:`FIELDS`. Numbers that there are not,
    as of a plate behind the camera, are None.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    """
    first, last = frames or (shot.first, shot.last)
    at = np.arange(first, last + 1.0)
    camera = cameras_at(plan, shot, at, stage)
    plates = [plate for plate in plan.plates if plate.shown and not plate.lies]
    columns = [_columns(plan, plate, camera, at) for plate in plates]
    rows: list[dict[str, Any]] = []
    found: list[dict[str, Any]]
    for k, frame in enumerate(at):
        found = []
        for plate, column in zip(plates, columns, strict=True):
            numbers = {name: _plain(values[k]) for name, values in column.items()}
            found.append({"frame": int(frame), "order": 0, "plate": plate.name, **numbers})
        found.sort(key=lambda row: -(row["distance_m"] or 0.0))
        for number, row in enumerate(found, 1):
            row["order"] = number
        rows += found
    return rows


def _columns(plan: Plan, plate: Plate, camera: Camera, at: Numbers) -> dict[str, Numbers]:
    dials = plan.dials
    pivot = camera.see(pivot_at(plate, dials, at))
    corners = corners_at(plate, dials, camera, at)
    seen = [camera.see(corners[:, k]) for k in range(4)]
    x, y = np.stack([s.x_px for s in seen]), np.stack([s.y_px for s in seen])
    wide = np.hypot(x[1] - x[0], y[1] - y[0])
    tall = np.hypot(x[3] - x[0], y[3] - y[0])
    opacity = np.clip(value_at(plate, dials, "opacity", at), 0.0, 1.0)
    rule = fade_of(plate)
    if rule is not None:
        eyes = [camera.frame(k).eye for k in range(len(at))]
        opacity = opacity * [
            rule.opacity(eye, float(metres)) for eye, metres in zip(eyes, pivot.axial_m, strict=True)
        ]
    behind = pivot.axial_m <= 0
    return {
        "distance_m": pivot.axial_m,
        "blur_px": np.where(behind, np.nan, pivot.blur_px),
        "blur_percent": np.where(behind, np.nan, pivot.blur_px / camera.width_px * 100.0),
        "x_px": x.mean(axis=0),
        "y_px": y.mean(axis=0),
        "width_px": wide,
        "height_px": tall,
        "scale_percent": wide / plate.picture.size_px[0] * 100.0,
        "turn_deg": np.degrees(np.arctan2(y[1] - y[0], x[1] - x[0])),
        "opacity": opacity,
    }


def _plain(value: Any) -> float | None:
    number = float(value)
    return round(number, 6) if math.isfinite(number) else None


def write_plates(
    plan: Plan, shot: Shot, stage: Stage, path: Path, frames: tuple[int, int] | None = None
) -> None:
    """Write the numbers of all plates as .csv or .json.

    Raises
    ------
    ExchangeError
        There are no plates, the name ends otherwise, or the file cannot be written.
    """
    rows = plate_rows(plan, shot, stage, frames)
    if not rows:
        raise ExchangeError(
            "the plan has no plates that are shown.", file=path, remedy="Add plates in Block."
        )
    if path.suffix.lower() == ".csv":
        lines = [FIELDS, *(["" if row[name] is None else row[name] for name in FIELDS] for row in rows)]
        write_text(path, csv_text(lines))
    elif path.suffix.lower() == ".json":
        data = {
            "plan": plan.name,
            "shot": shot.name,
            "fps": shot.fps,
            "width_px": shot.width_px,
            "rows": rows,
        }
        write_text(path, json.dumps(data, indent=1, ensure_ascii=False) + "\n")
    else:
        raise ExchangeError("numbers of plates are written as .csv or .json.", file=path)
