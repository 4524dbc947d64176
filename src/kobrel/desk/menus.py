"""The menus, and with them every shortcut."""

from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QMenu, QMessageBox

from kobrel import __version__
from kobrel.desk import shot_list, taping
from kobrel.desk.blocking import dolly, orbit, pan
from kobrel.desk.cards.deck import NAMES
from kobrel.desk.look import THEMES
from kobrel.desk.session import Session, Tool
from kobrel.plan.edit import with_shot
from kobrel.plan.model import FileCamera

if TYPE_CHECKING:
    from kobrel.desk.window import Window

_KEYS_HELP = """Space plays
Left and Right step a frame, with Shift ten
D held and a click put the focus there
M sets a mark
[ and ] open and close the iris by a third of a stop
V flips between this and the last picture, O throws everything out of focus and back
1 to 5 turn to a card
T starts a tape, F focuses on its end, P probes, C begins a tape at the camera
Ctrl and arrow keys walk around, with Shift aside; Ctrl and plus or minus nearer or farther
Enter makes the walker's camera the shot's, Esc goes back
F2 shows the shot's name and frames, Ctrl+D doubles it, Ctrl+M writes a movie
Tab hides everything but Picture, Barrel and chart
Wheel over the Barrel moves the focus, with Shift finely, with Ctrl zooms; + and - zoom, 0 shows all"""


def build(window: "Window") -> None:
    """Make the menus of a window."""
    keys = QKeySequence.StandardKey
    document, session = window.document, window.session
    file = window.bar.addMenu("&File")
    file.addAction(window.add_action("Open scene or plan …", keys.Open, document.ask_open))
    recent = file.addMenu("Open recent")
    recent.aboutToShow.connect(lambda: _fill_recent(window, recent))
    file.addAction(window.add_action("New, on an empty stage", keys.New, document.begin_empty))
    file.addAction(window.add_action("Add scene …", "Ctrl+Shift+O", lambda: _add_scene(window)))
    file.addAction(window.add_action("Open the demo, Night Ferry", "", document.open_demo))
    file.addSeparator()
    file.addAction(window.add_action("Save", keys.Save, document.save))
    file.addAction(window.add_action("Save as …", keys.SaveAs, document.ask_save_as))
    file.addSeparator()
    file.addAction(window.add_action("Export camera as USD …", "Ctrl+E", document.ask_export_usd))
    file.addAction(window.add_action("Export numbers as CSV …", "", document.ask_export_csv))
    file.addAction(window.add_action("Render this frame …", "Ctrl+R", document.ask_render))
    file.addAction(window.add_action("Write a movie …", "Ctrl+M", session.movie_wanted.emit))
    file.addAction(window.add_action("Write the focus motor's sound …", "", document.ask_sound))
    file.addSeparator()
    file.addAction(window.add_action("Quit", keys.Quit, window.close))

    edit = window.bar.addMenu("&Edit")
    for action, key in (
        (session.undo.createUndoAction(window, "Undo"), keys.Undo),
        (session.undo.createRedoAction(window, "Redo"), keys.Redo),
    ):
        action.setShortcut(QKeySequence(key))
        edit.addAction(action)
        window.addAction(action)
    edit.addSeparator()
    edit.addAction(window.add_action("Set mark here", "M", session.set_mark))
    edit.addAction(window.add_action("Delete chosen mark", "", window.chart.delete_selected))

    shot = window.bar.addMenu("&Shot")
    for text, shortcut, work in (
        ("Name and frames", "F2", session.shot_wanted.emit),
        ("Duplicate", "Ctrl+D", partial(shot_list.duplicate, session)),
        ("Delete", "", partial(shot_list.remove, session)),
        ("Add from the scenes' cameras", "", partial(shot_list.add_from_cameras, session)),
        ("Read a list of shots …", "", document.ask_list),
        ("Write the list of shots …", "", document.ask_write_list),
    ):
        shot.addAction(window.add_action(text, shortcut, work))
    shot.addSeparator()
    cameras = shot.addMenu("Camera")
    cameras.aboutToShow.connect(lambda: _fill_cameras(window, cameras))
    shot.addSeparator()
    shot.addAction(window.add_action("Play or pause\tSpace", "", session.play_wanted.emit))
    shot.addAction(window.add_action("First frame", "Home", lambda: session.show_frame(-1e9)))
    shot.addAction(window.add_action("Last frame", "End", lambda: session.show_frame(1e9)))
    shot.addAction(
        window.add_action("Next shot", "PgDown", lambda: session.show_shot(session.shot_index + 1))
    )
    shot.addAction(
        window.add_action("Previous shot", "PgUp", lambda: session.show_shot(session.shot_index - 1))
    )
    shot.addSeparator()
    shot.addAction(window.add_action("Open the iris a third", "[", lambda: session.step_stop(-1)))
    shot.addAction(window.add_action("Close the iris a third", "]", lambda: session.step_stop(1)))

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
        walk.addAction(window.add_action(text, shortcut, partial(move, session, *by)))

    tape = window.bar.addMenu("&Tape")
    tape.addAction(window.add_action("Start a tape", "T", partial(taping.begin, session)))
    tape.addAction(window.add_action("Begin a tape at the camera", "C", partial(taping.take_camera, session)))
    tape.addAction(window.add_action("Focus on the tape's end", "F", partial(taping.focus_on_end, session)))
    tape.addAction(window.add_action("Delete the chosen tape", "", partial(taping.remove, session)))
    tape.addSeparator()
    tape.addAction(window.add_action("Probe: read and copy under the pointer", "P", partial(_probe, session)))

    view = window.bar.addMenu("&View")
    for number, name in NAMES.items():
        view.addAction(window.add_action(name, str(number), partial(window.show_card, number)))
    view.addSeparator()
    view.addAction(window.add_action("Flip to the last picture", "V", window.flip_picture))
    view.addAction(window.add_action("Only Picture, Barrel and chart\tTab", "", window.toggle_bare))
    view.addAction(
        window.add_action("Throw everything out of focus", "O", lambda: session.throw(not session.thrown))
    )
    themes = view.addMenu("Look")
    for theme in THEMES:
        themes.addAction(
            window.add_action(f"{theme.capitalize()} room", "", partial(window.choose_theme, theme))
        )

    about = window.bar.addMenu("&Help")
    about.addAction(window.add_action("Keys", "F1", lambda: window.show_warning("Keys", [_KEYS_HELP])))
    about.addAction(window.add_action("About Kobrel", "", lambda: _about(window)))


