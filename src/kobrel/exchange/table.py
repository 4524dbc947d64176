"""The survey as a table: a row a frame, in CSV, and as plain data for JSON."""

import math
from pathlib import Path
from typing import Any

import numpy as np

from kobrel.exchange.writing import whole as writing
from kobrel.plan.measure.survey import STATES, Survey
from kobrel.plan.model import Plan, Shot


def survey_data(plan: Plan, shot: Shot, survey: Survey) -> dict[str, Any]:
    """The survey as JSON-ready data; infinite and missing numbers are None."""
    camera, sight = survey.camera, survey.sight
    rows = []
    for i, frame in enumerate(survey.frames):
        rows.append(
            {
                "frame": _frame(frame),
                "focus_m": _plain(camera.focus_m[i]),
                "f_number": _plain(camera.f_number[i]),
                "focal_mm": _plain(camera.focal_mm[i]),
                "near_m": _plain(survey.near_m[i]),
                "far_m": _plain(survey.far_m[i]),
                "subjects": [
                    {
                        "number": subject.number,
                        "name": subject.name,
                        "distance_m": _plain(sight.axial_m[s, i]),
                        "straight_m": _plain(sight.straight_m[s, i]),
                        "blur_px": _plain(sight.blur_px[s, i]),
                        "state": STATES[survey.state[s, i]],
                    }
                    for s, subject in enumerate(plan.subjects)
                ],
            }
        )
    return {
        "plan": plan.name,
        "shot": shot.name,
        "title": shot.title,
        "fps": shot.fps,
        "model": camera.model,
        "focus_surface": camera.surface,
        "sharp_up_to_px": camera.coc_px,
        "width_px": camera.width_px,
        "frames": rows,
    }


def _frame(frame: float) -> int | float:
    return int(frame) if float(frame).is_integer() else float(frame)


def _plain(value: Any) -> float | None:
    number = float(value)
    return number if math.isfinite(number) else None


def csv_text(plan: Plan, shot: Shot, survey: Survey) -> str:
    """The survey as CSV; numbers in full precision, ``inf`` for infinity, empty for none."""
    camera, sight = survey.camera, survey.sight
    half_x, half_y = (np.broadcast_to(a, survey.frames.shape) for a in camera.view_angles_deg)
    columns: list[tuple[str, Any]] = [
        ("frame", [_frame(frame) for frame in survey.frames]),
        ("focus_m", camera.focus_m),
        ("f_number", camera.f_number),
        ("focal_mm", camera.focal_mm),
        ("pupil_mm", camera.pupil_mm),
        ("near_m", survey.near_m),
        ("far_m", survey.far_m),
        ("angle_h_deg", half_x),
        ("angle_v_deg", half_y),
        ("sensor_width_mm", np.full(len(survey.frames), camera.sensor_width_mm)),
        ("sensor_height_mm", np.full(len(survey.frames), camera.sensor_height_mm)),
    ]
    for s, subject in enumerate(plan.subjects):
        name = f"{subject.number} {subject.name}"
        columns += [
            (f"{name} distance_m", sight.axial_m[s]),
            (f"{name} straight_m", sight.straight_m[s]),
            (f"{name} blur_px", sight.blur_px[s]),
            (f"{name} state", [STATES[code] for code in survey.state[s]]),
        ]
    rows = zip(*(values for _, values in columns), strict=True)
    return writing.csv_text([[name for name, _ in columns], *([_cell(v) for v in row] for row in rows)])


def _cell(value: Any) -> str:
    if isinstance(value, str | int):
        return str(value)
    return "" if math.isnan(value) else repr(float(value))


def write_csv(plan: Plan, shot: Shot, survey: Survey, path: Path) -> None:
    """Write the survey as CSV.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    writing.write_text(path, csv_text(plan, shot, survey))
