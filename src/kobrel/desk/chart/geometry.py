"""The geometry of the Pull chart: frames across, distance up, even in dioptres like the Barrel."""

import math
from collections.abc import Iterable

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtWidgets import QWidget

from kobrel.desk.chart.lines import Plot
from kobrel.desk.toolkit.panel import Panel
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import NEAREST_M
from kobrel.plan.model import DistanceTarget, Mark, SubjectTarget, Target
from kobrel.session.numbers import Now
from kobrel.session.session import Session

LEFT, RIGHT, TOP, BOTTOM = 46, 96, 54, 30
SNAP_PX, GRAB_PX = 7.0, 9.0
_LANE, _ROOM_FOR_LANE = 34.0, 250


class FrameChart(Panel):
    """A panel with frames across and distance up."""

    def __init__(self, session: Session, spoken: str, hint: str, parent: QWidget | None = None) -> None:
        super().__init__(session, spoken, hint, parent)
        self._still: DioptreScale | None = None

    def scale(self) -> DioptreScale:
        """Distance upward; it stands still while a mark is dragged. Asked only where there are numbers."""
        if self._still is not None and self.gesture is not None:
            return self._still
        numbers = self._session.survey
        assert numbers is not None
        return DioptreScale(numbers.nearest_of_interest_m, self.bottom, TOP)

    @property
    def lane(self) -> float:
        """Height of the lane for speed and breathing; 0 where there is no room."""
        return _LANE if self.height() >= _ROOM_FOR_LANE else 0.0

    @property
    def bottom(self) -> float:
        """Where the plot ends, pixels."""
        return self.height() - BOTTOM - (self.lane + 8 if self.lane else 0.0)

    def plot(self, scale: DioptreScale) -> Plot:
        """Where lines are drawn."""
        right = self.width() - RIGHT
        lane = QRectF(LEFT, self.bottom + 4, right - LEFT, self.lane) if self.lane else None
        return Plot(scale, self.x_of, QRectF(LEFT, TOP, right - LEFT, self.bottom - TOP), lane)

    def x_of(self, frame: float) -> float:
        """Where a frame stands."""
        shot = self._session.shot
        if shot is None or shot.last == shot.first:
            return float(LEFT)
        return LEFT + (frame - shot.first) / (shot.last - shot.first) * (self.width() - LEFT - RIGHT)

    def frame_at(self, x: float) -> int:
        """The frame at a place, also beyond the shot."""
        shot = self._session.shot
        if shot is None:
            return 0
        part = (x - LEFT) / max(1.0, self.width() - LEFT - RIGHT)
        return round(shot.first + part * (shot.last - shot.first))

    def frame_within(self, x: float) -> int:
        """The frame of the shot nearest to a place."""
        shot = self._session.shot
        return min(max(self.frame_at(x), shot.first), shot.last) if shot else 0

    def mark_place(self, mark: Mark) -> QPointF | None:
        """Where a mark's ring stands; None before there are numbers."""
        now = self._session.now
        if now is None:
            return None
        row = int(np.clip(round(mark.frame) - now.shot.first, 0, len(now.survey.frames) - 1))
        return QPointF(self.x_of(mark.frame), self.scale().px(float(now.survey.camera.focus_m[row])))

    def mark_at(self, at: QPointF) -> Mark | None:
        """The mark under a place."""
        shot = self._session.shot
        for mark in shot.marks if shot else ():
            place = self.mark_place(mark)
            if place and math.hypot(at.x() - place.x(), at.y() - place.y()) <= GRAB_PX:
                return mark
        return None

    def free_target(self, y: float) -> DistanceTarget:
        """The distance at a height."""
        return DistanceTarget(metres=max(self.scale().metres(y), NEAREST_M))

    def target_at(self, now: Now, frame: float, y: float, others: Iterable[Mark] | None = None) -> Target:
        """The subject whose line passes close by, or the distance of another mark that is as high, or
        else the distance there.
        """
        scale, numbers = self.scale(), now.survey
        column = int(np.clip(round(frame) - now.shot.first, 0, len(numbers.frames) - 1))
        places = scale.px_of(numbers.focus_distance_m[:, column])
        if len(places) and np.any(np.abs(places - y) <= SNAP_PX):
            return SubjectTarget(number=numbers.subjects[int(np.nanargmin(np.abs(places - y)))])
        for mark in now.shot.marks if others is None else others:
            other = mark.target
            if isinstance(other, DistanceTarget) and abs(scale.px(other.metres) - y) < SNAP_PX:
                return other
        return self.free_target(y)
