"""Finishing for the view alone: glow, and the lens's bending of straight lines."""

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from kobrel.optics.bend import unbent

_WIDTHS = (0.004, 0.016, 0.06)
"""Standard deviations of the glow's three parts, in widths of the picture."""


def glowing(linear: NDArray[np.float32], amount: float) -> NDArray[np.float32]:
    """A picture (H, W, 3) whose light spreads a little: so much of it goes into three wide bells.

    The sum of the light stays, but for what leaves at the edges.
    """
    if amount <= 0.0:
        return linear
    spread = np.zeros_like(linear)
    for width in _WIDTHS:
        sigma = width * linear.shape[1]
        step = max(1, int(sigma / 2))
        small = _reduced(linear, step)
        for c in range(3):
            bell = ndimage.gaussian_filter(small[..., c], sigma / step, mode="constant", truncate=3.0)
            spread[..., c] += _enlarged(bell, linear.shape[0], linear.shape[1], step)
    return linear * np.float32(1 - amount) + spread * np.float32(amount / len(_WIDTHS))


def _reduced(picture: NDArray[np.float32], step: int) -> NDArray[np.float32]:
    tall, wide = (-(-size // step) * step for size in picture.shape[:2])
    padded = np.zeros((tall, wide, 3), np.float32)
    padded[: picture.shape[0], : picture.shape[1]] = picture
    result: NDArray[np.float32] = padded.reshape(tall // step, step, wide // step, step, 3).mean(
        axis=(1, 3), dtype=np.float32
    )
    return result


def _enlarged(picture: NDArray[np.float32], tall: int, wide: int, step: int) -> NDArray[np.float32]:
    if step == 1:
        return picture[:tall, :wide]
    rows = (np.arange(tall) + 0.5) / step - 0.5
    columns = (np.arange(wide) + 0.5) / step - 0.5
    places = np.meshgrid(rows, columns, indexing="ij")
    return np.asarray(ndimage.map_coordinates(picture, places, order=1, mode="nearest"), np.float32)


def bent_picture(linear: NDArray[np.float32], percent: float) -> NDArray[np.float32]:
    """A picture (H, W, 3) with straight lines bent."""
    if percent == 0.0:
        return linear
    tall, wide = linear.shape[:2]
    x, y = np.meshgrid((np.arange(wide) + 0.5) / wide * 2 - 1, (np.arange(tall) + 0.5) / tall * 2 - 1)
    from_x, from_y = unbent(x, y, wide / tall, percent)
    places = np.stack([(from_y + 1) / 2 * tall - 0.5, (from_x + 1) / 2 * wide - 0.5])
    layers = [ndimage.map_coordinates(linear[..., c], places, order=1, mode="nearest") for c in range(3)]
    return np.stack(layers, axis=-1)
