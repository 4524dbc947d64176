"""Pixels as pictures of Qt."""

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QImage


def to_image(pixels: NDArray[np.uint8]) -> QImage:
    """(H, W, 3) bytes as an image of its own."""
    height, width = pixels.shape[:2]
    whole = np.ascontiguousarray(pixels)
    return QImage(whole.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
