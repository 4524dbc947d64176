"""Pixels of plates as kernels read them, where they lie in memory."""

import numpy as np
from llvmlite import ir
from numba import carray, types
from numba.extending import intrinsic

from kobrel.compiled import kernel
from kobrel.stage.pictures.colours import to_linear
from kobrel.stage.plates import BLOCK, BYTES, CLEAR, MIRRORED, REPEATED, SOLID

LINEAR = to_linear(np.arange(256) / 255.0).astype(np.float32)
"""Linear light of sRGB bytes."""


@intrinsic
def pointer(_context, address):  # type: ignore[no-untyped-def]
    """An address as a pointer."""

    def make(_context, builder, _signature, arguments):  # type: ignore[no-untyped-def]
        return builder.inttoptr(arguments[0], ir.IntType(8).as_pointer())

    return types.voidptr(types.uint64), make


@kernel
def _half(bits):  # type: ignore[no-untyped-def]
    """The number, 0 or more, that 16 bits are as a half (IEEE 754 binary16)."""
    whole = np.int64(bits)
    exponent, fraction = (whole >> 10) & 31, whole & 1023
    if exponent == 0:
        return fraction * 2.0**-24
    return (1024 + fraction) * 2.0 ** (exponent - 25)


@kernel
def _within(k, count, beyond):  # type: ignore[no-untyped-def]
    """The pixel of a row that is seen at a place, which may lie beyond its ends."""
    if 0 <= k < count:
        return k
    if beyond == REPEATED:
        return k % count
    if beyond == MIRRORED:
        k = k % (2 * count)
        return k if k < count else 2 * count - 1 - k
    return 0 if k < 0 else count - 1


@kernel
def _around(u, v, width, height):  # type: ignore[no-untyped-def]
    """The pixel before a place, u to the right and v upward, and how far beyond its middle the place is."""
    x, y = u * width - 0.5, (1.0 - v) * height - 0.5
    x = min(max(x, -4.0e6), 4.0e6)
    y = min(max(y, -4.0e6), 4.0e6)
    x0, y0 = np.int64(np.floor(x)), np.int64(np.floor(y))
    return x0, y0, x - x0, y - y0


@kernel
def plate_alpha(address, width, height, layout, beyond, blocks, u, v):  # type: ignore[no-untyped-def]
    """Alpha at a place between its four nearest pixels, 0 to 1; `blocks` is where
    :attr:`kobrel.stage.plates.PlatePixels.blocks` lie.
    """
    x0, y0, fx, fy = _around(u, v, width, height)
    if 0 <= x0 < width and 0 <= y0 < height:
        across, down = (width + BLOCK - 1) // BLOCK, (height + BLOCK - 1) // BLOCK
        block = carray(pointer(blocks), across * down, np.uint8)[y0 // BLOCK * across + x0 // BLOCK]
        if block == CLEAR:
            return 0.0
        if block == SOLID:
            return 1.0
    total = 0.0
    for j in range(2):
        row = _within(y0 + j, height, beyond) * width
        part = fy if j else 1.0 - fy
        for i in range(2):
            at = 4 * (row + _within(x0 + i, width, beyond)) + 3
            share = part * (fx if i else 1.0 - fx)
            if layout == BYTES:
                total += share * carray(pointer(address), 4 * width * height, np.uint8)[at] / 255.0
            else:
                total += share * _half(carray(pointer(address), 4 * width * height, np.uint16)[at])
    return total


@kernel
def plate_colour(address, width, height, layout, beyond, u, v):  # type: ignore[no-untyped-def]
    """Linear colour at a place: of the four nearest pixels, each counted by its alpha, so that what is not
    there gives no colour.
    """
    x0, y0, fx, fy = _around(u, v, width, height)
    r = g = b = total = 0.0
    for j in range(2):
        row = _within(y0 + j, height, beyond) * width
        part = fy if j else 1.0 - fy
        for i in range(2):
            at = 4 * (row + _within(x0 + i, width, beyond))
            share = part * (fx if i else 1.0 - fx) + 1e-12
            if layout == BYTES:
                pixels = carray(pointer(address), 4 * width * height, np.uint8)
                share *= pixels[at + 3]
                r += share * LINEAR[pixels[at]]
                g += share * LINEAR[pixels[at + 1]]
                b += share * LINEAR[pixels[at + 2]]
            else:
                halves = carray(pointer(address), 4 * width * height, np.uint16)
                share *= _half(halves[at + 3])
                r += share * _half(halves[at])
                g += share * _half(halves[at + 1])
                b += share * _half(halves[at + 2])
            total += share
    if total <= 0.0:
        return 0.0, 0.0, 0.0
    return r / total, g / total, b / total
