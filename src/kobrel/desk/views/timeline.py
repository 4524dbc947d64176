"""The line of frames of the transport: marks, cues, the played range, and which frames are cached."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QAccessible, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.background.playback import Playback
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Gesture, GestureWidget, Scrub
from kobrel.desk.toolkit.paint import paint_range
from kobrel.desk.toolkit.spoken import announce
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.measure.survey import index_runs
from kobrel.plan.model import Shot
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.view import View

_HIGH, _INSET = 26, 7.0
_MARK_PX, _CUE_PX, _CACHE_PX = 3.5, 5.0, 3.0


@guarded
class Timeline(GestureWidget):
    """All frames of the shot from left to right; drag it to scrub."""

    spoken_role = QAccessible.Role.Slider

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._screening = session, playback
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Timeline")
        self.setToolTip(
            "Drag to scrub. Rings are marks, bars are cues, the brackets are the played range, and the line "
            "below is what is cached. Left and Right: a frame; with Shift: ten"
        )
        playback.changed.connect(self.update)
        session.watch((Document.plan, Document.shot_index, View.play_range), self.update)
        session.watch({Document.frame}, self._show_frame)

    def _show_frame(self) -> None:
        self.update()
        announce(self)

    def spoken_value(self) -> str:
        """The frame that is shown, of how many."""
        shot = self._session.shot
        return f"Frame {self._session.frame} of {shot.first} to {shot.last}" if shot else "No shot"

    def sizeHint(self) -> QSize:
        return QSize(260, _HIGH)

    def x_of(self, frame: float) -> float:
        """Where a frame is across the widget, pixels."""
        shot = self._session.shot
        if shot is None or shot.last == shot.first:
            return self.width() / 2
        part = (frame - shot.first) / (shot.last - shot.first)
        return _INSET + part * (self.width() - 2 * _INSET)

    def frame_at(self, x: float) -> float:
        """The frame at a place across, within the shot."""
        shot = self._session.shot
        if shot is None:
            return 0.0
        part = (x - _INSET) / max(self.width() - 2 * _INSET, 1.0)
        return round(shot.first + min(max(part, 0.0), 1.0) * (shot.last - shot.first))

    def press(self, event: QMouseEvent) -> Gesture | None:
        able = event.button() == Qt.MouseButton.LeftButton and self._session.shot is not None
        return Scrub(self._session, self.frame_at) if able else None

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().base)
        shot = self._session.shot
        if shot is None:
            return
        middle = self.height() / 2
        painter.fillRect(QRectF(_INSET, middle - 0.5, self.width() - 2 * _INSET, 1.0), theme().line)
        self._paint_cues(painter, shot)
        self._paint_cached(painter, shot)
        first, last = self._session.played
        if (first, last) != (shot.first, shot.last):
            paint_range(painter, self.x_of(first), self.x_of(last), 4.0, self.height() - 6.0)
        painter.setPen(QPen(theme().focus, 1.6))
        painter.setBrush(theme().base)
        for mark in shot.marks:
            painter.drawEllipse(QPointF(self.x_of(mark.frame), middle), _MARK_PX, _MARK_PX)
        x = self.x_of(self._session.frame)
        painter.fillRect(QRectF(x - 1.0, 1.0, 2.0, self.height() - 2.0), theme().text)

    def _paint_cues(self, painter: QPainter, shot: Shot) -> None:
        for cue in shot.cues:
            left, right = self.x_of(max(cue.first, shot.first)), self.x_of(min(cue.end, shot.last))
            painter.fillRect(QRectF(left - 1, 2.0, right - left + 2, _CUE_PX), faded(theme().farther, 0.8))

    def _paint_cached(self, painter: QPainter, shot: Shot) -> None:
        frames, there = self._screening.filled()
        half = (self.width() - 2 * _INSET) / max(shot.last - shot.first, 1) / 2
        for begin, end in index_runs(there):
            left, right = self.x_of(float(frames[begin])) - half, self.x_of(float(frames[end])) + half
            painter.fillRect(QRectF(left, self.height() - 4.0, right - left, _CACHE_PX), theme().sharp)
