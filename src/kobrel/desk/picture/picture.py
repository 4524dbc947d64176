"""Picture: through the lens, with the real depth of field, and tags on the subjects."""

import math
import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QAccessible,
    QColor,
    QGuiApplication,
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

from kobrel.desk.boundary import guarded
from kobrel.desk.picture.copying import DragHandle, framed, grabbed
from kobrel.desk.picture.flags import Flags
from kobrel.desk.picture.guides import middle, paint_crop, paint_frames, paint_guides
from kobrel.desk.picture.loupe import Loupe
from kobrel.desk.picture.plates import PlateMarks
from kobrel.desk.picture.pointing import Pointing, Probed
from kobrel.desk.picture.titles import TitleEditor
from kobrel.desk.toolkit.gesture import Drag, Gesture, GestureWidget, Keys, Scrub
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import (
    draw_free_point,
    draw_text,
    label_at,
    text_width,
    xy,
)
from kobrel.desk.toolkit.panel import follow
from kobrel.desk.toolkit.pointed import paint_pointed
from kobrel.desk.toolkit.spoken import announce, focus_in_words, subjects_in_words
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.optics.bend import bent, unbent
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.survey import GONE
from kobrel.session.commands import pulling, taping, walking
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now, ShotNumbers
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View

_TAG_GRAB_PX = 11
_PROBE_SECONDS = 0.015
_HINT = (
    "Click an object to make it a subject. Click a tag, or D-click, to focus. Hold Z: loupe. "
    "Right-drag: free view (Shift: truck); wheel: dolly."
)
_FRAMES = 30
MARGIN = 6
"""Surround at each side of the whole picture, pixels."""
_WALK_RAD_PX = 0.006
_WALK_PAN_PX = 0.0018
MOST_PIXELS_WIDE = 1280
_DEPENDS = (
    *AT_FRAME, Document.dragging, ShotNumbers.sight, Selection.tool, Selection.subject, Selection.item,
    Selection.marks, View.defocus_everything, View.throw_px, View.pointed_value, View.card, View.play_range,
)  # fmt: skip
_WALKING = "Free view. Enter: use as shot camera. Esc: back"
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


