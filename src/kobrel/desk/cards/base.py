"""What all cards have: a title, rows of fields, large and small readings."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QStyleOptionComboBox,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.fields import Field
from kobrel.desk.look import font
from kobrel.desk.session import Session


class Card(QWidget):
    """A card: fields change the plan through the session, readings show it.

    Subclasses build themselves in ``__init__`` and show the session in :meth:`refresh`.
    """

    name = ""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(14, 12, 14, 12)
        self.column.setSpacing(6)
        title = QLabel(self.name)
        title.setObjectName("title")
        self.column.addWidget(title)
        self.column.addSpacing(4)
        session.changed.connect(self._refresh_if_seen)

    def _refresh_if_seen(self) -> None:
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Show the session's values."""
        raise NotImplementedError

    def row(self, label: str, *widgets: QWidget) -> None:
        """A labelled row; the label belongs to the first widget for keys and assistive technology."""
        line = QHBoxLayout()
        line.setSpacing(6)
        text = QLabel(label)
        text.setObjectName("quiet")
        text.setBuddy(widgets[0])
        line.addWidget(text)
        line.addStretch(1)
        for widget in widgets:
            line.addWidget(widget)
            if isinstance(widget, Field):
                widget.refused.connect(self.session.said)
        self.column.addLayout(line)

    def reading(self, label: str, pixels: int = 13, role: str = "") -> QLabel:
        """A labelled number to look at."""
        line = QHBoxLayout()
        text = QLabel(label)
        text.setObjectName("quiet")
        value = QLabel("–")
        value.setFont(font(pixels, bold=pixels > 13))
        value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        value.setAccessibleName(label)
        value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        give_role(value, role)
        line.addWidget(text)
        line.addStretch(1)
        line.addWidget(value)
        self.column.addLayout(line)
        return value

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
        label = QLabel(text)
        label.setObjectName("quiet")
        label.setWordWrap(True)
        label.setFont(font(12))
        self.column.addWidget(label)
        return label


class Choice(QComboBox):
    """A drop-down that, closed, shows a choice's text up to its first double space."""

    def initStyleOption(self, option: QStyleOptionComboBox) -> None:
        super().initStyleOption(option)
        option.currentText = option.currentText.split("  ")[0]  # type: ignore[attr-defined]


def plain_table(table: QTableView, name: str, row_px: int) -> None:
    """Give a table whole rows to choose from, one at a time, and no grid."""
    table.setAccessibleName(name)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    table.setShowGrid(False)
    table.setTabKeyNavigation(False)
    table.verticalHeader().hide()
    table.verticalHeader().setDefaultSectionSize(row_px)
    table.horizontalHeader().setHighlightSections(False)


def choice(name: str, options: list[tuple[str, object]], hint: str = "", width: int = 132) -> QComboBox:
    """A drop-down of (text, data); what follows a double space shows in the list alone."""
    box = Choice()
    box.setAccessibleName(name)
    box.setToolTip(hint or name)
    box.setFixedWidth(width)
    for text, data in options:
        box.addItem(text, data)
    box.view().setMinimumWidth(max(width, box.sizeHint().width() + 20))
    return box


def choose(box: QComboBox, data: object) -> None:
    """Show a choice without telling it as the person's."""
    box.blockSignals(True)
    box.setCurrentIndex(box.findData(data))
    box.blockSignals(False)


def give_role(label: QLabel, role: str) -> None:
    """Colour a label by what it tells: nearer, farther, sharp, focus, gone, or nothing of these."""
    if label.property("role") != role:
        label.setProperty("role", role)
        label.style().unpolish(label)
        label.style().polish(label)
