"""Stand-ins in Overhead, Side and Front: outlines, handles, and dragging them."""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from kobrel.desk.overhead.geometry import Array, FlatView
from kobrel.desk.toolkit.gesture import Drag, Keys
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import hull, label_at, xy
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.model import StandIn
from kobrel.plan.space.stand_ins import scene_of
from kobrel.session.commands import blocking
from kobrel.session.session import Session
from kobrel.stage.stage import Place

HANDLE_PX, GRAB_PX = 4.0, 8.0
_SEEN = 0.25
"""A size has a handle where the view shows this part of its length."""
_CLEAR_PX = 14.0
_MOVE_GRID_M = 0.1
_SIZES = ("width", "height", "depth")
_TURNS = np.linspace(0, 2 * np.pi, 64, endpoint=False)
_FARTHEST = np.stack([np.cos(_TURNS), np.sin(_TURNS)], -1)


class StandIns:
    """What a view draws of stand-ins, and finds of them under the pointer."""

    def __init__(self, session: Session, view: FlatView) -> None:
        self._session = session
        self._view = view

    def _outline(self, stand_in: StandIn) -> QPolygonF:
        """Convex outline of all its copies in the view."""
        stage, view = self._session.stage, self._view
        rows = stage.rows_below(Place(scene_of(stand_in.number), "/"))
        if not rows:
            return QPolygonF()
        across, along = view.flat(stage.boxes(self._session.frame)[rows].reshape(-1, 3))
        if len(across) > len(_FARTHEST):  # of many points only those can matter that lie farthest out
            chosen = np.unique(np.argmax(np.stack([across, along], -1) @ _FARTHEST.T, axis=0))
            across, along = across[chosen], along[chosen]
        return hull(view.places(across, along))

    def handles(self) -> list[tuple[str, QPointF]]:
        """Handles of the chosen stand-in that this view can show: sizes, and the turn."""
        stand_in = blocking.chosen(self._session)
        if stand_in is None or self._session.now is None:
            return []
        foot = blocking.current_place(self._session, stand_in)
        result = []
        names = ["height"] if stand_in.is_person else list(_SIZES)
        if stand_in.kind == "ground":
            names = ["width", "depth"]
        for name in names:
            reach = reach_of(stand_in, name)
            length = float(np.linalg.norm(reach))
            if np.linalg.norm(self._view.flat_way(reach / length)) < _SEEN:
                continue
            longer = max(1.0, _CLEAR_PX / self._view.px_per_m() / length)
            result.append((name, self._view.where(foot + reach * longer)))
        if self._view.mode == "Overhead" and stand_in.kind not in ("ball", "cone", "cylinder"):
            scale = self._view.px_per_m()
            facing = reach_of(stand_in, "depth")
            length = float(np.linalg.norm(facing)) or 1.0
            tip = foot + facing / length * (max(length, _CLEAR_PX / scale) + 20 / scale)
            result.append(("turn", self._view.where(tip)))
        return result

    def at(self, at: QPointF) -> StandIn | None:
        """The stand-in under the pointer, the smallest of several; a wide one at its edge alone."""
        found: list[tuple[float, StandIn]] = []
        for stand_in in self._session.plan.stand_ins:
            outline = self._outline(stand_in)
            if outline.count() < 3:
                continue
            box = outline.boundingRect()
            wide = max(box.width(), box.height()) > 0.6 * max(self._view.width(), self._view.height())
            inside = outline.containsPoint(at, Qt.FillRule.OddEvenFill)
            if inside if not wide else _near_edge(outline, at):
                found.append((box.width() * box.height(), stand_in))
            elif not wide and box.adjusted(-3, -3, 3, 3).contains(at) and box.width() * box.height() < 100:
                found.append((0.0, stand_in))
        return min(found, key=lambda pair: pair[0])[1] if found else None

    def handle_at(self, at: QPointF) -> str | None:
        """The handle of the chosen stand-in under the pointer."""
        return next((name for name, place in self.handles() if math.dist(xy(place), xy(at)) <= GRAB_PX), None)

    def drag(self, at: QPointF, handle: str = "") -> "Drag | None":
        """A gesture on the chosen stand-in: by a handle, or on the whole of it."""
        stand_in = blocking.chosen(self._session)
        if stand_in is None:
            return None
        if handle == "turn":
            return _Turn(self._session, self._view, stand_in)
        if handle:
            return _Resize(self._session, self._view, stand_in, at, handle)
        return _Move(self._session, self._view, stand_in, at)

    # Painting

    def paint(self, painter: QPainter, labels: Labels) -> None:
        """All stand-ins, with the chosen one's handles."""
        for stand_in in self._session.plan.stand_ins:
            self._paint_one(painter, stand_in, labels)

    def _paint_one(self, painter: QPainter, stand_in: StandIn, labels: Labels) -> None:
        outline = self._outline(stand_in)
        if outline.count() < 2:
            return
        chosen = self._session.selection.stand_in == stand_in.number
        colour = theme().focus if chosen else theme().text
        painter.setPen(QPen(colour, 1.8 if chosen else 1.0))
        painter.setBrush(faded(colour, 0.10 if chosen else 0.05))
        painter.drawPolygon(outline)
        self._paint_path(painter, stand_in)
        if not chosen:
            return
        box = outline.boundingRect()
        handles = self.handles()
        labels.take_points((at for _name, at in handles), HANDLE_PX + 2)
        foot = QPointF(box.center().x(), min(max(box.bottom(), 40.0), self._view.height() - 24.0))
        label_at(painter, labels, foot, stand_in.name, colour, bold=True)
        painter.setBrush(theme().base)
        painter.setPen(QPen(colour, 1.6))
        for name, at in handles:
            if name == "turn":
                painter.drawEllipse(at, HANDLE_PX, HANDLE_PX)
            else:
                painter.drawRect(QRectF(at.x() - HANDLE_PX, at.y() - HANDLE_PX, 2 * HANDLE_PX, 2 * HANDLE_PX))

    def _paint_path(self, painter: QPainter, stand_in: StandIn) -> None:
        """The way that a walking stand-in takes."""
        if len(stand_in.keys) < 2:
            return
        painter.setPen(QPen(theme().quiet, 1, Qt.PenStyle.DotLine))
        points = [self._view.where(key.position_m) for key in stand_in.keys]
        painter.drawPolyline(QPolygonF(points))
        for point in points:
            painter.drawEllipse(point, 2, 2)


