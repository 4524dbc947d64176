"""The slowest way through a band: the focus over time that has some freedom at each frame."""

import numpy as np

from kobrel.optics.lens import Numbers


def taut(low: Numbers, high: Numbers) -> Numbers:
    """The tightest string through a band, (F,): still where it may be, then even.

    Its ends are free. Among all paths that stay within the band it has the least travel, the
    least greatest speed, and the least sum of any convex cost of its steps (Barlow,
    Bartholomew, Bremner and Brunk, *Statistical Inference under Order Restrictions*).

    Parameters
    ----------
    low, high : (F,) the band at each frame, low <= high
    """
    count = len(low)
    times = np.arange(count, dtype=float)
    begin, values = _still_start(low, high)
    path = np.full(count, values)
    if begin >= count:
        return path
    # From the last frame at which standing still is possible the string leans on one edge.
    at = begin
    while at < count - 1:
        nxt = _next_corner(times, low, high, at, float(path[at]))
        stop, value = nxt
        path[at : stop + 1] = np.interp(times[at : stop + 1], [times[at], times[stop]], [path[at], value])
        at = stop
    return path


def _still_start(low: Numbers, high: Numbers) -> tuple[int, float]:
    """Where a string with a free begin first touches an edge that bends it: (frame, value)."""
    highest_low, lowest_high = np.maximum.accumulate(low), np.minimum.accumulate(high)
    bad = np.flatnonzero(highest_low > lowest_high)
    if not len(bad):
        return len(low), float((highest_low[-1] + lowest_high[-1]) / 2)
    first = int(bad[0])
    if low[first] > lowest_high[first]:  # it must rise: it lies at the upper edge's lowest place
        value = float(lowest_high[first - 1])
        return int(np.flatnonzero(high[:first] <= value)[-1]), value
    value = float(highest_low[first - 1])
    return int(np.flatnonzero(low[:first] >= value)[-1]), value


def _next_corner(times: Numbers, low: Numbers, high: Numbers, at: int, value: float) -> tuple[int, float]:
    """The next frame and value at which the string from a place touches an edge."""
    span = times[at + 1 :] - times[at]
    least = np.maximum.accumulate((low[at + 1 :] - value) / span)
    greatest = np.minimum.accumulate((high[at + 1 :] - value) / span)
    bad = np.flatnonzero(least > greatest)
    if len(bad):
        first = int(bad[0])
        rising = (low[at + 1 + first] - value) / span[first] > greatest[first - 1] if first else False
        slopes = (high if rising else low)[at + 1 :][:first] - value
        slopes = slopes / span[:first]
        edge = int(
            np.flatnonzero(slopes <= slopes.min())[-1]
            if rising
            else np.flatnonzero(slopes >= slopes.max())[-1]
        )
        stop = at + 1 + edge
        return stop, float((high if rising else low)[stop])
    # Nothing bends it any more: it stands still if it may, or else leans as little as it must.
    if least[-1] <= 0.0 <= greatest[-1]:
        return len(low) - 1, value
    lean = float(least[-1] if least[-1] > 0 else greatest[-1])
    edges = (low if least[-1] > 0 else high)[at + 1 :]
    touch = np.flatnonzero(np.isclose((edges - value) / span, lean, rtol=1e-12, atol=0))
    stop = at + 1 + int(touch[-1])
    return stop, float(edges[touch[-1]])


def fewest_corners(path: Numbers, low: Numbers, high: Numbers) -> list[int]:
    """The frames of a path that straight lines between them need to stay within a band.

    Greedy: each line reaches as far as it can.
    """
    count, corners = len(path), [0]
    while corners[-1] < count - 1:
        at = corners[-1]
        span = np.arange(1, count - at, dtype=float)
        value = path[at]
        least = np.maximum.accumulate((low[at + 1 :] - value) / span)
        greatest = np.minimum.accumulate((high[at + 1 :] - value) / span)
        slope = (path[at + 1 :] - value) / span
        # the line to a frame must pass all frames before it
        before_least = np.concatenate([[-np.inf], least[:-1]])
        before_greatest = np.concatenate([[np.inf], greatest[:-1]])
        reached = np.flatnonzero((slope >= before_least) & (slope <= before_greatest))
        corners.append(at + 1 + int(reached[-1]))
    return corners


def choose_bands(low: Numbers, high: Numbers) -> tuple[Numbers, Numbers]:
    """One band of each frame's several, so that the way between them is shortest.

    Parameters
    ----------
    low, high : (F, K) low above high where there is none; each frame has one at least

    Returns
    -------
    (F,), (F,)
    """
    frames, count = low.shape
    there = low <= high
    cost = np.where(there[0], 0.0, np.inf)
    came = np.zeros((frames, count), dtype=np.intp)
    for i in range(1, frames):
        with np.errstate(invalid="ignore"):  # bands that are not there have infinite ends
            apart = low[i][None, :] - high[i - 1][:, None], low[i - 1][:, None] - high[i][None, :]
            gap = np.maximum(0.0, np.maximum(*apart))
        total = cost[:, None] + np.where(np.isfinite(gap), gap, np.inf)
        came[i] = np.argmin(total, axis=0)
        cost = np.where(there[i], total[came[i], np.arange(count)], np.inf)
    chosen = np.empty(frames, dtype=np.intp)
    chosen[-1] = int(np.argmin(cost))
    for i in range(frames - 1, 0, -1):
        chosen[i - 1] = came[i, chosen[i]]
    rows = np.arange(frames)
    return low[rows, chosen], high[rows, chosen]
