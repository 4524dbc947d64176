"""How the focus goes from the chosen mark to the next: ease, hold, and a search at its end."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk import pulling
from kobrel.desk.cards.base import Card, choice, choose, give_role
from kobrel.desk.fields import Field, number_field
from kobrel.desk.look import look
from kobrel.desk.paint import draw_text, polyline
from kobrel.desk.session import Session
from kobrel.optics.ease import eased
from kobrel.plan.model import Mark, Search

_GRAB_PX = 12.0
_OVER = 0.35
"""Room above and below the square, for eases that swing past their ends."""


class EaseView(QWidget):
    """The ease over its time; the handles of an own one can be dragged."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._held: int | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Ease over time")
        self.setToolTip("Time across, the way upward. Drag the handles of an own ease.")
        session.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(230, 132)

    def _place(self, x: float, y: float) -> QPointF:
        box = QRectF(self.rect()).adjusted(14, 8, -14, -8)
        tall = box.height() / (1 + 2 * _OVER)
        return QPointF(box.left() + x * box.width(), box.bottom() - (_OVER + y) * tall)

    def _value(self, at: QPointF) -> tuple[float, float]:
        origin, unit = self._place(0, 0), self._place(1, 1)
        x = (at.x() - origin.x()) / (unit.x() - origin.x())
        y = (at.y() - origin.y()) / (unit.y() - origin.y())
        return round(min(max(x, 0.0), 1.0), 3), round(min(max(y, -_OVER), 1 + _OVER), 3)

    def handle_places(self) -> list[QPointF]:
        """Where the two handles of an own ease stand."""
        mark = pulling.mark_in_work(self._session)
        if mark is None or mark.ease != "own":
            return []
        x1, y1, x2, y2 = mark.handles
        return [self._place(x1, y1), self._place(x2, y2)]

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().raised)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        mark = pulling.mark_in_work(self._session)
        if mark is None:
            return
        painter.setPen(QPen(look().line, 1))
        for height in (0.0, 1.0):
            painter.drawLine(self._place(0, height), self._place(1, height))
        u = np.linspace(0, 1, 121)
        e, ends = eased(u, mark.ease, mark.handles), (self._place(0, 0), self._place(1, 1))
        way = ends[1] - ends[0]
        painter.setPen(QPen(look().focus, 2))
        polyline(painter, ends[0].x() + u * way.x(), ends[0].y() + e * way.y())
        for end, handle in zip(ends, self.handle_places(), strict=False):
            painter.setPen(QPen(look().quiet, 1, Qt.PenStyle.DashLine))
            painter.drawLine(end, handle)
            painter.setPen(QPen(look().focus, 1.6))
            painter.setBrush(look().base)
            painter.drawEllipse(handle, 5, 5)
        if mark.ease != "own":
            draw_text(painter, QPointF(20, 22), pulling.EASES[mark.ease].lower(), look().quiet, 11)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        near = [(at - place).manhattanLength() for place in self.handle_places()]
        if near and min(near) <= _GRAB_PX * 1.5:
            self._held = near.index(min(near))
            self._session.begin_drag()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        mark = pulling.mark_in_work(self._session)
        if self._held is None or mark is None:
            return
        handles = list(mark.handles)
        handles[2 * self._held : 2 * self._held + 2] = self._value(event.position())
        pulling.change(self._session, mark, "Handles of the ease", handles=tuple(handles))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            self._held = None
            self._session.end_drag()


