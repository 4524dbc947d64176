"""Maps of trade-offs: stop against focal length, and stop against focus, side by side.

The deeper the blue, the more the far background is blurred; ivory lines join equal sharp
depths; the outlined part meets the brief. The brass ring is where the shot is now.
"""

import math
from collections.abc import Callable
from typing import NamedTuple

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
    QPen,
    QPolygonF,
)

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.paint import draw_label, draw_text
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.errors import OpticsError
from kobrel.memo import Memo
from kobrel.optics.exposure import FULL_STOPS, marked_stop
from kobrel.plan import glass as glasses
from kobrel.plan.keys import Key
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import index_runs, survey
from kobrel.plan.model import DistanceTarget, Shot
from kobrel.plan.pull import marks as pulls
from kobrel.plan.solve.brief import focus_at_stop
from kobrel.plan.solve.tradeoffs import FOCAL_FACTOR, Map, focal_map, focus_map, stop_scale
from kobrel.session.commands import lens_choice
from kobrel.session.commands.focusing import step_iris
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session

_LEFT, _RIGHT, _TOP, _BOTTOM, _GAP = 52, 14, 32, 42, 64
_SIZE = (256, 96)
_FOCALS = (8, 10, 12, 14, 18, 21, 25, 28, 35, 40, 50, 65, 85, 100, 135, 180, 250, 400, 600, 1000)
_HINT = (
    "Click or drag to use a point. Left: another focal length moves the camera, so that the subject keeps "
    "its size. Right: another focus. Up and down keys step the stop."
)


class Base(NamedTuple):
    """What the maps are made from: camera, its subject's distance along the axis, the scale of focus."""

    camera: Camera
    subject_m: float
    scale: DioptreScale


class _TakePoint(Drag):
    """Takes the point of a map under the pointer; the maps stand still meanwhile."""

    def __init__(self, maps: "Maps", session: Session, base: Base, by_focal: bool) -> None:
        super().__init__(session)
        self._maps, self.base, self._by_focal = maps, base, by_focal

    def begin(self, at: QPointF) -> None:
        super().begin(at)
        self._maps.take(at, self.base, self._by_focal)

    def move(self, at: QPointF, keys: Keys) -> None:
        self._maps.take(at, self.base, self._by_focal)


