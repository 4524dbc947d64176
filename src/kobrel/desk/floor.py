"""Stand-ins and tapes in Overhead, Side and Front: their outlines, handles, and hands on them."""

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from kobrel.desk import blocking, taping
from kobrel.desk.look import faded, look
from kobrel.desk.paint import PEG_RADIUS, draw_label, draw_text, hull
from kobrel.desk.pointing import BLOCK
from kobrel.desk.session import Session
from kobrel.plan.model import CameraEnd, End, PointAnchor, StandIn, StandInAnchor, SubjectEnd, Tape
from kobrel.plan.stand_ins import MEASURED, scene_of
from kobrel.plan.tapes import Miss, TapeNumbers, miss
from kobrel.stage.stage import Place

if TYPE_CHECKING:
    from kobrel.desk.overhead import Overhead

_HANDLE_PX, _GRAB_PX = 4.0, 8.0
_TOO_FLAT = 0.05
_SEEN = 0.25
"""A size has a handle where the view shows this part of its length."""
_CLEAR_PX = 14.0
_TURN_GRID_DEG = 15.0
_MOVE_GRID_M = 0.1
_SIZES = ("width", "height", "depth")

_TURNS = np.linspace(0, 2 * np.pi, 64, endpoint=False)
_FARTHEST = np.stack([np.cos(_TURNS), np.sin(_TURNS)], -1)

Array = NDArray[np.float64]


