"""The menus, and with them every shortcut."""

from collections.abc import Callable, Iterable
from functools import partial
from operator import methodcaller
from typing import Protocol

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar, QMessageBox

from kobrel import __version__
from kobrel.desk.background.exports import Exports
from kobrel.desk.background.player import Player
from kobrel.desk.cards.deck import BLOCK, EXPORT, NAMES, PLATES, PROOF
from kobrel.desk.toolkit.theme import LOOKS
from kobrel.desk.toolkit.words import plain
from kobrel.desk.window.body import Body
from kobrel.desk.window.document import DocumentFile
from kobrel.desk.window.keyboard import editing
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
    player: Player
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


Keys = QKeySequence.StandardKey
Entry = tuple[str, str | Keys, Callable[[], object]]
"""Text, shortcut and work of an action."""


def build(host: Host) -> None:
    """Make the menus of a host."""
    for make in (_file, _edit_menu, _shot, _play, _tape, _view, _help):
        make(host)


def _fill(host: Host, menu: QMenu, entries: Iterable[Entry | None]) -> None:
    """Add actions to a menu, and a line where there is none."""
    for entry in entries:
        if entry is None:
            menu.addSeparator()
        else:
            menu.addAction(host.add_action(*entry))


def _filled_when_shown(menu: QMenu, text: str, fill: Callable[[QMenu], None]) -> None:
    """Add a menu whose entries are made each time that it is shown."""
    inner = menu.addMenu(text)
    inner.aboutToShow.connect(lambda: fill(inner))


def _file(host: Host) -> None:
    document = host.document
    menu = host.bar.addMenu("&File")
    _fill(host, menu, [("Open…", Keys.Open, document.ask_open)])
    _filled_when_shown(menu, "Open recent", partial(fill_recent, host))
    _fill(host, menu, [
        ("New empty scene", Keys.New, document.begin_empty),
        ("Open demo: Night Ferry", "", document.open_demo),
        ("Open demo: Paper Harbour (plates)", "", document.open_harbour),
        None,
        ("Save", Keys.Save, document.save),
        ("Save as…", Keys.SaveAs, document.ask_save_as),
    ])  # fmt: skip
    _filled_when_shown(menu, "Previous versions", partial(fill_versions, host))
    menu.addSeparator()
    _import_menu(host, menu.addMenu("Import"))
    _export_menu(host, menu.addMenu("Export"))
    _fill(host, menu, [None, ("Quit", Keys.Quit, host.close)])


def _import_menu(host: Host, menu: QMenu) -> None:
    """All that is read into a plan, each entry on the page that shows it."""

    def on_page(card: int, page: str, ask: str) -> Callable[[], object]:
        def do() -> None:
            methodcaller(ask)(host.show_page(card, page))

        return do

    _fill(host, menu, [
        ("Add scene file…", "Ctrl+Shift+O", lambda: _add_scene(host)),
        ("Add plates…", "Ctrl+Shift+P", lambda: _add_plates(host)),
        ("Add folder of images as plates…", "", on_page(PLATES, "Plates", "ask_folder")),
        ("Open rendered image with depth…", "", on_page(PROOF, "Defocus", "ask_open")),
        ("Open separate depth pass…", "", on_page(PROOF, "Defocus", "ask_depth")),
        ("Add environment map (HDRI)…", "", on_page(BLOCK, "Lighting", "ask")),
        None,
        ("Import shot list…", "", host.exports.ask_list),
        ("Import camera or values…", "", on_page(EXPORT, "Import", "ask")),
        ("Import cues…", "", on_page(5, "Cues", "ask_import")),
        ("Import laser readings…", "", on_page(2, "Laser", "ask_open")),
        None,
        ("Import lens set…", "", on_page(3, "Lens", "ask_lens_set")),
        ("Import iris preset…", "", on_page(4, "Shape", "ask_open")),
        ("Import iris mask…", "", on_page(4, "Mask", "ask_picture")),
    ])  # fmt: skip


