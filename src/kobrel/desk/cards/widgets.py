"""Widgets that cards are made of: drop-downs and tables."""

import html
from collections.abc import Collection, Iterable, Sequence

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QIcon, QPixmap
from PySide6.QtWidgets import (
    QAbstractItemView,
    QColorDialog,
    QComboBox,
    QHeaderView,
    QLabel,
    QPushButton,
    QStyleOptionComboBox,
    QTableView,
    QTableWidget,
    QTableWidgetItem,
    QToolButton,
    QWidget,
)

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.theme import font, theme
from kobrel.desk.toolkit.words import Label, plain
from kobrel.plan.measure.arrival import Diagnostic
from kobrel.plan.parts import Colour
from kobrel.session.commands.arrival import mend
from kobrel.session.session import Session
from kobrel.stage.pictures.colours import as_bytes, to_linear


@guarded
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


def word_table(name: str, headings: Sequence[str], row_px: int, wide: Collection[int]) -> QTableWidget:
    """A plain table of words that are changed elsewhere; some columns take what room there is."""
    table = QTableWidget(0, len(headings))
    table.setHorizontalHeaderLabels(headings)
    plain_table(table, name, row_px)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    modes = QHeaderView.ResizeMode
    for column in range(len(headings)):
        mode = modes.Stretch if column in wide else modes.ResizeToContents
        table.horizontalHeader().setSectionResizeMode(column, mode)
    return table


def show_words(table: QTableWidget, row: int, words: Iterable[str]) -> list[QTableWidgetItem]:
    """Fill a row, unless it is so already; tooltips tell what is cut off for want of room, before the
    table's own.
    """
    texts = list(words)
    there = [item for column in range(len(texts)) if (item := table.item(row, column)) is not None]
    if [item.text() for item in there] == texts:
        return there
    items = [QTableWidgetItem(text) for text in texts]
    for column, item in enumerate(items):
        text = item.text()
        item.setToolTip(plain("\n".join(filter(None, (text, table.toolTip())))))
        table.setItem(row, column, item)
    return items


def choice(name: str, options: Sequence[tuple[str, object]], hint: str = "", width: int = 132) -> QComboBox:
    """A drop-down of (text, data); what follows a double space shows in the list alone."""
    box = Choice()
    box.setAccessibleName(name)
    box.setToolTip(plain(hint or name))
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


def fill(box: QComboBox, options: Sequence[tuple[str, object]], chosen: object) -> None:
    """Give a drop-down other choices, (text, data), and show one; none of it is told as the person's."""
    box.blockSignals(True)
    if [(box.itemText(k), box.itemData(k)) for k in range(box.count())] != list(options):
        box.clear()
        for text, data in options:
            box.addItem(text, data)
    box.setCurrentIndex(next((k for k, (_, data) in enumerate(options) if data == chosen), -1))
    box.blockSignals(False)


def ask_colour(parent: QWidget, linear: Sequence[float], title: str) -> Colour | None:
    """Ask for another colour, linear RGB; None where a person keeps the old one."""
    new = QColorDialog.getColor(QColor(*as_bytes(np.asarray(linear)).tolist()), parent, title)
    if not new.isValid():
        return None
    red, green, blue = to_linear(np.array([new.redF(), new.greenF(), new.blueF()])).tolist()
    return round(red, 4), round(green, 4), round(blue, 4)


def show_colour(button: QPushButton, linear: Sequence[float] | None) -> None:
    """Show a colour, linear RGB, on the button that changes it."""
    if linear is not None:
        square = QPixmap(14, 14)
        square.fill(QColor(*as_bytes(np.asarray(linear)).tolist()))
        button.setIcon(QIcon(square))


class FoldHead(QToolButton):
    """Heading of a section; checked while the section is open."""

    def __init__(self, title: str, opened: bool) -> None:
        super().__init__()
        self.setText(title)
        self.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.setCheckable(True)
        self.setChecked(opened)
        self.setObjectName("head")
        self.setFont(font(13, bold=True))
        self.toggled.connect(self._show_arrow)
        self._show_arrow()

    def _show_arrow(self) -> None:
        opened = self.isChecked()
        self.setArrowType(Qt.ArrowType.DownArrow if opened else Qt.ArrowType.RightArrow)
        self.setToolTip(plain(f"{'Fold' if opened else 'Open'} {self.text()}"))


def give_role(label: QLabel, role: str) -> None:
    """Colour a label by what it tells: nearer, farther, sharp, focus, gone, or nothing of these."""
    if label.property("role") != role:
        label.setProperty("role", role)
        label.style().unpolish(label)
        label.style().polish(label)


class DiagnosticLabel(Label):
    """What can hardly be meant, each with a link that mends it."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent=parent)
        self._session = session
        self._doubts: Sequence[Diagnostic] = ()
        self.setWordWrap(True)
        self.setTextFormat(Qt.TextFormat.RichText)
        self.setAccessibleName("Likely mistakes")
        self.linkActivated.connect(self.mend)

    def show_doubts(self, doubts: Sequence[Diagnostic]) -> None:
        """Show these; nothing is seen where there are none."""
        self._doubts = doubts
        colour = theme().focus.name()
        lines = (
            f'{html.escape(doubt.text)} <a href="{k}" style="color: {colour}">{html.escape(doubt.offer)}</a>'
            for k, doubt in enumerate(doubts)
        )
        self.setText("<br>".join(lines))
        self.setVisible(bool(doubts))

    def mend(self, which: str = "0") -> None:
        """Do what one of them offers."""
        mend(self._session, self._doubts[int(which)])
