"""What all cards have: rows of fields that are bound to values of the plan, and readings."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from math import inf
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.widgets import FoldHead, choose, fill, give_role
from kobrel.desk.toolkit.fields import Field, number_field, place_field
from kobrel.desk.toolkit.gesture import Drag, Gesture, Gestures, Keys
from kobrel.desk.toolkit.theme import font
from kobrel.desk.toolkit.words import Label, plain
from kobrel.session import fields, settings
from kobrel.session.document import Document
from kobrel.session.evented import AnyField
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session
from kobrel.session.tools import Below

_UNITS = {"_ev": "EV", "_deg": "°", "_percent": "%", "_px": "px", "_mm": "mm"}
"""Units of fields, by how their names end."""
Bounds = tuple[float, float]
_STEP_PX, _FINE_PX = 5.0, 20.0
T = TypeVar("T")
W = TypeVar("W", Field, QComboBox, QCheckBox, QPushButton, QLabel)


@guarded
class Card(QWidget, Generic[T]):
    """A card: fields change the plan through the session, readings show it.

    Subclasses build themselves in ``__init__``, where each field is bound once to what it shows and how
    that is changed (:meth:`bind`). What is not bound is shown in :meth:`show_more`. A page of a card is a
    card without a title.

    `T` is what the card shows: see :meth:`subject`.
    """

    name = ""
    purpose = ""
    """Of a page, what it is for: the tooltip of its button."""
    is_page = False
    depends: Iterable[AnyField] = (*AT_FRAME, Document.dragging, Document.library)
    """The fields of the session that it shows."""
    below: Below = ""
    """What stands in the chart's room while the card is seen."""
    needs_subject = True
    """Whether it cannot be used while there is nothing in work."""
    """What is given more room while the card is seen."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self._shows: list[Callable[[T], object]] = []
        self._shown = 0
        self.column = QVBoxLayout(self)
        self.column.setSpacing(6)
        session.watch(self.depends, self._refresh_if_seen)
        if self.is_page:
            self.column.setContentsMargins(0, 4, 0, 0)
            return
        self.column.setContentsMargins(14, 12, 14, 12)
        title = Label(self.name)
        title.setObjectName("title")
        self.column.addWidget(title)
        self.column.addSpacing(4)

    # Showing

    def subject(self) -> T | None:
        """What the card shows; where there is none, the card is disabled and shows what it last did."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Show what is in work."""
        self._shown += 1
        subject = self.subject()
        self.setEnabled(subject is not None or not self.needs_subject)
        if subject is not None:
            for show in self._shows:
                show(subject)
            self.show_more(subject)
        else:
            self.show_nothing()

    def show_more(self, subject: T) -> None:
        """Show what no field is bound to."""

    def show_nothing(self) -> None:
        """Show that there is nothing in work."""

    def _refresh_if_seen(self) -> None:
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        if self.below:
            self.session.view.below = self.below
        self.refresh()

    def hideEvent(self, event: object) -> None:
        if self.below:
            self.session.view.below = ""

    # Binding

    def bind(
        self,
        widget: W,
        read: Callable[[T], Any],
        take: Callable[[Any], object] | None = None,
        options: Callable[[T], Sequence[tuple[str, object]]] | None = None,
    ) -> W:
        """Bind a field to a value: how it is read, and how another is taken.

        Parameters
        ----------
        widget : a number, a choice, a box to tick, a button that can be down, or a label
        read : the value of what the card shows; of a choice its data, of a label its text
        take : called with a value that the person gives; afterwards the card shows what became of it
        options : of a choice that has others from time to time: (text, data) of each
        """
        if isinstance(widget, Field):
            self._shows.append(lambda subject: widget.show_value(read(subject)))
            if take is not None:
                widget.taken.connect(lambda value: self._take(take, value))
        elif isinstance(widget, QComboBox):
            if options is None:
                self._shows.append(lambda subject: choose(widget, read(subject)))
            else:
                self._shows.append(lambda subject: fill(widget, options(subject), read(subject)))
            if take is not None:
                widget.activated.connect(lambda _i: self._take(take, widget.currentData()))
        elif isinstance(widget, QAbstractButton):
            self._shows.append(lambda subject: widget.setChecked(bool(read(subject))))
            if take is not None:
                widget.clicked.connect(lambda on: self._take(take, bool(on)))
        else:
            self._shows.append(lambda subject: widget.setText(read(subject)))
        return widget

    def show_if(self, widget: QWidget, needed: Callable[[T], bool], row: bool = True) -> None:
        """Show a widget, or the whole row that it stands in, only where it is needed."""
        show = self.show_row if row else QWidget.setVisible
        self._shows.append(lambda subject: show(widget, needed(subject)))

    def enable_if(self, widget: QWidget, able: Callable[[T], bool]) -> None:
        """Let a widget be used only where that makes sense."""
        self._shows.append(lambda subject: widget.setEnabled(able(subject)))

    def _take(self, take: Callable[[Any], object], value: object) -> None:
        before = self._shown
        take(value)
        if self._shown == before:
            self.refresh()

    # Building

    def row(self, label: str, *widgets: QWidget) -> None:
        """A labelled row; the label belongs to the first widget for keys and assistive technology."""
        whole = QWidget()
        line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        first = widgets[0]
        text = _StepLabel(label, first, self.session) if isinstance(first, Field) else Label(label)
        text.setObjectName("quiet")
        text.setBuddy(first)
        line.addWidget(text)
        line.addStretch(1)
        for widget in widgets:
            line.addWidget(widget)
            if isinstance(widget, Field):
                widget.refused.connect(self.session.say)
        self.column.addWidget(whole)

    @staticmethod
    def show_row(widget: QWidget, shown: bool) -> None:
        """Show or hide the whole row that a widget stands in."""
        row = widget.parentWidget()
        if row is not None:
            row.setVisible(shown)

    @staticmethod
    def name_row(widget: QWidget, label: str) -> None:
        """Call a row otherwise."""
        row = widget.parentWidget()
        text = row.findChild(QLabel) if row is not None else None
        if text is not None:
            text.setText(label)

    def reading(
        self,
        label: str,
        pixels: int = 13,
        role: str = "",
        hint: str = "",
        read: Callable[[T], str] | None = None,
    ) -> QLabel:
        """A labelled number to look at, with a sentence behind it for those who want to know."""
        line = QHBoxLayout()
        text = _HintLabel(label, hint, self.session) if hint else Label(label)
        text.setObjectName("quiet")
        value = Label("–")
        value.setFont(font(pixels, bold=pixels > 13))
        value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        value.setAccessibleName(label)
        value.setToolTip(plain(hint))
        value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        give_role(value, role)
        line.addWidget(text)
        line.addStretch(1)
        line.addWidget(value)
        self.column.addLayout(line)
        return self.bind(value, read) if read is not None else value

    @contextmanager
    def fold(self, title: str, opened: bool = True) -> Iterator[FoldHead]:
        """A section that can be folded away; what is made within goes into it. Remembered by page and title.
        Gives its heading.

        Parameters
        ----------
        opened : whether it is open until somebody folds or opens it
        """
        kept, key = self.session.settings, f"{self.name}: {title}"
        section = QWidget()
        if kept.has(settings.FOLDED, key):
            opened = not kept.get(settings.FOLDED, key)
        head = FoldHead(title, opened)
        self.column.addWidget(head)
        self.column.addWidget(section)
        section.setVisible(head.isChecked())
        head.toggled.connect(section.setVisible)
        head.toggled.connect(lambda on: kept.put(settings.FOLDED, not on, key))
        whole, self.column = self.column, QVBoxLayout(section)
        self.column.setContentsMargins(0, 0, 0, 4)
        self.column.setSpacing(6)
        try:
            yield head
        finally:
            self.column = whole

    def line(self) -> None:
        """A quiet line between groups."""
        rule = QFrame()
        rule.setObjectName("rule")
        rule.setFixedHeight(1)
        self.column.addSpacing(4)
        self.column.addWidget(rule)
        self.column.addSpacing(4)

    def note(self, text: str = "") -> QLabel:
        """A quiet sentence."""
        label = Label(text)
        label.setObjectName("quiet")
        label.setWordWrap(True)
        label.setFont(font(12))
        self.column.addWidget(label)
        return label

    def buttons(self, *made: tuple[str, str, Callable[[], object]]) -> list[QPushButton]:
        """A row of buttons: what each says, what it does in a few words, and the doing."""
        line = QHBoxLayout()
        line.setSpacing(6)
        result = []
        for text, hint, work in made:
            button = QPushButton(text)
            button.setToolTip(plain(hint))
            button.clicked.connect(lambda _on=False, do=work: do())
            line.addWidget(button)
            result.append(button)
        line.addStretch(1)
        self.column.addLayout(line)
        return result

    def places(
        self,
        label: str,
        what: str,
        read: Callable[[T], Sequence[float] | NDArray[np.float64] | None],
        take: Callable[[tuple[float, float, float]], object],
    ) -> list[Field]:
        """A row of three lengths, X, Y and Z in metres, bound to a place; without one it stays as it is."""
        fields = [
            place_field(f"{what} {letter}", lambda: self.session.unit, about=f"{what}, along {letter}")
            for letter in "XYZ"
        ]

        def show(subject: T) -> None:
            place = read(subject)
            if place is not None:
                for field, metres in zip(fields, place, strict=True):
                    field.show_value(float(metres))

        def taken(axis: int, metres: float) -> None:
            place = [field.value for field in fields]
            place[axis] = metres
            self._take(take, tuple(place))

        for axis, field in enumerate(fields):
            field.taken.connect(partial(taken, axis))
        self._shows.append(show)
        self.row(label, *fields)
        return fields

    # Fields of the document, by their paths, see kobrel.session.fields

    def field_of(
        self, path: str, label: str, step: float, within: Bounds = (-inf, inf), unit: str | None = None
    ) -> Field:
        """A number bound to a field of the document: bounds, unit and description are those of the schema.

        Parameters
        ----------
        within : narrower bounds than the schema has
        unit : where the field's name does not end with it
        """
        about = fields.described_at(path)
        if unit is None:
            unit = next((each for end, each in _UNITS.items() if path.endswith(end)), "ratio")
        made = number_field(
            label, unit, step, max(within[0], about.low), min(within[1], about.high),
            about=about.description.rstrip("."),
        )  # fmt: skip
        session = self.session
        return self.bind(
            made, lambda _subject: fields.value(session, path) or 0.0,
            lambda value: fields.change(session, path, value, label),
        )  # fmt: skip

    def number(
        self, path: str, label: str, step: float, within: Bounds = (-inf, inf), unit: str | None = None
    ) -> Field:
        """A row with a number bound to a field of the document, see :meth:`field_of`."""
        made = self.field_of(path, label, step, within, unit)
        self.row(label, made)
        return made

    def flag(self, path: str, text: str) -> QCheckBox:
        """A box to tick, bound to a field of the document."""
        session = self.session
        return self.tick(
            text, fields.described_at(path).description, lambda _subject: bool(fields.value(session, path)),
            lambda on: fields.change(session, path, on, text),
        )  # fmt: skip

    def tick(
        self, text: str, hint: str, read: Callable[[T], bool], take: Callable[[bool], object]
    ) -> QCheckBox:
        """A box to tick, bound to a value."""
        box = QCheckBox(text)
        box.setToolTip(plain(hint))
        self.column.addWidget(box)
        return self.bind(box, read, take)