class Floor:
    """What a view from above, aside or before does with stand-ins and tapes."""

    def __init__(self, session: Session, view: "Overhead") -> None:
        self._session = session
        self._view = view
        self._held = ""
        self._from: tuple[QPointF, Array] = (QPointF(), np.zeros(3))
        self._size_before = (1.0, 1.0, 1.0)

    # Stand-ins

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
        if stand_in is None or self._session.camera is None:
            return []
        foot = blocking.current_place(self._session, stand_in)
        result = []
        names = ["height"] if stand_in.is_person else list(_SIZES)
        if stand_in.kind == "ground":
            names = ["width", "depth"]
        for name in names:
            reach = self._reach(stand_in, name)
            length = float(np.linalg.norm(reach))
            if np.linalg.norm(self._flat(reach / length)) < _SEEN:
                continue
            longer = max(1.0, _CLEAR_PX / self._view.px_per_m() / length)
            result.append((name, self._view.where(foot + reach * longer)))
        if self._view.mode == "Overhead" and stand_in.kind not in ("ball", "cone", "cylinder"):
            scale = self._view.px_per_m()
            facing = self._reach(stand_in, "depth")
            length = float(np.linalg.norm(facing)) or 1.0
            tip = foot + facing / length * (max(length, _CLEAR_PX / scale) + 20 / scale)
            result.append(("turn", self._view.where(tip)))
        return result

    @staticmethod
    def _reach(stand_in: StandIn, name: str) -> Array:
        """From the foot to the handle of a size, on the stage."""
        width, height, depth = stand_in.size_m
        turn = math.radians(stand_in.turn_deg)
        if name == "height":
            return np.array([0.0, height, 0.0])
        if name == "width":
            return np.array([math.cos(turn), 0.0, -math.sin(turn)]) * (width / 2)
        return np.array([math.sin(turn), 0.0, math.cos(turn)]) * (depth / 2)

    def _stand_in_at(self, at: QPointF) -> StandIn | None:
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

    # Tapes

    def tapes(self) -> list[tuple[Tape, TapeNumbers]]:
        """Tapes whose ends are somewhere, and their numbers at the frame."""
        result = []
        for tape in self._session.plan.tapes:
            numbers = taping.numbers_of(self._session, tape)
            if numbers is not None and not math.isnan(float(numbers.straight_m[0])):
                result.append((tape, numbers))
        return result

    def misses(self, tape: Tape, numbers: TapeNumbers) -> list[tuple[Array, Miss]]:
        """Free ends of a tape that touch nothing: where they are, and what they perhaps miss."""
        session, camera = self._session, self._session.camera
        if camera is None or session.dragging or not session.stage.built:
            return []
        found = []
        for end, points in ((tape.start, numbers.start), (tape.end, numbers.end)):
            off = miss(end, points[0], camera, session.stage, session.frame)
            if off is not None:
                found.append((points[0], off))
        return found

    def _tape_end_at(self, at: QPointF) -> tuple[Tape, str, Array] | None:
        for tape, numbers in self.tapes():
            for which, end, points in (("start", tape.start, numbers.start), ("end", tape.end, numbers.end)):
                if isinstance(end, CameraEnd | SubjectEnd):
                    continue
                if math.dist(_xy(self._view.where(points[0])), _xy(at)) <= _GRAB_PX:
                    return tape, which, points[0]
        return None

    # Painting

    def paint(self, painter: QPainter) -> None:
        """Stand-ins with the chosen one's handles, then tapes."""
        for stand_in in self._session.plan.stand_ins:
            self._paint_stand_in(painter, stand_in)
        for tape, numbers in self.tapes():
            self._paint_tape(painter, tape, numbers)

    def _paint_stand_in(self, painter: QPainter, stand_in: StandIn) -> None:
        outline = self._outline(stand_in)
        if outline.count() < 2:
            return
        chosen = self._session.selected_stand_in == stand_in.number
        colour = look().focus if chosen else look().text
        painter.setPen(QPen(colour, 1.8 if chosen else 1.0))
        painter.setBrush(faded(colour, 0.10 if chosen else 0.05))
        painter.drawPolygon(outline)
        self._paint_path(painter, stand_in)
        if not chosen:
            return
        box = outline.boundingRect()
        label = QPointF(min(max(box.center().x(), 40), self._view.width() - 40), box.bottom() + 14)
        draw_text(painter, label, stand_in.name, colour, 11, "centre", bold=True)
        painter.setBrush(look().base)
        painter.setPen(QPen(colour, 1.6))
        for name, at in self.handles():
            if name == "turn":
                painter.drawEllipse(at, _HANDLE_PX, _HANDLE_PX)
            else:
                painter.drawRect(
                    QRectF(at.x() - _HANDLE_PX, at.y() - _HANDLE_PX, 2 * _HANDLE_PX, 2 * _HANDLE_PX)
                )

    def _paint_path(self, painter: QPainter, stand_in: StandIn) -> None:
        """The way that a walking stand-in takes."""
        if len(stand_in.keys) < 2:
            return
        painter.setPen(QPen(look().quiet, 1, Qt.PenStyle.DotLine))
        points = [self._view.where(key.position_m) for key in stand_in.keys]
        painter.drawPolyline(QPolygonF(points))
        for point in points:
            painter.drawEllipse(point, 2, 2)

    def _paint_tape(self, painter: QPainter, tape: Tape, numbers: TapeNumbers) -> None:
        chosen = self._session.selected_tape == tape.name
        colour = look().focus if chosen else look().text
        start, end = self._view.where(numbers.start[0]), self._view.where(numbers.end[0])
        painter.setPen(QPen(colour, 2.0 if chosen else 1.3, Qt.PenStyle.DashLine))
        painter.drawLine(start, end)
        painter.setBrush(look().panel)
        painter.setPen(QPen(colour, 1.6))
        for at in (start, end):
            painter.drawEllipse(at, 3.5, 3.5)
        middle = (start + end) / 2
        text = self._session.length(float(numbers.straight_m[0]))
        left = 66 if self._view.mode == "Overhead" else 8  # where the limits are written
        room = QRectF(left, 48, self._view.width() - left - 44, self._view.height() - 64)
        if room.contains(middle):
            draw_label(painter, middle + QPointF(8, -5), text, colour, bold=chosen)
        for point, off in self.misses(tape, numbers):
            at, touch = self._view.where(point), self._view.where(off.pick.point)
            painter.setPen(QPen(look().wrong, 1.4, Qt.PenStyle.DotLine))
            painter.drawLine(at, touch)
            painter.setPen(QPen(look().wrong, 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 7, 7)
            if math.dist(_xy(at), _xy(touch)) > 3:
                note = f"off {self._session.length(off.gap_m)}"
                draw_label(painter, at + QPointF(10, 18), note, look().wrong, bold=True)

    def paint_tool(self, painter: QPainter) -> None:
        """What a click would make."""
        session, view = self._session, self._view
        tool, at = session.tool, view.pointer
        if tool is None or tool.does not in ("place", "tape") or at is None or not view.underMouse():
            return
        painter.setPen(QPen(look().focus, 1.4, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if tool.stand_in is not None:
            width, _height, depth = blocking.SIZES[tool.stand_in]
            scale = view.px_per_m()
            painter.drawEllipse(at, max(width * scale / 2, 4), max(depth * scale / 2, 4))
            return
        if tool.start is not None and session.camera is not None:
            lens = session.camera.pose[None, :3, 3]
            start = taping.end_points(session.plan, tool.start, [session.frame], session.stage, lens)[0]
            painter.drawLine(view.where(start), at)
        painter.drawEllipse(at, 6, 6)

    # Hands

    def press(self, at: QPointF) -> bool:
        """Take what is under the pointer; False if there is nothing."""
        session, tool = self._session, self._session.tool
        if tool is not None and tool.stand_in is not None:
            blocking.place(session, tool.stand_in, self._spot(at))
            self._take(at, "move")
            return True
        if tool is not None and tool.does == "tape":
            taping.take_end(session, self.end_at(at))
            return True
        for name, place in self.handles():
            if math.dist(_xy(place), _xy(at)) <= _GRAB_PX:
                self._take(at, name)
                return True
        tape_end = self._tape_end_at(at)
        if tape_end is not None:
            tape, which, point = tape_end
            session.select(tape=tape.name)
            self._held, self._from = f"tape {which}", (at, point)
            session.begin_drag()
            return True
        # While blocking, a stand-in goes before the peg of a subject on it; otherwise the peg does.
        pegs = [place for _, place in self._view.subject_places()] if session.card != BLOCK else []
        if any(math.dist(_xy(place), _xy(at)) <= PEG_RADIUS + 2 for place in pegs):
            return False
        stand_in = self._stand_in_at(at)
        if stand_in is not None:
            session.select(stand_in=stand_in.number)
            self._take(at, "move")
            return True
        return False

    def _take(self, at: QPointF, what: str) -> None:
        stand_in = blocking.chosen(self._session)
        if stand_in is not None:
            self._held, self._from = what, (at, blocking.current_place(self._session, stand_in))
            self._size_before = stand_in.size_m
            self._session.begin_drag()

    def drag(self, at: QPointF, coarse: bool) -> None:
        """Follow the pointer with what is held; in round steps if `coarse`."""
        if self._held.startswith("tape "):
            self._drag_tape(at)
            return
        stand_in = blocking.chosen(self._session)
        if stand_in is None or at == self._from[0]:
            return
        pressed, place = self._from
        if self._held == "move":
            there = self._moved(place, pressed, at)
            blocking.move(self._session, np.round(there / _MOVE_GRID_M) * _MOVE_GRID_M if coarse else there)
        elif self._held == "turn":
            toward = self._level_point(at, place) - place
            degrees = math.degrees(math.atan2(toward[0], toward[2]))
            grid = _TURN_GRID_DEG if coarse else 1.0
            blocking.change(self._session, "Turn", turn_deg=round(degrees / grid) * grid + 0.0)
        elif self._held in _SIZES:
            self._drag_size(stand_in, at, coarse)

    def _flat(self, way: Array) -> Array:
        """A direction on the stage as the view shows it, (2,)."""
        across, up, _ = self._view.axes()
        return np.array([way @ across, way @ up])

    def _drag_size(self, stand_in: StandIn, at: QPointF, coarse: bool) -> None:
        reach = self._reach(stand_in, self._held)
        flat = self._flat(reach / np.linalg.norm(reach))
        moved = np.subtract(self._view.plane_at(at), self._view.plane_at(self._from[0]))
        by = float(moved @ flat / (flat @ flat)) * (1 if self._held == "height" else 2)
        grid = _MOVE_GRID_M if coarse else 0.01
        axis = _SIZES.index(self._held)
        size = self._size_before[axis] + by
        blocking.resize(self._session, axis, max(round(size / grid) * grid, grid))

    def _moved(self, place: Array, pressed: QPointF, at: QPointF) -> Array:
        """Where a stand-in comes when dragged: in Overhead it keeps its height."""
        view = self._view
        if view.mode == "Overhead":
            return place + self._level_point(at, place) - self._level_point(pressed, place)
        return place + view.stage_point(at, place) - view.stage_point(pressed, place)

    def _level_point(self, at: QPointF, like: Array) -> Array:
        """The point at a place on the view that is as high as another."""
        view = self._view
        across, up, _ = view.axes()
        level = np.array([[across[0], across[2]], [up[0], up[2]]])
        if abs(np.linalg.det(level)) < _TOO_FLAT:
            return view.stage_point(at, like)
        old, new = view.flat(like), view.plane_at(at)
        step = np.linalg.solve(level, [new[0] - float(old[0]), new[1] - float(old[1])])
        return np.asarray(like + np.array([step[0], 0.0, step[1]]))

    def _drag_tape(self, at: QPointF) -> None:
        session, tape = self._session, taping.chosen(self._session)
        if tape is None:
            return
        which = self._held.split()[1]
        end = self.snap_at(at)
        if end is None or isinstance(end, CameraEnd):
            old = tape.end if which == "end" else tape.start
            end = taping.moved_end(session, old, self._view.stage_point(at, self._from[1]))
        taping.set_end(session, tape, which, end)

    def release(self) -> None:
        """Let go."""
        self._held = ""

    def cursor(self, at: QPointF) -> Qt.CursorShape | None:
        """The pointer's shape over something that can be held."""
        tool = self._session.tool
        if tool is not None and tool.does in ("place", "tape"):
            return Qt.CursorShape.CrossCursor
        if any(math.dist(_xy(place), _xy(at)) <= _GRAB_PX for _, place in self.handles()):
            return Qt.CursorShape.PointingHandCursor
        if self._tape_end_at(at) or self._stand_in_at(at):
            return Qt.CursorShape.SizeAllCursor
        return None

    # Where a click is meant

    def _spot(self, at: QPointF) -> Array:
        """Where a fresh stand-in stands: on the floor, or in the plane of focus seen from before."""
        session, view = self._session, self._view
        camera = session.camera
        assert camera is not None
        middle = camera.pose[:3, 3] - camera.pose[:3, 2] * min(float(camera.focus_m), 50.0)
        if view.mode != "Overhead":
            return view.stage_point(at, middle)
        level = middle * (1, 0, 1)
        spot = self._level_point(at, level)
        high = np.array([spot[0], max(float(camera.pose[1, 3]), 0.01), spot[2]])
        return np.array([spot[0], blocking.floor_beneath(session, high), spot[2]])

    def snap_at(self, at: QPointF) -> End | None:
        """A subject, the camera, or a stand-in's point that the pointer is near."""
        session, view = self._session, self._view
        numbers = session.survey
        for row, place in view.subject_places():
            if numbers and math.dist(_xy(place), _xy(at)) <= PEG_RADIUS + 2:
                return SubjectEnd(number=numbers.subjects[row])
        lens = math.dist(_xy(view.place(0, 0)), _xy(at)) <= 10
        if session.camera is not None and view.mode != "Front" and lens:
            return CameraEnd()
        for stand_in in session.plan.stand_ins:
            world = session.stage.world(Place(scene_of(stand_in.number), MEASURED), [session.frame])
            if world is not None and math.dist(_xy(view.where(world[0, :3, 3])), _xy(at)) <= taping.SNAP_PX:
                return StandInAnchor(number=stand_in.number)
        return None

    def end_at(self, at: QPointF) -> End:
        """An end of a tape at the pointer: snapped, on what is seen there, or free."""
        session, view = self._session, self._view
        snap = self.snap_at(at)
        if snap is not None:
            return snap
        camera = session.camera
        assert camera is not None
        middle = camera.pose[:3, 3] - camera.pose[:3, 2] * min(float(camera.focus_m), 50.0)
        point = view.stage_point(at, middle)
        toward = view.axes()[2]
        low, high = session.stage.bounds(session.frame)
        far = 2 * float(np.linalg.norm(high - low)) + 10
        pick = session.pick(point + toward * far, -toward)
        if pick is not None:
            local = session.stage.centre(pick.place)
            world = session.stage.world(pick.place, [session.frame])
            if local is not None and world is not None:
                centre = world[0, :3, :3] @ local + world[0, :3, 3]
                if math.dist(_xy(view.where(centre)), _xy(at)) <= taping.SNAP_PX:
                    return taping.bounds_end(pick.place)
            return taping.surface_end(pick)
        return PointAnchor(position_m=taping.vector(np.round(point, 5)))


def _xy(point: QPointF) -> tuple[float, float]:
    return point.x(), point.y()


def _near_edge(outline: QPolygonF, at: QPointF) -> bool:
    """Whether a point is within reach of a closed outline's line."""
    goal = np.array(_xy(at))
    corners = np.array([_xy(point) for point in outline.toList()])
    along = np.roll(corners, -1, axis=0) - corners
    size = np.maximum((along**2).sum(axis=1), 1e-9)
    part = np.clip(((goal - corners) * along).sum(axis=1) / size, 0, 1)
    return bool(np.linalg.norm(corners + along * part[:, None] - goal, axis=1).min() <= 4)