class _Move(Drag):
    """Moves a stand-in; in Overhead it keeps its height. With Shift on a grid."""

    def __init__(self, session: Session, view: FlatView, stand_in: StandIn, at: QPointF) -> None:
        super().__init__(session)
        self._view, self._pressed = view, at
        self._place = blocking.current_place(session, stand_in)

    def move(self, at: QPointF, keys: Keys) -> None:
        if at == self._pressed:
            return
        there = self._view.moved(self._place, self._pressed, at)
        if keys & Keys.ShiftModifier:
            there = np.round(there / _MOVE_GRID_M) * _MOVE_GRID_M
        blocking.move(self.session, there)


class _Turn(Drag):
    """Turns a stand-in toward the pointer, with Shift in steps."""

    def __init__(self, session: Session, view: FlatView, stand_in: StandIn) -> None:
        super().__init__(session)
        self._view, self._place = view, blocking.current_place(session, stand_in)

    def move(self, at: QPointF, keys: Keys) -> None:
        turned = self._view.turn_toward(at, self._place, bool(keys & Keys.ShiftModifier))
        blocking.change(self.session, "Turn", turn_deg=turned)


class _Resize(Drag):
    """Changes a size of a stand-in, with Shift on a grid."""

    def __init__(self, session: Session, view: FlatView, stand_in: StandIn, at: QPointF, name: str) -> None:
        super().__init__(session)
        self._view, self._pressed, self._axis = view, at, _SIZES.index(name)
        self._size = stand_in.size_m[self._axis]
        reach = reach_of(stand_in, name)
        self._flat = view.flat_way(reach / np.linalg.norm(reach))
        self._sides = 1 if name == "height" else 2

    def move(self, at: QPointF, keys: Keys) -> None:
        flat = self._flat
        moved = np.subtract(self._view.plane_at(at), self._view.plane_at(self._pressed))
        by = float(moved @ flat / (flat @ flat)) * self._sides
        grid = _MOVE_GRID_M if keys & Keys.ShiftModifier else 0.01
        blocking.resize(self.session, self._axis, max(round((self._size + by) / grid) * grid, grid))


def reach_of(stand_in: StandIn, name: str) -> Array:
    """From the foot to the handle of a size, on the stage."""
    width, height, depth = stand_in.size_m
    turn = math.radians(stand_in.turn_deg)
    if name == "height":
        return np.array([0.0, height, 0.0])
    if name == "width":
        return np.array([math.cos(turn), 0.0, -math.sin(turn)]) * (width / 2)
    return np.array([math.sin(turn), 0.0, math.cos(turn)]) * (depth / 2)


def _near_edge(outline: QPolygonF, at: QPointF) -> bool:
    """Whether a point is within reach of a closed outline's line."""
    goal = np.array(xy(at))
    corners = np.array([xy(point) for point in outline.toList()])
    along = np.roll(corners, -1, axis=0) - corners
    size = np.maximum((along**2).sum(axis=1), 1e-9)
    part = np.clip(((goal - corners) * along).sum(axis=1) / size, 0, 1)
    return bool(np.linalg.norm(corners + along * part[:, None] - goal, axis=1).min() <= 4)
