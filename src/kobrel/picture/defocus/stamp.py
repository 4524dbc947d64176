"""The iris as rows of spans, ready to be laid down around each pixel.

A disc of radius r covers, in each row, one span or more whose ends are those of the iris in its own row,
times r. Laid down as differences at their ends and summed up along the row, a span costs the same however
long it is (Crow, "Summed-Area Tables for Texture Mapping", 1984, in one dimension).
"""

from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.optics.aperture import transmission
from kobrel.optics.iris import Iris, outline

ROWS = 256
"""Rows that an iris is cut into where nothing but its outline counts."""
_COARSE = 64
"""Rows and columns where a mask or the weight of the rim counts too."""
STEPS = 16
"""Radii are taken in so many steps a pixel."""
LEAST = 0.5
"""The least radius: that of a pixel in focus."""
_LEVELS = 24


class Stamp(NamedTuple):
    """An iris in rows.

    Parameters
    ----------
    first : (rows + 1,) where each row's spans begin, bottom row first
    left, right, weight : (n,) of each span: its ends in radii, and how much light passes there
    tall : half the height of the rows in radii
    light : (m,) what a disc's spans sum up to, by its radius in steps of 1 / STEPS pixel
    """

    first: NDArray[np.int64]
    left: NDArray[np.float32]
    right: NDArray[np.float32]
    weight: NDArray[np.float32]
    tall: float
    light: NDArray[np.float32]


@kernel
def subrows(radius):  # type: ignore[no-untyped-def]
    """Into how many parts a picture's row is cut for a disc of a radius: small discs need more."""
    return 4 if radius < 1.5 else 2 if radius < 4.0 else 1


@kernel
def row_of(rows, tall, up):  # type: ignore[no-untyped-def]
    """The row of an iris at a height in radii, or -1 beyond it."""
    row = int(np.floor((up / tall * 0.5 + 0.5) * rows))
    return row if 0 <= row < rows else -1


@kernel
def _sums(first, left, right, weight, tall, out):  # type: ignore[no-untyped-def]
    rows = len(first) - 1
    for step in range(len(out)):
        radius = max(step / 16.0, 0.5)
        parts = subrows(radius)
        reach = int(np.ceil(radius * tall)) + 1
        total = 0.0
        for dy in range(-reach, reach + 1):
            for part in range(parts):
                row = row_of(rows, tall, (dy + (part + 0.5) / parts - 0.5) / radius)
                if row < 0:
                    continue
                for k in range(first[row], first[row + 1]):
                    total += (right[k] - left[k]) * radius * weight[k] / parts
        out[step] = total


@lru_cache(maxsize=8)
def stamp_of(iris: Iris, squeeze: float, most: float) -> Stamp:
    """The stamp of an iris, for discs of radii up to `most` pixels (half their heights)."""
    plain = iris.mask is None and iris.rim == 0.0
    first, left, right, weight, tall = _outlined(iris, squeeze) if plain else _pictured(iris, squeeze)
    light = np.zeros(int(np.ceil(most * STEPS)) + 2, np.float32)
    _sums(first, left, right, weight, tall, light)
    return Stamp(first, left, right, weight, tall, light)


_Rows = tuple[NDArray[np.int64], NDArray[np.float32], NDArray[np.float32], NDArray[np.float32], float]


def _outlined(iris: Iris, squeeze: float) -> _Rows:
    """Where lines across an outline, which is convex, enter and leave it."""
    edge = outline(iris, squeeze)
    tall = float(np.abs(edge[:, 1]).max())
    heights = ((np.arange(ROWS) + 0.5) / ROWS * 2.0 - 1.0) * tall
    (x0, y0), (x1, y1) = edge[:-1].T, edge[1:].T
    crosses = (y0[None] <= heights[:, None]) != (y1[None] <= heights[:, None])
    slope = np.where(y1 == y0, 0.0, (x1 - x0) / np.where(y1 == y0, 1.0, y1 - y0))
    at = x0[None] + (heights[:, None] - y0[None]) * slope[None]
    left = np.where(crosses, at, np.inf).min(axis=1)
    right = np.where(crosses, at, -np.inf).max(axis=1)
    there = crosses.any(axis=1)
    first = np.concatenate([[0], np.cumsum(there)])
    count = int(there.sum())
    return (
        first, left[there].astype(np.float32), right[there].astype(np.float32),
        np.ones(count, np.float32), tall,
    )  # fmt: skip


def _pictured(iris: Iris, squeeze: float) -> _Rows:
    """Spans of about even light in the rows of a picture of what passes."""
    light = transmission(iris, _COARSE)[::-1]  # bottom row first
    reach = float(np.linalg.norm(outline(Iris(iris.blades, iris.roundness, iris.rotation_deg)), axis=1).max())
    levels = np.round(light / max(float(light.max()), 1e-9) * _LEVELS).astype(int)
    first, left, right, weight = [0], [], [], []
    side = 2.0 * reach / _COARSE
    for row in range(_COARSE):
        ends = np.flatnonzero(np.diff(levels[row], prepend=-1, append=-1))
        for begin, end in pairwise(ends):
            if levels[row, begin] > 0:
                left.append((begin * side - reach) / squeeze)
                right.append((end * side - reach) / squeeze)
                weight.append(float(light[row, begin:end].mean()))
        first.append(len(left))
    return (
        np.asarray(first), np.asarray(left, np.float32), np.asarray(right, np.float32),
        np.asarray(weight, np.float32), reach,
    )  # fmt: skip
