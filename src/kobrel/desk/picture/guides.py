"""Lines over the picture to compose by, and the line of frames below one that stands alone."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk.toolkit.paint import draw_text, paint_range
from kobrel.desk.toolkit.theme import DARK, faded, theme
from kobrel.plan.look import Guides
from kobrel.plan.model import Shot
from kobrel.session.session import Session


def middle(box: QRectF, across: float, up: float) -> QRectF:
    """The middle of a box, so much of its width and height, 0 to 1."""
    width, height = box.width() * across, box.height() * up
    return QRectF(box.center().x() - width / 2, box.center().y() - height / 2, width, height)


def paint_crop(painter: QPainter, box: QRectF, frame: QRectF, gate: QRectF) -> None:
    """Darken what lies outside the delivered frame; where the frame reaches beyond the sensor, a
    dashed line shows the sensor's edge.
    """
    shade = faded(DARK.surround, 0.72)
    for rest in (
        QRectF(box.left(), box.top(), box.width(), frame.top() - box.top()),
        QRectF(box.left(), frame.bottom(), box.width(), box.bottom() - frame.bottom()),
        QRectF(box.left(), frame.top(), frame.left() - box.left(), frame.height()),
        QRectF(frame.right(), frame.top(), box.right() - frame.right(), frame.height()),
    ):
        painter.fillRect(rest, shade)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(faded(DARK.text, 0.55), 1))
    painter.drawRect(frame)
    if gate.width() < box.width() - 1 or gate.height() < box.height() - 1:
        painter.setPen(QPen(faded(DARK.text, 0.8), 1, Qt.PenStyle.DashLine))
        painter.drawRect(gate)


def paint_guides(painter: QPainter, frame: QRectF, guides: Guides) -> None:
    """Thirds, centre and safe area within the delivered frame."""
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(faded(DARK.text, 0.55), 1))
    if guides.thirds:
        for i in (1, 2):
            x, y = frame.left() + frame.width() * i / 3, frame.top() + frame.height() * i / 3
            painter.drawLine(QPointF(x, frame.top()), QPointF(x, frame.bottom()))
            painter.drawLine(QPointF(frame.left(), y), QPointF(frame.right(), y))
    if guides.centre:
        centre = frame.center()
        for step in (QPointF(14, 0), QPointF(0, 14)):
            painter.drawLine(centre - step, centre + step)
    if 0 < guides.safe_percent < 100:
        painter.setPen(QPen(faded(DARK.text, 0.55), 1, Qt.PenStyle.DashLine))
        part = guides.safe_percent / 100
        painter.drawRect(middle(frame, part, part))


def paint_frames(painter: QPainter, session: Session, shot: Shot, line: QRectF) -> None:
    """The line of frames, with its marks, the frame that is shown, and which are played."""
    middle, span = line.center().y(), max(shot.last - shot.first, 1)

    def x_of(frame: float) -> float:
        return line.left() + (frame - shot.first) / span * line.width()

    painter.setPen(QPen(theme().line, 2))
    painter.drawLine(QPointF(line.left(), middle), QPointF(line.right(), middle))
    if session.played != (shot.first, shot.last):
        first, last = session.played
        paint_range(painter, x_of(first), x_of(last), middle - 7, middle + 7)
    painter.setPen(QPen(theme().focus, 1.6))
    painter.setBrush(theme().surround)
    for mark in shot.marks:
        painter.drawEllipse(QPointF(x_of(mark.frame), middle), 4, 4)
    painter.setBrush(theme().focus)
    painter.drawEllipse(QPointF(x_of(session.frame), middle), 5, 5)
    label = QPointF(min(max(x_of(session.frame), line.left() + 6), line.right() - 6), middle - 8)
    draw_text(painter, label, f"{session.frame:g}", theme().text, 12, "centre", bold=True)
