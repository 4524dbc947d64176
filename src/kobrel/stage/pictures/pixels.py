"""Picture files as plain numbers."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError


def read_pixels(path: Path) -> tuple[NDArray[np.float32], tuple[str, ...]]:
    """Pixels (H, W, channels) as floats, and the channels' names.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    import OpenImageIO as oiio  # noqa: N813

    source = oiio.ImageInput.open(str(path))
    if source is None:
        raise SceneError(f"not a readable picture ({oiio.geterror()}).", file=path)
    spec = source.spec()
    pixels = source.read_image(oiio.FLOAT)
    source.close()
    if pixels is None:
        raise SceneError(
            f"the picture is broken ({source.geterror()}).", file=path, remedy="Export it again."
        )
    return np.asarray(pixels, np.float32), tuple(spec.channelnames)
