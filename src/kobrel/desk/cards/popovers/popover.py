"""A button that opens a small panel below or above itself, until there is a click elsewhere or Esc."""

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QFrame, QPushButton, QVBoxLayout, QWidget

from kobrel.desk.toolkit.words import plain

_GAP = 2


class PopOverButton(QPushButton):
    """Opens a panel; its content is made when it is first opened.

    Parameters
    ----------
    text : of the button
    hint : its tooltip, a sentence
    make : makes the content
    width : of the panel, pixels
    """

    def __init__(
        self, text: str, hint: str, make: Callable[[], QWidget], width: int = 322,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(text, parent)
        self._make, self._width = make, width
        self._panel: QFrame | None = None
        self._content: QWidget | None = None
        self.setToolTip(plain(hint))
        self.clicked.connect(lambda _on=False: self.open())

    @property
    def content(self) -> QWidget:
        """What the panel shows; made, within the panel, when it is first wanted."""
        if self._content is None:
            self._panel = QFrame(self, Qt.WindowType.Popup)
            self._panel.setObjectName("popover")
            self._panel.setFixedWidth(self._width)
            column = QVBoxLayout(self._panel)
            column.setContentsMargins(12, 10, 12, 12)
            self._content = self._make()
            column.addWidget(self._content)
        return self._content

    @property
    def is_open(self) -> bool:
        """Whether the panel is seen."""
        return self._panel is not None and self._panel.isVisible()

    def open(self) -> QWidget:
        """Open the panel beside the button, within the screen; returns its content."""
        content = self.content
        assert self._panel is not None
        self._panel.show()
        column = self._panel.layout()
        if column is not None:  # its texts are there only now, and lines that wrap need their height
            column.activate()
            self._panel.resize(self._width, column.totalHeightForWidth(self._width))
        self._panel.move(self._place(self._panel))
        content.setFocus()
        return content

    def close_panel(self) -> None:
        """Close it, as Esc does."""
        if self._panel is not None:
            self._panel.hide()

    def _place(self, panel: QFrame) -> QPoint:
        """Below the button where there is room for it, else above; never past the screen's edge."""
        room, size = self.screen().availableGeometry(), panel.size()
        at = self.mapToGlobal(QPoint(0, self.height() + _GAP))
        if at.y() + size.height() > room.bottom():
            at.setY(self.mapToGlobal(QPoint(0, 0)).y() - size.height() - _GAP)
        at.setX(max(room.left(), min(at.x(), room.right() - size.width())))
        at.setY(max(room.top(), at.y()))
        return at
