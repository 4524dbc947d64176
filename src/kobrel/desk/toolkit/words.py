"""Words from outside, shown as what they are: Qt takes text for markup where it looks like it, and markup may
name files. Labels are made here alone, and all other text that is not written in the code goes through
:func:`plain` (a test holds both).
"""

from PySide6.QtCore import Qt
from PySide6.QtGui import Qt as Rich
from PySide6.QtWidgets import QLabel, QWidget

_MOST_LETTERS = 4000


def plain(text: str) -> str:
    """Text for a tooltip or a box that Qt shows letter by letter, shortened where nobody would read it all.

    >>> plain("Post 2"), plain("<b>Post 2</b>")
    ('Post 2', '<p>&lt;b&gt;Post 2&lt;/b&gt;</p>')
    """
    text = text if len(text) <= _MOST_LETTERS else f"{text[:_MOST_LETTERS]}…"
    if not Rich.mightBeRichText(text):
        return text
    return Rich.convertFromPlainText(text, Rich.WhiteSpaceMode.WhiteSpaceNormal)


class Label(QLabel):
    """A label of plain text."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)