@guarded
class Maps(Panel):
    """Maps of trade-offs: stop against focal length, and stop against focus, side by side."""

    title = "Trade-offs"
    depends = (*AT_FRAME, Document.dragging, Selection.subject)
    order = 3

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Maps of trade-offs between stop, focal length and focus", _HINT)
        self._maps = Memo[tuple[Map, Map] | None]()
        self.setMinimumHeight(120)

    # Geometry

    def boxes(self) -> tuple[QRectF, QRectF]:
        """Where the two maps stand: by focal length, by focus."""
        wide = (self.width() - 2 * _LEFT - _RIGHT - _GAP / 2) / 2
        tall = self.height() - _TOP - _BOTTOM
        return QRectF(_LEFT, _TOP, wide, tall), QRectF(self.width() - _RIGHT - wide, _TOP, wide, tall)

    def maps(self) -> tuple[Map, Map] | None:
        """Both maps at the session's frame; None where there are none."""
        now = self._session.now
        if now is None or now.camera.projection == "orthographic":
            return None
        if isinstance(self.gesture, _TakePoint):
            return self._maps.last
        subject_m = lens_choice.subject_axial_m(self._session, now)
        return self._maps.get((now.survey, now.row, subject_m), lambda: self._made(now, subject_m))

    def _made(self, now: Now, subject_m: float) -> tuple[Map, Map] | None:
        judged = self._session.judged
        brief = judged.brief.at(now.row) if judged else None
        try:
            return (
                focal_map(now.camera, subject_m, brief, _SIZE),
                focus_map(now.camera, now.survey.nearest_of_interest_m, brief, _SIZE),
            )
        except OpticsError:
            return None

    def _base(self, now: Now) -> Base:
        """What the maps were made from."""
        if isinstance(self.gesture, _TakePoint):
            return self.gesture.base
        box = self.boxes()[1]
        scale = DioptreScale(now.survey.nearest_of_interest_m, box.left(), box.right())
        return Base(now.camera, lens_choice.subject_axial_m(self._session, now), scale)

    def _stop_y(self, box: QRectF, stops: np.ndarray, stop: float) -> float:
        part = math.log(stop / stops[0]) / math.log(stops[-1] / stops[0])
        return box.top() + part * box.height()

    def place(self, focal: bool) -> QPointF | None:
        """Where the shot stands on a map."""
        now = self._session.now
        if now is None:
            return None
        base, camera = self._base(now), now.camera
        box = self.boxes()[0 if focal else 1]
        y = self._stop_y(box, stop_scale(base.camera, 2), float(camera.f_number))
        if not focal:
            return QPointF(base.scale.px(float(camera.focus_m)), y)
        ratio = math.log(float(camera.focal_mm) / float(base.camera.focal_mm)) / math.log(FOCAL_FACTOR)
        return QPointF(box.center().x() + ratio * box.width() / 2, y)

    # Painting

    def paint(self, now: Now) -> None:
        found, painter = self.maps(), self.begin()
        if found is None:
            draw_text(
                painter, QPointF(100, 18), "Not available for orthographic cameras.",
                theme().quiet, 12,
            )  # fmt: skip
            return
        camera, _subject_m, scale = self._base(now)
        by_focal, by_focus = self.boxes()
        number = lens_choice.subject_kept(self._session)
        subject = self._session.plan.subject(number) if number is not None else None
        kept = f"{subject.name} the same size" if subject else "what is in focus the same size"
        draw_text(
            painter, QPointF(by_focal.left() + 60, 18), f"stop vs. focal length, {kept}", theme().quiet, 12
        )
        draw_text(painter, QPointF(by_focus.left(), 18), "stop over focus distance", theme().quiet, 12)
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
            painter.setPen(QPen(faded(theme().line, 0.7), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        if one.ranges is not None:
            self._paint_windows(painter, box, one, x)
        taken: list[QPointF] = []
        unit = self._session.unit
        for depth, stops in one.contours:
            painter.setPen(QPen(faded(theme().sharp, 0.85), 1.3))
            points = [
                QPointF(float(a), self._stop_y(box, one.stops, float(n)))
                for a, n in zip(x, stops, strict=True)
                if np.isfinite(n)
            ]
            painter.drawPolyline(QPolygonF(points))
            label = self._label_place(points, taken, box)
            if label is not None:
                taken.append(label)
                draw_label(painter, label, f"{depth / unit.metres:.3g} {unit.symbol}", theme().sharp)
        painter.restore()
        for stop in FULL_STOPS:
            y = self._stop_y(box, one.stops, stop)
            if box.top() - 1 <= y <= box.bottom() + 1:
                draw_text(painter, QPointF(box.left() - 7, y + 4), f"f/{stop:g}", theme().quiet, 11, "right")
        painter.setPen(QPen(theme().line, 1))
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
        for low, high in one.ranges or ():
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
        painter.fillPath(outside.subtracted(inside), faded(theme().base, 0.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme().sharp, 2))
        painter.drawPath(inside)

    def _focals(self, painter: QPainter, box: QRectF, camera: Camera, _scale: DioptreScale) -> None:
        last = -1e9
        for focal in _FOCALS:
            part = math.log(focal / float(camera.focal_mm)) / math.log(FOCAL_FACTOR) / 2 + 0.5
            x = box.left() + part * box.width()
            if 0 <= part <= 1 and x - last > 34:
                last = x
                draw_text(painter, QPointF(x, box.bottom() + 17), f"{focal}", theme().quiet, 11, "centre")
        draw_text(painter, QPointF(box.left() - 24, box.bottom() + 17), "mm", theme().quiet, 11, "right")

    def _distances(self, painter: QPainter, box: QRectF, _camera: Camera, scale: DioptreScale) -> None:
        for metres, label in scale.ticks(self._session.unit, 34):
            x = scale.px(metres)
            if box.left() - 1 <= x <= box.right() + 1:
                draw_text(painter, QPointF(x, box.bottom() + 17), label, theme().quiet, 11, "centre")
        unit = self._session.unit.symbol
        draw_text(painter, QPointF(box.left() - 24, box.bottom() + 17), unit, theme().quiet, 11, "right")

    def _paint_place(self, painter: QPainter, focal: bool) -> None:
        at = self.place(focal)
        box = self.boxes()[0 if focal else 1]
        if at is None or not box.adjusted(-2, -2, 2, 2).contains(at):
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for pen in (QPen(theme().base, 4.5), QPen(theme().focus, 2.4)):
            painter.setPen(pen)
            painter.drawEllipse(at, 6.5, 6.5)

    def _paint_key(self, painter: QPainter) -> None:
        """What the blue means, and the lines."""
        y = self.height() - 7.0
        text = "blue: blur at infinity    lines: depth of field"
        if self._session.judged is not None:
            text += "    outlined: meets the brief at this frame"
        draw_text(painter, QPointF(_LEFT, y), text, theme().quiet, 11)

    # Mouse and keys

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        at = event.position()
        if event.button() != Qt.MouseButton.LeftButton or self.maps() is None:
            return None
        which = next((i for i, b in enumerate(self.boxes()) if b.adjusted(-4, -4, 4, 4).contains(at)), None)
        return None if which is None else _TakePoint(self, self._session, self._base(now), which == 0)

    def take(self, at: QPointF, base: Base, by_focal: bool) -> None:
        """Give the shot what a place on a map stands for."""
        box = self.boxes()[0 if by_focal else 1]
        stops = stop_scale(base.camera, 2)
        part = min(max((at.y() - box.top()) / box.height(), 0.0), 1.0)
        stop = marked_stop(float(stops[0] * (stops[-1] / stops[0]) ** part), self._session.view.stop_steps)
        if by_focal:
            ratio = min(max((at.x() - box.center().x()) / (box.width() / 2), -1.0), 1.0)
            self._take_focal(float(base.camera.focal_mm) * FOCAL_FACTOR**ratio, stop)
        else:
            metres = base.scale.metres(min(max(at.x(), box.left()), box.right()))
            target, frame = DistanceTarget(metres=metres), self._session.frame
            name = f"Focus {self._session.length(metres)}, f/{stop:.3g}"
            self._edit(stop, name, lambda s: pulls.refocus(s, frame, target))

    def _take_focal(self, focal: float, stop: float) -> None:
        """Another focal length: the subject keeps its size; within the brief it gets its focus."""
        session, now = self._session, self._session.now
        if now is None:
            return
        number, focal, frame = lens_choice.subject_kept(session), float(f"{focal:.3g}"), float(now.frame)

        def change(s: Shot) -> Shot:
            if s.keeps is None and number is not None:
                s = glasses.keep_size(s, number, float(now.camera.focal_mm), frame)
            return s.replace(
                glass=glasses.with_focal(s.glass, s.glass.focal_mm.set(Key(frame=frame, value=focal)))
            )

        def focused(s: Shot) -> Shot:
            if number is None:
                return s
            numbers = survey(now.plan, s, now.stage, [frame])
            return pulls.refocus(s, frame, focus_at_stop(now.plan, s, numbers, 0, number))

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
            stopped = changed.glass.f_number.set(Key(frame=frame, value=stop))
            return after(changed.replace(glass=changed.glass.replace(f_number=stopped)))

        self._session.edit_shot(name, whole)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            step_iris(self._session, 1 if key == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)


def _image(one: Map) -> QImage:
    """Background blur as a picture: from the panel's grey to the blue of what is farther."""
    least, most = 1.0, max(float(np.nanmax(one.blur_px)), 10.0)
    part = np.clip(np.log(np.maximum(one.blur_px, least) / least) / math.log(most / least), 0, 1)
    low, high = _rgb(theme().panel), _rgb(theme().farther)
    colours = (low + (high - low) * (part[..., None] ** 1.3)).astype(np.uint8)
    rows, columns = part.shape
    whole = np.ascontiguousarray(colours)
    return QImage(whole.data, columns, rows, 3 * columns, QImage.Format.Format_RGB888).copy()


def _rgb(colour: QColor) -> NDArray[np.float64]:
    return np.array([colour.red(), colour.green(), colour.blue()], float)
