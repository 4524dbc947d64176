"""How a lens bends straight lines, in one number that fills the frame."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers


def _lens(percent: float) -> tuple[float, float]:
    """Bending and scale: below 0 the corners stay and the middle grows, above 0 the other way."""
    part = percent / 100.0
    return (part, 1.0 + part) if part < 0 else (part / (1.0 - part), 1.0)


def unbent(x: ArrayLike, y: ArrayLike, aspect: float, percent: float) -> tuple[Numbers, Numbers]:
    """Where in the straight picture a place of the bent one comes from.

    The division model, r / (1 + c r^2) with the corner at r = 1 (Fitzgibbon, *Proc. CVPR*, 2001):
    the picture keeps its frame full, and is as much larger in the corner (above 0, a cushion) or in
    the middle (below 0, a barrel) as `percent` says, against the other.

    Parameters
    ----------
    x, y : -1 to 1 each
    aspect : width over height
    percent : up to 20
    """
    x, y = np.asarray(x, float), np.asarray(y, float)
    c, scale = _lens(percent)
    by = scale / (1.0 + c * _square(x, y, aspect))
    return x * by, y * by


def bent(x: ArrayLike, y: ArrayLike, aspect: float, percent: float) -> tuple[Numbers, Numbers]:
    """Where a place of the straight picture, -1 to 1 each, shows in the bent one; the inverse of
    :func:`unbent`.

    >>> x, y = bent(0.5, 0.2, 1.6, -10.0)
    >>> [round(float(part), 9) for part in unbent(x, y, 1.6, -10.0)]
    [0.5, 0.2]
    """
    x, y = np.asarray(x, float), np.asarray(y, float)
    c, scale = _lens(percent)
    inner = np.sqrt(np.maximum(scale * scale - 4.0 * c * _square(x, y, aspect), 0.0))
    by = 2.0 / (scale + inner)
    return x * by, y * by


def _square(x: Numbers, y: Numbers, aspect: float) -> Numbers:
    """The square of the distance from the middle, 1 in the corner."""
    return (x * x * aspect * aspect + y * y) / (aspect * aspect + 1.0)
