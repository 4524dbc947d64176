"""What is opened, dropped or pasted: plans, scenes, images, movies, folders, shot lists."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from PySide6.QtCore import QMimeData
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QFileDialog, QMenu, QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.cards.deck import BLOCK, PLATES, PROOF
from kobrel.desk.toolkit.asking import asked
from kobrel.desk.window.document import DocumentFile
from kobrel.errors import KobrelError
from kobrel.session.commands.plates import placing
from kobrel.session.session import Session
from kobrel.session.settings import allow_chosen
from kobrel.stage.read.plates.playing import MOVIES
from kobrel.stage.read.plates.stills import ENDINGS
from kobrel.stage.scene import SCENE_SUFFIXES

PICTURES = (*ENDINGS, *MOVIES)
LISTS = (".otio", ".otioz", ".edl")
_DEPTH, _IMAGE = "Choose its depth pass…", "It is a depth pass…"
_PLATE, _SKY = "Make a plate of it", "Use as environment map"
_SEVERAL = (".ora", *MOVIES)
"""Pictures that can be nothing but plates."""


class Host(Protocol):
    """The window that takes files."""

    session: Session
    document: DocumentFile
    files: SceneFiles
    exports: Exports

    def show_page(self, card: int, page: str) -> object:
        """Turn to a page of a card, and return the page."""


def is_picture(path: Path) -> bool:
    """Whether a file or folder can become plates, by its name."""
    return path.suffix.lower() in PICTURES or path.is_dir()


def take_files(host: Host, paths: list[Path], parent: QWidget) -> QMenu | None:
    """Take what was dropped: at once, after a question what it is, or a menu of what can be done with it."""
    session, path = host.session, paths[0]
    pictures = [each for each in paths if is_picture(each)]
    kind = path.suffix.lower()
    if session.shot is None or not (pictures or kind in SCENE_SUFFIXES):
        open_files(host, paths, parent)
        return None
    menu = QMenu(parent)

    def add(text: str, work: Callable[[], object]) -> None:
        menu.addAction(text).triggered.connect(lambda _on=False: work())

    if pictures:
        what = pictures[0].name if len(pictures) == 1 else f"{len(pictures)} images"
        add(f"Add {what} as {'a plate' if len(pictures) == 1 else 'plates'}",
            lambda: _add_plates(host, pictures))  # fmt: skip
        if len(pictures) == 1 and not path.is_dir() and kind not in _SEVERAL:
            add("Use as rendered image of this shot", lambda: _defocus(host, path, None, parent))
            add(_SKY, lambda: _light_with(host, path))
    else:
        add(f"Add {path.name} to this plan", lambda: host.files.add(path))
    if not path.is_dir():
        add("Open separately", lambda: open_files(host, [path], parent))
    return menu


def open_files(host: Host, paths: list[Path], parent: QWidget) -> None:
    """Open a plan, a scene, or an image with depth by itself; of other pictures ask what they are."""
    path, pictures = paths[0], [each for each in paths if is_picture(each)]
    if pictures:
        allow_chosen(host.session.settings, path)  # what it holds is looked at
    if path.suffix.lower() in LISTS:
        _read_list(host, path)
    elif pictures and (path.is_dir() or len(paths) > 1 or path.suffix.lower() in _SEVERAL):
        if host.document.begin_empty():
            _add_plates(host, pictures)
    elif pictures and not _has_depth(path):
        _ask_what(host, path, parent)
    else:
        host.document.open(path)


def _read_list(host: Host, path: Path) -> None:
    if host.session.shot is None:
        host.session.say(f"{path.name} is a shot list: open a scene or a plan first, then import it.")
    else:
        host.exports.read_list(path)


def _has_depth(path: Path) -> bool:
    """Whether a picture has a depth pass; one that cannot be read counts, as opening it says why."""
    from kobrel.stage.read.rendered.frames import layers

    try:
        return bool(layers(path)[1])
    except KobrelError:
        return True


def _ask_what(host: Host, path: Path, parent: QWidget) -> None:
    """Ask what a picture without depth is, and do it."""
    way = asked(
        parent, f"{path.name} has no depth pass.",
        "A rendered image needs its depth pass to be defocused. A photo can be a plate, or light the scene.",
        _PLATE, _DEPTH, _IMAGE, _SKY,
    )  # fmt: skip
    if way in (_DEPTH, _IMAGE):
        kinds = f"Images ({' '.join(f'*{ending}' for ending in ENDINGS)})"
        title = "Choose its depth pass" if way == _DEPTH else "Choose its image"
        name, _ = QFileDialog.getOpenFileName(parent, title, str(path.parent), kinds)
        if name and host.document.begin_empty():
            image, depth = (path, Path(name)) if way == _DEPTH else (Path(name), path)
            _defocus(host, image, depth, parent)
    elif way and host.document.begin_empty():
        if way == _PLATE:
            _add_plates(host, [path])
        else:
            _light_with(host, path)


def _add_plates(host: Host, pictures: list[Path]) -> None:
    host.show_page(PLATES, "Plates")
    placing.add_files(host.session, pictures)


def _defocus(host: Host, image: Path, depth: Path | None, parent: QWidget) -> None:
    from kobrel.desk.cards.proof.defocus import DefocusPage

    allow_chosen(host.session.settings, image)
    if depth is None and not _has_depth(image):
        name, _ = QFileDialog.getOpenFileName(
            parent, f"Choose the depth pass of {image.name}", str(image.parent)
        )
        if not name:
            return
        depth = Path(name)
    page = host.show_page(PROOF, "Defocus")
    assert isinstance(page, DefocusPage)
    page.open(image, depth)


def _light_with(host: Host, path: Path) -> None:
    from kobrel.desk.cards.block.lighting import LightPage

    page = host.show_page(BLOCK, "Lighting")
    assert isinstance(page, LightPage)
    page.light_with(path)


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
        session.say("No image on the clipboard.")
        return
    kept = session.settings
    folder = plan.parent if plan is not None else (kept.state or kept.folder) / "pasted"
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"pasted_{time.strftime('%Y%m%d_%H%M%S')}.png"
    if not image.save(str(path)):
        session.say(f"{path} cannot be written. Save the plan where files may be, and paste again.")
        return
    placing.add_files(session, [path])
