"""Starting the window."""

import os
import sys
from pathlib import Path

from platformdirs import user_config_path, user_state_path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from kobrel.desk.background.watchdog import Watchdog, print_block
from kobrel.desk.toolkit import spoken
from kobrel.desk.window.sheets.faults import Faults
from kobrel.desk.window.window import Window
from kobrel.session.settings import Settings
from kobrel.session.store import FileStore
from kobrel.stage.read import probe

_PROBE_MS = 1500
_SWITCH_S = 0.001
"""After which a thread that works gives way to the window's; Python's own 5 ms add up over a painting."""


def application() -> QApplication:
    """The Qt application, named."""
    existing = QApplication.instance()
    made = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    made.setOrganizationName("Kobrel")
    made.setApplicationName("Kobrel")
    made.setDesktopFileName("kobrel")
    spoken.install()
    sys.setswitchinterval(_SWITCH_S)
    return made


def _again(window: Window) -> list[str]:
    """How the desktop starts this window again at the next login, with what is open in it."""
    path = window.document.path
    return [sys.argv[0], *([str(path)] if path is not None else [])]


def run(
    file: Path | None, demo: bool = False, pictures: Path | None = None, views: list[str] | None = None
) -> int:
    """Open the window and stay until it is closed.

    Parameters
    ----------
    file : plan or scene to open; None is what was open last
    demo : open the demo
    pictures : write a PNG of each main view there instead, and end
    views : names of those pictures that are wanted; None for all
    """
    qt = application()
    if pictures is not None:
        from kobrel.desk.window.screenshots import take

        return take(qt, pictures, file, views)
    folder = user_config_path("kobrel")
    state = user_state_path("kobrel")
    window = Window(Settings(FileStore(folder / "settings.json"), folder, state / "journals"))
    faults = Faults(window, window.safe.flush)
    faults.install()
    qt.commitDataRequest.connect(lambda _manager: window.safe.flush())
    qt.saveStateRequest.connect(lambda manager: manager.setRestartCommand(_again(window)))
    qt.styleHints().colorSchemeChanged.connect(lambda _scheme: window.show_desktop_look())
    if os.environ.get("KOBREL_DEBUG"):
        Watchdog(window, told=print_block)
    window.show()
    QTimer.singleShot(0, window.queueing.start)
    QTimer.singleShot(0, window.drawing.start)  # after the first paint
    QTimer.singleShot(_PROBE_MS, probe.start)
    window.cards.make_ahead()
    if demo:
        window.document.open_demo()
    elif file is not None:
        window.document.open(file)
    else:
        window.document.open_last()
    window.document.look_for_left()
    status = qt.exec()
    faults.remove()
    return status
