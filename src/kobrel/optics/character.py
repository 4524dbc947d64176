"""What real lenses do besides: discs cut towards the corners, and the aberrations that show in blur.

Sources: Ray, *Applied Photographic Optics* (mechanical vignetting, secondary spectrum);
Welford, *Aberrations of Optical Systems* (third-order spherical aberration, astigmatism);
Kingslake, *Lens Design Fundamentals* (longitudinal aberrations).
"""

from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers


def shift_dpt(shift_mm: ArrayLike, image_distance_mm: ArrayLike) -> Numbers:
    """How far the focus moves in dioptres where the image moves along the axis by so much.

    From ``1/s = 1/f - 1/v``: ``d(1/s) = dv / v^2``.

    >>> float(shift_dpt(0.1, 50.0))
    0.04
    """
    result: Numbers = (
        1000.0 * np.asarray(shift_mm, dtype=float) / np.asarray(image_distance_mm, dtype=float) ** 2
    )
    return result


def leaning(
    ax: Any, ay: Any, area: Any, tx: Any, ty: Any, focus: Any, spherical: float, swirl: float
) -> tuple[Any, Any]:
    """How far a ray through a place of the pupil leans from the way that the pupil's middle looks.

    A ray through the place ``a`` that belongs to the picture place ``t`` (a tangent) has the direction
    ``t - lean``, and a point in the direction ``t`` at the distance ``d`` is pictured through ``a`` at
    ``t + lean - a/d``. Without lens errors the lean is ``a`` times the focus in dioptres. Third-order
    spherical aberration moves the focus with the area of the pupil, astigmatism with the square of the
    tangent, apart for the two ways across it.

    Plain arithmetic, of numbers or of arrays for many places: the tracer's kernels compile it.

    Parameters
    ----------
    ax, ay : place on the pupil, metres
    area : how much of the pupil's area lies within the place, 0 to 1
    tx, ty : place in the picture, tangents
    focus : dioptres
    spherical : shift of the focus at the rim of the pupil, dioptres
    swirl : how far the two foci lie apart at a tangent of 1, dioptres
    """
    focus = focus + spherical * (2.0 * area - 1.0)
    half = 0.5 * swirl
    # along and aside of the way to t, of length |t|: half * |t|^2 * (along, -aside) without its root
    along, aside = ax * tx + ay * ty, ay * tx - ax * ty
    return ax * focus - half * (along * tx + aside * ty), ay * focus - half * (along * ty - aside * tx)


def within_stop(ax: Any, ay: Any, cx: Any, cy: Any, distance_m: float, radius_m: float) -> Any:
    """Whether the front stop, at a distance before the pupil, lets rays pass.

    Plain arithmetic too, as :func:`leaning`.

    Parameters
    ----------
    ax, ay : place on the pupil, metres
    cx, cy : direction, for each metre along the axis
    """
    qx, qy = ax + distance_m * cx, ay + distance_m * cy
    return qx * qx + qy * qy <= radius_m * radius_m
