"""An iris as a picture, and a blur disc as one."""

import numpy as np
from PySide6.QtGui import QColor, QImage

from kobrel.desk.toolkit.images import to_image
from kobrel.desk.toolkit.theme import DARK, theme
from kobrel.optics.aperture import transmission
from kobrel.optics.lens import Numbers
from kobrel.picture.discs import Disc
from kobrel.plan.measure.camera import Camera
from kobrel.stage.pictures.colours import to_srgb

_SIDE = 512


def _rgb(colour: QColor) -> Numbers:
    return np.array([colour.redF(), colour.greenF(), colour.blueF()])


def iris_image(camera: Camera) -> QImage:
    """What passes light, in brass on the surround: the square about the unsqueezed outline."""
    light = transmission(camera.turned_iris, _SIDE, camera.squeeze)
    part = (light / max(1.0, float(light.max())) * 0.85)[..., None]
    shown = _rgb(theme().surround) * (1 - part) + _rgb(DARK.focus) * part
    return to_image(np.round(shown * 255).astype(np.uint8))


def disc_image(disc: Disc, px_across: float, pixels: int) -> QImage:
    """A disc as light on the surround, so many delivery pixels wide, as bright as its shape is seen
    best.
    """
    light = disc.image(pixels, px_across)
    lit = light[light.sum(axis=2) > 0]
    level = float(np.percentile(lit.max(axis=1), 70)) if len(lit) else 1.0
    ground = _rgb(theme().surround)
    shown = ground + (1 - ground) * to_srgb(np.clip(light / max(level, 1e-12) * 0.8, 0, 1))
    return to_image(np.round(np.clip(shown, 0, 1) * 255).astype(np.uint8))
