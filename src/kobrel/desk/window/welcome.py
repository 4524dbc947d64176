"""What the window shows while there is nothing to work on: how to begin."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from kobrel.desk.toolkit.words import Label
from kobrel.desk.window.document import DocumentFile


class Welcome(QWidget):
    """A question, what can be opened, and two buttons."""

    def __init__(self, document: DocumentFile, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        column = QVBoxLayout(self)
        column.addStretch(1)
        for text, name in (
            ("What shall be sharp?", "title"),
            (
                "Open a scene with a camera (USD, glTF, Alembic, OBJ, PLY, STL) or a plan, or drop it here.",
                "quiet",
            ),
        ):
            label = Label(text)
            label.setObjectName(name)
            label.setAlignment(Qt.AlignmentFlag.AlignCenter)
            column.addWidget(label)
        self.open_button = QPushButton("Open …")
        self.open_button.setToolTip("Open a scene or a plan (Ctrl+O)")
        self.open_button.clicked.connect(document.ask_open)
        self.demo_button = QPushButton("Look at the demo, Night Ferry")
        self.demo_button.setToolTip("Open the demo that ships with Kobrel")
        self.demo_button.clicked.connect(document.open_demo)
        self.empty_button = QPushButton("Begin with an empty stage")
        self.empty_button.setToolTip("Block with stand-ins, and make a camera by walking about")
        self.empty_button.clicked.connect(document.begin_empty)
        buttons = QHBoxLayout()
        buttons.addStretch(1)
        buttons.addWidget(self.open_button)
        buttons.addWidget(self.empty_button)
        buttons.addWidget(self.demo_button)
        buttons.addStretch(1)
        column.addSpacing(12)
        column.addLayout(buttons)
        column.addStretch(1)
