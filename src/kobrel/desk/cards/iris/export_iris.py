"""The iris for others: what it is in numbers that renderers share, and as files."""

import re
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import number_field
from kobrel.desk.toolkit.words import Label, plain
from kobrel.desk.views.iris_images import iris_image
from kobrel.errors import KobrelError
from kobrel.session.numbers import AT_FRAME
from kobrel.session.session import Session

_KINDS = {
    "Picture…": "iris.png", "Linear picture…": "iris.exr",
    "Outline…": "iris.csv", "Numbers…": "iris.json",
}  # fmt: skip
_HINTS = {
    "Picture…": "PNG with 16 bits, white passes all light", "Linear picture…": "EXR with 32-bit floats",
    "Outline…": "CSV of x and y, for a round pupil of radius 1",
    "Numbers…": "JSON of the outline and the numbers",
}  # fmt: skip
_FILTERS = "PNG picture (*.png);;EXR picture (*.exr);;Outline (*.csv);;Outline and numbers (*.json)"


class ExportIris(QDialog):
    """Numbers to copy, and buttons that write files; it stays open beside the work."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Export iris")
        self.resize(720, 560)
        column = QVBoxLayout(self)
        top = QHBoxLayout()
        self.picture = Label()
        self.picture.setAccessibleName("The iris")
        self.picture.setFixedSize(180, 180)
        self.picture.setScaledContents(True)
        top.addWidget(self.picture)
        top.addLayout(self._files(), 1)
        column.addLayout(top)
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName("Numbers of the iris")
        self.table.setHorizontalHeaderLabels(["Number", "Value", "Meaning"])
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.table.setWordWrap(True)
        self.table.setToolTip("Select a value and copy it with Ctrl+C")
        column.addWidget(self.table, 1)
        session.watch(AT_FRAME, self._refresh_if_seen)
        self.refresh()

    def _files(self) -> QVBoxLayout:
        column = QVBoxLayout()
        about = Label("Iris at this frame, including squeeze and rotation.")
        about.setObjectName("quiet")
        about.setWordWrap(True)
        column.addWidget(about)
        line = QHBoxLayout()
        line.addWidget(Label("Size of pictures"))
        self.side = number_field(
            "Width of pictures", "px", 256.0, 16.0, 8192.0, about="Width and height of the exported images"
        )
        self.side.show_value(1024)
        self.side.taken.connect(self.side.show_value)
        line.addWidget(self.side)
        line.addStretch(1)
        column.addLayout(line)
        line = QHBoxLayout()
        for text, name in _KINDS.items():
            button = QPushButton(text)
            button.setToolTip(plain(_HINTS[text]))
            button.setAutoDefault(False)  # Enter takes the size
            button.clicked.connect(lambda _on=False, n=name: self._ask(n))
            line.addWidget(button)
        line.addStretch(1)
        column.addLayout(line)
        self.said = Label()
        self.said.setWordWrap(True)
        column.addWidget(self.said)
        column.addStretch(1)
        return column

    def _ask(self, name: str) -> None:
        kind = next(k for k in _FILTERS.split(";;") if Path(name).suffix in k)
        endings = [Path(name).suffix, *re.findall(r"\*(\.\w+)", _FILTERS)]
        path = ask_target(self, "Export iris", Path.home() / name, _FILTERS, endings, kind)
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the iris, and say where or why not."""
        from kobrel.exchange.iris import write_iris

        camera = self._session.camera
        if camera is None:
            return
        try:
            write_iris(path, camera, round(self.side.value))
        except KobrelError as error:
            self.said.setText(str(error))
            return
        self.said.setText(f"Written: {path}")

    def _refresh_if_seen(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Show the session's iris."""
        from PySide6.QtGui import QPixmap

        from kobrel.exchange.iris import numbers_of

        camera = self._session.camera
        if camera is None:
            return
        self.picture.setPixmap(QPixmap.fromImage(iris_image(camera)))
        numbers = numbers_of(camera)
        self.table.setRowCount(len(numbers))
        for row, number in enumerate(numbers):
            for column, text in enumerate((number.name, f"{number.value:.6g}", number.meaning)):
                item = QTableWidgetItem(text)
                if column == 1:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(row, column, item)
        self.table.resizeRowsToContents()
