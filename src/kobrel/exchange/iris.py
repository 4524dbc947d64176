"""The iris for others: as a picture, as points of its outline, as numbers."""

import json
from pathlib import Path
from typing import NamedTuple

import numpy as np
import OpenImageIO as oiio  # noqa: N813

from kobrel.errors import ExchangeError
from kobrel.exchange.images import write_picture
from kobrel.exchange.writing.whole import csv_text, write_text
from kobrel.optics.aperture import passes, transmission
from kobrel.optics.iris import outline
from kobrel.plan.measure.camera import Camera

LEAST_SIDE, MOST_SIDE = 16, 8192
SUFFIXES = (".png", ".exr", ".csv", ".json")


class Number(NamedTuple):
    """One number of an iris: what it is called, how it is written, and what it means."""

    name: str
    value: float
    meaning: str


def numbers_of(camera: Camera) -> list[Number]:
    """An iris at one frame in the parameterisations that renderers share."""
    iris, q = camera.turned_iris, camera.squeeze
    pupil = float(camera.pupil_mm)
    turn = iris.rotation_deg % (360.0 / iris.blades) if iris.blades else iris.rotation_deg % 360.0
    found = [
        Number("pupil diameter, mm", pupil, "Of the round entrance pupil: focal length over f-number."),
        Number("pupil radius, m", pupil / 2000.0, "Half of it, in metres, where a radius is asked for."),
        Number("blades", iris.blades, "Sides of the polygon; 0 is a circle."),
        Number("roundness", iris.roundness, "How far blades bow from straight (0) to the circle (1)."),
        Number("rotation, degrees", turn,
               "Of a corner from the right, counter-clockwise in the picture; the least of its equals."),
        Number("rotation from the top, degrees", (90.0 - iris.rotation_deg) % (360.0 / (iris.blades or 1)),
               "Of a corner from straight up, clockwise."),
        Number("width over height", 1.0 / q, "Of the pupil in the desqueezed image."),
        Number("height over width", q, "Its inverse: the squeeze."),
        Number("stretch, -1 to +1", 1.0 / q - 1.0,
               "Below 0 as much narrower than high, w/h - 1; above 0 it would be lower than wide, 1 - h/w."),
        Number("edge brightness, -1 to +1", iris.rim,
               "Light at the edge against the mean: +1 twice, none in the centre; -1 the reverse."),
    ]  # fmt: skip
    if iris.mask is not None:
        part = passes(iris)
        found.append(
            Number(
                "light through the mask", part, f"Its mean over the opening: {-np.log2(part):.2f} stops lost."
            )
        )
    return [Number(name, round(float(value), 9) + 0.0, meaning) for name, value, meaning in found]


def outline_points(camera: Camera, count: int = 64) -> list[tuple[float, float]]:
    """The outline, x right and y up, for a round pupil of radius 1, squeezed: the corners of straight
    blades, or so many points at even angles.
    """
    iris = camera.turned_iris
    if iris.blades and iris.roundness == 0.0:
        angles = np.radians(iris.rotation_deg) + np.arange(iris.blades) * 2 * np.pi / iris.blades
        fine = outline(iris)
        reach = float(np.linalg.norm(fine, axis=1).max())
        points = reach * np.stack([np.cos(angles), np.sin(angles)], axis=1)
        points[:, 0] /= camera.squeeze
    else:
        fine = outline(iris, camera.squeeze)[:-1]
        points = fine[np.linspace(0, len(fine), count, endpoint=False).astype(int)]
    return [(round(float(x), 6), round(float(y), 6)) for x, y in points]


def write_iris(path: Path, camera: Camera, side: int = 1024) -> None:
    """Write an iris at one frame: PNG or EXR of its light (white passes all), CSV of its outline, or
    JSON of its outline and numbers.

    Raises
    ------
    ExchangeError
        The kind is not known, the size makes no sense, or the file cannot be written.
    """
    kind = path.suffix.lower()
    if kind not in SUFFIXES:
        raise ExchangeError(f"an iris is written as {', '.join(SUFFIXES)}.", file=path)
    if not LEAST_SIDE <= side <= MOST_SIDE:
        raise ExchangeError(
            f"a picture of the iris is {LEAST_SIDE} to {MOST_SIDE} pixels wide, not {side}.", file=path
        )
    if kind in (".png", ".exr"):
        light = transmission(camera.turned_iris, side, camera.squeeze)
        _write_grey(path, light if kind == ".exr" else light / max(1.0, float(light.max())))
        return
    write_text(path, _as_csv(camera) if kind == ".csv" else _as_json(camera))


def _write_grey(path: Path, light: np.ndarray) -> None:
    floats = path.suffix.lower() == ".exr"
    spec = oiio.ImageSpec(light.shape[1], light.shape[0], 1, oiio.FLOAT if floats else oiio.UINT16)
    spec.channelnames = ("Y",)
    if floats:
        spec["compression"] = "zip"
    pixels = light if floats else np.round(light * 65535).astype(np.uint16)
    write_picture(path, spec, pixels[..., None])


def _as_csv(camera: Camera) -> str:
    return csv_text([("x", "y"), *outline_points(camera)])


def _as_json(camera: Camera) -> str:
    content = {
        "outline": outline_points(camera),
        "numbers": {
            number.name: {"value": number.value, "meaning": number.meaning} for number in numbers_of(camera)
        },
    }
    return json.dumps(content, indent=2) + "\n"
