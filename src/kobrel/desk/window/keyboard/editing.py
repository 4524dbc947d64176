"""Cut, copy, paste and select all, of whatever has the keyboard."""

from typing import Literal

from PySide6.QtWidgets import QApplication

What = Literal["cut", "copy", "paste", "selectAll"]


def edit(what: What) -> bool:
    """Do it, by the method of that name; whether what has the keyboard can."""
    work = getattr(QApplication.focusWidget(), what, None)
    if work is not None:
        work()
    return work is not None
