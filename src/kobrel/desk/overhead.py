"""Overhead, and its twins Side and Front: camera, things, subjects, tapes, and the near, focus
and far surfaces, to scale.

They are drawn in the camera's own axes. In Overhead the camera stands at the bottom and
looks up, in Side it stands at the left and looks to the right: distance along its axis runs
that way. Front looks the way the camera does.
"""

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QButtonGroup, QPushButton, QWidget

from kobrel.desk import blocking, pulling
from kobrel.desk.floor import Floor
from kobrel.desk.history import same
from kobrel.desk.look import faded, font, look
from kobrel.desk.paint import PEG_RADIUS, Panel, draw_free_point, draw_peg, draw_text, hull, subject_colour
from kobrel.desk.scales import NEAREST_M
from kobrel.desk.session import Session
from kobrel.optics import projection
from kobrel.optics.units import Measure, format_length
from kobrel.plan.camera import Camera
from kobrel.plan.model import SubjectTarget
from kobrel.plan.survey import GONE, Survey

MODES = ("Overhead", "Side", "Front")
_FOOT, _HEAD, _LEFT = 24.0, 46.0, 30.0
_GRAB_PX = 6
_HINT = (
    "Click a peg to focus on it, drag the brass line to refocus. Drag stand-ins, their handles and the ends "
    "of tapes. Wheel zooms, right button drags the view, double-click brings it back."
)
_MODE_HINTS = {
    "Overhead": "Look from above", "Side": "Look from the side", "Front": "Look as the camera does",
}  # fmt: skip
_AXES = {"Overhead": (0, 2), "Side": (2, 1), "Front": (0, 1)}
"""For each mode which of right (0), up (1) and ahead (2) run across and up the view."""


