"""Maps of trade-offs: stop against focal length, and stop against focus, side by side.

The deeper the blue, the more the far background is blurred; ivory lines join equal sharp
depths; the outlined part meets the brief. The brass ring is where the shot is now.
"""

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
)

from kobrel.desk import choosing
from kobrel.desk.look import faded, look
from kobrel.desk.paint import Panel, draw_label, draw_text
from kobrel.desk.scales import DioptreScale, nearest_of_interest_m
from kobrel.desk.session import Session
from kobrel.errors import OpticsError
from kobrel.optics.exposure import FULL_STOPS, marked_stop
from kobrel.plan import edit, pulls
from kobrel.plan import glass as glasses
from kobrel.plan.brief import focus_at_stop
from kobrel.plan.camera import Camera
from kobrel.plan.model import DistanceTarget, Shot
from kobrel.plan.survey import index_runs, survey
from kobrel.plan.tradeoffs import FOCAL_FACTOR, Map, focal_map, focus_map, stop_scale

_LEFT, _RIGHT, _TOP, _BOTTOM, _GAP = 52, 14, 32, 42, 64
_SIZE = (256, 96)
_FOCALS = (8, 10, 12, 14, 18, 21, 25, 28, 35, 40, 50, 65, 85, 100, 135, 180, 250, 400, 600, 1000)
_HINT = (
    "Click or drag to take a point. Left: another focal length moves the camera, so that the subject keeps "
    "its size. Right: another focus. Up and down keys step the stop."
)


