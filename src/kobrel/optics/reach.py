"""The inverse problems: which focus and which stops make sharp and soft what shall be so.

In the coordinate ``x = 1/s`` of the render model, or ``x = 1/(s - f)`` of the thin one, the
blur of a point is ``c = f^2 (1 - fD) / N * |x - X|`` (its 1 - fD is 1 in the render model),
so both models give straight lines: a point is blurred by exactly c where
``N = slope * |x - X|``. A requirement to be sharp asks for a stop above that V, a requirement to be soft
for one beneath it. All answers follow from these lines by eliminating x or N (Fourier and
Motzkin), without a search.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import LensModel, Numbers

_MM_PER_M = 1000.0
_FARTHEST_X = 1e9
_ROUNDING = 1e-12
_TURNED = 1e-9


def coordinate(nearness_dpt: ArrayLike, focal_mm: ArrayLike, model: LensModel) -> Numbers:
    """The coordinate x of points at 1/distance, in 1/m; at or within the focal length very large."""
    dpt = np.asarray(nearness_dpt, dtype=float)
    if model == "render":
        return dpt + 0.0 * np.asarray(focal_mm, dtype=float)
    left = 1.0 - np.asarray(focal_mm, dtype=float) / _MM_PER_M * dpt
    result: Numbers = np.minimum(dpt / np.maximum(left, 1e-9), _FARTHEST_X)
    return result


def nearness_of(x: ArrayLike, focal_mm: ArrayLike, model: LensModel) -> Numbers:
    """1/distance of a coordinate, the way back from :func:`coordinate`."""
    at = np.asarray(x, dtype=float)
    if model == "render":
        return at + 0.0 * np.asarray(focal_mm, dtype=float)
    result: Numbers = at / (1.0 + np.asarray(focal_mm, dtype=float) / _MM_PER_M * at)
    return result


@dataclass(frozen=True, eq=False)
class Requirements:
    """What W things shall be at F frames.

    Parameters
    ----------
    near_x, far_x : (F, W) coordinates of each thing's near and far end, near_x >= far_x
    near_r, far_r : (F, W) how far x may lie from that end for each f-number, ``1 / slope``
    sharp : (W,) whether the blur shall be at most, or else at least, what the slope stands for
    live : (F, W) whether the requirement counts at the frame
    """

    near_x: Numbers
    far_x: Numbers
    near_r: Numbers
    far_r: Numbers
    sharp: NDArray[np.bool_]
    live: NDArray[np.bool_]

    def only(self, columns: ArrayLike, row: int | None = None) -> "Requirements":
        """Some of the requirements, at all frames or at one."""
        at = np.asarray(columns, dtype=int)
        rows = slice(None) if row is None else slice(row, row + 1)
        near_x, far_x, near_r, far_r = (
            part[rows, at] for part in (self.near_x, self.far_x, self.near_r, self.far_r)
        )
        return Requirements(near_x, far_x, near_r, far_r, self.sharp[at], self.live[rows, at])


@dataclass(frozen=True, eq=False)
class Range:
    """What the lens can do.

    Parameters
    ----------
    widest, narrowest : f-numbers
    closest_x : (F,) coordinate of its closest focus; the farthest is infinity
    """

    widest: float
    narrowest: float
    closest_x: Numbers


def requirements_of(
    near_dpt: ArrayLike,
    far_dpt: ArrayLike,
    blur_px: ArrayLike,
    sharp: ArrayLike,
    live: ArrayLike,
    focal_mm: ArrayLike,
    px_per_mm: ArrayLike,
    model: LensModel = "render",
) -> Requirements:
    """Requirements in coordinates.

    Parameters
    ----------
    near_dpt, far_dpt : (F, W) 1/distance of each thing's near and far end
    blur_px : (W,) the most or the least blur
    sharp : (W,) whether it is the most
    live : (F, W) whether the requirement counts
    focal_mm : (F,)
    px_per_mm : (F, W) pixels at delivery for each millimetre on the sensor; on a spherical
        focus surface those of a point off the axis, divided by the cosine of its angle
    """
    focal = np.asarray(focal_mm, dtype=float)[:, None]
    ends = []
    for dpt in (np.asarray(near_dpt, dtype=float), np.asarray(far_dpt, dtype=float)):
        shrink = 1.0 if model == "render" else np.maximum(1.0 - focal / _MM_PER_M * dpt, 1e-9)
        px_at_f1 = focal * focal / _MM_PER_M * np.asarray(px_per_mm, dtype=float) * shrink
        ends.append((coordinate(dpt, focal, model), np.asarray(blur_px, dtype=float) / px_at_f1))
    (near_x, near_r), (far_x, far_r) = ends
    return Requirements(
        near_x, far_x, near_r, far_r, np.asarray(sharp, dtype=bool), np.asarray(live, dtype=bool)
    )


@dataclass(frozen=True, eq=False)
class _Lines:
    """Bounds on x at each frame, ``a + b N``; sharp requirements and the lens first, then each soft one.

    low_a, low_b, high_a, high_b : (F, S + 1) that always hold
    above_a, above_b : (F, J) x is at least this if the focus lies nearer than the soft thing
    below_a, below_b : (F, J) x is at most this if it lies farther
    order : (F, J) the soft requirements from far to near
    """

    low_a: Numbers
    low_b: Numbers
    high_a: Numbers
    high_b: Numbers
    above_a: Numbers
    above_b: Numbers
    below_a: Numbers
    below_b: Numbers
    order: NDArray[np.intp]


def _lines(requirements: Requirements, lens: Range) -> _Lines:
    """The lines of requirements; those that do not count never bind."""
    frames = len(requirements.near_x)
    live, sharp = requirements.live, requirements.sharp
    near_x, far_x = (np.where(live, x, x * 0.0) for x in (requirements.near_x, requirements.far_x))
    near_r, far_r = (np.where(live, r, 0.0) for r in (requirements.near_r, requirements.far_r))
    never = ~live
    zero = np.zeros((frames, 1))
    hard_low = np.where(never, -np.inf, near_x)[:, sharp]
    hard_high = np.where(never, np.inf, far_x)[:, sharp]
    order = np.argsort(np.where(never, -np.inf, near_x)[:, ~sharp], axis=1)

    def soft(values: Numbers) -> Numbers:
        return np.take_along_axis(values[:, ~sharp], order, axis=1)

    return _Lines(
        np.concatenate([hard_low, zero], axis=1),
        np.concatenate([-near_r[:, sharp], zero], axis=1),
        np.concatenate([hard_high, lens.closest_x[:, None] + zero], axis=1),
        np.concatenate([far_r[:, sharp], zero], axis=1),
        soft(np.where(never, -np.inf, near_x)),
        soft(near_r),
        soft(np.where(never, -np.inf, far_x)),
        soft(-far_r),
        order,
    )


def _pairs(low_a: Numbers, low_b: Numbers, high_a: Numbers, high_b: Numbers) -> tuple[Numbers, Numbers]:
    """The stops at which lower bounds (F, L) lie beneath upper ones (F, U): least and greatest
    for each pair, (F, L, U); least above greatest where there is none.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        room = high_a[:, None, :] - low_a[:, :, None]
        grows = high_b[:, None, :] - low_b[:, :, None]
        at = -room / grows
    still = grows == 0
    least = np.where(grows > 0, at, np.where(still & (room < 0), np.inf, 0.0))
    greatest = np.where(grows < 0, at, np.where(still & (room < 0), -np.inf, np.inf))
    free = ~np.isfinite(room) & (room > 0)
    return np.where(free, 0.0, least), np.where(free, np.inf, greatest)


