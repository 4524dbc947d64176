"""Sensors, angles of view, and how sharp is sharp enough.

Sizes follow the SMPTE and ISO film-aperture standards and the common sizes of chips.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers

CriterionKind = Literal["pixels", "millimetres", "diagonal"]
Fit = Literal["inside", "width", "height"]


@dataclass(frozen=True)
class SensorFormat:
    """A named size of the trade, in millimetres."""

    name: str
    width_mm: float
    height_mm: float


FORMATS: tuple[SensorFormat, ...] = (
    SensorFormat("8 mm film", 4.80, 3.51),
    SensorFormat("Super 8 film", 5.79, 4.01),
    SensorFormat("16 mm film", 10.26, 7.49),
    SensorFormat("Super 16 film", 12.52, 7.41),
    SensorFormat("2/3-inch sensor", 8.80, 6.60),
    SensorFormat("1 inch chip", 13.20, 8.80),
    SensorFormat("4/3 inch chip", 17.30, 13.00),
    SensorFormat("35 mm film, Academy", 21.95, 16.00),
    SensorFormat("35 mm film, anamorphic", 21.95, 18.59),
    SensorFormat("Super 35, 4 perforations", 24.89, 18.66),
    SensorFormat("Super 35, 3 perforations", 24.89, 13.87),
    SensorFormat("Super 35, 16:9", 24.89, 14.00),
    SensorFormat("APS-C", 23.60, 15.70),
    SensorFormat("Full frame", 36.00, 24.00),
    SensorFormat("Full frame, 16:9", 36.00, 20.25),
    SensorFormat("65 mm film, 5 perforations", 52.48, 23.01),
    SensorFormat("65 mm film, 15 perforations", 70.41, 52.63),
    SensorFormat("Medium format chip", 43.80, 32.90),
    SensorFormat("Medium format 6 x 6", 56.00, 56.00),
    SensorFormat("Large format 4 x 5 inch", 121.00, 97.00),
)


def format_of(width_mm: float, height_mm: float, within_mm: float = 0.015) -> SensorFormat | None:
    """The named format of a size, or None.

    >>> format_of(36, 24).name
    'Full frame'
    """
    for size in FORMATS:
        if abs(size.width_mm - width_mm) <= within_mm and abs(size.height_mm - height_mm) <= within_mm:
            return size
    return None


def frame_on_sensor(
    width_mm: float, height_mm: float, squeeze: float, aspect: float, fit: Fit
) -> tuple[float, float]:
    """Width and height of the delivery frame on the sensor, mm, before the picture is desqueezed.

    Parameters
    ----------
    aspect : width over height of the delivered picture; 0 is the whole sensor
    fit : as wide as the sensor, as high, or the largest that lies inside; the others may
        reach beyond it

    >>> frame_on_sensor(36, 24, 1, 2.0, "inside"), frame_on_sensor(36, 24, 1, 2.0, "height")
    ((36, 18.0), (48.0, 24))
    """
    if aspect <= 0:
        return width_mm, height_mm
    narrow = aspect / squeeze
    if fit == "width" or (fit == "inside" and narrow * height_mm >= width_mm):
        return width_mm, width_mm / narrow
    return height_mm * narrow, height_mm


def reads_as(pupil_mm: ArrayLike, view_angle_deg: ArrayLike) -> Numbers:
    """The model scale that a blur suggests, ``A / A8``: 10 reads as a model of 1 : 10.

    A8 is the pupil of a full-frame camera (36 mm wide) of the same angle of view at f/8, the
    depth of field that a viewer expects of a photograph of the world at its size. Blur as a
    part of the picture's width is ``A / (2 s tan(a/2))``, so that camera would blur the far
    background as much if all were smaller, and nearer, by A / A8. 1 and less is life size.

    >>> round(float(reads_as(50 / 8, 39.597752709)), 6)
    1.0
    """
    reference = 36.0 / (2.0 * np.tan(np.radians(np.asarray(view_angle_deg, dtype=float)) / 2.0)) / 8.0
    result: Numbers = np.asarray(pupil_mm, dtype=float) / reference
    return result


def view_angle_deg(size_mm: ArrayLike, image_distance_mm: ArrayLike) -> Numbers:
    """Angle of view across a sensor side, ``2 atan(w / 2v)``, in degrees.

    For an anamorphic lens the sensor's width counts as many times as the squeeze.
    """
    return np.degrees(
        2.0 * np.arctan(np.asarray(size_mm, dtype=float) / (2.0 * np.asarray(image_distance_mm, dtype=float)))
    )


def blur_px(
    blur_mm: ArrayLike, sensor_width_mm: ArrayLike, picture_width_px: ArrayLike, squeeze: ArrayLike = 1.0
) -> Numbers:
    """Blur diameter in pixels of the (desqueezed) picture, ``c / (w q) W``.

    With a squeeze q a disc is q times taller than wide; this is its height, the larger.
    """
    width = np.asarray(sensor_width_mm, dtype=float) * np.asarray(squeeze, dtype=float)
    result: Numbers = np.asarray(blur_mm, dtype=float) / width * np.asarray(picture_width_px, dtype=float)
    return result


def coc_mm(
    kind: CriterionKind,
    value: float,
    sensor_width_mm: float,
    sensor_height_mm: float,
    picture_width_px: float,
    squeeze: float = 1.0,
) -> float:
    """The largest blur still called sharp, c0, in millimetres on the sensor.

    ``pixels`` counts at the delivery width, ``millimetres`` on the sensor, and
    ``diagonal`` divides the sensor's diagonal by the value.

    >>> coc_mm("pixels", 2, 36, 24, 1920)
    0.0375
    """
    if kind == "pixels":
        return value * sensor_width_mm * squeeze / picture_width_px
    if kind == "millimetres":
        return value
    return float(np.hypot(sensor_width_mm, sensor_height_mm)) / value