class Maps(Panel):
    """See the module."""

    title = "Trade-offs"

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Maps of trade-offs between stop, focal length and focus", _HINT)
        self._held: tuple[str, Camera, float, DioptreScale] | None = None
        self._kept: tuple[tuple[object, ...], tuple[Map, Map]] | None = None
        self.setMinimumHeight(120)

    # Geometry

    def boxes(self) -> tuple[QRectF, QRectF]:
        """Where the two maps stand: by focal length, by focus."""
        wide = (self.width() - 2 * _LEFT - _RIGHT - _GAP / 2) / 2
        tall = self.height() - _TOP - _BOTTOM
        return QRectF(_LEFT, _TOP, wide, tall), QRectF(self.width() - _RIGHT - wide, _TOP, wide, tall)

    def maps(self) -> tuple[Map, Map] | None:
        """Both maps at the session's frame; None where there are none."""
        session, camera = self._session, self._session.camera
        numbers = session.survey
        if camera is None or numbers is None or camera.projection == "orthographic":
            return None
        if self._held:  # while a hand drags, the maps stand still
            return self._kept[1] if self._kept else None
        subject = choosing.subject_axial_m(session, camera)
        key = (numbers, session.row, subject)
        if self._kept is None or self._kept[0] != key:
            judged = session.judged
            brief = judged.brief.at(session.row) if judged else None
            try:
                both = (
                    focal_map(camera, subject, brief, _SIZE),
                    focus_map(camera, nearest_of_interest_m(numbers), brief, _SIZE),
                )
            except OpticsError:
                return None
            self._kept = key, both
        return self._kept[1]

    def _base(self) -> tuple[Camera, float, DioptreScale] | None:
        """What the maps were made from: camera, its subject's distance, the scale of focus."""
        if self._held:
            return self._held[1:]
        camera, numbers = self._session.camera, self._session.survey
        if camera is None or numbers is None:
            return None
        box = self.boxes()[1]
        scale = DioptreScale(nearest_of_interest_m(numbers), box.left(), box.right())
        return camera, choosing.subject_axial_m(self._session, camera), scale

    def _stop_y(self, box: QRectF, stops: np.ndarray, stop: float) -> float:
        part = math.log(stop / stops[0]) / math.log(stops[-1] / stops[0])
        return box.top() + part * box.height()

    def place(self, focal: bool) -> QPointF | None:
        """Where the shot stands on a map."""
        base, camera = self._base(), self._session.camera
        if base is None or camera is None:
            return None
        at, _subject, scale = base
        box = self.boxes()[0 if focal else 1]
        y = self._stop_y(box, stop_scale(at, 2), float(camera.f_number))
        if not focal:
            return QPointF(scale.px(float(camera.focus_m)), y)
        ratio = math.log(float(camera.focal_mm) / float(at.focal_mm)) / math.log(FOCAL_FACTOR)
        return QPointF(box.center().x() + ratio * box.width() / 2, y)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        found, base = self.maps(), self._base()
        painter = self.begin()
        if found is None or base is None:
            draw_text(
                painter, QPointF(100, 18), "An orthographic view has no focal length and no stop to weigh.",
                look().quiet, 12,
            )  # fmt: skip
            return
        camera, _subject, scale = base
        by_focal, by_focus = self.boxes()
        number = choosing.subject_kept(self._session)
        subject = self._session.plan.subject(number) if number is not None else None
        kept = f"{subject.name} the same size" if subject else "what is in focus the same size"
        draw_text(
            painter, QPointF(by_focal.left() + 60, 18), f"stop over focal length, {kept}", look().quiet, 12
        )
        draw_text(painter, QPointF(by_focus.left(), 18), "stop over focus distance", look().quiet, 12)
        for box, one, axis in ((by_focal, found[0], self._focals), (by_focus, found[1], self._distances)):
            self._paint_map(painter, box, one)
            axis(painter, box, camera, scale)
        for focal in (True, False):
            self._paint_place(painter, focal)
        self._paint_key(painter)

    def _paint_map(self, painter: QPainter, box: QRectF, one: Map) -> None:
        painter.drawImage(box, _image(one))
        painter.save()
        painter.setClipRect(box)
        x = np.linspace(box.left(), box.right(), len(one.across))
        for stop in FULL_STOPS:
            y = self._stop_y(box, one.stops, stop)
            painter.setPen(QPen(faded(look().line, 0.7), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        if one.windows is not None:
            self._paint_windows(painter, box, one, x)
        taken: list[QPointF] = []
        unit = self._session.unit
        for depth, stops in one.contours:
            painter.setPen(QPen(faded(look().sharp, 0.85), 1.3))
            points = [
                QPointF(float(a), self._stop_y(box, one.stops, float(n)))
                for a, n in zip(x, stops, strict=True)
                if np.isfinite(n)
            ]
            painter.drawPolyline(QPolygonF(points))
            label = self._label_place(points, taken, box)
            if label is not None:
                taken.append(label)
                draw_label(painter, label, f"{depth / unit.metres:.3g} {unit.symbol}", look().sharp)
        painter.restore()
        for stop in FULL_STOPS:
            y = self._stop_y(box, one.stops, stop)
            if box.top() - 1 <= y <= box.bottom() + 1:
                draw_text(painter, QPointF(box.left() - 7, y + 4), f"f/{stop:g}", look().quiet, 11, "right")
        painter.setPen(QPen(look().line, 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)

    @staticmethod
    def _label_place(points: list[QPointF], taken: list[QPointF], box: QRectF) -> QPointF | None:
        """Room for a label on a line, away from the others."""
        for part in (0.5, 0.3, 0.7, 0.15, 0.85):
            at = points[int(part * (len(points) - 1))] + QPointF(-14, 4)
            clear = all(abs(at.x() - p.x()) > 58 or abs(at.y() - p.y()) > 20 for p in taken)
            if clear and box.adjusted(2, 16, -60, -8).contains(at):
                return at
        return None

    def _paint_windows(self, painter: QPainter, box: QRectF, one: Map, x: np.ndarray) -> None:
        """Darken what does not meet the brief, and draw the edge of what does."""
        inside = QPainterPath()
        for low, high in one.windows or ():
            there = np.isfinite(low) & (low <= one.stops[-1]) & (high >= one.stops[0])
            for first, last in index_runs(there):
                columns = range(first, last + 1)
                upper = [QPointF(float(x[i]), self._stop_y(box, one.stops, float(low[i]))) for i in columns]
                lower = [QPointF(float(x[i]), self._stop_y(box, one.stops, float(high[i]))) for i in columns]
                part = QPainterPath()
                part.addPolygon(QPolygonF([*upper, *lower[::-1], upper[0]]))
                inside = inside.united(part)
        outside = QPainterPath()
        outside.addRect(box)
        painter.fillPath(outside.subtracted(inside), faded(look().base, 0.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(look().sharp, 2))
        painter.drawPath(inside)

    def _focals(self, painter: QPainter, box: QRectF, camera: Camera, _scale: DioptreScale) -> None:
        last = -1e9
        for focal in _FOCALS:
            part = math.log(focal / float(camera.focal_mm)) / math.log(FOCAL_FACTOR) / 2 + 0.5
            x = box.left() + part * box.width()
            if 0 <= part <= 1 and x - last > 34:
                last = x
                draw_text(painter, QPointF(x, box.bottom() + 17), f"{focal}", look().quiet, 11, "centre")
        draw_text(painter, QPointF(box.left() - 24, box.bottom() + 17), "mm", look().quiet, 11, "right")

    def _distances(self, painter: QPainter, box: QRectF, _camera: Camera, scale: DioptreScale) -> None:
        for metres, label in scale.ticks(self._session.unit, 34):
            x = scale.px(metres)
            if box.left() - 1 <= x <= box.right() + 1:
                draw_text(painter, QPointF(x, box.bottom() + 17), label, look().quiet, 11, "centre")
        unit = self._session.unit.symbol
        draw_text(painter, QPointF(box.left() - 24, box.bottom() + 17), unit, look().quiet, 11, "right")

    def _paint_place(self, painter: QPainter, focal: bool) -> None:
        at = self.place(focal)
        box = self.boxes()[0 if focal else 1]
        if at is None or not box.adjusted(-2, -2, 2, 2).contains(at):
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(look().base, 4.5), QPen(look().focus, 2.4)):
            painter.setPen(pen)
            painter.drawEllipse(at, 6.5, 6.5)

    def _paint_key(self, painter: QPainter) -> None:
        """What the blue means, and the lines."""
        y = self.height() - 7.0
        text = "blue: blur of the far background    lines: sharp depth"
        if self._session.judged is not None:
            text += "    outlined: meets the brief at this frame"
        draw_text(painter, QPointF(_LEFT, y), text, look().quiet, 11)

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        base, found = self._base(), self.maps()
        if event.button() != Qt.MouseButton.LeftButton or base is None or found is None:
            return
        at = event.position()
        which = next((i for i, b in enumerate(self.boxes()) if b.adjusted(-4, -4, 4, 4).contains(at)), None)
        if which is None:
            return
        self._session.begin_drag()
        self._held = ("focal" if which == 0 else "focus", *base)
        self._take(at)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._take(event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held:
            self._held = None
            self._session.end_drag()
            self.update()

    def _take(self, at: QPointF) -> None:
        if self._held is None:
            return
        which, base, _subject, scale = self._held
        box = self.boxes()[0 if which == "focal" else 1]
        stops = stop_scale(base, 2)
        part = min(max((at.y() - box.top()) / box.height(), 0.0), 1.0)
        stop = marked_stop(float(stops[0] * (stops[-1] / stops[0]) ** part), self._session.stop_steps)
        if which == "focal":
            ratio = min(max((at.x() - box.center().x()) / (box.width() / 2), -1.0), 1.0)
            self._take_focal(float(base.focal_mm) * FOCAL_FACTOR**ratio, stop)
        else:
            metres = scale.metres(min(max(at.x(), box.left()), box.right()))
            target = DistanceTarget(metres=metres)
            frame = self._session.frame
            self._edit(
                stop,
                f"Focus {self._session.length(metres)}, f/{stop:.3g}",
                lambda s: pulls.refocus(s, frame, target),
            )

    def _take_focal(self, focal: float, stop: float) -> None:
        """Another focal length: the subject keeps its size; within the brief it gets its focus."""
        session, shot, camera = self._session, self._session.shot, self._session.camera
        number = choosing.subject_kept(session)
        if shot is None or camera is None:
            return
        focal = float(f"{focal:.3g}")
        frame = float(session.frame)

        def change(s: Shot) -> Shot:
            if s.keeps is None and number is not None:
                s = glasses.keep_size(s, number, float(camera.focal_mm), frame)
            return s.but(glass=glasses.with_focal(s.glass, edit.set_value(s.glass.focal_mm, frame, focal)))

        def focused(s: Shot) -> Shot:
            if number is None:
                return s
            numbers = survey(session.plan, s, session.stage, [frame])
            return pulls.refocus(s, frame, focus_at_stop(session.plan, s, numbers, 0, number))

        self._edit(stop, f"{focal:.3g} mm, f/{stop:.3g}", change, focused)

    def _edit(
        self,
        stop: float,
        name: str,
        change: Callable[[Shot], Shot],
        after: Callable[[Shot], Shot] = lambda s: s,
    ) -> None:
        frame = self._session.frame

        def whole(shot: Shot) -> Shot:
            changed = change(shot)
            stopped = edit.set_value(changed.glass.f_number, frame, stop)
            return after(changed.but(glass=changed.glass.but(f_number=stopped)))

        self._session.edit_shot(name, whole)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        session, camera = self._session, self._session.camera
        key = event.key()
        if camera is None or key not in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            super().keyPressEvent(event)
            return
        session.step_stop(1 if key == Qt.Key.Key_Down else -1)


def _image(one: Map) -> QImage:
    """Background blur as a picture: from the panel's grey to the blue of what is farther."""
    least, most = 1.0, max(float(np.nanmax(one.blur_px)), 10.0)
    part = np.clip(np.log(np.maximum(one.blur_px, least) / least) / math.log(most / least), 0, 1)
    low, high = _rgb(look().panel), _rgb(look().farther)
    colours = (low + (high - low) * (part[..., None] ** 1.3)).astype(np.uint8)
    rows, columns = part.shape
    whole = np.ascontiguousarray(colours)
    return QImage(whole.data, columns, rows, 3 * columns, QImage.Format.Format_RGB888).copy()


def _rgb(colour: QColor) -> NDArray[np.float64]:
    return np.array([colour.red(), colour.green(), colour.blue()], float)
