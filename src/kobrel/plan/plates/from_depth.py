"""A picture with its depth as plates: at which distances, cut where, with the least error of blur."""

import itertools
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera
from kobrel.plan.pictures.plates import Cut, DepthRange, Fill, Plate, PlatePicture
from kobrel.plan.plates.placing import filling

BINS = 256
MOST = 20
_ENOUGH_PX = 1.0
_GROWN_PX = 2.0
"""How far a plate reaches beyond its edge in depth, where a picture is smoothed."""


@dataclass(frozen=True)
class DepthScale:
    """What the values 0 to 1 of a depth picture mean.

    Parameters
    ----------
    near_m, far_m : the distances at its ends, along the axis
    white_is_near : whether 1 is near
    by_dioptres : whether it is even in dioptres instead of metres
    """

    near_m: float
    far_m: float
    white_is_near: bool = True
    by_dioptres: bool = False

    def nearness(self, values: ArrayLike) -> Numbers:
        """Dioptres of values."""
        part = np.asarray(values, float)
        far = 1.0 - part if self.white_is_near else part
        if self.by_dioptres:
            return np.asarray((1 - far) / self.near_m + far / self.far_m)
        return np.asarray(1.0 / (self.near_m + far * (self.far_m - self.near_m)))


@dataclass(frozen=True, eq=False)
class Slices:
    """How depth is cut.

    Parameters
    ----------
    cuts : (n + 1,) values of the depth picture between the plates, rising, from 0 to 1
    distances_m : (n,) of the plates between them
    error_dpt : root of the mean square of what pixels are off, dioptres
    """

    cuts: tuple[float, ...]
    distances_m: tuple[float, ...]
    error_dpt: float


def histogram(values: NDArray[np.float32]) -> Numbers:
    """How many pixels have each of so many values from 0 to 1, (BINS,), all together 1."""
    counts = np.histogram(values, BINS, (0.0, 1.0))[0].astype(float)
    return np.asarray(counts / max(counts.sum(), 1.0))


def sliced(weights: Numbers, scale: DepthScale, cuts: ArrayLike) -> Slices:
    """Plates between given cuts: each at the mean nearness of its pixels, so that their blur is least off."""
    edges = np.clip(np.round(np.asarray(cuts, float) * BINS).astype(int), 0, BINS)
    nearness = scale.nearness((np.arange(BINS) + 0.5) / BINS)
    distances, off = [], 0.0
    for low, high in itertools.pairwise(edges):
        own, near = weights[low:high], nearness[low:high]
        total = float(own.sum())
        mean = float((own * near).sum() / total) if total > 0 else float(nearness[min(low, BINS - 1)])
        distances.append(1.0 / mean)
        off += float((own * (near - mean) ** 2).sum())
    return Slices(tuple((edges / BINS).tolist()), tuple(distances), float(np.sqrt(off)))


def best_slices(weights: Numbers, scale: DepthScale, count: int) -> Slices:
    """The cuts into so many plates whose blur is least off, by dynamic programming over the histogram
    (Fisher, "On grouping for maximum homogeneity", 1958).
    """
    nearness = scale.nearness((np.arange(BINS) + 0.5) / BINS)
    ones, firsts, seconds = (
        np.concatenate([[0.0], np.cumsum(weights * nearness**power)]) for power in (0, 1, 2)
    )

    def cost(low: NDArray[np.int64], high: int) -> Numbers:
        total = ones[high] - ones[low]
        first, second = firsts[high] - firsts[low], seconds[high] - seconds[low]
        result: Numbers = np.maximum(
            second - np.where(total > 0, first**2 / np.maximum(total, 1e-300), 0.0), 0.0
        )
        return result

    count = min(count, BINS)
    best = np.full((count + 1, BINS + 1), np.inf)
    came = np.zeros((count + 1, BINS + 1), int)
    best[0, 0] = 0.0
    for k in range(1, count + 1):
        for high in range(k, BINS + 1):
            low = np.arange(k - 1, high)
            tries = best[k - 1, low] + cost(low, high)
            chosen = int(np.argmin(tries))
            best[k, high], came[k, high] = tries[chosen], low[chosen]
    edges = [BINS]
    for k in range(count, 0, -1):
        edges.append(int(came[k, edges[-1]]))
    return sliced(weights, scale, np.array(edges[::-1]) / BINS)


def enough(weights: Numbers, scale: DepthScale, px_per_dpt: float) -> int:
    """The fewest plates whose blur is off by no more than a pixel on the whole."""
    for count in range(2, MOST):
        if best_slices(weights, scale, count).error_dpt * px_per_dpt <= _ENOUGH_PX:
            return count
    return MOST


def plates_from(
    picture: PlatePicture,
    depth_path: str,
    slices: Slices,
    scale: DepthScale,
    camera: Camera,
    soft: float,
    first_number: int,
) -> list[Plate]:
    """The plates, the farthest first: each cut out of the picture by depth, with its smoothed outline, filled
    only where those before it cover, so that the set shows the original as long as nothing is moved.

    Parameters
    ----------
    camera : at one frame, whose frame the picture fills
    soft : how softly edges fade, in values of the depth picture
    first_number : number of the farthest
    """
    order = list(range(len(slices.distances_m)))  # by rising value
    if not scale.white_is_near:
        order = order[::-1]
    made: list[Plate] = []
    numbers = [first_number + k for k in range(len(order))]
    for k, index in enumerate(order):
        distance = slices.distances_m[index]
        place, height = filling(camera, distance, picture.aspect)
        low, high = slices.cuts[index], slices.cuts[index + 1]
        span = (low, 1.0) if scale.white_is_near else (0.0, high)
        shape = DepthRange(path=depth_path, low=span[0], high=span[1], soft=soft)
        nearer = tuple(numbers[k + 1 :])
        made.append(
            Plate(
                number=numbers[k], name=f"Depth {k + 1}", picture=picture, position_m=place, height_m=height,
                cut=None if k == 0 else Cut(shapes=(shape,), grow_px=_GROWN_PX, feather_px=2.0),
                fill=Fill(kind="diffused", grow_px=0.0, of=nearer) if nearer else None,
            )
        )  # fmt: skip
    return made
