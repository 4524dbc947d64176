"""The guide inside the window: tour, own scenes, views, cards and keys, to read and to search."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.toolkit.theme import DATA, theme
from kobrel.desk.toolkit.words import Label

GUIDE = DATA / "guide.md"


class GuideSheet(QDialog):
    """The headings at the left, the text at the right."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Guide")
        self.resize(860, 620)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search the guide")
        self.search.setAccessibleName("Search the guide")
        self.search.setClearButtonEnabled(True)
        self.headings, self.text, self.told = QListWidget(), QTextBrowser(), Label()
        self.headings.setAccessibleName("Headings")
        self.headings.setFixedWidth(220)
        self.text.setAccessibleName("Text of the guide")
        self.text.document().setDefaultStyleSheet(f"code {{ color: {theme().focus.name()}; }}")
        self.text.setMarkdown(GUIDE.read_text(encoding="utf-8"))
        self.told.setObjectName("quiet")
        line, column = QHBoxLayout(), QVBoxLayout(self)
        line.addWidget(self.headings)
        line.addWidget(self.text, 1)
        column.addWidget(self.search)
        column.addLayout(line, 1)
        column.addWidget(self.told)
        self._fill()
        self.headings.currentItemChanged.connect(self._turn)
        self.search.textChanged.connect(self._find)
        self.search.returnPressed.connect(self._find_next)

    def _fill(self) -> None:
        block = self.text.document().begin()
        while block.isValid():
            level = block.blockFormat().headingLevel()
            if level:
                item = QListWidgetItem("   " * (level - 2) + block.text())
                item.setData(Qt.ItemDataRole.UserRole, block.position())
                self.headings.addItem(item)
            block = block.next()

    def _turn(self, item: QListWidgetItem | None) -> None:
        if item is not None:
            self._show_at(item.data(Qt.ItemDataRole.UserRole))

    def _show_at(self, position: int) -> None:
        """Scroll so that a place stands at the top."""
        cursor = QTextCursor(self.text.document())
        cursor.movePosition(QTextCursor.MoveOperation.End)
        self.text.setTextCursor(cursor)
        cursor.setPosition(position)
        self.text.setTextCursor(cursor)
        bar = self.text.verticalScrollBar()
        bar.setValue(bar.value() + self.text.cursorRect().top() - 6)

    def turn_to(self, heading: str, word: str = "") -> bool:
        """Show a section, and a word in it if it is there; whether there is such a section."""
        for row in range(self.headings.count()):
            if self.headings.item(row).text().strip() == heading:
                self.headings.setCurrentRow(row)
                position = self.headings.item(row).data(Qt.ItemDataRole.UserRole)
                self._show_at(position)
                found = self.text.document().find(word, position) if word else QTextCursor()
                if not found.isNull():
                    self.text.setTextCursor(found)
                return True
        return False

    def _find(self, word: str) -> None:
        """Show the first place of a word."""
        self.text.moveCursor(QTextCursor.MoveOperation.Start)
        there = not word or self.text.find(word)
        self.told.setText("" if there else f"“{word}” is not in the guide.")

    def _find_next(self) -> None:
        word = self.search.text()
        if word and not self.text.find(word):
            self.text.moveCursor(QTextCursor.MoveOperation.Start)
            self.text.find(word)
