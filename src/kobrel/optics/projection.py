"""From directions before a camera to places in its picture, and back.

A picture's own coordinates are, for each projection, what its lens keeps in proportion:

``perspective``   the tangents of the angles to the axis
``orthographic``  metres across the axis (a telecentric lens: its rays are parallel)
``fisheye``       the angle to the axis in radians, equidistant: r = f·θ

Sources: Ray, *Applied Photographic Optics* (projections, telecentric systems); Kingslake,
*Optics in Photography*.
"""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers

Projection = Literal["perspective", "orthographic", "fisheye"]


def project(kind: Projection, x: Numbers, y: Numbers, ahead: Numbers) -> tuple[Numbers, Numbers]:
    """Picture coordinates of points at x to the right, y upward and so far ahead, metres.

    >>> [float(v) for v in project("perspective", 1.0, 0.5, 2.0)]
    [0.5, 0.25]
    """
    if kind == "orthographic":
        return np.asarray(x), np.asarray(y)
    if kind == "perspective":
        return np.asarray(x / ahead), np.asarray(y / ahead)
    aside = np.hypot(x, y)
    scale = np.where(aside > 0, np.arctan2(aside, ahead) / np.where(aside > 0, aside, 1.0), 0.0)
    return np.asarray(x * scale), np.asarray(y * scale)


def ray(kind: Projection, u: ArrayLike, v: ArrayLike) -> tuple[Numbers, Numbers]:
    """Where the rays through places in the picture start and point, (..., 3) each, before a
    camera that looks along -Z; their length is one metre along the axis (fisheye: straight).
    """
    x, y = np.broadcast_arrays(np.asarray(u, dtype=float), np.asarray(v, dtype=float))
    none, ahead = np.zeros_like(x), np.full_like(x, -1.0)
    still = np.stack([none, none, none], axis=-1)
    if kind == "orthographic":
        return np.stack([x, y, none], axis=-1), np.stack([none, none, ahead], axis=-1)
    if kind == "perspective":
        return still, np.stack([x, y, ahead], axis=-1)
    angle = np.hypot(x, y)
    side = np.sinc(angle / np.pi)  # sin(angle) / angle
    return still, np.stack([x * side, y * side, -np.cos(angle)], axis=-1)


def edge(kind: Projection, half: ArrayLike, distance_m: ArrayLike) -> tuple[Numbers, Numbers]:
    """How far across and along the axis the picture's edge is, at a distance as the focus counts it.

    `half` is half the picture's size in its own coordinates.
    """
    size, distance = np.asarray(half, dtype=float), np.asarray(distance_m, dtype=float)
    if kind == "orthographic":
        return size + 0 * distance, distance + 0 * size
    if kind == "perspective":
        return size * distance, distance + 0 * size
    return distance * np.sin(size), distance * np.cos(size)


def cone_blur_m(cone_deg: ArrayLike, focus_m: ArrayLike, distance_m: ArrayLike) -> Numbers:
    """Blur of a telecentric lens, measured in the scene: ``2 tan(cone / 2) |d - s|``, metres.

    Each point's light fills the same cone wherever it is, so that the blur grows evenly with
    metres, not with dioptres.

    >>> round(float(cone_blur_m(2.0, 3.0, 4.0)), 6)
    0.03491
    """
    away = np.abs(np.asarray(distance_m, dtype=float) - np.asarray(focus_m, dtype=float))
    return np.asarray(2.0 * np.tan(np.radians(cone_deg) / 2.0) * away)
