"""The map of depth of field: stop over focus distance, for the shot's lens.

Lines join where the depth is the same; beyond the hyperfocal line it reaches to infinity. The brass ring is
where the shot is now; a click or a drag takes another distance and stop.
"""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.paint import draw_label, draw_text, text_width
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.optics import lens
from kobrel.optics.exposure import FULL_STOPS, marked_stop
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.measure.scales import DioptreScale
from kobrel.session.commands.focusing import focus_at_m, set_stop, step_iris
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

_LEFT, _RIGHT, _TOP, _BOTTOM = 46, 14, 30, 38
_SIZE = (240, 96)
_STOPS = (1.0, 32.0)
_DEPTHS = tuple(step * 10.0**k for k in range(-3, 4) for step in (1.0, 2.0, 5.0))
_HINT = "Click or drag to set focus and stop. Up/Down: step stop"


class _TakePoint(Drag):
    """Takes distance and stop under the pointer."""

    def __init__(self, view: "Depths", session: Session) -> None:
        super().__init__(session)
        self._view = view

    def begin(self, at: QPointF) -> None:
        super().begin(at)
        self._view.take(at)

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.take(at)


@guarded
class Depths(Panel):
    """The map of depth of field: stop over focus distance, for the shot's lens."""

    title = "Depth of field"
    depends = (*AT_FRAME, Document.dragging)
    order = 3

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Map of depth of field by stop and focus distance", _HINT)
        self.setMinimumHeight(120)

    # Geometry

    def box(self) -> QRectF:
        """Where the map stands."""
        return QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM)

    def scale(self, now: Now) -> DioptreScale:
        """Distances across, from the nearest that the lens focuses at to infinity."""
        camera, box = now.camera, self.box()
        least = float(lens.closest_focus_m(camera.focal_mm, camera.model)) * 1.05
        nearest = max(min(closest_m(now.shot), float(np.min(now.survey.camera.focus_m)) * 0.98), least)
        return DioptreScale(nearest, box.left(), box.right())

    def stop_y(self, stop: float) -> float:
        """Where a stop stands."""
        box = self.box()
        return box.top() + math.log(stop / _STOPS[0]) / math.log(_STOPS[1] / _STOPS[0]) * box.height()

    def stop_at(self, y: float) -> float:
        """The stop at a place."""
        box = self.box()
        part = min(max((y - box.top()) / max(box.height(), 1.0), 0.0), 1.0)
        return _STOPS[0] * math.pow(_STOPS[1] / _STOPS[0], part)

    def take(self, at: QPointF) -> None:
        """Focus and stop at a place."""
        now = self._session.now
        if now is None or now.camera.projection == "orthographic":
            return
        metres = self.scale(now).metres(min(at.x(), self.box().right()))
        focus_at_m(self._session, max(metres, self.scale(now).nearest_m))
        set_stop(self._session, marked_stop(self.stop_at(at.y()), self._session.view.stop_steps))

    # Painting

    def paint(self, now: Now) -> None:
        painter, camera = self.begin(), now.camera
        if camera.projection == "orthographic":
            draw_text(painter, QPointF(150, 18), "An orthographic view has no stop.", theme().quiet, 12)
            return
        scale, box = self.scale(now), self.box()
        painter.drawImage(box, self._image(camera, scale))
        painter.setClipRect(box.adjusted(0, -1, 0, 1))
        self._paint_lines(painter, camera, scale)
        painter.setClipping(False)
        self._paint_axes(painter, scale)
        at = QPointF(scale.px(float(camera.focus_m)), self.stop_y(float(np.clip(camera.f_number, *_STOPS))))
        painter.setPen(QPen(theme().focus, 2.4))
        painter.setBrush(faded(theme().base, 0.4))
        painter.drawEllipse(at, 6, 6)
        words = f"{self._session.length(camera.sharp_depth_m)} deep"
        draw_label(painter, self._beside(at, words), words, theme().focus)

    def _beside(self, at: QPointF, words: str) -> QPointF:
        """Where words stand beside a place, within the map."""
        right = at.x() + 12 + text_width(words, 12) < self.box().right()
        return at + QPointF(12 if right else -12 - text_width(words, 12), 4)

    def _image(self, camera: Camera, scale: DioptreScale) -> QImage:
        """Deeper is lighter; as deep as it goes is ivory."""
        depth = self._depth(camera, self._across(scale), self._stops())
        part = np.clip((np.log10(np.where(np.isfinite(depth), depth, 1e4)) + 2.5) / 5.0, 0.0, 1.0)[..., None]
        low, high = (np.array([c.red(), c.green(), c.blue()], float) for c in (theme().base, theme().sharp))
        shade = (low + (high - low) * part**1.5 * 0.62).astype(np.uint8)
        tall, wide = shade.shape[:2]
        pixels = np.ascontiguousarray(shade)
        return QImage(pixels.data, wide, tall, 3 * wide, QImage.Format.Format_RGB888).copy()

    def _across(self, scale: DioptreScale) -> Numbers:
        nearness = np.linspace(1.0 / scale.nearest_m, 0.0, _SIZE[0])
        with np.errstate(divide="ignore"):
            return np.asarray(1.0 / nearness)

    @staticmethod
    def _stops() -> Numbers:
        return np.asarray(np.geomspace(*_STOPS, _SIZE[1]))

    @staticmethod
    def _depth(camera: Camera, distances_m: Numbers, stops: Numbers) -> Numbers:
        """Depth of field, (stops, distances)."""
        focal, model = float(camera.focal_mm), camera.model
        near, far = lens.limits_m(focal, stops[:, None], distances_m[None, :], camera.coc_mm, model)
        with np.errstate(invalid="ignore"):
            return np.nan_to_num(far - near, nan=np.inf)

    def _paint_lines(self, painter: QPainter, camera: Camera, scale: DioptreScale) -> None:
        """Lines of equal depth, and where it reaches infinity."""
        distances, stops = self._across(scale), self._stops()
        depth = self._depth(camera, distances, stops)
        unit, places = self._session.unit, scale.px_of(distances)
        rows_y = [self.stop_y(stop) for stop in stops.tolist()]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        taken: list[QPointF] = []
        for wanted in (*(step * unit.metres for step in _DEPTHS), math.inf):
            path, label, begun = QPainterPath(), QPointF(), False
            reached = depth >= wanted if math.isfinite(wanted) else ~np.isfinite(depth)
            for row, first in enumerate(reached.argmax(axis=1).tolist()):  # 0 also where it is never reached
                if first == 0:
                    continue
                at = QPointF(self._between(depth[row], places, first, wanted), rows_y[row])
                (path.lineTo if begun else path.moveTo)(at)
                label, begun = (at if label.isNull() or row < _SIZE[1] * 0.62 else label), True
            if not begun:
                continue
            endless = math.isinf(wanted)
            painter.setPen(QPen(faded(theme().sharp, 0.95 if endless else 0.5), 1.8 if endless else 1.0))
            painter.drawPath(path)
            words = "hyperfocal" if endless else self._session.length(wanted)
            wide = text_width(words, 11)
            label = QPointF(min(label.x() + 5, self.box().right() - wide - 3), label.y() + 4)
            if all(abs(label.x() - o.x()) > wide + 8 or abs(label.y() - o.y()) > 13 for o in taken):
                taken.append(label)
                draw_text(painter, label, words, theme().sharp, 11)

    @staticmethod
    def _between(depth: Numbers, places: Numbers, first: int, wanted: float) -> float:
        """Where a depth is reached between two distances."""
        low, high = float(depth[first - 1]), float(depth[first])
        part = (wanted - low) / (high - low) if math.isfinite(wanted) and math.isfinite(high) else 1.0
        return float(places[first - 1] + (places[first] - places[first - 1]) * part)

    def _paint_axes(self, painter: QPainter, scale: DioptreScale) -> None:
        box = self.box()
        for metres, label in scale.ticks(self._session.unit, 40):
            x = scale.px(metres)
            painter.setPen(QPen(theme().text, 1.2))
            painter.drawLine(QPointF(x, box.bottom()), QPointF(x, box.bottom() + 5))
            draw_text(painter, QPointF(x, box.bottom() + 18), label, theme().text, 12, "centre")
        unit = self._session.unit.symbol
        draw_text(
            painter, QPointF(box.right(), box.bottom() + 32), f"focus, {unit}", theme().quiet, 11, "right"
        )
        last = -100.0
        for stop in FULL_STOPS:
            if _STOPS[0] <= stop <= _STOPS[1] and self.stop_y(stop) - last >= 14:
                last = self.stop_y(stop)
                draw_text(painter, QPointF(_LEFT - 6, last + 4), f"f/{stop:g}", theme().text, 11, "right")

    # Mouse and keys

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        inside = self.box().adjusted(-6, -6, 6, 6).contains(event.position())
        return _TakePoint(self, self._session) if inside and now.camera.projection != "orthographic" else None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step_iris(self._session, 1 if key == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)