def _export_menu(host: Host, menu: QMenu) -> None:
    """All that is written; what needs choices leads to its page."""
    exports, session = host.exports, host.session
    for kind in KINDS.values():
        shortcut = "Ctrl+E" if kind.key == "usd" else ""
        action = host.add_action(f"{kind.title}…", shortcut, partial(exports.ask_and_write, kind.key))
        action.setToolTip(plain(kind.hint))
        menu.addAction(action)
    _fill(host, menu, [
        None,
        ("Render this frame…", "Ctrl+R", exports.ask_render),
        ("Export movie…", "Ctrl+Shift+M", partial(session.want, "movie")),
        ("Export focus-motor sound…", "", exports.ask_sound),
        ("Export passes or layers…", "", lambda: host.show_page(EXPORT, "Files")),
        ("Export camera sheet…", "", lambda: host.show_page(EXPORT, "Camera sheet")),
        ("Export contact sheet of proofs…", "", partial(session.want, "sheet")),
        ("Export depth of field table…", "", lambda: host.show_page(3, "Depth of field")),
        ("Export cues…", "", lambda: host.show_page(5, "Cues")),
        ("Export iris…", "", lambda: host.show_page(4, "Shape")),
        None,
        ("Update linked exports", "", exports.hand_over),
    ])  # fmt: skip


def _edit_menu(host: Host) -> None:
    exports, session, picture = host.exports, host.session, host.body.picture
    menu = host.bar.addMenu("&Edit")
    undo = host.add_action("Undo", Keys.Undo, session.undo)
    redo = host.add_action("Redo", Keys.Redo, session.redo)
    menu.addActions([undo, redo])
    session.watch({Document.history}, partial(_show_history, session, undo, redo))
    _show_history(session, undo, redo)
    _fill(host, menu, [
        None,
        ("Cut", Keys.Cut, partial(_edit, session, "cut")),
        ("Copy", Keys.Copy, partial(_edit, session, "copy")),
        ("Paste", Keys.Paste, partial(_edit, session, "paste")),
        ("Select all", Keys.SelectAll, partial(_edit, session, "selectAll")),
        None,
        ("Copy picture", "Ctrl+Shift+C", picture.copy),
        ("Copy picture with tags", "", partial(picture.copy, tags=True)),
        ("Copy frame at delivery size", "", exports.copy_frame),
        ("Paste image as plate", "Ctrl+Shift+V", host.paste),
        None,
        ("Preferences…", Keys.Preferences, host.show_preferences),
    ])  # fmt: skip


def _shot(host: Host) -> None:
    session = host.session
    menu = host.bar.addMenu("&Shot")
    _fill(host, menu, [
        ("Shot settings…", "F2", partial(session.want, "shot")),
        ("Duplicate shot", "Ctrl+D", partial(shot_list.duplicate, session)),
        ("Delete shot", "", partial(shot_list.remove, session)),
        ("Add shots from scene cameras", "", partial(shot_list.add_from_cameras, session)),
        ("Next shot", "PgDown", lambda: session.show_shot(session.shot_index + 1)),
        ("Previous shot", "PgUp", lambda: session.show_shot(session.shot_index - 1)),
        None,
    ])  # fmt: skip
    _filled_when_shown(menu, "Camera", partial(fill_cameras, host))
    _fill(host, menu, [
        None,
        ("Set mark here", "M", partial(set_mark, session)),
        ("Delete selected mark", "", partial(pulling.delete_chosen, session)),
        ("Open up ⅓ stop", "[", lambda: step_iris(session, -1)),
        ("Stop down ⅓ stop", "]", lambda: step_iris(session, 1)),
        ("Add proof", "P", partial(session.want, "keep")),
        None,
    ])  # fmt: skip
    _fill(host, menu.addMenu("Free view"), [
        ("Orbit left", "Ctrl+Left", partial(orbit, session, -0.1, 0.0)),
        ("Orbit right", "Ctrl+Right", partial(orbit, session, 0.1, 0.0)),
        ("Orbit up", "Ctrl+Up", partial(orbit, session, 0.0, 0.1)),
        ("Orbit down", "Ctrl+Down", partial(orbit, session, 0.0, -0.1)),
        ("Truck left", "Ctrl+Shift+Left", partial(pan, session, -0.05, 0.0)),
        ("Truck right", "Ctrl+Shift+Right", partial(pan, session, 0.05, 0.0)),
        ("Boom up", "Ctrl+Shift+Up", partial(pan, session, 0.0, 0.05)),
        ("Boom down", "Ctrl+Shift+Down", partial(pan, session, 0.0, -0.05)),
        ("Dolly in", "Ctrl++", partial(dolly, session, 1.0)),
        ("Dolly out", "Ctrl+-", partial(dolly, session, -1.0)),
    ])  # fmt: skip


