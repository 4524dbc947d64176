"""Overhead, and its twins Side and Front: camera, things, subjects, tapes, and the near, focus and far
surfaces, to scale.
"""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QButtonGroup, QPushButton, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.overhead.geometry import MODES, Array, FlatView
from kobrel.desk.overhead.plates import Plates
from kobrel.desk.overhead.stand_ins import StandIns
from kobrel.desk.overhead.tapes import Tapes
from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import (
    TAG_RADIUS,
    draw_free_point,
    draw_label,
    draw_tag,
    draw_text,
    hull,
    subject_colours,
    text_width,
    xy,
)
from kobrel.desk.toolkit.pointed import cone_of, distance_of, shape_of
from kobrel.desk.toolkit.theme import faded, font, theme
from kobrel.desk.toolkit.words import plain
from kobrel.optics import projection
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import GONE, NEAREST_M
from kobrel.plan.measure.tapes import end_points
from kobrel.plan.space.stand_ins import SIZES
from kobrel.session.commands import blocking, pulling, taping
from kobrel.session.commands.focusing import focus_at_m, focus_on_subject
from kobrel.session.commands.plates import placing
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now, ShotNumbers
from kobrel.session.selection import ChosenStandIn, Selection
from kobrel.session.session import Session
from kobrel.session.tools import PLACING_TABS
from kobrel.session.view import View

_GRAB_PX = 6
_HINT = (
    "Click a tag to focus. Drag the focus line, stand-ins, handles or tape ends. Wheel: zoom · "
    "right-drag: pan · double-click: reset view"
)
_MODE_HINTS = {
    "Overhead": "Look from above", "Side": "Look from the side", "Front": "Look as the camera does",
}  # fmt: skip


class _Pan(Gesture):
    """Moves what the view shows."""

    def __init__(self, view: FlatView, at: QPointF) -> None:
        self._view, self._pressed, self._last = view, at, at

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.shift_by(at - self._last)
        self._last = at

    def cancel(self) -> None:
        self.move(self._pressed, Keys.NoModifier)


class _DragFocus(Drag):
    """Moves the surface of focus along the axis."""

    def __init__(self, session: Session, view: FlatView) -> None:
        super().__init__(session)
        self._view = view

    def move(self, at: QPointF, keys: Keys) -> None:
        ahead = self._view.plane_at(at)[0 if self._view.mode == "Side" else 1]
        focus_at_m(self.session, max(ahead, NEAREST_M))


