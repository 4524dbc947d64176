"""Keys of the stop and the focal length in the Pull chart, each on a scale of its own.

The stop runs from f/1 below to f/32 above, the focal length from 8 to 400 mm, both by ratio. Hollow
diamonds are the stop's keys, full ones the focal length's.
"""

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from kobrel.desk.look import faded, look
from kobrel.desk.paint import draw_text
from kobrel.desk.session import Session
from kobrel.optics.exposure import marked_stop
from kobrel.plan import edit
from kobrel.plan.parts import Keyed
from kobrel.plan.survey import Survey

_GRAB_PX = 9.0


class Line(NamedTuple):
    """A keyed value of the glass: its field, its name, and the ends of its scale."""

    field: str
    name: str
    low: float
    high: float

    def y(self, value: float, top: float, bottom: float) -> float:
        """Where a value stands."""
        part = math.log(value / self.low) / math.log(self.high / self.low)
        return bottom - min(max(part, 0.0), 1.0) * (bottom - top)

    def value(self, y: float, top: float, bottom: float) -> float:
        """The value at a place."""
        part = min(max((bottom - y) / (bottom - top), 0.0), 1.0)
        return self.low * (self.high / self.low) ** part

    def text(self, value: float) -> str:
        """A value in words."""
        return f"f/{value:.3g}" if self.field == "f_number" else f"{value:.4g} mm"


LINES = (Line("f_number", "Stop", 1.0, 32.0), Line("focal_mm", "Focal length", 8.0, 400.0))


class Held(NamedTuple):
    """A key in hand."""

    line: Line
    frame: float


class Keys:
    """The keys of a session's shot, in a chart of some height."""

    def __init__(self, session: Session, x_of: Callable[[float], float]) -> None:
        self._session, self._x_of = session, x_of
        self.top, self.bottom = 0.0, 1.0

    def _keyed(self, line: Line) -> Keyed | None:
        glass = self._session.glass
        keyed: Keyed | None = getattr(glass, line.field) if glass else None
        return keyed if keyed is not None and keyed.keys else None

    def places(self, line: Line) -> list[tuple[float, QPointF]]:
        """Frames of a value's keys and where their diamonds stand."""
        keyed = self._keyed(line)
        return [
            (key.frame, QPointF(self._x_of(key.frame), line.y(key.value, self.top, self.bottom)))
            for key in (keyed.keys if keyed else ())
        ]

    def at(self, place: QPointF) -> Held | None:
        """The key beneath a place."""
        for line in LINES:
            for frame, at in self.places(line):
                if (place - at).manhattanLength() <= _GRAB_PX:
                    return Held(line, frame)
        return None

    def drag(self, held: Held, frame: float, y: float) -> Held:
        """Move a key in time and value; it stays between its neighbours. Returns it as it is now."""
        line, keyed = held.line, self._keyed(held.line)
        if keyed is None or held.frame not in [key.frame for key in keyed.keys]:
            return held
        others = [key.frame for key in keyed.keys if key.frame != held.frame]
        low = max((f for f in others if f < held.frame), default=-math.inf) + 1
        high = min((f for f in others if f > held.frame), default=math.inf) - 1
        at = min(max(frame, low), high)
        old = next(key for key in keyed.keys if key.frame == held.frame)
        value = line.value(y, self.top, self.bottom)
        if line.field == "f_number":
            value = marked_stop(value, self._session.stop_steps)
        value = float(f"{value:.3g}")

        def moved(now: Keyed) -> Keyed:
            return edit.set_key(edit.remove_key(now, held.frame), at, value, old.ease)

        self._session.edit_keyed(f"{line.name} key", line.field, moved)
        self._session.said.emit(f"{line.name} {line.text(value)} at {at:g}")
        return Held(line, at)

    def remove(self, held: Held) -> None:
        """Take a key away; the last leaves its value."""
        self._session.edit_keyed(
            f"Remove {held.line.name.lower()} key at {held.frame:g}",
            held.line.field,
            lambda keyed: edit.remove_key(keyed, held.frame),
        )

    def paint(self, painter: QPainter, numbers: Survey) -> None:
        """The lines and their keys."""
        for line in LINES:
            if self._keyed(line) is None:
                continue
            values = getattr(numbers.camera, line.field)
            points = [
                QPointF(self._x_of(float(frame)), line.y(float(value), self.top, self.bottom))
                for frame, value in zip(numbers.frames, values, strict=True)
            ]
            hollow = line.field == "f_number"
            style = Qt.PenStyle.DashDotLine if hollow else Qt.PenStyle.DashLine
            painter.setPen(QPen(faded(look().text, 0.6), 1.2, style))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(points))
            painter.setPen(QPen(look().text, 1.4))
            painter.setBrush(look().panel if hollow else look().text)
            for frame, at in self.places(line):
                x, y = at.x(), at.y()
                painter.drawPolygon(
                    QPolygonF([QPointF(x, y - 5), QPointF(x + 5, y), QPointF(x, y + 5), QPointF(x - 5, y)])
                )
                shown = float(np.interp(frame, numbers.frames, values))
                draw_text(painter, QPointF(x + 9, y - 5), line.text(shown), look().text, 11)
