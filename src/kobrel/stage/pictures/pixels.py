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
from kobrel.files import reason, require_file
from kobrel.memory import require_memory

if TYPE_CHECKING:
    import OpenImageIO as oiio  # noqa: N813

MOST_SIDE, MOST_PIXELS = 65_536, 1 << 28
"""The largest side of a picture that is read, and the most pixels."""
MOST_BYTES, _PER_BYTE = 1 << 30, 16
"""Memory that a picture may take with all its copies, and how much more for each byte of its file: a small
file that unfolds to gigabytes is refused, a large one is what it says."""
_SPARE = 3
"""How many times its own size reading a picture takes."""
_COPIES = 2
_FORMATS = ("PNG", "JPEG", "WEBP", "TIFF", "BMP", "TGA")
_SIGNS = (
    b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff", b"II*\0", b"MM\0*", b"II+\0", b"MM\0+", b"v/1\x01",
    b"#?RADIANCE", b"#?RGBE", b"BM",
)  # fmt: skip
"""How files of pictures begin: PNG, JPEG, TIFF, OpenEXR, Radiance, BMP."""
_STRIP_BYTES = 32 << 20


def open_source(path: Path, config: "oiio.ImageSpec | None" = None) -> "oiio.ImageInput":
    """A picture file that is open; what it is is told by how it begins, whatever it is called.

    Raises
    ------
    SceneError
        It is no picture of the kinds that are meant, or cannot be read.
    """
    import OpenImageIO as oiio  # noqa: N813

    require_file(path, SceneError)
    try:
        with path.open("rb") as file:
            begins = file.read(16)
    except OSError as error:
        raise SceneError(f"cannot be read ({reason(error)}).", file=path) from None
    if not begins.startswith(_SIGNS):
        raise SceneError(
            "not a readable picture.", file=path, remedy="Choose PNG, JPEG, TIFF, OpenEXR or HDR."
        )
    source = oiio.ImageInput.open(str(path)) if config is None else oiio.ImageInput.open(str(path), config)
    if source is None:
        raise SceneError(
            f"not a readable picture ({said(oiio.geterror)}).", file=path, remedy="Export it again."
        )
    return source


def read_pixels(path: Path, most_side: int = 0) -> tuple[NDArray[np.float32], tuple[str, ...]]:
    """Pixels (H, W, channels) as floats, and the channels' names.

    Parameters
    ----------
    most_side : a picture of a longer side is made smaller while it is read: each pixel is the mean of a
        square of as many as are needed; 0 is as large as it is

    Raises
    ------
    SceneError
        The file cannot be read, or is too large.
    """
    source = open_source(path)
    try:
        spec = source.spec()
        require_size(spec.width, spec.height, path)
        if spec.nchannels < 1 or spec.depth > 1:
            raise SceneError("not a flat picture.", file=path, remedy="Choose another picture.")
        by = max(1, -(-max(spec.width, spec.height) // most_side)) if most_side else 1
        smaller = by > 1 and not spec.tile_width
        pixels = _averaged(source, spec, by, path) if smaller else _whole(source, spec, path)
        if pixels is None:
            raise SceneError(
                f"the picture is broken ({said(source.geterror)}).", file=path, remedy="Export it again."
            )
        return pixels, tuple(spec.channelnames)
    except (UnicodeDecodeError, MemoryError) as error:
        raise SceneError(f"the picture is broken ({error}).", file=path, remedy="Export it again.") from None
    finally:
        source.close()


def _whole(source: "oiio.ImageInput", spec: "oiio.ImageSpec", path: Path) -> NDArray[np.float32] | None:
    import OpenImageIO as oiio  # noqa: N813

    require_room(4.0 * spec.width * spec.height * spec.nchannels * _SPARE, path)
    pixels = source.read_image(oiio.FLOAT)
    return None if pixels is None else np.asarray(pixels, np.float32)


def _averaged(
    source: "oiio.ImageInput", spec: "oiio.ImageSpec", by: int, path: Path
) -> NDArray[np.float32] | None:
    """A picture whose pixels are the means of squares; those at its ends may be of fewer pixels."""
    import OpenImageIO as oiio  # noqa: N813

    wide, tall, channels = -(-spec.width // by), -(-spec.height // by), spec.nchannels
    stored = float(spec.image_bytes(True))
    held = stored * _held_whole(source, path)
    require_room(held + 4.0 * wide * tall * channels * _SPARE + 2 * _STRIP_BYTES, path)
    found = np.empty((tall, wide, channels), np.float32)
    starts = np.arange(0, spec.width, by)
    counts = np.diff(np.append(starts, spec.width)).astype(np.float32)[:, None]
    rows = max(1, _STRIP_BYTES // (4 * spec.width * channels * by)) * by
    for top in range(0, spec.height, rows):
        end = min(top + rows, spec.height)
        strip = source.read_scanlines(0, 0, spec.y + top, spec.y + end, 0, 0, channels, oiio.FLOAT)
        if strip is None:
            return None
        lines = np.add.reduceat(np.asarray(strip, np.float32), starts, axis=1) / counts
        firsts = np.arange(0, end - top, by)
        heights = np.diff(np.append(firsts, end - top)).astype(np.float32)[:, None, None]
        means = np.add.reduceat(lines, firsts, axis=0) / heights
        found[top // by : top // by + len(firsts)] = means
    return found


def _held_whole(source: "oiio.ImageInput", path: Path) -> int:
    """How many times a picture's bytes are held while it is read by rows: none, but for files in passes."""
    if source.format_name() == "png":
        with path.open("rb") as file:
            return int(file.read(29)[28:29] != b"\0")  # interlaced
    return 2 if source.format_name() == "jpeg" else 0


def require_room(needed_bytes: float, path: Path | str, size: int | None = None) -> None:
    """See that a picture takes no more memory than it may, and than there is, before it is decoded.

    Parameters
    ----------
    needed_bytes : by all its copies at once
    size : of its file; looked up if None

    Raises
    ------
    SceneError
        It takes more.
    """
    if size is None:
        size = Path(path).stat().st_size
    if needed_bytes > MOST_BYTES + _PER_BYTE * size:
        raise SceneError(
            f"the picture would take {needed_bytes / 2**30:.1f} GB of memory, far more than its file.",
            file=path,
            remedy="Make it smaller.",
        )
    require_memory(needed_bytes, "the picture", path, SceneError)


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
    """A picture of 8 bits, its kind and size checked before it is decoded.

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
            content = io.BytesIO(source) if isinstance(source, bytes) else source
            opened = Image.open(content, formats=_FORMATS)
            require_size(*opened.size, name)
            needed = 4.0 * opened.width * opened.height * _COPIES
            require_room(needed, name, len(source) if isinstance(source, bytes) else None)
            opened.load()
        except SceneError:
            raise
        except Exception as error:  # each of its readers fails in its own way on damaged files
            why = str(error)
            raise SceneError(f"the picture is not readable ({said(lambda: why)}).", file=name) from None
    return opened
