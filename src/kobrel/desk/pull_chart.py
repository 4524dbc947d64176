"""The Pull chart: frames across, distance up, even in dioptres like the Barrel.

A thin line for each subject, heavy where it is sharp; the focus in brass with the sharp
band about it; marks as open rings. Stop and focal length, where they have keys, are diamonds on lines of
their own scales. The focus line is outlined where the ring would have to turn too fast.
"""

import math
from functools import reduce

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
)
from PySide6.QtWidgets import QMenu, QWidget

from kobrel.desk import briefing, pulling, taping
from kobrel.desk.asked import paint_asked, paint_stroke, subject_at
from kobrel.desk.keys import Held, Keys
from kobrel.desk.look import faded, look
from kobrel.desk.paint import Panel, draw_text, metrics, state_colour
from kobrel.desk.scales import NEAREST_M, DioptreScale, nearest_of_interest_m
from kobrel.desk.session import Session
from kobrel.plan import pulls
from kobrel.plan.instrument import Wish
from kobrel.plan.model import DistanceTarget, Mark, SubjectTarget, Target
from kobrel.plan.pace import pace
from kobrel.plan.survey import GONE, SHARP, Survey
from kobrel.plan.tapes import measure_with

_LEFT, _RIGHT, _TOP, _BOTTOM = 46, 96, 54, 30
_RING = 6.0
_GRAB_PX = 9.0
_SNAP_PX = 7.0
_HINT = (
    "Drag to scrub. Drag a ring to move its mark in time and distance; it snaps to subjects.\n"
    "Double-click sets a mark. Right-click a mark for its ease. Delete removes the chosen marks.\n"
    "Shift and drag from one line to another draws a pull. Ctrl and click chooses several marks; drag "
    "them together; Ctrl+C and Ctrl+V copy them to the frame. Diamonds are keys of the stop (hollow) and the "
    "focal length: drag them."
)


