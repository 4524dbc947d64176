"""Blur discs by themselves: what one far-away or near point of light becomes."""

from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.aperture import aperture, places
from kobrel.optics.character import leaning, shift_dpt, within_stop
from kobrel.optics.iris import Iris
from kobrel.optics.lens import Numbers
from kobrel.plan.instrument import FrontStop
from kobrel.plan.measure.camera import Camera

_GOLDEN = 0.6180339887498949
_SAMPLES, _GRID, _FEW = 4096, 33, 16


@dataclass(frozen=True, eq=False)
class Disc:
    """Where the light of a point falls in the picture.

    Parameters
    ----------
    offsets_px : (n, 2) from the point's own place, pixels at delivery, x right and y up
    colours : (n, 3) light of each sample; 0 where the front stop holds it back
    """

    offsets_px: Numbers
    colours: Numbers

    @cached_property
    def _box(self) -> tuple[float, float, float, float]:
        """Left, right, bottom and top of what is lit, pixels; 0 where nothing is."""
        lit = self.offsets_px[self.colours.any(axis=1)]
        if not len(lit):
            return 0.0, 0.0, 0.0, 0.0
        (left, bottom), (right, top) = lit.min(axis=0).tolist(), lit.max(axis=0).tolist()
        return left, right, bottom, top

    @property
    def size_px(self) -> tuple[float, float]:
        """Width and height of what is lit."""
        left, right, bottom, top = self._box
        return right - left, top - bottom

    @property
    def reach_px(self) -> float:
        """How far what is lit lies from the point's own place, across or up."""
        return max(abs(side) for side in self._box)

    @property
    def light(self) -> float:
        """The part of the light that passes."""
        return float(self.colours.mean())

    def image(self, pixels: int, px_across: float) -> NDArray[np.float32]:
        """(pixels, pixels, 3) of a square so many delivery pixels wide: each cell's share of the light."""
        place = np.floor((self.offsets_px * [1, -1] / px_across + 0.5) * pixels).astype(int)
        within = ((place >= 0) & (place < pixels)).all(axis=1)
        cell, colours = (place[:, 1] * pixels + place[:, 0])[within], self.colours[within]
        white = bool((colours[:, :1] == colours).all())
        layers = [np.bincount(cell, colours[:, c], pixels * pixels) for c in range(1 if white else 3)]
        whole = np.stack(layers * (3 if white else 1), axis=-1).reshape(pixels, pixels, 3)
        return whole.astype(np.float32) / np.float32(len(place))


@lru_cache(maxsize=4)
def _through(iris: Iris, squeeze: float, count: int) -> tuple[Numbers, Numbers]:
    """Even places on an iris, and how much of its area lies within each."""
    k = np.arange(count, dtype=float)
    return places(aperture(iris, squeeze), (k * _GOLDEN) % 1.0, (k + 0.5) / count, iris.rim)


def disc(camera: Camera, distance_m: float, across: float, up: float, count: int = 16384) -> Disc:
    """The disc of a point of light, for a camera in perspective at one frame.

    A ray through the pupil's point p from a point at distance d in direction t (tangents) has
    the direction t - p/d, and the lens pictures it where :func:`kobrel.optics.character.leaning` says.

    Parameters
    ----------
    distance_m : along the axis; infinity is allowed
    across, up : place in the picture, -1 to 1 each
    """
    half_x, half_y = (float(half) for half in camera.half_widths())
    t = np.array(_tangents(camera, across, up), float)
    p, area = _through(camera.turned_iris, camera.squeeze, count)
    p = p * float(camera.pupil_radius_m)
    focus = 1.0 / float(camera.focus_m)
    if camera.surface == "sphere":
        focus = focus * float(np.sqrt(1.0 + t @ t))
    flaws, v = camera.flaws, camera.image_distance_mm
    spherical, red_blue = float(shift_dpt(flaws.spherical_mm, v)), -float(shift_dpt(flaws.colour_mm, v))
    swirl = float(shift_dpt(flaws.swirl_mm, v)) / (half_x**2 + half_y**2)
    nearness = 1.0 / distance_m if np.isfinite(distance_m) else 0.0
    px = camera.width_px / (2.0 * half_x)
    passed = np.ones(count, bool)
    if flaws.front_stop is not None:
        front, ways = flaws.front_stop, t - p * nearness
        passed = within_stop(
            p[:, 0], p[:, 1], ways[:, 0], ways[:, 1], front.distance_mm / 1000.0, front.diameter_mm / 2000.0
        )

    def offsets(shift_dpt: float) -> Numbers:
        leans = leaning(p[:, 0], p[:, 1], area, t[0], t[1], focus + shift_dpt, spherical, swirl)
        return (np.stack(leans, axis=-1) - p * nearness) * px

    light = np.repeat(passed[:, None].astype(float), 3, axis=1)
    if red_blue == 0.0:
        return Disc(offsets(0.0), light)
    return Disc(
        np.concatenate([offsets(0.0), offsets(red_blue)]),
        2.0 * np.concatenate([light * (0.0, 1.0, 0.0), light * (1.0, 0.0, 1.0)]),
    )


def corner_loss_stops(camera: Camera, across: ArrayLike, up: ArrayLike) -> Numbers:
    """How many stops darker a lens is at places of the picture, -1 to 1, by its front stop; 0 without.

    What passes of the light of the whole iris, whatever its outline, rim and squeeze. Of many places a
    grid is worked out, and the others from it.
    """
    x, y = np.broadcast_arrays(np.asarray(across, float), np.asarray(up, float))
    front = camera.flaws.front_stop
    if front is None or camera.projection != "perspective":
        return np.zeros(x.shape)
    if x.size <= _FEW:
        return _loss(camera, front, x, y)
    from scipy.interpolate import RegularGridInterpolator

    edge = np.linspace(-1.0, 1.0, _GRID)
    grid = _loss(camera, front, *np.meshgrid(edge, edge, indexing="ij"))
    between = RegularGridInterpolator((edge, edge), grid, bounds_error=False, fill_value=None)
    return np.asarray(between(np.stack([x, y], axis=-1)), float)


def _loss(camera: Camera, front: FrontStop, across: Numbers, up: Numbers) -> Numbers:
    """As :func:`corner_loss_stops`, of each place by itself; at the most as where nothing passes."""
    tx, ty = _tangents(camera, across, up)
    p, _ = _through(camera.turned_iris, camera.squeeze, _SAMPLES)
    p = p * float(camera.pupil_radius_m)
    # rays lean towards the focus
    x, y = (t[..., None] - p[:, k] / float(camera.focus_m) for k, t in enumerate((tx, ty)))
    passed = within_stop(p[:, 0], p[:, 1], x, y, front.distance_mm / 1000.0, front.diameter_mm / 2000.0)
    return np.asarray(-np.log2(np.maximum(passed.mean(axis=-1), 0.5 / _SAMPLES)))


def _tangents(camera: Camera, across: ArrayLike, up: ArrayLike) -> tuple[Numbers, Numbers]:
    """Places of the picture, -1 to 1, in its own coordinates."""
    (half_x, half_y), (middle_x, middle_y) = camera.half_widths(), camera.middle()
    return (
        np.asarray(across, float) * float(half_x) + float(middle_x),
        np.asarray(up, float) * float(half_y) + float(middle_y),
    )
