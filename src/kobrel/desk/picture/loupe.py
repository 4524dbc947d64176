"""The loupe: a round glass at the pointer that shows delivered pixels.

What it shows is drawn at the size of the delivery, for that spot alone.
"""

import math
from dataclasses import replace

from PySide6.QtCore import QObject, QPointF, QRectF, Signal
from PySide6.QtGui import QImage, QPainter, QPainterPath, QPen

from kobrel.desk.toolkit.paint import draw_text, text_width
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.measure.camera import Camera
from kobrel.session.session import Session

RADIUS = 110.0
_ENLARGED = 2
"""Pixels of the screen for each delivered pixel."""
_STEP_PX = 24
"""The spot moves in steps of so many delivered pixels, so that a resting hand lets it be refined."""


class Loupe(QObject):
    """The loupe: a round glass at the pointer that shows delivered pixels.

    Signals
    -------
    moved : another spot is wanted, or none
    """

    moved = Signal()

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.held = False
        self._at: QPointF | None = None
        self._spot = (0.5, 0.5)
        self._image: QImage | None = None
        self._told = ""
        self._shown_spot = self._spot
        self._asked: Camera | None = None

    @property
    def size(self) -> int:
        """Width and height of the spot, delivered pixels."""
        return math.ceil(2 * RADIUS / _ENLARGED) + 2 * _STEP_PX

    def hold(self, on: bool) -> None:
        """Take up the glass, or put it down."""
        if on != self.held:
            self.held, self._image = on, None
            self.moved.emit()

    def point(self, at: QPointF, box: QRectF) -> None:
        """The pointer is at a place of the widget, where the delivered frame stands in a box."""
        camera = self._session.camera
        self._at = at
        if camera is None or box.width() < 1:
            return
        wide, tall = camera.width_px, camera.height_px
        x, y = (at.x() - box.left()) / box.width() * wide, (at.y() - box.top()) / box.height() * tall
        spot = (
            min(max(round(x / _STEP_PX) * _STEP_PX, 0), wide) / wide,
            min(max(round(y / _STEP_PX) * _STEP_PX, 0), tall) / tall,
        )
        if spot != self._spot:
            self._spot = spot
            if self.held:
                self.moved.emit()

    def camera(self, of: Camera) -> Camera | None:
        """A camera that pictures the spot alone at the size of the delivery; None while it rests."""
        seen = self.held and self._at is not None
        self._asked = cropped(of, self._spot, self.size) if seen else None
        return self._asked

    @property
    def image(self) -> QImage | None:
        """The spot as it is seen, pixel by pixel of the delivery; None while it rests or is not drawn yet."""
        return self._image if self.held else None

    def show(self, image: QImage, told: str, by: Camera) -> None:
        """Take a picture of the spot, unless it is of one that was wanted before.

        Parameters
        ----------
        by : the camera that it was drawn by
        """
        if by is self._asked:
            self._image, self._told, self._shown_spot = image, told, self._spot

    def paint(self, painter: QPainter, box: QRectF) -> None:
        """The glass at the pointer."""
        camera, at = self._session.camera, self._at
        if not self.held or at is None or camera is None:
            return
        glass = QPainterPath()
        glass.addEllipse(at, RADIUS, RADIUS)
        painter.save()
        painter.setClipPath(glass)
        painter.fillPath(glass, theme().surround)
        if self._image is not None:
            middle = QPointF(
                box.left() + self._shown_spot[0] * box.width(), box.top() + self._shown_spot[1] * box.height()
            )
            enlarged = camera.width_px / box.width() * _ENLARGED
            half = self.size * _ENLARGED / 2
            place = at + (middle - at) * enlarged
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
            painter.drawImage(QRectF(place.x() - half, place.y() - half, 2 * half, 2 * half), self._image)
        painter.restore()
        painter.setPen(QPen(theme().text, 1.6))
        painter.drawPath(glass)
        text = f"{_ENLARGED} : 1 of {camera.width_px} px   {self._told}"
        wide = text_width(text, 12) + 14
        label = QRectF(at.x() - wide / 2, at.y() + RADIUS - 24, wide, 20)
        painter.fillRect(label, faded(theme().base, 0.8))
        draw_text(painter, QPointF(at.x(), label.bottom() - 6), text, theme().text, 12, "centre")


def cropped(camera: Camera, spot: tuple[float, float], size: int) -> Camera:
    """The camera that pictures a square about a spot of the delivered frame alone, pixel by pixel.

    Parameters
    ----------
    spot : place in the frame, 0 to 1 from the left and from the top
    size : of the square, delivered pixels
    """
    wide, tall = size / camera.width_px, size / camera.height_px
    across, up = camera.shift_mm
    return replace(
        camera,
        sensor_width_mm=camera.sensor_width_mm * wide,
        sensor_height_mm=camera.sensor_height_mm * tall,
        shift_mm=(
            across + (spot[0] - 0.5) * camera.sensor_width_mm,
            up + (0.5 - spot[1]) * camera.sensor_height_mm,
        ),
        field_m=camera.field_m * wide,
        width_px=size,
        gate_mm=None,
    )
