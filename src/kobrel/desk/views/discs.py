"""Discs of blur: distance across, place in the picture down, at one scale.

Each disc is what a point of light there becomes: its shape, its fringes, its rim, and what the
front stop leaves of it. Hover for numbers.
"""

import math
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QImage, QMouseEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QCheckBox

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Gesture
from kobrel.desk.toolkit.paint import draw_text
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.desk.views.iris_images import disc_image
from kobrel.memo import Memo, Parts
from kobrel.picture.discs import Disc, corner_loss_stops, disc
from kobrel.session import settings
from kobrel.session.commands.focusing import focus_at_m
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session
from kobrel.session.view import View

_LEFT, _TOP, _BOTTOM = 96, 28, 26
_PLACES = (("middle", 0.0), ("mid-frame", 0.5), ("corner", 1.0))
_COLUMNS = 8
_SAMPLES, _PREVIEW_SAMPLES, _REFINE_MS = 12000, 4000, 5
_HINT = (
    "Bokeh of a point light by distance and image position. Hover: size. Click: focus there.\n"
    "Dashed square: 1/10 of the frame width."
)


class Cell(NamedTuple):
    """One disc of the chart: its box, distance, place on the way to the corner, and the disc."""

    box: QRectF
    distance_m: float
    part: float
    disc: Disc


