"""Lines over the picture to compose by."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk.look import DARK, faded
from kobrel.plan.model import Guides


def inner(box: QRectF, percent: float) -> QRectF:
    """The middle of a box, of a part of each side."""
    width, height = box.width() * percent / 100, box.height() * percent / 100
    return QRectF(box.center().x() - width / 2, box.center().y() - height / 2, width, height)


def delivery(box: QRectF, aspect: float) -> QRectF:
    """The largest frame of a width over height in the middle of a box."""
    width = min(box.width(), box.height() * aspect)
    height = width / aspect
    return QRectF(box.center().x() - width / 2, box.center().y() - height / 2, width, height)


def paint_guides(painter: QPainter, box: QRectF, guides: Guides) -> None:
    """Delivery frame, with what lies outside it darkened, and within it thirds, centre and safe area."""
    frame = box
    painter.setBrush(Qt.BrushStyle.NoBrush)
    line = QPen(faded(DARK.text, 0.55), 1)
    if guides.frame_aspect > 0:
        frame = delivery(box, guides.frame_aspect)
        shade = faded(DARK.surround, 0.72)
        for rest in (
            QRectF(box.left(), box.top(), box.width(), frame.top() - box.top()),
            QRectF(box.left(), frame.bottom(), box.width(), box.bottom() - frame.bottom()),
            QRectF(box.left(), frame.top(), frame.left() - box.left(), frame.height()),
            QRectF(frame.right(), frame.top(), box.right() - frame.right(), frame.height()),
        ):
            painter.fillRect(rest, shade)
        painter.setPen(line)
        painter.drawRect(frame)
    painter.setPen(line)
    if guides.thirds:
        for i in (1, 2):
            x, y = frame.left() + frame.width() * i / 3, frame.top() + frame.height() * i / 3
            painter.drawLine(QPointF(x, frame.top()), QPointF(x, frame.bottom()))
            painter.drawLine(QPointF(frame.left(), y), QPointF(frame.right(), y))
    if guides.centre:
        middle = frame.center()
        for step in (QPointF(14, 0), QPointF(0, 14)):
            painter.drawLine(middle - step, middle + step)
    if 0 < guides.safe_percent < 100:
        painter.setPen(QPen(faded(DARK.text, 0.55), 1, Qt.PenStyle.DashLine))
        painter.drawRect(inner(frame, guides.safe_percent))
