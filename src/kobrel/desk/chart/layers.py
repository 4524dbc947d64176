"""What of the Pull chart stands still while frames pass, kept as pictures and mended where it changed."""

import math
from dataclasses import astuple, replace

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPixmap

from kobrel.desk.chart.lines import Plot, paint_ground, paint_lines
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import theme
from kobrel.memo import Memo
from kobrel.plan.measure.survey import GONE, Survey
from kobrel.session.numbers import Now
from kobrel.session.session import Session

_JOIN_PX = 4.0


class Layers:
    """The ground, which no focus changes, and all lines upon it."""

    def __init__(self, session: Session, panel: Panel) -> None:
        self._session, self._panel = session, panel
        self._lines = Memo[QPixmap]()
        self._of: Survey | None = None
        self._ground = Memo[QPixmap]()

    def picture(self, plot: Plot, now: Now) -> QPixmap:
        """Grid, band and curves, which do not depend on the frame: painted once, and after an edit anew
        only over the frames that it changed.
        """
        shot, numbers, ground = now.shot, now.survey, self._ground_of(plot, now)

        def fresh() -> QPixmap:
            pixmap = ground.copy()
            self._paint_onto(pixmap, plot, now)
            self._of = numbers
            return pixmap

        parts = (ground.cacheKey(), shot.brief, shot.ring, shot.fps, shot.glass.lens)
        pixmap = self._lines.get(parts, fresh)
        if self._of is not None and self._of is not numbers:
            changed = np.flatnonzero(_changed(self._of, numbers))
            if len(changed):
                self._paint_again(pixmap, ground, plot, now, int(changed[0]), int(changed[-1]))
        self._of = numbers
        return pixmap

    def _paint_onto(self, pixmap: QPixmap, plot: Plot, now: Now, over: QRectF | None = None) -> None:
        painter = QPainter(pixmap)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if over is not None:
            painter.setClipRect(over)
        paint_lines(painter, self._session, plot, now)
        painter.end()

    def _paint_again(
        self, pixmap: QPixmap, ground: QPixmap, plot: Plot, now: Now, first: int, last: int
    ) -> None:
        """Paint a stretch of frames anew, with a little on both sides, where lines join."""
        numbers = now.survey
        x = [plot.x_of(float(numbers.frames[row])) for row in (first, last)]
        over = QRectF(x[0] - _JOIN_PX, 0, x[1] - x[0] + 2 * _JOIN_PX, self._panel.height())
        more = 2 + math.ceil(2 * _JOIN_PX * len(numbers.frames) / max(1.0, plot.box.width()))
        painter = QPainter(pixmap)
        painter.setClipRect(over)
        painter.drawPixmap(0, 0, ground)
        painter.end()
        self._paint_onto(pixmap, replace(plot, rows=(first - more, last + more)), now, over)

    def _ground_of(self, plot: Plot, now: Now) -> QPixmap:
        """What of it no focus changes; a mark that is dragged leaves it as it is."""
        shot, panel, numbers, unit = now.shot, self._panel, now.survey, self._session.unit
        size = panel.size().toTuple()
        parts = (
            shot.first, shot.last, unit.symbol, unit.metres, astuple(plot.scale), size, theme(),
            plot.box.getRect(), numbers.camera.coc_px, numbers.focus_distance_m,
            (numbers.state == GONE).tobytes(),
        )  # fmt: skip

        def fresh() -> QPixmap:
            ratio = panel.devicePixelRatioF()
            pixmap = QPixmap(panel.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(theme().base)
            note = f"frames {shot.first}–{shot.last} · {unit.symbol};  "
            painter = panel.begin(f"{note}in focus up to {numbers.camera.coc_px:.3g} px", pixmap)
            paint_ground(painter, self._session, plot, now)
            painter.end()
            return pixmap

        return self._ground.get(parts, fresh)


def _changed(one: Survey, other: Survey) -> np.ndarray:
    """At which frames what the chart draws is another."""
    if one.state.shape != other.state.shape:
        return np.ones(len(other.frames), bool)
    pairs = (one.camera.focus_m, other.camera.focus_m), (one.near_m, other.near_m), (one.far_m, other.far_m)
    differs = [a != b for a, b in pairs]
    result: np.ndarray = np.logical_or.reduce([*differs, (one.state != other.state).any(axis=0)])
    return result
