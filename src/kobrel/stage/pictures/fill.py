"""What stands where something was lifted from a picture: by mirroring, by diffusing, or by patches.

Colours are (H, W, 3) floats, holes (H, W) truth values. All that is not in the hole stays as it is.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from kobrel.compiled import kernel

Told = Callable[[float], None]
"""Told the part done, 0 to 1; may raise to stop."""
Colours = NDArray[np.float32]
_HALF = 3
"""Half the width of a patch, less half a pixel."""
_SMALLEST, _LEVELS = 24, 7
_ROUNDS, _PASSES = 4, 4
_AROUND = 1.5


def _untold(_part: float) -> None:
    """Nobody is told."""


def mirrored(colours: Colours, hole: NDArray[np.bool_]) -> Colours:
    """The hole filled with what lies as far on the other side of its edge; where that is in a hole too, with
    what lies at the edge.
    """
    if hole.all() or not hole.any():
        return colours
    nearest = ndimage.distance_transform_edt(hole, return_distances=False, return_indices=True)
    rows, columns = np.nonzero(hole)
    edge_y, edge_x = nearest[0][rows, columns], nearest[1][rows, columns]
    height, width = hole.shape
    y, x = _back(2 * edge_y - rows, height), _back(2 * edge_x - columns, width)
    lost = hole[y, x]
    result = colours.copy()
    result[rows, columns] = colours[np.where(lost, edge_y, y), np.where(lost, edge_x, x)]
    return result


def _back(at: NDArray[np.integer], count: int) -> NDArray[np.integer]:
    """Places beyond the picture's edges, mirrored back."""
    turned = np.mod(at, 2 * count)
    result: NDArray[np.integer] = np.where(turned < count, turned, 2 * count - 1 - turned)
    return result


def diffused(colours: Colours, hole: NDArray[np.bool_], told: Told = _untold) -> Colours:
    """The hole filled as evenly as its edge allows: from coarse to fine, each level relaxed (Laplace's
    equation on a pyramid).
    """
    if hole.all() or not hole.any():
        return colours
    known = (~hole).astype(np.float32)
    levels = [(colours * known[..., None], known)]
    while min(levels[-1][1].shape) > 2 and levels[-1][1].min() == 0:
        levels.append(_coarser(*levels[-1]))
    value = _means(*levels[-1])
    for number, (sums, weight) in enumerate(reversed(levels[:-1])):
        told(number / len(levels))
        height, width = weight.shape
        up = np.repeat(np.repeat(value, 2, axis=0), 2, axis=1)[:height, :width]
        there = weight[..., None] > 0
        value = np.where(there, sums / np.maximum(weight[..., None], 1e-6), up)
        _relax(value, weight > 0, 24)
    result = colours.copy()
    result[hole] = value[hole]
    return result


def _coarser(sums: Colours, weight: NDArray[np.float32]) -> tuple[Colours, NDArray[np.float32]]:
    odd = weight.shape[0] % 2, weight.shape[1] % 2
    if any(odd):
        weight = np.pad(weight, ((0, odd[0]), (0, odd[1])))
        sums = np.pad(sums, ((0, odd[0]), (0, odd[1]), (0, 0)))
    height, width = weight.shape
    blocks = height // 2, 2, width // 2, 2
    total = weight.reshape(blocks).sum(axis=(1, 3))
    colour = sums.reshape(*blocks, 3).sum(axis=(1, 3))
    # what a block has counts as whole, so that colours do not fade away from the edge
    scale = np.where(total > 0, 1.0 / np.maximum(total, 1e-6), 0.0).astype(np.float32)
    return (colour * scale[..., None]).astype(np.float32), (total > 0).astype(np.float32)


def _means(sums: Colours, weight: NDArray[np.float32]) -> Colours:
    mean = sums[weight > 0].mean(axis=0) if (weight > 0).any() else np.zeros(3, np.float32)
    return np.where(weight[..., None] > 0, sums, mean).astype(np.float32)


@kernel
def _relax(value, known, rounds):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    """Each unknown pixel the mean of its neighbours, over and over (Gauss and Seidel)."""
    height, width = known.shape
    for turn in range(rounds):
        for i in range(height):
            y = i if turn % 2 == 0 else height - 1 - i
            for j in range(width):
                x = j if turn % 2 == 0 else width - 1 - j
                if known[y, x]:
                    continue
                for c in range(3):
                    total, count = np.float32(0), 0
                    if y > 0:
                        total, count = total + value[y - 1, x, c], count + 1
                    if y < height - 1:
                        total, count = total + value[y + 1, x, c], count + 1
                    if x > 0:
                        total, count = total + value[y, x - 1, c], count + 1
                    if x < width - 1:
                        total, count = total + value[y, x + 1, c], count + 1
                    value[y, x, c] = total / count


