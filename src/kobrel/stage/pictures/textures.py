"""All textures of a stage in one block of memory that kernels can read."""

from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from kobrel.errors import SceneError
from kobrel.stage.pictures.pixels import open_image
from kobrel.stage.scene import Channel, Texture

MOST_PIXELS_A_SIDE = 4096


class TextureBlock(NamedTuple):
    """`sizes` is (n, 3): first pixel, width, height; `pixels` is (total, 3), 8 bits sRGB."""

    sizes: NDArray[np.int64]
    pixels: NDArray[np.uint8]


def decode(texture: Texture, mode: Literal["RGB", "RGBA"] = "RGB") -> NDArray[np.uint8] | None:
    """(H, W, channels) pixels with the bottom row first, or None where it cannot be read."""
    try:
        if texture.pixels is not None:
            opened = Image.fromarray(texture.pixels)
        else:
            opened = open_image(texture.content or texture.path or b"")
            opened.thumbnail((MOST_PIXELS_A_SIDE, MOST_PIXELS_A_SIDE))
        return np.asarray(opened.convert(mode), np.uint8)[::-1]
    except (SceneError, OSError, ValueError):
        return None


def alpha(texture: Texture, channel: Channel) -> NDArray[np.uint8] | None:
    """(H, W) one channel of a texture, the bottom row first, or None where it cannot be read."""
    pixels = decode(texture, "RGBA")
    return None if pixels is None else np.ascontiguousarray(pixels[..., 3 if channel == "alpha" else 0])


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
