"""Overhead, and its twin Side: camera, subjects, and the near, focus and far surfaces, to scale.

The camera stands at the bottom and looks up; distance along its axis runs upward. Across
runs what lies to its right (Overhead) or above it (Side).
"""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QPushButton, QWidget

from kobrel.desk.look import faded, font, look
from kobrel.desk.paint import PEG_RADIUS, Panel, draw_peg, draw_text, subject_colour
from kobrel.desk.scales import NEAREST_M
from kobrel.desk.session import Session
from kobrel.optics.units import Measure, format_length
from kobrel.plan.camera import Camera
from kobrel.plan.model import SubjectTarget
from kobrel.plan.survey import GONE

_FOOT, _HEAD = 24.0, 46.0
_GRAB_PX = 6
_HINT = "Click a peg to focus on it, drag the brass line to refocus, wheel to zoom."


class Overhead(Panel):
    """See the module."""

    title = "Overhead"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Overhead plan of camera and subjects", _HINT, parent)
        self._side = False
        self._zoom = 1.0
        self._held = False
        self._frozen_reach: float | None = None
        self.setMinimumWidth(170)
        self._turn = QPushButton("Side", self)
        self._turn.setCheckable(True)
        self._turn.setFont(font(11))
        self._turn.setToolTip("Look from the side instead of from above")
        self._turn.toggled.connect(self._show_side)

    def sizeHint(self) -> QSize:
        return QSize(240, 340)

    def resizeEvent(self, event: object) -> None:
        self._turn.setGeometry(self.width() - 60, 5, 54, 24)

    def _show_side(self, on: bool) -> None:
        self._side = on
        self.title = "Side" if on else "Overhead"
        self.update()

    # Geometry

    def reach_m(self) -> float:
        """The distance at the upper edge."""
        if self._frozen_reach is not None:
            return self._frozen_reach
        numbers = self._session.survey
        if numbers is None:
            return 10.0
        seen = numbers.focus_distance_m[numbers.state != GONE]
        focus = numbers.camera.focus_m
        far = np.concatenate([seen[seen > 0], focus[np.isfinite(focus)]])
        return float(np.max(far) * 1.18 if far.size else 10.0) / self._zoom

    def _px_per_m(self) -> float:
        return (self.height() - _FOOT - _HEAD) / self.reach_m()

    def place(self, across_m: float, along_m: float, px_per_m: float | None = None) -> QPointF:
        """A point of the camera's plane on the widget; give the scale where many are placed."""
        scale = px_per_m or self._px_per_m()
        return QPointF(self.width() / 2 + across_m * scale, self.height() - _FOOT - along_m * scale)

    def _subject_places(self) -> list[tuple[int, QPointF]]:
        """Rows of the survey and their places, for subjects before the camera."""
        numbers, camera = self._session.survey, self._session.camera
        if numbers is None or camera is None:
            return []
        column = self._session.row
        half_x, half_y = camera.half_widths()
        result = []
        for row in range(len(numbers.subjects)):
            along = float(numbers.sight.axial_m[row, column])
            if along <= 0:
                continue
            if self._side:
                part = 1 - 2 * float(numbers.sight.y_px[row, column]) / (camera.width_px / camera.aspect)
                across = part * float(half_y) * along
            else:
                across = (
                    (2 * float(numbers.sight.x_px[row, column]) / camera.width_px - 1) * float(half_x) * along
                )
            result.append((row, self.place(across, along)))
        return result

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.begin()
        camera, numbers = self._session.camera, self._session.survey
        if camera is None or numbers is None:
            return
        painter.setClipRect(QRectF(2, 26, self.width() - 4, self.height() - 28))
        self._paint_grid(painter)
        self._paint_things(painter, camera)
        half = float(camera.half_widths()[1 if self._side else 0])
        far_end = self.reach_m() * 1.2
        apex = self.place(0, 0)
        painter.setPen(QPen(look().quiet, 1))
        for sign in (-1, 1):
            painter.drawLine(apex, self.place(sign * half * far_end, far_end))
        near, far = (float(limit) for limit in camera.limits_m)
        self._paint_band(painter, camera, half, near, min(far, far_end))
        labels = []
        for distance, colour, width in (
            (near, look().nearer, 1.6), (far, look().farther, 1.6),
            (float(camera.focus_m), look().focus, 2.0),
        ):  # fmt: skip
            if distance < far_end:
                painter.setPen(QPen(colour, width))
                painter.drawPolyline(QPolygonF(self._surface(camera, half, distance)))
                labels.append((self.place(0, distance).y(), self._session.length(distance), colour))
        self._paint_labels(painter, labels)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().text)
        painter.drawPolygon(QPolygonF([apex, apex + QPointF(-7, 12), apex + QPointF(7, 12)]))
        for row, at in self._subject_places():
            gone = bool(numbers.state[row, self._session.row] == GONE)
            draw_peg(
                painter, at, numbers.subjects[row], subject_colour(numbers, row, self._session.row), gone
            )

    def _paint_grid(self, painter: QPainter) -> None:
        unit = self._session.unit
        rough = self.reach_m() / 5 / unit.metres
        power = 10.0 ** math.floor(math.log10(rough))
        step = next(s * power for s in (1, 2, 5, 10) if s * power >= rough) * unit.metres
        for i in range(int(self.reach_m() / step) + 2):
            y = self.place(0, i * step).y()
            if y < 44:
                break
            painter.setPen(QPen(faded(look().line, 0.55), 1))
            painter.drawLine(QPointF(6, y), QPointF(self.width() - 6, y))
            draw_text(
                painter,
                QPointF(self.width() - 8, y - 3),
                _round_length(i * step, unit),
                look().quiet,
                11,
                "right",
            )

    def _paint_things(self, painter: QPainter, camera: Camera) -> None:
        """Outlines of the boxes about the meshes, faint."""
        boxes = self._session.stage.boxes(self._session.frame)
        local = (boxes - camera.pose[:3, 3]) @ camera.pose[:3, :3]
        across, along = local[..., 1 if self._side else 0], -local[..., 2]
        reach, scale = self.reach_m(), self._px_per_m()
        painter.setPen(QPen(faded(look().quiet, 0.35), 1))
        painter.setBrush(faded(look().quiet, 0.06))
        wide = np.maximum(np.ptp(across, axis=1), np.ptp(along, axis=1))
        half = self.width() / 2 / scale
        shown = (along.max(axis=1) > 0) & (along.min(axis=1) < reach * 1.2) & (wide < reach * 1.5)
        shown &= (across.max(axis=1) > -half) & (across.min(axis=1) < half) & (wide * scale > 3)
        for a, d in zip(across[shown], along[shown], strict=True):
            painter.drawPolygon(
                QPolygonF(_hull([self.place(x, y, scale) for x, y in zip(a, d, strict=True)]))
            )

    def _surface(self, camera: Camera, half: float, distance: float) -> list[QPointF]:
        """A flat or spherical surface at a distance, across the view."""
        if camera.surface == "plane":
            return [self.place(-half * distance, distance), self.place(half * distance, distance)]
        angles = np.linspace(-math.atan(half), math.atan(half), 25)
        return [self.place(distance * math.sin(a), distance * math.cos(a)) for a in angles]

    def _paint_band(self, painter: QPainter, camera: Camera, half: float, near: float, far: float) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faded(look().sharp, 0.22))
        outline = self._surface(camera, half, near) + self._surface(camera, half, far)[::-1]
        painter.drawPolygon(QPolygonF(outline))

    def _paint_labels(self, painter: QPainter, labels: list[tuple[float, str, QColor]]) -> None:
        """Distances at the left edge, pushed apart where they would touch."""
        last = -1e9
        for y, text, colour in sorted(labels, key=lambda label: label[0]):
            at = max(y - 4, last + 14)
            draw_text(painter, QPointF(8, at), text, colour, 11, bold=True)
            last = at

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        camera, numbers = self._session.camera, self._session.survey
        if event.button() != Qt.MouseButton.LeftButton or camera is None or numbers is None:
            return
        at = event.position()
        for row, place in self._subject_places():
            if math.hypot(at.x() - place.x(), at.y() - place.y()) <= PEG_RADIUS + 2:
                self._session.selected_subject = numbers.subjects[row]
                self._session.focus_on(SubjectTarget(number=numbers.subjects[row]))
                return
        if self._on_focus_line(at, camera):
            self._held = True
            self._frozen_reach = self.reach_m()
            self._session.begin_drag()

    def _on_focus_line(self, at: QPointF, camera: Camera) -> bool:
        return abs(at.y() - self.place(0, float(camera.focus_m)).y()) <= _GRAB_PX

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        camera = self._session.camera
        if self._held:
            along = (self.height() - _FOOT - event.position().y()) / self._px_per_m()
            self._session.focus_at_m(max(along, NEAREST_M))
        elif camera is not None:
            over = self._on_focus_line(event.position(), camera)
            self.setCursor(Qt.CursorShape.SplitVCursor if over else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._held, self._frozen_reach = False, None
            self._session.end_drag()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self._zoom = min(max(self._zoom * 1.15 ** (event.angleDelta().y() / 120.0), 0.05), 50.0)
        self.update()


def _round_length(metres: float, unit: Measure) -> str:
    return format_length(metres, unit) if unit.symbol == "ft" else f"{metres / unit.metres:g} {unit.symbol}"


def _hull(points: list[QPointF]) -> list[QPointF]:
    """Convex outline of a few points (Andrew's monotone chain)."""
    ordered = sorted((p.x(), p.y()) for p in points)

    def half(source: list[tuple[float, float]]) -> list[tuple[float, float]]:
        chain: list[tuple[float, float]] = []
        for p in source:
            while len(chain) > 1 and (
                (chain[-1][0] - chain[-2][0]) * (p[1] - chain[-2][1])
                <= (chain[-1][1] - chain[-2][1]) * (p[0] - chain[-2][0])
            ):
                chain.pop()
            chain.append(p)
        return chain[:-1]

    return [QPointF(x, y) for x, y in half(ordered) + half(ordered[::-1])]