class ShotCard(Card[Now]):
    """A card that shows the shot at its frame."""

    def subject(self) -> Now | None:
        """See :class:`Card`."""
        return self.session.now


class SessionCard(Card[Session]):
    """A card that has something to show without a shot."""

    def subject(self) -> Session | None:
        """See :class:`Card`."""
        return self.session


class _StepNumber(Drag):
    """Steps a number while its label is dragged sideways, with Shift finely."""

    def __init__(self, session: Session, field: Field, at: QPointF) -> None:
        super().__init__(session)
        self._field, self._x = field, at.x()

    def move(self, at: QPointF, keys: Keys) -> None:
        steps = int((at.x() - self._x) / (_FINE_PX if keys & Keys.ShiftModifier else _STEP_PX))
        if steps:
            self._x = at.x()
            self._field.step_by(steps)


class _StepLabel(Gestures, Label):
    """The label of a number: drag it sideways to step the number."""

    def __init__(self, text: str, field: Field, session: Session) -> None:
        super().__init__(text)
        self._field, self._session = field, session
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setToolTip(plain(f"Drag sideways to step it, with Shift finely. {field.toolTip()}"))

    def press(self, event: QMouseEvent) -> Gesture | None:
        able = event.button() == Qt.MouseButton.LeftButton and self._field.isEnabled()
        return _StepNumber(self._session, self._field, event.position()) if able else None

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""


@guarded
class _HintLabel(Label):
    """A label that says what its number means when it is clicked."""

    def __init__(self, text: str, hint: str, session: Session) -> None:
        super().__init__(text)
        self._hint, self._session = hint, session
        self.setToolTip(plain(hint))
        self.setCursor(Qt.CursorShape.WhatsThisCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._session.say(f"{self.text()}: {self._hint}")
