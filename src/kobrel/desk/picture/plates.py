"""Plates in Picture: outlines of the chosen and the missing ones, and drawing what is cut out of them."""

import math
from collections.abc import Callable
from typing import Literal

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QPainter, QPainterPath, QPen, QPolygonF

from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import label_at, xy
from kobrel.desk.toolkit.theme import theme
from kobrel.optics.lens import Numbers
from kobrel.plan.pictures.plates import Ellipse, Outline, Plate, Point, Rectangle
from kobrel.plan.plates.pixels import as_srgb, outline_line
from kobrel.plan.plates.placing import corners_at, picture_place, place_at
from kobrel.session.commands.plates import cutting, placing, sets
from kobrel.session.numbers import Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import PLACING_TABS, CutTool

_GRAB_PX, _POINT_PX, _MOST_POINTS = 8.0, 3.5, 400
PointPart = Literal["at", "before", "after"]
_SMOOTH_OF_WIDTH = 0.01
_BEND_PX = 4.0
Shown = Callable[[QRectF, Numbers, Numbers], QPointF]


class PlateMarks:
    """Plates in Picture.

    Parameters
    ----------
    box : where the frame stands on the widget
    shown : where a place of the delivered picture, pixels, stands on the widget
    meant : the place in the straight picture that is seen at a place of the widget
    changed : asks for the picture to be painted
    """

    def __init__(
        self,
        session: Session,
        box: Callable[[], QRectF],
        shown: Shown,
        meant: Callable[[QPointF], QPointF],
        changed: Callable[[], object],
    ) -> None:
        self._session, self._box, self._shown, self._meant = session, box, shown, meant
        self._changed = changed
        self._points: list[tuple[Point, Point | None]] = []
        self._pointer: QPointF | None = None
        session.watch({Selection.tool, Selection.item}, self._forget)

    @property
    def tool(self) -> CutTool | None:
        """The tool in hand that draws a shape."""
        tool = self._session.selection.tool
        return tool.cut if tool is not None else None

    def _forget(self) -> None:
        if self._points:
            self._points = []
            self._changed()

    # Places

    def _place(self, at: QPointF) -> Point | None:
        """The place in the chosen plate's picture at a place of the widget."""
        plate, now = placing.chosen(self._session), self._session.now
        if plate is None or now is None or plate.lies:
            return None
        right, down = self._in_frame(at)
        return picture_place(plate, now.plan.dials, now.camera, now.frame, right, down)

    def _in_frame(self, at: QPointF) -> tuple[float, float]:
        """A place of the widget in parts of the frame from its upper left."""
        meant, box = self._meant(at), self._box()
        return (meant.x() - box.left()) / box.width(), (meant.y() - box.top()) / box.height()

    def _where(self, now: Now, plate: Plate, place: Point) -> QPointF | None:
        """Where a place of a plate's picture stands on the widget."""
        seen = now.camera.see(place_at(plate, now.plan.dials, now.camera, now.frame, place))
        if not math.isfinite(float(seen.x_px)):
            return None
        return self._shown(self._box(), seen.x_px, seen.y_px)

    def _corners(self, now: Now, plate: Plate) -> list[QPointF]:
        """Where the corners of a plate's picture stand on the widget; none where it has none in view."""
        if plate.lies:
            return []
        corners = now.camera.see(corners_at(plate, now.plan.dials, now.camera, [now.frame])[0])
        if not all(math.isfinite(float(x)) for x in corners.x_px):
            return []
        return [self._shown(self._box(), x, y) for x, y in zip(corners.x_px, corners.y_px, strict=True)]

    def room_of(self, plate: Plate) -> QRectF | None:
        """The upright box on the widget that holds a plate's picture."""
        now = self._session.now
        places = self._corners(now, plate) if now is not None else []
        return QPolygonF(places).boundingRect() if places else None

    def holds(self, plate: Plate, at: QPointF) -> bool:
        """Whether a place of the widget lies on a plate's picture."""
        now = self._session.now
        places = self._corners(now, plate) if now is not None else []
        return bool(places) and QPolygonF(places).containsPoint(at, Qt.FillRule.WindingFill)

    # Painting

    def paint(self, painter: QPainter, now: Now, labels: Labels) -> None:
        """Outlines of chosen and missing plates, and of what is being drawn."""
        session = self._session
        chosen = placing.all_chosen(session) if session.view.card in PLACING_TABS else []
        painter.save()
        painter.setClipRect(self._box())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for plate in now.plan.plates:
            missing = placing.is_missing(session, plate)
            if not missing and plate not in chosen:
                continue
            self._paint_outline(painter, now, plate, missing, labels)
        first = placing.chosen(session) if chosen else None
        if first is not None:
            self._paint_shapes(painter, now, first)
            self._paint_draft(painter, now, first)
        painter.restore()

    def _paint_outline(
        self, painter: QPainter, now: Now, plate: Plate, missing: bool, labels: Labels
    ) -> None:
        """The edge of a plate's picture; of a missing one with its diagonals."""
        places = self._corners(now, plate)
        if not places:
            return
        box = self._box()
        colour = theme().wrong if missing else theme().focus
        painter.setPen(QPen(colour, 1.4, Qt.PenStyle.DashLine))
        painter.drawPolygon(QPolygonF(places))
        if missing:
            painter.drawLine(places[0], places[2])
            painter.drawLine(places[1], places[3])
            inside = QRectF(QPolygonF(places).boundingRect()).intersected(box)
            label_at(
                painter, labels, inside.center(), f"{plate.name}: its picture is missing", colour, bold=True
            )

    def _paint_shapes(self, painter: QPainter, now: Now, plate: Plate) -> None:
        """The lines of the chosen plate's own cut, with an outline's points."""
        painter.setPen(QPen(theme().focus, 1.2))
        for shape in plate.cut.shapes if plate.cut else ():
            if isinstance(shape, Outline):
                line = [self._where(now, plate, (float(x), float(y))) for x, y in outline_line(shape)]
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolygon(QPolygonF([at for at in line if at is not None]))
                if len(shape.points) <= _MOST_POINTS:
                    self._paint_points(painter, now, plate, shape)
            elif isinstance(shape, Rectangle | Ellipse):
                one, other = (self._where(now, plate, at) for at in (shape.one, shape.other))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                if one is not None and other is not None:
                    draw = painter.drawEllipse if isinstance(shape, Ellipse) else painter.drawRect
                    draw(QRectF(one, other).normalized())

    def _paint_points(self, painter: QPainter, now: Now, plate: Plate, outline: Outline) -> None:
        """An outline's points, and the handles of what is bent."""
        painter.setBrush(theme().base)
        for point in outline.points:
            at = self._where(now, plate, point.at)
            if at is None:
                continue
            for handle in (point.before, point.after):
                tip = self._where(now, plate, handle) if handle is not None else None
                if tip is not None:
                    painter.drawLine(at, tip)
                    painter.drawEllipse(tip, 2.5, 2.5)
            painter.drawRect(QRectF(at.x() - 2.5, at.y() - 2.5, 5, 5))

    def _paint_draft(self, painter: QPainter, now: Now, plate: Plate) -> None:
        if not self._points or self.tool is None:
            return
        places = [(self._where(now, plate, at), after) for at, after in self._points]
        painter.setPen(QPen(theme().focus, 1.8))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.tool in ("rectangle", "ellipse") and len(places) == 2:
            first, last = places[0][0], places[1][0]
            if first is not None and last is not None:
                draw = painter.drawEllipse if self.tool == "ellipse" else painter.drawRect
                draw(QRectF(first, last).normalized())
            return
        path = QPainterPath()
        before: QPointF | None = None
        for at, after in places:
            if at is None:
                continue
            handle = self._where(now, plate, after) if after is not None else None
            if path.elementCount() == 0:
                path.moveTo(at)
            else:
                arrives = at * 2 - handle if handle is not None else at
                path.cubicTo(before or path.currentPosition(), arrives, at)
            before = handle
        if self._pointer is not None and self.tool in ("points", "edge"):
            path.lineTo(self._pointer)
        painter.drawPath(path)
        painter.setBrush(theme().base)
        for number, (at, _after) in enumerate(places):
            if at is not None and (self.tool != "freehand" or number == 0):
                painter.drawEllipse(at, _POINT_PX + (number == 0), _POINT_PX + (number == 0))

    # Pointer and keys

    def wants(self, at: QPointF) -> bool:
        """Whether a press is meant for plates: while a shape is drawn, or on an outline's point."""
        return self.tool is not None or self._sets_foot or self._grab(at) is not None

    @property
    def _sets_foot(self) -> bool:
        tool = self._session.selection.tool
        return tool is not None and tool.does == "foot"

    def press(self, at: QPointF) -> Gesture | None:
        """What a press begins that is meant for plates."""
        if self._sets_foot:
            right, down = self._in_frame(at)
            sets.set_foot(self._session, right, down)
            return None
        if self.tool is None:
            return self._grab(at)
        place = self._place(at)
        if place is None:
            self._session.say("Click on the selected plate.")
            return None
        if self.tool == "colour":
            cutting.take_colour(self._session, place)
            return None
        if self.tool in ("rectangle", "ellipse"):
            return _Box(self, place)
        if self.tool == "freehand":
            return _Freehand(self, place)
        if self._points and self._is_first(at):
            self.close()
            return None
        if self.tool == "edge":
            self._seek(place)
            return None
        self._points.append((place, None))
        return _Bend(self, at)

    def _is_first(self, at: QPointF) -> bool:
        now, plate = self._session.now, placing.chosen(self._session)
        first = self._where(now, plate, self._points[0][0]) if now is not None and plate is not None else None
        return first is not None and math.dist(xy(first), xy(at)) <= _GRAB_PX and len(self._points) > 2

    def _seek(self, place: Point) -> None:
        """Go on to a place along the picture's edges."""
        plate = placing.chosen(self._session)
        pixels = cutting.pixels_of(self._session, plate) if plate is not None and self._points else None
        if pixels is not None and self._points:
            from kobrel.stage.pictures.seeking import edge_line

            size = pixels.width, pixels.height
            a, b = ((p[0] * size[0], p[1] * size[1]) for p in (self._points[-1][0], place))
            line = edge_line(as_srgb(pixels), a, b)[1:] / size
            self._points += [((float(x), float(y)), None) for x, y in line]
        self._points.append((place, None))
        self._changed()

    def hover(self, at: QPointF) -> None:
        """The pointer moves without a gesture."""
        if self._points:
            self._pointer = at
            self._changed()

    def key(self, event: QKeyEvent) -> bool:
        """A key while a shape is drawn; whether it was one of its own."""
        if self.tool is None:
            return False
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._points:
            self.close()
        elif event.key() == Qt.Key.Key_Backspace and self._points:
            self._points.pop()
            self._changed()
        elif event.key() == Qt.Key.Key_Escape:
            self._session.selection.tool = None
        else:
            return False
        return True

    def close(self) -> None:
        """Close the line that is drawn, and take it."""
        points, self._points = self._points, []
        shape = cutting.bent_outline(points)
        self._take(shape)

    def _take(self, shape: Outline | Rectangle | Ellipse | None) -> None:
        if shape is None:
            self._session.say("Too small. Draw around the object.")
        else:
            cutting.take_shape(self._session, shape)
        self._changed()

    # For gestures

    def draft(self, points: list[tuple[Point, Point | None]]) -> None:
        """Show what is drawn so far."""
        self._points = points
        self._changed()

    def place(self, at: QPointF) -> Point | None:
        """The place in the chosen plate's picture at a place of the widget."""
        return self._place(at)

    def take_box(self, one: Point, other: Point, round_: bool) -> None:
        """Take a rectangle or an ellipse."""
        self._points = []
        self._take(cutting.box_of(one, other, round_))

    def take_freehand(self, points: list[Point]) -> None:
        """Take a line drawn by hand, made smooth."""
        self._points = []
        plate = placing.chosen(self._session)
        size = plate.picture.size_px if plate is not None else (1920, 1080)
        self._take(cutting.outline_of(points, size, max(2.0, _SMOOTH_OF_WIDTH * size[0])))

    def bend_last(self, after: Point) -> None:
        """Bend the line at its last point."""
        self._points[-1] = (self._points[-1][0], after)
        self._changed()

    def drop_last(self) -> None:
        """Take the last point back."""
        if self._points:
            self._points.pop()
            self._changed()

    def _grab(self, at: QPointF) -> Gesture | None:
        """A gesture on a point of the chosen plate's outline."""
        session, now, plate = self._session, self._session.now, placing.chosen(self._session)
        if (
            session.view.card not in PLACING_TABS
            or now is None
            or plate is None
            or plate.cut is None
            or session.selection.tool is not None
        ):
            return None
        for index, shape in enumerate(plate.cut.shapes):
            if not isinstance(shape, Outline):
                continue
            for number, point in enumerate(shape.points):
                parts: tuple[PointPart, ...] = ("at", "before", "after")
                for part in parts:
                    place = getattr(point, part)
                    here = self._where(now, plate, place) if place is not None else None
                    if here is not None and math.dist(xy(here), xy(at)) <= _GRAB_PX:
                        return _MovePoint(session, self, shape, index, number, part)
        return None


