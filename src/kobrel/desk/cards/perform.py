"""Pulling by hand: a large dial, recorded while the shot plays."""

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.fields import number_field
from kobrel.desk.handwheel import HandWheel
from kobrel.desk.look import look
from kobrel.desk.paint import draw_text
from kobrel.desk.performing import Performer
from kobrel.desk.session import Session
from kobrel.plan.pace import closest_m
from kobrel.plan.perform import metres_of

_STEP_DEG, _FINE = 4.0, 0.2


class Dial(QWidget):
    """The focus ring from the front: it turns as the focus goes, evenly in dioptres."""

    def __init__(self, session: Session, performer: Performer, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._performer = session, performer
        self._from: float | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Focus dial")
        self.setToolTip(
            "Drag around, turn the wheel, or press Up and Down to pull the focus; with Shift finely. "
            "Up goes nearer."
        )
        session.changed.connect(self.update)
        performer.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(250, 250)

    def _deg_a_dpt(self) -> float:
        shot = self._session.shot
        return closest_m(shot) * shot.ring.throw_deg if shot else 100.0

    def paintEvent(self, event: QPaintEvent) -> None:
        camera = self._session.camera
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        centre = QPointF(self.width() / 2, self.height() / 2)
        radius = min(self.width(), self.height()) / 2 - 12
        recording = self._performer.recording
        painter.setPen(QPen(look().wrong if recording else look().line, 3))
        painter.setBrush(look().raised)
        painter.drawEllipse(centre, radius, radius)
        if camera is None:
            return
        focus = 1.0 / float(camera.focus_m)
        turned = focus * self._deg_a_dpt()
        for tooth in range(0, 360, 10):
            angle = math.radians(tooth + turned)
            long = 14 if tooth % 90 == 0 else 8
            way = QPointF(math.sin(angle), -math.cos(angle))
            painter.setPen(QPen(look().quiet, 2))
            painter.drawLine(centre + way * (radius - 4), centre + way * (radius - 4 - long))
        painter.setPen(QPen(look().focus, 3))
        painter.drawLine(centre - QPointF(0, radius + 6), centre - QPointF(0, radius - 22))
        draw_text(
            painter, centre + QPointF(0, 4), self._session.length(float(camera.focus_m)), look().focus, 25,
            "centre", bold=True,
        )  # fmt: skip
        text = "recording" if recording else f"{focus:.3f} dioptres"
        colour = look().wrong if recording else look().quiet
        draw_text(painter, centre + QPointF(0, 26), text, colour, 12, "centre")

    def _angle(self, at: QPointF) -> float:
        away = at - QRectF(self.rect()).center()
        return math.degrees(math.atan2(away.x(), -away.y()))

    def _turn(self, degrees: float, fine: bool) -> None:
        self._performer.turn(degrees * (_FINE if fine else 1.0) / self._deg_a_dpt())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._from = self._angle(event.position())
            if not self._performer.recording:
                self._session.begin_drag()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is None:
            return
        now = self._angle(event.position())
        by = (now - self._from + 180) % 360 - 180
        self._from = now
        self._turn(by, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._from = None
        if not self._performer.recording:
            self._session.end_drag()

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120.0
        self._turn(steps * _STEP_DEG, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ways = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Down: -1.0}
        way = ways.get(Qt.Key(event.key()))
        if way is None:
            super().keyPressEvent(event)
        else:
            self._turn(way * _STEP_DEG, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))


class PerformPage(Card):
    """See the module."""

    name = "Perform"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.performer = Performer(session, self)
        self.dial = Dial(session, self.performer)
        self.column.addWidget(self.dial)
        self.record = self.buttons(
            ("Record", "Play the shot once from its first frame and record the dial", self._record)
        )[0]
        self.wheel = HandWheel(session, self)
        self.wheel.turned.connect(self.performer.take_position)
        self.wheel.told.connect(session.said)
        self.use_wheel = self.tick(
            "Pull with the hand-wheel",
            "Switch the simulated hand-wheel on; it turns by itself, and Record takes what it says",
            self._take_wheel,
        )
        self.at = self.reading("Hand-wheel at", hint="Where the hand-wheel would have the focus.")
        self.tolerance = number_field("Tolerance", "dpt", 0.005, 0.0005, 1.0, digits=3)
        self.tolerance.setToolTip("How far the marks may be off what was performed, in dioptres.")
        self.tolerance.show_value(self.performer.tolerance_dpt)
        self.tolerance.taken.connect(self.performer.set_tolerance)
        self.row("Tolerance", self.tolerance)
        self.note(
            "The shot plays once and what you turn is recorded. Its tremor is smoothed away, and it becomes "
            "as few marks as hold it within the tolerance, in place of the shot's marks. Each try is kept "
            "among the Alts, to choose from. Without a recording the dial puts the focus at this frame."
        )
        self.column.addStretch(1)
        self.performer.changed.connect(self.refresh)

    def _record(self) -> None:
        self.dial.setFocus()
        self.performer.toggle()

    def _take_wheel(self, on: bool) -> None:
        if on:
            self.wheel.start()
        else:
            self.wheel.stop()
            self.performer.wheel_dpt = None
        self.refresh()

    def refresh(self) -> None:
        dpt = self.performer.wheel_dpt
        self.at.setText("–" if dpt is None else self.session.length(metres_of(dpt)))
        self.setEnabled(self.session.shot is not None)
        self.record.setText("End" if self.performer.recording else "Record")
