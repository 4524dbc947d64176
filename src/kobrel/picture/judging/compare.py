"""What two pictures differ in: stops of light, and pixels of blur."""

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import map_coordinates

LUMINANCE = np.array((0.2126, 0.7152, 0.0722), np.float32)
"""Of linear red, green and blue (ITU-R BT.709)."""
_DARKEST = np.float32(2e-3)
"""Light below which differences in stops are not seen on a screen."""
_WARM, _COLD, _ALIKE = np.array((224, 179, 84)), np.array((127, 166, 214)), np.array((27, 27, 27))


def resized(values: NDArray[np.float32], shape: tuple[int, int]) -> NDArray[np.float32]:
    """A picture (H, W) or (H, W, C) at another size, (rows, columns), its pixels joined by straight lines."""
    if values.shape[:2] == shape:
        return values
    rows = (np.arange(shape[0]) + 0.5) * values.shape[0] / shape[0] - 0.5
    columns = (np.arange(shape[1]) + 0.5) * values.shape[1] / shape[1] - 0.5
    at = np.meshgrid(rows, columns, indexing="ij")
    layers = values[..., None] if values.ndim == 2 else values
    made = np.stack(
        [map_coordinates(layers[..., c], at, order=1, mode="nearest") for c in range(layers.shape[2])], -1
    ).astype(np.float32)
    return made[..., 0] if values.ndim == 2 else made


def stops_apart(one: NDArray[np.float32], other: NDArray[np.float32]) -> NDArray[np.float32]:
    """How much brighter the second of two pictures in linear light is, in stops; (H, W) of (H, W, 3) each.

    The second is brought to the size of the first.
    """
    light = [np.maximum(each @ LUMINANCE, 0) + _DARKEST for each in (one, resized(other, one.shape[:2]))]
    result: NDArray[np.float32] = np.log2(light[1] / light[0]).astype(np.float32)
    return result


def blur_apart(one: NDArray[np.float32], other: NDArray[np.float32]) -> NDArray[np.float32]:
    """How much larger the second of two blurs is, in pixels of the first picture; (H, W) each."""
    across = one.shape[1] / other.shape[1]
    return resized(other, one.shape) * np.float32(across) - one


def in_colours(values: NDArray[np.float32], most: float) -> NDArray[np.uint8]:
    """Differences as colours, (H, W, 3) bytes: warm above 0, cold below, full from `most` on."""
    part = np.clip(np.nan_to_num(values / max(most, 1e-9)), -1, 1)[..., None]
    end = np.where(part > 0, _WARM, _COLD)
    result: NDArray[np.uint8] = np.round(_ALIKE + (end - _ALIKE) * np.abs(part)).astype(np.uint8)
    return result
