"""A PNG of each main view, for the docs and for machines without a display."""

import ast
import hashlib
import importlib
import inspect
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import NamedTuple

from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QApplication

from kobrel.desk.cards.deck import NAMES
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.toolkit.theme import theme
from kobrel.desk.window.document import DEMO, HARBOUR
from kobrel.desk.window.picture_feed import PASSES
from kobrel.desk.window.window import Window
from kobrel.errors import KobrelError
from kobrel.plan.lens_sets.irises import OWN
from kobrel.session.selection import Chosen, ChosenPlates, ChosenStandIn

SIZE = (1280, 800)
_PATIENCE_S, _SETTLE_S = 180.0, 1.0
_HARBOUR = "Paper Harbour"


class View(NamedTuple):
    """A picture to take: a card and its page, a shot at a frame, what is chosen, a preset of the iris
    that the shot is given for it, an Alt that it is seen beside, whether a scene is shown as at first
    sight, and a plate of the demo of plates that is chosen in place of all of the other.
    """

    name: str
    card: int
    shot: int
    frame: int
    page: str
    chosen: Chosen | None = None
    zoom: float = 1.0
    look: str = "dark"
    preset: str = ""
    beside: str = ""
    sheet: bool = False


VIEWS = (
    View("block", 1, 0, 1030, "Stand-ins", chosen=ChosenStandIn(1), zoom=2.2),
    View("scene_report", 1, 0, 1030, "Scene files", sheet=True),
    View("tape", 2, 1, 1020, "Subjects"),
    View("glass", 3, 1, 1025, "Lens"),
    View("brief", 3, 2, 1016, "Brief"),
    View("maps", 3, 1, 1025, "Trade-offs"),
    View("iris", 4, 1, 1085, "Shape"),
    View("pull", 5, 1, 1049, "Marks"),
    View("wall", 6, 1, 1049, "Wall"),
    View("bracket", 6, 1, 1049, "Bracket"),
    View("defocus", 6, 1, 1049, "Defocus"),
    View("beside", 6, 1, 1072, "Wall", beside="Later, f/4"),
    View("queue", 7, 1, 1049, "Files"),
    View("shots", 1, 1, 1049, "Shots"),
    View("export", 7, 1, 1049, "Values"),
    View("light", 3, 1, 1068, "Depth of field", look="light"),
    View("plates", 8, 0, 1049, "Plates", chosen=ChosenPlates(3)),
    View("dial", 5, 0, 1052, "Dials", chosen=ChosenPlates(3)),
)
WORDS = "Words"
"""Under which a picture carries a digest of the words of its page."""


def words_of(view: View) -> str:
    """A digest of all texts in the module of the page that a picture shows: it is older than the page when
    this differs from what the picture carries.
    """
    name = NAMES[view.card].lower()
    module = importlib.import_module(f"kobrel.desk.cards.{name}.{name}_card")
    kinds = [kind for kind in vars(module).values() if isinstance(kind, type)]
    card = next(kind for kind in kinds if issubclass(kind, PagedCard) and kind is not PagedCard)
    page = next(each for each in vars(card).values() if isinstance(each, Page) and each.title == view.page)
    tree = ast.parse(inspect.getsource(inspect.getmodule(page.kind) or page.kind))
    unseen = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}  # docstrings
    texts = [
        node.value
        for node in ast.walk(tree)
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in unseen
    ]
    return hashlib.sha256("\n".join(sorted(texts)).encode()).hexdigest()[:16]


def take(qt: QApplication, folder: Path, file: Path | None = None, names: list[str] | None = None) -> int:
    """Write the pictures; returns 0, or 1 where a view did not come in time."""
    known = [view.name for view in VIEWS]
    for name in names or ():
        if name not in known:
            raise KobrelError(f"no view named {name}.", remedy=f"Views: {', '.join(known)}.")
    folder.mkdir(parents=True, exist_ok=True)
    window = Window()
    window.resize(*SIZE)
    window.show()
    window.drawing.start()
    window.document.open(file or DEMO)
    fine = _wait(qt, lambda: bool(window.session.plan.shots))
    for view in VIEWS:
        wanted = names is None or view.name in names
        if (
            wanted
            and isinstance(view.chosen, ChosenPlates)
            and file in (None, DEMO)
            and window.session.plan.name != _HARBOUR
        ):
            window.session.mark_saved()
            window.document.open(HARBOUR)
            fine = _wait(qt, lambda: window.session.plan.name == _HARBOUR) and fine
        if not fine or not wanted or view.shot >= len(window.session.plan.shots):
            continue
        _arrange(qt, window, view)
        if view.name in _PREPARED:
            fine = _wait(qt, lambda: _is_there(window)) and _PREPARED[view.name](qt, window)
        fine = _wait(qt, lambda: _is_there(window), settle=_SETTLE_S) and fine
        picture = window.grab()
        if view.sheet:
            fine = _draw_sheet(qt, window, picture) and fine
        image = picture.toImage()
        image.setText(WORDS, words_of(view))
        image.save(str(folder / f"{view.name}.png"))
        print(f"kobrel: {folder / f'{view.name}.png'}")
        while window.session.history.last:
            window.session.undo()
    window.session.mark_saved()
    _empty_queue(qt, window)
    window.close()
    return 0 if fine else 1


def _empty_queue(qt: QApplication, window: Window) -> None:
    for entry in window.queueing.open:
        window.queueing.want(entry.key, "cancel")
    _wait(qt, lambda: not window.queueing.open)
    window.queueing.clear()


