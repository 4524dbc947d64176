"""Plates in Overhead, Side and Front: their outlines, dragging and turning them."""

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from kobrel.desk.overhead.geometry import FlatView
from kobrel.desk.toolkit.gesture import Drag, Keys
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import label_at, xy
from kobrel.desk.toolkit.theme import theme
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.placing import corners_at
from kobrel.plan.space.plates import pivot_at
from kobrel.session.commands.plates import placing
from kobrel.session.selection import ChosenPlates
from kobrel.session.session import Session

_GRAB_PX, _PIVOT_PX, _HANDLE_PX = 6.0, 3.0, 4.0
_AWAY_PX = 26.0
_FEW = 12


class Plates:
    """What a view draws of plates, and finds of them under the pointer."""

    def __init__(self, session: Session, view: FlatView) -> None:
        self._session, self._view = session, view

    def _places(self, plate: Plate) -> list[QPointF]:
        """Its corners in the view."""
        session = self._session
        camera = session.camera
        if camera is None or plate.lies:
            return []
        corners = corners_at(plate, session.plan.dials, camera, [session.frame])[0]
        return [self._view.where(corner) for corner in corners]

    def _pivot(self, plate: Plate) -> QPointF:
        session = self._session
        return self._view.where(pivot_at(plate, session.plan.dials, [session.frame])[0])

    def at(self, at: QPointF) -> Plate | None:
        """The plate whose line is under the pointer, the nearest to it."""
        found = []
        for plate in self._session.plan.plates:
            places = self._places(plate)
            if not places:
                continue
            away = min(
                _to_line(xy(at), xy(a), xy(b)) for a, b in zip(places, places[1:] + places[:1], strict=True)
            )
            away = min(away, math.dist(xy(self._pivot(plate)), xy(at)) - _PIVOT_PX)
            if away <= _GRAB_PX:
                found.append((away, plate.number, plate))
        return min(found)[2] if found else None

    def handle(self) -> QPointF | None:
        """The handle that turns the chosen plate, where it stands and is seen from above."""
        session, plate = self._session, placing.chosen(self._session)
        if plate is None or plate.faces or plate.lies or self._view.mode != "Overhead":
            return None
        turn = math.radians(placing.level_now(session, plate, "turn_deg"))
        pivot = pivot_at(plate, session.plan.dials, [session.frame])[0]
        ahead = pivot + np.array([math.sin(turn), 0.0, math.cos(turn)]) * _AWAY_PX / self._view.px_per_m()
        return self._view.where(ahead)

    def drag(self, at: QPointF) -> Drag | None:
        """A gesture on a plate under the pointer, which is chosen; None where there is none."""
        handle, chosen = self.handle(), placing.chosen(self._session)
        if handle is not None and chosen is not None and math.dist(xy(handle), xy(at)) <= 2 * _HANDLE_PX:
            return _Turn(self._session, self._view, chosen)
        plate = self.at(at)
        if plate is None:
            return None
        if plate not in placing.all_chosen(self._session):
            placing.choose(self._session, plate.number)
        else:
            others = frozenset(p.number for p in placing.all_chosen(self._session))
            self._session.selection.item = ChosenPlates(plate.number, others)
        return _Move(self._session, self._view, plate, at)

    def other_rows(self, count: int) -> NDArray[np.bool_]:
        """(count,) which rows of the stage are no plates."""
        others, stage = np.ones(count, bool), self._session.stage
        for plate in self._session.plan.plates:
            others[stage.rows_below(placing.place_of(plate))] = False
        return others

    def paint(self, painter: QPainter, labels: Labels) -> None:
        """All plates as lines, the chosen ones in brass with their pivots."""
        chosen = {plate.number for plate in placing.all_chosen(self._session)}
        for plate in self._session.plan.plates:
            places = self._places(plate)
            if not places:
                continue
            colour = theme().focus if plate.number in chosen else theme().text
            painter.setPen(QPen(colour, 2.4 if plate.number in chosen else 1.4))
            painter.setBrush(theme().base)
            painter.drawPolyline(QPolygonF([*places, places[0]]))
            pivot = self._pivot(plate)
            painter.drawEllipse(pivot, _PIVOT_PX, _PIVOT_PX)
            end = max(places, key=lambda place: place.x())
            if plate.number in chosen or len(self._session.plan.plates) <= _FEW:
                label_at(
                    painter, labels, end + QPointF(3, 3), plate.name, colour, bold=plate.number in chosen
                )
        handle = self.handle()
        if handle is not None:
            turned = placing.chosen(self._session)
            painter.setPen(QPen(theme().focus, 1.6))
            painter.setBrush(theme().base)
            if turned is not None:
                painter.drawLine(self._pivot(turned), handle)
            painter.drawEllipse(handle, _HANDLE_PX, _HANDLE_PX)


def _to_line(at: tuple[float, float], a: tuple[float, float], b: tuple[float, float]) -> float:
    """Distance of a point from a piece of a line."""
    p, q, r = np.asarray(at), np.asarray(a), np.asarray(b)
    along = r - q
    part = np.clip((p - q) @ along / max(float(along @ along), 1e-9), 0.0, 1.0)
    return float(np.linalg.norm(q + along * part - p))


class _Move(Drag):
    """Moves a plate: along its line of sight where it keeps its framing, freely otherwise or with Shift."""

    def __init__(self, session: Session, view: FlatView, plate: Plate, at: QPointF) -> None:
        super().__init__(session)
        self._view, self._pressed = view, at
        self._place = pivot_at(plate, session.plan.dials, [session.frame])[0]

    def move(self, at: QPointF, keys: Keys) -> None:
        if at == self._pressed:
            return
        there = self._view.moved(self._place, self._pressed, at)
        work = placing.move_to if keys & Keys.ShiftModifier or self._view.mode == "Front" else placing.drag_to
        work(self.session, there)


class _Turn(Drag):
    """Turns a standing plate toward the pointer, with Shift in steps."""

    def __init__(self, session: Session, view: FlatView, plate: Plate) -> None:
        super().__init__(session)
        self._view = view
        self._place = pivot_at(plate, session.plan.dials, [session.frame])[0]

    def move(self, at: QPointF, keys: Keys) -> None:
        turned = self._view.turn_toward(at, self._place, bool(keys & Keys.ShiftModifier))
        placing.set_level(self.session, "turn_deg", turned)
