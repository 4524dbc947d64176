"""Small lights drawn from the light: through the iris to the sensor, past what stands between.

A light that covers less than a few pixels when sharp, or is small beside its blur, is hit by few of the
camera's rays, and its disc is noise for long. So its light is spread from it instead: places on the iris
in an even sequence, each carried to where the lens pictures it. The camera's rays then see the lamp, but
not its glow, so that nothing is counted twice.
"""

import itertools
from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import index_of, kernel
from kobrel.picture.tracing.lens import (
    focus_toward,
    hashed,
    leaning,
    on_stage,
    pupil,
    through_mask,
    through_outline,
    within_stop,
)
from kobrel.picture.view import View
from kobrel.stage.engine.rays import FAR_AT, LANES, blocked, is_blocked, new_packet, put_ray

SMALL_PX = 3.0
"""Radius in pixels, when sharp, below which a light is drawn from itself."""
_LARGEST_PX, _LOST = 24.0, 6.0
_PROBES = 32
_SAMPLES_A_PIXEL, _LEAST, _MOST, _MOST_HIDDEN = 6.0, 16, 4096, 96
_MOST_IN_ALL = 250_000
# Roberts' sequence in two dimensions for the iris; square roots' fractions for the lamp's own disc.
_R1, _R2 = 0.7548776662466927, 0.5698402909980532
_A1, _A2 = 0.6180339887498949, 0.4142135623730951


@kernel
def _fraction(value):  # type: ignore[no-untyped-def]
    return value - np.floor(value)


@kernel
def _lay(numbers, integers, lane, view, ax, ay, px, py, pz, reach):  # type: ignore[no-untyped-def]
    """A ray from a place on the iris up to a light, into a lane."""
    ox, oy, oz, _dx, _dy, _dz = on_stage(view, ax, ay, 0.0, 0.0, 0.0, 0.0)
    dx, dy, dz = px - ox, py - oy, pz - oz
    put_ray(numbers, integers, lane, ox, oy, oz, dx, dy, dz)
    long = np.sqrt(dx * dx + dy * dy + dz * dz)
    numbers[FAR_AT + lane] = max(0.0, 1.0 - 1.05 * reach / long)


@kernel
def _seen_parts(scene, view, hole, places, reach, which, seen):  # type: ignore[no-untyped-def]
    """The part of the iris that each of some lights shines on, to `seen`."""
    address, numbers, integers, valid = new_packet()
    for i in range(len(which)):
        e = which[i]
        free = 0
        for first in range(0, _PROBES, LANES):
            for lane in range(LANES):
                k = first + lane
                ax, ay, _area = pupil(view, hole, _fraction((k + 0.5) * _A1), (k + 0.5) / _PROBES)
                _lay(
                    numbers, integers, lane, view, ax, ay, places[e, 0], places[e, 1], places[e, 2], reach[e]
                )
            blocked(scene, address, valid, LANES)
            for lane in range(LANES):
                if not is_blocked(numbers, lane):
                    free += 1
        seen[i] = free / _PROBES


@kernel
def _spread(scene, view, hole, lights, which, counts, hidden, number, first, last, out):  # type: ignore[no-untyped-def]
    """Spread the light of some emitters over the picture `out` (H, W, 3).

    `lights` (E, 11): place 0-2, reach 3, tangents to the axis 4-5, 1/distance 6, radius as a
    tangent 7, energy of the three colours 8-10.
    """
    height, width = out.shape[0], out.shape[1]
    address, numbers, integers, valid = new_packet()
    waiting = np.zeros((LANES, 3), np.int64)
    fan, masked = hole.fan, len(hole.light) > 0
    for i in range(first, last):
        e, count = which[i], counts[i]
        tx, ty, near = lights[e, 4], lights[e, 5], lights[e, 6]
        s1, s2, s3, s4 = hashed(e, 0, 11), hashed(e, 0, 12), hashed(e, 0, 13), hashed(e, 0, 14)
        many = 0
        for k in range(number * count, (number + 1) * count):  # one even sequence over all passes
            around, across = _fraction(k * _R1 + s1), _fraction(k * _R2 + s2)
            if masked:
                ax, ay, area = through_mask(view, hole, around, across)
            else:
                ax, ay, area = through_outline(view, fan, around, across)
            colour = 1 + k % 2 if view.colour != 0.0 else 0
            focus = focus_toward(view, tx, ty, colour)
            lx, ly = leaning(ax, ay, area, tx, ty, focus, view.spherical, view.swirl)
            px, py = tx + lx - ax * near, ty + ly - ay * near
            if view.stop_radius > 0.0:
                cx, cy = tx - ax * near, ty - ay * near
                if not within_stop(ax, ay, cx, cy, view.stop_distance, view.stop_radius):
                    continue
            aim = 2.0 * np.pi * _fraction(k * _A1 + s3)
            size = lights[e, 7] * np.sqrt(_fraction(k * _A2 + s4))
            right, up = size * np.cos(aim), size * np.sin(aim)
            px += right
            py += up
            across = ((px - view.middle_x) / view.half_x + 1.0) * 0.5 * width
            down = (1.0 - (py - view.middle_y) / view.half_y) * 0.5 * height
            if not (0.0 <= across < width and 0.0 <= down < height):
                continue
            x, y = index_of(across, width), index_of(down, height)
            if not hidden[i]:
                for c in range(3):
                    if colour == 0:
                        out[y, x, c] += lights[e, 8 + c] / count
                    elif (c == 1) == (colour == 1):
                        out[y, x, c] += 2.0 * lights[e, 8 + c] / count
                continue
            right, up = right / near, up / near
            _lay(
                numbers, integers, many, view, ax, ay,
                lights[e, 0] + view.xx * right + view.xy * up, lights[e, 1] + view.yx * right + view.yy * up,
                lights[e, 2] + view.zx * right + view.zy * up, lights[e, 3],
            )  # fmt: skip
            waiting[many, 0], waiting[many, 1], waiting[many, 2] = x, y, colour
            many += 1
            if many == LANES:
                _settle(scene, address, numbers, valid, many, waiting, lights, e, count, out)
                many = 0
        if many > 0:
            _settle(scene, address, numbers, valid, many, waiting, lights, e, count, out)


