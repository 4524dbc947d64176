"""The blur of a rendered image, with occlusion."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from kobrel.picture.defocus.behind import hidden_behind
from kobrel.picture.defocus.edges import Apart, taken_apart
from kobrel.picture.defocus.scatter import fill_rows, lay_out, lay_out_single, lay_rows, snap_rows
from kobrel.picture.defocus.stamp import LEAST, STEPS, stamp_of
from kobrel.picture.tracer import in_bands, never, signed_blur
from kobrel.picture.view import View

MOST_RADIUS = 512.0
"""The largest radius of a disc, pixels; larger ones are drawn as large as that."""
_MARGIN = 48
"""Pixels that a picture is continued beyond its edges, at most: light comes in from there too."""
_AHEAD = 0.25, np.float32(0.12)
"""Half of what tells two things apart, as a radius: so many pixels, and such a part of the radius."""
_GLINT = 6.0
"""What is so many times as bright as most of the picture is laid down for itself."""
_STEP, _SHARP = 1.3, 0.35
"""Radii of neighbouring layers are so many times as large; near the focus a tenth of a pixel apart."""


_Entries = tuple[NDArray[np.int32], NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]


_Pixels = tuple[
    NDArray[np.int64], NDArray[np.int64], NDArray[np.int16], NDArray[np.float32], NDArray[np.float32],
    NDArray[np.float32],
]  # fmt: skip
"""Row, column, layer, radius, colour and cover of single pixels."""


def defocused(
    view: View,
    colour: NDArray[np.float32],
    depth: NDArray[np.float32],
    stop: Callable[[], bool] = never,
    most_px: float | None = None,
) -> NDArray[np.float32]:
    """A rendered image with the blur that a camera gives it, (H, W, 3) linear.

    Each pixel's light is laid down as the disc that its depth asks for, in the shape of the iris with its
    mask, rim, squeeze and front stop; layer by layer, so that what is nearer hides what is farther.

    Parameters
    ----------
    view : the camera, at the size of the picture; its stage does not count
    colour : (H, W, 3) linear light
    depth : (H, W) metres along the axis, infinite where the frame is empty
    most_px : the largest disc, pixels across; larger ones are cut down to it

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    blur = signed_blur(view, depth)
    limit = MOST_RADIUS * 2.0 if most_px is None else min(most_px, MOST_RADIUS * 2.0)
    blur = np.clip(np.nan_to_num(blur, nan=0.0, posinf=limit, neginf=-limit), -limit, limit)
    margin = int(min(np.ceil(np.abs(blur).max(initial=0.0) / 2.0), _MARGIN))
    blur = np.pad(blur, margin, mode="edge")
    colour = np.pad(colour, ((margin, margin), (margin, margin), (0, 0)), mode="edge")
    snapped = np.empty_like(blur)
    in_bands(len(blur), lambda rows: snap_rows(rows, blur, 2.0, snapped), stop)
    in_bands(len(blur), lambda rows: snap_rows(rows, snapped, 2.0, blur), stop)
    made = _laid_down(view, taken_apart(blur, colour), margin, stop)
    return made[margin : margin + view.height, margin : margin + view.width].copy()


def _limit(colour: NDArray[np.float32]) -> float:
    """Light beyond which a pixel is much brighter than most of a picture."""
    light = colour[::4, ::4].sum(axis=-1)
    return _GLINT * max(float(np.median(light)), float(light.mean()) * 0.25, 1e-6)


def _dimmed(colour: NDArray[np.float32], limit: float) -> tuple[NDArray[np.float32], NDArray[np.bool_]]:
    """Colours, (..., 3), no brighter than a limit, and which ones were."""
    light = colour.sum(axis=-1)
    bright = light > limit
    if not bright.any():
        return colour, bright
    dim = colour.copy()
    dim[bright] *= (limit / light[bright])[:, None]
    return dim, bright


