"""What is hidden behind edges, filled from what is seen beside them.

On the far side of each edge in depth there is a band of pixels that are seen. Their colours and depths are
averaged over larger and larger squares and go to where nothing is known, the nearest first (push and pull;
Gortler et al., "The Lumigraph", 1996). Lights smaller than a few pixels are left out, so that no lamp is
doubled.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from kobrel.compiled import kernel
from kobrel.picture.defocus.edges import jump
from kobrel.picture.tracer import in_bands, never

_LAMP = 5
"""Lights that are no larger than so many pixels are not continued behind what is before them."""
BAND = 3
"""Pixels that the band on the far side of an edge goes on beside its first."""


class Hidden(NamedTuple):
    """Pixels behind others: row, column, signed blur (px) and colour of each, (n,) and (n, 3)."""

    row: NDArray[np.int64]
    column: NDArray[np.int64]
    blur: NDArray[np.float32]
    colour: NDArray[np.float32]


@kernel
def _band(blur, out):  # type: ignore[no-untyped-def]
    """Mark pixels on the far side of edges, and those beside them on the same side; whether there are any."""
    height, width = blur.shape
    any_there = False
    for y in range(height):
        for x in range(width):
            here = blur[y, x]
            seed = (
                (x > 0 and jump(here, blur[y, x - 1]))
                or (x + 1 < width and jump(here, blur[y, x + 1]))
                or (y > 0 and jump(here, blur[y - 1, x]))
                or (y + 1 < height and jump(here, blur[y + 1, x]))
            )
            if not seed:
                continue
            any_there = True
            for j in range(max(0, y - BAND), min(height, y + BAND + 1)):
                for i in range(max(0, x - BAND), min(width, x + BAND + 1)):
                    if not (jump(blur[j, i], here) or jump(here, blur[j, i])):
                        out[j, i] = True
    return any_there


@kernel
def _push(rows, band, blur, colour, light, calm, values, weights):  # type: ignore[no-untyped-def]
    """Sums of the band's pixels over squares of two by two."""
    height, width = blur.shape
    for y in range(rows[0], rows[1]):
        for x in range(weights.shape[1]):
            for j in range(2 * y, min(2 * y + 2, height)):
                for i in range(2 * x, min(2 * x + 2, width)):
                    if band[j, i]:
                        w = np.float32(0.25)
                        dim = min(np.float32(1), calm[j, i] / max(light[j, i], np.float32(1e-9)))
                        for c in range(3):
                            values[y, x, c] += colour[j, i, c] * dim * w
                        values[y, x, 3] += blur[j, i] * w
                        weights[y, x] += w


@kernel
def _wanted(rows, band, away, filled, blur, out):  # type: ignore[no-untyped-def]
    """Mark pixels behind which something hidden can be uncovered."""
    for y in range(rows[0], rows[1]):
        for x in range(blur.shape[1]):
            far, here = filled[y >> 1, x >> 1, 3], blur[y, x]
            reach = (abs(here) + abs(far)) * 0.5 + 2.0
            out[y, x] = not band[y, x] and 2.0 * away[y >> 1, x >> 1] <= reach and jump(far, here)


def hidden_behind(blur: NDArray[np.float32], colour: NDArray[np.float32]) -> Hidden:
    """What is hidden where a disc may uncover it.

    Parameters
    ----------
    blur : (H, W) signed blur, pixels
    colour : (H, W, 3)
    """
    height = blur.shape[0]
    band = np.zeros(blur.shape, np.bool_)
    if not _band(blur, band):
        empty = np.zeros(0, np.int64)
        return Hidden(empty, empty, np.zeros(0, np.float32), np.zeros((0, 3), np.float32))
    size = tuple(-(-side // 2) for side in blur.shape)
    values, weights = np.zeros((*size, 4), np.float32), np.zeros(size, np.float32)
    light = colour.sum(axis=-1)
    calm = ndimage.grey_opening(light, size=_LAMP)
    in_bands(size[0], lambda rows: _push(rows, band, blur, colour, light, calm, values, weights), never)
    away = ndimage.distance_transform_edt(weights == 0).astype(np.float32)
    filled = _filled(values, weights)
    wanted = np.empty(blur.shape, np.bool_)
    in_bands(height, lambda rows: _wanted(rows, band, away, filled, blur, wanted), never)
    row, column = np.nonzero(wanted)
    found = filled[row >> 1, column >> 1]
    return Hidden(row, column, np.ascontiguousarray(found[:, 3]), np.ascontiguousarray(found[:, :3]))


def _filled(values: NDArray[np.float32], weights: NDArray[np.float32]) -> NDArray[np.float32]:
    """Colour and blur everywhere, (h, w, 4), from weighted sums of those that are known."""
    pushed = [(values, weights)]
    while max(pushed[-1][1].shape) > 1:
        pushed.append((_quarters(pushed[-1][0]), _quarters(pushed[-1][1])))
    top, total = pushed.pop()
    made = top / np.maximum(total, 1e-12)[..., None]
    while pushed:
        values, weights = pushed.pop()
        coarse = np.repeat(np.repeat(made, 2, 0), 2, 1)[: values.shape[0], : values.shape[1]]
        full = np.minimum(weights * 4.0, 1.0)[..., None]
        made = coarse * (1.0 - full) + values / np.maximum(weights, 1e-12)[..., None] * full
    return made.astype(np.float32)


def _quarters(part: NDArray[np.float32]) -> NDArray[np.float32]:
    """Half the size, the mean of four."""
    odd = part.shape[0] % 2, part.shape[1] % 2
    if any(odd):
        part = np.pad(part, ((0, odd[0]), (0, odd[1]), *(((0, 0),) * (part.ndim - 2))))
    return np.asarray(
        (part[::2, ::2] + part[1::2, ::2] + part[::2, 1::2] + part[1::2, 1::2]) * np.float32(0.25)
    )
