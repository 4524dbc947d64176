"""The mask, large: what passes light, and what a far and a near light become through it.

The corners of a polygon can be dragged; a click on an edge adds one, the right button or Delete
takes one away.
"""

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.paint import draw_text, xy
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.desk.views.iris_images import disc_image, iris_image
from kobrel.memo import Memo
from kobrel.optics.aperture import aperture, passes
from kobrel.optics.lens import Numbers
from kobrel.optics.stencil import turned
from kobrel.picture.discs import disc
from kobrel.plan.iris import Stencil
from kobrel.session.numbers import Now
from kobrel.session.session import Session

_TOP, _BOTTOM, _GAP = 28, 24, 14
_GRAB_PX = 9.0
_SAMPLES = 120_000
_MOST_CORNERS = 64
_STEPS = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1),
}  # fmt: skip
_HINT = (
    "Iris with its mask, and a far and a near point light through it.\n"
    "Polygon: drag corners, click an edge to add one, right-click or Delete to remove one. "
    "Enter: next corner, arrow keys: move it."
)


class _DragCorner(Drag):
    """Moves a corner of a polygon."""

    def __init__(self, view: "MaskView", session: Session) -> None:
        super().__init__(session)
        self._view = view

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.move_corner(at)


@guarded
class MaskView(Panel):
    """The mask, large: what passes light, and what a far and a near light become through it."""

    title = "Mask"
    order = 3

    def __init__(self, session: Session) -> None:
        super().__init__(session, "The iris with its mask", _HINT)
        self._image = Memo[QImage]()
        self._discs = Memo[list[tuple[str, QImage, float]]]()
        self.corner: int | None = None
        self.setMinimumHeight(120)

    # Geometry

    def square(self) -> QRectF:
        """Where the square of the mask stands."""
        side = max(40.0, min(self.height() - _TOP - _BOTTOM, self.width() * 0.4))
        return QRectF(_GAP, _TOP, side, side)

    @property
    def stencil(self) -> Stencil | None:
        """The mask, if it is drawn here."""
        shot = self._session.shot
        mask = shot.iris.mask if shot else None
        return mask if isinstance(mask, Stencil) else None

    def corner_places(self) -> list[QPointF]:
        """Where the corners of a polygon stand."""
        stencil, camera = self.stencil, self._session.camera
        if stencil is None or camera is None or stencil.outline != "polygon":
            return []
        points = turned(np.asarray(stencil.points, float), stencil.turn_deg, stencil.size)
        points = turned(points, camera.turned_iris.rotation_deg, 1.0)
        box = self.square()
        return [self._place(box, x / camera.squeeze, y) for x, y in points]

    @staticmethod
    def _place(box: QRectF, x: float, y: float) -> QPointF:
        half = box.width() / 2
        return QPointF(box.center().x() + x * half, box.center().y() - y * half)

    def _point(self, at: QPointF) -> tuple[float, float]:
        """The mask's own point at a place, kept within its square."""
        stencil, camera, box = self.stencil, self._session.camera, self.square()
        assert stencil is not None
        assert camera is not None
        away = (at - box.center()) / (box.width() / 2)
        point = np.array([[away.x() * camera.squeeze, -away.y()]])
        point = turned(point, -camera.turned_iris.rotation_deg, 1.0)
        x, y = turned(point, -stencil.turn_deg, 1.0 / stencil.size)[0]
        return round(float(np.clip(x, -1, 1)), 4), round(float(np.clip(y, -1, 1)), 4)

    # Painting

    def paint(self, now: Now) -> None:
        painter, camera, box = self.begin(), now.camera, self.square()
        parts = (aperture(camera.turned_iris, camera.squeeze), theme())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(box, self._image.get(parts, lambda: iris_image(camera)))
        self._paint_corners(painter)
        right = self._paint_discs(painter, now, box)
        self._paint_words(painter, now, QPointF(right + _GAP, _TOP + 18))

    def _paint_corners(self, painter: QPainter) -> None:
        places = self.corner_places()
        if not places:
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(faded(theme().text, 0.7), 1, Qt.PenStyle.DashLine))
        painter.drawPolygon(QPolygonF(places))
        for number, place in enumerate(places):
            chosen = number == self.corner
            painter.setPen(QPen(theme().text, 2.4 if chosen else 1.4))
            painter.setBrush(theme().focus if chosen else theme().base)
            painter.drawEllipse(place, 5, 5)

    def _paint_discs(self, painter: QPainter, now: Now, box: QRectF) -> float:
        """What lights become, beside the mask; returns where they end."""
        left = box.right() + _GAP
        room = self.width() - left - 175
        side = min(box.height(), (room - _GAP) / 2)
        if side < 60:
            return left - _GAP
        for words, image, height_px in self._lit(now, round(side)):
            where = QRectF(left, box.top(), side, side)
            painter.drawImage(where, image)
            text = f"{words}, {height_px:.0f} px high"
            draw_text(
                painter, QPointF(where.center().x(), where.bottom() + 16), text, theme().quiet, 11, "centre"
            )
            left = where.right() + _GAP
        return left - _GAP

    def _lit(self, now: Now, side: int) -> list[tuple[str, QImage, float]]:
        camera = now.camera
        if camera.projection != "perspective":
            return []

        def make() -> list[tuple[str, QImage, float]]:
            nearer = min(now.survey.nearest_of_interest_m, 0.5 * float(camera.focus_m))
            made = []
            for words, distance in (("far light", math.inf), ("near light", nearer)):
                found = disc(camera, distance, 0.0, 0.0, _SAMPLES)
                across = max(2.08 * found.reach_px, 2.0)
                made.append((words, disc_image(found, across, min(side, 200)), found.size_px[1]))
            return made

        return self._discs.get((camera, side, theme()), make)

    def _paint_words(self, painter: QPainter, now: Now, at: QPointF) -> None:
        mask, camera = now.shot.iris.mask, now.camera
        if mask is None:
            for row, line in enumerate(("No mask.", "Choose one on the Mask page.")):
                draw_text(painter, at + QPointF(0, 17 * row), line, theme().quiet, 12)
            return
        part = passes(camera.iris)
        draw_text(painter, at, "Light lost", theme().quiet, 12)
        draw_text(painter, at + QPointF(0, 26), f"{-math.log2(part):.2f} stops", theme().focus, 21)
        lines = [
            f"{part:.1%} of it passes.",
            "Exposure compensated." if mask.made_up else "Counted in the T-stop.",
        ]
        if self.corner_places():
            lines += [
                "",
                "Drag corners; click an edge",
                "to add one, with the right",
                "right-click to remove.",
            ]
        for row, line in enumerate(lines):
            draw_text(painter, at + QPointF(0, 52 + 17 * row), line, theme().quiet, 12)

    # Mouse and keys

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        stencil, at, places = self.stencil, event.position(), self.corner_places()
        if stencil is None or not places:
            return None
        near = next((k for k, place in enumerate(places) if math.dist(xy(place), xy(at)) <= _GRAB_PX), None)
        if event.button() == Qt.MouseButton.RightButton and near is not None:
            self._remove(near)
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        self.corner = near
        edge = _edge_at(places, at) if near is None else None
        if edge is not None and len(places) < _MOST_CORNERS:
            points = list(stencil.points)
            points.insert(edge + 1, self._point(at))
            self.corner = edge + 1
            self._take("Add a corner", points)
        self.update()
        return None if self.corner is None else _DragCorner(self, self._session)

    def move_corner(self, at: QPointF) -> None:
        """Put the chosen corner at a place."""
        if self.corner is not None and self.stencil is not None and self.corner < len(self.stencil.points):
            points = list(self.stencil.points)
            points[self.corner] = self._point(at)
            self._take("Move a corner", points)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        stencil, key = self.stencil, Qt.Key(event.key())
        places = self.corner_places()
        if stencil is None or not places:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.corner = 0 if self.corner is None else (self.corner + 1) % len(places)
            self.update()
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.corner is not None:
            self._remove(self.corner)
        elif key in _STEPS and self.corner is not None:
            x, y = stencil.points[self.corner]
            points = list(stencil.points)
            by = _STEPS[key]
            points[self.corner] = (round(x + 0.01 * by[0], 4), round(y + 0.01 * by[1], 4))
            self._take("Move a corner", points)
        else:
            super().keyPressEvent(event)

    def _remove(self, corner: int) -> None:
        stencil = self.stencil
        if stencil is None:
            return
        if len(stencil.points) <= 3:
            self._session.say("A polygon needs three corners or more.")
            return
        self.corner = None
        self._take("Delete corner", [p for k, p in enumerate(stencil.points) if k != corner])

    def _take(self, name: str, points: list[tuple[float, float]]) -> None:
        stencil = self.stencil
        if stencil is not None:
            mask = stencil.replace(points=tuple(points))
            self._session.edit_shot(name, lambda shot: shot.replace(iris=shot.iris.replace(mask=mask)))


def _edge_at(places: list[QPointF], at: QPointF) -> int | None:
    """The edge, by its first corner, that passes near a place."""
    points = np.array([[p.x(), p.y()] for p in places])
    ways: Numbers = np.roll(points, -1, axis=0) - points
    away = np.array([at.x(), at.y()]) - points
    part = np.clip((away * ways).sum(axis=1) / np.maximum((ways**2).sum(axis=1), 1e-9), 0, 1)
    distance = np.linalg.norm(away - ways * part[:, None], axis=1)
    nearest = int(np.argmin(distance))
    return nearest if distance[nearest] <= _GRAB_PX else None
