"""The Pull chart: frames across, distance up, even in dioptres like the Barrel.

A thin line for each subject, heavy where it is sharp; the focus in brass with the sharp
band about it; marks as open rings. Stop and focal length, where they have keys, are diamonds on lines of
their own scales. The focus line is outlined where the ring would have to turn too fast.
"""

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import (
    QContextMenuEvent,
    QGuiApplication,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPen,
)
from PySide6.QtWidgets import QMenu, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.chart.geometry import BOTTOM, TOP, FrameChart
from kobrel.desk.chart.gestures import (
    DragHandle,
    DragKey,
    DragMark,
    DragMarks,
    DrawPull,
    PaintRequirement,
    Stroke,
)
from kobrel.desk.chart.handles import Span, handle_at, mark_span
from kobrel.desk.chart.keys import GlassKeys
from kobrel.desk.chart.layers import Layers
from kobrel.desk.chart.lines import (
    paint_cues,
    paint_lane,
    paint_lane_now,
    paint_names,
    paint_tape,
    paint_unseen,
)
from kobrel.desk.chart.requirements import subject_at
from kobrel.desk.toolkit.gesture import Gesture, Keys, Scrub
from kobrel.desk.toolkit.paint import draw_text, paint_range
from kobrel.desk.toolkit.spoken import focus_in_words
from kobrel.desk.toolkit.theme import theme
from kobrel.plan.model import Mark, SubjectTarget
from kobrel.session.commands import pulling
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import Tool
from kobrel.session.view import View

_RANGE_PX = 8.0
_RING = 6.0
_HINT = (
    "Drag to scrub; drag a ring to move its mark. Double-click: add mark. Right-click: ease. "
    "Shift-drag between two subject lines: make a pull. Ctrl-click: select several"
)


