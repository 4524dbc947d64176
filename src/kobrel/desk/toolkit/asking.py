"""Asking the person: which way to go, where to write, and what may be written over."""

from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from kobrel.desk.toolkit.words import plain
from kobrel.exchange.upkeep import Asked

_MOST_LISTED = 12


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


def ask_target(
    parent: QWidget, title: str, start: Path, kinds: str, endings: Sequence[str], chosen_kind: str = ""
) -> Path | None:
    """Where to write a file; None if the person will not.

    Parameters
    ----------
    start : folder and name to begin with
    kinds, chosen_kind : as Qt's file chooser takes them
    endings : a name that has none of these gets the first
    """
    name, _ = QFileDialog.getSaveFileName(parent, title, str(start), kinds, chosen_kind)
    if not name:
        return None
    path = Path(name)
    if path.name.lower().endswith(tuple(endings)):
        return path
    path = path.with_name(path.name + endings[0])  # the chooser has asked about the name as it was typed
    return path if not path.exists() or may_write_over(parent, [path]) else None


def may_write_over(parent: QWidget, paths: Sequence[Path]) -> bool:
    """Whether files that are there may be written over."""
    buttons = QMessageBox.StandardButton
    more = f" and {len(paths) - 1} more" if len(paths) > 1 else ""
    answer = QMessageBox.question(
        parent, "Kobrel", plain(f"{paths[0].name}{more} already exists and will be overwritten."),
        buttons.Ok | buttons.Cancel, buttons.Cancel,
    )  # fmt: skip
    return answer == buttons.Ok


def ask_writing(
    parent: QWidget, plan: Path, wanted: Asked, write: Callable[[], object], leave: Callable[[], object]
) -> None:
    """Ask whether a plan may write what it wants to keep up to date; nothing waits for the answer."""
    question = f"{plan.name} has linked exports. Update them?"
    box = QMessageBox(QMessageBox.Icon.NoIcon, "Kobrel", plain(question), parent=parent)
    parts = (_listed("New", wanted.new), _listed("Not written by Kobrel, replaced", wanted.replaced))
    box.setInformativeText(plain("\n\n".join(filter(None, parts))))
    yes = box.addButton("Update them", QMessageBox.ButtonRole.AcceptRole)
    yes.setToolTip("The plan may write in these folders from now on; an earlier version of each file stays")
    no = box.addButton("Do not update", QMessageBox.ButtonRole.RejectRole)
    box.setDefaultButton(no)
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    box.finished.connect(lambda _code: write() if box.clickedButton() is yes else leave())
    box.open()


def _listed(title: str, paths: Sequence[Path]) -> str:
    shown = [str(path) for path in paths[:_MOST_LISTED]]
    more = [f"and {len(paths) - _MOST_LISTED} more"] if len(paths) > _MOST_LISTED else []
    return "\n".join([f"{title}:", *shown, *more]) if paths else ""
