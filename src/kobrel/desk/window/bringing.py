"""What is dropped on the window or pasted into it: plans, scenes, and pictures as plates."""

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QMimeData
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QMenu, QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.window.document import DocumentFile
from kobrel.session.commands.plates import placing
from kobrel.session.session import Session
from kobrel.stage.read.plates.playing import MOVIES
from kobrel.stage.read.plates.stills import ENDINGS
from kobrel.stage.scene import SCENE_SUFFIXES

PICTURES = (*ENDINGS, *MOVIES)


def is_picture(path: Path) -> bool:
    """Whether a file or folder can become plates, by its name."""
    return path.suffix.lower() in PICTURES or path.is_dir()


def take_files(
    session: Session, document: DocumentFile, files: SceneFiles, paths: list[Path], parent: QWidget
) -> QMenu | None:
    """Take what was dropped: opened at once, or a menu of what may be done with it."""
    path = paths[0]
    pictures = [each for each in paths if is_picture(each)]
    if session.shot is None or not (pictures or path.suffix.lower() in SCENE_SUFFIXES):
        if pictures and (path.is_dir() or len(paths) > 1 or path.suffix.lower() in (".ora", *MOVIES)):
            document.begin_empty()
            placing.add_files(session, pictures)
        else:
            document.open(path)
        return None
    menu = QMenu(parent)

    def add(text: str, work: Callable[[], object]) -> None:
        menu.addAction(text).triggered.connect(lambda _on=False: work())

    if pictures:
        what = pictures[0].name if len(pictures) == 1 else f"{len(pictures)} pictures"
        add(f"Add {what} as {'a plate' if len(pictures) == 1 else 'plates'}",
            lambda: placing.add_files(session, pictures))  # fmt: skip
    else:
        add(f"Add {path.name} to this plan", lambda: files.add(path))
    if not path.is_dir():
        add("Open it by itself", lambda: document.open(path))
    return menu


def paste(session: Session, plan: Path | None) -> None:
    """Make plates of the files or the picture on the clipboard. A picture without a file is written beside
    the plan.

    Parameters
    ----------
    plan : where the plan is saved, if it is
    """
    content = QGuiApplication.clipboard().mimeData() or QMimeData()  # none where it is empty
    paths = [Path(url.toLocalFile()) for url in content.urls() if url.isLocalFile()]
    pictures = [path for path in paths if is_picture(path)]
    if pictures:
        placing.add_files(session, pictures)
        return
    image = QGuiApplication.clipboard().image() if content.hasImage() else QImage()
    if image.isNull():
        session.say("There is no picture on the clipboard to make a plate of.")
        return
    kept = session.settings
    folder = plan.parent if plan is not None else (kept.state or kept.folder) / "pasted"
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"pasted_{time.strftime('%Y%m%d_%H%M%S')}.png"
    if not image.save(str(path)):
        session.say(f"{path} cannot be written. Save the plan where files may be, and paste again.")
        return
    placing.add_files(session, [path])