@kernel
def _settle(scene, address, numbers, valid, many, waiting, lights, e, count, out):  # type: ignore[no-untyped-def]
    """Add those of the waiting samples that nothing hides."""
    blocked(scene, address, valid, many)
    for lane in range(many):
        if is_blocked(numbers, lane):
            continue
        x, y, colour = waiting[lane, 0], waiting[lane, 1], waiting[lane, 2]
        for c in range(3):
            if colour == 0:
                out[y, x, c] += lights[e, 8 + c] / count
            elif (c == 1) == (colour == 1):
                out[y, x, c] += 2.0 * lights[e, 8 + c] / count


class SmallLights:
    """The small lights of a view.

    Parameters
    ----------
    view : what is drawn
    """

    def __init__(self, view: View) -> None:
        self.view = view
        emitters = view.snapshot.emitters
        self.drawn = np.zeros(len(emitters.radii), np.uint8)
        self._lights = np.zeros((len(self.drawn), 11))
        self._which = np.zeros(0, np.int64)
        self._counts = np.zeros(0, np.int64)
        self._hidden = np.zeros(0, np.bool_)
        if len(self.drawn) and view.camera.projection == "perspective":
            self._choose()

    def _choose(self) -> None:
        """Tell the small lights, how they are pictured, and which are hidden from some of the iris."""
        view, emitters = self.view, self.view.snapshot.emitters
        numbers = view.numbers
        place = view.camera.pose[:3, 3] - view.snapshot.origin
        away = (emitters.places - place) @ view.camera.pose[:3, :3]
        ahead = -away[:, 2]
        before = ahead > 1e-3
        depth = np.where(before, ahead, 1.0)
        tangents = away[:, :2] / depth[:, None]
        pixel = 2.0 * numbers.half_x / view.width
        size_px = emitters.radii / depth / pixel
        blur_px = np.abs(numbers.focus - 1.0 / depth) * view.blur_scale_px
        reach = (blur_px / 2 + size_px + 1.0) * pixel * 1.5
        inside = (np.abs(tangents[:, 0] - numbers.middle_x) < numbers.half_x + reach) & (
            np.abs(tangents[:, 1] - numbers.middle_y) < numbers.half_y + reach
        )
        lost = (size_px < _LARGEST_PX) & (blur_px > _LOST * size_px)  # its shape cannot be seen in its blur
        self.drawn = (before & inside & ((size_px < SMALL_PX) | lost)).astype(np.uint8)
        self._which = np.flatnonzero(self.drawn)
        slant = np.sqrt(1.0 + (tangents**2).sum(axis=1))
        # a ball covers pi R^2 / D^2 of solid angle, a pixel off the axis pixel^2 cos^3
        energy = np.pi * (emitters.radii / (depth * slant)) ** 2 * slant**3 / pixel**2
        self._lights = np.column_stack([
            emitters.places, emitters.reach, tangents, 1.0 / depth, emitters.radii / depth,
            emitters.emission * energy[:, None],
        ])  # fmt: skip
        seen = np.zeros(len(self._which))
        _seen_parts(
            view.snapshot.handle, numbers, view.aperture, emitters.places, emitters.reach, self._which, seen
        )
        self._which, seen = self._which[seen > 0], seen[seen > 0]
        self._hidden = seen < 1.0
        area = np.pi * ((blur_px / 2 + size_px) ** 2 + 1.0)[self._which]
        most = np.where(self._hidden, _MOST_HIDDEN, _MOST)
        counts = np.clip(_SAMPLES_A_PIXEL * area, _LEAST, most)
        self._counts = np.maximum(counts * min(1.0, _MOST_IN_ALL / max(counts.sum(), 1.0)), _LEAST).astype(
            np.int64
        )

    def expose(
        self,
        number: int,
        out: NDArray[np.float32],
        in_parts: Callable[[Sequence[Callable[[], NDArray[np.float32]]]], list[NDArray[np.float32]]],
        parts: int,
    ) -> None:
        """Add one pass of their light to `out` (H, W, 3).

        Parameters
        ----------
        in_parts : does some work at once and gives what came of it
        parts : in how many parts
        """
        if not len(self._which):
            return
        view = self.view
        done = np.concatenate([[0], np.cumsum(self._counts)])
        edges = np.searchsorted(done, np.linspace(0, done[-1], parts + 1)).tolist()

        def part(first: int, last: int) -> NDArray[np.float32]:
            own = np.zeros_like(out)
            _spread(
                view.snapshot.handle, view.numbers, view.aperture, self._lights, self._which, self._counts,
                self._hidden, number, first, last, own,
            )  # fmt: skip
            return own

        work = [partial(part, first, last) for first, last in itertools.pairwise(edges)]
        for own in in_parts(work):
            out += own
