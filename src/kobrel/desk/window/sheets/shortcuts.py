"""The keys of actions, as they came and as a person has changed them; and the sheet that shows them."""

from typing import NamedTuple

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QKeySequenceEdit,
    QLineEdit,
    QPushButton,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.cards.widgets import word_table
from kobrel.desk.toolkit.words import Label
from kobrel.session import settings
from kobrel.session.settings import Settings

_NONE = "-"
HELD = {
    "Space": "Play or pause", "Left": "Previous frame", "Right": "Next frame",
    "Shift+Left": "Ten frames back", "Shift+Right": "Ten frames forward", "D": "Held: click focuses",
    "Z": "Held: loupe",
}  # fmt: skip
"""Keys that are no action's and stay as they are."""


class Shortcut(NamedTuple):
    """An action with the key that it came with."""

    name: str
    action: QAction
    came_with: QKeySequence


class Shortcuts:
    """All actions of a window by name, in the order of its menus."""

    def __init__(self, kept: Settings) -> None:
        self._kept = kept
        self.all: list[Shortcut] = []

    def add(self, action: QAction, keys: QKeySequence) -> None:
        """Give an action its key: the one it came with, or the one that a person chose."""
        name = action.text()
        self.all.append(Shortcut(name, action, keys))
        chosen = self._kept.get(settings.SHORTCUTS, name)
        action.setShortcut(keys if not chosen else QKeySequence("" if chosen == _NONE else chosen))

    def change(self, name: str, keys: QKeySequence) -> str:
        """Give an action another key, or none.

        Returns
        -------
        Name of what has the key already, which then keeps it; "" where the key was free.
        """
        text = keys.toString()
        taken = HELD.get(text) or next(
            (each.name for each in self.all if text and each.name != name and each.action.shortcut() == keys),
            "",
        )
        if taken:
            return taken
        mine = next(each for each in self.all if each.name == name)
        mine.action.setShortcut(keys)
        self._kept.put(settings.SHORTCUTS, "" if keys == mine.came_with else text or _NONE, name)
        return ""

    def restore(self) -> None:
        """Give all actions the keys that they came with."""
        for each in self.all:
            each.action.setShortcut(each.came_with)
            self._kept.put(settings.SHORTCUTS, "", each.name)


class ShortcutsSheet(QDialog):
    """Select an action, press a key, and it has it."""

    def __init__(self, shortcuts: Shortcuts, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._shortcuts = shortcuts
        self.setWindowTitle("Keys")
        self.resize(460, 520)
        column = QVBoxLayout(self)
        self.search = QLineEdit()
        self.search.setAccessibleName("Search actions")
        self.search.setPlaceholderText("Search by action or key")
        self.search.setToolTip("Show actions whose name or key has this in it")
        self.search.textChanged.connect(self._show)
        self.table = word_table("Actions and their keys", ("Action", "Key"), 24, (0,))
        self.table.itemSelectionChanged.connect(self._select)
        self.keys = QKeySequenceEdit()
        self.keys.setMaximumSequenceLength(1)
        self.keys.setAccessibleName("Key of the selected action")
        self.keys.setToolTip("Press the new key; Assign gives it to the selected action")
        self.said = Label()
        self.said.setWordWrap(True)
        line = QHBoxLayout()
        line.addWidget(self.keys, 1)
        self.assign, self.clear, self.reset = (
            self._button(text, hint, work)
            for text, hint, work in (
                ("Assign", "Give the key to the selected action", self._assign),
                ("Clear", "Leave the selected action without a key", self._clear),
                ("Restore all", "Give all actions the keys they came with", self._restore),
            )
        )
        for button in (self.assign, self.clear, self.reset):
            line.addWidget(button)
        close = QPushButton("Close")
        close.setAutoDefault(False)
        close.clicked.connect(self.accept)
        for widget in (self.search, self.table):
            column.addWidget(widget)
        column.addLayout(line)
        column.addWidget(self.said)
        column.addWidget(close)
        self._show()

    def _button(self, text: str, hint: str, work: object) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip(hint)
        button.setAutoDefault(False)
        button.clicked.connect(work)
        return button

    @property
    def selected(self) -> str:
        """Name of the selected action; "" where none is, or one whose key is fixed."""
        item = self.table.item(self.table.currentRow(), 0)
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None and item.isSelected() else ""

    def _show(self) -> None:
        rows = [(each.name, each.action.shortcut().toString(), each.name) for each in self._shortcuts.all]
        rows += [(name, f"{key} (fixed)", "") for key, name in HELD.items()]
        wanted = self.search.text().strip().lower()
        rows = [row for row in rows if wanted in f"{row[0]} {row[1]}".lower()]
        self.table.setRowCount(len(rows))
        for row, (text, key, name) in enumerate(rows):
            item = QTableWidgetItem(text)
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.table.setItem(row, 0, item)
            self.table.setItem(row, 1, QTableWidgetItem(key))

    def _select(self) -> None:
        mine = next((each for each in self._shortcuts.all if each.name == self.selected), None)
        for widget in (self.keys, self.assign, self.clear):
            widget.setEnabled(mine is not None)
        self.keys.setKeySequence(mine.action.shortcut() if mine is not None else QKeySequence())

    def _assign(self) -> None:
        self._give(self.keys.keySequence())

    def _clear(self) -> None:
        self._give(QKeySequence())

    def _give(self, keys: QKeySequence) -> None:
        name, row = self.selected, self.table.currentRow()
        if not name:
            self.said.setText("Select an action first.")
            return
        taken = self._shortcuts.change(name, keys)
        self.said.setText(f"{keys.toString()} belongs to {taken}. Choose another key." if taken else "")
        self._show()
        self.table.selectRow(row)

    def _restore(self) -> None:
        self._shortcuts.restore()
        self.said.setText("All keys are as they came.")
        self._show()