def patched(colours: Colours, hole: NDArray[np.bool_], told: Told = _untold) -> Colours:
    """The hole filled with patches of its surroundings, from coarse to fine.

    At each level the patch that is most alike is found for each pixel of the hole by looking at random and
    at its neighbours' (Barnes et al., "PatchMatch", 2009), and pixels become the mean of the patches over
    them (Wexler, Shechtman and Irani, "Space-Time Completion of Video", 2007).
    """
    if hole.all() or not hole.any():
        return colours
    rows, columns = _surroundings(hole)
    part, inner = np.ascontiguousarray(colours[rows, columns]), np.ascontiguousarray(hole[rows, columns])
    start = diffused(part, inner)
    levels = [(start, inner)]
    while min(levels[-1][1].shape) > 2 * _SMALLEST and len(levels) < _LEVELS:
        levels.append(_smaller(*levels[-1]))
    value: Colours | None = None
    matches = np.zeros((0, 0, 2), np.int64)
    total = sum(level[1].size for level in levels)
    done = 0
    for number in range(len(levels) - 1, -1, -1):
        base, lost = levels[number]
        sources = _sources(lost)
        if not sources.any():
            continue
        fresh = base.copy()
        if value is not None:
            up = np.repeat(np.repeat(value, 2, axis=0), 2, axis=1)[: lost.shape[0], : lost.shape[1]]
            fresh[lost] = up[lost]
            doubled = np.repeat(np.repeat(matches * 2, 2, axis=0), 2, axis=1)
            matches = doubled[: lost.shape[0], : lost.shape[1]]
        else:
            matches = np.full((*lost.shape, 2), -1, np.int64)
        matches = np.ascontiguousarray(matches)
        near = ndimage.binary_dilation(lost, iterations=_HALF)
        choices = np.argwhere(sources)
        _begin(matches, near, sources, choices, number)
        for turn in range(_ROUNDS):
            told((done + lost.size * turn / _ROUNDS) / total)
            _match(fresh, near, sources, matches, choices, _PASSES, 1000 * number + turn)
            _vote(fresh, lost, near, matches)
        value, done = fresh, done + lost.size
    if value is None:
        value = start
    result = colours.copy()
    inside = result[rows, columns]
    inside[inner] = value[inner]
    return result


def _surroundings(hole: NDArray[np.bool_]) -> tuple[slice, slice]:
    """Rows and columns of a hole and what is about it."""
    rows, columns = np.flatnonzero(hole.any(axis=1)), np.flatnonzero(hole.any(axis=0))
    found = []
    for at, most in ((rows, hole.shape[0]), (columns, hole.shape[1])):
        more = int(max((at[-1] - at[0]) * _AROUND / 2, 8 * _HALF))
        found.append(slice(max(int(at[0]) - more, 0), min(int(at[-1]) + 1 + more, most)))
    return found[0], found[1]


def _smaller(colours: Colours, hole: NDArray[np.bool_]) -> tuple[Colours, NDArray[np.bool_]]:
    odd = hole.shape[0] % 2, hole.shape[1] % 2
    colours = np.pad(colours, ((0, odd[0]), (0, odd[1]), (0, 0)), mode="edge")
    hole = np.pad(hole, ((0, odd[0]), (0, odd[1])), mode="edge")
    blocks = hole.shape[0] // 2, 2, hole.shape[1] // 2, 2
    return (
        np.ascontiguousarray(colours.reshape(*blocks, 3).mean(axis=(1, 3)), np.float32),
        np.ascontiguousarray(hole.reshape(blocks).any(axis=(1, 3))),
    )


