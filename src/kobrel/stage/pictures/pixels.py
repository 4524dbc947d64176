"""Picture files as plain numbers, read only within bounds."""

import io
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from kobrel.errors import SceneError
from kobrel.files import require_file
from kobrel.memory import require_memory

if TYPE_CHECKING:
    import OpenImageIO as oiio  # noqa: N813

MOST_SIDE, MOST_PIXELS = 65_536, 1 << 28
"""The largest side of a picture that is read, and the most pixels."""
_SPARE = 3
"""How many times its own size reading a picture takes."""


def read_pixels(path: Path) -> tuple[NDArray[np.float32], tuple[str, ...]]:
    """Pixels (H, W, channels) as floats, and the channels' names.

    Raises
    ------
    SceneError
        The file cannot be read, or is too large.
    """
    import OpenImageIO as oiio  # noqa: N813

    require_file(path, SceneError)
    source = oiio.ImageInput.open(str(path))
    if source is None:
        raise SceneError(f"not a readable picture ({said(oiio.geterror)}).", file=path)
    try:
        spec = source.spec()
        require_size(spec.width, spec.height, path)
        if spec.nchannels < 1 or spec.depth > 1:
            raise SceneError("this is no flat picture.", file=path, remedy="Choose another picture.")
        needed = 4.0 * spec.width * spec.height * spec.nchannels * _SPARE
        require_memory(needed, "the picture", path, SceneError)
        pixels = source.read_image(oiio.FLOAT)
        if pixels is None:
            raise SceneError(
                f"the picture is broken ({said(source.geterror)}).", file=path, remedy="Export it again."
            )
        return np.asarray(pixels, np.float32), tuple(spec.channelnames)
    except (UnicodeDecodeError, MemoryError) as error:
        raise SceneError(f"the picture is broken ({error}).", file=path, remedy="Export it again.") from None
    finally:
        source.close()


def shown(pixels: NDArray[Any], spec: "oiio.ImageSpec") -> NDArray[Any]:
    """What of a file's pixels (H, W, C) lies within the window that is shown; 0 where it has none."""
    if (spec.x, spec.y, spec.width, spec.height) == (
        spec.full_x, spec.full_y, spec.full_width, spec.full_height,
    ):  # fmt: skip
        return pixels
    return placed(pixels, spec.x - spec.full_x, spec.y - spec.full_y, spec.full_width, spec.full_height)


def placed(pixels: NDArray[Any], left: int, top: int, width: int, height: int) -> NDArray[Any]:
    """Pixels (H, W, C) with their corner at a place of an area (height, width, C), which is 0 elsewhere."""
    out = np.zeros((height, width, pixels.shape[2]), pixels.dtype)
    x0, y0 = max(left, 0), max(top, 0)
    x1, y1 = min(left + pixels.shape[1], width), min(top + pixels.shape[0], height)
    if x1 > x0 and y1 > y0:
        out[y0:y1, x0:x1] = pixels[y0 - top : y1 - top, x0 - left : x1 - left]
    return out


def said(tell: Callable[[], str]) -> str:
    """A library's reason in one line; some name what stands in a file, which may be no text."""
    try:
        text = tell()
    except UnicodeDecodeError:
        text = ""
    return " ".join(text.split())[:200].rstrip(".") or "damaged"


def require_size(width: int, height: int, path: Path | str) -> None:
    """See that a picture is not larger than what is read.

    Raises
    ------
    SceneError
        It is, or it is empty.
    """
    if not (1 <= width <= MOST_SIDE and 1 <= height <= MOST_SIDE and width * height <= MOST_PIXELS):
        raise SceneError(
            f"the picture is {width} x {height}; up to {MOST_SIDE} a side and {MOST_PIXELS >> 20} million "
            "pixels are read.",
            file=path,
            remedy="Make it smaller.",
        )


def open_image(source: Path | bytes) -> Image.Image:
    """A picture of 8 bits, its size checked before it is decoded.

    Raises
    ------
    SceneError
        It cannot be read, or is too large.
    """
    name = source if isinstance(source, Path) else ""
    if isinstance(source, Path):
        require_file(source, SceneError)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of bombs, which are refused here, and of odd headers
        Image.MAX_IMAGE_PIXELS = None
        try:
            opened = Image.open(io.BytesIO(source) if isinstance(source, bytes) else source)
            require_size(*opened.size, name)
            require_memory(4.0 * opened.width * opened.height * _SPARE, "the picture", name, SceneError)
            opened.load()
        except SceneError:
            raise
        except Exception as error:  # each of its readers fails in its own way on damaged files
            why = str(error)
            raise SceneError(f"the picture is not readable ({said(lambda: why)}).", file=name) from None
    return opened
