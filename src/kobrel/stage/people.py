"""People as jointed figures, for stand-ins. All face +Z, with their feet on the ground."""

from functools import cache

import numpy as np

from kobrel.stage.scene import Mesh
from kobrel.stage.shapes import joined, lathe, limb, moved, sphere

EYES_OF_HEIGHT = 0.936
_SEATED_OF_STANDING = 0.73
"""Height of a seated person, of their standing height (1.30 of 1.78 m)."""


@cache
def standing() -> Mesh:
    """A person 1.78 m tall, arms hanging."""
    return joined(
        _torso(0.84),
        *_head(1.655),
        *(limb((x, 0.86, 0), (1.05 * x, 0.47, 0.01), 0.078) for x in (-0.095, 0.095)),
        *(limb((1.05 * x, 0.47, 0.01), (1.05 * x, 0.1, -0.02), 0.056) for x in (-0.095, 0.095)),
        *(_shoe(1.05 * x, 0.045, 0.05) for x in (-0.095, 0.095)),
        *(_arm((x, 1.39, 0), (1.2 * x, 1.11, -0.02), (1.2 * x, 0.86, 0.07)) for x in (-0.2, 0.2)),
    )


@cache
def seated() -> Mesh:
    """The same person on a chair 0.46 m high, 1.30 m tall so; the seat is part of the figure."""
    drop = 1.78 * (1 - _SEATED_OF_STANDING)
    return joined(
        moved(_torso(0.84), (0, -drop, 0)),
        *(moved(part, (0, -drop, 0)) for part in _head(1.655)),
        *(limb((x, 0.47, 0.02), (1.15 * x, 0.5, 0.44), 0.08) for x in (-0.095, 0.095)),
        *(limb((1.15 * x, 0.5, 0.44), (1.15 * x, 0.1, 0.46), 0.056) for x in (-0.095, 0.095)),
        *(_shoe(1.15 * x, 0.045, 0.53) for x in (-0.095, 0.095)),
        *(_arm((x, 1.39 - drop, 0), (1.15 * x, 1.1 - drop, 0.06), (0.8 * x, 0.6, 0.33)) for x in (-0.2, 0.2)),
        *(limb((x, 0.03, z), (x, 0.38, z), 0.018) for x in (-0.19, 0.19) for z in (-0.16, 0.22)),
        moved(sphere(0.24, 20), (0, 0.39, 0.03), (1.0, 0.1, 1.0)),
    )


@cache
def child() -> Mesh:
    """A child of seven, 1.22 m tall: a larger head, shorter limbs."""
    grown = joined(
        moved(_torso(0.6), (0, -0.16, 0), (0.86, 0.9, 0.9)),
        *(limb((x, 0.6, 0), (x, 0.33, 0.01), 0.062) for x in (-0.075, 0.075)),
        *(limb((x, 0.33, 0.01), (x, 0.08, -0.01), 0.046) for x in (-0.075, 0.075)),
        *(_shoe(x, 0.038, 0.04) for x in (-0.075, 0.075)),
        *(_arm((x, 0.85, 0), (1.2 * x, 0.66, -0.02), (1.2 * x, 0.48, 0.05)) for x in (-0.14, 0.14)),
    )
    return joined(grown, *(moved(part, (0, -0.56, 0)) for part in _head(1.655)))


def _torso(hip: float) -> Mesh:
    """From the hips to the neck."""
    profile = np.array(
        [[0, 0], [0.11, 0.01], [0.155, 0.06], [0.16, 0.13], [0.135, 0.25], [0.15, 0.4], [0.18, 0.52],
         [0.165, 0.6], [0.1, 0.65], [0.058, 0.68], [0.052, 0.74], [0, 0.75]]
    )  # fmt: skip
    return moved(lathe(profile, 32), (0, hip - 0.03, 0), (1.12, 1.0, 0.68))


def _head(middle: float) -> list[Mesh]:
    """A head whose middle is at a height, with a nose that tells which way it looks."""
    return [
        moved(sphere(0.105, 28), (0, middle, 0.012), (0.88, 1.19, 1.02)),
        moved(sphere(0.02, 10), (0, middle - 0.015, 0.12), (0.75, 1.3, 1.0)),
    ]


def _shoe(x: float, y: float, z: float) -> Mesh:
    return moved(sphere(0.07, 16), (x, y, z), (0.72, y / 0.07, 1.85))


def _arm(
    shoulder: tuple[float, float, float], elbow: tuple[float, float, float], wrist: tuple[float, float, float]
) -> Mesh:
    end = np.asarray(wrist) + 0.35 * (np.asarray(wrist) - np.asarray(elbow))
    return joined(
        limb(shoulder, elbow, 0.055),
        limb(elbow, wrist, 0.042),
        moved(sphere(0.05, 14), (end + np.asarray(wrist)) / 2, (0.62, 1.25, 0.8)),
    )
