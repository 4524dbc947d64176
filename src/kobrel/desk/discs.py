"""Discs of blur: distance across, place in the picture down, at one scale.

Each disc is what a point of light there becomes: its shape, its fringes, its rim, and what the
front stop leaves of it. Hover for numbers.
"""

import math
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QCheckBox

from kobrel.desk.look import faded, look
from kobrel.desk.openings import disc_image
from kobrel.desk.paint import Panel, draw_text
from kobrel.desk.scales import nearest_of_interest_m
from kobrel.desk.session import Session
from kobrel.picture.discs import Disc, corner_loss_stops, disc
from kobrel.plan.camera import Camera

_LEFT, _TOP, _BOTTOM = 96, 28, 26
_PLACES = (("middle", 0.0), ("half way", 0.5), ("corner", 1.0))
_COLUMNS = 8
_SAMPLES, _HASTY_SAMPLES = 12000, 4000
_HINT = (
    "What points of light become at distances and at places of the picture, at one scale. "
    "Hover for numbers; a click focuses at that distance.\n"
    "The dashed square is one tenth of the picture's width."
)


class Cell(NamedTuple):
    """One disc of the chart: its box, distance, place on the way to the corner, and the disc."""

    box: QRectF
    distance_m: float
    part: float
    disc: Disc


class Discs(Panel):
    """See the module."""

    title = "Discs"

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Discs of blur at distances and places of the picture", _HINT)
        self._kept: tuple[tuple[object, ...], list[Cell], list[QImage]] | None = None
        self.as_in_picture = session.settings.value("discs/as_in_picture", False, bool) is True
        self.tick = QCheckBox("As large as in Picture", self)
        self.tick.setToolTip("Draw the discs as large as they are in Picture, instead of as large as fits")
        self.tick.setChecked(self.as_in_picture)
        self.tick.clicked.connect(self._take_scale)
        self.setMinimumHeight(120)

    def distances(self) -> list[float]:
        """Distances of the columns, even in dioptres, the last infinity."""
        numbers = self._session.survey
        if numbers is None:
            return []
        nearest = 1.0 / nearest_of_interest_m(numbers)
        steps = np.linspace(nearest, 0.0, _COLUMNS)
        return [1.0 / float(d) if d > 0 else math.inf for d in steps]

    def cells(self) -> list[Cell]:
        """All discs, row by row; none for a view without a perspective."""
        return self._made()[0]

    def _made(self) -> tuple[list[Cell], list[QImage]]:
        camera, numbers = self._session.camera, self._session.survey
        if camera is None or numbers is None or camera.projection != "perspective":
            return [], []
        count = _HASTY_SAMPLES if self._session.dragging else _SAMPLES
        key = (camera, self.size(), look(), self.as_in_picture, self._session.picture_scale, count)
        if self._kept is None or self._kept[0] != key:
            cells = self._cells(camera, count)
            across = self._px_across(cells)
            self._kept = key, cells, [_picture(cell, across) for cell in cells]
        return self._kept[1], self._kept[2]

    def _cells(self, camera: Camera, count: int) -> list[Cell]:
        distances = self.distances()
        wide = (self.width() - _LEFT - 10) / len(distances)
        tall = (self.height() - _TOP - _BOTTOM) / len(_PLACES)
        side = min(wide, tall) - 4
        cells = []
        for row, (_name, part) in enumerate(_PLACES):
            for column, distance in enumerate(distances):
                middle = QPointF(_LEFT + (column + 0.5) * wide, _TOP + (row + 0.5) * tall)
                box = QRectF(middle.x() - side / 2, middle.y() - side / 2, side, side)
                cells.append(Cell(box, distance, part, disc(camera, distance, -part, part, count)))
        return cells

    def scale_px(self) -> float:
        """Delivery pixels that a cell is wide."""
        return self._px_across(self.cells())

    def _px_across(self, cells: list[Cell]) -> float:
        if self.as_in_picture and cells:
            return cells[0].box.width() / self._session.picture_scale
        return max(2.06 * max((cell.disc.reach_px for cell in cells), default=1.0), 4.0)

    def _take_scale(self, on: bool) -> None:
        self.as_in_picture = on
        self._session.settings.setValue("discs/as_in_picture", on)
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.tick.move(self.width() - self.tick.sizeHint().width() - 8, 3)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        session, camera = self._session, self._session.camera
        cells, pictures = self._made()
        painter = self.begin("each what a point of light there becomes; all at one scale")
        if camera is None or not cells:
            text = "Discs are drawn for views in perspective."
            draw_text(painter, QPointF(12, 44), text, look().quiet, 12)
            return
        for cell, picture in zip(cells, pictures, strict=True):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look().surround)
            painter.drawRect(cell.box)
            painter.drawImage(cell.box, picture)
        for row, (name, part) in enumerate(_PLACES):
            y = cells[row * len(self.distances())].box.center().y()
            loss = float(corner_loss_stops(camera, part, part))
            draw_text(painter, QPointF(12, y), name, look().text, 12)
            if loss > 0.005:
                draw_text(painter, QPointF(12, y + 15), f"−{loss:.2f} stops", look().quiet, 11)
        for cell in cells[: len(self.distances())]:
            text = session.length(cell.distance_m)
            place = QPointF(cell.box.center().x(), self.height() - 9.0)
            draw_text(painter, place, text, look().quiet, 11, "centre")
        tenth = camera.width_px / 10 / self.scale_px() * cells[0].box.width()
        box = cells[-1].box
        if 6 < tenth < box.width():
            painter.setPen(QPen(faded(look().text, 0.6), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(box.center().x() - tenth / 2, box.center().y() - tenth / 2, tenth, tenth))

    # Hands

    def cell_at(self, at: QPointF) -> Cell | None:
        """The disc beneath a place."""
        return next((cell for cell in self.cells() if cell.box.contains(at)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        cell = self.cell_at(event.position())
        if cell is not None:
            self._session.said.emit(self.words(cell))

    def words(self, cell: Cell) -> str:
        """The numbers of a disc."""
        width, height = cell.disc.size_px
        name = next(name for name, part in _PLACES if part == cell.part)
        light = f", {cell.disc.light:.0%} of its light" if cell.disc.light < 0.995 else ""
        return f"{self._session.length(cell.distance_m)}, {name}: {width:.1f} × {height:.1f} px{light}"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        cell = self.cell_at(event.position())
        if cell is not None and event.button() == Qt.MouseButton.LeftButton:
            self._session.focus_at_m(cell.distance_m)


def _picture(cell: Cell, px_across: float) -> QImage:
    return disc_image(cell.disc, px_across, max(24, min(160, round(cell.box.width()))))
