"""Turning polygons into triangles, and saying what is wrong with a mesh."""

import numpy as np
from numpy.typing import NDArray


def fan_corners(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    """Corners of the triangles that fan out from each polygon's first corner.

    Parameters
    ----------
    counts : (P,) corners of each polygon; those with fewer than 3 give no triangle

    Returns
    -------
    (T, 3) positions in the list of all polygons' corners.

    >>> fan_corners(np.array([3, 4])).tolist()
    [[0, 1, 2], [3, 4, 5], [3, 5, 6]]
    """
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]]) if len(counts) else np.zeros(0, np.int64)
    fans = np.maximum(counts - 2, 0)
    first = np.repeat(starts, fans)
    step = np.arange(fans.sum()) - np.repeat(np.cumsum(fans) - fans, fans)
    return np.stack([first, first + step + 1, first + step + 2], axis=-1)


def polygon_of_triangle(counts: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each fanned triangle, the polygon it came from: (T,)."""
    return np.repeat(np.arange(len(counts)), np.maximum(counts - 2, 0))


def mesh_fault(
    points: NDArray[np.float32],
    indices: NDArray[np.integer],
    counts_sum: int | None = None,
    counts: NDArray[np.integer] | None = None,
) -> str | None:
    """Why a mesh cannot be drawn, in a few words, or None.

    `counts` are the corners that the polygons say they have, `counts_sum` how many that is.
    """
    if counts is not None and len(counts) and int(counts.min()) < 0:
        return f"a polygon has {int(counts.min())} corners"
    if len(points) == 0 or len(indices) == 0:
        return "it is empty"
    if counts_sum is not None and counts_sum != indices.size:
        return f"its polygons count {counts_sum} corners but {indices.size} are given"
    # Seen as unsigned, a negative index is a huge one: one look instead of two.
    if int(indices.astype(np.int32, copy=False).view(np.uint32).max()) >= len(points):
        worst = int(indices.min()) if int(indices.min()) < 0 else int(indices.max())
        return f"a face points at vertex {worst} of {len(points)}"
    # A sum is finite if every part is; only a doubtful one is looked at point by point.
    with np.errstate(over="ignore", invalid="ignore"):
        doubtful = not np.isfinite(points.ravel().sum())
    if doubtful and not np.isfinite(points).all():
        return "it has points that are not numbers"
    return None
