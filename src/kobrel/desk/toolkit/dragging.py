"""Dragging things out of the window: words, files, pictures."""

from collections.abc import Iterable
from pathlib import Path

from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDrag, QImage, QMouseEvent, QPixmap
from PySide6.QtWidgets import QApplication, QWidget

_SHOWN_PX = 160


def is_begun(event: QMouseEvent, pressed_at: QPointF | None) -> bool:
    """Whether the pointer was moved so far with the left button that something is dragged out."""
    if pressed_at is None or not event.buttons() & Qt.MouseButton.LeftButton:
        return False
    return (event.position() - pressed_at).manhattanLength() >= QApplication.startDragDistance()


def content(text: str = "", paths: Iterable[Path] = (), image: QImage | None = None) -> QMimeData:
    """What is dragged, in every way that another program may take it."""
    made = QMimeData()
    urls = [QUrl.fromLocalFile(str(path)) for path in paths]
    if urls:
        made.setUrls(urls)
    if text:
        made.setText(text)
    if image is not None:
        made.setImageData(image)
    return made


def drag_out(source: QWidget, what: QMimeData, image: QImage | None = None) -> None:
    """Drag something out of a widget, until it is let go."""
    drag = QDrag(source)
    drag.setMimeData(what)
    if image is not None:
        drag.setPixmap(
            QPixmap.fromImage(image).scaledToWidth(_SHOWN_PX, Qt.TransformationMode.SmoothTransformation)
        )
    drag.exec(Qt.DropAction.CopyAction)
