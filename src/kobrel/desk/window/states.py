"""Layouts of Qt as text, to be kept among the settings; a window's place on the screen."""

from PySide6.QtCore import QByteArray, QRect, Qt
from PySide6.QtWidgets import QWidget


def to_text(state: QByteArray) -> str:
    """What a widget calls its state, as base64."""
    return bytes(state.toBase64().data()).decode("ascii")


def from_text(text: str) -> QByteArray:
    """The state out of text; what makes no sense is a state that no widget takes."""
    return QByteArray.fromBase64(text.encode())


def fit(window: QWidget, free: QRect) -> None:
    """Keep a window with its frame within the free part of the screen."""
    if window.windowState() != Qt.WindowState.WindowNoState:
        return
    frame = window.frameGeometry()
    if frame.width() > free.width() or frame.height() > free.height():
        window.resize((free.size() - frame.size() + window.size()).boundedTo(window.size()))
        frame = window.frameGeometry()
    window.move(
        max(min(frame.left(), free.right() + 1 - frame.width()), free.left()),
        max(min(frame.top(), free.bottom() + 1 - frame.height()), free.top()),
    )


def come_forward(window: QWidget) -> None:
    """Bring a window to the front, as far as the desktop lets it."""
    window.setWindowState(window.windowState() & ~Qt.WindowState.WindowMinimized)
    window.raise_()
    window.activateWindow()
