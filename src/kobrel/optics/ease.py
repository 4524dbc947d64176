"""How a move is shared out over its time."""

import numpy as np

from kobrel.optics.lens import Numbers

Handles = tuple[float, float, float, float]
PLAIN: Handles = (0.4, 0.0, 0.6, 1.0)
_STEPS = 40


def eased(u: Numbers, kind: str, handles: Handles = PLAIN) -> Numbers:
    """How far a move has come at the part u of its time.

    Parameters
    ----------
    u : (n,) 0 to 1
    kind : even u; smooth 3u^2 - 2u^3; fast, then settling 1 - (1 - u)^3; late u^3; own, a cubic Bezier
        curve from (0, 0) to (1, 1)
    handles : its two middle points, x1, y1, x2, y2, x from 0 to 1

    >>> eased(np.array([0.0, 0.5, 1.0]), "fast").tolist()
    [0.0, 0.875, 1.0]
    """
    u = np.asarray(u, float)
    if kind == "smooth":
        return u * u * (3.0 - 2.0 * u)
    if kind == "fast":
        return 1.0 - (1.0 - u) ** 3
    if kind == "late":
        return u**3
    return _bezier(u, handles) if kind == "own" else u


def _bezier(u: Numbers, handles: Handles) -> Numbers:
    """The curve's height where it is so far across; it goes across without turning back."""
    x1, y1, x2, y2 = handles
    low, high = np.zeros_like(u), np.ones_like(u)
    for _ in range(_STEPS):
        t = (low + high) / 2
        below = _cubic(t, x1, x2) < u
        low, high = np.where(below, t, low), np.where(below, high, t)
    t = (low + high) / 2
    return np.where(u <= 0, 0.0, np.where(u >= 1, 1.0, _cubic(t, y1, y2)))


def _cubic(t: Numbers, one: float, two: float) -> Numbers:
    return 3 * (1 - t) ** 2 * t * one + 3 * (1 - t) * t * t * two + t**3


def swinging(u: Numbers, swings: float, decay: float) -> Numbers:
    """A swing that dies away: ``sin(2 pi n u) exp(-k u) (1 - u)`` over the height of its first crest.

    Parameters
    ----------
    u : (n,) part of its time; nothing before 0 and after 1
    swings : n, whole swings there and back
    decay : k
    """
    u = np.asarray(u, float)

    def wave(at: Numbers) -> Numbers:
        return np.sin(2 * np.pi * swings * at) * np.exp(-decay * at) * (1.0 - at)

    crest = wave(np.linspace(0.0, min(1.0, 0.5 / swings), 257)).max()
    return np.where((u > 0) & (u < 1), wave(np.clip(u, 0, 1)) / crest, 0.0)
