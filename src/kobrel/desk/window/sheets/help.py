"""Help: the guide, and what a thing in the window is."""

from functools import cached_property

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication, QLabel, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.paged import PagedCard
from kobrel.desk.window.sheets.guide import GuideSheet

_VIEWS = {
    "PictureView": "Picture", "PairView": "Transport", "Overhead": "Overhead, Side, Front",
    "Barrel": "Barrel", "PullChart": "Pull chart", "ShotsColumn": "Shots", "Strip": "Block: Shots",
    "Maps": "Glass: Trade-offs", "Discs": "Iris: Shape", "MaskView": "Iris: Mask",
    "Depths": "Glass: Depth of field", "WallView": "Proof: Wall", "Transport": "Transport",
    "CachePanel": "Transport", "ComparePanel": "Transport", "ViewLook": "Transport", "Alts": "Alts",
    "AltsButton": "Alts", "QueueDrawer": "Queue", "QueueLine": "Queue",
}  # fmt: skip
"""Headings of views, by their classes."""


class Help(QObject):
    """Shows the guide of a window."""

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self._window = window

    @cached_property
    def guide(self) -> GuideSheet:
        """Made when it is first wanted."""
        return GuideSheet(self._window)

    def show(self, heading: str = "", word: str = "") -> None:
        """Show the guide, at a heading, and a word there."""
        if heading:
            self.guide.turn_to(heading, word)
        self.guide.show()
        self.guide.raise_()

    def ask(self) -> None:
        """Tell about what is clicked next."""
        WhatIsThis(self)


def place_of(widget: QWidget | None) -> tuple[str, str]:
    """Where the guide tells about a widget: a heading, and the widget's own name."""
    word = widget.accessibleName() if widget is not None else ""
    if widget is not None and not word and isinstance(widget, QLabel):
        word = widget.text()
    page = ""
    while widget is not None:
        kind = type(widget).__name__
        if kind in _VIEWS:
            return _VIEWS[kind], word
        if isinstance(widget, PagedCard):
            return f"{widget.name}: {page or widget.shown}", word
        if isinstance(widget, Card):
            page = widget.name
        widget = widget.parentWidget()
    return "Keys", word


@guarded
class WhatIsThis(QObject):
    """Waits for one click on anything, and tells where the guide says what it is."""

    def __init__(self, help_: Help) -> None:
        super().__init__(help_)
        self._help = help_
        QApplication.setOverrideCursor(Qt.CursorShape.WhatsThisCursor)
        application = QApplication.instance()
        assert application is not None
        application.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        kinds = QEvent.Type
        if event.type() == kinds.KeyPress:
            self._end()
            return True
        if isinstance(event, QMouseEvent) and isinstance(watched, QWidget):
            if event.type() == kinds.MouseButtonRelease:
                self._end()
                self._help.show(*place_of(watched))
            return event.type() in (
                kinds.MouseButtonPress,
                kinds.MouseButtonRelease,
                kinds.MouseButtonDblClick,
            )
        return False

    def _end(self) -> None:
        QApplication.restoreOverrideCursor()
        application = QApplication.instance()
        assert application is not None
        application.removeEventFilter(self)
        self.deleteLater()
