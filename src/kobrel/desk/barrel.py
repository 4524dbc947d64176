"""The Barrel: the distance scale of a lens, laid out flat.

Near at the left, infinity at the right, even in dioptres. The brass index is the focus,
the ivory band what is sharp, numbered pegs are the subjects; the grey fringe shows how
much of the picture lies at each distance.
"""

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk import taping
from kobrel.desk.look import faded, font, look
from kobrel.desk.paint import (
    PEG_RADIUS,
    Panel,
    draw_limit,
    draw_peg,
    draw_text,
    draw_wedge,
    hatch,
    subject_colour,
)
from kobrel.desk.scales import NEAREST_M, DioptreScale, nearest_of_interest_m
from kobrel.desk.session import Session
from kobrel.plan.camera import Camera
from kobrel.plan.model import SubjectTarget
from kobrel.plan.survey import GONE

_MARGIN = 26
_SNAP_PX = 4
_READING_PX = 230
_GRAB_PX = 7
_HINT = (
    "Drag the brass index to refocus, an end of the band to change the stop.\n"
    "Click a peg to focus on it. Wheel moves the focus, with Shift finely. Arrow keys too."
)


class Barrel(Panel):
    """See the module."""

    title = "Barrel"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Barrel, distance scale of the lens", _HINT, parent)
        self._held = ""
        self._frozen: DioptreScale | None = None
        self._depth: NDArray[np.float32] | None = None
        self.sharp_part = 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(600, 112)

    def show_depth(self, depth: NDArray[np.float32], sharp_part: float) -> None:
        """Take the picture's depth, metres, for the fringe, and how much of it is sharp, 0 to 1."""
        self._depth, self.sharp_part = depth, sharp_part
        self.update()

    # Geometry

    def scale(self) -> DioptreScale | None:
        """The scale; it stands still while something on it is dragged."""
        if self._frozen:
            return self._frozen
        numbers = self._session.survey
        if numbers is None:
            return None
        return DioptreScale(nearest_of_interest_m(numbers), _MARGIN, self.width() - _MARGIN - 4)

    @property
    def _line_y(self) -> float:
        return self.height() - 46.0

    def peg_places(self) -> list[tuple[int, QPointF, float]]:
        """Pegs of the subjects before the camera: (row, centre, distance); close ones step up."""
        scale, numbers = self.scale(), self._session.survey
        if scale is None or numbers is None:
            return []
        column = self._session.row
        found = [
            (float(numbers.focus_distance_m[row, column]), row)
            for row in range(len(numbers.subjects))
            if numbers.sight.axial_m[row, column] > 0
        ]
        places: list[tuple[int, QPointF, float]] = []
        for distance, row in sorted(found):
            x = scale.px(distance)
            if x < _MARGIN - 12:
                continue
            y = self._line_y - 16
            top = 44 if x > self.width() - _READING_PX else 30  # beneath what is said at the right
            while any(math.hypot(x - p.x(), y - p.y()) < 2 * PEG_RADIUS for _r, p, _d in places) and y > top:
                y -= 2 * PEG_RADIUS - 1
            places.append((row, QPointF(x, y), distance))
        return places

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        session, scale, numbers = self._session, self.scale(), self._session.survey
        camera = session.camera
        if scale is None or numbers is None or camera is None:
            self.begin()
            return
        surface = "straight from the lens" if camera.surface == "sphere" else "along the axis from the lens"
        note = f"distance {surface}, {session.unit.symbol}"
        room = scale.px(float(camera.focus_m)) - 34 - 64  # the index's label is not to run into it
        painter = self.begin(note if QFontMetricsF(font(12)).horizontalAdvance(note) < room else "")
        if self._depth is not None:
            text = f"{self.sharp_part:.0%} of the picture is sharp"
            draw_text(painter, QPointF(self.width() - 12, 18), text, look().sharp, 12, "right")
        y = self._line_y
        near, far = (float(limit) for limit in camera.limits_m)
        left, right = max(scale.px(near), _MARGIN - 10), scale.px(far)
        focus = scale.px(float(camera.focus_m))
        self._paint_fringe(painter, scale, (left, right))
        painter.fillRect(QRectF(_MARGIN - 10, y - 25, left - _MARGIN + 10, 25), hatch(near=True))
        painter.fillRect(QRectF(right, y - 25, self.width() - _MARGIN + 10 - right, 25), hatch(near=False))
        painter.fillRect(QRectF(left, y - 25, right - left, 25), faded(look().sharp, 0.30))
        painter.setPen(QPen(look().line, 1))
        painter.drawLine(QPointF(_MARGIN - 10, y), QPointF(self.width() - _MARGIN + 10, y))
        for metres, label in scale.ticks(session.unit, 36):
            x = scale.px(metres)
            painter.setPen(QPen(look().text, 1.4))
            painter.drawLine(QPointF(x, y), QPointF(x, y + 8))
            draw_text(painter, QPointF(x, y + 22), label, look().text, 12, "centre")
        draw_limit(painter, left, y - 26, y, near=True)
        draw_limit(painter, right, y - 26, y, near=False)
        self._paint_tapes(painter, scale, camera)
        for row, at, distance in reversed(self.peg_places()):
            colour = subject_colour(numbers, row, session.row)
            subject = session.plan.subject(numbers.subjects[row])
            if subject is not None and subject.half_depth_m > 0:
                near_side = max(distance - subject.half_depth_m, NEAREST_M)
                painter.setPen(QPen(colour, 4))
                painter.drawLine(
                    QPointF(scale.px(near_side), y - 3),
                    QPointF(scale.px(distance + subject.half_depth_m), y - 3),
                )
            painter.setPen(QPen(colour, 1.4))
            painter.drawLine(QPointF(scale.px(distance), y), at)
            draw_peg(
                painter, at, numbers.subjects[row], colour, bool(numbers.state[row, session.row] == GONE)
            )
        painter.setPen(QPen(look().focus, 2))
        painter.drawLine(QPointF(focus, y - 30), QPointF(focus, y))
        draw_wedge(painter, QPointF(focus, y - 26))
        text = session.length(float(camera.focus_m))
        edge = min(max(focus, _MARGIN + 20), self.width() - _MARGIN - 20)
        draw_text(painter, QPointF(edge, y - 39), text, look().focus, 14, "centre", bold=True)
        if self.hasFocus():
            painter.setPen(QPen(look().line, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)

    def _paint_tapes(self, painter: QPainter, scale: DioptreScale, camera: Camera) -> None:
        """Where the far ends of tapes lie, as dashed ticks."""
        for tape in self._session.plan.tapes:
            numbers = taping.numbers_of(self._session, tape)
            distance = taping.focus_distance(camera, numbers.end[0]) if numbers else math.nan
            if distance > 0 and scale.px(distance) > _MARGIN - 10:
                chosen = self._session.selected_tape == tape.name
                colour = look().focus if chosen else look().text
                painter.setPen(QPen(colour, 1.4, Qt.PenStyle.DashLine))
                x = scale.px(distance)
                painter.drawLine(QPointF(x, self._line_y - 25), QPointF(x, self._line_y + 8))

    def _paint_fringe(self, painter: QPainter, scale: DioptreScale, sharp: tuple[float, float]) -> None:
        """How much of the picture lies at each distance: columns beneath the scale, ivory where
        it is sharp.
        """
        quiet = faded(look().quiet, 0.55)
        if self._depth is None:
            return
        edges = np.arange(_MARGIN - 10, self.width() - _MARGIN + 12, 5.0)
        with np.errstate(divide="ignore"):
            places = scale.px_of(self._depth.ravel()[::3].astype(float))
        counts, _ = np.histogram(places, edges)
        if not counts.any():
            return
        tall = np.sqrt(counts / counts.max()) * 15
        painter.setPen(Qt.PenStyle.NoPen)
        bottom = self.height() - 5
        for x, height in zip(edges, tall, strict=False):
            painter.setBrush(faded(look().sharp, 0.9) if sharp[0] <= x + 2.5 <= sharp[1] else quiet)
            if height > 0.4:
                painter.drawRect(QRectF(x + 0.5, bottom - height, 4, height))

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        scale, numbers = self.scale(), self._session.survey
        camera = self._session.camera
        if event.button() != Qt.MouseButton.LeftButton or scale is None or numbers is None or camera is None:
            return
        at = event.position()
        for row, place, distance in self.peg_places():
            under_index = abs(scale.px(distance) - scale.px(float(camera.focus_m))) < 2
            if math.hypot(at.x() - place.x(), at.y() - place.y()) <= PEG_RADIUS + 2 and not under_index:
                self._session.selected_subject = numbers.subjects[row]
                self._session.focus_on(SubjectTarget(number=numbers.subjects[row]))
                return
        self._held = self._part_at(at)
        self._session.begin_drag()
        self._frozen = scale
        if self._held == "focus":
            self._drag_to(at)

    def _part_at(self, at: QPointF) -> str:
        """What a press takes hold of: an end of the band, or else the index."""
        scale, camera = self.scale(), self._session.camera
        if scale is None or camera is None:
            return ""
        focus = scale.px(float(camera.focus_m))
        near, far = (scale.px(float(limit)) for limit in camera.limits_m)
        to_index = abs(at.x() - focus)
        for part, x in (("near", near), ("far", far)):
            if abs(at.x() - x) <= _GRAB_PX and (abs(at.x() - x) < to_index or at.y() > self._line_y - 14):
                return part
        return "focus"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._drag_to(event.position())
        else:
            part = self._part_at(event.position())
            self.setCursor(
                Qt.CursorShape.SplitHCursor if part in ("near", "far") else Qt.CursorShape.PointingHandCursor
            )

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._held, self._frozen = "", None
            self._session.end_drag()
            self.update()

    def _drag_to(self, at: QPointF) -> None:
        scale, camera, numbers = self.scale(), self._session.camera, self._session.survey
        if scale is None or camera is None or numbers is None:
            return
        metres = max(scale.metres(at.x()), NEAREST_M)
        if self._held == "focus":
            for row, place, distance in self.peg_places():
                if abs(scale.px(distance) - at.x()) <= _SNAP_PX and place.x() >= _MARGIN - 10:
                    self._session.focus_on(SubjectTarget(number=numbers.subjects[row]))
                    return
            self._session.focus_at_m(metres)
            return
        focus = float(camera.focus_m)
        limit = min(metres, focus * 0.9999) if self._held == "near" else max(metres, focus * 1.0001)
        self._session.sharp_to(limit)

    def wheelEvent(self, event: QWheelEvent) -> None:
        turn = event.angleDelta().y() or event.angleDelta().x()  # with Shift some platforms turn the axis
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self._move_px(turn / 120.0 * (0.4 if fine else 4.0))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Down: -1.0}
        if event.key() in steps:
            fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._move_px(steps[Qt.Key(event.key())] * (0.4 if fine else 4.0))
        else:
            super().keyPressEvent(event)

    def _move_px(self, pixels: float) -> None:
        scale, camera = self.scale(), self._session.camera
        if scale is not None and camera is not None:
            place = min(scale.px(float(camera.focus_m)) + pixels, scale.far_px)
            self._session.focus_at_m(max(scale.metres(place), NEAREST_M))
