"""Masks of the plan as pictures: read from files, or drawn."""

import io
import re
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache, partial
from importlib.resources import as_file, files
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel import trust
from kobrel.errors import KobrelError, OpticsError
from kobrel.optics.aperture import SIDE
from kobrel.optics.iris import Iris, Mask
from kobrel.optics.lens import Numbers
from kobrel.plan.iris import IrisShape, MaskPicture, Stencil
from kobrel.plan.model import Plan
from kobrel.stage.pictures.pixels import read_pixels

_SAVED_SIDE, _MOST_READ = 1024, 4 * SIDE
_MOST_SQUARE = 8192
_MOST_NAME = 80
_FILE_NAME = re.compile(r"[^\w-]")


def iris_of(shape: IrisShape) -> Iris:
    """The iris of a shape; without its mask where that cannot be had, see :func:`mask_fault`."""
    plain = Iris(shape.blades, shape.roundness, shape.rotation_deg, shape.rim)
    try:
        return replace(plain, mask=mask_of(shape))
    except KobrelError:
        return plain


def mask_fault(shape: IrisShape) -> str:
    """What keeps the mask of a shape from being used, or nothing."""
    try:
        mask_of(shape)
    except KobrelError as error:
        return str(error)
    return ""


def mask_of(shape: IrisShape) -> Mask | None:
    """The mask of a shape.

    Raises
    ------
    KobrelError
        Its picture cannot be read, or nothing of it passes light.
    """
    if shape.mask is None:
        return None
    return _drawn(shape.mask) if isinstance(shape.mask, Stencil) else _read_if_new(shape.mask)


def _read_if_new(mask: MaskPicture) -> Mask:
    path = Path(mask.path)
    if not trust.is_allowed(path):
        raise OpticsError(trust.refusal(path), file=path)
    try:
        state = path.stat()
    except (OSError, ValueError):
        raise OpticsError("the mask is missing.", file=path, remedy="Choose the image again.") from None
    return read_mask(path, state.st_mtime_ns, state.st_size)


@lru_cache(maxsize=8)
def read_mask(path: Path, changed: int = 0, size: int = 0) -> Mask:
    """Read a mask: the mean of a picture's colours, with its alpha, in a square.

    `changed` and `size` tell one state of the file from another.

    Raises
    ------
    KobrelError
        It cannot be read, or it is black.
    """
    pixels, channels = read_pixels(path, _MOST_READ)
    names = [name.rsplit(".", 1)[-1].lower() for name in channels]
    colours = [i for i, name in enumerate(names) if name in ("r", "g", "b", "y")] or [0]
    grey = pixels[..., colours].mean(axis=-1)
    if "a" in names:
        grey = np.minimum(grey, pixels[..., names.index("a")])  # colours come with alpha in them
    grey = np.clip(np.nan_to_num(grey), 0.0, 1.0)
    try:
        return Mask(_square(grey))
    except OpticsError as error:
        raise OpticsError(f"{error} Choose another image.", file=path) from None


def _square(grey: NDArray[np.float32]) -> NDArray[np.float32]:
    """A picture in the middle of a black square, at the size that the openings have."""
    tall, wide = grey.shape
    side = max(tall, wide)
    if side > _MOST_SQUARE:  # a picture as narrow as a thread would take the memory of its square
        part = _MOST_SQUARE / side
        grey = _resized(grey, max(1, round(wide * part)), max(1, round(tall * part)))
        tall, wide = grey.shape
        side = max(tall, wide)
    whole = np.zeros((side, side), np.float32)
    top, left = (side - tall) // 2, (side - wide) // 2
    whole[top : top + tall, left : left + wide] = grey
    return whole if side == SIDE else _resized(whole, SIDE, SIDE)


def _resized(grey: NDArray[np.float32], wide: int, tall: int) -> NDArray[np.float32]:
    from PIL import Image

    how = Image.Resampling.BOX if wide < grey.shape[1] else Image.Resampling.BILINEAR
    return np.asarray(Image.fromarray(grey).resize((wide, tall), how), np.float32)


@lru_cache(maxsize=8)
def _drawn(mask: Stencil) -> Mask:
    return Mask(draw(mask))


def draw(mask: Stencil, side: int = SIDE) -> NDArray[np.float32]:
    """A drawn mask, (side, side), see :mod:`kobrel.optics.stencil`.

    Raises
    ------
    OpticsError
        Its text has nothing to see.
    """
    from kobrel.optics import stencil

    picture = stencil.softened(_outlined(mask, side), mask.soft)
    if mask.rim > 0:
        picture = stencil.bright_rim(picture, mask.rim)
    for amount, spoil in (
        (mask.dust, stencil.dust), (mask.hairs, stencil.hairs), (mask.scratches, stencil.scratches),
        (mask.smudges, stencil.smudges), (mask.onion, stencil.onion_rings),
    ):  # fmt: skip
        if amount > 0:
            picture = picture * spoil(side, amount, mask.seed)
    return picture


def masks_beside(plan: Plan, path: Path) -> dict[Path, Stencil]:
    """Where the drawn masks of a plan's shots are kept as pictures: beside its file."""
    return {
        path.with_name(
            f"{path.stem[:_MOST_NAME]}.mask-{_FILE_NAME.sub('_', shot.name)[:_MOST_NAME]}.png"
        ): shot.iris.mask
        for shot in plan.shots
        if isinstance(shot.iris.mask, Stencil)
    }


def as_png(mask: Stencil) -> bytes:
    """A drawn mask as a greyscale PNG.

    Raises
    ------
    OpticsError
        As :func:`draw`.
    """
    from PIL import Image

    made = io.BytesIO()
    Image.fromarray(np.round(draw(mask, _SAVED_SIDE) * 255).astype(np.uint8)).save(made, "PNG")
    return made.getvalue()


def _outlined(mask: Stencil, side: int) -> NDArray[np.float32]:
    from kobrel.optics import stencil

    if mask.outline == "open":
        return np.ones((side, side), np.float32)
    if mask.outline == "ring":
        return stencil.ring(mask.inner, mask.size, side)
    if mask.outline == "text":
        with as_file(files("kobrel") / "data" / "fonts" / "B612-Bold.otf") as font:
            return stencil.glyph(mask.text, font, mask.turn_deg, mask.size, side)
    return stencil.filled(corners(mask), side)


def corners(mask: Stencil) -> Numbers:
    """The outline of a drawn mask, (n, 2), if it is made of corners."""
    from kobrel.optics import stencil

    make: dict[str, Callable[[], Numbers]] = {
        "blades": partial(stencil.regular, mask.count), "star": partial(stencil.star, mask.count, mask.inner),
        "heart": stencil.heart, "slot": partial(stencil.slot, mask.inner),
        "polygon": lambda: np.asarray(mask.points, float),
    }  # fmt: skip
    points = make[mask.outline]()
    bent = points if mask.outline == "heart" else stencil.rounded(points, mask.roundness)
    return stencil.turned(bent, mask.turn_deg, mask.size)