class Overhead(Panel):
    """See the module."""

    def __init__(self, session: Session, mode: str = "Overhead", parent: QWidget | None = None) -> None:
        super().__init__(session, f"{mode} view of camera, things and subjects", _HINT, parent)
        self.mode = mode
        self._zoom = 1.0
        self._shift = QPointF()
        self._held = ""
        self._pressed_at = QPointF()
        self._frozen_reach: float | None = None
        self._reach: tuple[tuple[object, ...], float] | None = None
        self.pointer: QPointF | None = None
        self.floor = Floor(session, self)
        self.setMinimumSize(170, 120)
        self._modes = QButtonGroup(self)
        self._buttons = []
        for name in MODES:
            button = QPushButton(name, self)
            button.setCheckable(True)
            button.setFont(font(11))
            button.setStyleSheet("padding: 1px 5px;")
            button.setToolTip(_MODE_HINTS[name])
            button.setChecked(name == mode)
            self._modes.addButton(button)
            self._buttons.append(button)
            button.clicked.connect(lambda _on=False, n=name: self.show_mode(n))

    def sizeHint(self) -> QSize:
        return QSize(240, 340)

    def resizeEvent(self, event: object) -> None:
        x = 6
        for button, width in zip(self._buttons, (64, 38, 44), strict=True):
            button.setGeometry(x, 5, width, 22)
            x += width + 3

    def show_mode(self, mode: str) -> None:
        """Look from above, from the side, or as the camera does."""
        self.mode = mode
        self.setAccessibleName(f"{mode} view of camera, things and subjects")
        self._buttons[MODES.index(mode)].setChecked(True)
        self.update()

    def zoom_to(self, factor: float) -> None:
        """Show a part so many times larger."""
        self._zoom = min(max(factor, 0.05), 50.0)
        self.update()

    # Geometry

    def reach_m(self) -> float:
        """The distance at the far edge; in Front, the height of the view."""
        if self._frozen_reach is not None:
            return self._frozen_reach
        session = self._session
        numbers, camera = session.survey, session.camera
        if numbers is None or camera is None:
            return 10.0
        key = (numbers, session.plan.stand_ins, session.row, self.mode, self._zoom)
        if self._reach is None or not same(self._reach[0], key):
            self._reach = key, self._find_reach(numbers, camera)
        return self._reach[1]

    def _find_reach(self, numbers: Survey, camera: Camera) -> float:
        if self.mode == "Front":
            focus = min(float(camera.focus_m), 100.0)
            half, _ = projection.edge(camera.projection, camera.half_widths()[1], focus)
            return max(float(half), 0.05) * 2.6 / self._zoom
        seen = numbers.focus_distance_m[numbers.state != GONE]
        focus_m = numbers.camera.focus_m
        ahead = [
            float(camera.before(blocking.current_place(self._session, stand_in))[2])
            for stand_in in self._session.plan.stand_ins
            if stand_in.kind not in ("ground", "wall", "string", "scatter")
        ]
        far = np.concatenate([seen[seen > 0], focus_m[np.isfinite(focus_m)], ahead])
        return float(np.max(far) * 1.18 if far.size else 10.0) / self._zoom

    def px_per_m(self) -> float:
        """Pixels of the view in a metre."""
        room = self.width() - _LEFT - 14 if self.mode == "Side" else self.height() - _FOOT - _HEAD
        return room / self.reach_m()

    def place(self, across_m: float, along_m: float) -> QPointF:
        """A point of the view's plane on the widget."""
        scale = self.px_per_m()
        return self._zero() + QPointF(across_m * scale, -along_m * scale)

    def places(self, across_m: NDArray[np.float64], along_m: NDArray[np.float64]) -> NDArray[np.float64]:
        """Many points of the view's plane on the widget, (..., 2) pixels."""
        scale, zero = self.px_per_m(), self._zero()
        return np.stack([zero.x() + across_m * scale, zero.y() - along_m * scale], axis=-1)

    def _zero(self) -> QPointF:
        """Where the camera stands on the widget."""
        zero = {
            "Overhead": QPointF(self.width() / 2, self.height() - _FOOT),
            "Side": QPointF(_LEFT, self.height() / 2 + 12),
            "Front": QPointF(self.width() / 2, self.height() / 2 + 12),
        }[self.mode]
        return zero + self._shift

    def beside_axis(self, aside_m: float, ahead_m: float) -> QPointF:
        """A point so far ahead of the camera and aside of its axis, in Overhead or Side."""
        return self.place(ahead_m, aside_m) if self.mode == "Side" else self.place(aside_m, ahead_m)

    def flat(self, points: ArrayLike) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Points on the stage (..., 3) in the view's plane: across and along, metres."""
        camera = self._session.camera
        assert camera is not None
        axes = camera.before(points)
        across, along = _AXES[self.mode]
        return axes[across], axes[along]

    def where(self, point: ArrayLike) -> QPointF:
        """A point on the stage, (3,), on the widget."""
        across, along = self.flat(point)
        return self.place(float(across), float(along))

    def plane_at(self, at: QPointF) -> tuple[float, float]:
        """What of the view's plane, across and along in metres, lies at a place on the widget."""
        scale, zero = self.px_per_m(), self.place(0, 0)
        return (at.x() - zero.x()) / scale, (zero.y() - at.y()) / scale

    def axes(self) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """Directions on the stage, (3,) each: across the view, up it, and toward who looks at it."""
        camera = self._session.camera
        assert camera is not None
        right, up, ahead = camera.pose[:3, 0], camera.pose[:3, 1], -camera.pose[:3, 2]
        return {"Overhead": (right, ahead, up), "Side": (ahead, up, right), "Front": (right, up, -ahead)}[
            self.mode
        ]

    def stage_point(self, at: QPointF, like: NDArray[np.float64]) -> NDArray[np.float64]:
        """The point on the stage at a place on the widget that is as deep in the view as another."""
        across, up, _ = self.axes()
        old, new = self.flat(like), self.plane_at(at)
        return np.asarray(like + across * (new[0] - old[0]) + up * (new[1] - old[1]))

    def subject_places(self) -> list[tuple[int, QPointF]]:
        """Rows of the survey and their places."""
        numbers, camera = self._session.survey, self._session.camera
        if numbers is None or camera is None:
            return []
        points = numbers.points[:, self._session.row]
        ahead = numbers.sight.axial_m[:, self._session.row] > 0
        return [
            (row, self.where(points[row]))
            for row in range(len(points))
            if ahead[row] and not np.isnan(points[row]).any()
        ]

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = self.begin()
        camera, numbers = self._session.camera, self._session.survey
        if camera is None or numbers is None:
            return
        painter.setClipRect(QRectF(2, 29, self.width() - 4, self.height() - 31))
        self._paint_grid(painter)
        self._paint_things(painter, camera)
        if self.mode == "Front":
            self._paint_frame(painter, camera)
        else:
            self._paint_surfaces(painter, camera)
        self.floor.paint(painter)
        for row, at in self.subject_places():
            gone = bool(numbers.state[row, self._session.row] == GONE)
            colour = subject_colour(numbers, row, self._session.row)
            self._paint_extent(painter, row, at, colour)
            draw_peg(painter, at, numbers.subjects[row], colour, gone)
        for point in pulling.free_points(self._session):
            draw_free_point(painter, self.where(point))
        self.floor.paint_tool(painter)

    def _paint_extent(self, painter: QPainter, row: int, at: QPointF, colour: QColor) -> None:
        """How deep a subject is, as a bar along the line of sight."""
        numbers, camera = self._session.survey, self._session.camera
        assert numbers is not None
        assert camera is not None
        subject = self._session.plan.subject(numbers.subjects[row])
        if subject is None or not subject.half_depth_m:
            return
        point = numbers.points[row, self._session.row]
        toward = point - camera.pose[:3, 3]
        step = toward / np.linalg.norm(toward) * subject.half_depth_m
        painter.setPen(QPen(colour, 3))
        painter.drawLine(self.where(point - step), self.where(point + step))

    def _paint_frame(self, painter: QPainter, camera: Camera) -> None:
        """What the picture shows of the plane in focus."""
        half_x, half_y = (float(half) for half in camera.half_widths())
        focus = min(float(camera.focus_m), 100.0)
        x = float(projection.edge(camera.projection, half_x, focus)[0])
        y = float(projection.edge(camera.projection, half_y, focus)[0])
        painter.setPen(QPen(look().focus, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(self.place(-x, y), self.place(x, -y)))
        text = f"the picture at {self._session.length(focus)}"
        draw_text(painter, self.place(-x, y) + QPointF(4, -4), text, look().focus, 11)

    def _paint_surfaces(self, painter: QPainter, camera: Camera) -> None:
        half = float(camera.half_widths()[1 if self.mode == "Side" else 0])
        shift = max(abs(self._shift.x()), abs(self._shift.y()))
        far_end = self.reach_m() * 1.6 + shift / self.px_per_m()
        apex = self.place(0, 0)
        painter.setPen(QPen(look().quiet, 1))
        across, along = (float(v) for v in projection.edge(camera.projection, half, far_end))
        near = float(projection.edge(camera.projection, half, 0.0)[0])
        for sign in (-1, 1):
            painter.drawLine(self.beside_axis(sign * near, 0), self.beside_axis(sign * across, along))
        nearest, far = (float(limit) for limit in camera.limits_m)
        self._paint_band(painter, camera, half, nearest, min(far, far_end))
        labels = []
        for distance, colour, width in (
            (nearest, look().nearer, 1.6), (far, look().farther, 1.6),
            (float(camera.focus_m), look().focus, 2.0),
        ):  # fmt: skip
            if distance < far_end:
                painter.setPen(QPen(colour, width))
                painter.drawPolyline(QPolygonF(self._surface(camera, half, distance)))
                labels.append((self.beside_axis(0, distance), self._session.length(distance), colour))
        self._paint_labels(painter, labels)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().text)
        tail = (
            [QPointF(-12, -7), QPointF(-12, 7)] if self.mode == "Side" else [QPointF(-7, 12), QPointF(7, 12)]
        )
        painter.drawPolygon(QPolygonF([apex, *(apex + point for point in tail)]))

    def _paint_grid(self, painter: QPainter) -> None:
        """Lines at round distances ahead, in Front at round heights."""
        unit, side = self._session.unit, self.mode == "Side"
        rough = self.reach_m() / 5 / unit.metres
        power = 10.0 ** math.floor(math.log10(rough))
        step = next(s * power for s in (1, 2, 5, 10) if s * power >= rough) * unit.metres
        ends = [self.plane_at(at)[0 if side else 1] for at in self._corners()]
        lowest, highest = math.ceil(min(ends) / step), math.floor(max(ends) / step)
        for i in range(lowest if self.mode == "Front" else max(lowest, 0), highest + 1):
            at, label = self.place(i * step, i * step), _round_length(i * step, unit)
            painter.setPen(QPen(faded(look().line, 0.55), 1))
            if side:
                painter.drawLine(QPointF(at.x(), 34), QPointF(at.x(), self.height() - 18))
                draw_text(painter, QPointF(at.x(), self.height() - 6), label, look().quiet, 11, "centre")
            else:
                painter.drawLine(QPointF(6, at.y()), QPointF(self.width() - 6, at.y()))
                draw_text(painter, QPointF(self.width() - 8, at.y() - 3), label, look().quiet, 11, "right")

    def _corners(self) -> tuple[QPointF, QPointF]:
        """The part of the widget that the view covers."""
        return QPointF(8, self.height() - 8), QPointF(self.width() - 20, 44)

    def _paint_things(self, painter: QPainter, camera: Camera) -> None:
        """Outlines of the boxes about the meshes, faint."""
        boxes = self._session.stage.boxes(self._session.frame)
        ahead = camera.before(boxes)[2]
        across, along = self.flat(boxes)
        scale = self.px_per_m()
        left, top = self.plane_at(QPointF(0, 0))
        right, bottom = self.plane_at(QPointF(self.width(), self.height()))
        painter.setPen(QPen(faded(look().quiet, 0.35), 1))
        painter.setBrush(faded(look().quiet, 0.06))
        wide = np.maximum(np.ptp(across, axis=1), np.ptp(along, axis=1))
        shown = (ahead.max(axis=1) > 0) & (wide < self.reach_m() * 1.5) & (wide * scale > 3)
        shown &= (across.max(axis=1) > left) & (across.min(axis=1) < right)
        shown &= (along.max(axis=1) > bottom) & (along.min(axis=1) < top)
        for corners in self.places(across[shown], along[shown]):
            painter.drawPolygon(hull(corners))

    def _surface(self, camera: Camera, half: float, distance: float) -> list[QPointF]:
        """A flat or spherical surface at a distance, across the view."""
        if camera.surface == "plane":
            across = float(projection.edge(camera.projection, half, distance)[0])
            return [self.beside_axis(-across, distance), self.beside_axis(across, distance)]
        widest = half if camera.projection == "fisheye" else math.atan(half)
        angles = np.linspace(-widest, widest, 25)
        return [self.beside_axis(distance * math.sin(a), distance * math.cos(a)) for a in angles]

    def _paint_band(self, painter: QPainter, camera: Camera, half: float, near: float, far: float) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faded(look().sharp, 0.22))
        outline = self._surface(camera, half, near) + self._surface(camera, half, far)[::-1]
        painter.drawPolygon(QPolygonF(outline))

    def _paint_labels(self, painter: QPainter, labels: list[tuple[QPointF, str, QColor]]) -> None:
        """Distances at the left edge, in Side at the upper one, pushed apart where they would touch."""
        last = -1e9
        if self.mode == "Side":
            for at, text, colour in sorted(labels, key=lambda label: label[0].x()):
                box = draw_text(painter, QPointF(max(at.x() + 3, last + 8), 43), text, colour, 11, bold=True)
                last = box.right()
            return
        for at, text, colour in sorted(labels, key=lambda label: label[0].y()):
            y = max(at.y() - 4, last + 14)
            draw_text(painter, QPointF(8, y), text, colour, 11, bold=True)
            last = y

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        camera, numbers = self._session.camera, self._session.survey
        at = event.position()
        self._pressed_at = at
        if camera is None or numbers is None:
            return
        if event.button() == Qt.MouseButton.RightButton:
            self._held = "view"
            return
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._frozen_reach = self.reach_m()
        if self.floor.press(at):
            self._held = "floor"
            return
        for row, place in self.subject_places():
            if math.hypot(at.x() - place.x(), at.y() - place.y()) <= PEG_RADIUS + 2:
                self._frozen_reach = None
                self._session.selected_subject = numbers.subjects[row]
                self._session.focus_on(SubjectTarget(number=numbers.subjects[row]))
                return
        if self._on_focus_line(at, camera):
            self._held = "focus"
            self._session.begin_drag()
            return
        self._frozen_reach = None
        self._session.select()

    def _on_focus_line(self, at: QPointF, camera: Camera) -> bool:
        line = self.beside_axis(0, float(camera.focus_m))
        away = at.x() - line.x() if self.mode == "Side" else at.y() - line.y()
        return self.mode != "Front" and abs(away) <= _GRAB_PX

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        camera, at = self._session.camera, event.position()
        self.pointer = at
        if self._held == "view":
            self._shift += at - self._pressed_at
            self._pressed_at = at
            self.update()
        elif self._held == "focus":
            ahead = self.plane_at(at)[0 if self.mode == "Side" else 1]
            self._session.focus_at_m(max(ahead, NEAREST_M))
        elif self._held == "floor":
            self.floor.drag(at, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
        elif camera is not None:
            over = self.floor.cursor(at)
            if over is None and self._on_focus_line(at, camera):
                side = self.mode == "Side"
                over = Qt.CursorShape.SplitHCursor if side else Qt.CursorShape.SplitVCursor
            self.setCursor(over or Qt.CursorShape.ArrowCursor)
            if self._session.tool is not None:
                self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        held, self._held, self._frozen_reach = self._held, "", None
        if held == "floor":
            self.floor.release()
        if held in ("floor", "focus"):
            self._session.end_drag()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._shift = QPointF()
        self.zoom_to(1.0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and blocking.chosen(self._session):
            blocking.remove(self._session)
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom_to(self._zoom * 1.15 ** (event.angleDelta().y() / 120.0))


def _round_length(metres: float, unit: Measure) -> str:
    return format_length(metres, unit) if unit.symbol == "ft" else f"{metres / unit.metres:g} {unit.symbol}"
