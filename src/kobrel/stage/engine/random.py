"""Numbers that look random, the same for the same place, pass and ray."""

import numpy as np

from kobrel.compiled import kernel

_PIXELS, _MOST_PASSES = 2048, 8191
# Fractions of square roots and the golden ratio: one even sequence over all passes for each layer.
_STEPS = np.array([
    0.61803399, 0.41421356, 0.73205081, 0.23606798, 0.64575131, 0.31662479, 0.60555128, 0.12310563,
    0.35889894, 0.79583152, 0.38516481, 0.56776436, 0.08276253, 0.40312424, 0.55743852, 0.8556546,
])  # fmt: skip


@kernel
def mixed(h):  # type: ignore[no-untyped-def]
    """A number in [0, 1) from a 32-bit one (Wellons' mixer)."""
    h ^= h >> np.uint32(16)
    h *= np.uint32(0x7FEB352D)
    h ^= h >> np.uint32(15)
    h *= np.uint32(0x846CA68B)
    h ^= h >> np.uint32(16)
    return np.float64(np.uint32(h)) * (1.0 / 4294967296.0)


@kernel
def pass_code(pixel, number):  # type: ignore[no-untyped-def]
    """What a camera's ray carries in place of its time: below 0, its pass, and its pixel by a number in
    [0, 1); exact in single precision.
    """
    return -np.float32(1 + (number % _MOST_PASSES) * _PIXELS + int(pixel * _PIXELS))


@kernel
def layer_chance(time, layer):  # type: ignore[no-untyped-def]
    """A number in [0, 1) for a ray that carries a :func:`pass_code` and meets a layer: over the passes of a
    pixel even in itself, and by other steps for each layer, so that layers do not depend on each other.
    """
    code = np.int64(-time) - 1
    number, pixel = code // _PIXELS, code % _PIXELS
    start = mixed(np.uint32(pixel) * np.uint32(0x9E3779B1) + np.uint32(layer) * np.uint32(0x85EBCA77))
    value = start + number * _STEPS[layer % len(_STEPS)]
    return value - np.floor(value)
