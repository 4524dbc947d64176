"""Cut, copy, paste and select all, of whatever has the keyboard."""

from PySide6.QtCore import QEvent, Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent
from PySide6.QtWidgets import QApplication, QLineEdit, QPlainTextEdit, QTextEdit

from kobrel.desk.chart.view import PullChart
from kobrel.desk.picture.view import PictureView

_KEYS = {"copy": Qt.Key.Key_C, "paste": Qt.Key.Key_V, "selectAll": Qt.Key.Key_A}


def edit(what: str) -> str:
    """Do it; returns what to tell where it makes no sense.

    Parameters
    ----------
    what : "cut", "copy", "paste" or "selectAll"
    """
    widget = QApplication.focusWidget()
    if isinstance(widget, QLineEdit | QTextEdit | QPlainTextEdit):
        getattr(widget, what)()
    elif isinstance(widget, PullChart):
        keys = [_KEYS["copy"], Qt.Key.Key_Delete] if what == "cut" else [_KEYS[what]]
        for key in keys:
            held = (
                Qt.KeyboardModifier.NoModifier
                if key == Qt.Key.Key_Delete
                else Qt.KeyboardModifier.ControlModifier
            )
            QApplication.sendEvent(widget, QKeyEvent(QEvent.Type.KeyPress, key, held))
    elif isinstance(widget, PictureView) and what == "copy" and widget.image is not None:
        QGuiApplication.clipboard().setImage(widget.image)
        return "Copied the picture."
    else:
        return "Click in a field, the chart or the picture first."
    return ""
