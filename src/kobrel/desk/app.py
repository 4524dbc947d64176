"""Starting the window."""

import sys
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from kobrel.desk.look import apply
from kobrel.desk.window import Window


def application() -> QApplication:
    """The Qt application, named and dressed."""
    existing = QApplication.instance()
    made = existing if isinstance(existing, QApplication) else QApplication(sys.argv[:1])
    made.setOrganizationName("Kobrel")
    made.setApplicationName("Kobrel")
    return made


def run(file: Path | None, demo: bool = False, pictures: Path | None = None) -> int:
    """Open the window and stay until it is closed.

    Parameters
    ----------
    file : plan or scene to open; None is what was open last
    demo : open the demo
    pictures : write a PNG of each main view there instead, and end
    """
    qt = application()
    if pictures is not None:
        from kobrel.desk.pictures import take

        return take(qt, pictures, file)
    apply(qt, str(QSettings().value("theme", "dark")))
    window = Window()
    window.show()
    QTimer.singleShot(0, window.drawing.start)  # after the first paint
    if demo:
        window.document.open_demo()
    elif file is not None:
        window.document.open(file)
    else:
        window.document.open_last()
    return qt.exec()
