"""Picture: through the lens, with the real depth of field, and pegs on the subjects."""

import math
import time
from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QMenu, QWidget

from kobrel.desk.picture.guides import middle, paint_crop, paint_guides
from kobrel.desk.picture.pointing import Pointing, Probed
from kobrel.desk.toolkit.gesture import Drag, Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import (
    draw_free_point,
    draw_label,
    draw_text,
    subject_colour,
    text_width,
)
from kobrel.desk.toolkit.panel import follow
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.optics.bend import bent, unbent
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.survey import GONE
from kobrel.session.commands import pulling, taping, walking
from kobrel.session.session import Session
from kobrel.session.state import AT_FRAME, Now

_MOST_FLAGS = 30
"""Subjects with a flag; those beyond have their peg alone."""
_PEG_GRAB_PX = 11
_PROBE_SECONDS = 0.015
_WALK_RAD_PX = 0.006
_WALK_PAN_PX = 0.0018
MOST_PIXELS_WIDE = 1280
_DEPENDS = (
    *AT_FRAME, "dragging", "tool", "sight", "thrown", "throw_px", "selected_subject", "selected_tape",
    "selected_mark",
)  # fmt: skip
_WALKING = "Walking about.  Enter makes this the shot's camera, Esc goes back."
Bend = Callable[[float, float, float, float], tuple[Numbers, Numbers]]


class _Walk(Drag):
    """Moves the view camera around its aim, with Shift aside. Released where it was pressed, it opens the
    menu of what is there.
    """

    def __init__(self, view: "PictureView", session: Session, at: QPointF) -> None:
        super().__init__(session)
        self._view, self._pressed, self._last = view, at, at

    def begin(self, at: QPointF) -> None:
        """The drag begins with the first move."""

    def move(self, at: QPointF, keys: Keys) -> None:
        self.session.begin_drag()
        by, self._last = at - self._last, at
        if keys & Keys.ShiftModifier:
            walking.pan(self.session, -by.x() * _WALK_PAN_PX, by.y() * _WALK_PAN_PX)
        else:
            walking.orbit(self.session, -by.x() * _WALK_RAD_PX, by.y() * _WALK_RAD_PX)

    def finish(self, at: QPointF) -> None:
        super().finish(at)
        if at == self._pressed:
            self._view.menu_at(at).popup(self._view.mapToGlobal(at).toPoint())


