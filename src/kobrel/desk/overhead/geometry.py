"""The geometry of Overhead, Side and Front: from the stage to the view's plane and the widget, and back.

The views are drawn in the camera's own axes. In Overhead the camera stands at the bottom and looks up,
in Side it stands at the left and looks to the right: distance along its axis runs that way. Front looks
the way the camera does.
"""

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtWidgets import QWidget

from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import TAG_RADIUS
from kobrel.desk.toolkit.panel import Panel
from kobrel.memo import Memo
from kobrel.optics import projection
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import GONE
from kobrel.session.commands import blocking
from kobrel.session.numbers import Now
from kobrel.session.session import Session

Array = NDArray[np.float64]
MODES = ("Overhead", "Side", "Front")
_FOOT, _HEAD, _LEFT = 24.0, 46.0, 30.0
_EMPTY_M, _TOO_FLAT = 10.0, 0.05
_COARSE_TURN_DEG = 15.0
_AXES = {"Overhead": (0, 2), "Side": (2, 1), "Front": (0, 1)}
"""For each mode which of right (0), up (1) and ahead (2) run across and up the view."""


class FlatView(Panel):
    """A view on the stage along an axis of the camera.

    Parameters
    ----------
    mode : one of :data:`MODES`
    """

    def __init__(self, session: Session, mode: str, hint: str, parent: QWidget | None = None) -> None:
        super().__init__(session, f"{mode} view of camera, things and subjects", hint, parent)
        self.mode = mode
        self.pointer: QPointF | None = None
        self._zoom = 1.0
        self._shift = QPointF()
        self._still_m: float | None = None
        self._reach = Memo[float]()
        self._tags = Memo[list[tuple[int, QPointF, QPointF]]]()

    def zoom_to(self, factor: float) -> None:
        """Show a part so many times larger."""
        self._zoom = min(max(factor, 0.05), 50.0)
        self.update()

    def shift_by(self, by: QPointF) -> None:
        """Move what is shown by so many pixels."""
        self._shift += by
        self.update()

    def reach_m(self) -> float:
        """The distance at the far edge; in Front, the height of the view."""
        now = self._session.now
        if self._still_m is not None and self.gesture is not None:
            return self._still_m
        if now is None:
            return _EMPTY_M
        parts = (now.survey, now.plan.stand_ins, now.row, self.mode, self._zoom)
        return self._reach.get(parts, lambda: self._find_reach(now))

    def _find_reach(self, now: Now) -> float:
        camera, numbers = now.camera, now.survey
        if self.mode == "Front":
            focus = min(float(camera.focus_m), 100.0)
            half, _ = projection.edge(camera.projection, camera.half_widths()[1], focus)
            return max(float(half), 0.05) * 2.6 / self._zoom
        seen = numbers.focus_distance_m[numbers.state != GONE]
        focus_m = numbers.camera.focus_m
        ahead = [
            float(camera.before(blocking.current_place(self._session, stand_in))[2])
            for stand_in in self._session.plan.stand_ins
            if stand_in.kind not in ("ground", "wall", "string", "scatter")
        ]
        if not (seen > 0).any() and now.stage.triangle_count:  # else the focus, on nothing, would be all
            middle = np.mean(now.stage.bounds(now.frame), axis=0)
            ahead.append(float(camera.before(middle)[2]))
        far = np.concatenate([seen, focus_m[np.isfinite(focus_m)], ahead])
        far = far[far > 0]
        return float(np.max(far) * 1.18 if far.size else _EMPTY_M) / self._zoom

    def px_per_m(self) -> float:
        """Pixels of the view in a metre."""
        room = self.width() - _LEFT - 14 if self.mode == "Side" else self.height() - _FOOT - _HEAD
        return room / self.reach_m()

    def place(self, across_m: float, along_m: float) -> QPointF:
        """A point of the view's plane on the widget."""
        scale = self.px_per_m()
        return self._zero() + QPointF(across_m * scale, -along_m * scale)

    def places(self, across_m: Array, along_m: Array) -> Array:
        """Many points of the view's plane on the widget, (..., 2) pixels."""
        scale, zero = self.px_per_m(), self._zero()
        return np.stack([zero.x() + across_m * scale, zero.y() - along_m * scale], axis=-1)

    def _zero(self) -> QPointF:
        """Where the camera stands on the widget."""
        zero = {
            "Overhead": QPointF(self.width() / 2, self.height() - _FOOT),
            "Side": QPointF(_LEFT, self.height() / 2 + 12),
            "Front": QPointF(self.width() / 2, self.height() / 2 + 12),
        }[self.mode]
        return zero + self._shift

    def beside_axis(self, aside_m: float, ahead_m: float) -> QPointF:
        """A point so far ahead of the camera and aside of its axis, in Overhead or Side."""
        return self.place(ahead_m, aside_m) if self.mode == "Side" else self.place(aside_m, ahead_m)

    def flat(self, points: ArrayLike) -> tuple[Array, Array]:
        """Points on the stage (..., 3) in the view's plane: across and along, metres."""
        camera = self._camera
        axes = camera.before(points)
        across, along = _AXES[self.mode]
        return axes[across], axes[along]

    def where(self, point: ArrayLike) -> QPointF:
        """A point on the stage, (3,), on the widget."""
        across, along = self.flat(point)
        return self.place(float(across), float(along))

    def plane_at(self, at: QPointF) -> tuple[float, float]:
        """What of the view's plane, across and along in metres, lies at a place on the widget."""
        scale, zero = self.px_per_m(), self.place(0, 0)
        return (at.x() - zero.x()) / scale, (zero.y() - at.y()) / scale

    def axes(self) -> tuple[Array, Array, Array]:
        """Directions on the stage, (3,) each: across the view, up it, and toward who looks at it."""
        camera = self._camera
        right, up, ahead = camera.pose[:3, 0], camera.pose[:3, 1], -camera.pose[:3, 2]
        return {"Overhead": (right, ahead, up), "Side": (ahead, up, right), "Front": (right, up, -ahead)}[
            self.mode
        ]

    def stage_point(self, at: QPointF, like: Array) -> Array:
        """The point on the stage at a place on the widget that is as deep in the view as another."""
        across, up, _ = self.axes()
        old, new = self.flat(like), self.plane_at(at)
        return np.asarray(like + across * (new[0] - old[0]) + up * (new[1] - old[1]))

    def subject_places(self) -> list[tuple[int, QPointF]]:
        """Rows of the survey and their places."""
        now = self._session.now
        if now is None:
            return []
        points = now.survey.points[:, now.row]
        there = (now.survey.sight.axial_m[:, now.row] > 0) & ~np.isnan(points).any(axis=1)
        places = self.places(*self.flat(points[there])).tolist()
        return [(row, QPointF(*at)) for row, at in zip(np.flatnonzero(there).tolist(), places, strict=True)]

    def tags(self) -> list[tuple[int, QPointF, QPointF]]:
        """Tags of the subjects, none over another: row of the survey, the tag's middle, and its point."""
        places, room = self.subject_places(), QRectF(self.rect()).adjusted(2, 30, -2, -2)

        def spread() -> list[tuple[int, QPointF, QPointF]]:
            labels = Labels(room)
            return [(row, labels.put_on(at, TAG_RADIUS), at) for row, at in places]

        return self._tags.get((room.getRect(), *((row, at.x(), at.y()) for row, at in places)), spread)

    @property
    def _camera(self) -> Camera:
        """The camera at the frame; places on the stage are only asked for where there is one."""
        camera = self._session.camera
        assert camera is not None
        return camera

    def level_point(self, at: QPointF, like: Array) -> Array:
        """The point at a place on the widget that is as high on the stage as another."""
        across, up, _ = self.axes()
        level = np.array([[across[0], across[2]], [up[0], up[2]]])
        if abs(np.linalg.det(level)) < _TOO_FLAT:
            return self.stage_point(at, like)
        old, new = self.flat(like), self.plane_at(at)
        step = np.linalg.solve(level, [new[0] - float(old[0]), new[1] - float(old[1])])
        return np.asarray(like + np.array([step[0], 0.0, step[1]]))

    def moved(self, place: Array, pressed: QPointF, at: QPointF) -> Array:
        """A place on the stage moved as the pointer moved; in Overhead it keeps its height."""
        point = self.level_point if self.mode == "Overhead" else self.stage_point
        return np.asarray(place + point(at, place) - point(pressed, place))

    def turn_toward(self, at: QPointF, place: Array, coarse: bool) -> float:
        """Degrees about the vertical from a place on the stage to the pointer, in steps."""
        toward = self.level_point(at, place) - place
        step = _COARSE_TURN_DEG if coarse else 1.0
        return round(math.degrees(math.atan2(toward[0], toward[2])) / step) * step + 0.0

    def flat_way(self, way: Array) -> Array:
        """A direction on the stage as the view shows it, (2,)."""
        across, up, _ = self.axes()
        return np.array([way @ across, way @ up])

    def middle_point(self) -> Array:
        """The point on the camera's axis where the focus is, (3,)."""
        camera = self._camera
        return np.asarray(camera.pose[:3, 3] - camera.pose[:3, 2] * min(float(camera.focus_m), 50.0))