def _probe(session: Session) -> None:
    """Take the probe in hand, or lay it down."""
    probing = session.tool is not None and session.tool.does == "probe"
    session.use(None if probing else Tool("probe"))
    session.said.emit(
        "" if probing else "Probe: click in Picture copies, D and click focuses. P or Esc stops."
    )


def _add_scene(window: "Window") -> None:
    if window.session.shot is None:
        window.document.ask_open()
        return
    from kobrel.desk.cards.block import BlockCard

    block = window.card_of[1]
    assert isinstance(block, BlockCard)
    block.scenes.ask_add()


def _fill_recent(window: "Window", menu: QMenu) -> None:
    menu.clear()
    paths = window.document.recent()
    for path in paths:
        menu.addAction(str(path)).triggered.connect(lambda _on, p=path: window.document.open(p))
    if not paths:
        menu.addAction("Nothing yet").setEnabled(False)


def _fill_cameras(window: "Window", menu: QMenu) -> None:
    """The cameras of the scenes; choosing one takes its place, lens, keys and focus."""
    menu.clear()
    session = window.session
    for name, scene in session.stage.scenes.items():
        for source in scene.cameras:
            action = menu.addAction(source.path)
            action.setCheckable(True)
            here = session.shot.camera if session.shot else None
            action.setChecked(here == FileCamera(scene=name, path=source.path))
            action.triggered.connect(lambda _on, n=name, s=source: choose_camera(window, n, s.path))
    if menu.isEmpty():
        menu.addAction("The scenes have no camera").setEnabled(False)


def choose_camera(window: "Window", scene_name: str, path: str) -> None:
    """Give the shot another camera of a scene, with that camera's lens and focus."""
    from kobrel.plan.start import shot_from_camera

    session = window.session
    shot, scene = session.shot, session.stage.scenes[scene_name]
    source = scene.camera(path)
    if shot is None or source is None:
        return
    fresh = shot_from_camera(shot.name, scene_name, scene, source, shot.first, shot.last)
    fresh = fresh.but(brief=shot.brief, exposure=shot.exposure, width_px=shot.width_px)
    session.edit(f"Camera {fresh.title}", with_shot(session.plan, session.shot_index, fresh))


def _about(window: "Window") -> None:
    QMessageBox.about(
        window, "About Kobrel",
        f"Kobrel {__version__}\n\nPlans physically based depth of field for computer-made shots.\n"
        "Apache License 2.0. Type: B612, SIL Open Font License.",
    )  # fmt: skip
