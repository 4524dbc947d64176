"""What of the Pull chart stands still while frames pass, kept as pictures and mended where it changed."""

import math
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPixmap

from kobrel.desk.look import look
from kobrel.desk.paint import Panel
from kobrel.desk.pull_lines import Plot, paint_ground, paint_lines
from kobrel.desk.session import Session
from kobrel.plan.survey import GONE, Survey

_JOIN_PX = 4.0


class Still:
    """Two layers: the ground, which no focus changes, and all lines upon it."""

    def __init__(self, session: Session, panel: Panel) -> None:
        self._session, self._panel = session, panel
        self._kept: tuple[tuple[object, ...], Survey, QPixmap] | None = None
        self._ground: tuple[tuple[object, ...], tuple[np.ndarray, ...], QPixmap] | None = None

    def picture(self, plot: Plot, numbers: Survey) -> QPixmap:
        """Grid, band and curves, which do not depend on the frame: painted once, and after an edit
        anew only over the frames that it changed.
        """
        shot, ground = self._session.shot, self._ground_of(plot, numbers)
        assert shot is not None
        key = (ground.cacheKey(), shot.brief, shot.ring, shot.fps, shot.glass.lens)
        kept = self._kept
        if kept is None or kept[0] != key:
            pixmap = ground.copy()
            self._paint_onto(pixmap, plot, numbers)
            self._kept = kept = key, numbers, pixmap
        elif kept[1] is not numbers:
            changed = np.flatnonzero(_changed(kept[1], numbers))
            if len(changed):
                self._paint_again(kept[2], ground, plot, numbers, int(changed[0]), int(changed[-1]))
            self._kept = kept = key, numbers, kept[2]
        return kept[2]

    def _paint_onto(self, pixmap: QPixmap, plot: Plot, numbers: Survey, over: QRectF | None = None) -> None:
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if over is not None:
            painter.setClipRect(over)
        paint_lines(painter, self._session, plot, numbers)
        painter.end()

    def _paint_again(
        self, pixmap: QPixmap, ground: QPixmap, plot: Plot, numbers: Survey, first: int, last: int
    ) -> None:
        """Paint a stretch of frames anew, with a little on both sides, where lines join."""
        x = [plot.x_of(float(numbers.frames[row])) for row in (first, last)]
        over = QRectF(x[0] - _JOIN_PX, 0, x[1] - x[0] + 2 * _JOIN_PX, self._panel.height())
        more = 2 + math.ceil(2 * _JOIN_PX * len(numbers.frames) / max(1.0, plot.box.width()))
        painter = QPainter(pixmap)
        painter.setClipRect(over)
        painter.drawPixmap(0, 0, ground)
        painter.end()
        self._paint_onto(pixmap, replace(plot, rows=(first - more, last + more)), numbers, over)

    def _ground_of(self, plot: Plot, numbers: Survey) -> QPixmap:
        """What of it no focus changes; a mark that is dragged leaves it as it is."""
        shot, panel = self._session.shot, self._panel
        assert shot is not None
        plain = (shot.first, shot.last, self._session.unit, plot.scale, panel.size(), look(), plot.box)
        key, lines = (*plain, numbers.camera.coc_px), (numbers.focus_distance_m, numbers.state == GONE)
        kept = self._ground
        alike = kept is not None and kept[0] == key
        if kept is None or not alike or not all(map(_same, kept[1], lines)):
            ratio = panel.devicePixelRatioF()
            pixmap = QPixmap(panel.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(look().base)
            unit, most = self._session.unit.symbol, numbers.camera.coc_px
            note = f"frames {shot.first}–{shot.last}, distance in {unit}, even in dioptres; "
            painter = panel.begin(f"{note}sharp is up to {most:.3g} px", pixmap)
            paint_ground(painter, self._session, plot, numbers)
            painter.end()
            self._ground = kept = key, lines, pixmap
        return kept[2]


def _changed(one: Survey, other: Survey) -> np.ndarray:
    """At which frames what the chart draws is another."""
    if one.state.shape != other.state.shape:
        return np.ones(len(other.frames), bool)
    pairs = (one.camera.focus_m, other.camera.focus_m), (one.near_m, other.near_m), (one.far_m, other.far_m)
    differs = [a != b for a, b in pairs]
    return np.logical_or.reduce([*differs, (one.state != other.state).any(axis=0)])


def _same(one: np.ndarray, other: np.ndarray) -> bool:
    return one is other or np.array_equal(one, other, equal_nan=one.dtype.kind == "f")
