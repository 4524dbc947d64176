"""Asking where to write, so that nothing is written over unasked."""

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget


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
        parent, "Kobrel", f"{paths[0].name}{more} will be written over.",
        buttons.Ok | buttons.Cancel, buttons.Cancel,
    )  # fmt: skip
    return answer == buttons.Ok
