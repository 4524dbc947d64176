"""A PNG of each main view, for the docs and for machines without a display."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication

from kobrel.desk.document import DEMO
from kobrel.desk.look import apply
from kobrel.desk.window import PASSES, Window

SIZE = (1280, 800)
_PATIENCE_S = 180.0
# name, card, shot, frame, look
VIEWS = (
    ("tape", 2, 1, 1020, "dark"),
    ("glass", 3, 1, 1025, "dark"),
    ("iris", 4, 1, 1085, "dark"),
    ("pull", 5, 1, 1049, "dark"),
    ("wide", 3, 0, 1030, "dark"),
    ("compass", 3, 2, 1020, "dark"),
    ("departure", 5, 3, 1070, "dark"),
    ("light", 3, 1, 1068, "light"),
)


def take(qt: QApplication, folder: Path, file: Path | None = None) -> int:
    """Write the pictures; returns 0, or 1 where a view did not come in time."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as settings:
        QSettings.setDefaultFormat(QSettings.Format.IniFormat)
        QSettings.setPath(QSettings.Format.IniFormat, QSettings.Scope.UserScope, settings)
        apply(qt)
        window = Window()
        window.resize(*SIZE)
        window.show()
        window.drawing.start()
        window.document.open(file or DEMO)
        fine = _wait(qt, lambda: bool(window.session.plan.shots))
        for name, card, shot, frame, theme in VIEWS:
            if not fine or shot >= len(window.session.plan.shots):
                continue
            apply(qt, theme)
            window.session.show_shot(shot)
            window.session.show_frame(frame)
            window.show_card(card)
            fine = _wait(qt, lambda: f"pass {PASSES} /" in window.picture.status, settle=0.5)
            window.grab().save(str(folder / f"{name}.png"))
            print(f"kobrel: {folder / f'{name}.png'}")
        window.session.undo.setClean()
        window.close()
    return 0 if fine else 1


def _wait(qt: QApplication, ready: Callable[[], bool], settle: float = 0.0) -> bool:
    """Let the window work until something is so."""
    begun = time.monotonic()
    while time.monotonic() - begun < settle or not ready():
        qt.processEvents()
        time.sleep(0.005)
        if time.monotonic() - begun > _PATIENCE_S:
            return False
    return True
