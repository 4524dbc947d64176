"""Keys of the stop and the focal length in the Pull chart, each on a scale of its own.

The stop runs from f/1 below to f/32 above, the focal length from 8 to 400 mm, both by ratio. Hollow
diamonds are the stop's keys, full ones the focal length's.
"""

import math
from collections.abc import Callable
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from kobrel.desk.chart.handles import Span
from kobrel.desk.toolkit.paint import across, columns, draw_text, polyline
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.optics.ease import Handles
from kobrel.optics.exposure import marked_stop
from kobrel.optics.lens import Numbers
from kobrel.plan.keys import Keyed, keys_around
from kobrel.plan.measure.survey import Survey
from kobrel.session.commands import pulling
from kobrel.session.session import Session

_GRAB_PX = 9.0


class Line(NamedTuple):
    """A keyed value of the glass: its field, its name, and the ends of its scale."""

    field: str
    name: str
    low: float
    high: float

    def y(self, value: ArrayLike, top: float, bottom: float) -> Numbers:
        """Where values stand."""
        part = np.log(np.asarray(value) / self.low) / np.log(self.high / self.low)
        return np.asarray(bottom - np.clip(part, 0.0, 1.0) * (bottom - top))

    def value(self, y: float, top: float, bottom: float) -> float:
        """The value at a place."""
        part = min(max((bottom - y) / (bottom - top), 0.0), 1.0)
        return float(self.low * (self.high / self.low) ** part)

    def text(self, value: float) -> str:
        """A value in words."""
        return f"f/{value:.3g}" if self.field == "f_number" else f"{value:.4g} mm"


LINES = (Line("f_number", "Stop", 1.0, 32.0), Line("focal_mm", "Focal length", 8.0, 400.0))


class Held(NamedTuple):
    """A key that is dragged."""

    line: Line
    frame: float


class GlassKeys:
    """The keys of a session's shot.

    Parameters
    ----------
    x_of : where a frame stands
    ends : where the scales end, above and below, pixels
    """

    def __init__(
        self, session: Session, x_of: Callable[[float], float], ends: Callable[[], tuple[float, float]]
    ) -> None:
        self._session, self._x_of, self._ends = session, x_of, ends

    @property
    def top(self) -> float:
        """Where the scales end above, pixels."""
        return self._ends()[0]

    @property
    def bottom(self) -> float:
        """Where they end below, pixels."""
        return self._ends()[1]

    def _keyed(self, line: Line) -> Keyed | None:
        glass = self._session.glass
        keyed: Keyed | None = getattr(glass, line.field) if glass else None
        return keyed if keyed is not None and keyed.keys else None

    def places(self, line: Line) -> list[tuple[float, QPointF]]:
        """Frames of a value's keys and where their diamonds stand."""
        keyed = self._keyed(line)
        return [
            (key.frame, QPointF(self._x_of(key.frame), float(line.y(key.value, self.top, self.bottom))))
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
        value = line.value(y, self.top, self.bottom)
        if line.field == "f_number":
            value = marked_stop(value, self._session.view.stop_steps)
        value = float(f"{value:.3g}")

        self._session.edit_keyed(
            f"{line.name} key",
            line.field,
            lambda now: now.with_key_changed(held.frame, frame=at, value=value),
        )
        self._session.say(f"{line.name} {line.text(value)} at {at:g}")
        return Held(line, at)

    def set_ease(self, held: Held, ease: str) -> None:
        """Take another ease from a key to the next, and show its frame: there an own ease has handles."""
        pulling.set_key_ease(self._session, held.line.name, held.line.field, held.frame, ease)
        self._session.show_frame(held.frame)

    def ease_of(self, held: Held) -> str | None:
        """The ease from a key to the next; None for the last."""
        keyed = self._keyed(held.line)
        pair = keys_around(keyed.keys, held.frame) if keyed else None
        return pair[0].ease if pair else None

    def spans(self) -> list[Span]:
        """The moves of own ease that the frame lies in."""
        found = []
        for line in LINES:
            keyed, places = self._keyed(line), dict(self.places(line))
            pair = keys_around(keyed.keys, self._session.frame) if keyed else None
            if pair is not None and pair[0].ease == "own":
                start, end = (places[key.frame] for key in pair)
                found.append(
                    Span(pair[0].handles, start, end, partial(self._take_handles, line, pair[0].frame))
                )
        return found

    def _take_handles(self, line: Line, frame: float, handles: Handles) -> None:
        self._session.edit_keyed(
            f"Handles of the {line.name.lower()}",
            line.field,
            lambda now: now.with_key_changed(frame, handles=handles),
        )

    def remove(self, held: Held) -> None:
        """Take a key away; the last leaves its value."""
        self._session.edit_keyed(
            f"Remove {held.line.name.lower()} key at {held.frame:g}",
            held.line.field,
            lambda keyed: keyed.without_key(held.frame),
        )

    def paint(self, painter: QPainter, numbers: Survey) -> None:
        """The lines and their keys."""
        for line in LINES:
            if self._keyed(line) is None:
                continue
            values, x = getattr(numbers.camera, line.field), across(numbers.frames, self._x_of)
            drawn = columns(len(x), float(x[-1] - x[0]))
            hollow = line.field == "f_number"
            style = Qt.PenStyle.DashDotLine if hollow else Qt.PenStyle.DashLine
            painter.setPen(QPen(faded(theme().text, 0.6), 1.2, style))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            polyline(painter, x[drawn], line.y(values[drawn], self.top, self.bottom))
            painter.setPen(QPen(theme().text, 1.4))
            painter.setBrush(theme().panel if hollow else theme().text)
            for frame, at in self.places(line):
                painter.drawPolygon(
                    QPolygonF([at + QPointF(*by) for by in ((0, -5), (5, 0), (0, 5), (-5, 0))])
                )
                shown = float(np.interp(frame, numbers.frames, values))
                draw_text(painter, at + QPointF(9, -5), line.text(shown), theme().text, 11)
