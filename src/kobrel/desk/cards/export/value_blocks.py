"""A block of values on the card: its values to be copied, and what it cannot say."""

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QPointF, Qt, Signal
from PySide6.QtGui import QEnterEvent, QFocusEvent, QGuiApplication, QMouseEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.widgets import give_role
from kobrel.desk.toolkit.dragging import content, drag_out, is_begun
from kobrel.desk.toolkit.theme import font
from kobrel.desk.toolkit.words import Label, plain
from kobrel.plan.values.blocks import Term
from kobrel.plan.values.lost import Loss
from kobrel.session.session import Session


@guarded
class ValueRow(QPushButton):
    """A value: what it is called and how much it is. A click copies it; under the pointer the views show it.

    Signals
    -------
    pointed : whether the pointer or the keyboard is on it
    """

    pointed = Signal(bool)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("term")
        self.setFlat(True)
        line = QHBoxLayout(self)
        line.setContentsMargins(16, 1, 4, 1)
        self.name, self.value = Label(), Label()
        self.name.setObjectName("quiet")
        self.value.setFont(font(13, bold=True))
        for label in (self.name, self.value):
            label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        line.addWidget(self.name)
        line.addStretch(1)
        line.addWidget(self.value)
        self.setFixedHeight(23)
        self.term: Term | None = None
        self._pressed_at: QPointF | None = None

    def show_converted(self, term: Term) -> None:
        """Show a value."""
        quantity = term.quantity
        self.term = term
        self.name.setText(term.label)
        self.value.setText(term.shown)
        self.setAccessibleName(f"{term.label}, {term.shown}")
        parts = (quantity.meaning, f"Formula: {quantity.formula}" if quantity.formula else "", quantity.trap)
        self.setToolTip(plain("\n".join([*filter(None, parts), "Click to copy, or drag out."])))

    def copy(self) -> None:
        """Copy the value, as the menu's Copy asks."""
        self.click()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed_at = event.position()
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.term is not None and is_begun(event, self._pressed_at):
            self._pressed_at = None
            self.setDown(False)
            drag_out(self, content(self.term.text))
        super().mouseMoveEvent(event)

    def enterEvent(self, event: QEnterEvent) -> None:
        super().enterEvent(event)
        self.pointed.emit(True)

    def leaveEvent(self, event: QEvent) -> None:
        super().leaveEvent(event)
        self.pointed.emit(False)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.pointed.emit(event.reason() != Qt.FocusReason.MouseFocusReason)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.pointed.emit(False)


class ValueBlock(QWidget):
    """A convention that folds.

    Signals
    -------
    folded : it was opened or folded
    copied : all of its values are wanted
    """

    folded = Signal(bool)
    copied = Signal()

    def __init__(self, session: Session, title: str, opened: bool) -> None:
        super().__init__()
        self._session = session
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 2)
        self.column.setSpacing(0)
        head = QHBoxLayout()
        self.head = QToolButton()
        self.head.setText(title)
        self.head.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.head.setCheckable(True)
        self.head.setChecked(opened)
        self.head.setObjectName("head")
        self.head.setFont(font(13, bold=True))
        self.head.setToolTip(plain(f"Open or fold {title}"))
        self.head.toggled.connect(self._fold)
        self.copy = QPushButton("Copy")
        self.copy.setToolTip(plain(f"Copy all values of {title} as lines"))
        self.copy.clicked.connect(self.copied.emit)
        head.addWidget(self.head)
        head.addStretch(1)
        head.addWidget(self.copy)
        self.column.addLayout(head)
        self.rows: list[ValueRow] = []
        self.lost = Label()
        self.lost.setWordWrap(True)
        self.lost.setFont(font(11))
        self.lost.setContentsMargins(16, 1, 4, 2)
        give_role(self.lost, "wrong")
        self.column.addWidget(self.lost)
        self._show_arrow()

    @property
    def is_open(self) -> bool:
        """Whether its values are seen."""
        return self.head.isChecked()

    def _fold(self, opened: bool) -> None:
        self._show_arrow()
        self.folded.emit(opened)

    def _show_arrow(self) -> None:
        arrows = Qt.ArrowType
        self.head.setArrowType(arrows.DownArrow if self.is_open else arrows.RightArrow)
        self.copy.setVisible(self.is_open)
        for row in self.rows:
            row.setVisible(self.is_open)
        self.lost.setVisible(self.is_open and bool(self.lost.text()))

    def show_conventions(self, terms: Sequence[Term], lost: Sequence[Loss]) -> None:
        """Show values, and what is lost."""
        while len(self.rows) < len(terms):
            row = ValueRow()
            row.clicked.connect(lambda _on=False, r=row: self._copy(r))
            row.pointed.connect(lambda on, r=row: self._point(r, on))
            self.column.insertWidget(1 + len(self.rows), row)
            self.rows.append(row)
        for row in self.rows[len(terms) :]:
            row.deleteLater()
        del self.rows[len(terms) :]
        for row, term in zip(self.rows, terms, strict=True):
            row.show_converted(term)
        self.lost.setText("\n".join(f"✕ {loss.told}" for loss in lost))
        self.lost.setVisible(self.is_open and bool(lost))

    def _copy(self, row: ValueRow) -> None:
        if row.term is not None:
            QGuiApplication.clipboard().setText(row.term.text)
            unit = f" {row.term.symbol}" if row.term.symbol else ""
            self._session.say(f"Copied {row.term.text}{unit}: {row.term.label}")

    def _point(self, row: ValueRow, on: bool) -> None:
        if row.term is not None:
            self._session.view.pointed_value = row.term.quantity.key if on else ""
            if on:
                self._session.say(f"{row.term.label}: {row.term.quantity.meaning}")
