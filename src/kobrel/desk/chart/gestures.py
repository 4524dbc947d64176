"""Gestures in the Pull chart: scrubbing, dragging of marks, keys, handles, pulls and requirements."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk.chart.geometry import SNAP_PX, FrameChart
from kobrel.desk.chart.handles import Span
from kobrel.desk.chart.keys import GlassKeys, Held
from kobrel.desk.chart.requirements import paint_stroke
from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.theme import theme
from kobrel.plan.model import Mark, PointTarget
from kobrel.plan.pull import marks as pulls
from kobrel.plan.sequence.cues import cue_frames, snapped
from kobrel.session.commands import briefing, pulling
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import Tool


class Stroke(Gesture):
    """A gesture that is painted while it goes on, and takes effect at its end."""

    def paint(self, painter: QPainter) -> None:
        """Show what it would do."""


class DrawPull(Stroke):
    """Draws a pull from one line to another."""

    def __init__(self, session: Session, chart: FrameChart, at: QPointF) -> None:
        self._session, self._chart, self._start, self._end = session, chart, at, at

    def move(self, at: QPointF, keys: Keys) -> None:
        self._end = at
        self._chart.update()

    def paint(self, painter: QPainter) -> None:
        painter.setPen(QPen(theme().focus, 2, Qt.PenStyle.DashLine))
        painter.drawLine(self._start, self._end)

    def finish(self, at: QPointF) -> None:
        session, chart, now = self._session, self._chart, self._session.now
        first, last = chart.frame_within(self._start.x()), chart.frame_within(self._end.x())
        if now is None:
            return
        if first == last:
            session.say("Shift-drag from one subject's line to another")
        else:
            start = chart.target_at(now, first, self._start.y())
            end = chart.target_at(now, last, self._end.y())
            pulling.draw_pull(session, float(first), start, float(last), end)


class PaintRequirement(Stroke):
    """Paints a requirement along a subject's line."""

    def __init__(self, session: Session, chart: FrameChart, tool: Tool, subject: int, frame: int) -> None:
        self._session, self._chart, self._tool, self._subject = session, chart, tool, subject
        self._first = self._last = float(frame)

    def move(self, at: QPointF, keys: Keys) -> None:
        self._last = float(self._chart.frame_within(at.x()))
        self._chart.update()

    def paint(self, painter: QPainter) -> None:
        chart, span = self._chart, (self._first, self._last)
        paint_stroke(painter, self._session, chart.scale(), chart.x_of, self._subject, *span)

    def finish(self, at: QPointF) -> None:
        requirement, px = self._tool.requirement, self._tool.px
        briefing.paint(self._session, self._subject, requirement, px, self._first, self._last)


class DragHandle(Drag):
    """Moves a handle of an own ease."""

    def __init__(self, session: Session, span: Span, which: int) -> None:
        super().__init__(session)
        self._span, self._which = span, which

    def move(self, at: QPointF, keys: Keys) -> None:
        self._span = self._span.dragged(self._which, at)


class DragKey(Drag):
    """Moves a key of stop or focal length in time and value."""

    def __init__(self, session: Session, chart: FrameChart, keys: GlassKeys, held: Held) -> None:
        super().__init__(session)
        self._chart, self._keys, self._held = chart, keys, held

    def move(self, at: QPointF, keys: Keys) -> None:
        self._held = self._keys.drag(self._held, float(self._chart.frame_within(at.x())), at.y())


class DragMark(Drag):
    """Moves a mark in time and distance; it stays between its neighbours and within the shot. Unless
    Alt is held, it snaps to cues, to the frame that is shown, to subjects, and to other marks' distances.
    """

    def __init__(self, session: Session, chart: FrameChart, mark: Mark, freely: bool) -> None:
        super().__init__(session)
        self._chart, self._frame, self._freely = chart, mark.frame, freely

    def move(self, at: QPointF, keys: Keys) -> None:
        session, chart, now, held = self.session, self._chart, self.session.now, self._frame
        if now is None or held not in [mark.frame for mark in now.shot.marks]:
            return  # it is gone, by undo or because the shot is performed
        freely, shot = self._freely or bool(keys & Keys.AltModifier), now.shot
        wanted = float(chart.frame_within(at.x()))
        if not freely:
            reach = abs(SNAP_PX / (chart.x_of(shot.first + 1) - chart.x_of(shot.first) or 1.0))
            wanted = snapped(wanted, [*cue_frames(shot), session.frame], reach)
        moved = pulls.move_mark(shot, held, wanted)
        index = [mark.frame for mark in shot.marks].index(held)
        frame, target = moved.marks[index].frame, moved.marks[index].target
        if not isinstance(target, PointTarget):  # a point's distance is its own
            others = [mark for mark in shot.marks if mark.frame != held]
            target = chart.free_target(at.y()) if freely else chart.target_at(now, frame, at.y(), others)
        self._frame = frame
        session.edit_shot(
            "Move mark", lambda _shot: pulls.set_mark(moved, frame, target), Selection.marks.to((frame,))
        )


class DragMarks(Drag):
    """Moves the chosen marks together, with Alt apart; up or down they come nearer or go farther."""

    def __init__(self, session: Session, chart: FrameChart, at: QPointF, apart: bool) -> None:
        super().__init__(session)
        self._chart, self._at, self._y, self._apart = chart, chart.frame_at(at.x()), at.y(), apart
        self._lifting = False

    def move(self, at: QPointF, keys: Keys) -> None:
        self._lift(at.y())
        frame = self._chart.frame_at(at.x())
        if frame == self._at:
            return
        if self._apart or keys & Keys.AltModifier:
            pulling.stretch_to(self.session, self._at, frame)
        else:
            pulling.move_by(self.session, frame - self._at)
        self._at = frame

    def _lift(self, y: float) -> None:
        """Begins once the pointer has clearly gone up or down."""
        if abs(y - self._y) <= SNAP_PX and not self._lifting:
            return
        scale = self._chart.scale()
        by = 1.0 / scale.metres(y) - 1.0 / scale.metres(self._y)
        self._y, self._lifting = y, True
        pulling.lift_by(self.session, by)
