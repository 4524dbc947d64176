"""Stops: how they are marked, and the light between them (ISO 517)."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers

# ISO 517's rounded marks, in thirds of a stop from f/0.5 to f/128.
MARKED_STOPS: tuple[float, ...] = (
    0.5, 0.56, 0.63, 0.7, 0.8, 0.9, 1.0, 1.1, 1.2, 1.4, 1.6, 1.8, 2.0, 2.2, 2.5, 2.8, 3.2, 3.5,
    4.0, 4.5, 5.0, 5.6, 6.3, 7.1, 8.0, 9.0, 10.0, 11.0, 13.0, 14.0, 16.0, 18.0, 20.0, 22.0, 25.0,
    29.0, 32.0, 36.0, 40.0, 45.0, 51.0, 57.0, 64.0, 72.0, 80.0, 90.0, 101.0, 114.0, 128.0,
)  # fmt: skip


def ev_difference(from_f_number: ArrayLike, to_f_number: ArrayLike) -> Numbers:
    """Light lost by going from one stop to another, ``2 log2(N2 / N1)``, in EV.

    >>> float(ev_difference(2, 4))
    2.0
    """
    return 2.0 * np.log2(np.asarray(to_f_number, dtype=float) / np.asarray(from_f_number, dtype=float))


def effective_f_number(f_number: ArrayLike, magnification: ArrayLike) -> Numbers:
    """What the light sees at close focus of a thin lens, ``N (1 + m)``."""
    return np.asarray(f_number, dtype=float) * (1.0 + np.asarray(magnification, dtype=float))


def step_stop(f_number: float, thirds: int) -> float:
    """The marked stop that lies so many thirds of a stop away; positive closes the iris.

    From a stop between two marks the first step goes to the next mark.

    >>> step_stop(2.8, 1), step_stop(2.8, -3), step_stop(3.0, 1)
    (3.2, 2.0, 3.2)
    """
    marks = np.asarray(MARKED_STOPS)
    near = int(np.argmin(np.abs(np.log2(marks / f_number))))
    if not np.isclose(marks[near], f_number, rtol=1e-3):
        below = int(np.searchsorted(marks, f_number)) - 1
        near = below if thirds > 0 else below + 1
    return float(marks[int(np.clip(near + thirds, 0, len(marks) - 1))])