def _arrange(qt: QApplication, window: Window, view: View) -> None:
    """Show in a window what a picture is to show."""
    session = window.session
    session.view.theme = view.look
    window.queue_line.setChecked(False)
    _empty_queue(qt, window)
    session.view.play_range = None
    session.show_shot(view.shot)
    session.show_frame(view.frame)
    if view.page:
        window.show_page(view.card, view.page)
    else:
        session.view.card = view.card
    session.selection.item = view.chosen
    camera = session.camera
    for preset in OWN:
        if preset.name == view.preset and camera is not None:
            session.edit_shot(preset.name, partial(preset.given_to, camera=camera))
    for plan_view in (window.overhead, window.second):
        plan_view.zoom_to(view.zoom)
    if view.beside:
        window.playback.set_draft(width=640, passes=16)
        window.playback.set_range(view.frame, view.frame + 2)
    window.playback.switch(bool(view.beside))
    window.playback.compare(view.beside)


def _draw_sheet(qt: QApplication, window: Window, picture: QPixmap) -> bool:
    """Draw what is shown of a scene at first sight over the window's middle."""
    window.show_arrival()
    sheet = window.arrival
    if sheet is None:
        return False
    fine = _wait(qt, sheet.isVisible, settle=_SETTLE_S)
    painter = QPainter(picture)
    painter.drawPixmap(
        (window.width() - sheet.width()) // 2, (window.height() - sheet.height()) // 2, sheet.grab()
    )
    painter.setPen(theme().line)
    painter.drawRect(sheet.rect().translated(window.rect().center() - sheet.rect().center()))
    painter.end()
    sheet.accept()
    return fine


def _hang(qt: QApplication, window: Window) -> bool:
    """Three proofs at three stops, of which two are compared."""
    session = window.session
    for stop in (1.4, 2.8, 8.0):
        count = len(session.plan.proofs)
        session.set_keyed("Stop", "f_number", stop)
        window.show_page(6, "Bracket")
        if not _wait(qt, lambda: _is_there(window), settle=_SETTLE_S):
            return False
        session.want("keep")
        if not _wait(qt, lambda n=count: len(session.plan.proofs) > n):  # type: ignore[misc]
            return False
    window.show_page(6, "Wall")
    session.selection.proofs = (session.plan.proofs[0].name, session.plan.proofs[2].name)
    return True


def _climb(qt: QApplication, window: Window) -> bool:
    """A ladder of stops with blades, asked for on its page."""
    from kobrel.desk.cards.proof.bracket import BracketPage

    page = window.show_page(6, "Bracket")
    assert isinstance(page, BracketPage)
    steps = (("stop", "1.4 2.8 5.6"), ("blades", "0 5 8"))
    for box, field, (kind, words) in zip(page.kinds, page.values, steps, strict=True):
        box.setCurrentIndex(box.findData(kind))
        box.activated.emit(box.currentIndex())
        field.setText(words)
    page.draw.click()
    return _wait(qt, lambda: window.jobs.job is None and len(window.proofing.rungs) == 9)


def _open_rendered(qt: QApplication, window: Window) -> bool:
    """The frame rendered without blur, opened as a rendered image."""
    from kobrel.desk.cards.proof.proof_card import ProofCard
    from kobrel.exchange.render import render_frame
    from kobrel.stage.scene import no_progress

    session, card, shot = window.session, window.cards[6], window.session.shot
    if shot is None or not isinstance(card, ProofCard):
        return False
    path = Path(_FOLDER.name) / "night_ferry.exr"
    render_frame(session.plan, shot, session.frame, session.stage, (960, 540), 48, path, no_progress, True)
    card.defocus.open(path)
    return _wait(qt, lambda: window.jobs.job is None and window.picture.status.startswith("rendered image"))


def _fill_queue(qt: QApplication, window: Window) -> bool:
    """Jobs of the demo: one done, one half done, others that wait."""
    from kobrel.exchange.movie import Movie

    exports, session, folder = window.exports, window.session, Path(_FOLDER.name)
    exports.write_passes(["depth", "blur", "mattes"], False, folder / "ferry_02_passes.exr")
    small = Movie(width=320, height=180, passes=16)
    for shot, name in ((1, "ferry_02.mp4"), (2, "ferry_03.png"), (3, "ferry_04.mov")):
        session.show_shot(shot)
        exports.write_movie(small, folder / name)
    session.show_shot(1)
    session.show_frame(1049)
    first, second, _third, last = window.queueing.entries
    window.queueing.move(first.key, 1)
    window.queueing.want(last.key, "pause")
    window.queue_line.setChecked(True)
    window.drawer.choose(second.key)
    return _wait(qt, lambda: (now := window.queueing.entry(second.key)) is not None and now.report.made > 40)


_FOLDER = tempfile.TemporaryDirectory(prefix="kobrel-pictures-")
_PREPARED: dict[str, Callable[[QApplication, Window], bool]] = {
    "wall": _hang, "bracket": _climb, "defocus": _open_rendered, "queue": _fill_queue,
}  # fmt: skip


def _is_there(window: Window) -> bool:
    """Whether the picture is finished, or both of a pair."""
    if window.playback.beside:
        return all(len(there) and there.all() for _frames, there in map(window.playback.filled, (0, 1)))
    if window.session.view.seen == "wall" or window.picture.status.startswith("rendered image"):
        return window.jobs.job is None
    return f"{PASSES} / {PASSES} samples" in window.picture.status


def _wait(qt: QApplication, ready: Callable[[], bool], settle: float = 0.0) -> bool:
    """Let the window work until something is so."""
    begun = time.monotonic()
    while time.monotonic() - begun < settle or not ready():
        qt.processEvents()
        time.sleep(0.005)
        if time.monotonic() - begun > _PATIENCE_S:
            return False
    return True
