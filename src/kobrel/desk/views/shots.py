"""Shots: a column with a thumbnail of each, and a ribbon of what is sharp over its frames."""

from functools import partial

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import (
    QAccessible,
    QColor,
    QContextMenuEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import QMenu, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import draw_text, elided, state_colour, subject_colour
from kobrel.desk.toolkit.panel import follow
from kobrel.desk.toolkit.theme import theme
from kobrel.errors import PlanError
from kobrel.memo import Memos
from kobrel.plan.measure.survey import GONE, SHARP, survey
from kobrel.plan.model import Plan, Shot, SubjectTarget
from kobrel.session.commands import shot_list
from kobrel.session.document import Document
from kobrel.session.numbers import NUMBERS
from kobrel.session.session import Session
from kobrel.session.view import View
from kobrel.stage.stage import Stage

THUMBNAIL = (96, 54)
_STEP, _TOP = 96, 10
_RIBBON_CELLS = 24


class _MoveShot(Gesture):
    """Drags the shot to another place of the list; it goes there at the end."""

    def __init__(self, column: "ShotsColumn", session: Session) -> None:
        self._column, self._session = column, session
        self.begun = self.over = session.shot_index

    def move(self, at: QPointF, keys: Keys) -> None:
        last = len(self._session.plan.shots) - 1
        self.over = min(max(self._column.index_at(at.y()), 0), last)
        self._column.update()

    def finish(self, at: QPointF) -> None:
        if self.over != self.begun:
            shot_list.move(self._session, self.over)


@guarded
class ShotsColumn(GestureWidget):
    """Shots: a column with a thumbnail of each, and a ribbon of what is sharp over its frames."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.thumbnails: dict[str, QImage] = {}
        self._ribbons = Memos[list[QColor]]()
        self._may_survey = True
        self.setFixedWidth(112)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Shots")
        self.setStatusTip("Click to open, drag to reorder (or Up/Down, Alt+Up/Down). Right-click for more")
        follow(session, self, (*NUMBERS, Document.dragging, View.theme), order=4)

    spoken_role = QAccessible.Role.List

    def spoken_value(self) -> str:
        """The shot in work, of how many."""
        shot = self._session.shot
        count = len(self._session.plan.shots)
        return f"{shot.label}, {self._session.shot_index + 1} of {count}" if shot else "no shots"

    def sizeHint(self) -> QSize:
        return QSize(112, 400)

    def minimumSizeHint(self) -> QSize:
        return QSize(112, _TOP + _STEP * max(1, len(self._session.plan.shots)))

    def show_thumbnail(self, shot_name: str, image: QImage) -> None:
        """Show a shot's small picture."""
        self.thumbnails[shot_name] = image
        self.update()

    def forget(self) -> None:
        """Forget all small pictures."""
        self.thumbnails.clear()
        self._ribbons.forget()
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self._may_survey = not self._session.dragging
        drag = self.gesture
        if isinstance(drag, _MoveShot) and drag.over != drag.begun:
            below = drag.over + (1 if drag.over > drag.begun else 0)
            y = _TOP + below * _STEP - 5
            painter.setPen(QPen(theme().focus, 2))
            painter.drawLine(QPointF(6, y), QPointF(8 + THUMBNAIL[0], y))
        for index, shot in enumerate(self._session.plan.shots):
            chosen = index == self._session.shot_index
            box = QRectF(8, _TOP + index * _STEP, *THUMBNAIL)
            if not box.adjusted(0, 0, 0, _STEP).intersects(QRectF(event.rect())):
                continue
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme().surround)
            painter.drawRoundedRect(box, 3, 3)
            image = self.thumbnails.get(shot.name)
            if image is not None:
                part = min(box.width() / image.width(), box.height() / image.height())
                size = (image.width() * part, image.height() * part)
                painter.drawImage(
                    QRectF(box.center().x() - size[0] / 2, box.center().y() - size[1] / 2, *size), image
                )
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme().focus if chosen else theme().line, 2 if chosen else 1))
            painter.drawRoundedRect(box, 3, 3)
            name = elided(shot.label, 12, 102, chosen)
            draw_text(
                painter,
                QPointF(8, box.bottom() + 15),
                name,
                theme().text if chosen else theme().quiet,
                12,
                bold=chosen,
            )
            self._paint_ribbon(painter, shot, box.bottom() + 21)

    def _paint_ribbon(self, painter: QPainter, shot: Shot, top: float) -> None:
        cells = self.ribbon(shot)
        width = THUMBNAIL[0] / max(1, len(cells))
        painter.setPen(Qt.PenStyle.NoPen)
        for i, colour in enumerate(cells):
            painter.setBrush(colour)
            painter.drawRect(QRectF(8 + i * width, top, max(width - 1, 1), 4))

    def ribbon(self, shot: Shot) -> list[QColor]:
        """A colour for each stretch of frames: how sharp the subjects the shot focuses on are."""
        plan, stage = self._session.plan, self._session.stage
        parts, memo = (shot, plan.subjects, stage, theme()), self._ribbons.of(shot.name)
        if not memo.holds(parts):
            if not self._may_survey:  # one shot's survey a paint keeps the window quick
                if not self._session.dragging:
                    QTimer.singleShot(0, self, self.update)
                return memo.last or []
            self._may_survey = False
        return memo.get(parts, lambda: _ribbon_cells(plan, shot, stage))

    def index_at(self, y: float) -> int:
        """The place in the list at a height."""
        return int((y - _TOP + 4) // _STEP)

    def press(self, event: QMouseEvent) -> Gesture | None:
        index = self.index_at(event.position().y())
        self._session.show_shot(index)
        dragged = event.button() == Qt.MouseButton.LeftButton and index == self._session.shot_index
        return _MoveShot(self, self._session) if dragged else None

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.index_at(event.position().y()) == self._session.shot_index:
            self._session.want("shot")

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu().exec(event.globalPos())

    def menu(self) -> QMenu:
        """What can be done with the shot in work."""
        session, menu = self._session, QMenu(self)
        for text, work in (
            ("Name and frames", partial(session.want, "shot")),
            ("Duplicate", partial(shot_list.duplicate, session)),
            ("Delete", partial(shot_list.remove, session)),
            ("Match background blur to previous shot", partial(shot_list.match, session, -1)),
            ("Match background blur to next shot", partial(shot_list.match, session, 1)),
            ("Add shots from the scenes' cameras", partial(shot_list.add_from_cameras, session)),
        ):
            menu.addAction(text).triggered.connect(lambda _on=False, do=work: do())
        return menu

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        if event.key() in steps:
            to = self._session.shot_index + steps[Qt.Key(event.key())]
            if event.modifiers() & Qt.KeyboardModifier.AltModifier:
                shot_list.move(self._session, to)
            else:
                self._session.show_shot(to)
        elif event.key() == Qt.Key.Key_Delete:
            shot_list.remove(self._session)
        else:
            super().keyPressEvent(event)


def _ribbon_cells(plan: Plan, shot: Shot, stage: Stage) -> list[QColor]:
    """Ivory where a subject that the shot focuses on is sharp, else the colour of the least blurred; red
    where the shot's camera is missing.
    """
    frames = np.linspace(shot.first, shot.last, _RIBBON_CELLS)
    try:
        numbers = survey(plan, shot, stage, frames)
    except PlanError:
        return [theme().wrong] * _RIBBON_CELLS
    wanted = {mark.target.number for mark in shot.marks if isinstance(mark.target, SubjectTarget)}
    rows = [row for row, number in enumerate(numbers.subjects) if number in wanted]
    cells: list[QColor] = []
    for column in range(len(frames)):
        seen = [row for row in rows if numbers.state[row, column] != GONE]
        if not rows or any(numbers.state[row, column] == SHARP for row in seen):
            cells.append(state_colour(SHARP, False))
        elif not seen:
            cells.append(theme().line)
        else:
            best = min(seen, key=lambda row: float(numbers.sight.blur_px[row, column]))
            cells.append(subject_colour(numbers, best, column))
    return cells
