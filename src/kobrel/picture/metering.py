"""How bright a first picture shall be: metered from the picture itself."""

import numpy as np
from numpy.typing import NDArray

from kobrel.picture.tracer import sharp_picture
from kobrel.picture.view import View
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan, Shot
from kobrel.stage.stage import Stage

_WIDTH = 192
_WHITE, _BLACK = 1.0, 0.002
"""Linear light at and beyond which nothing is told apart any more on a screen."""
_FEW = 0.03
_BRIGHT, _GREY = 0.85, 0.25
_MOST_EV = 40.0
_ENOUGH = 0.01
"""Part of the picture that things must cover for them alone to be metered, without what is all about."""


def swallowed(pixels: NDArray[np.floating], ev: float = 0.0) -> tuple[float, float]:
    """The part of a picture, (H, W, 3) linear, that is white, and the part that is black."""
    bright = np.max(pixels, axis=-1) * 2.0**ev
    return float(np.mean(bright >= _WHITE)), float(np.mean(bright <= _BLACK))


def metered_ev(pixels: NDArray[np.floating]) -> float:
    """Stops by which a picture, (H, W, 3) linear, is brightened so that few pixels are white or black.

    None where it is fine as it is. Else it becomes a middle grey on the average, unless its brightest but
    for a few would be white; where that leaves much of it black, the two are balanced.
    """
    white, black = swallowed(pixels)
    if white <= _FEW and black <= _FEW:
        return 0.0
    bright = np.max(pixels, axis=-1)
    lit = bright[np.isfinite(bright) & (bright > 0)]
    if not len(lit):
        return 0.0
    top = float(np.quantile(lit, 1.0 - _FEW / 2))
    grey = float(np.exp(np.mean(np.log(lit))))
    ev = float(np.log2(min(_BRIGHT / max(top, 1e-12), _GREY / max(grey, 1e-12))))
    tries = ev + np.linspace(0.0, 8.0, 33)
    worst = [max(swallowed(pixels, each)) for each in tries]
    if worst[0] > _FEW:
        ev = float(tries[int(np.argmin(worst))])
    return float(np.clip(round(ev, 2), -_MOST_EV, _MOST_EV))


def metered(plan: Plan, shot: Shot, stage: Stage) -> Plan:
    """The plan with its light's exposure as metered from a shot's first frame."""
    stage = stage.of_shot(shot.name)
    camera = camera_at(plan, shot, shot.first, stage)
    height = max(8, round(_WIDTH / camera.aspect))
    light = plan.light.replace(exposure_ev=0.0)
    view = View(stage.snapshot(shot.first, eye=camera.eye), camera, light, _WIDTH, height)
    sharp = sharp_picture(view)
    things = np.isfinite(sharp.depth)
    counted = sharp.colour[things][None] if things.mean() > _ENOUGH else sharp.colour
    ev = metered_ev(counted)
    return plan if ev == 0.0 else plan.replace(light=_brightened(plan.light, ev))


def _brightened(light: Light, ev: float) -> Light:
    return light.replace(exposure_ev=light.exposure_ev + ev)
