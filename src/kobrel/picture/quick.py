"""Blur from the sharp picture and its depth: one smooth frame while something is dragged.

Each pixel gathers from its neighbours those whose discs reach it, in two layers: what is
at or behind the focus, and what is nearer and spills over it. Wide discs read from smaller
copies of the picture, so the taps' pattern does not show. What is hidden behind edges in
the sharp picture cannot be known here; the exact passes that follow bring it.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from kobrel.compiled import index_of, kernel
from kobrel.optics.aperture import places
from kobrel.picture.tracer import Sharp, in_bands, never, signed_blur
from kobrel.picture.view import View

TAPS = 48
PREVIEW_TAPS = 24
"""For previews; the finer frame follows."""
_SMALL = 4.5
_NOUGHT, _HALF, _ONE = np.float32(0), np.float32(0.5), np.float32(1)
_TILE = 16


@kernel
def _place(x, y, level, width, height):  # type: ignore[no-untyped-def]
    """Index, within one of the halves, of the pixel that covers a place of the full picture."""
    scale = 1.0 / (1 << level)
    return index_of((y + 0.5) * scale, height) * width + index_of((x + 0.5) * scale, width)


@kernel
def _level(spacing, count):  # type: ignore[no-untyped-def]
    """Which half of the picture has pixels about as wide as the taps lie apart."""
    level = 0
    while spacing > 1.4 and level < count - 1:
        spacing *= 0.5
        level += 1
    return level


@kernel
def _gather(first, levels, starts, widths, heights, blur, reach, taps, squeeze, out):  # type: ignore[no-untyped-def]
    """The two layers of half-size pixels, `out` (h, w, 7): what is at or behind the focus,
    blurred over its own disc (0-2), and what is nearer and spills past its edges (3-5, times
    its cover 6). Blur is in half-size pixels.

    A disc behind the focus has the iris's shape upright, so what reaches a pixel comes from
    the opposite places; before the focus the disc itself is turned over.
    """
    height, width = blur.shape
    count = len(taps)
    all_apart = np.sqrt(np.pi / (count * squeeze))
    for y in range(first[0], first[1]):
        for x in range(width):
            at = y * width + x
            here = blur[y, x]
            own = max(abs(here) * 0.5, 0.56)
            step = 2 if own < _SMALL else 1  # small discs do with half the taps
            apart = all_apart * np.sqrt(step)
            start = 1e-3 if here < 0 or own * apart > 1.0 else 1.0
            r, g, b, total = levels[at, 0] * start, levels[at, 1] * start, levels[at, 2] * start, start
            if own > 0.57:
                level = _level(own * apart, len(starts))
                for k in range(0, count, step):
                    sx, sy = x - taps[k, 0] * own, y + taps[k, 1] * own
                    ix = index_of(sx + 0.5, width)
                    iy = index_of(sy + 0.5, height)
                    there = blur[iy, ix]
                    if there < -1.0:
                        continue
                    size = max(abs(there) * 0.5, 0.56)
                    if there > here:
                        size = min(size, own)
                    cover = min(1.0, max(0.0, size - own * taps[k, 2] + 0.5))
                    if cover > 0.0:
                        weight = cover * (own * own) / (size * size)
                        half = min(level, _level(size, 9))
                        from_ = starts[half] + _place(sx, sy, half, widths[half], heights[half])
                        r += weight * levels[from_, 0]
                        g += weight * levels[from_, 1]
                        b += weight * levels[from_, 2]
                        total += weight
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = r / total, g / total, b / total
            r = g = b = total = 0.0
            far = reach[y // _TILE, x // _TILE] * 0.5
            if far > 0.3:
                step = 2 if far < _SMALL else 1
                apart = all_apart * np.sqrt(step)
                level = _level(far * apart, len(starts))
                if here < 0 and own < far * apart:
                    total = min(1.0, own * own / (far * apart) ** 2)
                    r, g, b = levels[at, 0] * total, levels[at, 1] * total, levels[at, 2] * total
                for k in range(0, count, step):
                    sx, sy = x + taps[k, 0] * far, y - taps[k, 1] * far
                    ix = index_of(sx + 0.5, width)
                    iy = index_of(sy + 0.5, height)
                    size = -blur[iy, ix] * 0.5
                    if size < 0.25:
                        continue
                    size = max(size, 0.56)
                    cover = min(1.0, max(0.0, size - far * taps[k, 2] + 0.5))
                    if cover > 0.0:
                        weight = cover * far * far * step / (size * size * count)
                        half = min(level, _level(size, 9))
                        from_ = starts[half] + _place(sx, sy, half, widths[half], heights[half])
                        r += weight * levels[from_, 0]
                        g += weight * levels[from_, 1]
                        b += weight * levels[from_, 2]
                        total += weight
            over = 1.0 / max(1.0, total)
            out[y, x, 3], out[y, x, 4], out[y, x, 5], out[y, x, 6] = (
                r * over,
                g * over,
                b * over,
                total * over,
            )


@kernel
def _join(first, sharp, blur, layers, out):  # type: ignore[no-untyped-def]
    """Full-size pixels: sharp where the blur is below a pixel, else from the half-size layers."""
    width = blur.shape[1]
    lh, lw = layers.shape[0], layers.shape[1]
    for y in range(first[0], first[1]):
        fy = min(max((y + 0.5) * 0.5 - 0.5, 0.0), lh - 1.001)
        iy = int(fy)
        fy -= iy
        ny = min(iy + 1, lh - 1)
        for x in range(width):
            fx = min(max((x + 0.5) * 0.5 - 0.5, 0.0), lw - 1.001)
            ix = int(fx)
            fx -= ix
            nx = min(ix + 1, lw - 1)
            a, b = np.float32((1 - fx) * (1 - fy)), np.float32(fx * (1 - fy))
            c, d = np.float32((1 - fx) * fy), np.float32(fx * fy)
            over = (
                a * layers[iy, ix, 6] + b * layers[iy, nx, 6] + c * layers[ny, ix, 6] + d * layers[ny, nx, 6]
            )
            soft = min(_ONE, max(_NOUGHT, (abs(blur[y, x]) - _ONE) * _HALF))
            for k in range(3):
                value = sharp[y, x, k]
                if soft > _NOUGHT:
                    far = (
                        a * layers[iy, ix, k]
                        + b * layers[iy, nx, k]
                        + c * layers[ny, ix, k]
                        + d * layers[ny, nx, k]
                    )
                    value += (far - value) * soft
                if over > _NOUGHT:
                    j = k + 3
                    near = (
                        a * layers[iy, ix, j]
                        + b * layers[iy, nx, j]
                        + c * layers[ny, ix, j]
                        + d * layers[ny, nx, j]
                    )
                    value = value * (_ONE - over) + near
                out[y, x, k] = value


def blurred(
    view: View, sharp: Sharp, stop: Callable[[], bool] = never, count: int = TAPS
) -> NDArray[np.float32]:
    """The picture with approximate depth of field, (H, W, 3) linear, from so many taps a pixel.

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    blur = signed_blur(view, sharp.depth)
    half_blur = np.ascontiguousarray(blur[::2, ::2]) * np.float32(0.5)
    taps = _taps(view, count)
    levels, starts, widths, heights = sharp.halves
    reach = _reach(np.maximum(-half_blur, 0.0))
    layers = np.empty((*half_blur.shape, 7), np.float32)
    out = np.empty_like(sharp.colour)
    squeeze = view.camera.squeeze
    in_bands(
        half_blur.shape[0],
        lambda rows: _gather(rows, levels, starts, widths, heights, half_blur, reach, taps, squeeze, layers),
        stop,
    )
    in_bands(view.height, lambda rows: _join(rows, sharp.colour, blur, layers, out), stop)
    return out


