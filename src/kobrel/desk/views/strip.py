"""The strip across shots: what is sharp when in each, its lens and stop, and where a cut jumps."""

import math
import time
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.paint import columns, draw_label, draw_text, elided, polygon, polyline
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.errors import PlanError
from kobrel.memo import Memos
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.scales import RatioScale
from kobrel.plan.measure.summary import lens_words
from kobrel.plan.measure.survey import SHARP, Survey, index_runs, survey
from kobrel.plan.model import Shot
from kobrel.plan.sequence.cuts import Cut, cut_between
from kobrel.session.session import Session

_SURVEYS_S = 0.03
"""How long shots may be surveyed in one painting."""
_TOP, _BOTTOM, _LEFT = 62, 54, 40
_LEAST_PX, _GAP_PX = 96.0, 14.0


@guarded
class Strip(Panel):
    """The strip across shots: what is sharp when in each, its lens and stop, and where a cut jumps."""

    title = "Across shots"
    order = 3

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        hint = (
            "All shots in order, distance upward. Click to jump to a frame, wheel scrolls. Red: what "
            "jumps at a cut"
        )
        super().__init__(session, "Shots side by side: what is sharp, lens and stop, and cuts", hint, parent)
        self._surveys = Memos[Survey | None]()
        self._cuts = Memos[Cut]()
        self._from_px = 0.0
        self._until = math.inf
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(0)
        self._later.timeout.connect(self.update)
        self.setMinimumHeight(170)

    # What there is

    def survey_of(self, shot: Shot) -> Survey | None:
        """A shot's numbers, kept while they hold; None where its camera is missing."""
        if shot is self._session.shot and self._session.walk is None:
            return self._session.survey
        plan, stage = self._session.plan, self._session.stage
        parts, memo = (shot, plan.subjects, stage), self._surveys.of(shot.name)
        last = memo.last
        if not memo.holds(parts) and time.monotonic() > self._until:
            self._later.start()  # a part of the shots with each painting keeps the window quick
            return last

        def take() -> Survey | None:
            try:
                return survey(plan, shot, stage, last=last)
            except PlanError:
                return None

        return memo.get(parts, take)

    def boxes(self) -> list[QRectF]:
        """Where each shot stands: as wide as it is long, but wide enough to be read."""
        shots = self._session.plan.shots
        room = self.width() - _LEFT - 12 - _GAP_PX * max(0, len(shots) - 1)
        frames = sum(shot.length for shot in shots)
        widths = [max(_LEAST_PX, room * shot.length / max(1, frames)) for shot in shots]
        over = sum(widths) - room
        loose = sum(w - _LEAST_PX for w in widths)
        if over > 0 and loose > 0:
            part = min(1.0, over / loose)
            widths = [w - (w - _LEAST_PX) * part for w in widths]
        left, found = _LEFT - self._from_px, []
        for width in widths:
            found.append(QRectF(left, _TOP, width, self.height() - _TOP - _BOTTOM))
            left += width + _GAP_PX
        return found

    def cuts(self) -> list[Cut | None]:
        """The cut after each shot but the last."""
        shots = self._session.plan.shots
        return [self._cut(a, b) for a, b in pairwise(shots)]

    def _cut(self, before: Shot, after: Shot) -> Cut | None:
        one, other = self.survey_of(before), self.survey_of(after)
        if one is None or other is None:
            return None
        return self._cuts.get(before.name, (one, other), lambda: cut_between(one, other))

    def _scale(self) -> RatioScale:
        found = [self.survey_of(shot) for shot in self._session.plan.shots]
        nearest = min((n.nearest_of_interest_m for n in found if n is not None), default=1.0)
        return RatioScale(nearest, self.height() - _BOTTOM, _TOP + 12)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        self._until = time.monotonic() + _SURVEYS_S
        self._paint()
        self._until = math.inf

    def _paint(self) -> None:
        painter = self.begin("what is in focus when (log distance); red: jumps at a cut")
        shots, scale, boxes = self._session.plan.shots, self._scale(), self.boxes()
        painter.setClipRect(QRectF(0, 22, self.width(), self.height() - 22))
        for y, label in scale.ticks(self._session.unit, 19):
            draw_text(painter, QPointF(_LEFT - 8, y + 4), label, theme().quiet, 11, "right")
        painter.setClipRect(QRectF(_LEFT - 4, 22, self.width() - _LEFT, self.height() - 22))
        for index, (shot, box) in enumerate(zip(shots, boxes, strict=True)):
            if box.right() > 0 and box.left() < self.width():
                self._paint_shot(painter, shot, box, scale, index == self._session.shot_index)
        for (before, after), box in zip(pairwise(shots), boxes, strict=False):
            if -_LEAST_PX < box.right() < self.width() + _LEAST_PX:
                self._paint_cut(painter, box.right() + _GAP_PX / 2, self._cut(before, after))

    def _paint_shot(
        self, painter: QPainter, shot: Shot, box: QRectF, scale: RatioScale, chosen: bool
    ) -> None:
        numbers = self.survey_of(shot)
        painter.setPen(QPen(theme().focus if chosen else theme().line, 2 if chosen else 1))
        painter.setBrush(theme().base)
        painter.drawRect(box)
        name = elided(shot.label, 12, box.width() - 4, chosen)
        draw_text(painter, QPointF(box.left(), _TOP - 22), name, theme().text, 12, bold=chosen)
        if numbers is None:
            draw_text(painter, QPointF(box.left() + 6, box.top() + 20), "camera missing", theme().wrong, 12)
            return
        lens = elided(lens_words(shot.glass), 11, box.width() - 2)
        draw_text(painter, QPointF(box.left(), _TOP - 7), lens, theme().quiet, 11)
        painter.save()
        painter.setClipRect(
            box.adjusted(1, 1, -1, -1).intersected(QRectF(_LEFT - 4, 0, self.width(), self.height()))
        )
        at = columns(len(numbers.frames), box.width())
        x = box.left() + at / max(1, len(numbers.frames) - 1) * box.width()
        near, far = scale.px_of(numbers.near_m[at]), scale.px_of(numbers.far_m[at])
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faded(theme().sharp, 0.24))
        painter.drawPolygon(polygon(np.append(x, x[::-1]), np.append(near, far[::-1])))
        heights = scale.px_of(numbers.focus_distance_m[:, at])
        sharp = (numbers.state[:, at] == SHARP) & np.isfinite(heights)
        painter.setPen(QPen(theme().sharp, 3.2))
        for y, there in zip(heights, sharp, strict=True):
            polyline(painter, x, np.where(there, y, np.nan))
        painter.setPen(QPen(theme().focus, 2))
        polyline(painter, x, scale.px_of(numbers.camera.focus_m[at]))
        self._paint_names(painter, numbers, x, heights, sharp)
        if chosen and shot.first <= self._session.frame <= shot.last:
            now = box.left() + (self._session.frame - shot.first) / max(1, shot.length - 1) * box.width()
            painter.setPen(QPen(theme().text, 1))
            painter.drawLine(QPointF(now, box.top()), QPointF(now, box.bottom()))
        painter.restore()

    def _paint_names(
        self, painter: QPainter, numbers: Survey, x: Numbers, heights: Numbers, sharp: NDArray[np.bool_]
    ) -> None:
        """The name of a subject where it becomes sharp, where there is room for it."""
        named: list[QRectF] = []
        for number, y, there in zip(numbers.subjects, heights, sharp, strict=True):
            subject = self._session.plan.subject(number)
            for first, last in index_runs(there):
                room = x[last] - x[first]
                box = QRectF(x[first], y[first] - 20, min(room, 80.0), 15)
                if subject and room > 34 and not any(box.intersects(other) for other in named):
                    named.append(box)
                    draw_label(
                        painter,
                        QPointF(x[first] + 5, y[first] - 7),
                        elided(subject.name, 12, room - 8),
                        theme().sharp,
                    )

    def _paint_cut(self, painter: QPainter, x: float, cut: Cut | None) -> None:
        """A line at a cut; what jumps there stands beneath it."""
        jumps = cut.jumps if cut is not None else ()
        painter.setPen(
            QPen(theme().wrong if jumps else theme().line, 2 if jumps else 1, Qt.PenStyle.DashLine)
        )
        painter.drawLine(QPointF(x, _TOP - 4), QPointF(x, self.height() - _BOTTOM + 4))
        for k, words in enumerate(jumps or ("smooth",)):
            colour = theme().wrong if jumps else theme().quiet
            draw_text(painter, QPointF(x, self.height() - _BOTTOM + 17 + 14 * k), words, colour, 11, "centre")

    # Mouse, wheel and keys

    def press(self, event: QMouseEvent) -> None:
        at = event.position().x()
        for index, box in enumerate(self.boxes()):
            if box.left() - _GAP_PX / 2 <= at <= box.right() + _GAP_PX / 2:
                shot = self._session.plan.shots[index]
                part = min(max((at - box.left()) / box.width(), 0.0), 1.0)
                self._session.show_shot(index)
                self._session.show_frame(shot.first + part * (shot.length - 1))
                return

    def wheelEvent(self, event: QWheelEvent) -> None:
        boxes = self.boxes()
        if boxes:
            whole = boxes[-1].right() + self._from_px + 12 - self.width()
            self._from_px = min(max(self._from_px - event.angleDelta().y() / 2, 0.0), max(whole, 0.0))
            self.update()
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event.key() in steps:
            self._session.show_shot(self._session.shot_index + steps[Qt.Key(event.key())])
        else:
            super().keyPressEvent(event)
