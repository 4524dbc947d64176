"""The handles of an own ease in the Pull chart, between the two marks of its move."""

from dataclasses import dataclass

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk import pulling
from kobrel.desk.look import look
from kobrel.desk.pull_lines import Plot
from kobrel.desk.session import Session
from kobrel.plan.model import Mark

_GRAB_PX, _RADIUS = 9.0, 4.0
_OVER = 0.35


@dataclass(frozen=True)
class Span:
    """Where a move begins and ends in the chart, pixels; its handles are parts of it."""

    mark: Mark
    start: QPointF
    end: QPointF

    def place(self, x: float, y: float) -> QPointF:
        """Where a point of the ease's square stands."""
        way = self.end - self.start
        return self.start + QPointF(x * way.x(), y * way.y())

    def value(self, at: QPointF) -> tuple[float, float]:
        """The point of the square at a place; time stays within the move."""
        way, off = self.end - self.start, at - self.start
        x = off.x() / (way.x() or 1.0)
        y = off.y() / way.y() if abs(way.y()) >= 1 else 0.0
        return round(min(max(x, 0.0), 1.0), 3), round(min(max(y, -_OVER), 1 + _OVER), 3)


class Handles:
    """The handles of the mark in work, if its ease is its own."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._held: int | None = None

    def span(self, plot: Plot) -> Span | None:
        """The move that has handles."""
        session, mark = self._session, pulling.mark_in_work(self._session)
        numbers, shot = session.survey, session.shot
        if mark is None or numbers is None or shot is None or mark.ease != "own":
            return None
        after = next((other for other in shot.marks if other.frame > mark.frame), None)
        if after is None or after.target == mark.target:
            return None
        focus = numbers.camera.focus_m
        ends = [
            QPointF(plot.x_of(frame), plot.scale.px(float(focus[numbers.index_of(frame)])))
            for frame in (mark.leaves, after.frame)
        ]
        return Span(mark, *ends)

    def places(self, plot: Plot) -> list[QPointF]:
        """Where they stand."""
        span = self.span(plot)
        if span is None:
            return []
        x1, y1, x2, y2 = span.mark.handles
        return [span.place(x1, y1), span.place(x2, y2)]

    def take(self, plot: Plot, at: QPointF) -> bool:
        """Take the handle beneath a place; False where there is none."""
        near = [(place - at).manhattanLength() for place in self.places(plot)]
        self._held = near.index(min(near)) if near and min(near) <= _GRAB_PX else None
        return self._held is not None

    def drag(self, plot: Plot, at: QPointF) -> None:
        """Move the handle in hand."""
        span = self.span(plot)
        if span is not None and self._held is not None:
            handles = list(span.mark.handles)
            handles[2 * self._held : 2 * self._held + 2] = span.value(at)
            pulling.change(self._session, span.mark, "Handles of the ease", handles=tuple(handles))

    def paint(self, painter: QPainter, plot: Plot) -> None:
        """Small rings, tied to the ends of their move."""
        span = self.span(plot)
        if span is None:
            return
        for end, place in zip((span.start, span.end), self.places(plot), strict=True):
            painter.setPen(QPen(look().quiet, 1, Qt.PenStyle.DashLine))
            painter.drawLine(end, place)
            painter.setPen(QPen(look().focus, 1.6))
            painter.setBrush(look().base)
            painter.drawEllipse(place, _RADIUS, _RADIUS)