def _singles(apart: Apart, surfaces: NDArray[np.float32], limit: float) -> list[_Pixels]:
    """What is laid down besides the pixels: what is hidden, what is nearer at edges, and glints."""
    hidden = hidden_behind(apart.blur, apart.colour)
    row, column = np.nonzero(apart.colour.sum(axis=-1) > limit)
    excess = (apart.colour - surfaces)[row, column]
    return [
        *_parted(hidden.row, hidden.column, hidden.blur, hidden.colour, np.ones_like(hidden.blur), limit),
        *_parted(apart.row, apart.column, apart.near_blur, apart.near_colour, apart.cover, limit),
        _pixels(row, column, apart.blur[row, column], excess, np.zeros(len(row), np.float32)),
    ]


def _parted(
    row: NDArray[np.int64],
    column: NDArray[np.int64],
    blur: NDArray[np.float32],
    colour: NDArray[np.float32],
    cover: NDArray[np.float32],
    limit: float,
) -> tuple[_Pixels, _Pixels]:
    """Pixels no brighter than a limit, and what they have beyond it."""
    dim, bright = _dimmed(colour, limit)
    k = np.flatnonzero(bright)
    rest = (colour[k] - dim[k]) * cover[k, None]
    return (
        _pixels(row, column, blur, dim * cover[:, None], cover),
        _pixels(row[k], column[k], blur[k], rest, np.zeros(len(k), np.float32)),
    )


def _pixels(
    row: NDArray[np.int64],
    column: NDArray[np.int64],
    blur: NDArray[np.float32],
    colour: NDArray[np.float32],
    cover: NDArray[np.float32],
) -> _Pixels:
    meant = blur * np.float32(0.5)
    radius, number = _sizes(meant)
    # Light that covers nothing is not hidden by its own surface, whose parts lie in layers a little nearer.
    ahead = layer_of(meant - (_AHEAD[0] + _AHEAD[1] * np.abs(meant)))
    number = np.where(cover > 0.0, number, ahead).astype(np.int16)
    return row, column, number, radius, np.ascontiguousarray(colour, np.float32), cover


def _laid_down(view: View, apart: Apart, margin: int, stop: Callable[[], bool]) -> NDArray[np.float32]:
    height, width = apart.blur.shape
    limit = _limit(apart.colour)
    surfaces, _bright = _dimmed(apart.colour, limit)
    radius, number = _sizes(apart.blur * np.float32(0.5))
    singles = _singles(apart, surfaces, limit)
    numbers = [number, *(each[2] for each in singles if len(each[2]))]
    begins = min(int(each.min()) for each in numbers)
    layers = max(int(each.max()) for each in numbers) - begins + 1

    def put(fills: bool, heads: NDArray[np.int64], made: _Entries) -> None:
        whole = number, radius, surfaces, fills, heads, begins, *made
        in_bands(-(-height // 4), lambda band: lay_out(band, *whole), stop)
        for each in singles:
            lay_out_single(each, height, fills, heads, begins, *made)

    heads = np.zeros(layers * height, np.int64)
    put(False, heads, _room_for(0))
    starts = np.concatenate([[0], np.cumsum(heads)])
    made = _room_for(int(starts[-1]))
    put(True, starts[:-1].copy(), made)
    sizes = made[1]
    stamp = stamp_of(view.camera.turned_iris, view.camera.squeeze, float(np.abs(sizes).max(initial=1.0)))
    corner = _front_stop(view, margin)
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
    steps = np.log1p(np.abs(radius) / np.float32(_SHARP)) * np.float32(1.0 / np.log(_STEP))
    return np.rint(np.copysign(steps, radius)).astype(np.int16)


def _front_stop(view: View, margin: int) -> tuple[float, float, float, float]:
    """How a front stop's shadow moves over the pupil, of a picture with a margin: see :func:`lay_rows`."""
    numbers = view.numbers
    if numbers.stop_radius == 0.0 or numbers.pupil <= 0.0:
        return 0.0, 0.0, 0.0, 0.0
    tangent = 2.0 * numbers.half_x / view.width
    axis_x = margin + view.width * 0.5 - numbers.middle_x / tangent - 0.5
    axis_y = margin + view.height * 0.5 + numbers.middle_y / tangent - 0.5
    over = 1.0 / (numbers.pupil * max(1.0 - numbers.stop_distance * numbers.focus, 1e-3))
    return -numbers.stop_distance * tangent * over, axis_x, axis_y, numbers.stop_radius * over
