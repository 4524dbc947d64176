"""The Barrel: the distance scale of a lens, laid out flat.

Near at the left, infinity at the right, even in dioptres. The brass index is the focus,
the ivory band what is sharp, numbered tags with flags are the subjects; the grey fringe shows
how much of the picture lies at each distance. About the index the limits of every full stop
are engraved; H is the hyperfocal distance. Where there is a brief, an ivory bar shows where the
focus meets it at this stop, and an open wedge the focus with the widest choice of stops.
"""

import math
from dataclasses import astuple
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QAccessible, QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.barrel.flags import MARGIN, Flag, flags_of
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Drag, Gesture, Keys
from kobrel.desk.toolkit.paint import (
    TAG_RADIUS,
    draw_limit,
    draw_tag,
    draw_text,
    draw_wedge,
    hatch,
    subject_colour,
    text_width,
)
from kobrel.desk.toolkit.panel import Panel
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.memo import Memo
from kobrel.optics.exposure import FULL_STOPS
from kobrel.optics.lens import Numbers, half_band_dpt
from kobrel.optics.reach import StopRange, focus_bands, nearness_of
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import GONE, NEAREST_M
from kobrel.plan.model import SubjectTarget
from kobrel.session.commands import briefing, taping
from kobrel.session.commands.focusing import focus_at_m, focus_distance, focus_on, focus_on_subject, sharp_to
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session

_SNAP_PX = 4
_GRAB_PX = 7
_STOP_GAP_PX = 17
_CLEAR_PX = 10
_BAND, _SLIM_BAND = 25.0, 13.0
_HEIGHT, _SLIM_HEIGHT = 140, 56
_READING = 84.0
"""Room at the left of a slim Barrel, where the focus is written."""
_OUT_M = 0.1
_MOST_ZOOM = 200.0
_HINT = (
    "Drag the index to focus, a band end to change the stop. Click a tag to focus on it. Wheel: focus "
    "(Shift: fine, Ctrl: zoom). B: collapse"
)


class Fringe(NamedTuple):
    """Columns beneath the scale: their left ends and heights, pixels."""

    left: Numbers
    tall: Numbers


class _DragFocus(Drag):
    """Moves the focus along the scale; it snaps to subjects."""

    def __init__(
        self, session: Session, scale: DioptreScale, flags: list[Flag], subjects: tuple[int, ...]
    ) -> None:
        super().__init__(session)
        self._scale = scale
        self._snaps = [(scale.px(flag.distance_m), subjects[flag.row]) for flag in flags]

    def begin(self, at: QPointF) -> None:
        super().begin(at)
        self.move(at, Keys.NoModifier)

    def move(self, at: QPointF, keys: Keys) -> None:
        for x, number in self._snaps:
            if abs(x - at.x()) <= _SNAP_PX and self.session.plan.subject(number) is not None:
                focus_on(self.session, SubjectTarget(number=number))
                return
        focus_at_m(self.session, max(self._scale.metres(at.x()), NEAREST_M))


class _DragLimit(Drag):
    """Moves an end of the sharp band, by the stop."""

    def __init__(self, session: Session, scale: DioptreScale, focus_m: float, near: bool) -> None:
        super().__init__(session)
        self._scale, self._focus_m, self._near = scale, focus_m, near

    def move(self, at: QPointF, keys: Keys) -> None:
        metres = max(self._scale.metres(at.x()), NEAREST_M)
        limit = min(metres, self._focus_m * 0.9999) if self._near else max(metres, self._focus_m * 1.0001)
        sharp_to(self.session, limit)


