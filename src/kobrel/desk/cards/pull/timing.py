"""How the focus goes from the chosen mark to the next: ease, hold, and a search at its end."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import choice, give_role
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.desk.toolkit.gesture import Drag, Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import draw_text, polyline
from kobrel.desk.toolkit.theme import theme
from kobrel.optics.ease import eased
from kobrel.plan.model import Mark, Search
from kobrel.session.commands import pulling
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View

_GRAB_PX = 12.0
_OVER = 0.35
"""Room above and below the square, for eases that swing past their ends."""


@guarded
class EaseView(GestureWidget):
    """The ease over its time; the handles of an own one can be dragged."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Ease over time")
        self.setToolTip("Time → , focus ↑. Drag the handles of a custom curve.")
        session.watch(
            (Document.plan, Document.shot_index, Document.frame, Selection.marks, View.theme), self.update
        )

    def sizeHint(self) -> QSize:
        return QSize(230, 132)

    def _place(self, x: float, y: float) -> QPointF:
        box = QRectF(self.rect()).adjusted(14, 8, -14, -8)
        tall = box.height() / (1 + 2 * _OVER)
        return QPointF(box.left() + x * box.width(), box.bottom() - (_OVER + y) * tall)

    def value(self, at: QPointF) -> tuple[float, float]:
        """The place of a handle in parts of time and way."""
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
        painter.setBrush(theme().raised)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        mark = pulling.mark_in_work(self._session)
        if mark is None:
            return
        painter.setPen(QPen(theme().line, 1))
        for height in (0.0, 1.0):
            painter.drawLine(self._place(0, height), self._place(1, height))
        u = np.linspace(0, 1, 121)
        e, ends = eased(u, mark.ease, mark.handles), (self._place(0, 0), self._place(1, 1))
        way = ends[1] - ends[0]
        painter.setPen(QPen(theme().focus, 2))
        polyline(painter, ends[0].x() + u * way.x(), ends[0].y() + e * way.y())
        for end, handle in zip(ends, self.handle_places(), strict=False):
            painter.setPen(QPen(theme().quiet, 1, Qt.PenStyle.DashLine))
            painter.drawLine(end, handle)
            painter.setPen(QPen(theme().focus, 1.6))
            painter.setBrush(theme().base)
            painter.drawEllipse(handle, 5, 5)
        if mark.ease != "own":
            draw_text(painter, QPointF(20, 22), pulling.EASES[mark.ease].lower(), theme().quiet, 11)

    def press(self, event: QMouseEvent) -> Gesture | None:
        at = event.position()
        near = [(at - place).manhattanLength() for place in self.handle_places()]
        if not near or min(near) > _GRAB_PX * 1.5:
            return None
        return _MoveHandle(self._session, self, near.index(min(near)))

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""


class _MoveHandle(Drag):
    """Moves a handle of the ease."""

    def __init__(self, session: Session, view: EaseView, which: int) -> None:
        super().__init__(session)
        self._view, self._which = view, which

    def move(self, at: QPointF, keys: Keys) -> None:
        mark = pulling.mark_in_work(self.session)
        if mark is not None:
            handles = list(mark.handles)
            handles[2 * self._which : 2 * self._which + 2] = self._view.value(at)
            pulling.change(self.session, mark, "Handles of the ease", handles=tuple(handles))


