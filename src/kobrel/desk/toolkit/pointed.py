"""A value as the views show it, while the pointer is on it."""

from typing import Literal

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from kobrel.desk.toolkit.paint import draw_label
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.optics.iris import outline
from kobrel.plan.values.quantities import QUANTITIES
from kobrel.plan.values.render_camera import render_camera
from kobrel.session.numbers import Now

Shape = Literal["distance", "disc", "across", "up", "diagonal", "frame", "cone", ""]
_SHAPES: dict[Shape, tuple[str, ...]] = {
    "distance": (
        "focus_distance", "focal_distance", "focus_dioptres", "near_limit", "far_limit", "hyperfocal",
        "full_before", "begins_before", "begins_behind", "full_behind", "black_point",
        "white_point", "inverse_white", "focus_value", "inverse_focus_value",
    ),
    "disc": (
        "infinity_blur_px", "infinity_blur_percent", "infinity_blur_mm", "largest_blur", "blades",
        "roundness", "turn_from_right", "clockwise_from_right", "turn_from_top", "back_from_top", "squeeze",
        "disc_width", "stretch", "blur_at_black", "inverse_blur",
    ),
    "across": ("angle_across", "focal_length"), "up": ("angle_up",), "diagonal": ("angle_diagonal",),
    "frame": ("film_width", "film_height"),
    "cone": (
        "f_number", "aperture_radius", "aperture_diameter", "aperture_radius_mm", "aperture_diameter_mm",
        "lens_radius", "t_stop", "pupil_width", "pupil_height",
    ),
}  # fmt: skip
_FOCUS = ("focus_dioptres", "focus_value", "inverse_focus_value")
_LEAST_DISC_PX = 2.0


def shape_of(key: str) -> Shape:
    """How a quantity is shown; "" where there is nothing to be seen."""
    return next((shape for shape, keys in _SHAPES.items() if key in keys), "")


def distance_of(now: Now, key: str) -> float | None:
    """The distance that a quantity stands for, metres."""
    if shape_of(key) != "distance":
        return None
    camera = render_camera(now.shot, now.survey).at(now.row)
    metres = float(camera.focus_m[0]) if key in _FOCUS else float(QUANTITIES[key].values(camera)[0])
    return metres if np.isfinite(metres) and metres > 0 else None


def cone_of(now: Now, key: str) -> tuple[float, float] | None:
    """Half the width of the pupil and the focus distance, metres, where a quantity is about the light."""
    if shape_of(key) != "cone" or now.camera.projection == "orthographic":
        return None
    return float(now.camera.pupil_radius_m), min(float(now.camera.focus_m), 1e4)


def paint_pointed(painter: QPainter, box: QRectF, now: Now, key: str) -> None:
    """Show a quantity over the picture, whose delivered frame is a box."""
    shape = shape_of(key)
    painter.setPen(QPen(theme().focus, 2.0))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    middle = box.center()
    if shape == "across":
        painter.drawLine(QPointF(box.left(), middle.y()), QPointF(box.right(), middle.y()))
    elif shape == "up":
        painter.drawLine(QPointF(middle.x(), box.top()), QPointF(middle.x(), box.bottom()))
    elif shape == "diagonal":
        painter.drawLine(box.bottomLeft(), box.topRight())
    elif shape == "frame":
        painter.drawRect(box.adjusted(1, 1, -1, -1))
    elif shape in ("disc", "cone"):
        _paint_disc(painter, box, now, key)


def _paint_disc(painter: QPainter, box: QRectF, now: Now, key: str) -> None:
    """A disc of blur as large as it is in the picture: at infinity, or the largest of a ramp."""
    camera = render_camera(now.shot, now.survey).at(now.row)
    blur = float(camera.full_px[0] if key == "largest_blur" else camera.blur_px(np.inf)[0])
    size = blur * box.width() / camera.width_px
    if not np.isfinite(size) or size < _LEAST_DISC_PX:
        draw_label(painter, box.center(), f"{blur:.2g} px at infinity", theme().focus)
        return
    points = outline(now.camera.turned_iris, camera.squeeze) * size / 2.0
    middle = box.center()
    painter.setBrush(faded(theme().focus, 0.2))
    painter.drawPolygon(QPolygonF([QPointF(middle.x() + float(x), middle.y() - float(y)) for x, y in points]))
    what = "largest blur" if key == "largest_blur" else "at infinity"
    draw_label(
        painter, QPointF(middle.x() + size / 2 + 8, middle.y() + 4), f"{blur:.3g} px {what}", theme().focus
    )
