"""The dioptre scale that Barrel and Pull chart share: distance to pixels and back."""

import math
from dataclasses import dataclass

import numpy as np

from kobrel.optics.units import Measure
from kobrel.plan.survey import GONE, Survey

_STEPS = (1.0, 2.0, 5.0, 3.0, 1.5, 4.0, 7.0, 1.2, 2.5, 6.0, 8.0)
NEAREST_M = 0.02


@dataclass(frozen=True)
class DioptreScale:
    """A line from a nearest distance to infinity, even in dioptres.

    Parameters
    ----------
    nearest_m : distance at `near_px`
    near_px, far_px : where the nearest distance and infinity stand
    """

    nearest_m: float
    near_px: float
    far_px: float

    def px(self, metres: float) -> float:
        """Where a distance stands; nearer ones lie beyond the end."""
        nearness = 0.0 if math.isinf(metres) else 1.0 / max(metres, 1e-6)
        return self.far_px + (self.near_px - self.far_px) * nearness * self.nearest_m

    def px_of(self, metres: np.ndarray) -> np.ndarray:
        """The same for an array; distances at or behind the camera give not-a-number."""
        with np.errstate(divide="ignore", invalid="ignore"):
            nearness = np.where(metres > 0, 1.0 / metres, np.nan)
        return self.far_px + (self.near_px - self.far_px) * nearness * self.nearest_m

    def metres(self, px: float) -> float:
        """The distance that stands at a place; infinity at and beyond its end."""
        part = (px - self.far_px) / (self.near_px - self.far_px)
        return math.inf if part <= 1e-9 else self.nearest_m / part

    def ticks(self, unit: Measure, gap_px: float) -> list[tuple[float, str]]:
        """Round distances, at least a gap apart: (metres, label), infinity among them."""
        per_unit = unit.metres
        chosen: list[tuple[float, str]] = [(math.inf, "∞")]
        places = [self.far_px]
        low, high = min(self.near_px, self.far_px), max(self.near_px, self.far_px)
        lowest = math.floor(math.log10(self.nearest_m / per_unit))
        for step in _STEPS:
            for decade in range(lowest, lowest + 5):
                value = step * 10.0**decade
                place = self.px(value * per_unit)
                if low - 0.5 <= place <= high + 0.5 and all(abs(place - other) >= gap_px for other in places):
                    places.append(place)
                    chosen.append((value * per_unit, f"{value:g}"))
        return sorted(chosen)


def nearest_of_interest_m(survey: Survey) -> float:
    """Where a scale over a whole shot should begin: a round distance before all that matters."""
    near = [float(np.min(survey.near_m))]
    seen = survey.focus_distance_m[(survey.state != GONE) & (survey.focus_distance_m > 0)]
    if seen.size:
        near.append(float(np.min(seen)))
    wanted = max(min(near) * 0.82, NEAREST_M)
    decade = 10.0 ** math.floor(math.log10(wanted))
    return max(
        step * decade
        for step in (1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0)
        if step * decade <= wanted
    )
