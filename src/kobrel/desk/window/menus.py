"""The menus, and with them every shortcut."""

from collections.abc import Callable
from functools import partial
from typing import Protocol

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar, QMessageBox

from kobrel import __version__
from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.deck import NAMES
from kobrel.desk.toolkit.theme import LOOKS
from kobrel.desk.toolkit.words import plain
from kobrel.desk.window import editing
from kobrel.desk.window.body import Body
from kobrel.desk.window.document import DocumentFile
from kobrel.desk.window.picture_feed import PictureFeed
from kobrel.desk.window.sheets.help import Help
from kobrel.exchange.export import KINDS
from kobrel.session.commands import pulling, shot_list, taping
from kobrel.session.commands.focusing import set_mark, step_iris
from kobrel.session.commands.walking import cameras_of_scenes, choose_camera, dolly, orbit, pan
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.tools import Tool
from kobrel.session.view import View


class Host(Protocol):
    """The window that the menus are of."""

    session: Session
    document: DocumentFile
    exports: Exports
    bar: QMenuBar
    body: Body
    feed: PictureFeed
    help: Help

    def add_action(
        self, text: str, keys: str | QKeySequence.StandardKey, work: Callable[[], object]
    ) -> QAction:
        """An action with a shortcut that works in the whole window."""

    def show_warning(self, title: str, lines: list[str]) -> None:
        """Say something in a box."""

    def show_page(self, card: int, page: str) -> object:
        """Turn to a page of a card, and return the page."""

    def show_preferences(self) -> None:
        """Show what can be chosen for all plans."""

    def toggle_alone(self) -> None:
        """Show Picture alone, or everything again."""

    def paste(self) -> None:
        """Make a plate of the picture on the clipboard."""

    def close(self) -> bool:
        """Close the window."""


