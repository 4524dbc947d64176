"""The start page: open, start, recent files and demos as pictures."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QImage, QPixmap, QShowEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QToolButton, QVBoxLayout, QWidget

from kobrel.desk.background.recent_pictures import SIZE, RecentPictures
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.paint import elided
from kobrel.desk.toolkit.theme import DATA, theme
from kobrel.desk.toolkit.words import Label, plain
from kobrel.desk.window.document import DocumentFile
from kobrel.files import is_file

_COLUMNS, _MOST = 4, 8


@guarded
class Welcome(QWidget):
    """A question, what can be opened, two buttons, and pictures to click."""

    def __init__(
        self, document: DocumentFile, pictures: RecentPictures, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._document, self._pictures = document, pictures
        column = QVBoxLayout(self)
        column.addStretch(2)
        for text, name in (
            ("What should be in focus?", "title"),
            ("Open or drop a plan, a scene (USD, glTF, Alembic, OBJ, PLY, STL), a rendered image, or images "
             "and movies as plates.", "quiet"),
        ):  # fmt: skip
            label = Label(text)
            label.setObjectName(name)
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(label)
        self.open_button = QPushButton("Open…")
        self.open_button.setToolTip("Open a plan, a scene, an image or a movie (Ctrl+O)")
        self.open_button.clicked.connect(document.ask_open)
        self.empty_button = QPushButton("Start with an empty scene")
        self.empty_button.setToolTip("Block with stand-ins and place a camera (Ctrl+N)")
        self.empty_button.clicked.connect(document.begin_empty)
        buttons = QHBoxLayout()
        buttons.addStretch(1)
        buttons.addWidget(self.open_button)
        buttons.addWidget(self.empty_button)
        buttons.addStretch(1)
        column.addSpacing(12)
        column.addLayout(buttons)
        column.addSpacing(18)
        self.grid = QGridLayout()
        self.grid.setSpacing(10)
        middle = QHBoxLayout()
        middle.addStretch(1)
        middle.addLayout(self.grid)
        middle.addStretch(1)
        column.addLayout(middle)
        column.addStretch(3)
        self.tiles: list[QToolButton] = []

    def showEvent(self, event: QShowEvent) -> None:
        self.show_tiles()

    def show_tiles(self) -> None:
        """Show the files that were open lately, and the demos after them."""
        for tile in self.tiles:
            tile.deleteLater()
        document = self._document
        self.tiles = [
            *(self._recent(path) for path in document.recent_files()[: _MOST - 2]),
            self._tile(
                "Demo: Night Ferry", "Open the demo of a scene", _demo("night_ferry"), document.open_demo
            ),
            self._tile(
                "Demo: Paper Harbour",
                "Open the demo of plates",
                _demo("paper_harbour"),
                document.open_harbour,
            ),
        ]
        for number, tile in enumerate(self.tiles):
            self.grid.addWidget(tile, *divmod(number, _COLUMNS))

    def _recent(self, path: Path) -> QToolButton:
        there = is_file(path)
        tile = self._tile(
            path.name if there else f"Missing: {path.name}",
            str(path) if there else f"{path} no longer exists, or its disk is not connected",
            self._pictures.of(path), lambda: self._document.open(path),
        )  # fmt: skip
        tile.setEnabled(there)
        return tile

    @staticmethod
    def _tile(text: str, hint: str, image: QImage | None, work: Callable[[], object]) -> QToolButton:
        tile = QToolButton()
        tile.setObjectName("tile")
        tile.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
        tile.setText(elided(text, 13, SIZE[0]))
        tile.setAccessibleName(text)
        tile.setToolTip(plain(hint))
        tile.setIconSize(QSize(*SIZE))
        if image is None:
            pixmap = QPixmap(*SIZE)
            pixmap.fill(theme().base)
        else:
            pixmap = QPixmap.fromImage(image)
        tile.setIcon(QIcon(pixmap))
        tile.clicked.connect(lambda _on=False: work())
        return tile


def _demo(name: str) -> QImage:
    return QImage(str(DATA / "start" / f"{name}.jpg"))
