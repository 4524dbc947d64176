"""Stops: how they are marked, and the light between them (ISO 517)."""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers

StopSteps = Literal["full", "half", "third", "free"]

# ISO 517's rounded marks, in thirds of a stop from f/0.5 to f/128.
MARKED_STOPS: tuple[float, ...] = (
    0.5, 0.56, 0.63, 0.7, 0.8, 0.9, 1.0, 1.1, 1.2, 1.4, 1.6, 1.8, 2.0, 2.2, 2.5, 2.8, 3.2, 3.5,
    4.0, 4.5, 5.0, 5.6, 6.3, 7.1, 8.0, 9.0, 10.0, 11.0, 13.0, 14.0, 16.0, 18.0, 20.0, 22.0, 25.0,
    29.0, 32.0, 36.0, 40.0, 45.0, 51.0, 57.0, 64.0, 72.0, 80.0, 90.0, 101.0, 114.0, 128.0,
)  # fmt: skip

_HALF_STOPS = (
    0.5, 0.6, 0.7, 0.84, 1.0, 1.2, 1.4, 1.7, 2.0, 2.4, 2.8, 3.3, 4.0, 4.8, 5.6, 6.7, 8.0, 9.5, 11.0, 13.0,
    16.0, 19.0, 22.0, 27.0, 32.0, 38.0, 45.0, 54.0, 64.0, 76.0, 90.0, 108.0, 128.0,
)  # fmt: skip
FULL_STOPS = MARKED_STOPS[::3]
WIDEST_STOP, NARROWEST_STOP = MARKED_STOPS[0], MARKED_STOPS[-1]
_SERIES: dict[StopSteps, tuple[float, ...]] = {
    "full": FULL_STOPS, "half": _HALF_STOPS, "third": MARKED_STOPS, "free": MARKED_STOPS,
}  # fmt: skip


def ev_difference(from_f_number: ArrayLike, to_f_number: ArrayLike) -> Numbers:
    """Light lost by going from one stop to another, ``2 log2(N2 / N1)``, in EV.

    >>> float(ev_difference(2, 4))
    2.0
    """
    result: Numbers = 2.0 * np.log2(
        np.asarray(to_f_number, dtype=float) / np.asarray(from_f_number, dtype=float)
    )
    return result


def effective_f_number(f_number: ArrayLike, magnification: ArrayLike) -> Numbers:
    """What the light sees at close focus of a thin lens, ``N (1 + m)``."""
    return np.asarray(f_number, dtype=float) * (1.0 + np.asarray(magnification, dtype=float))


def t_stop(f_number: ArrayLike, transmission: ArrayLike) -> Numbers:
    """The stop as the light counts it, ``N / sqrt(transmission)``.

    >>> float(t_stop(2.0, 0.64))
    2.5
    """
    result: Numbers = np.asarray(f_number, dtype=float) / np.sqrt(np.asarray(transmission, dtype=float))
    return result


def light_value(stop: ArrayLike, iso: ArrayLike, shutter_deg: ArrayLike, nd_stops: ArrayLike) -> Numbers:
    """How bright a camera records one scene, in EV: ``log2(ISO * shutter / T^2) - ND``.

    Only differences mean anything. The shutter is an angle at a given frame rate.

    >>> float(light_value(2.8, 800, 180, 0) - light_value(5.6, 800, 180, 0))
    2.0
    """
    gain = np.asarray(iso, dtype=float) * np.asarray(shutter_deg, dtype=float)
    result: Numbers = np.log2(gain / np.asarray(stop, dtype=float) ** 2) - np.asarray(nd_stops, dtype=float)
    return result


def step_stop(f_number: float, steps: int, series: StopSteps = "third") -> float:
    """The marked stop that lies so many steps away; positive closes the iris.

    From a stop between two marks the first step goes to the next mark. Steps are thirds of a
    stop unless another series is asked for.

    >>> step_stop(2.8, 1), step_stop(2.8, -3), step_stop(3.0, 1), step_stop(2.8, 1, "full")
    (3.2, 2.0, 3.2, 4.0)
    """
    marks = np.asarray(_SERIES[series])
    near = int(np.argmin(np.abs(np.log2(marks / f_number))))
    if not np.isclose(marks[near], f_number, rtol=1e-3):
        below = int(np.searchsorted(marks, f_number)) - 1
        near = below if steps > 0 else below + 1
    return float(marks[int(np.clip(near + steps, 0, len(marks) - 1))])


def marked_stop(f_number: float, series: StopSteps) -> float:
    """The nearest stop of a series; ``free`` takes any, to three figures.

    >>> marked_stop(3.05, "full"), marked_stop(3.05, "third"), marked_stop(3.0512, "free")
    (2.8, 3.2, 3.05)
    """
    if series == "free":
        return float(f"{f_number:.3g}")
    marks = np.asarray(_SERIES[series])
    return float(marks[int(np.argmin(np.abs(np.log2(marks / f_number))))])