class _Box(Gesture):
    """Draws a rectangle or an ellipse."""

    def __init__(self, marks: PlateMarks, first: Point) -> None:
        self._marks, self._first, self._last = marks, first, first
        self._round = marks.tool == "ellipse"

    def move(self, at: QPointF, keys: Keys) -> None:
        self._last = self._marks.place(at) or self._last
        self._marks.draft([(self._first, None), (self._last, None)])

    def finish(self, at: QPointF) -> None:
        self._marks.take_box(self._first, self._last, self._round)

    def cancel(self) -> None:
        self._marks.draft([])


class _Freehand(Gesture):
    """Draws a line by hand."""

    def __init__(self, marks: PlateMarks, first: Point) -> None:
        self._marks, self._points = marks, [first]

    def move(self, at: QPointF, keys: Keys) -> None:
        place = self._marks.place(at)
        if place is not None:
            self._points.append(place)
            self._marks.draft([(point, None) for point in self._points])

    def finish(self, at: QPointF) -> None:
        self._marks.take_freehand(self._points)

    def cancel(self) -> None:
        self._marks.draft([])


class _Bend(Gesture):
    """Bends the line at the point that was just set."""

    def __init__(self, marks: PlateMarks, at: QPointF) -> None:
        self._marks, self._pressed = marks, at

    def move(self, at: QPointF, keys: Keys) -> None:
        after = self._marks.place(at)
        if after is not None and math.dist(xy(at), xy(self._pressed)) >= _BEND_PX:
            self._marks.bend_last(after)

    def cancel(self) -> None:
        self._marks.drop_last()


class _MovePoint(Drag):
    """Moves a point of an outline with what bends the line there, or one of the handles that bend it."""

    def __init__(
        self, session: Session, marks: PlateMarks, shape: Outline, index: int, number: int, part: PointPart
    ) -> None:
        super().__init__(session)
        self._marks, self._shape = marks, shape
        self._index, self._number, self._part = index, number, part

    def move(self, at: QPointF, keys: Keys) -> None:
        place = self._marks.place(at)
        if place is None:
            return
        old = self._shape.points[self._number]
        by = place[0] - old.at[0], place[1] - old.at[1]

        def moved(handle: Point | None) -> Point | None:
            return None if handle is None else (handle[0] + by[0], handle[1] + by[1])

        if self._part == "at":
            point = old.replace(at=place, before=moved(old.before), after=moved(old.after))
        else:
            point = old.replace(**{self._part: place})
        points = (*self._shape.points[: self._number], point, *self._shape.points[self._number + 1 :])
        cutting.change_shape(self.session, self._index, self._shape.replace(points=points))
