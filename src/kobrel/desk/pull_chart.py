"""The Pull chart: frames across, distance up, even in dioptres like the Barrel.

A thin line for each subject, heavy where it is sharp; the focus in brass with the sharp
band about it; marks as open rings. Stop and focal length, where they have keys, are diamonds on lines of
their own scales. The focus line is outlined where the ring would have to turn too fast.
"""

import math
from collections.abc import Callable
from functools import partial, reduce

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
)
from PySide6.QtWidgets import QMenu, QWidget

from kobrel.desk import briefing, pulling
from kobrel.desk.asked import paint_stroke, subject_at
from kobrel.desk.handles import Span, handle_at, mark_span
from kobrel.desk.keys import Held, Keys
from kobrel.desk.look import look
from kobrel.desk.paint import Panel, draw_text
from kobrel.desk.pull_lines import (
    Plot,
    paint_cues,
    paint_lane,
    paint_lane_now,
    paint_names,
    paint_tape,
    paint_unseen,
)
from kobrel.desk.pull_still import Still
from kobrel.desk.scales import NEAREST_M, DioptreScale, nearest_of_interest_m
from kobrel.desk.session import Session
from kobrel.plan import pulls
from kobrel.plan.cues import cue_frames, snapped
from kobrel.plan.model import DistanceTarget, Mark, PointTarget, SubjectTarget, Target
from kobrel.plan.survey import Survey

_LEFT, _RIGHT, _TOP, _BOTTOM = 46, 96, 54, 30
_LANE, _ROOM_FOR_LANE = 34.0, 250
_RING = 6.0
_GRAB_PX = 9.0
_SNAP_PX = 7.0
_HINT = (
    "Drag to scrub. Drag a ring to move its mark in time and distance; it snaps to subjects.\n"
    "Double-click sets a mark. Right-click a mark or key for its ease. Delete removes the chosen marks.\n"
    "Shift and drag from one line to another draws a pull. Ctrl and click chooses several marks; drag "
    "them together, with Alt apart; Ctrl+C and Ctrl+V copy them to the frame. Marks snap to subjects, other "
    "marks, cues and the frame, unless Alt is held. Diamonds are keys of the stop (hollow) and the "
    "focal length: drag them, and the small rings of an own ease."
)


