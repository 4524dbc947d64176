"""From linear light to the screen."""

import numpy as np
from numpy.typing import NDArray


def developed(linear: NDArray[np.float32], exposure_ev: float = 0.0) -> NDArray[np.uint8]:
    """SRGB bytes, (H, W, 3), of a picture in linear light, brightened by stops.

    Steps on a table of 4,096 are finer than sRGB's own for 8 bits but in the deepest
    shadows, where the table is spaced by square roots.
    """
    gain = np.float32(2.0**exposure_ev)
    place = np.sqrt(np.clip(linear * gain, 0.0, 1.0), dtype=np.float32) * np.float32(4095.0)
    return _TABLE[place.astype(np.uint16)]


def srgb(linear: NDArray[np.floating]) -> NDArray[np.floating]:
    """The sRGB curve (IEC 61966-2-1), 0 to 1."""
    return np.where(
        linear <= 0.0031308, linear * 12.92, 1.055 * np.maximum(linear, 1e-12) ** (1 / 2.4) - 0.055
    )


_TABLE = np.round(srgb(((np.arange(4096) + 0.5) / 4096.0) ** 2) * 255.0).astype(np.uint8)
