"""The blur of a finished picture, with occlusion."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.picture.defocus.behind import Hidden, hidden_behind
from kobrel.picture.defocus.scatter import fill_rows, lay_out, lay_out_single, lay_rows, snap_rows
from kobrel.picture.defocus.stamp import LEAST, STEPS, stamp_of
from kobrel.picture.tracer import in_bands, never, signed_blur
from kobrel.picture.view import View

MOST_RADIUS = 512.0
"""The largest radius of a disc, pixels; larger ones are drawn as large as that."""
_GLINT = 6.0
"""What is so many times as bright as most of the picture is laid down for itself."""
_STEP, _SHARP = 1.3, 1.0
"""Radii of neighbouring layers are so many times as large; below the second all is one layer."""


_Entries = tuple[NDArray[np.int32], NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]


class _Excess(NamedTuple):
    """What is much brighter than most of a picture: where, and by how much."""

    bright: NDArray[np.bool_]
    light: NDArray[np.float32]


def defocused(
    view: View,
    colour: NDArray[np.float32],
    depth: NDArray[np.float32],
    stop: Callable[[], bool] = never,
    most_px: float | None = None,
) -> NDArray[np.float32]:
    """A finished picture with the blur that a camera gives it, (H, W, 3) linear.

    Each pixel's light is laid down as the disc that its depth asks for, in the shape of the iris with its
    mask, rim, squeeze and front stop; layer by layer, so that what is nearer hides what is farther.

    Parameters
    ----------
    view : the camera, at the size of the picture; its stage does not count
    colour : (H, W, 3) linear light
    depth : (H, W) metres along the axis, infinite where nothing is
    most_px : the largest disc, pixels across; larger ones are cut down to it

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    blur = signed_blur(view, depth)
    limit = MOST_RADIUS * 2.0 if most_px is None else min(most_px, MOST_RADIUS * 2.0)
    blur = np.clip(np.nan_to_num(blur, nan=0.0, posinf=limit, neginf=-limit), -limit, limit)
    snapped = np.empty_like(blur)
    in_bands(len(blur), lambda rows: snap_rows(rows, blur, 2.0, snapped), stop)
    in_bands(len(blur), lambda rows: snap_rows(rows, snapped, 2.0, blur), stop)
    surfaces, excess = _parted(colour)
    return _laid_down(view, surfaces, excess, blur, hidden_behind(blur, surfaces), stop)


def _parted(colour: NDArray[np.float32]) -> tuple[NDArray[np.float32], "_Excess"]:
    """A picture without what is much brighter than most of it, and that by itself."""
    light = colour.sum(axis=-1)
    limit = _GLINT * max(float(np.median(light[::4, ::4])), float(light[::4, ::4].mean()) * 0.25, 1e-6)
    bright = light > limit
    if not bright.any():
        return colour, _Excess(bright, colour)
    surfaces = colour.copy()
    surfaces[bright] *= (limit / light[bright])[:, None]
    return surfaces, _Excess(bright, colour - surfaces)


def _laid_down(
    view: View,
    colour: NDArray[np.float32],
    excess: "_Excess",
    blur: NDArray[np.float32],
    hidden: Hidden,
    stop: Callable[[], bool],
) -> NDArray[np.float32]:
    height, width = blur.shape
    radius, number = _sizes(blur * np.float32(0.5))
    hidden_radius, hidden_number = _sizes(hidden.blur * np.float32(0.5))
    behind = hidden.row, hidden.column, hidden_number, hidden_radius, hidden.colour
    row, column = np.nonzero(excess.bright)
    glints = row, column, number[row, column], radius[row, column], excess.light[row, column]
    begins = int(number.min(initial=0))
    layers = int(number.max(initial=0)) - begins + 1

    def put(fills: bool, heads: NDArray[np.int64], made: _Entries) -> None:
        blocks = -(-height // 4)
        whole = number, radius, colour, fills, heads, begins, *made
        in_bands(blocks, lambda band: lay_out(band, *whole), stop)
        lay_out_single(behind, 1.0, height, fills, heads, begins, *made)
        lay_out_single(glints, 0.0, height, fills, heads, begins, *made)

    heads = np.zeros(layers * height, np.int64)
    put(False, heads, _room_for(0))
    starts = np.concatenate([[0], np.cumsum(heads)])
    made = _room_for(int(starts[-1]))
    put(True, starts[:-1].copy(), made)
    sizes = made[1]
    stamp = stamp_of(view.camera.turned_iris, view.camera.squeeze, float(np.abs(sizes).max(initial=1.0)))
    corner = _front_stop(view)
    out, added = np.zeros((height, width, 3), np.float32), np.zeros((height, width, 3), np.float32)
    room = np.ones((height, width), np.float32)
    for layer in range(layers):
        own = starts[layer * height : (layer + 1) * height + 1]
        if own[-1] == own[0]:
            continue
        most = float(np.abs(sizes[own[0] : own[-1]]).max())
        in_bands(
            height,
            lambda rows, s=own, m=most: lay_rows(  # type: ignore[misc]
                rows, s, *made, m, stamp, corner, out, added, room
            ),
            stop,
        )
    in_bands(height, lambda rows: fill_rows(rows, out, added, room), stop)
    return out


def _room_for(count: int) -> _Entries:
    """Columns, radii, light and halves of so many entries."""
    return (
        np.empty(count, np.int32), np.empty(count, np.float32), np.zeros((count, 4), np.float32),
        np.empty(count, np.float32),
    )  # fmt: skip


def _sizes(radius: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.int16]]:
    """Signed radii in the steps that a stamp has, and the layers they belong to."""
    size = np.maximum(np.round(np.abs(radius) * STEPS) / STEPS, LEAST).astype(np.float32)
    return np.copysign(size, radius), layer_of(radius)


def layer_of(radius: NDArray[np.float32]) -> NDArray[np.int16]:
    """Numbers of layers, the nearest first: of signed radii, below 0 for what is nearer than the focus."""
    steps = np.ceil(np.log(np.maximum(np.abs(radius) / _SHARP, 1.0)) / np.log(_STEP))
    return np.asarray(np.where(radius < 0, -steps, steps), np.int16)


def _front_stop(view: View) -> tuple[float, float, float, float]:
    """How a front stop's shadow moves over the pupil: see :func:`lay_rows`."""
    numbers = view.numbers
    if numbers.stop_radius == 0.0 or numbers.pupil <= 0.0:
        return 0.0, 0.0, 0.0, 0.0
    tangent = 2.0 * numbers.half_x / view.width
    axis_x = view.width * 0.5 - numbers.middle_x / tangent - 0.5
    axis_y = view.height * 0.5 + numbers.middle_y / tangent - 0.5
    over = 1.0 / (numbers.pupil * max(1.0 - numbers.stop_distance * numbers.focus, 1e-3))
    return -numbers.stop_distance * tangent * over, axis_x, axis_y, numbers.stop_radius * over
