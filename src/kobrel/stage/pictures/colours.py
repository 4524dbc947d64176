"""The sRGB curve and linear light (IEC 61966-2-1)."""

import numpy as np
from numpy.typing import NDArray


def to_linear(srgb: NDArray[np.floating]) -> NDArray[np.floating]:
    """Linear light of sRGB values, as precise as these are."""
    curved = ((np.maximum(srgb, 0.0) + 0.055) / 1.055) ** 2.4
    return np.asarray(np.where(srgb <= 0.04045, srgb / 12.92, curved))


def to_srgb(linear: NDArray[np.floating]) -> NDArray[np.floating]:
    """SRGB values of linear light, as precise as this is."""
    curved = 1.055 * np.maximum(linear, 1e-12) ** (1 / 2.4) - 0.055
    return np.asarray(np.where(linear <= 0.0031308, linear * 12.92, curved))


def as_bytes(linear: NDArray[np.floating]) -> NDArray[np.uint8]:
    """SRGB bytes of linear light; what is brighter than white is white."""
    values = np.clip(np.nan_to_num(np.asarray(linear, float)), 0.0, 1.0)
    return np.asarray(np.rint(to_srgb(values) * 255.0), np.uint8)
