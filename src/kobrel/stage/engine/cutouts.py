"""Surfaces that rays pass through: leaves, fences, flat people, glass.

Embree asks a filter, compiled here, about each hit on such a surface, so that every ray sees the
same holes: those of the picture, of shadows, of probes and of small lights.
"""

from functools import cache
from typing import Any

import numpy as np
from numba import carray, types
from numpy.typing import NDArray

from kobrel.compiled import callback, index_of, kernel
from kobrel.stage.engine.plate_pixels import plate_alpha, pointer
from kobrel.stage.engine.random import layer_chance, mixed
from kobrel.stage.pictures.textures import alpha
from kobrel.stage.plates import PlatePixels
from kobrel.stage.scene import Material, Mesh

_AN_OPAQUE = (1.0, 0.0)
_SEEN = 0.2
"""Opacity from which a click meets a surface."""


@kernel
def _opacity(pixels, width, height, u, v):  # type: ignore[no-untyped-def]
    """A repeating picture of bytes between its four nearest pixels, 0 to 1."""
    x, y = (u - np.floor(u)) * width - 0.5, (v - np.floor(v)) * height - 0.5
    x0, y0 = index_of(x + 1.0, width + 1) - 1, index_of(y + 1.0, height + 1) - 1
    fx, fy = x - x0, y - y0
    x1, y1 = (x0 + 1) % width, (y0 + 1) % height
    x0, y0 = x0 % width, y0 % height
    low = pixels[y0 * width + x0] * (1.0 - fx) + pixels[y0 * width + x1] * fx
    high = pixels[y1 * width + x0] * (1.0 - fx) + pixels[y1 * width + x1] * fx
    return (low * (1.0 - fy) + high * fy) / 255.0


@kernel
def _lets_through(table, triangle, u, v, a, b, c, time, layer):  # type: ignore[no-untyped-def]
    """Whether a ray passes a place on a triangle; `a` to `c` are what its chance grows from, unless its
    `time` tells of a pass, see :func:`kobrel.stage.engine.random.pass_code`. A time above 0 is that of a ray
    that a click means: it is stopped by all that can well be seen.
    """
    count = table[2]
    slot = np.int64(0)
    if table[1] != 0:
        slot = np.int64(carray(pointer(table[1]), table[3], np.uint8)[triangle])
    slot = min(slot, np.int64(count) - 1)
    parts = carray(pointer(table[4]), (np.int64(count), 2), np.float64)
    opacity, cutoff = parts[slot, 0], parts[slot, 1]
    address, width, height = table[5 + 7 * slot], np.int64(table[6 + 7 * slot]), np.int64(table[7 + 7 * slot])
    if address != 0 and table[0] != 0:
        corners = carray(pointer(table[0]), (np.int64(table[3]), 3, 2), np.float32)
        w = 1.0 - u - v
        x = w * corners[triangle, 0, 0] + u * corners[triangle, 1, 0] + v * corners[triangle, 2, 0]
        y = w * corners[triangle, 0, 1] + u * corners[triangle, 1, 1] + v * corners[triangle, 2, 1]
        layout, beyond = np.int64(table[8 + 7 * slot]), np.int64(table[9 + 7 * slot])
        if layout > 0 and triangle >= np.int64(table[11 + 7 * slot]):
            pass  # wholly there
        elif layout == 0:
            opacity *= _opacity(carray(pointer(address), width * height, np.uint8), width, height, x, y)
        else:
            opacity *= plate_alpha(address, width, height, layout, beyond, table[10 + 7 * slot], x, y)
    if cutoff > 0.0:
        return opacity < cutoff
    if time > 0.0:
        return opacity < _SEEN
    if time < 0.0:
        return opacity < 1.0 and layer_chance(time, layer) >= opacity
    seed = a * np.uint32(0x9E3779B1) + b * np.uint32(0x85EBCA77) + c * np.uint32(0xC2B2AE3D)
    return opacity < 1.0 and mixed(seed + np.uint32(triangle)) >= opacity


