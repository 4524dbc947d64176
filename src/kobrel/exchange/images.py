"""Pictures as files: PNG for looking, EXR in linear light with depth and blur."""

from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio  # noqa: N813
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.writing.slate import Slate, put_colour, put_common
from kobrel.exchange.writing.whole import whole_file

EXR_CHANNELS = ("R", "G", "B", "Z", "blur")


def write_exr(
    path: Path,
    colour: NDArray[np.float32],
    depth_m: NDArray[np.float32],
    blur_px: NDArray[np.float32],
    slate: Slate | None = None,
) -> None:
    """Write linear colour (H, W, 3), depth along the axis in metres and blur diameter in
    pixels of this picture, both (H, W), as 32-bit floats; in the header what the slate says.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    pixels = np.concatenate([colour, depth_m[..., None], blur_px[..., None]], axis=-1)
    spec = oiio.ImageSpec(colour.shape[1], colour.shape[0], len(EXR_CHANNELS), oiio.FLOAT)
    spec.channelnames = EXR_CHANNELS
    spec["compression"] = "zip"
    put_colour(spec)
    if slate is not None:
        slate.put(spec)
    write_picture(path, spec, pixels)


def write_png(path: Path, pixels: NDArray[np.uint8], note: str = "") -> None:
    """Write sRGB bytes (H, W, 3), with a note in the header.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], 3, oiio.UINT8)
    if note:
        spec.attribute("ImageDescription", note)
    write_picture(path, spec, pixels)


def write_picture(path: Path, spec: oiio.ImageSpec, pixels: NDArray[Any]) -> None:
    """Write pixels (H, W, channels) as the specification says, whole or not at all.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    if path.suffix.lower() == ".exr":
        put_common(spec)
    with whole_file(path) as beside:
        output = oiio.ImageOutput.create(str(beside))
        if output is None:
            raise ExchangeError(f"cannot be written ({oiio.geterror()}).", file=path)
        written = (
            output.open(str(beside), spec)
            and output.write_image(np.ascontiguousarray(pixels))
            and output.close()
        )
        if not written:
            raise ExchangeError(f"cannot be written ({output.geterror()}).", file=path)