def stop_ranges(requirements: Requirements, lens: Range) -> tuple[Numbers, Numbers]:
    """The stops at which some focus grants all requirements, frame by frame.

    Returns
    -------
    least, greatest : (F, J + 1) a range for each place that the focus can have among the J
        things that shall be soft, farther than all of them first; least above greatest
        where there is none
    """
    lines = _lines(requirements, lens)
    frames, count = lines.above_a.shape
    fixed_low, fixed_high = _pairs(lines.low_a, lines.low_b, lines.high_a, lines.high_b)
    least = np.full((frames, count + 1), lens.widest)
    greatest = np.full((frames, count + 1), lens.narrowest)
    least = np.maximum(least, fixed_low.max(axis=(1, 2))[:, None])
    greatest = np.minimum(greatest, fixed_high.min(axis=(1, 2))[:, None])
    if count == 0:
        return least, greatest
    above = _pairs(lines.above_a, lines.above_b, lines.high_a, lines.high_b)
    below = _pairs(lines.low_a, lines.low_b, lines.below_a, lines.below_b)
    both = _pairs(lines.above_a, lines.above_b, lines.below_a, lines.below_b)
    for place in range(count + 1):
        for low, high in (
            (above[0][:, :place], above[1][:, :place]),
            (below[0][:, :, place:], below[1][:, :, place:]),
            (both[0][:, :place, place:], both[1][:, :place, place:]),
        ):
            least[:, place] = np.maximum(least[:, place], low.max(axis=(1, 2), initial=0.0))
            greatest[:, place] = np.minimum(greatest[:, place], high.min(axis=(1, 2), initial=np.inf))
    return least, greatest