@guarded
class PullChart(FrameChart):
    """The Pull chart: frames across, distance up, even in dioptres like the Barrel."""

    title = "Pull"
    depends = (
        *AT_FRAME,
        Document.dragging,
        Selection.marks,
        Selection.marks,
        Selection.item,
        View.play_range,
    )
    order = 1
    keeps_up = True

    def spoken_value(self) -> str:
        """Where the focus is, and the marks."""
        session = self._session
        names = {s.number: s.name for s in session.plan.subjects}
        marks = [
            f"{mark.frame:g} on {names.get(mark.target.number, 'a missing subject')}"
            if isinstance(mark.target, SubjectTarget)
            else f"{mark.frame:g}"
            for mark in (session.shot.marks if session.shot else ())
        ]
        return f"{focus_in_words(session)}; marks at {', '.join(marks)}"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Pull chart, focus over the frames of the shot", _HINT, parent)
        self._copied: list[Mark] = []
        self.keys = GlassKeys(session, self.x_of, lambda: (float(TOP), self.bottom))
        self._layers = Layers(session, self)
        self.setMinimumSize(260, 110)

    # Painting

    def paint(self, now: Now) -> None:
        session, shot, numbers = self._session, now.shot, now.survey
        painter, plot = QPainter(self), self.plot(self.scale())
        painter.drawPixmap(0, 0, self._layers.picture(plot, now))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint_lane(painter, session, plot, now)
        paint_names(painter, plot, now)
        paint_cues(painter, plot, shot)
        if isinstance(self.gesture, Stroke):
            self.gesture.paint(painter)
        paint_tape(painter, session, plot, now)
        paint_unseen(painter, session, plot, now)
        paint_lane_now(painter, session, plot, now)
        self.keys.paint(painter, numbers)
        for span in self.own_eases():
            span.paint(painter)
        for mark in shot.marks:
            place = self.mark_place(mark)
            if place and shot.first <= mark.frame <= shot.last:
                chosen = mark.frame in session.selection.marks
                painter.setPen(QPen(theme().focus, 2.4))
                painter.setBrush(theme().focus if chosen else theme().base)
                painter.drawEllipse(place, _RING, _RING)
        if session.played != (shot.first, shot.last):
            first, last = session.played
            line = self.height() - float(BOTTOM)
            paint_range(painter, self.x_of(first), self.x_of(last), line - _RANGE_PX, line + _RANGE_PX)
        x_now = self.x_of(session.frame)
        painter.setPen(QPen(theme().text, 1))
        painter.drawLine(QPointF(x_now, TOP - 12), QPointF(x_now, self.bottom + 6))
        draw_text(
            painter,
            QPointF(max(x_now, 24), TOP - 15),
            str(session.frame),
            theme().text,
            12,
            "centre",
            bold=True,
        )

    def own_eases(self) -> list[Span]:
        """The moves whose handles can be dragged: of the mark in work, and of keys about the frame."""
        if self._session.now is None:
            return []
        span = mark_span(self._session, self.plot(self.scale()))
        return [*([span] if span else []), *self.keys.spans()]

    # Mouse and keys

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        session, at, keys = self._session, event.position(), event.modifiers()
        tool, mark, apart = session.selection.tool, self.mark_at(at), bool(keys & Keys.AltModifier)
        if tool is not None and tool.does == "wish":
            return self._begin_requirement(now, tool, at)
        if keys & Keys.ShiftModifier:
            return DrawPull(session, self, at)
        if mark is None:
            return self._take_below_marks(at)
        if keys & Keys.ControlModifier:
            session.selection.toggle_mark(mark.frame)
            return None
        self._still = self.scale()
        if len(session.selection.marks) > 1 and mark.frame in session.selection.marks:
            return DragMarks(session, self, at, apart)
        session.selection.marks = (mark.frame,)
        return DragMark(session, self, mark, apart)

    def _take_below_marks(self, at: QPointF) -> Gesture:
        """A handle or key, or else the frame."""
        session, spans = self._session, self.own_eases()
        if (handle := handle_at(spans, at)) is not None:
            return DragHandle(session, spans[handle[0]], handle[1])
        if (held := self.keys.at(at)) is not None:
            return DragKey(session, self, self.keys, held)
        session.selection.marks = ()
        return Scrub(session, self.frame_at)

    def _begin_requirement(self, now: Now, tool: Tool, at: QPointF) -> Gesture | None:
        """A requirement is painted over the line that lies beneath the pointer."""
        frame = self.frame_within(at.x())
        subject = subject_at(self._session, self.scale(), frame - now.shot.first, at.y())
        if subject is None:
            self._session.say("Drag along a subject's line (or the ∞ line for background)")
            return None
        return PaintRequirement(self._session, self, tool, subject, frame)

    def take_hover(self, now: Now, event: QMouseEvent) -> None:
        at, shapes = event.position(), Qt.CursorShape
        over = self.mark_at(at) is not None or self.keys.at(at) is not None
        self.setCursor(shapes.OpenHandCursor if over else shapes.ArrowCursor)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        now, tool, at = self._session.now, self._session.selection.tool, event.position()
        painting = tool is not None and tool.does == "wish"
        if now is None or painting or self.mark_at(at):
            return
        self.cancel_gesture()
        frame = self.frame_within(at.x())
        self._session.show_frame(frame)
        pulling.mark_at(self._session, float(frame), self.target_at(now, frame, at.y()))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        mark, key = self.mark_at(QPointF(event.pos())), self.keys.at(QPointF(event.pos()))
        if mark is None:
            if key is not None:
                menu = QMenu(self)
                ease = self.keys.ease_of(key)
                if ease is not None:
                    self._add_eases(menu, "key", ease, partial(self.keys.set_ease, key))
                remove = menu.addAction(f"Remove the {key.line.name.lower()} key at {key.frame:g}")
                remove.triggered.connect(lambda: self.keys.remove(key))
                menu.exec(event.globalPos())
            return
        if mark.frame not in pulling.chosen_frames(self._session):
            self._session.selection.marks = (mark.frame,)
        menu, shot = QMenu(self), self._session.shot
        self._add_eases(menu, "mark", mark.ease, partial(pulling.set_ease, self._session, mark))
        hold = menu.addAction(f"Hold until {self._session.frame}")
        hold.triggered.connect(lambda: pulling.hold_here(self._session, mark))
        back = menu.addAction("And back")
        back.triggered.connect(lambda: pulling.pull_back_from(self._session, mark))
        mirror = menu.addAction("Reverse selected marks")
        mirror.setEnabled(len(self._session.selection.marks) > 1)
        mirror.triggered.connect(lambda: pulling.move_by(self._session, 0, -1.0))
        delete = menu.addAction("Delete mark")
        delete.setEnabled(bool(shot and len(shot.marks) > 1))
        delete.triggered.connect(partial(pulling.delete_chosen, self._session))
        menu.exec(event.globalPos())

    def _add_eases(self, menu: QMenu, what: str, now: str, take: Callable[[str], None]) -> None:
        for ease, text in pulling.EASES.items():
            action = menu.addAction(f"{text} to next {what}")
            action.setCheckable(True)
            action.setChecked(ease == now)
            action.triggered.connect(lambda _on, e=ease: take(e))
        menu.addSeparator()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            pulling.delete_chosen(self._session)
        else:
            super().keyPressEvent(event)

    def copy(self) -> None:
        """Copy the chosen marks, also as text."""
        session = self._session
        self._copied = pulling.copied(session)
        QGuiApplication.clipboard().setText(pulling.text_of(session, self._copied))
        session.say(f"{len(self._copied)} marks copied. Ctrl+V pastes at the current frame.")

    def cut(self) -> None:
        """Copy the chosen marks and delete them."""
        self.copy()
        pulling.delete_chosen(self._session)

    def paste(self) -> None:
        """Put the copied marks where the frame is."""
        pulling.paste(self._session, self._copied)

    def selectAll(self) -> None:
        """Choose all marks."""
        shot = self._session.shot
        self._session.selection.marks = tuple([mark.frame for mark in shot.marks] if shot else [])
