"""Picture: through the lens, with the real depth of field, and pegs on the subjects."""

import math
import time

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFontMetricsF,
    QImage,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QWidget

from kobrel.desk.look import faded, font, look
from kobrel.desk.paint import draw_text, subject_colour
from kobrel.desk.session import Session
from kobrel.plan.model import SubjectTarget, SurfaceAnchor
from kobrel.plan.survey import GONE
from kobrel.stage.stage import Pick

_PEG_GRAB_PX = 11
_PROBE_SECONDS = 0.03
MOST_PIXELS_WIDE = 1280


class PictureView(QWidget):
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
        self._image: QImage | None = None
        self.status = ""
        self._last_probe = 0.0
        self.focus_key_held = False
        self.ready = False
        self.setMinimumSize(240, 150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Picture through the lens")
        self.setToolTip(
            "Click a thing to make it a subject. Click a peg, or hold D and click anywhere, to focus there."
        )
        session.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(640, 380)

    # Geometry

    def frame_rect(self) -> QRectF:
        """Where the picture stands: as large as fits, with a margin for its surround."""
        camera = self._session.camera
        aspect = camera.aspect if camera else 16 / 9
        room = QRectF(self.rect()).adjusted(6, 6, -6, -6)
        width = min(room.width(), room.height() * aspect)
        height = width / aspect
        left, top = room.center().x() - width / 2, room.center().y() - height / 2
        return QRectF(round(left), round(top), max(1, round(width)), max(1, round(height)))

    def picture_size(self) -> tuple[int, int]:
        """Pixels to draw: those on the screen, up to a limit."""
        box, ratio = self.frame_rect(), self.devicePixelRatioF()
        part = min(1.0, MOST_PIXELS_WIDE / (box.width() * ratio)) * ratio
        return max(16, round(box.width() * part)), max(9, round(box.height() * part))

    def peg_places(self) -> list[tuple[int, QPointF]]:
        """Subjects in the picture: (row of the survey, place on the widget)."""
        numbers, box = self._session.survey, self.frame_rect()
        if numbers is None:
            return []
        column, scale = self._session.row, box.width() / numbers.camera.width_px
        return [
            (
                row,
                QPointF(
                    box.left() + float(numbers.sight.x_px[row, column]) * scale,
                    box.top() + float(numbers.sight.y_px[row, column]) * scale,
                ),
            )
            for row in range(len(numbers.subjects))
            if numbers.state[row, column] != GONE
        ]

    # Pictures from the drawing

    def show_image(self, image: QImage, status: str) -> None:
        """Show a drawn picture."""
        self._image, self.status, self.ready = image, status, True
        self.update()

    def show_status(self, status: str) -> None:
        """Say what the picture waits for."""
        self.status = status
        self.update()

    def forget_image(self) -> None:
        """Show nothing, as the old picture is of another scene."""
        self._image, self.ready = None, False
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.resized.emit()

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), look().surround)
        box = self.frame_rect()
        if self._image is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(box, self._image)
        self._paint_pegs(painter, box)
        if self.status:
            painter.setFont(font(12))
            width = QFontMetricsF(painter.font()).horizontalAdvance(self.status)
            painter.fillRect(QRectF(box.left(), box.bottom() - 24, width + 18, 24), faded(look().base, 0.62))
            draw_text(painter, QPointF(box.left() + 9, box.bottom() - 8), self.status, look().text, 12)
        if self._session.problem:
            draw_text(
                painter, QPointF(box.left() + 9, box.top() + 22), self._session.problem, look().wrong, 13
            )

    def _paint_pegs(self, painter: QPainter, box: QRectF) -> None:
        """Stems and pegs first, then all flags, so that no stem runs through a flag."""
        session, numbers = self._session, self._session.survey
        if numbers is None:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        flags: list[tuple[QRectF, int, str, QColor]] = []
        for row, at in sorted(self.peg_places(), key=lambda place: place[1].y()):
            subject = session.plan.subject(numbers.subjects[row])
            if subject is None:
                continue
            colour = subject_colour(numbers, row, session.row)
            title = f"{subject.number} {subject.name}"
            flag = self._place_flag(box, at, title, [taken for taken, *_ in flags])
            flags.append((flag, row, title, colour))
            foot = QPointF(
                min(max(at.x(), flag.left() + 7), flag.right() - 7),
                flag.bottom() if flag.top() < at.y() else flag.top(),
            )
            for pen in (QPen(faded(look().base, 0.8), 3.4), QPen(colour, 1.6)):
                painter.setPen(pen)
                painter.drawLine(at, foot)
            painter.setBrush(colour)
            painter.setPen(QPen(look().base, 1.2))
            painter.drawEllipse(at, 4, 4)
        for flag, row, title, colour in flags:
            blur = float(numbers.sight.blur_px[row, session.row])
            distance = float(numbers.focus_distance_m[row, session.row])
            chosen = session.selected_subject == numbers.subjects[row]
            painter.setPen(QPen(colour, 2.4 if chosen else 1.4))
            painter.setBrush(faded(look().base, 0.88))
            painter.drawRoundedRect(flag, 3, 3)
            draw_text(painter, flag.topLeft() + QPointF(7, 15), title, colour, 12, bold=True)
            text = f"{session.length(distance)}   {blur:.1f} px"
            draw_text(painter, flag.topLeft() + QPointF(7, 30), text, colour, 12)

    def _place_flag(self, box: QRectF, at: QPointF, name: str, taken: list[QRectF]) -> QRectF:
        """Room for a flag above its peg, or wherever near it is free."""
        width = max(112.0, QFontMetricsF(font(12, bold=True)).horizontalAdvance(name) + 16)
        left = min(max(at.x() - 22, box.left() + 4), box.right() - width - 4)
        tries = [at.y() - 62 - 40 * i for i in range(5)] + [at.y() + 26 + 40 * i for i in range(5)]
        for top in tries:
            flag = QRectF(left, top, width, 37)
            inside = box.top() + 2 <= top and flag.bottom() <= box.bottom() - 2
            if inside and not any(flag.intersects(other) for other in taken):
                return flag
        return QRectF(left, min(max(tries[0], box.top() + 2), box.bottom() - 40), width, 37)

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self._session.survey is None:
            return
        at, numbers = event.position(), self._session.survey
        for row, place in self.peg_places():
            if math.hypot(at.x() - place.x(), at.y() - place.y()) <= _PEG_GRAB_PX:
                self._session.selected_subject = numbers.subjects[row]
                self._session.focus_on(SubjectTarget(number=numbers.subjects[row]))
                return
        pick = self._pick(at)
        if pick is None:
            if self.frame_rect().contains(at):
                self._session.said.emit(
                    "Nothing stands there to measure." if self.ready else "The scene is not ready yet."
                )
            return
        if self.focus_key_held:
            self._session.focus_at_m(self._focus_distance(pick))
            return
        anchor = SurfaceAnchor(
            scene=pick.place.scene, node=pick.place.path,
            local=(float(pick.local[0]), float(pick.local[1]), float(pick.local[2])),
        )  # fmt: skip
        self._session.add_subject(_thing_name(pick), anchor)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        now = time.monotonic()
        if now - self._last_probe < _PROBE_SECONDS:
            return
        self._last_probe = now
        camera, pick = self._session.camera, self._pick(event.position())
        self.setCursor(Qt.CursorShape.CrossCursor if pick else Qt.CursorShape.ArrowCursor)
        if camera is None or pick is None:
            self.probed.emit("")
            return
        sight = camera.see(pick.point)
        self.probed.emit(
            f"{_thing_name(pick)}   {self._session.length(float(sight.axial_m))} along the axis, "
            f"{self._session.length(float(sight.straight_m))} straight, {float(sight.blur_px):.1f} px blur"
        )

    def _pick(self, at: QPointF) -> Pick | None:
        camera, box = self._session.camera, self.frame_rect()
        if camera is None or not self.ready or not box.contains(at):
            return None
        origin, toward = camera.ray(at.x() - box.left(), at.y() - box.top(), box.width(), box.height())
        return self._session.stage.pick(self._session.frame, origin, toward)

    def _focus_distance(self, pick: Pick) -> float:
        camera = self._session.camera
        assert camera is not None
        sight = camera.see(pick.point)
        return float(sight.straight_m if camera.surface == "sphere" else sight.axial_m)


def _thing_name(pick: Pick) -> str:
    """A name that says something: the part's own, with what it belongs to."""
    parts = [part for part in pick.place.path.split("/") if part]
    return " ".join(parts[-2:]) if len(parts) > 2 else parts[-1] if parts else pick.place.scene