class PictureView(GestureWidget):
    """See the module.

    Signals
    -------
    resized : the picture has room for another size
    probed : what is under the pointer, in words
    """

    resized = Signal()
    probed = Signal(str)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.image: QImage | None = None
        self.status = ""
        self._last_probe = 0.0
        self.focus_key_held = False
        self._pointing = Pointing(session)
        self._probed: tuple[QPointF, Probed] | None = None
        self.ready = False
        self.setMinimumSize(240, 150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture through the lens")
        self.setToolTip(
            "Click a thing to make it a subject. Click a peg, or hold D and click anywhere, to focus there.\n"
            "Drag with the right button to walk around, with Shift aside; the wheel walks nearer."
        )
        session.watch(AT_FRAME, self._tell_scale)
        follow(session, self, _DEPENDS, first=lambda: self.gesture is not None)

    def sizeHint(self) -> QSize:
        return QSize(640, 380)

    # Geometry

    def whole_rect(self) -> QRectF:
        """Where the whole picture stands: as large as fits, with a margin for its surround."""
        camera = self._session.camera
        aspect = camera.whole.aspect if camera else 16 / 9
        room = QRectF(self.rect()).adjusted(6, 6, -6, -6)
        width = min(room.width(), room.height() * aspect)
        height = width / aspect
        left, top = room.center().x() - width / 2, room.center().y() - height / 2
        return QRectF(round(left), round(top), max(1, round(width)), max(1, round(height)))

    def frame_rect(self) -> QRectF:
        """Where the delivered frame stands in it."""
        camera, whole = self._session.camera, self.whole_rect()
        if camera is None or camera.gate_mm is None:
            return whole
        return middle(whole, *camera.whole.inner)

    def _gate_rect(self) -> QRectF:
        """Where the sensor ends."""
        camera, whole = self._session.camera, self.whole_rect()
        if camera is None or camera.gate_mm is None:
            return whole
        full = camera.whole
        return middle(
            whole, camera.gate_mm[0] / full.sensor_width_mm, camera.gate_mm[1] / full.sensor_height_mm
        )

    def picture_size(self) -> tuple[int, int]:
        """Pixels to draw: those on the screen, up to a limit."""
        box, ratio = self.whole_rect(), self.devicePixelRatioF()
        part = min(1.0, MOST_PIXELS_WIDE / (box.width() * ratio)) * ratio
        return max(16, round(box.width() * part)), max(9, round(box.height() * part))

    def peg_places(self) -> list[tuple[int, QPointF]]:
        """Subjects in the picture: (row of the survey, place on the widget)."""
        now, box = self._session.now, self.frame_rect()
        if now is None:
            return []
        sight, state = now.survey.sight, now.survey.state
        return [
            (row, self._shown(box, sight.x_px[row, now.row], sight.y_px[row, now.row]))
            for row in range(len(now.survey.subjects))
            if state[row, now.row] != GONE
        ]

    def _shown(self, box: QRectF, x_px: Numbers, y_px: Numbers) -> QPointF:
        """Where a place of the delivered picture stands on the widget, bent as the view is."""
        scale = box.width() / (self._session.camera.width_px if self._session.camera else 1)
        at = QPointF(box.left() + float(x_px) * scale, box.top() + float(y_px) * scale)
        return self._bent(at, bent)

    def _meant(self, at: QPointF) -> QPointF:
        """The place in the straight picture that is seen at a place of the widget."""
        return self._bent(at, unbent)

    def _bent(self, at: QPointF, bend: Bend) -> QPointF:
        percent = self._session.plan.finish.bend_percent
        if percent == 0.0:
            return at
        whole = self.whole_rect()
        middle, half, tall = whole.center(), whole.width() / 2, whole.height() / 2
        x, y = bend((at.x() - middle.x()) / half, (at.y() - middle.y()) / tall, half / tall, percent)
        return QPointF(middle.x() + float(x) * half, middle.y() + float(y) * tall)

    # Pictures from the drawing

    def show_image(self, image: QImage, status: str) -> None:
        """Show a drawn picture."""
        self.image, self.status, self.ready = image, status, True
        self.update()

    def show_status(self, status: str) -> None:
        """Say what the picture waits for."""
        self.status = status
        self.update()

    def forget_image(self) -> None:
        """Show nothing, as the old picture is of another scene."""
        self.image, self.ready = None, False
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._tell_scale()
        self.resized.emit()

    def _tell_scale(self) -> None:
        """Let others draw things as large as they are here."""
        camera = self._session.camera
        if camera is not None:
            self._session.set_picture_scale(self.frame_rect().width() / camera.width_px)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme().surround)
        box = self.frame_rect()
        if self.image is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(self.whole_rect(), self.image)
        if box != self.whole_rect():
            paint_crop(painter, self.whole_rect(), box, self._gate_rect())
        paint_guides(painter, box, self._session.plan.guides)
        now = self._session.now
        if now is not None:
            self._paint_tapes(painter, box, now)
            self._paint_pegs(painter, box, now)
            self._paint_free_points(painter, box, now)
            self._paint_probe(painter, box)
        if self._session.walk is not None:
            self._paint_banner(painter, box, _WALKING)
        elif self._session.thrown_px:
            way = "before" if self._session.throw_px < 0 else "behind"
            text = f"All thrown out of focus by {abs(self._session.throw_px):g} px, as {way} it."
            self._paint_banner(painter, box, f"{text}  O brings it back.")
        if self.status:
            width = text_width(self.status, 12)
            painter.fillRect(QRectF(box.left(), box.bottom() - 24, width + 18, 24), faded(theme().base, 0.62))
            draw_text(painter, QPointF(box.left() + 9, box.bottom() - 8), self.status, theme().text, 12)
        finish = self._session.plan.finish
        marks = ["glow"] * (finish.glow > 0) + ["distortion"] * (finish.bend_percent != 0)
        if marks:
            text = f"view only: {', '.join(marks)}"
            width = text_width(text, 12) + 18
            painter.fillRect(
                QRectF(box.right() - width, box.bottom() - 24, width, 24), faded(theme().base, 0.62)
            )
            draw_text(painter, QPointF(box.right() - 9, box.bottom() - 8), text, theme().focus, 12, "right")
        if self._session.problem:
            draw_text(
                painter, QPointF(box.left() + 9, box.top() + 22), self._session.problem, theme().wrong, 13
            )

    def _paint_pegs(self, painter: QPainter, box: QRectF, now: Now) -> None:
        """Stems and pegs first, then all flags, so that no stem runs through a flag."""
        session, numbers = self._session, now.survey
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        report = session.sight_report if session.walk is None else None
        flags: list[tuple[QRectF, int, str, str, QColor]] = []
        for row, at in sorted(self.peg_places(), key=lambda place: place[1].y()):
            subject = session.plan.subject(numbers.subjects[row])
            if subject is None:
                continue
            colour = subject_colour(numbers, row, session.row)
            title = f"{subject.number} {subject.name}"
            distance = session.length(float(numbers.focus_distance_m[row, session.row]))
            text = f"{distance}   {float(numbers.sight.blur_px[row, session.row]):.1f} px"
            hidden = report is not None and bool(report.lines.hidden[row, now.row])
            text += "   hidden" if hidden else ""
            if len(flags) < _MOST_FLAGS or session.selected_subject == subject.number:
                flag = self._place_flag(box, at, (title, text), [taken for taken, *_ in flags])
                flags.append((flag, row, title, text, colour))
                self._paint_stem(painter, at, flag, colour)
            painter.setBrush(theme().base if hidden else colour)
            painter.setPen(QPen(colour if hidden else theme().base, 1.2))
            painter.drawEllipse(at, 4, 4)
        for flag, row, title, text, colour in flags:
            chosen = session.selected_subject == numbers.subjects[row]
            painter.setPen(QPen(colour, 2.4 if chosen else 1.4))
            painter.setBrush(faded(theme().base, 0.88))
            painter.drawRoundedRect(flag, 3, 3)
            draw_text(painter, flag.topLeft() + QPointF(7, 15), title, colour, 12, bold=True)
            draw_text(painter, flag.topLeft() + QPointF(7, 30), text, colour, 12)

    def _paint_stem(self, painter: QPainter, at: QPointF, flag: QRectF, colour: QColor) -> None:
        foot = QPointF(
            min(max(at.x(), flag.left() + 7), flag.right() - 7),
            flag.bottom() if flag.top() < at.y() else flag.top(),
        )
        for pen in (QPen(faded(theme().base, 0.8), 3.4), QPen(colour, 1.6)):
            painter.setPen(pen)
            painter.drawLine(at, foot)

    def _paint_free_points(self, painter: QPainter, box: QRectF, now: Now) -> None:
        """Points that marks are on, without a subject."""
        for point in pulling.free_points(self._session):
            sight = now.camera.see(point)
            if bool(sight.in_frame):
                draw_free_point(painter, self._shown(box, sight.x_px, sight.y_px))

    def _place_flag(self, box: QRectF, at: QPointF, lines: tuple[str, str], taken: list[QRectF]) -> QRectF:
        """Room for a flag above its peg, or wherever near it is free."""
        widths = [text_width(line, 12, bold) for line, bold in zip(lines, (True, False), strict=True)]
        width = max(112.0, max(widths) + 16)
        left = min(max(at.x() - 22, box.left() + 4), box.right() - width - 4)
        tries = [at.y() - 62 - 40 * i for i in range(5)] + [at.y() + 26 + 40 * i for i in range(5)]
        for top in tries:
            flag = QRectF(left, top, width, 37)
            inside = box.top() + 2 <= top and flag.bottom() <= box.bottom() - 2
            if inside and not any(flag.intersects(other) for other in taken):
                return flag
        return QRectF(left, min(max(tries[0], box.top() + 2), box.bottom() - 40), width, 37)

    def _paint_banner(self, painter: QPainter, box: QRectF, text: str) -> None:
        painter.fillRect(QRectF(box.left(), box.top(), box.width(), 26), faded(theme().base, 0.72))
        draw_text(painter, QPointF(box.left() + 9, box.top() + 18), text, theme().focus, 13, bold=True)

    def _paint_tapes(self, painter: QPainter, box: QRectF, now: Now) -> None:
        """Tapes whose ends are before the camera."""
        session, camera = self._session, now.camera
        if not now.plan.tapes:
            return
        painter.save()
        painter.setClipRect(box)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(theme().panel)
        for tape in session.plan.tapes:
            numbers = taping.numbers_of(session, tape)
            if numbers is None:
                continue
            start, end = camera.see(numbers.start[0]), camera.see(numbers.end[0])
            colour = theme().focus if session.selected_tape == tape.name else theme().text
            places = [
                self._shown(box, s.x_px, s.y_px)
                for s in (start, end)
                if math.isfinite(float(s.x_px)) and float(s.straight_m) > 1e-6
            ]
            painter.setPen(QPen(colour, 1.6, Qt.PenStyle.DashLine))
            if len(places) == 2:
                painter.drawLine(*places)
            painter.setPen(QPen(colour, 1.6))
            for at in places:
                painter.drawEllipse(at, 3.5, 3.5)
            if places and box.contains(places[-1]):
                text = session.length(float(numbers.straight_m[0]))
                draw_label(painter, places[-1] + QPointF(10, 17), text, colour, bold=True)
        painter.restore()

    def _paint_probe(self, painter: QPainter, box: QRectF) -> None:
        """The probe's reading beside the pointer, while it is in hand."""
        tool = self._session.tool
        if tool is None or tool.does != "probe" or self._probed is None:
            return
        at, probed = self._probed
        session, sight = self._session, probed.sight
        lines = [
            probed.name, f"{session.length(float(sight.axial_m))} along the axis",
            f"{session.length(float(sight.straight_m))} straight", f"{float(sight.blur_px):.1f} px blur",
        ]  # fmt: skip
        left = at.x() + 16 if at.x() < box.right() - 190 else at.x() - 186
        top = min(at.y() + 12, box.bottom() - 76)
        painter.setPen(QPen(theme().focus, 1.4))
        painter.setBrush(faded(theme().base, 0.9))
        painter.drawRoundedRect(QRectF(left, top, 170, 72), 3, 3)
        for row, line in enumerate(lines):
            draw_text(painter, QPointF(left + 8, top + 16 + 16 * row), line, theme().text, 12, bold=row == 0)

    # Mouse and keys

    def press(self, event: QMouseEvent) -> Gesture | None:
        at, now = event.position(), self._session.now
        if event.button() == Qt.MouseButton.RightButton:
            return _Walk(self, self._session, at)
        if event.button() == Qt.MouseButton.LeftButton and now is not None:
            self._click(now, at)
        return None

    def _click(self, now: Now, at: QPointF) -> None:
        for row, place in self.peg_places():
            if math.hypot(at.x() - place.x(), at.y() - place.y()) <= _PEG_GRAB_PX:
                self._pointing.take_peg(now.survey.subjects[row])
                return
        box = self.frame_rect()
        pick = self._pointing.pick(self._meant(at), box) if self.ready else None
        if pick is None:
            if box.contains(at):
                ready = self.ready and self._session.stage.built
                self._session.say(
                    "Nothing stands there to measure." if ready else "The scene is not ready yet."
                )
        elif self.focus_key_held:
            self._pointing.focus(now, pick)
        else:
            self._pointing.take(now, pick, self._meant(at), box)

    def hover(self, event: QMouseEvent) -> None:
        at, moment = event.position(), time.monotonic()
        if moment - self._last_probe < _PROBE_SECONDS:
            return
        self._last_probe = moment
        probed = self._pointing.probe(self._meant(at), self.frame_rect()) if self.ready else None
        self.setCursor(Qt.CursorShape.CrossCursor if probed else Qt.CursorShape.ArrowCursor)
        self.probed.emit(self._pointing.words(probed) if probed else "")
        self._probed = (at, probed) if probed else None
        tool = self._session.tool
        if tool is not None and tool.does == "probe":
            self.update()

    def menu_at(self, at: QPointF) -> QMenu:
        """What can be done with the thing at a place."""
        menu = QMenu(self)
        pick = self._pointing.pick(self._meant(at), self.frame_rect()) if self.ready else None
        for text, work in self._pointing.actions(pick) if pick else ():
            menu.addAction(text).triggered.connect(lambda _on=False, do=work: do())
        if menu.isEmpty():
            menu.addAction("Nothing stands there").setEnabled(False)
        return menu

    def wheelEvent(self, event: QWheelEvent) -> None:
        walking.dolly(self._session, event.angleDelta().y() / 120.0)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._session.walk is not None:
            walking.take_walk(self._session)
        else:
            super().keyPressEvent(event)
