"""OpenRaster, an open format of layered pictures: a zip with a list of layers and a PNG for each.

Source: the OpenRaster baseline specification of freedesktop.org.
"""

import io
import xml.etree.ElementTree as ET
import zipfile
import zlib
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from kobrel.errors import SceneError
from kobrel.stage.pictures.pixels import open_image, placed, require_room, require_size

ENDING = ".ora"
_MOST_LIST, _MOST_LAYER, _MOST_LAYERS = 4 << 20, 1 << 30, 500
_FAULTS = (
    KeyError, zipfile.BadZipFile, RuntimeError, EOFError, OSError, ValueError, NotImplementedError,
    zlib.error,
)  # fmt: skip
_DOCTYPE = b"<!DOCTYPE"


@dataclass(frozen=True)
class Layer:
    """A layer as the list has it: its name, its picture's place in the file, where its corner lies in pixels,
    its opacity, and whether it is plainly drawn over those below.
    """

    name: str
    source: str
    x: int
    y: int
    opacity: float
    plain: bool


def size_of(path: Path) -> tuple[int, int]:
    """Width and height of the whole picture.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    with _opened(path) as archive:
        return _size(_root(archive, path), path)


def layers_of(path: Path) -> list[Layer]:
    """The layers of a file, the farthest first, groups opened up; those that are hidden are left out.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    with _opened(path) as archive:
        return _layers(_root(archive, path), path)


def told_of(path: Path) -> tuple[str, ...]:
    """What of a file is not kept, in sentences.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    with _opened(path) as archive:
        root = _root(archive, path)
        hidden = sum(each.get("visibility") == "hidden" for each in root.iter("layer"))
        other = [layer.name for layer in _layers(root, path) if not layer.plain]
    told = [f"{path.name}: {hidden} hidden layers are skipped."] if hidden else []
    if other:
        told.append(
            f"{path.name}: the blend modes of {', '.join(other[:4])} are not supported; normal is used."
        )
    return tuple(told)


def read_layer(path: Path, name: str) -> NDArray[np.uint8]:
    """A layer on the whole picture's area, (H, W, 4) sRGB with straight alpha; without a name the first.

    Raises
    ------
    SceneError
        The file cannot be read, or has no such layer.
    """
    with _opened(path) as archive:
        root = _root(archive, path)
        width, height = _size(root, path)
        found = [layer for layer in _layers(root, path) if not name or layer.name == name]
        if not found:
            raise SceneError(f"it has no layer {name}.", file=path, remedy="Choose one of its layers.")
        layer = found[0]
        try:
            info = archive.getinfo(layer.source)
            if info.file_size > _MOST_LAYER:
                raise SceneError(f"layer {layer.name} is too large.", file=path, remedy="Make it smaller.")
            content = archive.read(info)
        except _FAULTS:
            raise SceneError(
                f"the picture of layer {layer.name} is missing or broken.", file=path, remedy="Save it again."
            ) from None
        try:
            own = np.asarray(open_image(content).convert("RGBA"), np.uint8)
        except SceneError as error:
            raise SceneError(error.what, file=path, place=f"layer {layer.name}") from None
    require_room(8.0 * width * height, path)
    out = placed(own, layer.x, layer.y, width, height)
    if layer.opacity < 1.0:
        out[..., 3] = np.round(out[..., 3] * layer.opacity)
    return out


def layered_bytes(layers: list[tuple[str, NDArray[np.uint8]]], merged: NDArray[np.uint8]) -> bytes:
    """A file of layers, the farthest first.

    Parameters
    ----------
    layers : names, and (H, W, 4) sRGB with straight alpha
    merged : (H, W, 4) all of them together
    """
    height, width = merged.shape[:2]
    root = ET.Element("image", {"version": "0.0.3", "w": str(width), "h": str(height)})
    stack = ET.SubElement(root, "stack")
    room = io.BytesIO()
    with zipfile.ZipFile(room, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(_info("mimetype"), "image/openraster")
        for number, (name, pixels) in enumerate(reversed(layers)):
            source = f"data/layer{number:03d}.png"
            archive.writestr(_info(source), _png(pixels))
            ET.SubElement(
                stack, "layer",
                {"name": name, "src": source, "x": "0", "y": "0", "opacity": "1.0", "visibility": "visible",
                 "composite-op": "svg:src-over"},
            )  # fmt: skip
        text = ET.tostring(root, encoding="UTF-8", xml_declaration=True)
        archive.writestr(_info("stack.xml"), text)
        archive.writestr(_info("mergedimage.png"), _png(merged))
        small = Image.fromarray(merged)
        small.thumbnail((256, 256))
        archive.writestr(_info("Thumbnails/thumbnail.png"), _png(np.asarray(small)))
    return room.getvalue()


def _info(name: str) -> zipfile.ZipInfo:
    """An entry without a date, so that the same layers make the same file."""
    return zipfile.ZipInfo(name)


def _png(pixels: NDArray[np.uint8]) -> bytes:
    room = io.BytesIO()
    Image.fromarray(pixels).save(room, "PNG", compress_level=7)
    return room.getvalue()


def _opened(path: Path) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(path)
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError):
        raise SceneError(
            "not an OpenRaster file (not a zip archive).", file=path, remedy="Save it again."
        ) from None


def _root(archive: zipfile.ZipFile, path: Path) -> ET.Element:
    try:
        info = archive.getinfo("stack.xml")
        if info.file_size > _MOST_LIST:
            raise ValueError
        text = archive.read(info)
        if _DOCTYPE in text:  # entities can grow without bounds
            raise ValueError
        return ET.fromstring(text)
    except (*_FAULTS, ET.ParseError):
        raise SceneError(
            "its list of layers is missing or broken.", file=path, remedy="Save it again."
        ) from None


def _size(root: ET.Element, path: Path) -> tuple[int, int]:
    width, height = (_whole(root.get(name)) for name in ("w", "h"))
    require_size(width, height, path)
    return width, height


def _layers(root: ET.Element, path: Path) -> list[Layer]:
    found: list[Layer] = []
    waiting = [(root, 0, 0, 1.0, True)]
    while waiting:
        group, x, y, opacity, shown = waiting.pop()
        for child in group:
            if child.tag not in ("stack", "layer"):
                continue
            own_x, own_y = x + _whole(child.get("x")), y + _whole(child.get("y"))
            own = opacity * min(max(_number(child.get("opacity")), 0.0), 1.0)
            seen = shown and child.get("visibility", "visible") != "hidden"
            if child.tag == "stack":
                waiting.append((child, own_x, own_y, own, seen))
            elif seen and len(found) < _MOST_LAYERS:
                plain = child.get("composite-op", "svg:src-over") == "svg:src-over"
                name = _unused(child.get("name") or "Layer", {layer.name for layer in found})
                found.append(Layer(name, child.get("src") or "", own_x, own_y, own, plain))
    if not found:
        raise SceneError("it has no layer that is shown.", file=path, remedy="Show one, and save it again.")
    return found[::-1]


def _unused(name: str, taken: set[str]) -> str:
    number, found = 2, name
    while found in taken:
        found, number = f"{name} {number}", number + 1
    return found


def _whole(text: str | None) -> int:
    return int(_number(text, 0.0))


def _number(text: str | None, otherwise: float = 1.0) -> float:
    try:
        value = float(text) if text is not None else otherwise
    except ValueError:
        return otherwise
    return value if abs(value) < 1e7 else otherwise
