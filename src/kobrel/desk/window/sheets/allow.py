"""Asks whether files may be read that lie in other folders than what names them."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox, QWidget

from kobrel import trust
from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.toolkit.words import plain
from kobrel.session import settings
from kobrel.session.session import Session


def ask_allowed(window: QWidget, session: Session, files: SceneFiles) -> None:
    """Ask for folders that were refused lately, if there are any."""
    folders = trust.take_refused()
    if not folders:
        return
    box = QMessageBox(
        QMessageBox.Icon.NoIcon,
        "Kobrel",
        "This file refers to other folders. Allow reading them?",
        parent=window,
    )
    box.setInformativeText(plain("\n".join(str(folder) for folder in folders)))
    read = box.addButton("Allow", QMessageBox.ButtonRole.AcceptRole)
    read.setToolTip("These folders are remembered")
    box.addButton("Skip", QMessageBox.ButtonRole.RejectRole)
    box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    read.clicked.connect(lambda: _allow(session, files, folders))
    box.open()


def _allow(session: Session, files: SceneFiles, folders: list[Path]) -> None:
    for folder in folders:
        settings.allow_folder(session.settings, folder)
    surround = session.plan.light.surround
    paths = [scene.path for scene in session.plan.scenes]
    files.reload(paths + ([surround.path] if surround else []))
