"""Iris: the shape of blur."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.fields import number_field
from kobrel.desk.look import faded, look
from kobrel.desk.paint import draw_text
from kobrel.desk.session import Session
from kobrel.optics import iris as shapes
from kobrel.plan.survey import GONE


class IrisShapeView(QWidget):
    """The opening as its blur disc looks, large, with the round pupil of the same stop behind it."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(170)
        self.setAccessibleName("Shape of the iris")
        session.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(230, 240)

    def paintEvent(self, event: QPaintEvent) -> None:
        camera = self._session.camera
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().surround)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        if camera is None:
            return
        fan = shapes.outline(camera.iris, camera.squeeze, points=720)
        radius = min(self.width(), self.height() - 28) * 0.40
        centre = QPointF(self.width() / 2, (self.height() - 20) / 2)
        painter.setPen(QPen(look().line, 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, radius, radius)
        painter.setPen(QPen(look().sharp, 1.5))
        painter.setBrush(faded(look().focus, 0.85))
        painter.drawPolygon(QPolygonF([centre + QPointF(x, -y) * radius for x, y in fan]))
        text = f"entrance pupil {float(camera.pupil_mm):.1f} mm"
        if camera.squeeze > 1:
            text += f" high, {float(camera.pupil_mm) / camera.squeeze:.1f} mm wide"
        draw_text(painter, QPointF(self.width() / 2, self.height() - 10), text, look().quiet, 11, "centre")


class IrisCard(Card):
    """See the module."""

    name = "Iris"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.shape_view = IrisShapeView(session)
        self.column.addWidget(self.shape_view, 1)
        self.blades = number_field("Blades", "", 1.0, 0.0, 64.0)
        self.blades.setToolTip("Blades: 3 or more, 0 for a circle. Up and down keys or the wheel step it.")
        self.blades.taken.connect(self._take_blades)
        self.row("Blades", self.blades)
        self.roundness = number_field("Roundness", "", 0.05, 0.0, 1.0)
        self.roundness.setToolTip("Roundness of the blades: 0 is straight, 1 is a circle.")
        self.roundness.taken.connect(lambda v: self._take("Roundness", roundness=v))
        self.row("Roundness", self.roundness)
        self.rotation = number_field("Rotation", "°", 1.0, -360.0, 360.0)
        self.rotation.taken.connect(lambda v: self._take("Rotation of the iris", rotation_deg=v))
        self.row("Rotation", self.rotation)
        self.squeeze = number_field("Squeeze", "×", 0.1, 1.0, 4.0)
        self.squeeze.taken.connect(lambda q: session.edit_glass(f"Squeeze {q:g}", squeeze=q))
        self.row("Squeeze", self.squeeze)
        self.line()
        self.background = self.reading("Far background", 21, "farther")
        self.largest = self.reading("Largest subject", 21, "nearer")
        self.note(
            "Height of the blur discs in pixels at delivery width. The outline keeps the area "
            "of the round pupil, so the f-number keeps its light."
        )

    def _take(self, name: str, **changes: object) -> None:
        self.session.edit_shot(name, lambda shot: shot.but(iris=shot.iris.but(**changes)))

    def _take_blades(self, value: float) -> None:
        """Whole blades; from the circle up to three at once, from three down to the circle."""
        old = self.session.shot.iris.blades if self.session.shot else 0
        wanted = round(value)
        if wanted in (1, 2):
            wanted = 3 if old == 0 else 0
        self._take("Blades", blades=wanted)
        self.refresh()

    def refresh(self) -> None:
        shot, camera, numbers = self.session.shot, self.session.camera, self.session.survey
        self.setEnabled(shot is not None)
        if shot is None or camera is None or numbers is None:
            return
        self.blades.show_value(shot.iris.blades)
        self.roundness.show_value(shot.iris.roundness)
        self.rotation.show_value(shot.iris.rotation_deg)
        self.squeeze.show_value(shot.glass.squeeze)
        self.background.setText(f"{float(camera.blur_px(float('inf'))):.1f} px")
        seen = [
            float(blur)
            for blur, state in zip(
                numbers.sight.blur_px[:, self.session.row], numbers.state[:, self.session.row], strict=True
            )
            if state != GONE
        ]
        self.largest.setText(f"{max(seen):.1f} px" if seen else "–")
