"""Blurs as simpler tools make them, to compare with: each pixel gathers what lies around it."""

from collections.abc import Callable, Mapping
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import index_of, kernel
from kobrel.optics.aperture import places
from kobrel.picture.defocus.layered import defocused
from kobrel.picture.tracer import in_bands, never, signed_blur
from kobrel.picture.view import View

Method = Literal["layered", "gather", "gaussian", "box", "ramp"]
METHODS: Mapping[Method, str] = {
    "layered": "Layered, with occlusion", "gather": "Plain gather", "gaussian": "Gaussian", "box": "Box",
    "ramp": "Linear ramp between near and far",
}  # fmt: skip
"""How a rendered image can be blurred: all but the first for comparison alone."""
_TAPS = 128


@kernel
def _gather(rows, colour, blur, taps, out):  # type: ignore[no-untyped-def]
    """Each pixel is the weighted mean of taps (n, 3), x, y and weight, over its own disc."""
    height, width = blur.shape
    for y in range(rows[0], rows[1]):
        for x in range(width):
            size = blur[y, x] * 0.5
            if abs(size) < 0.5:
                for c in range(3):
                    out[y, x, c] = colour[y, x, c]
                continue
            r = g = b = total = 0.0
            for k in range(len(taps)):
                j = index_of(y + 0.5 + taps[k, 1] * size, height)
                i = index_of(x + 0.5 - taps[k, 0] * size, width)
                w = taps[k, 2]
                r += w * colour[j, i, 0]
                g += w * colour[j, i, 1]
                b += w * colour[j, i, 2]
                total += w
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = r / total, g / total, b / total


def _disc(view: View) -> NDArray[np.float32]:
    k = np.arange(_TAPS, dtype=float)
    at, _ = places(view.aperture, (k * 0.6180339887498949) % 1.0, (k + 0.5) / _TAPS, view.camera.iris.rim)
    return np.column_stack([at, np.ones(_TAPS)]).astype(np.float32)


def _bell(view: View) -> NDArray[np.float32]:
    """Weights of a Gaussian whose standard deviation is a quarter of the disc's width."""
    disc = _disc(view) * np.float32(1.5)
    away = (disc[:, :2] ** 2).sum(axis=1)
    disc[:, 2] = np.exp(-away / (2 * 0.5**2))
    return disc


def _square(_view: View) -> NDArray[np.float32]:
    side = (np.arange(11) + 0.5) / 11 * 2 - 1
    x, y = np.meshgrid(side, side)
    return np.column_stack([x.ravel(), y.ravel(), np.ones(x.size)]).astype(np.float32)


def _ramp(view: View, depth: NDArray[np.float32], blur: NDArray[np.float32]) -> NDArray[np.float32]:
    """Blur that grows evenly with the distance from the focus, to the largest that there is."""
    focus = float(view.camera.focus_m)
    far = float(np.quantile(depth[np.isfinite(depth)], 0.98)) if np.isfinite(depth).any() else focus * 2
    part = np.clip((np.minimum(depth, 1e9) - focus) / max(far - focus, focus * 0.5, 1e-6), -1, 1)
    result: NDArray[np.float32] = (part * np.quantile(np.abs(blur), 0.98)).astype(np.float32)
    return result


_TAPS_OF: Mapping[str, Callable[[View], NDArray[np.float32]]] = {
    "gather": _disc, "gaussian": _bell, "box": _square, "ramp": _disc,
}  # fmt: skip


def blurred_by(
    method: Method,
    view: View,
    colour: NDArray[np.float32],
    depth: NDArray[np.float32],
    stop: Callable[[], bool] = never,
    most_px: float | None = None,
) -> NDArray[np.float32]:
    """A rendered image blurred by one of the methods; parameters as :func:`defocused`.

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    if method == "layered":
        return defocused(view, colour, depth, stop, most_px)
    blur = signed_blur(view, depth)
    if method == "ramp":
        blur = _ramp(view, depth, blur)
    if most_px is not None:
        blur = np.clip(blur, -most_px, most_px)
    taps, out = _TAPS_OF[method](view), np.empty_like(colour)
    in_bands(len(blur), lambda rows: _gather(rows, colour, blur, taps, out), stop)
    return out


def grown_back(colour: NDArray[np.float32], level: float, stops: float) -> NDArray[np.float32]:
    """A picture whose highlights, clipped at a level, are brighter by so many stops again; softly from 0.9 of
    the level on.
    """
    most = colour.max(axis=-1)
    part = np.clip((most - 0.9 * level) / max(0.1 * level, 1e-9), 0, 1).astype(np.float32)
    result: NDArray[np.float32] = (
        colour * (np.float32(2.0) ** (np.float32(stops) * part * part * (3 - 2 * part)))[..., None]
    )
    return result