def build(host: Host) -> None:
    """Make the menus of a host."""
    keys = QKeySequence.StandardKey
    document, exports, session = host.document, host.exports, host.session
    file = host.bar.addMenu("&File")
    file.addAction(host.add_action("Open scene or plan …", keys.Open, document.ask_open))
    recent = file.addMenu("Open recent")
    recent.aboutToShow.connect(lambda: fill_recent(host, recent))
    file.addAction(host.add_action("New, on an empty stage", keys.New, document.begin_empty))
    file.addAction(host.add_action("Add scene …", "Ctrl+Shift+O", lambda: _add_scene(host)))
    file.addAction(host.add_action("Add plates …", "Ctrl+Shift+P", lambda: _add_plates(host)))
    file.addAction(host.add_action("Open the demo, Night Ferry", "", document.open_demo))
    file.addAction(host.add_action("Open the demo of plates, Paper Harbour", "", document.open_harbour))
    file.addSeparator()
    file.addAction(host.add_action("Save", keys.Save, document.save))
    file.addAction(host.add_action("Save as …", keys.SaveAs, document.ask_save_as))
    versions = file.addMenu("Earlier versions")
    versions.aboutToShow.connect(lambda: fill_versions(host, versions))
    file.addSeparator()
    hand = file.addMenu("Hand over")
    for kind in KINDS.values():
        shortcut = "Ctrl+E" if kind.key == "usd" else ""
        action = host.add_action(f"{kind.title} …", shortcut, partial(exports.ask_and_write, kind.key))
        action.setToolTip(plain(kind.hint))
        hand.addAction(action)
    hand.addSeparator()
    hand.addAction(host.add_action("Write what is kept up to date", "", exports.hand_over))
    file.addAction(host.add_action("Render this frame …", "Ctrl+R", exports.ask_render))
    file.addAction(host.add_action("Write a movie …", "Ctrl+M", partial(session.want, "movie")))
    file.addAction(host.add_action("Write the focus motor's sound …", "", exports.ask_sound))
    file.addAction(host.add_action("Contact sheet …", "", partial(session.want, "sheet")))
    file.addSeparator()
    file.addAction(host.add_action("Quit", keys.Quit, host.close))

    edit = host.bar.addMenu("&Edit")
    undo = host.add_action("Undo", keys.Undo, session.undo)
    redo = host.add_action("Redo", keys.Redo, session.redo)
    edit.addActions([undo, redo])
    edit.addSeparator()
    kinds: list[tuple[str, QKeySequence.StandardKey, editing.What]] = [
        ("Cut", keys.Cut, "cut"), ("Copy", keys.Copy, "copy"), ("Paste", keys.Paste, "paste"),
        ("Select all", keys.SelectAll, "selectAll"),
    ]  # fmt: skip
    for text, standard, what in kinds:
        edit.addAction(host.add_action(text, standard, partial(_edit, session, what)))
    session.watch({Document.history}, partial(_show_history, session, undo, redo))
    _show_history(session, undo, redo)
    edit.addSeparator()
    picture = host.body.picture
    edit.addAction(host.add_action("Copy picture", "Ctrl+Shift+C", picture.copy))
    edit.addAction(host.add_action("Copy picture with tags", "", partial(picture.copy, tags=True)))
    edit.addAction(host.add_action("Copy frame at delivery size", "", exports.copy_frame))
    edit.addAction(host.add_action("Paste a picture as a plate", "Ctrl+Shift+V", host.paste))
    edit.addSeparator()
    edit.addAction(host.add_action("Preferences …", keys.Preferences, host.show_preferences))
    edit.addSeparator()
    edit.addAction(host.add_action("Set mark here", "M", partial(set_mark, session)))
    edit.addAction(host.add_action("Delete chosen mark", "", partial(pulling.delete_chosen, session)))

    shot = host.bar.addMenu("&Shot")
    for text, shortcut, work in (
        ("Name and frames", "F2", partial(session.want, "shot")),
        ("Duplicate", "Ctrl+D", partial(shot_list.duplicate, session)),
        ("Delete", "", partial(shot_list.remove, session)),
        ("Add from the scenes' cameras", "", partial(shot_list.add_from_cameras, session)),
        ("Read a list of shots …", "", exports.ask_list),
        ("Write the list of shots …", "", partial(exports.ask_and_write, "otio")),
    ):
        shot.addAction(host.add_action(text, shortcut, work))
    shot.addSeparator()
    cameras = shot.addMenu("Camera")
    cameras.aboutToShow.connect(lambda: fill_cameras(host, cameras))
    shot.addSeparator()
    shot.addAction(host.add_action("Play or pause\tSpace", "", partial(session.want, "play")))
    shot.addAction(host.add_action("Play from this frame", "Shift+I", partial(_play_from, session)))
    shot.addAction(host.add_action("Play to this frame", "Shift+O", partial(_play_to, session)))
    shot.addAction(host.add_action("Play the whole shot", "Shift+P", lambda: session.play_only(-1e9, 1e9)))
    shot.addAction(host.add_action("First frame", "Home", lambda: session.show_frame(-1e9)))
    shot.addAction(host.add_action("Last frame", "End", lambda: session.show_frame(1e9)))
    shot.addAction(host.add_action("Next shot", "PgDown", lambda: session.show_shot(session.shot_index + 1)))
    shot.addAction(
        host.add_action("Previous shot", "PgUp", lambda: session.show_shot(session.shot_index - 1))
    )
    shot.addSeparator()
    shot.addAction(host.add_action("Open the iris a third", "[", lambda: step_iris(session, -1)))
    shot.addAction(host.add_action("Close the iris a third", "]", lambda: step_iris(session, 1)))

    shot.addAction(host.add_action("Keep the picture on the wall", "K", partial(session.want, "keep")))
    shot.addSeparator()
    walk = shot.addMenu("Walk about")
    for text, shortcut, step in (
        ("Around to the left", "Ctrl+Left", (orbit, -0.1, 0.0)),
        ("Around to the right", "Ctrl+Right", (orbit, 0.1, 0.0)),
        ("Around and up", "Ctrl+Up", (orbit, 0.0, 0.1)), ("Around and down", "Ctrl+Down", (orbit, 0.0, -0.1)),
        ("Aside to the left", "Ctrl+Shift+Left", (pan, -0.05, 0.0)),
        ("Aside to the right", "Ctrl+Shift+Right", (pan, 0.05, 0.0)),
        ("Higher", "Ctrl+Shift+Up", (pan, 0.0, 0.05)), ("Lower", "Ctrl+Shift+Down", (pan, 0.0, -0.05)),
        ("Nearer", "Ctrl++", (dolly, 1.0)), ("Farther", "Ctrl+-", (dolly, -1.0)),
    ):  # fmt: skip
        move, *by = step
        walk.addAction(host.add_action(text, shortcut, partial(move, session, *by)))

    tape = host.bar.addMenu("&Tape")
    tape.addAction(host.add_action("Start a tape", "T", partial(taping.begin, session)))
    tape.addAction(host.add_action("Begin a tape at the camera", "C", partial(taping.take_camera, session)))
    tape.addAction(host.add_action("Focus on the tape's end", "F", partial(taping.focus_on_end, session)))
    tape.addAction(host.add_action("Delete the chosen tape", "", partial(taping.remove, session)))
    tape.addSeparator()
    tape.addAction(host.add_action("Probe: read and copy under the pointer", "P", partial(_probe, session)))

    view = host.bar.addMenu("&View")
    for number, name in NAMES.items():
        view.addAction(host.add_action(name, str(number), partial(session.setter(View.card), number)))
    view.addSeparator()
    view.addAction(host.add_action("Flip to the last picture", "V", host.feed.flip))
    view.addAction(host.add_action("Only Picture, Barrel and chart\tTab", "", host.body.toggle_bare))
    view.addAction(host.add_action("Picture alone", "F11", host.toggle_alone))
    view.addAction(host.add_action("Flags: short, whole, none", "N", host.body.picture.flags.turn))
    for text, shortcut, folded in (
        ("Fold or unfold the Barrel", "B", host.body.barrel),
        ("Fold or unfold Overhead", "U", host.body.overhead),
        ("Fold or unfold what stands below", "H", host.body.chart),
    ):
        view.addAction(host.add_action(text, shortcut, partial(host.body.fold, folded)))
    view.addSeparator()
    view.addAction(
        host.add_action("Throw everything out of focus", "O", lambda: session.throw(not session.view.thrown))
    )
    themes = view.addMenu("Look")
    for look, text in LOOKS.items():
        themes.addAction(host.add_action(text, "", partial(session.setter(View.theme), look)))

    about = host.bar.addMenu("&Help")
    about.addAction(host.add_action("Guide", "F1", host.help.show))
    about.addAction(host.add_action("Keys", "", partial(host.help.show, "Keys")))
    about.addAction(host.add_action("What is this?", "Shift+F1", host.help.ask))
    about.addAction(host.add_action("About Kobrel", "", lambda: _about(host)))


