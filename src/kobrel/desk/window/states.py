"""Layouts of Qt as text, to be kept among the settings."""

from PySide6.QtCore import QByteArray


def to_text(state: QByteArray) -> str:
    """What a widget calls its state, as base64."""
    return bytes(state.toBase64().data()).decode("ascii")


def from_text(text: str) -> QByteArray:
    """The state out of text; what makes no sense is a state that no widget takes."""
    return QByteArray.fromBase64(text.encode())