def _play(host: Host) -> None:
    session, player = host.session, host.player
    _fill(host, host.bar.addMenu("&Play"), [
        ("Play or pause", "K", player.toggle),
        ("Play forward; again: faster", "L", partial(player.play, 1)),
        ("Play backward; again: faster", "J", partial(player.play, -1)),
        None,
        ("First frame", "Home", lambda: session.show_frame(-1e9)),
        ("Last frame", "End", lambda: session.show_frame(1e9)),
        None,
        ("Start range at this frame", "Shift+I", partial(_play_from, session)),
        ("End range at this frame", "Shift+O", partial(_play_to, session)),
        ("Play the whole shot", "Shift+P", lambda: session.play_only(-1e9, 1e9)),
        ("Loop on or off", "", lambda: session.setter(View.loops)(not session.view.loops)),
    ])  # fmt: skip


def _tape(host: Host) -> None:
    session = host.session
    _fill(host, host.bar.addMenu("&Tape"), [
        ("Start tape", "T", partial(taping.begin, session)),
        ("Tape from camera", "C", partial(taping.take_camera, session)),
        ("Focus on tape end", "F", partial(taping.focus_on_end, session)),
        ("Delete selected tape", "", partial(taping.remove, session)),
        None,
        ("Probe under pointer", "I", partial(_probe, session)),
    ])  # fmt: skip


def _view(host: Host) -> None:
    session, body = host.session, host.body
    menu = host.bar.addMenu("&View")
    turn_to = session.setter(View.card)
    _fill(host, menu, [(name, str(number), partial(turn_to, number)) for number, name in NAMES.items()])
    _fill(host, menu, [
        None,
        ("Toggle previous picture", "V", host.feed.flip),
        ("Hide panels", "F9", body.toggle_bare),
        ("Full-screen picture", "F11", host.toggle_alone),
        ("Cycle subject tags", "N", body.picture.flags.turn),
        ("Show/hide Barrel scale", "B", partial(body.fold, body.barrel)),
        ("Show/hide Overhead", "U", partial(body.fold, body.overhead)),
        ("Show/hide chart", "H", partial(body.fold, body.chart)),
        None,
        ("Denoised or raw picture", "R", lambda: session.setter(View.denoises)(not session.view.denoises)),
        ("Defocus everything", "O", lambda: session.throw(not session.view.defocus_everything)),
    ])  # fmt: skip
    wear = session.setter(View.theme)
    _fill(host, menu.addMenu("Appearance"), [(text, "", partial(wear, look)) for look, text in LOOKS.items()])


def _help(host: Host) -> None:
    _fill(host, host.bar.addMenu("&Help"), [
        ("Guide", "F1", host.help.show),
        ("Keys", "", partial(host.help.show, "Keys")),
        ("What is this?", "Shift+F1", host.help.ask),
        ("About Kobrel", "", lambda: _about(host)),
    ])  # fmt: skip


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
        session.say("Click a field, the chart or the picture first.")


def _probe(session: Session) -> None:
    """Take up the probe, or lay it down."""
    probing = session.selection.tool is not None and session.selection.tool.does == "probe"
    session.selection.tool = None if probing else Tool("probe")
    session.say("" if probing else "Probe: click copies, D-click focuses. I or Esc: stop.")


def _add_plates(host: Host) -> None:
    if host.session.shot is None and not host.document.begin_empty():
        return
    from kobrel.desk.cards.plates.plates_page import PlatesPage

    page = host.show_page(PLATES, "Plates")
    if isinstance(page, PlatesPage):
        page.ask_add()


def _add_scene(host: Host) -> None:
    if host.session.shot is None:
        host.document.ask_open()
        return
    from kobrel.desk.cards.block.scene_files import ScenesPage

    page = host.show_page(1, "Scene files")
    if isinstance(page, ScenesPage):
        page.ask_add()


def fill_recent(host: Host, menu: QMenu) -> None:
    """List the files that were open lately."""
    menu.clear()
    paths = host.document.recent()
    for path in paths:
        menu.addAction(str(path)).triggered.connect(lambda _on, p=path: host.document.open(p))
    if not paths:
        menu.addAction("No recent files").setEnabled(False)


def fill_versions(host: Host, menu: QMenu) -> None:
    """List the versions of the plan from before it was saved."""
    menu.clear()
    for path, when in host.document.versions():
        action = menu.addAction(f"Saved {when}")
        action.setToolTip(plain(f"{path.name}; Undo returns to the current version"))
        action.triggered.connect(lambda _on, p=path, w=when: host.document.show_version(p, w))
    if menu.isEmpty():
        menu.addAction("None yet").setEnabled(False)


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
        menu.addAction("No cameras in scene").setEnabled(False)


def _about(host: Host) -> None:
    QMessageBox.about(
        host.bar, "About Kobrel",
        plain(f"Kobrel {__version__}\n\nPlans physically based depth of field for CG shots.\nApache "
              "License 2.0. Font: B612, SIL Open Font License."),
    )  # fmt: skip