def _taps(view: View, count: int) -> NDArray[np.float32]:
    """Even places on the iris, (n, 3): x, y, and how far out in terms of the outline, 0 to 1."""
    k: NDArray[np.float64] = np.arange(count, dtype=np.float64)
    around, across = (k * 0.6180339887498949) % 1.0, (k + 0.5) / count
    found, area = places(view.aperture, around, across, view.camera.iris.rim)
    return np.column_stack([found, np.sqrt(area)]).astype(np.float32)


def _reach(blur: NDArray[np.float32]) -> NDArray[np.float32]:
    """For each tile the largest near blur that can reach into it, pixels."""
    height, width = blur.shape
    rows, columns = -(-height // _TILE), -(-width // _TILE)
    padded = np.zeros((rows * _TILE, columns * _TILE), np.float32)
    padded[:height, :width] = blur
    tiles = padded.reshape(rows, _TILE, columns, _TILE).max(axis=(1, 3))
    result: NDArray[np.float32] = tiles.copy()
    # A disc reaches as many tiles as its radius covers: wider rings, fewer discs.
    ring = 1
    while ring <= max(rows, columns):
        wide = np.where(tiles * 0.5 > (ring - 1) * _TILE, tiles, 0)
        if not wide.any():
            break
        result = np.maximum(result, ndimage.maximum_filter(wide, size=2 * ring + 1, mode="constant"))
        ring += 1 if ring < 4 else ring // 2
    return result