class PullChart(Panel):
    """See the module."""

    title = "Pull"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Pull chart, focus over the frames of the shot", _HINT, parent)
        self._held: float | None = None
        self._scrubbing = False
        self._painting: tuple[int, float, float] | None = None
        self._drawing: tuple[QPointF, QPointF] | None = None
        self._together: int | None = None
        self._copied: list[Mark] = []
        self._keys = Keys(session, self.x_of)
        self._key: Held | None = None
        self._frozen: DioptreScale | None = None
        self._kept: tuple[tuple[object, ...], QPixmap] | None = None
        self.setMinimumHeight(120)

    # Geometry

    def scale(self) -> DioptreScale | None:
        """Distance upward; it stands still while a mark is dragged."""
        if self._frozen:
            return self._frozen
        numbers = self._session.survey
        if numbers is None:
            return None
        return DioptreScale(nearest_of_interest_m(numbers), self.height() - _BOTTOM, _TOP)

    def x_of(self, frame: float) -> float:
        """Where a frame stands."""
        shot = self._session.shot
        if shot is None or shot.last == shot.first:
            return float(_LEFT)
        return _LEFT + (frame - shot.first) / (shot.last - shot.first) * (self.width() - _LEFT - _RIGHT)

    def frame_at(self, x: float) -> int:
        """The frame at a place."""
        shot = self._session.shot
        if shot is None:
            return 0
        part = (x - _LEFT) / max(1.0, self.width() - _LEFT - _RIGHT)
        return round(shot.first + part * (shot.last - shot.first))

    @property
    def _brief(self) -> tuple[Wish, ...]:
        return self._session.shot.brief if self._session.shot else ()

    def mark_place(self, mark: Mark) -> QPointF | None:
        """Where a mark's ring stands; None before there are numbers."""
        scale, numbers, shot = self.scale(), self._session.survey, self._session.shot
        if scale is None or numbers is None or shot is None:
            return None
        row = int(np.clip(round(mark.frame) - shot.first, 0, len(numbers.frames) - 1))
        return QPointF(self.x_of(mark.frame), scale.px(float(numbers.camera.focus_m[row])))

    def _mark_at(self, at: QPointF) -> Mark | None:
        shot = self._session.shot
        for mark in shot.marks if shot else ():
            place = self.mark_place(mark)
            if place and math.hypot(at.x() - place.x(), at.y() - place.y()) <= _GRAB_PX:
                return mark
        return None

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        session = self._session
        shot, scale, numbers = session.shot, self.scale(), session.survey
        if shot is None or scale is None or numbers is None:
            painter = self.begin()
            draw_text(painter, QPointF(70, 18), session.problem, look().wrong, 12)
            return
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._still_part(scale, numbers))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._paint_names(painter, scale, numbers)
        if self._drawing:
            painter.setPen(QPen(look().focus, 2, Qt.PenStyle.DashLine))
            painter.drawLine(*self._drawing)
        if self._painting:
            paint_stroke(painter, session, scale, self.x_of, *self._painting)
        self._paint_tape(painter, scale, numbers)
        self._keys.top, self._keys.bottom = float(_TOP), float(self.height() - _BOTTOM)
        self._keys.paint(painter, numbers)
        for mark in shot.marks:
            place = self.mark_place(mark)
            if place and shot.first <= mark.frame <= shot.last:
                chosen = session.selected_mark == mark.frame or mark.frame in session.also_marked
                painter.setPen(QPen(look().focus, 2.4))
                painter.setBrush(look().focus if chosen else look().base)
                painter.drawEllipse(place, _RING, _RING)
        x_now = self.x_of(session.frame)
        painter.setPen(QPen(look().text, 1))
        painter.drawLine(QPointF(x_now, _TOP - 12), QPointF(x_now, self.height() - _BOTTOM + 6))
        draw_text(
            painter,
            QPointF(max(x_now, 24), _TOP - 15),
            str(session.frame),
            look().text,
            12,
            "centre",
            bold=True,
        )

    def _still_part(self, scale: DioptreScale, numbers: Survey) -> QPixmap:
        """Grid, band and curves, which do not depend on the frame, painted once."""
        key = (numbers, self._session.unit, scale, self.size(), look())
        if self._kept is None or self._kept[0] != key:
            ratio = self.devicePixelRatioF()
            pixmap = QPixmap(self.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(look().base)
            shot = self._session.shot
            assert shot is not None
            unit, most = self._session.unit.symbol, numbers.camera.coc_px
            note = f"frames {shot.first}–{shot.last}, distance in {unit}, even in dioptres; "
            painter = self.begin(f"{note}sharp is up to {most:.3g} px", pixmap)
            self._paint_grid(painter, scale)
            wide, tall = self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM
            painter.setClipRect(QRectF(_LEFT - 1, _TOP - 14, wide + 2, tall + 20))
            x = np.array([self.x_of(frame) for frame in numbers.frames])
            self._paint_band(painter, scale, numbers, x)
            self._paint_subjects(painter, scale, numbers, x)
            paint_asked(painter, self._session, scale, self.x_of, float(self.height() - _BOTTOM))
            focus = scale.px_of(numbers.camera.focus_m)
            hurried = pace(shot, numbers).too_fast
            for pen in (QPen(look().wrong, 7), QPen(look().panel, 4.5)):
                painter.setPen(pen)
                _polyline(painter, x, np.where(hurried, focus, np.nan))
            painter.setPen(QPen(look().focus, 2))
            _polyline(painter, x, focus)
            painter.end()
            self._kept = key, pixmap
        return self._kept[1]

    def _paint_grid(self, painter: QPainter, scale: DioptreScale) -> None:
        shot = self._session.shot
        right = self.width() - _RIGHT
        for metres, label in scale.ticks(self._session.unit, 19):
            y = scale.px(metres)
            painter.setPen(QPen(faded(look().line, 0.6), 1))
            painter.drawLine(QPointF(_LEFT, y), QPointF(right, y))
            draw_text(painter, QPointF(_LEFT - 8, y + 4), label, look().quiet, 11, "right")
        if shot is None:
            return
        span = max(1, shot.last - shot.first)
        step = next(
            s for s in (1, 2, 4, 6, 12, 24, 48, 96, 240, 480, 10**6) if s * (right - _LEFT) / span >= 58
        )
        for frame in range(shot.first, shot.last + 1, step):
            draw_text(
                painter, QPointF(self.x_of(frame), self.height() - 9), str(frame), look().quiet, 11, "centre"
            )

    def _paint_band(self, painter: QPainter, scale: DioptreScale, numbers: Survey, x: np.ndarray) -> None:
        near, far = scale.px_of(numbers.near_m), scale.px_of(numbers.far_m)
        outline = [QPointF(a, b) for a, b in zip(x, near, strict=True)]
        outline += [QPointF(a, b) for a, b in zip(x[::-1], far[::-1], strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(faded(look().sharp, 0.24))
        painter.drawPolygon(QPolygonF(outline))
        for edge, colour in ((near, look().nearer), (far, look().farther)):
            painter.setPen(QPen(colour, 1.2))
            _polyline(painter, x, edge)

    def _paint_subjects(self, painter: QPainter, scale: DioptreScale, numbers: Survey, x: np.ndarray) -> None:
        for row in range(len(numbers.subjects)):
            y = scale.px_of(numbers.focus_distance_m[row])
            state = numbers.state[row]
            painter.setPen(QPen(faded(look().quiet, 0.55), 1, Qt.PenStyle.DotLine))
            _polyline(painter, x, y)
            painter.setPen(QPen(look().quiet, 1.2))
            _polyline(painter, x, np.where(state != GONE, y, np.nan))
            asked = any(wish.subject == numbers.subjects[row] for wish in self._brief)
            painter.setPen(QPen(look().sharp, 1.6 if asked else 3.2))
            _polyline(painter, x, np.where(state == SHARP, y, np.nan))

    def _paint_tape(self, painter: QPainter, scale: DioptreScale, numbers: Survey) -> None:
        """How far the end of the chosen tape is over the frames, dashed."""
        tape, plan = taping.chosen(self._session), self._session.plan
        if tape is None:
            return
        measured = measure_with(numbers.camera, plan, self._session.stage, tape, numbers.frames)
        sight = numbers.camera.see(measured.end)
        distances = sight.straight_m if numbers.camera.surface == "sphere" else sight.axial_m
        places = scale.px_of(distances)
        painter.setPen(QPen(look().focus, 1.4, Qt.PenStyle.DashLine))
        points = [
            QPointF(self.x_of(float(frame)), float(y))
            for frame, y in zip(numbers.frames, places, strict=True)
            if math.isfinite(y) and _TOP - 4 <= y <= self.height() - _BOTTOM
        ]
        painter.drawPolyline(QPolygonF(points))

    def _paint_names(self, painter: QPainter, scale: DioptreScale, numbers: Survey) -> None:
        """Subjects' names at the right end, spread so that none covers another."""
        column = self._session.row
        labels = []
        for row, number in enumerate(numbers.subjects):
            seen = np.flatnonzero(numbers.state[row] != GONE)
            subject = self._session.plan.subject(number)
            distance = numbers.focus_distance_m[row, -1]
            if seen.size and subject and distance > 0:
                colour = state_colour(int(numbers.state[row, column]), bool(numbers.nearer[row, column]))
                labels.append((scale.px(float(distance)), f"{number} {subject.name}", colour))
        last = -1e9
        for y, text, colour in sorted(labels, key=lambda label: label[0]):
            at = max(y + 4, last + 13)
            if at < self.height() - _BOTTOM + 10:
                short = metrics(11).elidedText(text, Qt.TextElideMode.ElideRight, _RIGHT - 14)
                draw_text(painter, QPointF(self.width() - _RIGHT + 10, at), short, colour, 11)
                last = at

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self._session.shot is None:
            return
        tool, keys = self._session.tool, event.modifiers()
        if tool is not None and tool.does == "wish":
            self._begin_stroke(event.position())
            return
        mark = self._mark_at(event.position())
        if keys & Qt.KeyboardModifier.ShiftModifier:
            self._drawing = (event.position(), event.position())
            return
        if mark is not None and keys & Qt.KeyboardModifier.ControlModifier:
            self._session.select_also(mark.frame)
            return
        self._key = self._keys.at(event.position()) if mark is None else None
        if self._key:
            self._session.begin_drag()
            return
        if mark is None:
            self._session.select_mark(None)
            self._scrubbing = True
            self._session.dragging = True
            self._session.show_frame(self.frame_at(event.position().x()))
            return
        if mark.frame in self._session.also_marked or (
            self._session.also_marked and mark.frame == self._session.selected_mark
        ):
            self._together = self.frame_at(event.position().x())
        else:
            self._session.select_mark(mark.frame)
        self._frozen = self.scale()
        self._held = mark.frame
        self._session.begin_drag()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._painting:
            self._painting = (*self._painting[:2], float(self._frame_within(event.position().x())))
            self.update()
        elif self._scrubbing:
            self._session.show_frame(self.frame_at(event.position().x()))
        elif self._drawing:
            self._drawing = (self._drawing[0], event.position())
            self.update()
        elif self._key:
            frame = self._frame_within(event.position().x())
            self._key = self._keys.drag(self._key, float(frame), event.position().y())
        elif self._together is not None:
            at = self.frame_at(event.position().x())
            if at != self._together:
                pulling.move_by(self._session, at - self._together)
                self._together = at
        elif self._held is not None:
            self._drag_mark(event.position())
        else:
            over = self._mark_at(event.position()) is not None or self._keys.at(event.position()) is not None
            self.setCursor(Qt.CursorShape.OpenHandCursor if over else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drawing:
            self._end_pull()
        elif self._painting:
            self._end_stroke()
        elif self._scrubbing or self._held is not None or self._key:
            self._scrubbing, self._held, self._frozen, self._together = False, None, None, None
            self._key = None
            self._session.end_drag()
            self.update()

    def _frame_within(self, x: float) -> int:
        shot = self._session.shot
        return min(max(self.frame_at(x), shot.first), shot.last) if shot else 0

    def _begin_stroke(self, at: QPointF) -> None:
        """A wish is painted over the line that lies beneath the hand."""
        scale, shot = self.scale(), self._session.shot
        if scale is None or shot is None:
            return
        frame = self._frame_within(at.x())
        subject = subject_at(self._session, scale, frame - shot.first, at.y())
        if subject is None:
            self._session.said.emit("Paint along a subject's line, or along infinity for the far background.")
            return
        self._painting = (subject, float(frame), float(frame))
        self.update()

    def _end_pull(self) -> None:
        """A pull was drawn from one line to another."""
        start, end = self._drawing or (QPointF(), QPointF())
        self._drawing = None
        first, last = self._frame_within(start.x()), self._frame_within(end.x())
        if first == last:
            self._session.said.emit("Draw a pull over some frames, from one subject's line to another's.")
        else:
            targets = self._target_at(first, start.y()), self._target_at(last, end.y())
            pulling.draw_pull(self._session, float(first), targets[0], float(last), targets[1])
        self.update()

    def _end_stroke(self) -> None:
        tool, painting = self._session.tool, self._painting
        self._painting = None
        if tool is not None and painting is not None:
            subject, first, last = painting
            briefing.paint(self._session, subject, tool.wish, tool.px, first, last)
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        tool = self._session.tool
        painting = tool is not None and tool.does == "wish"
        if self._session.shot is None or painting or self._mark_at(event.position()):
            return
        frame = self.frame_at(event.position().x())
        self._scrubbing = False
        self._session.end_drag()
        self._session.show_frame(frame)
        target = self._target_at(self._session.frame, event.position().y())
        at = float(self._session.frame)
        self._session.edit_shot(f"Set mark at {at:g}", lambda shot: pulls.set_mark(shot, at, target))
        self._session.select_mark(at)

    def _target_at(self, frame: float, y: float) -> Target:
        """The subject whose line passes close by, or else the distance there."""
        scale, numbers, shot = self.scale(), self._session.survey, self._session.shot
        assert scale is not None
        assert numbers is not None
        assert shot is not None
        column = int(np.clip(round(frame) - shot.first, 0, len(numbers.frames) - 1))
        places = scale.px_of(numbers.focus_distance_m[:, column])
        if len(places) and np.any(np.abs(places - y) <= _SNAP_PX):
            return SubjectTarget(number=numbers.subjects[int(np.nanargmin(np.abs(places - y)))])
        return DistanceTarget(metres=max(scale.metres(y), NEAREST_M))

    def _drag_mark(self, at: QPointF) -> None:
        """Move the held mark; it stays between its neighbours and within the shot."""
        shot, held = self._session.shot, self._held
        if shot is None or held is None:
            return
        wanted = min(max(self.frame_at(at.x()), shot.first), shot.last)
        moved = pulls.move_mark(shot, held, float(wanted))
        index = [mark.frame for mark in shot.marks].index(held)
        frame = moved.marks[index].frame
        target = self._target_at(frame, at.y())
        self._held = frame
        self._session.selected_mark = frame
        self._session.edit_shot("Move mark", lambda _shot: pulls.set_mark(moved, frame, target))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        mark, key = self._mark_at(QPointF(event.pos())), self._keys.at(QPointF(event.pos()))
        if mark is None:
            if key is not None:
                menu = QMenu(self)
                remove = menu.addAction(f"Remove the {key.line.name.lower()} key at {key.frame:g}")
                remove.triggered.connect(lambda: self._keys.remove(key))
                menu.exec(event.globalPos())
            return
        if mark.frame not in pulling.chosen_frames(self._session):
            self._session.select_mark(mark.frame)
        menu = QMenu(self)
        for ease, text in pulling.EASES.items():
            action = menu.addAction(f"{text} to the next mark")
            action.setCheckable(True)
            action.setChecked(mark.ease == ease)
            action.triggered.connect(lambda _on, e=ease: pulling.set_ease(self._session, mark, e))
        menu.addSeparator()
        hold = menu.addAction(f"Hold until {self._session.frame}")
        hold.triggered.connect(lambda: pulling.hold_here(self._session, mark))
        mirror = menu.addAction("Mirror the chosen marks in time")
        mirror.setEnabled(bool(self._session.also_marked))
        mirror.triggered.connect(lambda: pulling.move_by(self._session, 0, -1.0))
        delete = menu.addAction("Delete mark")
        shot = self._session.shot
        delete.setEnabled(bool(shot and len(shot.marks) > 1))
        delete.triggered.connect(self.delete_selected)
        menu.exec(event.globalPos())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self._copied = pulling.copied(self._session)
            self._session.said.emit(f"Copied {len(self._copied)} marks. Ctrl+V puts them where the frame is.")
        elif event.matches(QKeySequence.StandardKey.Paste):
            pulling.paste(self._session, self._copied)
        elif event.matches(QKeySequence.StandardKey.SelectAll):
            shot = self._session.shot
            self._session.also_marked = frozenset(mark.frame for mark in shot.marks) if shot else frozenset()
            self.update()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.delete_selected()
        else:
            super().keyPressEvent(event)

    def delete_selected(self) -> None:
        """Delete the chosen marks; the last one of a shot stays."""
        shot, frames = self._session.shot, pulling.chosen_frames(self._session)
        if shot is None or not frames:
            return
        if len(shot.marks) == len(frames):
            self._session.said.emit("A shot keeps at least one mark: it says where the focus is.")
            return
        name = f"Delete mark at {frames[0]:g}" if len(frames) == 1 else f"Delete {len(frames)} marks"
        self._session.edit_shot(name, lambda s: reduce(pulls.remove_mark, frames, s))


def _polyline(painter: QPainter, x: np.ndarray, y: np.ndarray) -> None:
    """Lines through points, broken where a value is missing."""
    run: list[QPointF] = []
    for a, b in zip(x, y, strict=True):
        if math.isfinite(b):
            run.append(QPointF(a, b))
        elif run:
            painter.drawPolyline(QPolygonF(run))
            run = []
    if run:
        if len(run) == 1:
            painter.drawPoint(run[0])
        painter.drawPolyline(QPolygonF(run))