def stops_for_all(least: Numbers, greatest: Numbers) -> list[tuple[float, float]]:
    """The stops that some range of every frame holds, as ranges; (F, K) each."""
    order = np.argsort(least, axis=1)
    low, high = np.take_along_axis(least, order, 1), np.take_along_axis(greatest, order, 1)
    good = low <= high * (1 + _ROUNDING)
    high = np.where(good, np.maximum(high, low), -np.inf)
    reach = np.maximum.accumulate(high, axis=1)
    before = np.concatenate([np.full((len(low), 1), -np.inf), reach[:, :-1]], axis=1)
    begins = good & (low > before)
    ends = np.concatenate([begins[:, 1:], np.ones((len(low), 1), bool)], axis=1)
    # where ranges overlap one begins and the last of them ends
    last = np.where(np.isfinite(reach), reach, np.nan)
    starts = np.sort(low[begins])
    closing = ends & (np.cumsum(begins, axis=1) > 0)
    stops = np.sort(last[closing])
    result = []
    for start in np.unique(starts):
        # a range begins where the last of all frames comes in
        open_at = np.searchsorted(starts, start, "right") - np.searchsorted(stops, start, "left")
        if open_at == len(low):
            end = float(stops[np.searchsorted(stops, start, "left")])
            result.append((float(start), end))
    return result


def focus_bands(requirements: Requirements, lens: Range, f_number: ArrayLike) -> tuple[Numbers, Numbers]:
    """Where the focus may be at a stop, in the coordinate x.

    Parameters
    ----------
    f_number : a scalar or (F,)

    Returns
    -------
    low, high : (F, J + 1) as :func:`stop_ranges`; low above high where there is no such focus
    """
    lines = _lines(requirements, lens)
    stop = np.broadcast_to(np.asarray(f_number, dtype=float), (len(requirements.near_x),))[:, None]
    low = (lines.low_a + lines.low_b * stop).max(axis=1, keepdims=True)
    high = (lines.high_a + lines.high_b * stop).min(axis=1, keepdims=True)
    above = lines.above_a + lines.above_b * stop
    below = lines.below_a + lines.below_b * stop
    start, end = np.full((len(stop), 1), -np.inf), np.full((len(stop), 1), np.inf)
    lowest = np.maximum.accumulate(np.concatenate([start, above], axis=1), axis=1)
    highest = np.minimum.accumulate(np.concatenate([below, end], axis=1)[:, ::-1], axis=1)[:, ::-1]
    low, high = np.maximum(low, lowest), np.minimum(high, highest)
    # at the very end of a range of stops the band is one place, which rounding may turn over
    turned = (low > high) & (low - high <= _TURNED * np.maximum(np.abs(high), 1.0))
    middle = np.where(turned, (low + high) / 2, 0.0)
    return np.where(turned, middle, low), np.where(turned, middle, high)


@dataclass(frozen=True)
class StopRange:
    """A focus and the stops that grant all requirements there."""

    x: float
    least: float
    greatest: float


def stops_at(requirements: Requirements, lens: Range, x: ArrayLike) -> tuple[Numbers, Numbers]:
    """Least and greatest stop at focus coordinates (n,), for requirements at one frame, (n,) each;
    the lens's own range counts.
    """
    at = np.asarray(x, dtype=float)[:, None]
    live = requirements.live[0]
    least = np.full(len(at), lens.widest)
    greatest = np.full(len(at), lens.narrowest)
    hard, soft = live & requirements.sharp, live & ~requirements.sharp
    with np.errstate(divide="ignore"):
        if hard.any():
            off = np.maximum(
                (requirements.near_x[0, hard] - at) / requirements.near_r[0, hard],
                (at - requirements.far_x[0, hard]) / requirements.far_r[0, hard],
            )
            least = np.maximum(least, off.max(axis=1))
        if soft.any():
            off = np.maximum(
                (at - requirements.near_x[0, soft]) / requirements.near_r[0, soft],
                (requirements.far_x[0, soft] - at) / requirements.far_r[0, soft],
            )
            greatest = np.minimum(greatest, off.min(axis=1))
    return least, greatest


