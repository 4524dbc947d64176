"""The dioptre scale that Barrel and Pull chart share: distance to pixels and back."""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from kobrel.optics.units import Measure

_STEPS = (1.0, 2.0, 5.0, 3.0, 1.5, 4.0, 7.0, 1.2, 2.5, 6.0, 8.0)
_MOST_TICKS = 60
_FAR = 300.0


@dataclass(frozen=True)
class DioptreScale:
    """A line from a nearest distance to a farthest, most often infinity, even in dioptres.

    Parameters
    ----------
    nearest_m : distance at `near_px`
    near_px, far_px : where the nearest and the farthest distance stand
    far_dpt : 1/distance of the farthest
    """

    nearest_m: float
    near_px: float
    far_px: float
    far_dpt: float = 0.0

    @property
    def _px_per_dpt(self) -> float:
        return (self.near_px - self.far_px) / (1.0 / self.nearest_m - self.far_dpt)

    def px(self, metres: float) -> float:
        """Where a distance stands; nearer ones lie beyond the end."""
        nearness = 0.0 if math.isinf(metres) else 1.0 / max(metres, 1e-6)
        return self.far_px + self._px_per_dpt * (nearness - self.far_dpt)

    def px_of(self, metres: np.ndarray) -> np.ndarray:
        """The same for an array; distances at or behind the camera give not-a-number."""
        with np.errstate(divide="ignore", invalid="ignore"):
            nearness = np.where(metres > 0, 1.0 / metres, np.nan)
        return np.asarray(self.far_px + self._px_per_dpt * (nearness - self.far_dpt))

    def metres(self, px: float) -> float:
        """The distance that stands at a place; infinity at and beyond its end."""
        nearness = self.far_dpt + (px - self.far_px) / self._px_per_dpt
        return math.inf if nearness <= 1e-9 / self.nearest_m else 1.0 / nearness

    def zoomed(self, by: float, about_m: float) -> "DioptreScale":
        """The same room for a part of the dioptres, or for more; a distance stays where it is. It
        reaches no farther than infinity.
        """
        about = 0.0 if math.isinf(about_m) else 1.0 / about_m
        near, far = 1.0 / self.nearest_m, self.far_dpt
        near, far = about + (near - about) / by, about + (far - about) / by
        if far < 0:
            near, far = near - far, 0.0
        return DioptreScale(1.0 / near, self.near_px, self.far_px, far)

    def ticks(self, unit: Measure, gap_px: float) -> list[tuple[float, str]]:
        """Round distances, at least a gap apart: (metres, label), infinity among them."""
        chosen: list[tuple[float, str]] = []
        places: list[float] = []
        low, high = min(self.near_px, self.far_px), max(self.near_px, self.far_px)
        for metres, label in self._candidates(unit):
            place = self.px(metres)
            if low - 0.5 <= place <= high + 0.5 and all(abs(place - other) >= gap_px for other in places):
                places.append(place)
                chosen.append((metres, label))
        return sorted(chosen)

    def _candidates(self, unit: Measure) -> Iterator[tuple[float, str]]:
        """Distances worth a tick, the roundest first."""
        per_unit = unit.metres
        yield math.inf, "∞"
        lowest = math.floor(math.log10(self.nearest_m / per_unit))
        if unit.symbol == "ft":
            for inches in (6, 3, 9, 4, 8, 2, 1, 5, 7, 10, 11):
                yield inches * per_unit / 12, f'{inches}"'
        for step in _STEPS:
            for decade in range(lowest, lowest + 5):
                value = step * 10.0**decade
                if unit.symbol != "ft" or value >= 1:
                    yield value * per_unit, f"{value:g}"
        # within a small part of the scale: ever finer steps, as many as have room
        nearest, farthest = self.nearest_m / per_unit, 1.0 / max(self.far_dpt, 1e-9) / per_unit
        for exponent in range(lowest, lowest - 5, -1):
            for step in (5.0, 2.0, 1.0):
                size = step * 10.0**exponent
                first, last = math.ceil(nearest / size), math.floor(min(farthest, nearest * 4) / size)
                if first <= last < first + _MOST_TICKS:
                    for count in range(first, last + 1):
                        yield count * size * per_unit, f"{count * size:.6g}"


@dataclass(frozen=True)
class RatioScale:
    """A line from a nearest distance to infinity, even in ratios, for distances that differ by far.

    Parameters
    ----------
    nearest_m : distance at `near_px`
    near_px, far_px : where the nearest distance and infinity stand; a distance `_FAR` times as great
        stands close to infinity
    """

    nearest_m: float
    near_px: float
    far_px: float

    def px_of(self, metres: np.ndarray) -> np.ndarray:
        """Where distances stand; those at or behind the camera give not-a-number."""
        with np.errstate(divide="ignore", invalid="ignore"):
            nearness = np.where(metres > 0, self.nearest_m / metres, np.nan)
        part = np.log1p(_FAR * nearness) / math.log1p(_FAR)
        return np.asarray(self.far_px + (self.near_px - self.far_px) * part)

    def ticks(self, unit: Measure, gap_px: float) -> list[tuple[float, str]]:
        """Where round distances stand, at least a gap apart: (pixels, label), infinity among them."""
        first = math.floor(math.log10(self.nearest_m / unit.metres))
        values = [step * 10.0**k for step in (1, 2, 5, 3) for k in range(first, first + 4)]
        found = [(self.far_px, "∞")]
        for value in values:
            place = float(self.px_of(np.asarray(value * unit.metres)))
            inside = value * unit.metres >= self.nearest_m
            if inside and all(abs(place - other) >= gap_px for other, _ in found):
                found.append((place, f"{value:g}"))
        return found
