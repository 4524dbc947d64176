"""Still pictures for plates, with straight alpha: the whole of a file, a page, a part or a layer."""

import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel import trust
from kobrel.errors import SceneError
from kobrel.files import require_file
from kobrel.stage.pictures.colours import to_linear
from kobrel.stage.pictures.pixels import open_source, require_room, require_size, said, shown
from kobrel.stage.plates import PlatePixels
from kobrel.stage.read.plates import layered

ENDINGS = (".png", ".tif", ".tiff", ".jpg", ".jpeg", ".exr", ".hdr", layered.ENDING)
_PAGE = "page {}"
_LINEAR_ENDINGS = (".exr", ".hdr")
_MOST_HALF = 65504.0


@dataclass(frozen=True, eq=False)
class ReadPlate:
    """What was read: pixels, and what was left out or assumed, in sentences."""

    pixels: PlatePixels
    told: tuple[str, ...] = ()


def layers_of(path: Path) -> list[str]:
    """Names of the layers, pages or parts of a file, the farthest first; one empty name for a plain picture.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    _require_readable(path)
    if path.suffix.lower() == layered.ENDING:
        return [layer.name for layer in layered.layers_of(path)]
    source = _opened(path)
    try:
        names = []
        number = 0
        while source.seek_subimage(number, 0):
            names.append(_names_in(source.spec(), number))
            number += 1
    finally:
        source.close()
    if path.suffix.lower() not in _LINEAR_ENDINGS:
        return [""] if len(names) == 1 else [_PAGE.format(k + 1) for k in range(len(names))]
    found = list(dict.fromkeys(name for part in names for name in part))
    return found or [""]


def read_still(path: Path, layer: str = "") -> ReadPlate:
    """Read a picture, or one of :func:`layers_of`.

    Raises
    ------
    SceneError
        The file cannot be read, is too large, or has no such layer.
    """
    _require_readable(path)
    if path.suffix.lower() == layered.ENDING:
        return ReadPlate(PlatePixels(layered.read_layer(path, layer)), layered.told_of(path))
    source = _opened(path)
    try:
        return _read(source, path, layer)
    except (UnicodeDecodeError, MemoryError) as error:
        raise SceneError(f"the picture is broken ({error}).", file=path, remedy="Export it again.") from None
    finally:
        source.close()


def size_of(path: Path, layer: str = "") -> tuple[int, int]:
    """Width and height of a picture as it is shown, without reading its pixels.

    Raises
    ------
    SceneError
        As :func:`read_still`.
    """
    _require_readable(path)
    if path.suffix.lower() == layered.ENDING:
        return layered.size_of(path)
    source = _opened(path)
    try:
        _, spec = _found(source, path, layer)
        turned = spec.get_int_attribute("Orientation", 1) >= 5
        size = spec.full_width, spec.full_height
        return (size[1], size[0]) if turned else size
    finally:
        source.close()


def _require_readable(path: Path) -> None:
    if not trust.is_allowed(path):
        raise SceneError(trust.refusal(path), file=path)
    require_file(path, SceneError)
    if path.suffix.lower() not in ENDINGS:
        raise SceneError("not a picture that a plate can show.", file=path,
                         remedy=f"Choose one that ends in {', '.join(ENDINGS)}.")  # fmt: skip


def _opened(path: Path) -> Any:
    import OpenImageIO as oiio  # noqa: N813

    wanted = oiio.ImageSpec()
    wanted["oiio:UnassociatedAlpha"] = 1  # as the file has it: multiplied here, where that is needed
    source = open_source(path, wanted)
    spec = source.spec()
    try:
        require_size(spec.width, spec.height, path)
    except SceneError:
        source.close()
        raise
    return source


def _names_in(spec: Any, number: int) -> list[str]:
    """Layers with colours that a part of an EXR has."""
    part = str(spec.getattribute("name") or "") if number or spec.getattribute("name") else ""
    names = list(spec.channelnames)
    layers = dict.fromkeys(name.rpartition(".")[0] for name in names if _is_colour(name))
    return [_joined(part, layer) for layer in layers]


def _joined(part: str, layer: str) -> str:
    if not part or part == layer or layer.startswith(f"{part}."):
        return layer
    return f"{part}.{layer}" if layer else part


def _is_colour(name: str) -> bool:
    return name.rpartition(".")[2].upper() in ("R", "Y", "RED")


def _found(source: Any, path: Path, layer: str) -> tuple[int, Any]:
    """The part of a file that has a layer, and its specification."""
    page = re.fullmatch(r"page (\d+)", layer)
    number = 0
    while source.seek_subimage(number, 0):
        spec = source.spec()
        wanted = not layer or (int(page[1]) == number + 1 if page else layer in _names_in(spec, number))
        if wanted:
            return number, spec
        number += 1
    raise SceneError(f"it has no layer {layer}.", file=path, remedy="Choose one of its layers.")


def _read(source: Any, path: Path, layer: str) -> ReadPlate:
    import OpenImageIO as oiio  # noqa: N813

    number, spec = _found(source, path, layer)
    told: list[str] = []
    if spec.deep or spec.depth > 1:
        raise SceneError("not a flat picture.", file=path, remedy="Write it flat, one colour a pixel.")
    require_size(spec.width, spec.height, path)
    require_size(spec.full_width, spec.full_height, path)
    bytes_each = spec.format == oiio.TypeDesc("uint8")
    bytes_a_pixel = spec.nchannels + 5 if bytes_each else 4 * spec.nchannels + 8
    require_room(float(spec.full_width) * spec.full_height * bytes_a_pixel, path)
    require_room(float(spec.width) * spec.height * bytes_a_pixel, path)
    pixels = source.read_image(number, 0, 0, spec.nchannels, oiio.UINT8 if bytes_each else oiio.FLOAT)
    if pixels is None:
        raise SceneError(
            f"the picture is broken ({said(source.geterror)}).", file=path, remedy="Export it again."
        )
    part = str(spec.getattribute("name") or "")
    values = shown(_channels(np.asarray(pixels), list(spec.channelnames), part, layer), spec)
    profile = str(spec.getattribute("ICCProfile:profile_description") or "")
    if profile and "srgb" not in profile.lower():
        told.append(f"{path.name} has the colour profile {profile}; its colours are taken as sRGB.")
    linear = (
        path.suffix.lower() in _LINEAR_ENDINGS or "lin" in str(spec.getattribute("oiio:ColorSpace")).lower()
    )
    multiplied = path.suffix.lower() == ".exr" or (
        path.suffix.lower() in (".tif", ".tiff") and not spec.get_int_attribute("oiio:UnassociatedAlpha", 0)
    )
    values = _turned(values, spec.get_int_attribute("Orientation", 1))
    if values.dtype == np.uint8 and not linear:
        if multiplied:
            values = _straight_bytes(values)
        return ReadPlate(PlatePixels(np.ascontiguousarray(values)), tuple(told))
    whole = values.astype(np.float32) / 255.0 if values.dtype == np.uint8 else values
    if not np.isfinite(whole).all():
        told.append(f"{path.name} has pixels that are no number; they are black.")
        whole = np.nan_to_num(whole, nan=0.0, posinf=_MOST_HALF, neginf=0.0)
    return ReadPlate(PlatePixels(halves_of(whole, multiplied, linear)), tuple(told))


def _channels(pixels: NDArray[Any], names: list[str], part: str, layer: str) -> NDArray[Any]:
    """(H, W, 4) of the channels that are wanted: R, G, B and A, or grey."""
    pixels = pixels.reshape(*pixels.shape[:2], -1)

    def at(*wanted: str) -> int | None:
        for k, name in enumerate(names):
            before, _, last = name.rpartition(".")
            if last.upper() in wanted and (
                not layer or _joined(part, before) == layer or layer[:5] == "page "
            ):
                return k
        return None

    opaque = 255 if pixels.dtype == np.uint8 else 1.0
    out = np.full((*pixels.shape[:2], 4), opaque, pixels.dtype)
    red, green, blue = at("R", "RED"), at("G", "GREEN"), at("B", "BLUE")
    if red is None or green is None or blue is None:
        grey = at("Y", "L", "I")
        red = green = blue = 0 if grey is None else grey
    for k, channel in enumerate((red, green, blue)):
        out[..., k] = pixels[..., channel]
    alpha = at("A", "ALPHA")
    if alpha is not None:
        out[..., 3] = pixels[..., alpha]
    return out


_FLIPS: dict[int, Callable[[NDArray[Any]], NDArray[Any]]] = {
    2: lambda p: p[:, ::-1], 3: lambda p: p[::-1, ::-1], 4: lambda p: p[::-1],
    5: lambda p: np.swapaxes(p, 0, 1), 6: lambda p: np.rot90(p, -1),
    7: lambda p: np.swapaxes(p[::-1, ::-1], 0, 1), 8: np.rot90,
}  # fmt: skip


def _turned(values: NDArray[Any], orientation: int) -> NDArray[Any]:
    """A photograph as it was taken, by its EXIF orientation."""
    flip = _FLIPS.get(orientation)
    return values if flip is None else flip(values)


def _straight_bytes(values: NDArray[np.uint8]) -> NDArray[np.uint8]:
    alpha = values[..., 3:].astype(np.float32)
    colour = np.where(alpha > 0, values[..., :3] * 255.0 / np.maximum(alpha, 1.0), 0.0)
    return np.concatenate([np.clip(np.round(colour), 0, 255).astype(np.uint8), values[..., 3:]], axis=2)


def halves_of(values: NDArray[np.float32], multiplied: bool, linear: bool) -> NDArray[np.float16]:
    """(H, W, 4) floats as halves in linear light with straight alpha.

    Parameters
    ----------
    multiplied : whether the colours are multiplied by alpha
    linear : whether they are linear, instead of sRGB
    """
    alpha = np.clip(values[..., 3:], 0.0, 1.0)
    colour = values[..., :3]
    if multiplied:
        colour = np.where(alpha > 0, colour / np.maximum(alpha, 1e-6), 0.0)
    if not linear:
        colour = to_linear(colour)
    return np.concatenate([np.clip(colour, 0.0, _MOST_HALF), alpha], axis=2).astype(np.float16)