def widest_range(requirements: Requirements, lens: Range) -> StopRange | None:
    """The focus with the widest range of stops at one frame, or None.

    On each piece of the lines the ratio of greatest to least stop has no maximum inside, so
    the corners are enough. Among equals wins the focus from which the sharp things lie least
    far.
    """
    lines = _lines(requirements, lens)
    closest = float(lens.closest_x[0])
    a = np.concatenate([lines.low_a, lines.high_a, lines.above_a, lines.below_a], axis=1)[0]
    b = np.concatenate([lines.low_b, lines.high_b, lines.above_b, lines.below_b], axis=1)[0]
    usable = np.isfinite(a) & (b != 0)
    a, b = a[usable], b[usable]
    with np.errstate(divide="ignore", invalid="ignore"):
        # the lines as stops over x: N = (x - a) / b
        cross = (a[:, None] * b[None, :] - a[None, :] * b[:, None]) / (b[None, :] - b[:, None])
    ends = np.concatenate([a + b * stop for stop in (lens.widest, lens.narrowest)])
    x = np.concatenate([cross.ravel(), a, ends, [0.0, closest]])
    x = np.unique(x[np.isfinite(x) & (x >= 0) & (x <= closest)])
    least, greatest = stops_at(requirements, lens, x)
    good = least <= greatest * (1 + 1e-9)
    if not good.any():
        return None
    x, least, greatest = x[good], least[good], np.maximum(greatest[good], least[good])
    ratio = greatest / least
    best = ratio >= ratio.max() * (1 - 1e-9)
    bare, _ = stops_at(requirements, Range(0.0, np.inf, lens.closest_x), x[best])
    at = np.flatnonzero(best)[int(np.argmin(bare))]
    return StopRange(float(x[at]), float(least[at]), float(greatest[at]))


def granted(requirements: Requirements, x: ArrayLike, f_number: ArrayLike) -> NDArray[np.bool_]:
    """Whether a focus coordinate and stop, (F,) each, grant each requirement, (F, W)."""
    at = np.asarray(x, dtype=float)[:, None]
    stop = np.asarray(f_number, dtype=float)[:, None]
    nearer, farther = (
        requirements.near_x - at,
        at - requirements.far_x,
    )  # how far beyond its ends the focus lies
    slack = 1e-9 * stop
    with np.errstate(invalid="ignore"):
        held = (
            np.maximum(
                nearer - requirements.near_r * (stop + slack), farther - requirements.far_r * (stop + slack)
            )
            <= 0
        )
        lost = (-nearer >= requirements.near_r * (stop - slack)) | (
            -farther >= requirements.far_r * (stop - slack)
        )
    result: NDArray[np.bool_] = np.where(requirements.sharp, held, lost)
    return result


@dataclass(frozen=True)
class Bind:
    """The stops that requirements ask for at least and bear at most, and which requirements do.

    `least_by` and `greatest_by` are their indices; none means the lens's own range.
    """

    least: float
    greatest: float
    least_by: tuple[int, ...]
    greatest_by: tuple[int, ...]


def binding(requirements: Requirements, lens: Range) -> Bind:
    """What decides the stops at one frame, for the place of the focus that comes nearest to
    granting all.
    """
    lines = _lines(requirements, lens)
    hard, soft = np.flatnonzero(requirements.sharp), np.flatnonzero(~requirements.sharp)[lines.order[0]]
    best: Bind | None = None
    for place in range(len(soft) + 1):
        low = (
            np.concatenate([lines.low_a, lines.above_a[:, :place]], 1),
            np.concatenate([lines.low_b, lines.above_b[:, :place]], 1),
        )
        high = (
            np.concatenate([lines.high_a, lines.below_a[:, place:]], 1),
            np.concatenate([lines.high_b, lines.below_b[:, place:]], 1),
        )
        low_of, high_of = [*hard, -1, *soft[:place]], [*hard, -1, *soft[place:]]
        least, greatest = (values[0] for values in _pairs(*low, *high))
        found = []
        for values, worst, bound, at in (
            (least, float(least.max()), lens.widest, int(np.argmax(least))),
            (greatest, float(greatest.min()), lens.narrowest, int(np.argmin(greatest))),
        ):
            row, column = divmod(at, values.shape[1])
            by = sorted({int(low_of[row]), int(high_of[column])} - {-1})
            own = worst <= bound if values is least else worst >= bound
            found.append((bound, ()) if own else (worst, tuple(by)))
        (low_stop, low_by), (high_stop, high_by) = found
        bind = Bind(low_stop, high_stop, low_by, high_by)
        if best is None or bind.least / max(bind.greatest, 1e-9) < best.least / max(best.greatest, 1e-9):
            best = bind
    assert best is not None
    return best
