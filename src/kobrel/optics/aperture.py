"""An aperture ready for sampling: the outline of an iris, and what a mask in it lets pass.

Without a mask places are spread over the outline's triangles (:func:`kobrel.optics.iris.sample`).
With one they follow the running sum of the light, row by row and then along the row (inverse
transform sampling of a piecewise even density; Pharr, Jakob and Humphreys, *Physically Based
Rendering*, 4th ed., A.4): each place is as likely as the light that passes there, exactly, so no
ray is lost on what is dark.
"""

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.optics import iris as shapes
from kobrel.optics.iris import Iris
from kobrel.optics.lens import Numbers

SIDE = 512
"""Pixels of the table of a mask's light, each way."""
_LEAST_LIGHT = 2.0**-20


class Aperture(NamedTuple):
    """Where light comes through an iris.

    Parameters
    ----------
    fan : (n + 1, 2) float32 outline, see :func:`kobrel.optics.iris.outline`
    light : (SIDE^2 + 1,) running sum of the light from 0 to 1, bottom row first; (0,) without a mask
    rows : (SIDE + 1,) what it is where rows begin
    hints, row_hints : where those reach even steps from 0 to 1, so that a search begins near its end
    across, up : half the width and height of the table's square, the round pupil's radius being 1
    """

    fan: NDArray[np.float32]
    light: NDArray[np.float64]
    rows: NDArray[np.float64]
    hints: NDArray[np.int32]
    row_hints: NDArray[np.int32]
    across: float
    up: float


_NO_MASK = (np.zeros(0), np.zeros(0), np.zeros(0, np.int32), np.zeros(0, np.int32))


@lru_cache(maxsize=8)
def aperture(iris: Iris, squeeze: float = 1.0) -> Aperture:
    """The opening of an iris, squeezed."""
    fan = shapes.outline(iris, squeeze).astype(np.float32)
    reach = _reach(iris)
    table = transmission(iris) if iris.mask is not None else None
    if table is None or not table.any():
        return Aperture(fan, *_NO_MASK, reach / squeeze, reach)
    sums = np.concatenate([[0.0], np.cumsum(table[::-1].ravel(), dtype=float)])
    sums /= sums[-1]
    rows = sums[::SIDE].copy()
    return Aperture(fan, sums, rows, _hints(sums), _hints(rows), reach / squeeze, reach)


def _hints(sums: NDArray[np.float64]) -> NDArray[np.int32]:
    steps = np.linspace(0.0, 1.0, len(sums) // 4 + 2)
    return np.minimum(np.searchsorted(sums, steps, side="right") - 1, len(sums) - 2).astype(np.int32)


def _reach(iris: Iris) -> float:
    """How far the outline's corners lie from the centre, the round pupil's radius being 1."""
    return float(np.linalg.norm(_unmasked(iris), axis=1).max())


@lru_cache(maxsize=24)
def _outline(blades: int, roundness: float, rotation_deg: float) -> Numbers:
    return shapes.outline(Iris(blades, roundness, rotation_deg))


def _unmasked(iris: Iris) -> Numbers:
    return _outline(iris.blades, iris.roundness, iris.rotation_deg)


@lru_cache(maxsize=8)
def transmission(iris: Iris, side: int = SIDE, squeeze: float = 1.0) -> NDArray[np.float32]:
    """The part of the light that passes, weight of the rim included.

    Returns
    -------
    (side, side) top row first, over the square about the unsqueezed outline. Without a mask or a
    weight it is each pixel's cover by the outline.
    """
    reach = _reach(iris)
    half = (np.arange(side) + 0.5) / side * 2.0 - 1.0
    x, y = np.meshgrid(half * reach * squeeze, -half * reach)
    away, angle = np.hypot(x, y), np.arctan2(y, x)
    edge = _edge(iris, angle)
    cover = np.clip((edge - away) / (2.0 * reach / side) + 0.5, 0.0, 1.0)
    light = cover * (1.0 + iris.rim * (2.0 * np.minimum(away / edge, 1.0) ** 2 - 1.0))
    if iris.mask is not None:
        light = light * _turned(iris.mask.pixels, np.radians(iris.rotation_deg), x / reach, y / reach)
    return light.astype(np.float32)


def _edge(iris: Iris, angle_rad: Numbers) -> Numbers:
    """Distance from the centre to the area-keeping outline, for angles."""
    if iris.blades == 0:
        return np.ones_like(angle_rad)
    fine = np.linspace(-np.pi, np.pi, 4096)
    longest = float(np.max(shapes.radius(iris, fine)))
    return np.asarray(np.interp(angle_rad, fine, shapes.radius(iris, fine)) * _reach(iris) / longest)


def _turned(pixels: NDArray[np.float32], turn_rad: float, x: Numbers, y: Numbers) -> NDArray[np.float32]:
    """A mask turned counter-clockwise, at places -1 to 1; it ends as its picture does."""
    from scipy import ndimage

    tall, side = len(pixels), len(x)
    if tall >= 2 * side:
        pixels = ndimage.uniform_filter(pixels, tall // side, mode="nearest")
    cosine, sine = np.cos(turn_rad), np.sin(turn_rad)
    column, row = x * cosine + y * sine, x * sine - y * cosine
    places = np.stack([row, column]) * (tall / 2.0) + (tall / 2.0 - 0.5)
    return np.asarray(ndimage.map_coordinates(pixels, places, order=1, mode="nearest"), np.float32)


def passes(iris: Iris) -> float:
    """The part of the light that the mask lets pass: its mean over the opening, rim's weight included.

    >>> passes(Iris(6))
    1.0
    """
    if iris.mask is None:
        return 1.0
    free = transmission(Iris(iris.blades, iris.roundness, iris.rotation_deg, iris.rim))
    return max(float(transmission(iris).sum(dtype=float) / free.sum(dtype=float)), _LEAST_LIGHT)


def places(hole: Aperture, u: Numbers, v: Numbers, rim: float = 0.0) -> tuple[Numbers, Numbers]:
    """Points spread over an opening as evenly as its light.

    Parameters
    ----------
    u, v : numbers in [0, 1) of one shape (n,)
    rim : weight of the rim, where there is no mask (a mask's table has it already)

    Returns
    -------
    (n, 2) places in units of the round pupil's radius, and (n,) how much of the area lies
    within each.
    """
    if not len(hole.light):
        return shapes.sample(hole.fan.astype(float), u, v, rim), shapes.area_within(v, rim)
    row = np.clip(np.searchsorted(hole.rows, v, side="right") - 1, 0, SIDE - 1)
    low, high = hole.rows[row], hole.rows[row + 1]
    wanted = low + u * (high - low)
    cell = np.searchsorted(hole.light, wanted, side="right") - 1
    cell = np.clip(cell, row * SIDE, row * SIDE + SIDE - 1)
    start, end = hole.light[cell], hole.light[cell + 1]
    column = cell - row * SIDE + (wanted - start) / np.maximum(end - start, 1e-300)
    height = row + (v - low) / np.maximum(high - low, 1e-300)
    x = (column / SIDE * 2.0 - 1.0) * hole.across
    y = (height / SIDE * 2.0 - 1.0) * hole.up
    return np.stack([x, y], axis=-1), (x * hole.up / hole.across) ** 2 + y**2
