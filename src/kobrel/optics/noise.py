"""What noise in blur discs costs a renderer."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers


def samples_for_noise(light_px: ArrayLike, disc_px: ArrayLike, noise: ArrayLike) -> Numbers:
    """Samples a pixel that a path tracer needs for a wanted noise in a highlight's disc.

    A ray from a pixel of the disc meets the light with probability p, the light's area over the
    disc's. N of them give a mean of relative error sqrt((1 - p) / (p N)) (binomial), so
    N = (1 - p) / (p noise^2).

    Parameters
    ----------
    light_px : diameter of the light when sharp, pixels
    disc_px : diameter of a round disc of the blur disc's area, pixels
    noise : standard deviation over the mean, such as 0.05

    >>> float(samples_for_noise(4.0, 40.0, 0.1))
    9900.0
    """
    part = np.minimum((np.asarray(light_px, float) / np.asarray(disc_px, float)) ** 2, 1.0)
    result: Numbers = np.maximum(np.round((1.0 - part) / (part * np.asarray(noise, float) ** 2), 6), 1.0)
    return result