def _sources(hole: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Where a whole patch of known pixels has its middle."""
    near = ndimage.binary_dilation(hole, np.ones((2 * _HALF + 1,) * 2))
    result = ~near
    result[:_HALF], result[-_HALF:], result[:, :_HALF], result[:, -_HALF:] = False, False, False, False
    return np.asarray(result)


@kernel
def _chance(a, b, c):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    """A number, 0 to 1, from three others (a hash by Mueller)."""
    n = (
        (np.uint32(a) * np.uint32(73856093))
        ^ (np.uint32(b) * np.uint32(19349663))
        ^ (np.uint32(c) * np.uint32(83492791))
    )
    n = ((n >> np.uint32(16)) ^ n) * np.uint32(0x45D9F3B)
    n = ((n >> np.uint32(16)) ^ n) * np.uint32(0x45D9F3B)
    return np.uint32((n >> np.uint32(16)) ^ n) / 4294967296.0


@kernel
def _begin(matches, near, sources, choices, seed):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    """A match for each pixel that has none, at random."""
    height, width = near.shape
    for y in range(height):
        for x in range(width):
            my, mx = matches[y, x, 0], matches[y, x, 1]
            if near[y, x] and not (0 <= my < height and 0 <= mx < width and sources[my, mx]):
                k = int(_chance(x, y, seed) * len(choices))
                matches[y, x, 0], matches[y, x, 1] = choices[k, 0], choices[k, 1]


@kernel
def _off(picture, y, x, sy, sx, most):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    """How unlike two patches are; gives up beyond `most`. What lies outside the picture does not count."""
    height, width = picture.shape[0], picture.shape[1]
    total, count = 0.0, 0
    for j in range(-_HALF, _HALF + 1):
        if not 0 <= y + j < height:
            continue
        for i in range(-_HALF, _HALF + 1):
            if not 0 <= x + i < width:
                continue
            for c in range(3):
                d = picture[y + j, x + i, c] - picture[sy + j, sx + i, c]
                total += d * d
            count += 1
        if total > most * (2 * _HALF + 1) ** 2:
            return total
    return total / max(count, 1)


@kernel
def _match(picture, near, sources, matches, choices, passes, seed):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    height, width = near.shape
    best = np.full(near.shape, np.inf)
    for y in range(height):
        for x in range(width):
            if near[y, x]:
                best[y, x] = _off(picture, y, x, matches[y, x, 0], matches[y, x, 1], np.inf)
    for turn in range(passes):
        step = 1 if turn % 2 == 0 else -1
        for i in range(height):
            y = i if step > 0 else height - 1 - i
            for j in range(width):
                x = j if step > 0 else width - 1 - j
                if not near[y, x]:
                    continue
                for k in range(2):
                    ny, nx = (y - step, x) if k == 0 else (y, x - step)
                    if 0 <= ny < height and 0 <= nx < width and near[ny, nx]:
                        sy, sx = matches[ny, nx, 0] + y - ny, matches[ny, nx, 1] + x - nx
                        if 0 <= sy < height and 0 <= sx < width and sources[sy, sx]:
                            off = _off(picture, y, x, sy, sx, best[y, x])
                            if off < best[y, x]:
                                best[y, x], matches[y, x, 0], matches[y, x, 1] = off, sy, sx
                reach, k = max(height, width), 0
                while reach >= 1:
                    sy = matches[y, x, 0] + int((_chance(x, y, seed * 64 + turn * 16 + k) * 2 - 1) * reach)
                    sx = matches[y, x, 1] + int(
                        (_chance(y, x, seed * 64 + turn * 16 + k + 7) * 2 - 1) * reach
                    )
                    if 0 <= sy < height and 0 <= sx < width and sources[sy, sx]:
                        off = _off(picture, y, x, sy, sx, best[y, x])
                        if off < best[y, x]:
                            best[y, x], matches[y, x, 0], matches[y, x, 1] = off, sy, sx
                    reach, k = reach // 2, k + 1


@kernel
def _vote(picture, hole, near, matches):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    """Each pixel of the hole the mean of what the patches over it have there."""
    height, width = hole.shape
    out = np.zeros((height, width, 4))
    for y in range(height):
        for x in range(width):
            if not near[y, x]:
                continue
            sy, sx = matches[y, x, 0], matches[y, x, 1]
            for j in range(-_HALF, _HALF + 1):
                for i in range(-_HALF, _HALF + 1):
                    if 0 <= y + j < height and 0 <= x + i < width and hole[y + j, x + i]:
                        share = 1.0 / (1.0 + j * j + i * i)
                        for c in range(3):
                            out[y + j, x + i, c] += share * picture[sy + j, sx + i, c]
                        out[y + j, x + i, 3] += share
    for y in range(height):
        for x in range(width):
            if hole[y, x] and out[y, x, 3] > 0:
                for c in range(3):
                    picture[y, x, c] = out[y, x, c] / out[y, x, 3]
