"""Tapes in Overhead, Side and Front: drawing them, dragging their ends, and what an end snaps to."""

import math

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk.overhead.geometry import Array, FlatView
from kobrel.desk.toolkit.gesture import Drag, Keys
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import TAG_RADIUS, label_at, xy
from kobrel.desk.toolkit.theme import theme
from kobrel.plan.measure.tapes import Miss, TapeNumbers, miss
from kobrel.plan.model import CameraEnd, End, PointAnchor, StandInAnchor, SubjectEnd, Tape
from kobrel.plan.space.anchors import on_surface
from kobrel.plan.space.stand_ins import MEASURED, scene_of
from kobrel.session.commands import taping
from kobrel.session.selection import ChosenTape
from kobrel.session.session import Session
from kobrel.stage.stage import Place

GRAB_PX = 8.0


class Tapes:
    """What a view draws of tapes, and finds of them under the pointer."""

    def __init__(self, session: Session, view: FlatView) -> None:
        self._session = session
        self._view = view

    def measured(self) -> list[tuple[Tape, TapeNumbers]]:
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

    def end_at(self, at: QPointF) -> tuple[Tape, str, Array] | None:
        for tape, numbers in self.measured():
            for which, end, points in (("start", tape.start, numbers.start), ("end", tape.end, numbers.end)):
                if isinstance(end, CameraEnd | SubjectEnd):
                    continue
                if math.dist(xy(self._view.where(points[0])), xy(at)) <= GRAB_PX:
                    return tape, which, points[0]
        return None

    def drag(self, at: QPointF) -> "_DragEnd | None":
        """A gesture on the end of a tape under the pointer, which is chosen by it."""
        found = self.end_at(at)
        if found is None:
            return None
        tape, which, point = found
        self._session.selection.item = ChosenTape(tape.name)
        return _DragEnd(self._session, self._view, self, which, point)

    # Painting

    def paint(self, painter: QPainter, labels: Labels) -> None:
        """All tapes, with what their ends miss."""
        for tape, numbers in self.measured():
            self._paint_one(painter, tape, numbers, labels)

    def _paint_one(self, painter: QPainter, tape: Tape, numbers: TapeNumbers, labels: Labels) -> None:
        chosen = self._session.selection.tape == tape.name
        colour = theme().focus if chosen else theme().text
        start, end = self._view.where(numbers.start[0]), self._view.where(numbers.end[0])
        painter.setPen(QPen(colour, 2.0 if chosen else 1.3, Qt.PenStyle.DashLine))
        painter.drawLine(start, end)
        painter.setBrush(theme().panel)
        painter.setPen(QPen(colour, 1.6))
        for at in (start, end):
            painter.drawEllipse(at, 3.5, 3.5)
        middle = (start + end) / 2
        text = self._session.length(float(numbers.straight_m[0]))
        if self._view.rect().contains(middle.toPoint()):
            label_at(painter, labels, middle, text, colour, bold=chosen)
        for point, off in self.misses(tape, numbers):
            at, touch = self._view.where(point), self._view.where(off.pick.point)
            painter.setPen(QPen(theme().wrong, 1.4, Qt.PenStyle.DotLine))
            painter.drawLine(at, touch)
            painter.setPen(QPen(theme().wrong, 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(at, 7, 7)
            if math.dist(xy(at), xy(touch)) > 3:
                note = f"misses by {self._session.length(off.gap_m)}"
                label_at(painter, labels, at, note, theme().wrong, bold=True)

    # What an end is on

    def snap_at(self, at: QPointF) -> End | None:
        """A subject, the camera, or a stand-in's point that the pointer is near."""
        session, view = self._session, self._view
        numbers = session.survey
        for row, place, _point in view.tags():
            if numbers and math.dist(xy(place), xy(at)) <= TAG_RADIUS + 2:
                return SubjectEnd(number=numbers.subjects[row])
        lens = math.dist(xy(view.place(0, 0)), xy(at)) <= 10
        if session.camera is not None and view.mode != "Front" and lens:
            return CameraEnd()
        for stand_in in session.plan.stand_ins:
            world = session.stage.world(Place(scene_of(stand_in.number), MEASURED), [session.frame])
            if world is not None and math.dist(xy(view.where(world[0, :3, 3])), xy(at)) <= taping.SNAP_PX:
                return StandInAnchor(number=stand_in.number)
        return None

    def new_end(self, at: QPointF) -> End:
        """An end of a tape at the pointer: snapped, on what is seen there, or free."""
        session, view = self._session, self._view
        snap = self.snap_at(at)
        if snap is not None:
            return snap
        point = view.stage_point(at, view.middle_point())
        toward = view.axes()[2]
        low, high = session.stage.bounds(session.frame)
        far = 2 * float(np.linalg.norm(high - low)) + 10
        pick = session.pick(point + toward * far, -toward)
        if pick is not None:
            local = session.stage.centre(pick.place, [session.frame])
            world = session.stage.world(pick.place, [session.frame])
            if local is not None and world is not None:
                centre = world[0, :3, :3] @ local[0] + world[0, :3, 3]
                if math.dist(xy(view.where(centre)), xy(at)) <= taping.SNAP_PX:
                    return taping.bounds_end(pick.place)
            return on_surface(pick)
        return PointAnchor(position_m=taping.vector(np.round(point, 5)))


class _DragEnd(Drag):
    """Moves an end of the chosen tape: onto what it snaps to, or else freely."""

    def __init__(self, session: Session, view: FlatView, tapes: Tapes, which: str, point: Array) -> None:
        super().__init__(session)
        self._view, self._tapes, self._which, self._point = view, tapes, which, point

    def move(self, at: QPointF, keys: Keys) -> None:
        tape = taping.chosen(self.session)
        if tape is None:
            return
        end = self._tapes.snap_at(at)
        if end is None or isinstance(end, CameraEnd):
            old = tape.end if self._which == "end" else tape.start
            end = taping.moved_end(self.session, old, self._view.stage_point(at, self._point))
        taping.set_end(self.session, tape, self._which, end)
