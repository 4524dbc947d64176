"""The handles of own eases in the Pull chart, between the two ends of their moves."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk.chart.lines import Plot
from kobrel.desk.toolkit.theme import theme
from kobrel.optics.ease import Handles
from kobrel.session.commands import pulling
from kobrel.session.session import Session

_GRAB_PX, _RADIUS = 9.0, 4.0
_OVER = 0.35


@dataclass(frozen=True)
class Span:
    """A move of own ease.

    Parameters
    ----------
    handles : points of its square
    start, end : where it begins and ends in the chart, pixels
    take : takes other handles
    """

    handles: Handles
    start: QPointF
    end: QPointF
    take: Callable[[Handles], None]

    @property
    def places(self) -> list[QPointF]:
        """Where the handles stand."""
        x1, y1, x2, y2 = self.handles
        return [self._place(x1, y1), self._place(x2, y2)]

    def _place(self, x: float, y: float) -> QPointF:
        way = self.end - self.start
        return self.start + QPointF(x * way.x(), y * way.y())

    def dragged(self, which: int, at: QPointF) -> "Span":
        """Move a handle to a place, in time within the move; returns the move with it."""
        way, off = self.end - self.start, at - self.start
        x = off.x() / (way.x() or 1.0)
        y = off.y() / way.y() if abs(way.y()) >= 1 else 0.0
        moved = round(min(max(x, 0.0), 1.0), 3), round(min(max(y, -_OVER), 1 + _OVER), 3)
        x1, y1, x2, y2 = self.handles
        handles = (*moved, x2, y2) if which == 0 else (x1, y1, *moved)
        self.take(handles)
        return replace(self, handles=handles)

    def paint(self, painter: QPainter) -> None:
        """Small rings, tied to the ends of the move."""
        for end, place in zip((self.start, self.end), self.places, strict=True):
            painter.setPen(QPen(theme().quiet, 1, Qt.PenStyle.DashLine))
            painter.drawLine(end, place)
            painter.setPen(QPen(theme().focus, 1.6))
            painter.setBrush(theme().base)
            painter.drawEllipse(place, _RADIUS, _RADIUS)


def mark_span(session: Session, plot: Plot) -> Span | None:
    """The move of the mark in work, if its ease is its own."""
    mark, now = pulling.mark_in_work(session), session.now
    if mark is None or now is None or mark.ease != "own":
        return None
    numbers, shot = now.survey, now.shot
    after = next((other for other in shot.marks if other.frame > mark.frame), None)
    if after is None or after.target == mark.target:
        return None
    focus = numbers.camera.focus_m
    start, end = (
        QPointF(plot.x_of(frame), plot.scale.px(float(focus[numbers.index_of(frame)])))
        for frame in (mark.leaves, after.frame)
    )

    def take(handles: Handles) -> None:
        pulling.change(session, mark, "Handles of the ease", handles=handles)

    return Span(mark.handles, start, end, take)


def handle_at(spans: list[Span], at: QPointF) -> tuple[int, int] | None:
    """Which move's which handle lies beneath a place."""
    near = [
        ((place - at).manhattanLength(), (row, which))
        for row, span in enumerate(spans)
        for which, place in enumerate(span.places)
    ]
    distance, found = min(near, default=(_GRAB_PX + 1, (0, 0)))
    return found if distance <= _GRAB_PX else None
