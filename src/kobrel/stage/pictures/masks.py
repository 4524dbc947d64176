"""Masks over a picture, (H, W) from 0 to 1: by lines, by colour, and what is done to their edges."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage

Mask = NDArray[np.float32]
_FINER = 4
_FINEST_PIXELS = 1 << 25
_SEGMENTS = 16
_LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)


def inside(points: ArrayLike, size: tuple[int, int]) -> Mask:
    """What lies within a closed line of straight pieces.

    Parameters
    ----------
    points : (n, 2) pixels from the upper left corner
    size : height and width
    """
    height, width = size
    at = np.asarray(points, float)
    result = np.zeros(size, np.float32)
    x0, y0 = np.maximum(np.floor(at.min(axis=0)).astype(int) - 1, 0)
    x1, y1 = np.minimum(np.ceil(at.max(axis=0)).astype(int) + 1, (width, height))
    if x1 <= x0 or y1 <= y0:
        return result
    finer = _FINER
    while finer > 1 and (x1 - x0) * (y1 - y0) * finer * finer > _FINEST_PIXELS:
        finer //= 2
    tall, wide = int(y1 - y0), int(x1 - x0)
    corners = (at - (x0, y0)) * finer - 0.5  # of pixels their middles count
    drawn = _filled(corners, (tall * finer, wide * finer))
    parts = drawn.reshape(tall, finer, wide, finer).sum(axis=(1, 3), dtype=np.float32)
    result[y0:y1, x0:x1] = parts / (finer * finer)
    return result


def _filled(corners: NDArray[np.float64], size: tuple[int, int]) -> NDArray[np.uint8]:
    """1 where a pixel's middle lies within a closed line, by how often the line is crossed to the left of it.

    Parameters
    ----------
    corners : (n, 2) columns and rows, whole at middles
    size : rows and columns
    """
    rows, columns = size
    crossings = np.zeros((rows, columns + 1), np.uint8)
    for (x0, y0), (x1, y1) in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        low, high = sorted((y0, y1))
        row = np.arange(max(int(np.ceil(low)), 0), min(int(np.ceil(high)), rows))  # no corner counts twice
        if len(row):
            x = x0 + (row - y0) * (x1 - x0) / (y1 - y0)
            crossings[row, np.clip(np.ceil(x), 0, columns).astype(int)] ^= 1
    return np.bitwise_xor.accumulate(crossings[:, :columns], axis=1)


def bent(
    at: ArrayLike, before: Sequence[ArrayLike | None], after: Sequence[ArrayLike | None]
) -> NDArray[Any]:
    """A closed line of cubic curves as points, (m, 2).

    Parameters
    ----------
    at : (n, 2) where it goes through
    before, after : handles of each point, or None for a straight end
    """
    places = np.asarray(at, float)
    pieces = []
    t = np.linspace(0.0, 1.0, _SEGMENTS, endpoint=False)[:, None]
    for k, start in enumerate(places):
        n = (k + 1) % len(places)
        end = places[n]
        if after[k] is None and before[n] is None:
            pieces.append(start[None])
            continue
        one = start if after[k] is None else np.asarray(after[k], float)
        two = end if before[n] is None else np.asarray(before[n], float)
        u = 1 - t
        pieces.append(u**3 * start + 3 * u * u * t * one + 3 * u * t * t * two + t**3 * end)
    return np.concatenate(pieces)


def ellipse(one: ArrayLike, other: ArrayLike, size: tuple[int, int]) -> Mask:
    """The ellipse within a rectangle of two corners, pixels."""
    a, b = np.asarray(one, float), np.asarray(other, float)
    angle = np.linspace(0, 2 * np.pi, 256, endpoint=False)
    middle, half = (a + b) / 2, np.abs(a - b) / 2
    return inside(middle + half * np.stack([np.cos(angle), np.sin(angle)], -1), size)


def near_colour(picture: NDArray[np.float32], colour: ArrayLike, reach: float, soft: float) -> Mask:
    """What is near to a colour: (H, W, 3) and (3,) sRGB, 0 to 1; distances of the way from black to white."""
    off = np.sqrt(((picture - np.asarray(colour, np.float32)) ** 2).mean(axis=2))
    return _falling(off, reach, soft)


def as_bright(picture: NDArray[np.float32], low: float, high: float, soft: float) -> Mask:
    """What is as bright as that, of sRGB (H, W, 3)."""
    return between(picture @ _LUMA, low, high, soft)


def between(values: NDArray[np.float32], low: float, high: float, soft: float) -> Mask:
    """Where values lie between two others; at 0 and 1 nothing lies beyond."""
    below = np.zeros_like(values) if low <= 0 else low - values
    above = np.zeros_like(values) if high >= 1 else values - high
    return _falling(np.maximum(below, above), 0.0, soft)


def _falling(off: NDArray[np.float32], reach: float, soft: float) -> Mask:
    if soft <= 0:
        return (off <= reach).astype(np.float32)
    result: Mask = np.clip(1.0 - (off - reach) / soft, 0.0, 1.0).astype(np.float32)
    return result


def shaped(mask: Mask, grow_px: float, smooth_px: float, feather_px: float) -> Mask:
    """A mask with its edge moved outward, made rounder, and made to fade over a width, in this order."""
    if not mask.any():
        return mask
    rows, columns = _about(mask, abs(grow_px) + 3 * smooth_px + feather_px + 4)
    result = np.zeros_like(mask)
    result[rows, columns] = _shaped(mask[rows, columns], grow_px, smooth_px, feather_px)
    return result


def _shaped(part: Mask, grow_px: float, smooth_px: float, feather_px: float) -> Mask:
    if grow_px or smooth_px:
        there = part >= 0.5
        out = ndimage.distance_transform_edt(~there)
        within = ndimage.distance_transform_edt(there)
        off = (within - out).astype(np.float32)  # above 0 within; half a pixel at the edge
        off += np.where(there, -0.5, 0.5) + np.float32(grow_px)
        if smooth_px:
            off = ndimage.gaussian_filter(off, smooth_px, mode="nearest")
        part = np.clip(off + 0.5, 0.0, 1.0).astype(np.float32)
    if feather_px:
        part = ndimage.gaussian_filter(part, feather_px / 4.0, mode="nearest")
    return part


def _about(mask: Mask, margin: float) -> tuple[slice, slice]:
    """Rows and columns of what is not nothing, and a margin."""
    box = bounds(mask)
    more = int(np.ceil(margin))
    height, width = mask.shape
    return (
        slice(max(box[1] - more, 0), min(box[3] + more, height)),
        slice(max(box[0] - more, 0), min(box[2] + more, width)),
    )


def bounds(mask: NDArray[Any]) -> tuple[int, int, int, int]:
    """Left, top, right and bottom of what is above 0; all 0 for nothing."""
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if not len(rows):
        return 0, 0, 0, 0
    return int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1


def smoothed_line(points: ArrayLike, px: float) -> NDArray[Any]:
    """A closed line drawn by hand, (n, 2), evenly spaced anew and smoothed over a length in pixels."""
    at = np.asarray(points, float)
    loop = np.concatenate([at, at[:1]])
    steps = np.linalg.norm(np.diff(loop, axis=0), axis=1)
    along = np.concatenate([[0.0], np.cumsum(steps)])
    count = int(np.clip(along[-1] / max(px / 2.0, 1.0), 8, 2000))
    even = np.linspace(0.0, along[-1], count, endpoint=False)
    spaced = np.stack([np.interp(even, along, loop[:, k]) for k in range(2)], axis=1)
    return np.asarray(ndimage.gaussian_filter1d(spaced, 1.0, axis=0, mode="wrap"))