@guarded
class Discs(Panel):
    """Discs of blur: distance across, place in the picture down, at one scale."""

    title = "Discs"
    depends = (*AT_FRAME, View.picture_scale)
    order = 3

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Bokeh by distance and image position", _HINT)
        self._discs = Memo[tuple[list[Cell], list[QImage]]]()
        self._finer: Iterator[None] = iter(())
        self._refining = QTimer(self)
        self._refining.setInterval(_REFINE_MS)
        self._refining.timeout.connect(self._refine)
        self.as_in_picture = session.settings.get(settings.DISCS_AS_IN_PICTURE)
        self.tick = QCheckBox("As large as in Picture", self)
        self.tick.setToolTip("Draw at Picture size instead of fitting")
        self.tick.setChecked(self.as_in_picture)
        self.tick.clicked.connect(self._take_scale)
        self.setMinimumHeight(120)

    @staticmethod
    def distances(now: Now) -> list[float]:
        """Distances of the columns, even in dioptres, the last infinity."""
        steps = np.linspace(1.0 / now.survey.nearest_of_interest_m, 0.0, _COLUMNS)
        return [1.0 / float(d) if d > 0 else math.inf for d in steps]

    def cells(self) -> list[Cell]:
        """All discs, row by row; none for a view without a perspective."""
        now = self._session.now
        return self._made(now)[0] if now else []

    def _made(self, now: Now) -> tuple[list[Cell], list[QImage]]:
        if now.camera.projection != "perspective":
            return [], []
        size, scale = self.size().toTuple(), self._session.view.picture_scale if self.as_in_picture else 0.0
        parts = now.camera, size, theme(), scale

        def make() -> tuple[list[Cell], list[QImage]]:
            cells = [cell for row in range(len(_PLACES)) for cell in self._row(now, row, _PREVIEW_SAMPLES)]
            across = self._px_across(cells)
            self._finer = self._made_finer(now, parts)
            self._refining.start()
            return cells, [_picture(cell, across) for cell in cells]

        return self._discs.get(parts, make)

    def _refine(self) -> None:
        """Go on with the finer discs, a row at a time, once nothing is dragged."""
        if not self._session.dragging and next(self._finer, self) is self:
            self._refining.stop()

    def _made_finer(self, now: Now, parts: Parts) -> Iterator[None]:
        cells: list[Cell] = []
        for row in range(len(_PLACES)):
            cells += self._row(now, row, _SAMPLES)
            yield
        across, pictures = self._px_across(cells), list[QImage]()
        for cell in cells:
            pictures.append(_picture(cell, across))
            yield
        self._discs.put(parts, (cells, pictures))
        self.update()

    def _row(self, now: Now, row: int, count: int) -> list[Cell]:
        distances, part = self.distances(now), _PLACES[row][1]
        wide = (self.width() - _LEFT - 10) / len(distances)
        tall = (self.height() - _TOP - _BOTTOM) / len(_PLACES)
        side = min(wide, tall) - 4
        cells = []
        for column, distance in enumerate(distances):
            middle = QPointF(_LEFT + (column + 0.5) * wide, _TOP + (row + 0.5) * tall)
            box = QRectF(middle.x() - side / 2, middle.y() - side / 2, side, side)
            cells.append(Cell(box, distance, part, disc(now.camera, distance, -part, part, count)))
        return cells

    def scale_px(self) -> float:
        """Delivery pixels that a cell is wide."""
        return self._px_across(self.cells())

    def _px_across(self, cells: list[Cell]) -> float:
        if self.as_in_picture and cells:
            return cells[0].box.width() / self._session.view.picture_scale
        return max(2.06 * max((cell.disc.reach_px for cell in cells), default=1.0), 4.0)

    def _take_scale(self, on: bool) -> None:
        self.as_in_picture = on
        self._session.settings.put(settings.DISCS_AS_IN_PICTURE, on)
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.tick.move(self.width() - self.tick.sizeHint().width() - 8, 3)

    # Painting

    def paint(self, now: Now) -> None:
        session, camera = self._session, now.camera
        cells, pictures = self._made(now)
        painter = self.begin("image of a point light at each position; same scale")
        if not cells:
            text = "Only for perspective cameras."
            draw_text(painter, QPointF(12, 44), text, theme().quiet, 12)
            return
        for cell, picture in zip(cells, pictures, strict=True):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme().surround)
            painter.drawRect(cell.box)
            painter.drawImage(cell.box, picture)
        for row, (name, part) in enumerate(_PLACES):
            y = cells[row * _COLUMNS].box.center().y()
            loss = float(corner_loss_stops(camera, part, part))
            draw_text(painter, QPointF(12, y), name, theme().text, 12)
            if loss > 0.005:
                draw_text(painter, QPointF(12, y + 15), f"−{loss:.2f} stops", theme().quiet, 11)
        for cell in cells[:_COLUMNS]:
            text = session.length(cell.distance_m)
            place = QPointF(cell.box.center().x(), self.height() - 9.0)
            draw_text(painter, place, text, theme().quiet, 11, "centre")
        tenth = camera.width_px / 10 / self.scale_px() * cells[0].box.width()
        box = cells[-1].box
        if 6 < tenth < box.width():
            painter.setPen(QPen(faded(theme().text, 0.6), 1, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(box.center().x() - tenth / 2, box.center().y() - tenth / 2, tenth, tenth))

    # Mouse

    def cell_at(self, at: QPointF) -> Cell | None:
        """The disc beneath a place."""
        return next((cell for cell in self.cells() if cell.box.contains(at)), None)

    def take_hover(self, now: Now, event: QMouseEvent) -> None:
        cell = self.cell_at(event.position())
        if cell is not None:
            self._session.say(self.words(cell))

    def words(self, cell: Cell) -> str:
        """The numbers of a disc."""
        width, height = cell.disc.size_px
        name = next(name for name, part in _PLACES if part == cell.part)
        light = f", {cell.disc.light:.0%} of its light" if cell.disc.light < 0.995 else ""
        return f"{self._session.length(cell.distance_m)}, {name}: {width:.1f} × {height:.1f} px{light}"

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        cell = self.cell_at(event.position())
        if cell is not None and event.button() == Qt.MouseButton.LeftButton:
            focus_at_m(self._session, cell.distance_m)
        return None


def _picture(cell: Cell, px_across: float) -> QImage:
    return disc_image(cell.disc, px_across, max(24, min(160, round(cell.box.width()))))
