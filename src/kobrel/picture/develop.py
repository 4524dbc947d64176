"""From linear light to the screen."""

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import index_of, kernel
from kobrel.picture.tracer import in_bands, never
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import Camera
from kobrel.stage.pictures.colours import to_srgb

_STEPS = 4096


@kernel
def _develop_rows(rows, linear, gain, shoulder, table, out):  # type: ignore[no-untyped-def]
    knee = np.float32(1) - shoulder
    for y in range(rows[0], rows[1]):
        for x in range(linear.shape[1]):
            most = max(linear[y, x, 0], linear[y, x, 1], linear[y, x, 2]) * gain
            by = gain
            if shoulder > np.float32(0) and most > knee:
                by *= (np.float32(1) - shoulder * np.exp((knee - most) / shoulder)) / most
            for c in range(3):
                light = max(linear[y, x, c] * by, np.float32(0))
                out[y, x, c] = table[index_of(np.sqrt(light) * np.float32(_STEPS - 1), _STEPS)]


def developed(
    linear: NDArray[np.float32], exposure_ev: float = 0.0, shoulder: float = 0.0
) -> NDArray[np.uint8]:
    """SRGB bytes, (H, W, 3), of a picture in linear light, brightened by stops.

    Steps on a table of 4,096 are finer than sRGB's own for 8 bits but in the deepest
    shadows, where the table is spaced by square roots.

    Above the knee 1 - s of a shoulder s the brightest of the three colours m becomes
    ``1 - s exp(-(m - (1 - s)) / s)``, and the others follow it, so that highlights keep their
    colour; the curve has no corner at the knee and ends below 1.
    """
    gain = np.float32(2.0**exposure_ev)
    picture = np.ascontiguousarray(linear, np.float32)
    out = np.empty(picture.shape, np.uint8)
    in_bands(
        len(picture),
        lambda rows: _develop_rows(rows, picture, gain, np.float32(shoulder), _TABLE, out),
        never,
    )
    return out


def as_shown(linear: NDArray[np.float32], light: Light, camera: Camera) -> NDArray[np.uint8]:
    """SRGB bytes, (H, W, 3), as bright as a plan's light and a shot's exposure have it."""
    return developed(linear, light.exposure_ev + float(camera.shown_ev), light.shoulder)


_TABLE = np.round(to_srgb(((np.arange(_STEPS) + 0.5) / _STEPS) ** 2) * 255.0).astype(np.uint8)