class MovePage(Card):
    """See the module."""

    name = "Move"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.way = self.note()
        self.ease = choice(
            "Ease", [(text, kind) for kind, text in pulling.EASES.items()], "The way to the next mark", 160
        )
        self.ease.activated.connect(lambda _i: self._with(pulling.set_ease, self.ease.currentData()))
        self.row("Ease", self.ease)
        self.curve = EaseView(session)
        self.column.addWidget(self.curve)
        self.by = choice(
            "Goes by", [("Dioptres", "dioptres"), ("Metres", "metres")],
            "Whether the move is shared out in dioptres, as a focus ring turns, or in metres", 160,
        )  # fmt: skip
        self.by.activated.connect(lambda _i: self._change("Unit of the move", by=self.by.currentData()))
        self.row("Goes by", self.by)
        self.until = number_field("Hold until frame", "", 1.0, -1e6, 1e6, digits=8)
        self.until.setToolTip("Frame until which the mark holds before the focus leaves it.")
        self.until.taken.connect(self._take_until)
        self.row("Hold until", self.until)
        self.line()
        self.fastest = self.reading(
            "Fastest",
            hint="The greatest speed of the focus in the shot, and of its ring, each second.",
        )
        self.throw = self._ring_number("Throw of the ring", "throw_deg", "°", 10.0, 10.0, 1440.0)
        self.most = self._ring_number("At most", "most_deg_s", "°/s", 10.0, 1.0, 10000.0)
        self.hardest = self._ring_number("Speeds up by at most", "most_deg_s2", "°/s²", 500.0, 1.0, 1e6)
        self.line()
        self.searches = self.tick(
            "It searches when it arrives",
            "The pull overshoots and settles, or hunts as an autofocus does; it stays with its pull",
            lambda on: self._change("Search", search=Search() if on else None),
        )
        self._fields: dict[str, Field] = {}
        self._search_number("First swing", "amount", "", 0.05, 0.001, 100.0, "Of the pull, or in dioptres")
        self.unit = choice(
            "Swing counts",
            [("Part of the pull", "part"), ("Dioptres", "dioptres")],
            "What the swing counts in",
            160,
        )
        self.unit.activated.connect(lambda _i: self._search("Search", unit=self.unit.currentData()))
        self.row("Counts in", self.unit)
        self._search_number("Swings", "swings", "", 0.5, 0.5, 12.0, "Whole swings there and back")
        self._search_number("Decay", "decay", "", 0.5, 0.0, 12.0, "How fast they die away; 0 is evenly")
        self._search_number("Frames", "frames", "", 1.0, 1.0, 2000.0, "How long it goes on")
        self.as_marks = self.buttons(
            ("Turn into marks", "Put plain marks on the crests of the search", lambda: self._with(_as_marks))
        )[0]
        self.column.addStretch(1)

    def _ring_number(self, label: str, field: str, unit: str, step: float, low: float, high: float) -> Field:
        made = number_field(label, unit, step, low, high, digits=7)
        made.setToolTip(
            f"{label}, {unit}: the focus ring goes evenly in dioptres from its near end to infinity. "
            "Up and down keys or the wheel step it."
        )
        made.taken.connect(
            lambda v: self.session.edit_shot(label, lambda shot: shot.but(ring=shot.ring.but(**{field: v})))
        )
        self.row(label, made)
        return made

    def _search_number(
        self, label: str, field: str, unit: str, step: float, low: float, high: float, hint: str
    ) -> None:
        made = number_field(label, unit, step, low, high)
        made.setToolTip(f"{label}: {hint}. Up and down keys or the wheel step it.")
        made.taken.connect(lambda v: self._search(label, **{field: v}))
        self.row(label, made)
        self._fields[field] = made

    def _with(self, deed: object, *more: object) -> None:
        mark = pulling.mark_in_work(self.session)
        if mark is not None and callable(deed):
            deed(self.session, mark, *more)
        self.refresh()

    def _change(self, name: str, **changes: object) -> None:
        mark = pulling.mark_in_work(self.session)
        if mark is not None:
            pulling.change(self.session, mark, name, **changes)
        self.refresh()

    def _search(self, name: str, **changes: object) -> None:
        mark = pulling.mark_in_work(self.session)
        if mark is not None and mark.search is not None:
            self._change(name, search=mark.search.but(**changes))

    def _take_until(self, frame: float) -> None:
        mark = pulling.mark_in_work(self.session)
        if mark is not None:
            self._change("Hold", until=round(frame) if frame > mark.frame else None)

    def refresh(self) -> None:
        session, shot, mark = self.session, self.session.shot, pulling.mark_in_work(self.session)
        self.setEnabled(shot is not None)
        if shot is None or mark is None:
            return
        after = _next(shot.marks, mark)
        self.way.setText(
            f"From {session.target_label(mark.target)} at {mark.frame:g} to "
            f"{session.target_label(after.target)} at {after.frame:g}."
            if after else f"{session.target_label(mark.target)} from {mark.frame:g} on: no move follows."
        )  # fmt: skip
        for widget in (self.ease, self.by, self.until, self.searches, self.curve):
            widget.setEnabled(after is not None)
        choose(self.ease, mark.ease)
        choose(self.by, mark.by)
        self.until.show_value(mark.leaves)
        numbers = session.survey
        self.throw.show_value(shot.ring.throw_deg)
        self.most.show_value(shot.ring.most_deg_s)
        self.hardest.show_value(shot.ring.most_deg_s2)
        made = session.pace
        if numbers is not None and made is not None:
            k = made.fastest
            self.fastest.setText(
                f"{made.dpt_s[k]:.2f} dpt/s, {made.deg_s[k]:.0f}°/s at {numbers.frames[k]:g}"
            )
            give_role(self.fastest, "wrong" if made.too_fast.any() else "")
        search = mark.search
        self.searches.setChecked(search is not None)
        for field, widget in self._fields.items():
            self.show_row(widget, search is not None)
            if search is not None:
                widget.show_value(getattr(search, field))
        self.show_row(self.unit, search is not None)
        self.as_marks.setVisible(search is not None)
        if search is not None:
            choose(self.unit, search.unit)


def _as_marks(session: Session, mark: Mark) -> None:
    pulling.search_as_marks(session, mark)


def _next(marks: tuple[Mark, ...], mark: Mark) -> Mark | None:
    return next((other for other in marks if other.frame > mark.frame), None)
