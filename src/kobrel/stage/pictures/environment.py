"""A picture all about the stage, as background and light."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.motion import Array
from kobrel.stage.pictures.colours import to_linear
from kobrel.stage.pictures.pixels import read_pixels

SUFFIXES = (".hdr", ".exr", ".png", ".jpg", ".tif", ".tiff")
_MOST_WIDE = 4096
# Convolution with the cosine for bands 0 to 2, over pi (Ramamoorthi and Hanrahan, "An efficient
# representation for irradiance environment maps", 2001).
_BANDS = np.array([1.0] + [2 / 3] * 3 + [1 / 4] * 5)
_NORMS = np.array(
    [0.282095, 0.488603, 0.488603, 0.488603, 1.092548, 1.092548, 0.315392, 1.092548, 0.546274]
)  # of the real spherical harmonics


@dataclass(frozen=True, eq=False)
class Environment:
    """An equirectangular picture in linear light.

    Parameters
    ----------
    path : the file
    pixels : (H, W, 3) float32, the top row straight up, the middle column along -Z
    harmonics : (9, 3) light falling on a surface for each of 1, y, z, x, xy, yz, 3z² - 1, xz
        and x² - y² of its normal
    """

    path: Path
    pixels: NDArray[np.float32]
    harmonics: Array

    def brightest_deg(self) -> tuple[float, float]:
        """Azimuth and elevation, as of a key light, of the brightest spot a few degrees wide."""
        from scipy import ndimage

        light = self.pixels.sum(axis=-1)
        soft = ndimage.gaussian_filter(light, max(0.5, light.shape[0] / 90), mode=("nearest", "wrap"))
        row, column = np.unravel_index(int(np.argmax(soft)), soft.shape)
        x, y, z = _directions(light.shape)[row, column]
        return float(np.degrees(np.arctan2(x, z))), float(np.degrees(np.arcsin(y)))


def _directions(shape: tuple[int, ...]) -> Array:
    """(H, W, 3) where each pixel of an equirectangular picture lies."""
    height, width = shape[:2]
    down = (np.arange(height) + 0.5) / height * np.pi
    turn = ((np.arange(width) + 0.5) / width - 0.5) * 2 * np.pi
    level = np.sin(down)[:, None]
    return np.stack(
        [
            level * np.sin(turn),
            np.broadcast_to(np.cos(down)[:, None], (height, width)),
            -level * np.cos(turn),
        ],
        axis=-1,
    )


def surround(path: Path, pixels: NDArray[np.float32]) -> Environment:
    """An environment from its pixels, (H, W, 3) linear."""
    step = -(-pixels.shape[1] // _MOST_WIDE)
    pixels = np.ascontiguousarray(pixels[::step, ::step])
    few = -(-pixels.shape[1] // 256)
    small = pixels[::few, ::few]
    x, y, z = np.moveaxis(_directions(small.shape), -1, 0)
    height, width = small.shape[:2]
    area = (
        np.sin((np.arange(height) + 0.5) / height * np.pi)[:, None] * (np.pi / height) * (2 * np.pi / width)
    )
    shapes = np.stack([np.ones_like(x), y, z, x, x * y, y * z, 3 * z * z - 1, x * z, x * x - y * y])
    weights = (_BANDS * _NORMS**2)[:, None, None] * shapes * area
    return Environment(path, pixels, np.asarray(np.einsum("khw,hwc->kc", weights, small), float))


def load_environment(path: Path) -> Environment:
    """Read an equirectangular picture: HDR, EXR, or one for screens, which is taken as sRGB.

    Raises
    ------
    SceneError
        The file is missing, of another kind or broken, or has no colours.
    """
    if path.suffix.lower() not in SUFFIXES:
        raise SceneError("not a picture for light.", file=path, remedy=f"Choose {', '.join(SUFFIXES)}.")
    pixels, names = read_pixels(path, _MOST_WIDE)
    chosen = [names.index(name) for name in "RGB"] if set("RGB") <= set(names) else [0] * 3
    pixels = np.nan_to_num(pixels[..., chosen], nan=0.0, posinf=65504.0, neginf=0.0)
    if path.suffix.lower() not in (".hdr", ".exr"):
        pixels = to_linear(pixels)
    return surround(path, np.maximum(pixels, 0.0).astype(np.float32))
