"""A shot's camera as an Alembic archive, in centimetres as its readers take it.

The aperture is written as wide as the squeezed picture shows, and the format's own squeeze as 1: most readers
know none, the library's own angle of view neither. Kobrel's squeeze stands beside, as a property of its own.
"""

import json
import subprocess
import sys
from importlib.util import find_spec
from pathlib import Path

import numpy as np

from kobrel.errors import ExchangeError
from kobrel.exchange.writing.whole import whole_file
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.sequence.shots import whole_range
from kobrel.stage.scene import ALEMBIC_SUFFIX
from kobrel.stage.stage import Stage

_CENTIMETRES = 100.0
_MM_PER_CM = 10.0
_FAR_M = 1e6
_LONGEST_S = 600.0


def write_alembic(plan: Plan, shot: Shot, stage: Stage, path: Path) -> None:
    """Write a shot's camera, sampled at each of its frames; the render camera of a thin lens.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    ExchangeError
        The file cannot be written, the format has no such view, or its library is not here.
    """
    if path.suffix.lower() != ALEMBIC_SUFFIX:
        raise ExchangeError(f"a camera of Alembic is written as {ALEMBIC_SUFFIX}.", file=path)
    if shot.glass.projection != "perspective":
        raise ExchangeError(f"Shot {shot.label}: Alembic's camera knows no {shot.glass.projection} view.")
    if find_spec("alembic3d") is None:
        raise ExchangeError("Alembic's library is not installed here.", remedy="Export USD or glTF instead.")
    numbers = survey(plan, shot, stage, whole_range(shot))
    with whole_file(path) as beside:
        order = {
            "path": str(beside),
            "name": f"shot_{shot.name}".replace("/", "_"),
            "fps": shot.fps,
            "first": float(numbers.frames[0]),
            "squeeze": float(numbers.camera.squeeze),
            "places": [_placed(pose) for pose in numbers.camera.pose],
            "samples": [_sample(numbers.camera.frame(row), shot) for row in range(len(numbers.frames))],
        }
        # Where the disk is full the library ends the process that it runs in.
        command = [sys.executable, "-m", "kobrel.exchange.cameras.alembic_library"]
        try:
            subprocess.run(
                command, input=json.dumps(order).encode(), check=True, capture_output=True, timeout=_LONGEST_S
            )
        except subprocess.SubprocessError:
            raise ExchangeError(
                "cannot be written to its end.", file=path, remedy="The disk may be full: make room on it."
            ) from None


def _placed(pose: Numbers) -> list[float]:
    """Where the camera is, as 16 numbers of a matrix for rows, in centimetres."""
    matrix = np.array(pose, float).T
    matrix[3, :3] *= _CENTIMETRES
    return [float(value) for value in matrix.ravel()]


def _sample(camera: Camera, shot: Shot) -> dict[str, float]:
    """What the camera is at a frame, by the names of the format."""
    image, wide = float(camera.image_distance_mm), float(camera.squeeze) / _MM_PER_CM
    half_open = shot.exposure.shutter_deg / 720.0 / shot.fps
    return {
        "FocalLength": image,
        "FStop": float(camera.image_f_number),
        "FocusDistance": min(float(camera.focus_m), _FAR_M) * _CENTIMETRES,
        "HorizontalAperture": float(camera.sensor_width_mm) * wide,
        "VerticalAperture": float(camera.sensor_height_mm) / _MM_PER_CM,
        "HorizontalFilmOffset": float(camera.shift_mm[0]) * wide,
        "VerticalFilmOffset": float(camera.shift_mm[1]) / _MM_PER_CM,
        "LensSqueezeRatio": 1.0,
        "NearClippingPlane": max(float(camera.near_clip_m), 0.001) * _CENTIMETRES,
        "FarClippingPlane": _FAR_M * _CENTIMETRES,
        "ShutterOpen": -half_open,
        "ShutterClose": half_open,
    }
