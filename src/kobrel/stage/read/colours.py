"""Colours of files as bytes."""

import numpy as np
from numpy.typing import NDArray


def to_linear(srgb: NDArray[np.floating]) -> NDArray[np.float64]:
    """Linear light of sRGB values, 0 to 1 (IEC 61966-2-1)."""
    values = np.asarray(srgb, float)
    return np.asarray(np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4))


def as_bytes(linear: NDArray[np.floating]) -> NDArray[np.uint8]:
    """SRGB bytes of linear light; what is brighter than white is white (IEC 61966-2-1)."""
    values = np.clip(np.nan_to_num(np.asarray(linear, float)), 0.0, 1.0)
    curved = np.where(values <= 0.0031308, values * 12.92, 1.055 * values ** (1 / 2.4) - 0.055)
    return np.asarray(np.rint(curved * 255.0), np.uint8)
