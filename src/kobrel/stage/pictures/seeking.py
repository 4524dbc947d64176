"""Lines that seek the edges of a picture between two places."""

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from skimage.graph import route_through_array

_MOST_SIDE, _ROOM = 400, 0.35
_EVEN, _STEPS = 0.03, 12


def edge_line(
    picture: NDArray[np.float32], one: tuple[float, float], other: tuple[float, float]
) -> NDArray[np.float64]:
    """Places (n, 2) along the strongest edges from one place to another, both in pixels of (H, W, 3) sRGB;
    the last place is left out.
    """
    a, b = np.asarray(one, float), np.asarray(other, float)
    height, width = picture.shape[:2]
    room = _ROOM * float(np.linalg.norm(b - a)) + 8
    low = np.maximum(np.floor(np.minimum(a, b) - room), 0).astype(int)
    high = np.minimum(np.ceil(np.maximum(a, b) + room) + 1, (width, height)).astype(int)
    if (high - low).min() < 2:
        return a[None]
    step = max(1, int(np.ceil((high - low).max() / _MOST_SIDE)))
    part = picture[low[1] : high[1] : step, low[0] : high[0] : step].mean(axis=2)
    steep = ndimage.gaussian_gradient_magnitude(part, 1.0)
    cost = 1.0 / (_EVEN + steep / max(float(steep.max()), 1e-6))
    ends = [
        tuple(np.clip((place - low) / step, 0, np.array(part.shape[::-1]) - 1).astype(int)[::-1].tolist())
        for place in (a, b)
    ]
    found, _total = route_through_array(cost, ends[0], ends[1], fully_connected=True, geometric=True)
    line = np.asarray(found, float)[:, ::-1] * step + low + 0.5
    every = max(1, len(line) // _STEPS)
    return np.concatenate([a[None], line[every:-1:every]])
