"""Asking what shall be done, where there is more than one way."""

from PySide6.QtWidgets import QMessageBox, QWidget

from kobrel.desk.toolkit.words import plain


def asked(window: QWidget, what: str, more: str, *ways: str) -> str:
    """The way that the person chooses, "" for none of them.

    Parameters
    ----------
    what, more : what is the matter, and what else should be known, a sentence each
    ways : what the buttons say; the first is taken with Enter
    """
    box = QMessageBox(QMessageBox.Icon.NoIcon, "Kobrel", plain(what), parent=window)
    box.setInformativeText(plain(more))
    buttons = [box.addButton(way, QMessageBox.ButtonRole.AcceptRole) for way in ways]
    box.addButton(QMessageBox.StandardButton.Cancel)
    box.setDefaultButton(buttons[0])
    box.exec()
    clicked = box.clickedButton()
    return next((way for way, button in zip(ways, buttons, strict=True) if button is clicked), "")