def _play_from(session: Session) -> None:
    first, last = session.frame, session.played[1]
    session.play_only(first, last if last >= first else 1e9)


def _play_to(session: Session) -> None:
    first, last = session.played[0], session.frame
    session.play_only(first if first <= last else -1e9, last)


def _show_history(session: Session, undo: QAction, redo: QAction) -> None:
    """Let the actions say what they would undo and do again."""
    for action, word, step in ((undo, "Undo", session.history.last), (redo, "Redo", session.history.next)):
        action.setText(f"{word} {step.name}" if step else word)
        action.setEnabled(step is not None)


def _edit(session: Session, what: editing.What) -> None:
    if not editing.edit(what):
        session.say("Click in a field, the chart or the picture first.")


def _probe(session: Session) -> None:
    """Take up the probe, or lay it down."""
    probing = session.selection.tool is not None and session.selection.tool.does == "probe"
    session.selection.tool = None if probing else Tool("probe")
    session.say("" if probing else "Probe: click in Picture copies, D and click focuses. P or Esc stops.")


def _add_plates(host: Host) -> None:
    if host.session.shot is None:
        host.document.begin_empty()
    from kobrel.desk.cards.block.plates import PlatesPage

    page = host.show_page(1, "Plates")
    if isinstance(page, PlatesPage):
        page.ask_add()


def _add_scene(host: Host) -> None:
    if host.session.shot is None:
        host.document.ask_open()
        return
    from kobrel.desk.cards.block.scenes import ScenesPage

    page = host.show_page(1, "Scenes")
    if isinstance(page, ScenesPage):
        page.ask_add()


def fill_recent(host: Host, menu: QMenu) -> None:
    """List the files that were open lately."""
    menu.clear()
    paths = host.document.recent()
    for path in paths:
        menu.addAction(str(path)).triggered.connect(lambda _on, p=path: host.document.open(p))
    if not paths:
        menu.addAction("Nothing yet").setEnabled(False)


def fill_versions(host: Host, menu: QMenu) -> None:
    """List the versions of the plan from before it was saved."""
    menu.clear()
    for path, when in host.document.versions():
        action = menu.addAction(f"Saved {when}")
        action.setToolTip(plain(f"{path.name}; undo comes forth again"))
        action.triggered.connect(lambda _on, p=path, w=when: host.document.show_version(p, w))
    if menu.isEmpty():
        menu.addAction("None yet: saving again keeps the one before").setEnabled(False)


def fill_cameras(host: Host, menu: QMenu) -> None:
    """The cameras of the scenes; the chosen one gives its place, lens, keys and focus."""
    menu.clear()
    session = host.session
    here = session.shot.camera if session.shot else None
    for camera in cameras_of_scenes(session):
        action = menu.addAction(camera.path)
        action.setCheckable(True)
        action.setChecked(here == camera)
        action.triggered.connect(lambda _on, c=camera: choose_camera(session, c.scene, c.path))
    if menu.isEmpty():
        menu.addAction("The scenes have no camera").setEnabled(False)


def _about(host: Host) -> None:
    QMessageBox.about(
        host.bar, "About Kobrel",
        plain(f"Kobrel {__version__}\n\nPlans physically based depth of field for computer-made shots.\n"
        "Apache License 2.0. Type: B612, SIL Open Font License."),
    )  # fmt: skip
