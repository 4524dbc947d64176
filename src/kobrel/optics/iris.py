"""The iris: its outline as a shape of unit pupil radius, and even samples of it.

A polygon of blades whose edges bow from straight (roundness 0) to the circle
(roundness 1), scaled so that its area is that of the round pupil: the f-number keeps
its light. A squeeze q then makes the pupil q times narrower than high, as it looks in
the desqueezed picture. A mask may stand in it.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.errors import OpticsError
from kobrel.optics.lens import Numbers

FAN_TRIANGLES = 2048
# Below this the arcs differ from straight lines by less than their own rounding errors.
_STRAIGHT = 1e-6


@dataclass(frozen=True, eq=False)
class Mask:
    """A picture that stands in the iris: the part of the light that passes at each of its pixels.

    Parameters
    ----------
    pixels : (n, n) 0 to 1, top row first. The square encloses the round pupil, or the circle
        about a larger outline; what lies outside the outline passes nothing.
    """

    pixels: NDArray[np.float32]

    def __post_init__(self) -> None:
        if self.pixels.ndim != 2 or self.pixels.shape[0] != self.pixels.shape[1]:
            raise OpticsError(f"A mask is a square picture, not {self.pixels.shape}.")
        if not np.any(self.pixels > 0):
            raise OpticsError("The mask is entirely black.")


@dataclass(frozen=True)
class Iris:
    """Shape of the opening.

    Parameters
    ----------
    blades : number of blades, 0 for a circle, else 3 or more
    roundness : 0 for straight edges to 1 for a circle
    rotation_deg : turn of the iris, counter-clockwise as seen in the picture, degrees
    rim : weight of the rim, -1 to +1: transmission is ``1 + rim (2 p^2 - 1)`` at the part p of
        the way from the centre to the outline, with mean 1
    mask : what stands in the opening and turns with it
    """

    blades: int = 0
    roundness: float = 0.0
    rotation_deg: float = 0.0
    rim: float = 0.0
    mask: Mask | None = None

    def __post_init__(self) -> None:
        if self.blades < 0 or self.blades in (1, 2):
            raise OpticsError(f"An iris has 3 blades or more, or 0 for a circle, not {self.blades}.")
        if not 0.0 <= self.roundness <= 1.0:
            raise OpticsError(f"Roundness goes from 0 (straight) to 1 (circle), not {self.roundness:g}.")
        if not -1.0 <= self.rim <= 1.0:
            raise OpticsError(
                f"The edge brightness is -1 (bright centre) to 1 (bright edge), not {self.rim:g}."
            )


def turned_deg(rotation_deg: ArrayLike, turn_per_stop_deg: float, f_number: ArrayLike) -> Numbers:
    """Rotation of an iris that turns as it closes, counted from f/1.

    >>> float(turned_deg(10, 4, 2.0))
    18.0
    """
    stops = 2.0 * np.log2(np.asarray(f_number, dtype=float))
    result: Numbers = np.asarray(rotation_deg, dtype=float) + turn_per_stop_deg * stops
    return result


def area_within(v: ArrayLike, rim: float) -> Numbers:
    """The part of the area within which the part v of the light passes, for a weight of the rim.

    The light within the area a is ``a + rim (a^2 - a)``; this solves it for a.

    >>> float(area_within(0.5, 0.0)), round(float(area_within(0.5, 1.0)), 6)
    (0.5, 0.707107)
    """
    light = np.asarray(v, dtype=float)
    if abs(rim) < _STRAIGHT:
        return light + 0.0
    return (rim - 1.0 + np.sqrt((1.0 - rim) ** 2 + 4.0 * rim * light)) / (2.0 * rim)


def radius(iris: Iris, angle_rad: Numbers) -> Numbers:
    """Distance from centre to outline before scaling, blade corners at 1, for angles in radians.

    Each edge is an arc of radius ``1 / roundness`` through two neighbouring corners of
    the unit circle, or the straight line between them.
    """
    if iris.blades == 0 or iris.roundness == 1.0:
        return np.ones_like(angle_rad)
    half = np.pi / iris.blades
    off = (angle_rad - np.radians(iris.rotation_deg)) % (2 * half) - half
    result: Numbers
    if iris.roundness < _STRAIGHT:
        result = np.cos(half) / np.cos(off)
        return result
    bend = 1.0 / iris.roundness
    centre = np.cos(half) - np.sqrt(bend**2 - np.sin(half) ** 2)
    result = centre * np.cos(off) + np.sqrt(bend**2 - (centre * np.sin(off)) ** 2)
    return result


def outline(iris: Iris, squeeze: float = 1.0, points: int = FAN_TRIANGLES) -> Numbers:
    """Closed outline of the pupil for a round pupil of radius 1.

    Returns
    -------
    (points + 1, 2) array, x right and y up as seen in the picture, the last point being
    the first. Neighbouring points and the centre enclose triangles of equal area, and
    their sum is pi / squeeze.
    """
    fine = np.linspace(0.0, 2 * np.pi, 8 * points + 1)
    r = radius(iris, fine)
    swept = np.concatenate([[0.0], np.cumsum(r[:-1] * r[1:])])
    angle = np.interp(np.linspace(0.0, swept[-1], points + 1), swept, fine)
    edge = radius(iris, angle)[:, None] * np.stack([np.cos(angle), np.sin(angle)], axis=-1)
    edge *= np.sqrt(np.pi / polygon_area(edge))
    edge[:, 0] /= squeeze
    edge[-1] = edge[0]
    result: Numbers = edge
    return result


def polygon_area(points: Numbers) -> float:
    """Area within a closed outline of shape (n, 2), by the shoelace formula."""
    x, y = points[:, 0], points[:, 1]
    return float(abs(np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)) / 2.0)


def sample(fan: Numbers, u: Numbers, v: Numbers, rim: float = 0.0) -> Numbers:
    """Points spread over the opening as evenly as its light.

    Parameters
    ----------
    fan : (n + 1, 2) outline from :func:`outline`
    u, v : numbers in [0, 1) of one shape; u goes around, v outward
    rim : weight of the rim

    Returns
    -------
    (..., 2) array in units of the round pupil's radius.
    """
    place = np.asarray(u) * (len(fan) - 1)
    corner = np.minimum(place.astype(int), len(fan) - 2)
    part = (place - corner)[..., None]
    edge = fan[corner] * (1 - part) + fan[corner + 1] * part
    result: Numbers = np.sqrt(area_within(v, rim))[..., None] * edge
    return result