class PullChart(Panel):
    """See the module."""

    title = "Pull"
    prompt = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Pull chart, focus over the frames of the shot", _HINT, parent)
        self._held: float | None = None
        self._scrubbing = self._freely = False
        self._painting: tuple[int, float, float] | None = None
        self._drawing: tuple[QPointF, QPointF] | None = None
        self._together: int | None = None
        self._lifted, self._lifting = 0.0, False
        self._copied: list[Mark] = []
        self._keys = Keys(session, self.x_of)
        self._key: Held | None = None
        self._handle: tuple[int, int] | None = None
        self._frozen: DioptreScale | None = None
        self._nearest: tuple[Survey, float] | None = None
        self._still = Still(session, self)
        self.setMinimumHeight(120)

    # Geometry

    def scale(self) -> DioptreScale | None:
        """Distance upward; it stands still while a mark is dragged."""
        if self._frozen:
            return self._frozen
        numbers = self._session.survey
        if numbers is None:
            return None
        if self._nearest is None or self._nearest[0] is not numbers:
            self._nearest = numbers, nearest_of_interest_m(numbers)
        return DioptreScale(self._nearest[1], self.height() - self._bottom, _TOP)

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
        plot = self._plot(scale)
        painter.drawPixmap(0, 0, self._still.picture(plot, numbers))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        paint_lane(painter, session, plot, numbers)
        paint_names(painter, session, plot, numbers)
        paint_cues(painter, session, plot)
        if self._drawing:
            painter.setPen(QPen(look().focus, 2, Qt.PenStyle.DashLine))
            painter.drawLine(*self._drawing)
        if self._painting:
            paint_stroke(painter, session, scale, self.x_of, *self._painting)
        paint_tape(painter, session, plot, numbers)
        paint_unseen(painter, session, plot)
        paint_lane_now(painter, session, plot, numbers)
        self._keys.top, self._keys.bottom = float(_TOP), float(self.height() - self._bottom)
        self._keys.paint(painter, numbers)
        for span in self.own_eases():
            span.paint(painter)
        for mark in shot.marks:
            place = self.mark_place(mark)
            if place and shot.first <= mark.frame <= shot.last:
                chosen = session.selected_mark == mark.frame or mark.frame in session.also_marked
                painter.setPen(QPen(look().focus, 2.4))
                painter.setBrush(look().focus if chosen else look().base)
                painter.drawEllipse(place, _RING, _RING)
        x_now = self.x_of(session.frame)
        painter.setPen(QPen(look().text, 1))
        painter.drawLine(QPointF(x_now, _TOP - 12), QPointF(x_now, self.height() - self._bottom + 6))
        draw_text(
            painter,
            QPointF(max(x_now, 24), _TOP - 15),
            str(session.frame),
            look().text,
            12,
            "centre",
            bold=True,
        )

    def _plot(self, scale: DioptreScale) -> Plot:
        """Where lines are drawn."""
        right, bottom = self.width() - _RIGHT, self.height() - self._bottom
        lane = QRectF(_LEFT, bottom + 4, right - _LEFT, self._lane) if self._lane else None
        return Plot(scale, self.x_of, QRectF(_LEFT, _TOP, right - _LEFT, bottom - _TOP), lane)

    def own_eases(self) -> list[Span]:
        """The moves whose handles can be dragged: of the mark in work, and of keys about the frame."""
        scale = self.scale()
        if scale is None:
            return []
        span = mark_span(self._session, self._plot(scale))
        return [*([span] if span else []), *self._keys.spans()]

    @property
    def _lane(self) -> float:
        """Height of the lane for speed and breathing; 0 where there is no room."""
        return _LANE if self.height() >= _ROOM_FOR_LANE else 0.0

    @property
    def _bottom(self) -> float:
        return _BOTTOM + (self._lane + 8 if self._lane else 0.0)

    # Hands

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() != Qt.MouseButton.LeftButton or self._session.shot is None:
            return
        tool, keys = self._session.tool, event.modifiers()
        if tool is not None and tool.does == "wish":
            self._begin_stroke(event.position())
            return
        self._freely = bool(keys & Qt.KeyboardModifier.AltModifier)
        mark = self._mark_at(event.position())
        if keys & Qt.KeyboardModifier.ShiftModifier:
            self._drawing = (event.position(), event.position())
            return
        if mark is not None and keys & Qt.KeyboardModifier.ControlModifier:
            self._session.select_also(mark.frame)
            return
        self._handle = handle_at(self.own_eases(), event.position()) if mark is None else None
        self._key = self._keys.at(event.position()) if mark is None and self._handle is None else None
        if self._key or self._handle:
            self._frozen = self.scale()
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
            self._lifted = event.position().y()
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
        elif self._handle:
            row, which = self._handle
            for span in self.own_eases()[row : row + 1]:
                span.drag(which, event.position())
        elif self._key:
            frame = self._frame_within(event.position().x())
            self._key = self._keys.drag(self._key, float(frame), event.position().y())
        elif self._together is not None:
            self._lift_together(event.position().y())
            at = self.frame_at(event.position().x())
            if at != self._together:
                if self._goes_freely(event):
                    pulling.stretch_to(self._session, self._together, at)
                else:
                    pulling.move_by(self._session, at - self._together)
                self._together = at
        elif self._held is not None:
            self._drag_mark(event.position(), self._goes_freely(event))
        else:
            over = self._mark_at(event.position()) is not None or self._keys.at(event.position()) is not None
            self.setCursor(Qt.CursorShape.OpenHandCursor if over else Qt.CursorShape.ArrowCursor)

    def _goes_freely(self, event: QMouseEvent) -> bool:
        """Whether Alt is held, or was when the hand took hold."""
        return self._freely or bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drawing:
            self._end_pull()
        elif self._painting:
            self._end_stroke()
        elif self._scrubbing or self._held is not None or self._key or self._handle:
            self._scrubbing, self._held, self._frozen, self._together = False, None, None, None
            self._key, self._handle, self._lifting = None, None, False
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

    def _target_at(self, frame: float, y: float, own: float | None = None, freely: bool = False) -> Target:
        """The subject whose line passes close by, or the distance of another mark that is as high, or
        else the distance there.
        """
        scale, numbers, shot = self.scale(), self._session.survey, self._session.shot
        assert scale is not None
        assert numbers is not None
        assert shot is not None
        column = int(np.clip(round(frame) - shot.first, 0, len(numbers.frames) - 1))
        if freely:
            return DistanceTarget(metres=max(scale.metres(y), NEAREST_M))
        places = scale.px_of(numbers.focus_distance_m[:, column])
        if len(places) and np.any(np.abs(places - y) <= _SNAP_PX):
            return SubjectTarget(number=numbers.subjects[int(np.nanargmin(np.abs(places - y)))])
        for mark in shot.marks:
            other = mark.target
            if (
                mark.frame != own
                and isinstance(other, DistanceTarget)
                and abs(scale.px(other.metres) - y) < _SNAP_PX
            ):
                return other
        return DistanceTarget(metres=max(scale.metres(y), NEAREST_M))

    def _lift_together(self, y: float) -> None:
        """Move the chosen marks nearer or farther, once the hand has clearly gone up or down."""
        scale = self.scale()
        if scale is None or (abs(y - self._lifted) <= _SNAP_PX and not self._lifting):
            return
        by = 1.0 / scale.metres(y) - 1.0 / scale.metres(self._lifted)
        self._lifted, self._lifting = y, True
        pulling.lift_by(self._session, by)

    def _drag_mark(self, at: QPointF, freely: bool) -> None:
        """Move the held mark; it stays between its neighbours and within the shot. Unless it is to go
        freely, it snaps to cues, to the frame that is shown, to subjects, and to other marks' distances.
        """
        shot, held = self._session.shot, self._held
        if shot is None or held not in [mark.frame for mark in shot.marks]:
            return  # it is gone, by undo or because the shot is performed
        wanted = float(self._frame_within(at.x()))
        if not freely:
            reach = abs(_SNAP_PX / (self.x_of(shot.first + 1) - self.x_of(shot.first) or 1.0))
            wanted = snapped(wanted, [*cue_frames(shot), self._session.frame], reach)
        moved = pulls.move_mark(shot, held, wanted)
        index = [mark.frame for mark in shot.marks].index(held)
        frame, target = moved.marks[index].frame, moved.marks[index].target
        if not isinstance(target, PointTarget):  # a point's distance is its own
            target = self._target_at(frame, at.y(), held, freely)
        self._held = frame
        self._session.selected_mark = frame
        self._session.edit_shot("Move mark", lambda _shot: pulls.set_mark(moved, frame, target))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        mark, key = self._mark_at(QPointF(event.pos())), self._keys.at(QPointF(event.pos()))
        if mark is None:
            if key is not None:
                menu = QMenu(self)
                ease = self._keys.ease_of(key)
                if ease is not None:
                    self._add_eases(menu, "key", ease, partial(self._keys.set_ease, key))
                remove = menu.addAction(f"Remove the {key.line.name.lower()} key at {key.frame:g}")
                remove.triggered.connect(lambda: self._keys.remove(key))
                menu.exec(event.globalPos())
            return
        if mark.frame not in pulling.chosen_frames(self._session):
            self._session.select_mark(mark.frame)
        menu = QMenu(self)
        self._add_eases(menu, "mark", mark.ease, partial(pulling.set_ease, self._session, mark))
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

    def _add_eases(self, menu: QMenu, what: str, now: str, take: Callable[[str], None]) -> None:
        for ease, text in pulling.EASES.items():
            action = menu.addAction(f"{text} to the next {what}")
            action.setCheckable(True)
            action.setChecked(ease == now)
            action.triggered.connect(lambda _on, e=ease: take(e))
        menu.addSeparator()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self._copied = pulling.copied(self._session)
            pulling.copy_text(self._session, self._copied)
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
