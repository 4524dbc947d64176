"""How a lens bends straight lines."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers


def unbent(x: ArrayLike, y: ArrayLike, aspect: float, percent: float) -> tuple[Numbers, Numbers]:
    """Where in the straight picture a place of the bent one comes from.

    Radial of the third order (Brown, *Photogrammetric Engineering* 32, 1966, first term):
    r (1 + k r^2) over the corner's distance, k so that the corner moves by `percent` of it: below
    0 as a barrel, above as a cushion.

    Parameters
    ----------
    x, y : -1 to 1 each
    aspect : width over height
    """
    x, y = np.asarray(x, float), np.asarray(y, float)
    square = (x * x * aspect * aspect + y * y) / (aspect * aspect + 1.0)
    by = 1.0 - percent / 100.0 * (square - 1.0) if percent < 0 else 1.0 - percent / 100.0 * square
    return x * by, y * by


def bent(x: ArrayLike, y: ArrayLike, aspect: float, percent: float) -> tuple[Numbers, Numbers]:
    """Where a place of the straight picture, -1 to 1 each, shows in the bent one."""
    x, y = np.asarray(x, float), np.asarray(y, float)
    out_x, out_y = x, y
    for _ in range(24):
        back_x, back_y = unbent(out_x, out_y, aspect, percent)
        out_x, out_y = out_x + (x - back_x), out_y + (y - back_y)
    return out_x, out_y