def _filter(arguments):  # type: ignore[no-untyped-def]
    """Embree's ``RTCFilterFunctionN``: takes hits back where the surface lets the ray through."""
    given = carray(arguments, 6)
    many = np.int64(given[5] & np.uint64(0xFFFFFFFF))
    valid = carray(pointer(given[0]), many, np.int32)
    head = carray(pointer(given[1]), 3, np.uint64)
    table = carray(pointer(given[1]), 5 + 7 * np.int64(head[2]), np.uint64)
    ray = carray(pointer(given[3]), 12 * many, np.uint32)
    times = carray(pointer(given[3]), 12 * many, np.float32)
    hit = carray(pointer(given[4]), 9 * many, np.float32)
    numbers = carray(pointer(given[4]), 9 * many, np.uint32)
    for i in range(many):
        if valid[i] == -1:
            triangle = np.int64(numbers[5 * many + i])
            seed = ray[i] ^ (ray[many + i] << np.uint32(7)), ray[4 * many + i], ray[5 * many + i]
            if _lets_through(
                table,
                triangle,
                np.float64(hit[3 * many + i]),
                np.float64(hit[4 * many + i]),
                *seed,
                np.float64(times[7 * many + i]),
                np.int64(numbers[8 * many + i]),
            ):
                valid[i] = 0


@cache
def _filter_address() -> int:
    """Where the compiled filter lies; compiled or loaded when something is first seen through."""
    return int(callback(types.void(types.CPointer(types.uint64)))(_filter).address)


class CutoutTable:
    """The numbers that the filter reads for one mesh with its materials.

    Eight bytes each: where the corners' texture coordinates and slots lie, how many materials and
    triangles there are, where opacity and cutoff lie; then for each material where its opacity's
    picture lies, its width and height, how its pixels are kept (0 is bytes of opacity alone), what is
    seen beyond its edges, where its blocks lie, and from which triangle on it is wholly there. An address
    of 0 is nothing.

    Parameters
    ----------
    plate : pixels that a plate shows now, and how opaque it is
    opacity : of all of it, besides that of its materials
    """

    def __init__(
        self,
        mesh: Mesh,
        materials: tuple[Material, ...],
        plate: tuple[PlatePixels, float] | None = None,
        opacity: float = 1.0,
    ) -> None:
        uv = None if mesh.uv is None else np.ascontiguousarray(mesh.uv, np.float32)
        slots = None if mesh.slots is None else np.ascontiguousarray(mesh.slots, np.uint8)
        cuts = [material.cutout for material in materials]
        parts = np.array([_AN_OPAQUE if c is None else (c.opacity, c.cutoff) for c in cuts], float)
        parts[:, 0] *= opacity
        pictures: list[Any] = [
            None if c is None or c.texture is None else alpha(c.texture, c.channel) for c in cuts
        ]
        pixels = [value for picture in pictures for value in _picture(picture)]
        if plate is not None and materials[0].plate is not None:
            parts = np.array([(plate[1], 0.0)])
            pictures = [plate[0].rgba, plate[0].blocks]
            face = materials[0].plate
            pixels = [*plate_row(plate[0], face.beyond), plate[0].blocks.ctypes.data, face.solid_from]
        self._kept: list[Any] = [uv, slots, parts, pictures]
        self._table = np.array(
            [_address(uv), _address(slots), len(cuts), len(mesh.triangles), _address(parts), *pixels],
            np.uint64,
        )

    @property
    def address(self) -> int:
        """Of the table."""
        return self._table.ctypes.data

    @property
    def filter_address(self) -> int:
        """Of the filter."""
        return _filter_address()


def _address(array: NDArray[Any] | None) -> int:
    return 0 if array is None else array.ctypes.data


def _picture(pixels: NDArray[np.uint8] | None) -> tuple[int, ...]:
    place = () if pixels is None else (pixels.ctypes.data, pixels.shape[1], pixels.shape[0])
    return (*place, *(0,) * (7 - len(place)))


def plate_row(pixels: PlatePixels, beyond: int) -> list[int]:
    """Where a plate's pixels lie, their width and height, how they are kept, and what is beyond them."""
    return [pixels.rgba.ctypes.data, pixels.width, pixels.height, pixels.layout, beyond]


def cutouts(mesh: Mesh, materials: tuple[Material, ...]) -> CutoutTable | None:
    """What lets rays through a mesh; None where nothing does."""
    return CutoutTable(mesh, materials) if any(m.cutout is not None for m in materials) else None