@guarded
class Overhead(FlatView):
    """Overhead, and its twins Side and Front."""

    depends = (
        *AT_FRAME, Document.dragging, Document.library, Selection.tool, Selection.item, Selection.marks,
        ShotNumbers.sight, View.pointed_value,
    )  # fmt: skip
    order = 2

    def __init__(self, session: Session, mode: str = "Overhead", parent: QWidget | None = None) -> None:
        super().__init__(session, mode, _HINT, parent)
        self.stand_ins, self.tapes = StandIns(session, self), Tapes(session, self)
        self.plates = Plates(session, self)
        self.setMinimumSize(170, 120)
        self._modes = QButtonGroup(self)
        self._buttons = []
        for name in MODES:
            button = QPushButton(name, self)
            button.setCheckable(True)
            button.setFont(font(11))
            button.setStyleSheet("padding: 1px 5px;")
            button.setToolTip(plain(_MODE_HINTS[name]))
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

    # Painting

    def paint(self, now: Now) -> None:
        painter, camera, numbers = self.begin(), now.camera, now.survey
        painter.setClipRect(QRectF(2, 29, self.width() - 4, self.height() - 31))
        self._paint_grid(painter)
        self._paint_things(painter, camera)
        if self.mode == "Front":
            self._paint_frame(painter, camera)
        else:
            self._paint_surfaces(painter, camera)
        labels, tags = Labels(QRectF(self.rect()).adjusted(3, 30, -3, -3)), self.tags()
        labels.take_points((at for _row, at, _point in tags), TAG_RADIUS + 1)
        if self.mode != "Front":
            self._paint_limits(painter, camera, labels)
        self.plates.paint(painter, labels)
        self.stand_ins.paint(painter, labels)
        self.tapes.paint(painter, labels)
        deep = {subject.number: subject for subject in now.plan.subjects if subject.half_depth_m}
        colours, states = subject_colours(numbers, now.row), numbers.state[:, now.row].tolist()
        for row, at, spot in tags:
            colour = colours[row]
            if numbers.subjects[row] in deep:
                self._paint_extent(painter, now, row, deep[numbers.subjects[row]].half_depth_m, colour)
            if at != spot:
                painter.setPen(QPen(colour, 1.4))
                painter.drawLine(spot, at)
                painter.setBrush(colour)
                painter.drawEllipse(spot, 2.2, 2.2)
            draw_tag(painter, at, numbers.subjects[row], colour, states[row] == GONE)
        for point in pulling.free_points(self._session):
            draw_free_point(painter, self.where(point))
        if self._session.view.pointed_value and self.mode != "Front":
            self._paint_pointed(painter, now, self._session.view.pointed_value)
        self._paint_tool(painter, now)

    def _paint_pointed(self, painter: QPainter, now: Now, key: str) -> None:
        """What the pointer is on among them: a distance, the angle of view, or the cone of light."""
        camera = now.camera
        edges = _edges(camera, 1 if self.mode == "Side" else 0)
        painter.setPen(QPen(theme().focus, 3.0))
        distance, cone = distance_of(now, key), cone_of(now, key)
        if distance is not None:
            painter.drawPolyline(QPolygonF(self._surface(camera, edges, distance)))
            beside = self.beside_axis(0, distance) + QPointF(8, -6)
            draw_label(painter, beside, self._session.length(distance), theme().focus)
        elif cone is not None:
            half, focus = cone
            tip = self.beside_axis(0, focus)
            for side in (-half, half):
                painter.drawLine(self.beside_axis(side, 0), tip)
                painter.drawLine(tip, self.beside_axis(-side * 0.5, focus * 1.5))
        elif shape_of(key) == ("up" if self.mode == "Side" else "across"):
            for edge in edges:
                aside, ahead = (
                    float(v) for v in projection.edge(camera.projection, edge, self.reach_m() * 1.6)
                )
                painter.drawLine(self.beside_axis(0, 0), self.beside_axis(aside, ahead))

    def _paint_extent(
        self, painter: QPainter, now: Now, row: int, half_depth_m: float, colour: QColor
    ) -> None:
        """How deep a subject is, as a bar along the line of sight."""
        point = now.survey.points[row, now.row]
        toward = point - now.camera.pose[:3, 3]
        step = toward / np.linalg.norm(toward) * half_depth_m
        painter.setPen(QPen(colour, 3))
        painter.drawLine(self.where(point - step), self.where(point + step))

    def _paint_tool(self, painter: QPainter, now: Now) -> None:
        """What a click would make."""
        session, tool, at = self._session, self._session.selection.tool, self.pointer
        if tool is None or tool.does not in ("place", "tape") or at is None or not self.underMouse():
            return
        painter.setPen(QPen(theme().focus, 1.4, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if tool.stand_in is not None:
            width, _height, depth = SIZES[tool.stand_in]
            scale = self.px_per_m()
            painter.drawEllipse(at, max(width * scale / 2, 4), max(depth * scale / 2, 4))
            return
        if tool.start is not None:
            lens = now.camera.pose[None, :3, 3]
            start = end_points(session.plan, tool.start, [now.frame], now.stage, lens)[0]
            painter.drawLine(self.where(start), at)
        painter.drawEllipse(at, 6, 6)

    def _paint_frame(self, painter: QPainter, camera: Camera) -> None:
        """What the picture shows of the plane in focus."""
        focus = min(float(camera.focus_m), 100.0)
        left, right = (float(projection.edge(camera.projection, t, focus)[0]) for t in _edges(camera, 0))
        foot, head = (float(projection.edge(camera.projection, t, focus)[0]) for t in _edges(camera, 1))
        painter.setPen(QPen(theme().focus, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(self.place(left, head), self.place(right, foot)))
        text = f"frame at {self._session.length(focus)}"
        draw_text(painter, self.place(left, head) + QPointF(4, -4), text, theme().focus, 11)

    def _paint_surfaces(self, painter: QPainter, camera: Camera) -> None:
        edges = _edges(camera, 1 if self.mode == "Side" else 0)
        shift = max(abs(self._shift.x()), abs(self._shift.y()))
        far_end = self.reach_m() * 1.6 + shift / self.px_per_m()
        apex = self.place(0, 0)
        painter.setPen(QPen(theme().quiet, 1))
        for edge in edges:
            across, along = (float(v) for v in projection.edge(camera.projection, edge, far_end))
            near = float(projection.edge(camera.projection, edge, 0.0)[0])
            painter.drawLine(self.beside_axis(near, 0), self.beside_axis(across, along))
        nearest, far = (float(limit) for limit in camera.limits_m)
        self._paint_band(painter, camera, edges, nearest, min(far, far_end))
        for distance, colour, width in _surfaces(camera):
            if distance < far_end:
                painter.setPen(QPen(colour, width))
                painter.drawPolyline(QPolygonF(self._surface(camera, edges, distance)))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().text)
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
            painter.setPen(QPen(faded(theme().line, 0.55), 1))
            if side:
                painter.drawLine(QPointF(at.x(), 34), QPointF(at.x(), self.height() - 18))
                draw_text(painter, QPointF(at.x(), self.height() - 6), label, theme().quiet, 11, "centre")
            else:
                painter.drawLine(QPointF(6, at.y()), QPointF(self.width() - 6, at.y()))
                draw_text(painter, QPointF(self.width() - 8, at.y() - 3), label, theme().quiet, 11, "right")

    def _corners(self) -> tuple[QPointF, QPointF]:
        """The part of the widget that the view covers."""
        return QPointF(8, self.height() - 8), QPointF(self.width() - 20, 44)

    def _paint_things(self, painter: QPainter, camera: Camera) -> None:
        """Outlines of the boxes about the meshes, faint; plates draw themselves."""
        boxes = self._session.stage.boxes(self._session.frame)
        if self._session.plan.plates:
            boxes = boxes[self.plates.other_rows(len(boxes))]
        ahead = camera.before(boxes)[2]
        across, along = self.flat(boxes)
        scale = self.px_per_m()
        left, top = self.plane_at(QPointF(0, 0))
        right, bottom = self.plane_at(QPointF(self.width(), self.height()))
        painter.setPen(QPen(faded(theme().quiet, 0.35), 1))
        painter.setBrush(faded(theme().quiet, 0.06))
        wide = np.maximum(np.ptp(across, axis=1), np.ptp(along, axis=1))
        shown = (ahead.max(axis=1) > 0) & (wide < self.reach_m() * 1.5) & (wide * scale > 3)
        shown &= (across.max(axis=1) > left) & (across.min(axis=1) < right)
        shown &= (along.max(axis=1) > bottom) & (along.min(axis=1) < top)
        for corners in self.places(across[shown], along[shown]):
            painter.drawPolygon(hull(corners))

    def _surface(self, camera: Camera, edges: tuple[float, float], distance: float) -> list[QPointF]:
        """A flat or spherical surface at a distance, across the view."""
        if camera.surface == "plane":
            ends = (float(projection.edge(camera.projection, edge, distance)[0]) for edge in edges)
            return [self.beside_axis(end, distance) for end in ends]
        low, high = edges if camera.projection == "fisheye" else map(math.atan, edges)
        angles = np.linspace(low, high, 25)
        return [self.beside_axis(distance * math.sin(a), distance * math.cos(a)) for a in angles]

    def _paint_band(
        self, painter: QPainter, camera: Camera, edges: tuple[float, float], near: float, far: float
    ) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faded(theme().sharp, 0.22))
        outline = self._surface(camera, edges, near) + self._surface(camera, edges, far)[::-1]
        painter.drawPolygon(QPolygonF(outline))

    def _paint_limits(self, painter: QPainter, camera: Camera, labels: Labels) -> None:
        """Distances of the near, focus and far surfaces: at the left edge, in Side at the upper one."""
        surfaces = _surfaces(camera)
        for text, (distance, colour, _width) in zip(
            self._session.lengths(distance for distance, _, _ in surfaces), surfaces, strict=True
        ):
            at, wide = self.beside_axis(0, distance), text_width(text, 11, True)
            if not self.rect().contains(at.toPoint()):
                continue
            rows = [QPointF(at.x() + 3, 43 + 14 * row) for row in range(3)] if self.mode == "Side" else [
                QPointF(8, at.y() - 4 + shift) for shift in (0, 14, -14, 28, -28)
            ]  # fmt: skip
            for place in rows:
                if labels.put_here(QRectF(place.x() - 2, place.y() - 12, wide + 4, 14)):
                    draw_text(painter, place, text, colour, 11, bold=True)
                    break

    # Mouse, wheel and keys

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        at = event.position()
        if event.button() == Qt.MouseButton.RightButton:
            return _Pan(self, at)
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        self._still_m = self.reach_m()
        tool, session = self._session.selection.tool, self._session
        if tool is not None and tool.stand_in is not None:
            blocking.place(session, tool.stand_in, self._new_place(now, at))
            return self.stand_ins.drag(at)
        if tool is not None and tool.does == "tape":
            taping.take_end(session, self.tapes.new_end(at))
            return None
        handle = self.stand_ins.handle_at(at)
        if handle is not None:
            return self.stand_ins.drag(at, handle)
        if (end := self.tapes.drag(at)) is not None:
            return end
        on_tag = next(
            (row for row, place, _at in self.tags() if math.dist(xy(place), xy(at)) <= TAG_RADIUS + 2), None
        )
        # While blocking, a stand-in goes before the tag of a subject on it; otherwise the tag does.
        stand_in = self.stand_ins.at(at) if on_tag is None or session.view.card in PLACING_TABS else None
        if stand_in is not None:
            session.selection.item = ChosenStandIn(stand_in.number)
            return self.stand_ins.drag(at)
        plate = self.plates.drag(at) if on_tag is None or session.view.card in PLACING_TABS else None
        if plate is not None:
            return plate
        if on_tag is not None:
            focus_on_subject(session, now.survey.subjects[on_tag])
            return None
        if self._on_focus_line(at, now.camera):
            return _DragFocus(session, self)
        session.selection.item = None
        return None

    def _new_place(self, now: Now, at: QPointF) -> Array:
        """Where a fresh stand-in stands: on the floor, or in the plane of focus seen from before."""
        middle = self.middle_point()
        if self.mode != "Overhead":
            return self.stage_point(at, middle)
        spot = self.level_point(at, middle * (1, 0, 1))
        high = np.array([spot[0], max(float(now.camera.pose[1, 3]), 0.01), spot[2]])
        return np.array([spot[0], blocking.floor_beneath(self._session, high), spot[2]])

    def _on_focus_line(self, at: QPointF, camera: Camera) -> bool:
        line = self.beside_axis(0, float(camera.focus_m))
        away = at.x() - line.x() if self.mode == "Side" else at.y() - line.y()
        return self.mode != "Front" and abs(away) <= _GRAB_PX

    def take_hover(self, now: Now, event: QMouseEvent) -> None:
        at, tool, shapes = event.position(), self._session.selection.tool, Qt.CursorShape
        self.pointer = at
        if tool is not None:
            self.update()
        if tool is not None and tool.does in ("place", "tape"):
            shape = shapes.CrossCursor
        elif self.stand_ins.handle_at(at) is not None:
            shape = shapes.PointingHandCursor
        elif self.tapes.end_at(at) or self.stand_ins.at(at) or self.plates.at(at):
            shape = shapes.SizeAllCursor
        elif self._on_focus_line(at, now.camera):
            shape = shapes.SplitHCursor if self.mode == "Side" else shapes.SplitVCursor
        else:
            shape = shapes.ArrowCursor
        self.setCursor(shape)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._shift = QPointF()
        self.zoom_to(1.0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and blocking.chosen(self._session):
            blocking.remove(self._session)
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and placing.chosen(self._session):
            placing.remove(self._session)
        else:
            super().keyPressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom_to(self._zoom * 1.15 ** (event.angleDelta().y() / 120.0))


def _surfaces(camera: Camera) -> tuple[tuple[float, QColor, float], ...]:
    """Distances of the near, far and focus surfaces, with the colour and width of their lines."""
    near, far = (float(limit) for limit in camera.limits_m)
    focus = float(camera.focus_m)
    return (near, theme().nearer, 1.6), (far, theme().farther, 1.6), (focus, theme().focus, 2.0)


def _round_length(metres: float, unit: Measure) -> str:
    return format_length(metres, unit) if unit.symbol == "ft" else f"{metres / unit.metres:g} {unit.symbol}"


def _edges(camera: Camera, way: int) -> tuple[float, float]:
    """Where the picture ends to the left and right, or with 1 below and above, in its own coordinates."""
    half, middle = float(camera.half_widths()[way]), float(camera.middle()[way])
    return middle - half, middle + half
