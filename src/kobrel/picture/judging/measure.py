"""How blurred a picture is: the width of the disc that made an edge, or of a disc itself, from its pixels."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import map_coordinates
from scipy.optimize import curve_fit

from kobrel.errors import KobrelError
from kobrel.picture.judging.compare import LUMINANCE

_ASIDE, _STEP, _LONGEST = 2, 0.25, 4096.0
"""Lines beside the one that is measured, pixels between samples along it, and the longest line."""
_LEAST_CONTRAST = 0.04


@dataclass(frozen=True)
class Measured:
    """A blur.

    Parameters
    ----------
    px : diameter of the disc, pixels of the picture
    doubt_px : standard deviation of that
    of : what was measured: an edge that the disc softened, or a disc
    """

    px: float
    doubt_px: float
    of: Literal["edge", "disc"]


def measured(colour: NDArray[np.float32], start: tuple[float, float], end: tuple[float, float]) -> Measured:
    """The blur along a line across an edge or a disc.

    An even disc of diameter d turns an edge into ``1/2 + (u sqrt(1 - u^2) + asin u) / pi`` at
    ``u = 2 x / d`` beyond it; a small light becomes the disc itself.

    Parameters
    ----------
    colour : (H, W, 3) linear light
    start, end : places in pixels, x to the right and y down

    Raises
    ------
    KobrelError
        The line is too short, or there is nothing to measure along it.
    """
    line = profile(colour, start, end)
    low, high = np.quantile(line, [0.02, 0.98])
    if high - low < _LEAST_CONTRAST * max(high, 1e-9):
        raise KobrelError("No edge or disc along this line.", remedy="Draw it across one, from side to side.")
    x = np.asarray(np.arange(len(line)) * _STEP, float)
    few = max(3, len(line) // 12)
    ends = (float(np.median(line[:few])), float(np.median(line[-few:])))
    if abs(ends[0] - ends[1]) < 0.3 * (high - low) and line.max() - max(ends) > 0.5 * (high - low):
        return _fitted_disc(x, line)
    found = _fitted_edge(x, line, ends)
    facing = _facing(colour, start, end)
    return Measured(found.px * facing, found.doubt_px + 0.02 * found.px, "edge")


def _facing(colour: NDArray[np.float32], start: tuple[float, float], end: tuple[float, float]) -> float:
    """Cosine between a line and the way across the edge, from how light changes about the line."""
    light = colour @ LUMINANCE
    left, right = (round(f(start[0], end[0])) for f in (min, max))
    top, bottom = (round(f(start[1], end[1])) for f in (min, max))
    part = light[max(top - 4, 0) : bottom + 5, max(left - 4, 0) : right + 5].astype(float)
    if min(part.shape) < 3:
        return 1.0
    down, across = np.gradient(part)
    gradient, way = np.array([across.sum(), down.sum()]), np.subtract(end, start)
    size = float(np.hypot(*gradient) * np.hypot(*way))
    return abs(float(gradient @ way)) / size if size > 0 else 1.0


def profile(
    colour: NDArray[np.float32], start: tuple[float, float], end: tuple[float, float]
) -> NDArray[np.float64]:
    """Light along a line, and the mean of some lines beside it; four samples a pixel.

    Raises
    ------
    KobrelError
        It is too short, or too long.
    """
    way = np.subtract(end, start)
    length = float(np.hypot(*way))
    if not 4.0 <= length <= _LONGEST:
        raise KobrelError(f"The line is {length:.0f} px long; it must be 4 to {_LONGEST:.0f} px.")
    along, across = way / length, np.array([-way[1], way[0]]) / length
    t = np.arange(0.0, length, _STEP)
    light = colour @ LUMINANCE
    lines = []
    for aside in range(-_ASIDE, _ASIDE + 1):
        x = start[0] + along[0] * t + across[0] * aside - 0.5
        y = start[1] + along[1] * t + across[1] * aside - 0.5
        lines.append(map_coordinates(light, [y, x], order=1, mode="nearest"))
    return np.asarray(np.mean(lines, axis=0), float)


def _softened(x: NDArray[np.float64], at: float, d: float, low: float, high: float) -> NDArray[np.float64]:
    u = np.clip(2.0 * (x - at) / max(abs(d), 1e-6), -1.0, 1.0)
    return low + (high - low) * (0.5 + (u * np.sqrt(1.0 - u * u) + np.arcsin(u)) / np.pi)


def _fitted_edge(x: NDArray[np.float64], line: NDArray[np.float64], ends: tuple[float, float]) -> Measured:
    half = (ends[0] + ends[1]) / 2
    at = float(x[np.argmin(np.abs(line - half))])
    low, high = min(ends), max(ends)
    inside = np.abs(line - half) < 0.3 * (high - low)
    first = max(float(inside.sum()) * _STEP * 1.5, 1.0)
    try:
        found, spread = curve_fit(_softened, x, line, p0=(at, first, *ends), maxfev=4000)
    except RuntimeError:
        raise KobrelError(
            "No edge fits what is along this line.", remedy="Draw it across one edge."
        ) from None
    return Measured(abs(float(found[1])), _doubt(spread[1, 1], x), "edge")


def _fitted_disc(x: NDArray[np.float64], line: NDArray[np.float64]) -> Measured:
    """The width of a disc: where its two sides pass half their height."""
    ground = float(np.median(np.concatenate([line[: len(line) // 10 + 1], line[-len(line) // 10 :]])))
    top = float(np.quantile(line, 0.9))
    inside = np.flatnonzero(line > (ground + top) / 2)
    if len(inside) < 2:
        raise KobrelError("No disc fits what is along this line.", remedy="Draw it across one disc.")
    first, last = int(inside[0]), int(inside[-1])
    half = (ground + top) / 2

    def crossing(k: int) -> float:
        a, b = line[k], line[k + 1]
        return float(x[k] + (half - a) / (b - a) * _STEP) if b != a else float(x[k])

    left = crossing(first - 1) if first > 0 else float(x[0])
    right = crossing(last) if last + 1 < len(line) else float(x[-1])
    ripple = float(np.std(line[first : last + 1])) / max(top - ground, 1e-9)
    return Measured(right - left, 0.35 + ripple, "disc")


def _doubt(variance: float, x: NDArray[np.float64]) -> float:
    """Of a fit whose samples are a quarter of a pixel apart, and so no more than every fourth for itself."""
    return float(np.sqrt(max(variance, 0.0) / _STEP)) if np.isfinite(variance) else float(x[-1])