@guarded
class PictureView(GestureWidget):
    """Picture: through the lens, with the real depth of field, and tags on the subjects.

    Signals
    -------
    resized : the picture has room for another size
    probed : what is under the pointer, in words
    """

    spoken_role = QAccessible.Role.Graphic
    resized = Signal()
    probed = Signal(str)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.image: QImage | None = None
        self.status, self._last_probe = "", 0.0
        self.focus_key_held = False
        self._pointing = Pointing(session)
        self.flags = Flags(session, self.update)
        self.loupe = Loupe(session, self)
        self.loupe.moved.connect(self.update)
        self.plates = PlateMarks(session, self.frame_rect, self._shown, self._meant, self.update)
        self.titles = TitleEditor(session, self.plates, self)
        self._probed: tuple[QPointF, Probed] | None = None
        self.handle = DragHandle(session, self.seen, self)
        self.ready = self.alone = False
        self.setMinimumSize(240, 150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture through the lens")
        self.setStatusTip(_HINT)
        self.setAccessibleDescription(_HINT)
        session.watch(AT_FRAME, self._tell_scale)
        session.watch(AT_FRAME, lambda: announce(self))
        follow(session, self, _DEPENDS, first=lambda: self.gesture is not None)

    def spoken_value(self) -> str:
        """See :class:`kobrel.desk.toolkit.spoken.Spoken`."""
        return f"{focus_in_words(self._session)}; {subjects_in_words(self._session)}; {self.status}"

    def sizeHint(self) -> QSize:
        return QSize(640, 380)

    # Geometry

    def whole_rect(self) -> QRectF:
        """Where the whole picture stands: as large as fits, with a margin for its surround."""
        camera = self._session.camera
        aspect = camera.whole.aspect if camera else 16 / 9
        room = QRectF(self.rect())
        if self.alone:
            room.setBottom(room.bottom() - _FRAMES)
        else:
            room.adjust(MARGIN, MARGIN, -MARGIN, -MARGIN)
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

    def frames_rect(self) -> QRectF:
        """The line of frames below a picture that stands alone."""
        return QRectF(24, self.height() - _FRAMES, self.width() - 48, _FRAMES)

    def _frame_at(self, x: float) -> float:
        """The frame at a place along the line of frames."""
        line, shot = self.frames_rect(), self._session.shot
        part = (x - line.left()) / max(line.width(), 1.0)
        return shot.first + part * (shot.last - shot.first) if shot is not None else 0.0

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

    def tag_places(self) -> list[tuple[int, QPointF]]:
        """Subjects in the picture: (row of the survey, place on the widget)."""
        now, box = self._session.now, self.frame_rect()
        if now is None:
            return []
        sight, rows = now.survey.sight, np.flatnonzero(now.survey.state[:, now.row] != GONE)
        scale = box.width() / now.camera.width_px
        places = np.stack([sight.x_px[rows, now.row], sight.y_px[rows, now.row]], axis=1).tolist()
        return [
            (row, self._bent(QPointF(box.left() + x * scale, box.top() + y * scale), bent))
            for row, (x, y) in zip(rows.tolist(), places, strict=True)
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

    def show_alone(self, on: bool) -> None:
        """Leave no margin, and show a line of frames to scrub along."""
        self.alone = on
        self.update()

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
        self.image, self.ready, self.status = None, False, ""
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._tell_scale()
        self.resized.emit()

    def _tell_scale(self) -> None:
        """Let others draw things as large as they are here."""
        self.handle.stand(self.frame_rect())
        camera = self._session.camera
        if camera is not None:
            self._session.view.picture_scale = self.frame_rect().width() / camera.width_px

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
        labels = Labels(box.adjusted(3, 3, -3, -3))
        self._paint_remarks(painter, box, labels)
        now = self._session.now
        if now is not None:
            self.plates.paint(painter, now, labels)
            ends = self._paint_tapes(painter, box, now)
            self.flags.paint(painter, now, self.tag_places(), labels)
            self._paint_free_points(painter, box, now)
            self._paint_lengths(painter, ends, labels)
            self._paint_probe(painter, box)
            if self._session.view.pointed_value:
                paint_pointed(painter, box, now, self._session.view.pointed_value)
        if self.alone and self._session.shot is not None:
            paint_frames(painter, self._session, self._session.shot, self.frames_rect())
        self.loupe.paint(painter, box)
        if self._session.problem:
            draw_text(
                painter, QPointF(box.left() + 9, box.top() + 22), self._session.problem, theme().wrong, 13
            )

    def _paint_remarks(self, painter: QPainter, box: QRectF, labels: Labels) -> None:
        """What state the picture is in, along its edges."""
        session, finish = self._session, self._session.plan.finish
        if session.walk is not None:
            labels.take(self._paint_banner(painter, box, _WALKING))
        elif session.defocus_everything_px:
            side = "in front of" if session.view.throw_px < 0 else "behind"
            text = f"Everything defocused by {abs(session.view.throw_px):g} px, as {side} the focus."
            labels.take(self._paint_banner(painter, box, f"{text}  O: back to normal."))
        if self.status:
            room = QRectF(box.left(), box.bottom() - 24, text_width(self.status, 12) + 18, 24)
            painter.fillRect(room, faded(theme().base, 0.62))
            draw_text(painter, QPointF(box.left() + 9, box.bottom() - 8), self.status, theme().text, 12)
            labels.take(room)
        marks = ["glow"] * (finish.glow > 0) + ["distortion"] * (finish.bend_percent != 0)
        if marks:
            text = f"view only: {', '.join(marks)}"
            width = text_width(text, 12) + 18
            room = QRectF(box.right() - width, box.bottom() - 24, width, 24)
            painter.fillRect(room, faded(theme().base, 0.62))
            draw_text(painter, QPointF(box.right() - 9, box.bottom() - 8), text, theme().focus, 12, "right")
            labels.take(room)

    def _paint_free_points(self, painter: QPainter, box: QRectF, now: Now) -> None:
        """Points that marks are on, without a subject."""
        for point in pulling.free_points(self._session):
            sight = now.camera.see(point)
            if bool(sight.in_frame):
                draw_free_point(painter, self._shown(box, sight.x_px, sight.y_px))

    @staticmethod
    def _paint_banner(painter: QPainter, box: QRectF, text: str) -> QRectF:
        room = QRectF(box.left(), box.top(), box.width(), 26)
        painter.fillRect(room, faded(theme().base, 0.72))
        draw_text(painter, QPointF(box.left() + 9, box.top() + 18), text, theme().focus, 13, bold=True)
        return room

    def _paint_tapes(self, painter: QPainter, box: QRectF, now: Now) -> list[tuple[QPointF, str, QColor]]:
        """Tapes whose ends are before the camera; where in the picture they end, with their lengths."""
        session, camera = self._session, now.camera
        ends: list[tuple[QPointF, str, QColor]] = []
        painter.save()
        painter.setClipRect(box)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(theme().panel)
        for tape in session.plan.tapes:
            numbers = taping.numbers_of(session, tape)
            if numbers is None:
                continue
            start, end = camera.see(numbers.start[0]), camera.see(numbers.end[0])
            colour = theme().focus if session.selection.tape == tape.name else theme().text
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
                ends.append((places[-1], session.length(float(numbers.straight_m[0])), colour))
        painter.restore()
        return ends

    @staticmethod
    def _paint_lengths(painter: QPainter, ends: list[tuple[QPointF, str, QColor]], labels: Labels) -> None:
        """Lengths of tapes at their ends, where there is room."""
        for at, text, colour in ends:
            label_at(painter, labels, at, text, colour, bold=True)

    def _paint_probe(self, painter: QPainter, box: QRectF) -> None:
        """The probe's reading beside the pointer, while it is in hand."""
        tool = self._session.selection.tool
        if tool is None or tool.does != "probe" or self._probed is None:
            return
        at, probed = self._probed
        session, sight = self._session, probed.sight
        lines = [
            probed.name, f"{session.length(float(sight.axial_m))} on axis",
            f"{session.length(float(sight.straight_m))} straight-line", f"{float(sight.blur_px):.1f} px blur",
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
        if self.alone and self.frames_rect().contains(at) and event.button() == Qt.MouseButton.LeftButton:
            return Scrub(self._session, self._frame_at)
        if event.button() == Qt.MouseButton.LeftButton and now is not None:
            if self.plates.wants(at):
                return self.plates.press(at)
            self._click(now, at)
        return None

    def _click(self, now: Now, at: QPointF) -> None:
        for row, place in self.tag_places():
            if math.hypot(at.x() - place.x(), at.y() - place.y()) <= _TAG_GRAB_PX:
                self._pointing.take_tag(now.survey.subjects[row])
                return
        box = self.frame_rect()
        if self._session.selection.tool is not None and self._session.selection.tool.does == "measure":
            self._pointing.measure(now, self._meant(at), box)
            return
        pick = self._pointing.pick(self._meant(at), box) if self.ready else None
        if pick is None:
            if box.contains(at):
                ready = self.ready and self._session.stage.built
                self._session.say("Nothing here to measure." if ready else "The scene is not ready yet.")
        elif self.focus_key_held:
            self._pointing.focus(now, pick)
        else:
            self._pointing.take(now, pick, self._meant(at), box)

    def hover(self, event: QMouseEvent) -> None:
        at, moment = event.position(), time.monotonic()
        self.plates.hover(at)
        self.loupe.point(at, self.frame_rect())
        if self.loupe.held:
            self.update()
        if moment - self._last_probe < _PROBE_SECONDS:
            return
        self._last_probe = moment
        probed = self._pointing.probe(self._meant(at), self.frame_rect()) if self.ready else None
        self.setCursor(Qt.CursorShape.CrossCursor if probed else Qt.CursorShape.ArrowCursor)
        self.probed.emit(self._pointing.words(probed) if probed else "")
        self._probed = (at, probed) if probed else None
        self._point_at(at)
        tool = self._session.selection.tool
        if tool is not None and tool.does == "probe":
            self.update()

    def _point_at(self, at: QPointF) -> None:
        """The tag under the pointer has its whole flag."""
        now = self._session.now
        places = self.tag_places() if now is not None else []
        near = [row for row, place in places if math.dist(xy(place), xy(at)) <= _TAG_GRAB_PX]
        pointed = now.survey.subjects[near[0]] if now is not None and near else None
        if pointed != self.flags.pointed:
            self.flags.pointed = pointed
            self.update()

    def menu_at(self, at: QPointF) -> QMenu:
        """What can be done with the thing at a place."""
        menu = QMenu(self)
        pick = self._pointing.pick(self._meant(at), self.frame_rect()) if self.ready else None
        for text, work in self._pointing.actions(pick) if pick else ():
            menu.addAction(text).triggered.connect(lambda _on=False, do=work: do())
        if menu.isEmpty():
            menu.addAction("Nothing here").setEnabled(False)
        menu.addSeparator()
        menu.addAction("Copy picture" if self.loupe.image is None else "Copy the loupe").triggered.connect(
            lambda _on=False: self.copy()
        )
        menu.addAction("Copy picture with tags").triggered.connect(lambda _on=False: self.copy(tags=True))
        return menu

    def seen(self, tags: bool = False) -> QImage | None:
        """The delivered frame as it is seen, if it is drawn yet."""
        if self.image is None:
            return None
        whole, box = self.whole_rect(), self.frame_rect()
        return grabbed(self, box, self.handle) if tags else framed(self.image, whole, box)

    def copy(self, tags: bool = False) -> None:
        """Put the picture on the clipboard; what the loupe shows while that is held."""
        spot = None if tags else self.loupe.image
        image = spot if spot is not None else self.seen(tags)
        if image is not None:
            QGuiApplication.clipboard().setImage(image)
            self._session.say("Copied the picture." if spot is None else "Copied what the loupe shows.")

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        left = event.button() == Qt.MouseButton.LeftButton
        if not (left and self.titles.begin_at(event.position())):
            super().mouseDoubleClickEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        walking.dolly(self._session, event.angleDelta().y() / 120.0)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if self.plates.key(event):
            event.accept()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._session.walk is not None:
            walking.take_walk(self._session)
        else:
            super().keyPressEvent(event)