@guarded
class Barrel(Panel):
    """The Barrel: the distance scale of a lens, laid out flat."""

    title = "Barrel"
    spoken_role = QAccessible.Role.Slider
    depends = (*AT_FRAME, Selection.item, Document.dragging)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Barrel, distance scale of the lens", _HINT, parent)
        self._zoom = 1.0
        self.slim = False
        self._still: DioptreScale | None = None
        self._depth: NDArray[np.float32] | None = None
        self._fringe = Memo[Fringe]()
        self.sharp_part = 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(600, _SLIM_HEIGHT if self.slim else _HEIGHT)

    def show_slim(self, on: bool) -> None:
        """Fold to a line with the scale, the tags and the focus, or unfold."""
        self.slim = on
        self.updateGeometry()
        self.update()

    def show_depth(self, depth: NDArray[np.float32], sharp_part: float) -> None:
        """Take the picture's depth, metres, for the fringe, and how much of it is sharp, 0 to 1."""
        self._depth, self.sharp_part = depth, sharp_part
        self.update()

    # Geometry

    def scale(self) -> DioptreScale | None:
        """The scale; it stands still while something on it is dragged."""
        now = self._session.now
        return self._scale(now) if now else None

    def _scale(self, now: Now) -> DioptreScale:
        if self._still is not None and self.gesture is not None:
            return self._still
        nearest = now.survey.nearest_of_interest_m
        whole = DioptreScale(nearest, self.left, self.width() - MARGIN - 4)
        return whole if self._zoom == 1.0 else whole.zoomed(self._zoom, float(now.camera.focus_m))

    def zoom(self, by: float) -> None:
        """Show a smaller part of the scale about the focus, or a larger one, out to 10 cm."""
        now = self._session.now
        if now is not None:
            least = min(1.0, _OUT_M / now.survey.nearest_of_interest_m)
            self._zoom = min(max(self._zoom * by, least), _MOST_ZOOM)
            self.update()

    def zoom_out(self) -> None:
        """Show all that matters in the shot."""
        self._zoom = 1.0
        self.update()

    @property
    def line_y(self) -> float:
        """Height of the engraved line."""
        return self.height() - (19.0 if self.slim else 46.0)

    @property
    def left(self) -> float:
        """Where the scale begins."""
        return MARGIN + (_READING if self.slim else 0.0)

    @property
    def _band(self) -> float:
        """Height of the band over the line."""
        return _SLIM_BAND if self.slim else _BAND

    def flags(self) -> list[Flag]:
        """Flags of the subjects before the camera."""
        now = self._session.now
        if now is None:
            return []
        row = 12.0 if self.slim else 40.0
        return flags_of(
            self._session, now, self._scale(now), (self.left, self.width() - MARGIN), row, not self.slim
        )

    def tag_places(self) -> list[tuple[int, QPointF, float]]:
        """Tags of the subjects before the camera: (row, centre, distance)."""
        return [(flag.row, flag.tag, flag.distance_m) for flag in self.flags()]

    # Painting

    def paint(self, now: Now) -> None:
        session, scale, camera = self._session, self._scale(now), now.camera
        surface = "straight-line from lens" if camera.surface == "sphere" else "on axis from lens"
        note = f"{session.unit.symbol}, {surface} · in focus up to {camera.coc_px:.3g} px"
        answer = briefing.stop_range(session)
        said = self._reading(answer)
        room = self.width() - 100 - text_width(said, 12)
        painter = self.begin("" if self.slim or text_width(note, 12) >= room else note)
        if not self.slim:
            draw_text(painter, QPointF(self.width() - 12, 18), said, theme().sharp, 12, "right")
        y, band, start = self.line_y, self._band, self.left - 10
        near, far = (float(limit) for limit in camera.limits_m)
        left, right = max(scale.px(near), start), scale.px(far)
        focus = scale.px(float(camera.focus_m))
        end = self.width() - MARGIN + 10
        painter.fillRect(QRectF(start, y - band, left - start, band), hatch(near=True))
        painter.fillRect(QRectF(right, y - band, end - right, band), hatch(near=False))
        painter.fillRect(QRectF(left, y - band, right - left, band), faded(theme().sharp, 0.30))
        painter.setPen(QPen(theme().line, 1))
        painter.drawLine(QPointF(start, y), QPointF(end, y))
        self._paint_ticks(painter, scale, camera)
        draw_limit(painter, left, y - band - 1, y, near=True)
        draw_limit(painter, right, y - band - 1, y, near=False)
        flags = self.flags()
        if not self.slim:
            self._paint_fringe(painter, scale, (left, right))
            lines = [left, right, focus, *(scale.px(flag.distance_m) for flag in flags)]
            self._paint_engraved(painter, scale, camera, lines)
        self._paint_tapes(painter, scale, camera)
        self._paint_flags(painter, now, scale, flags)
        if not self.slim:
            self._paint_brief(painter, scale, camera, answer)
        painter.setPen(QPen(theme().focus, 2))
        painter.drawLine(QPointF(focus, y - band), QPointF(focus, y))
        draw_wedge(painter, QPointF(focus, y if self.slim else y - band - 1))
        text = session.length(float(camera.focus_m))
        if self.slim:
            draw_text(painter, QPointF(10, 40), text, theme().focus, 14, bold=True)
        else:
            edge = min(max(focus, MARGIN + 20), self.width() - MARGIN - 20)
            self._paint_focus_text(painter, QPointF(edge, y - 34), text)
        if self.hasFocus():
            painter.setPen(QPen(theme().line, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 4, 4)

    @staticmethod
    def _paint_focus_text(painter: QPainter, at: QPointF, text: str) -> None:
        """The focus distance, on a ground of its own over the leaders."""
        width = text_width(text, 14, True)
        painter.fillRect(QRectF(at.x() - width / 2 - 4, at.y() - 12, width + 8, 15), theme().panel)
        draw_text(painter, at, text, theme().focus, 14, "centre", bold=True)

    def _reading(self, answer: StopRange | None) -> str:
        """What is said at the right: how much of the picture is sharp, and what the brief wants."""
        said = [] if self._depth is None else [f"{self.sharp_part:.0%} of the frame in focus"]
        if answer is not None:
            said.append(f"brief met: f/{answer.least:.3g}–f/{answer.greatest:.3g}")
        elif (judged := self._session.judged) is not None and judged.asks(self._session.row):
            said.append("brief: not possible at this frame")
        return "    ".join(said)

    def _paint_ticks(self, painter: QPainter, scale: DioptreScale, camera: Camera) -> None:
        """The engraved distances, clear of the hyperfocal sign."""
        y, sign = self.line_y, None if self.slim else self._hyperfocal_px(scale, camera)
        for metres, label in scale.ticks(self._session.unit, 36):
            x = scale.px(metres)
            painter.setPen(QPen(theme().text, 1.4))
            painter.drawLine(QPointF(x, y), QPointF(x, y + (4 if self.slim else 8)))
            if label == "∞" or sign is None or abs(x - sign) >= 22:
                draw_text(
                    painter, QPointF(x, y + (15 if self.slim else 22)), label, theme().text, 12, "centre"
                )

    def _paint_engraved(
        self, painter: QPainter, scale: DioptreScale, camera: Camera, lines: list[float]
    ) -> None:
        """Limits of every full stop about the focus, those of wide stops where there is room; and
        the hyperfocal sign. Numbers keep clear of lines.
        """
        if camera.projection == "orthographic":
            return
        y, focus = self.line_y, scale.px(float(camera.focus_m))
        half = float(
            half_band_dpt(camera.focal_mm, 1.0, camera.focus_m, camera.coc_mm, camera.model)
        )  # at f/1, and so many times as wide at any other
        centre = 1.0 / float(camera.focus_m)
        at = {-1: focus, 1: focus}
        quiet = faded(theme().text, 0.75)
        for stop in FULL_STOPS:
            for side in (-1, 1):  # nearer, farther
                dpt = centre - side * half * stop
                x = scale.px(1.0 / dpt) if dpt > 0 else math.inf
                if abs(x - at[side]) < _STOP_GAP_PX or not MARGIN - 4 <= x <= self.width() - MARGIN:
                    continue
                at[side] = x
                painter.setPen(QPen(quiet, 1))
                painter.drawLine(QPointF(x, y - 25), QPointF(x, y - 18))
                if all(abs(x - line) > _CLEAR_PX for line in lines):
                    draw_text(painter, QPointF(x, y - 6), f"{stop:g}", quiet, 11, "centre")
        sign = self._hyperfocal_px(scale, camera)
        if sign is not None:
            painter.setPen(QPen(theme().text, 1.4))
            x = scale.px(float(camera.hyperfocal_m))
            painter.drawPolyline([QPointF(x, y), QPointF(x, y + 5), QPointF(sign, y + 9)])
            painter.setBrush(theme().panel)
            painter.drawRoundedRect(QRectF(sign - 7, y + 9, 14, 15), 3, 3)
            draw_text(painter, QPointF(sign, y + 21), "H", theme().text, 11, "centre", bold=True)

    def _hyperfocal_px(self, scale: DioptreScale, camera: Camera) -> float | None:
        """Where the hyperfocal sign stands, clear of infinity's; None where it is out of sight."""
        if camera.projection == "orthographic":
            return None
        x = scale.px(float(camera.hyperfocal_m))
        if not MARGIN - 4 <= x <= self.width() - MARGIN + 4:
            return None
        return min(x, scale.px(math.inf) - 20.0)

    def _paint_flags(self, painter: QPainter, now: Now, scale: DioptreScale, flags: list[Flag]) -> None:
        """Depths and leaders first, then the flags over them."""
        session, numbers = self._session, now.survey
        y = self.line_y
        for flag in flags:
            colour = subject_colour(numbers, flag.row, session.row)
            subject = session.plan.subject(numbers.subjects[flag.row])
            x = scale.px(flag.distance_m)
            if subject is not None and subject.half_depth_m > 0:
                near_side = max(flag.distance_m - subject.half_depth_m, NEAREST_M)
                painter.setPen(QPen(colour, 4))
                painter.drawLine(
                    QPointF(scale.px(near_side), y - 3),
                    QPointF(scale.px(flag.distance_m + subject.half_depth_m), y - 3),
                )
            painter.setPen(QPen(colour, 1.4))
            painter.drawPolyline([QPointF(x, y), QPointF(x, y - self._band - 2), flag.tag])
        for flag in flags:
            colour = subject_colour(numbers, flag.row, session.row)
            if flag.text:
                painter.setPen(QPen(colour, 1))
                painter.setBrush(theme().base)
                painter.drawRoundedRect(flag.box, TAG_RADIUS, TAG_RADIUS)
                at = QPointF(flag.tag.x() + TAG_RADIUS + 4, flag.tag.y() + 4)
                draw_text(painter, at, flag.text, colour, 11)
            gone = bool(numbers.state[flag.row, session.row] == GONE)
            draw_tag(painter, flag.tag, numbers.subjects[flag.row], colour, gone)

    def _paint_brief(
        self, painter: QPainter, scale: DioptreScale, camera: Camera, answer: StopRange | None
    ) -> None:
        """Where the focus meets the brief at this stop, and where the choice of stops is widest."""
        judged = self._session.judged
        if judged is None or not judged.asks(self._session.row):
            return
        one = judged.brief.at(self._session.row)
        low, high = focus_bands(one.numbers(), one.lens(), float(camera.f_number))
        low, high = (nearness_of(side, one.focal_mm[0], one.model) for side in (low, high))
        y = self.line_y - 30
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().sharp)
        for near, far in zip(high[0], low[0], strict=True):
            if near >= far:
                left, right = (scale.px(1.0 / d if d > 1e-9 else math.inf) for d in (near, far))
                left = max(left, MARGIN - 10.0)
                painter.drawRect(QRectF(left, y, max(right - left, 2.0), 3))
        at = self.answer_place()
        if answer is not None and at is not None:
            path = [at, at + QPointF(-6, -9), at + QPointF(6, -9)]
            painter.setPen(QPen(theme().sharp, 1.6))
            painter.setBrush(QColor(theme().panel))
            painter.drawPolygon(path)

    def answer_place(self) -> QPointF | None:
        """Where the open wedge of the brief's answer stands; None without one in sight."""
        answer, scale = briefing.stop_range(self._session), self.scale()
        if answer is None or scale is None or self.slim:
            return None
        x = scale.px(1.0 / answer.x if answer.x > 1e-9 else math.inf)
        return QPointF(x, self.line_y - 31) if MARGIN - 12 <= x <= self.width() else None

    def _paint_tapes(self, painter: QPainter, scale: DioptreScale, camera: Camera) -> None:
        """Where the far ends of tapes lie, as dashed ticks."""
        for tape in self._session.plan.tapes:
            numbers = taping.numbers_of(self._session, tape)
            distance = focus_distance(camera, numbers.end[0]) if numbers else math.nan
            if distance > 0 and scale.px(distance) > self.left - 10:
                chosen = self._session.selection.tape == tape.name
                colour = theme().focus if chosen else theme().text
                painter.setPen(QPen(colour, 1.4, Qt.PenStyle.DashLine))
                x = scale.px(distance)
                foot = self.line_y + (4 if self.slim else 8)
                painter.drawLine(QPointF(x, self.line_y - self._band), QPointF(x, foot))

    def _paint_fringe(self, painter: QPainter, scale: DioptreScale, sharp: tuple[float, float]) -> None:
        """How much of the picture lies at each distance: columns beneath the scale, ivory where
        it is sharp.
        """
        if self._depth is None:
            return
        quiet, lit = faded(theme().quiet, 0.55), faded(theme().sharp, 0.9)
        painter.setPen(Qt.PenStyle.NoPen)
        bottom = self.height() - 5
        for x, height in zip(*self._columns(self._depth, scale), strict=False):
            painter.setBrush(lit if sharp[0] <= x + 2.5 <= sharp[1] else quiet)
            if height > 0.4:
                painter.drawRect(QRectF(x + 0.5, bottom - height, 4, height))

    def _columns(self, depth: NDArray[np.float32], scale: DioptreScale) -> Fringe:
        def make() -> Fringe:
            edges = np.arange(MARGIN - 10, self.width() - MARGIN + 12, 5.0)
            with np.errstate(divide="ignore"):
                places = scale.px_of(depth.ravel()[::3].astype(float))
            counts, _ = np.histogram(places, edges)
            return Fringe(edges[:-1], np.sqrt(counts / max(counts.max(), 1)) * 15)

        return self._fringe.get((depth, astuple(scale), self.width()), make)

    # Mouse, wheel and keys

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        if event.button() != Qt.MouseButton.LeftButton:
            return None
        at, scale, flags = event.position(), self._scale(now), self.flags()
        for flag in flags:
            if flag.box.adjusted(-2, -2, 2, 2).contains(at):
                focus_on_subject(self._session, now.survey.subjects[flag.row])
                return None
        wedge = self.answer_place()
        under_index = wedge is not None and abs(wedge.x() - scale.px(float(now.camera.focus_m))) < 7
        if (
            wedge is not None
            and not under_index
            and QRectF(wedge.x() - 8, wedge.y() - 11, 16, 13).contains(at)
        ):
            briefing.take_here(self._session)
            return None
        self._still = scale
        part = self._part_at(now, at)
        if part == "focus":
            return _DragFocus(self._session, scale, flags, now.survey.subjects)
        return _DragLimit(self._session, scale, float(now.camera.focus_m), part == "near")

    def _part_at(self, now: Now, at: QPointF) -> str:
        """What a press takes hold of: an end of the band, or else the index."""
        scale, camera = self._scale(now), now.camera
        near, far = (scale.px(float(limit)) for limit in camera.limits_m)
        to_index = abs(at.x() - scale.px(float(camera.focus_m)))
        for part, x in (("near", near), ("far", far)):
            if abs(at.x() - x) <= _GRAB_PX and (
                abs(at.x() - x) < to_index or at.y() > self.line_y - self._band / 2
            ):
                return part
        return "focus"

    def take_hover(self, now: Now, event: QMouseEvent) -> None:
        shapes = Qt.CursorShape
        part = self._part_at(now, event.position())
        self.setCursor(shapes.PointingHandCursor if part == "focus" else shapes.SplitHCursor)

    def wheelEvent(self, event: QWheelEvent) -> None:
        turn = event.angleDelta().y() or event.angleDelta().x()  # with Shift some platforms turn the axis
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1.25 ** (turn / 120.0))
        else:
            self._move_px(turn / 120.0 * (0.4 if fine else 4.0))
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Down: -1.0}
        if event.key() in steps:
            fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._move_px(steps[Qt.Key(event.key())] * (0.4 if fine else 4.0))
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.25)
        elif event.key() == Qt.Key.Key_Minus:
            self.zoom(0.8)
        elif event.key() == Qt.Key.Key_0:
            self.zoom_out()
        else:
            super().keyPressEvent(event)

    def _move_px(self, pixels: float) -> None:
        now = self._session.now
        if now is not None:
            scale = self._scale(now)
            place = min(scale.px(float(now.camera.focus_m)) + pixels, scale.far_px)
            focus_at_m(self._session, max(scale.metres(place), NEAREST_M))
