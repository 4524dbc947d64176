"""All textures of a stage in one block of memory that kernels can read."""

import io
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

from kobrel.stage.scene import Texture

MOST_PIXELS_A_SIDE = 4096


class TextureBlock(NamedTuple):
    """`sizes` is (n, 3): first pixel, width, height; `pixels` is (total, 3), 8 bits sRGB."""

    sizes: NDArray[np.int64]
    pixels: NDArray[np.uint8]


def decode(texture: Texture) -> NDArray[np.uint8] | None:
    """(H, W, 3) pixels with the bottom row first, or None where it cannot be read."""
    if texture.pixels is not None:
        return texture.pixels[::-1]
    try:
        opened = Image.open(io.BytesIO(texture.content) if texture.content else texture.path or "")
        opened.thumbnail((MOST_PIXELS_A_SIDE, MOST_PIXELS_A_SIDE))
        return np.asarray(opened.convert("RGB"), np.uint8)[::-1]
    except (OSError, UnidentifiedImageError, ValueError):
        return None


def pack(textures: list[Texture]) -> tuple[TextureBlock, list[str]]:
    """Decode and join textures; one that cannot be read becomes a grey pixel and a warning."""
    sizes, parts, warnings, start = [], [], [], 0
    for texture in textures:
        pixels = decode(texture)
        if pixels is None:
            warnings.append(f"{texture.name}: texture not readable; drawn grey.")
            pixels = np.full((1, 1, 3), 188, np.uint8)
        height, width = pixels.shape[:2]
        sizes.append((start, width, height))
        parts.append(pixels.reshape(-1, 3))
        start += width * height
    block = TextureBlock(
        np.asarray(sizes, np.int64).reshape(-1, 3),
        np.concatenate(parts) if parts else np.zeros((1, 3), np.uint8),
    )
    return block, warnings
