"""Pulling by hand: a large dial, recorded while the shot plays."""

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.background.devices.handwheel import HandWheel
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.toolkit.fields import number_field
from kobrel.desk.toolkit.gesture import Drag, Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import draw_text
from kobrel.desk.toolkit.theme import theme
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.model import Shot
from kobrel.plan.pull.live_pull import metres_of
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME
from kobrel.session.recording.focus import Performer
from kobrel.session.session import Session
from kobrel.session.view import View

_STEP_DEG, _FINE = 4.0, 0.2


@guarded
class Dial(GestureWidget):
    """The focus ring from the front: it turns as the focus goes, evenly in dioptres."""

    def __init__(self, session: Session, performer: Performer, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._performer = session, performer
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Focus wheel")
        self.setToolTip("Drag round, scroll, or press Up/Down to pull (Shift: fine). Up: closer")
        session.watch((*AT_FRAME, View.theme), self.update)
        performer.changed.connect(self._show)

    def _show(self) -> None:
        self.update()

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
        painter.setPen(QPen(theme().wrong if recording else theme().line, 3))
        painter.setBrush(theme().raised)
        painter.drawEllipse(centre, radius, radius)
        if camera is None:
            return
        focus = 1.0 / float(camera.focus_m)
        turned = focus * self._deg_a_dpt()
        for tooth in range(0, 360, 10):
            angle = math.radians(tooth + turned)
            long = 14 if tooth % 90 == 0 else 8
            way = QPointF(math.sin(angle), -math.cos(angle))
            painter.setPen(QPen(theme().quiet, 2))
            painter.drawLine(centre + way * (radius - 4), centre + way * (radius - 4 - long))
        painter.setPen(QPen(theme().focus, 3))
        painter.drawLine(centre - QPointF(0, radius + 6), centre - QPointF(0, radius - 22))
        draw_text(
            painter, centre + QPointF(0, 4), self._session.length(float(camera.focus_m)), theme().focus, 25,
            "centre", bold=True,
        )  # fmt: skip
        text = "recording" if recording else f"{focus:.3f} dioptres"
        colour = theme().wrong if recording else theme().quiet
        draw_text(painter, centre + QPointF(0, 26), text, colour, 12, "centre")

    def angle(self, at: QPointF) -> float:
        """Where a point is about the middle, degrees to the right of straight up."""
        away = at - QRectF(self.rect()).center()
        return math.degrees(math.atan2(away.x(), -away.y()))

    def turn(self, degrees: float, fine: bool) -> None:
        """Turn the dial to the right, or finely."""
        self._performer.turn(degrees * (_FINE if fine else 1.0) / self._deg_a_dpt())

    def press(self, event: QMouseEvent) -> Gesture | None:
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        kind = _TurnGesture if self._performer.recording else _PutFocus
        return kind(self._session, self, event.position())

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120.0
        self.turn(steps * _STEP_DEG, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ways = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Down: -1.0}
        way = ways.get(Qt.Key(event.key()))
        if way is None:
            super().keyPressEvent(event)
        else:
            self.turn(way * _STEP_DEG, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))


class _TurnGesture(Gesture):
    """Turns the dial with the pointer about its middle."""

    def __init__(self, session: Session, dial: Dial, at: QPointF) -> None:
        self._dial, self._from = dial, dial.angle(at)

    def move(self, at: QPointF, keys: Keys) -> None:
        angle = self._dial.angle(at)
        by = (angle - self._from + 180) % 360 - 180
        self._from = angle
        self._dial.turn(by, bool(keys & Keys.ShiftModifier))


class _PutFocus(_TurnGesture, Drag):
    """Turns the dial to put the focus at the frame; one step to undo."""

    def __init__(self, session: Session, dial: Dial, at: QPointF) -> None:
        super().__init__(session, dial, at)
        self.session = session


class LivePullPage(Card[Shot]):
    """Pulling by hand: a large dial, recorded while the shot plays."""

    name = "Live pull"
    purpose = "Record a pull by hand while the shot plays"
    is_page = True
    depends = (Document.plan, Document.shot_index)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.performer = Performer(session)
        self.dial = Dial(session, self.performer)
        self.column.addWidget(self.dial)
        self.record = self.buttons(
            ("Record", "Play the shot once from its first frame and record the dial", self._record)
        )[0]
        self.wheel = HandWheel(session, self)
        self.wheel.turned.connect(self.performer.take_position)
        self.wheel.told.connect(session.say)
        self.use_wheel = self.tick(
            "Use hand unit",
            "Start the simulated hand unit; Record captures it",
            lambda _shot: self.wheel.running,
            self._take_wheel,
        )
        self.at = self.reading("Hand unit at", hint="Focus set by the hand unit", read=self._wheel_at)
        self.tolerance = number_field(
            "Tolerance",
            "dpt (1/m)",
            0.005,
            0.0005,
            1.0,
            digits=3,
            about="How far the recorded marks may be from the take; larger gives fewer marks",
        )
        self.bind(self.tolerance, lambda _shot: self.performer.tolerance_dpt, self.performer.set_tolerance)
        self.row("Tolerance", self.tolerance)
        self.note(
            "Record plays the shot once and records your pull, smoothed and reduced to as few marks as the "
            "tolerance allows. They replace the shot's marks; every take is also saved as an alt. When "
            "nothing is recorded, the wheel sets the focus at this frame."
        )
        self.column.addStretch(1)
        self.performer.changed.connect(self._refresh_if_seen)

    def subject(self) -> Shot | None:
        """See :class:`Card`."""
        return self.session.shot

    def _record(self) -> None:
        self.dial.setFocus()
        self.performer.toggle()

    def _wheel_at(self, _shot: Shot) -> str:
        dpt = self.performer.wheel_dpt
        return "–" if dpt is None else self.session.length(metres_of(dpt))

    def _take_wheel(self, on: bool) -> None:
        if on:
            self.wheel.start()
        else:
            self.wheel.stop()
            self.performer.forget_position()

    def show_more(self, subject: Shot) -> None:
        self.record.setText("Stop recording" if self.performer.recording else "Record")