class Timing(Card[Mark]):
    """Ease, hold, ring speed and hunt of the selected move."""

    name = "Timing"
    is_page = True
    depends = (*AT_FRAME, Selection.marks)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.way = self.bind(self.note(), self._way)
        self.ease = choice(
            "Ease",
            [(text, kind) for kind, text in pulling.EASES.items()],
            "Interpolation to the next mark",
            160,
        )
        self.bind(self.ease, lambda mark: mark.ease, lambda ease: pulling.set_ease_in_work(session, ease))
        self.row("Ease", self.ease)
        self.curve = EaseView(session)
        self.column.addWidget(self.curve)
        self.by = choice(
            "Interpolate in", [("Dioptres", "dioptres"), ("Metres", "metres")],
            "Even in ring travel (dioptres) or in metres", 160,
        )  # fmt: skip
        self.bind(
            self.by, lambda mark: mark.by,
            lambda by: pulling.change_in_work(session, "Unit of the move", by=by),
        )  # fmt: skip
        self.row("Interpolate in", self.by)
        self.until = number_field(
            "Hold until frame",
            "frame",
            1.0,
            -1e6,
            1e6,
            digits=8,
            about="The focus stays on the mark until this frame, then the pull starts",
        )
        self.bind(self.until, lambda mark: mark.leaves, lambda frame: pulling.set_until(session, frame))
        self.row("Hold until", self.until)
        with self.fold("Focus ring", opened=False):
            self.fastest = self.reading(
                "Peak speed",
                hint="The greatest speed of the focus in the shot, and of its ring, each second.",
            )
            self.throw = self._ring_number(
                "Focus throw",
                "throw_deg",
                "°",
                10.0,
                10.0,
                1440.0,
                "Rotation of the focus ring from its near end to infinity, even in dioptres",
            )
            self.most = self._ring_number(
                "Max ring speed",
                "most_deg_s",
                "°/s",
                10.0,
                1.0,
                10000.0,
                "Fastest that the focus ring can be turned; faster pulls get a warning",
            )
            self.hardest = self._ring_number(
                "Max acceleration",
                "most_deg_s2",
                "°/s²",
                500.0,
                1.0,
                1e6,
                "Hardest that the focus ring can start or stop; harder pulls get a warning",
            )
        with self.fold("Hunt", opened=False):
            self._add_search()
        for widget in (self.ease, self.by, self.until, self.searches, self.curve):
            self.enable_if(widget, lambda mark: self._after(mark) is not None)

    def _add_search(self) -> None:
        session = self.session
        self.searches = self.tick(
            "Hunt on arrival",
            "Overshoots the mark and settles, or hunts like an autofocus",
            lambda mark: mark.search is not None,
            lambda on: pulling.change_in_work(session, "Search", search=Search() if on else None),
        )
        self.swing = self._search_number(
            "Overshoot", "amount", "ratio", 0.05, 0.001, 100.0, "Fraction of the pull, or dioptres"
        )
        self.unit = choice(
            "Swing counts",
            [("Fraction of the pull", "part"), ("Dioptres", "dioptres")],
            "What the swing counts in",
            160,
        )
        self.bind(
            self.unit, lambda mark: (mark.search or Search()).unit,
            lambda unit: pulling.change_search(session, "Search", unit=unit),
        )  # fmt: skip
        self.row("Measured in", self.unit)
        self.show_if(self.unit, lambda mark: mark.search is not None)
        self._search_number("Swings", "swings", "count", 0.5, 0.5, 12.0, "Number of full swings")
        self._search_number(
            "Damping", "decay", "ratio", 0.5, 0.0, 12.0, "How fast the swings die away; 0 is linear"
        )
        self._search_number("Frames", "frames", "fr", 1.0, 1.0, 2000.0, "How long the hunt lasts")
        self.as_marks = self.buttons(
            (
                "Bake to marks",
                "Replace with editable marks",
                lambda: pulling.search_as_marks(session),
            )
        )[0]
        self.show_if(self.as_marks, lambda mark: mark.search is not None, row=False)

    def subject(self) -> Mark | None:
        """See :class:`Card`."""
        return pulling.mark_in_work(self.session)

    def _after(self, mark: Mark) -> Mark | None:
        shot = self.session.shot
        return _next(shot.marks, mark) if shot else None

    def _way(self, mark: Mark) -> str:
        name, after = self.session.target_label, self._after(mark)
        if after is None:
            return f"Last mark: holds on {name(mark.target)} from frame {mark.frame:g}."
        return f"From {name(mark.target)} at {mark.frame:g} to {name(after.target)} at {after.frame:g}."

    def _ring_number(
        self, label: str, field: str, unit: str, step: float, low: float, high: float, about: str
    ) -> Field:
        made = number_field(label, unit, step, low, high, digits=7, about=about)
        session = self.session
        self.bind(
            made, lambda _mark: getattr(session.shot.ring, field) if session.shot else made.value,
            lambda v: session.edit_shot(
                label, lambda shot: shot.replace(ring=shot.ring.replace(**{field: v}))
            ),
        )  # fmt: skip
        self.row(label, made)
        return made

    def _search_number(
        self, label: str, field: str, unit: str, step: float, low: float, high: float, hint: str
    ) -> Field:
        made = number_field(label, unit, step, low, high, about=hint)
        self.bind(
            made, lambda mark: getattr(mark.search or Search(), field),
            lambda value: pulling.change_search(self.session, label, **{field: value}),
        )  # fmt: skip
        self.row(label, made)
        self.show_if(made, lambda mark: mark.search is not None)
        return made

    def show_more(self, subject: Mark) -> None:
        now = self.session.now
        if now is not None:
            made = self.session.pace_of(now)
            k = made.fastest
            self.fastest.setText(
                f"{made.dpt_s[k]:.2f} dpt/s, {made.deg_s[k]:.0f}°/s at {now.survey.frames[k]:g}"
            )
            give_role(self.fastest, "wrong" if made.too_fast.any() else "")


def _next(marks: tuple[Mark, ...], mark: Mark) -> Mark | None:
    return next((other for other in marks if other.frame > mark.frame), None)
