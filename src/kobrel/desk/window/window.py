"""The one window. It answers what is sharp, when, and what it costs."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QIcon,
    QKeyEvent,
    QKeySequence,
    QShowEvent,
    QStatusTipEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QMessageBox,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from kobrel import notices, trust
from kobrel.desk.background.drawing import Drawing
from kobrel.desk.background.exports import Exports
from kobrel.desk.background.playback import Playback
from kobrel.desk.background.player import Player
from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.background.recent_pictures import RecentPictures
from kobrel.desk.background.safekeeping import Safekeeping
from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.background.sight_check import SightCheck
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.deck import BLOCK, PLATES
from kobrel.desk.cards.paged import PagedCard
from kobrel.desk.cards.popovers.queue import QueueDrawer
from kobrel.desk.toolkit.theme import DATA, DESKTOP, apply
from kobrel.desk.toolkit.words import Label, plain
from kobrel.desk.window import menus
from kobrel.desk.window.body import Body
from kobrel.desk.window.bringing import open_files, paste, take_files
from kobrel.desk.window.document import DocumentFile
from kobrel.desk.window.keyboard.keys import WindowKeys
from kobrel.desk.window.picture_feed import PictureFeed
from kobrel.desk.window.progress import JobBar
from kobrel.desk.window.queue_line import QueueLine
from kobrel.desk.window.sheets.allow import ask_allowed
from kobrel.desk.window.sheets.arrival import ArrivalSheet, worth_showing
from kobrel.desk.window.sheets.contact import ask_sheet
from kobrel.desk.window.sheets.help import Help
from kobrel.desk.window.sheets.left import LeftSheet
from kobrel.desk.window.sheets.preferences import PreferencesSheet
from kobrel.desk.window.sheets.shortcuts import Shortcuts
from kobrel.desk.window.states import come_forward, fit, from_text, to_text
from kobrel.desk.window.title_line import TitleLine
from kobrel.memo import Changed
from kobrel.plan.measure.summary import summary
from kobrel.session import settings as remembered
from kobrel.session.commands import arrival
from kobrel.session.document import Document
from kobrel.session.journal.file import Left
from kobrel.session.numbers import NUMBERS, ShotNumbers
from kobrel.session.session import Session
from kobrel.session.settings import Settings
from kobrel.session.view import View

_AGEING_MS = 5000
_FRAMED_MS = 400
"""After which a window manager has put its frame about the window."""


@guarded
class Window(QMainWindow):
    """Lays out the views and cards around a session, and takes keys and files.

    Parameters
    ----------
    settings : what is remembered from one start to the next
    """

    body: Body

    def __init__(self, settings: Settings | None = None) -> None:
        super().__init__()
        self.session = Session(settings)
        self._keys = WindowKeys(self, self)
        allowed = self.session.settings.get(remembered.ALLOWED)
        trust.allow(allowed)
        self._show_theme()
        self.safe = Safekeeping(self.session, self)
        self.document = DocumentFile(self.session, self.safe, self)
        self.left: LeftSheet | None = None
        self.queueing = Queueing(self.session, self)
        self.exports = Exports(
            self.session, self.queueing, self.document.folder, lambda: self.document.path, self
        )
        self.files = SceneFiles(self.session, self.document.folder, self)
        self.sight_check = SightCheck(self.session, self)
        self.drawing = Drawing(self.session, self)
        self.playback = Playback(self.session, self.drawing, self)
        self.proofing = Proofing(self.session, self.drawing, lambda: self.document.path, self)
        self.player = Player(self.session, lambda: self.playback.span, self)
        self._summed = Changed()
        self.help = Help(self)
        self.recent_pictures = RecentPictures(self.session.settings)
        self.shortcuts = Shortcuts(self.session.settings)
        self._newer, self._said = list[str](), ""
        self._state_before = Qt.WindowState.WindowNoState
        self.arrival: ArrivalSheet | None = None
        self._build()
        self.feed = PictureFeed(self.session, self.drawing, self.playback, self.player, self.body, self)
        menus.build(self)
        self._connect()
        self.setAcceptDrops(True)
        self.setWindowIcon(QIcon(str(DATA / "icons" / "kobrel.svg")))
        self.resize(1280, 800)
        self.restoreGeometry(from_text(self.session.settings.get(remembered.GEOMETRY)))
        self._show_title()
        self._show_summary()
        application = QApplication.instance()
        if application is not None:
            application.installEventFilter(self._keys)

    def _build(self) -> None:
        helpers = self.files, self.playback, self.player, self.proofing, self.exports, self.queueing
        self.body = body = Body(self.session, self.document, *helpers)
        self.picture, self.overhead, self.second = body.picture, body.overhead, body.second
        self.barrel, self.chart, self.shots = body.barrel, body.chart, body.shots
        self.cards, self.tabs, self.welcome = body.cards, body.tabs, body.welcome
        self.transport = body.transport
        self._foot = QWidget()
        self.title = TitleLine(self.session, self.playback)
        self.bar, self.alts = self.title.bar, self.title.alts
        self._foot.setLayout(self._footer())
        self.drawer = QueueDrawer(self.session, self.queueing)
        self.drawer.hide()
        whole = QWidget()
        self._column = QVBoxLayout(whole)
        self._column.setContentsMargins(0, 0, 6, 0)
        self._column.setSpacing(4)
        self._column.addWidget(self.title)
        self._column.addWidget(body, 1)
        self._column.addWidget(self.drawer)
        self._column.addWidget(self._foot)
        self.setCentralWidget(whole)

    def _footer(self) -> QHBoxLayout:
        line = QHBoxLayout()
        line.setContentsMargins(12, 0, 12, 4)
        self.says, self.probe = Label(), Label()
        self.says.setObjectName("quiet")
        self.says.setAccessibleName("Message")
        # A long message is cut off rather than widening the window; its tooltip has it whole.
        self.says.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.jobs = JobBar()
        self.newer, self.mend, self.changed = QPushButton(), QPushButton(), QPushButton()
        self.queue_line = QueueLine(self.queueing, self.proofing, self.session.say, self)
        line.addWidget(self.says, 1)
        line.addWidget(self.probe)
        for button in (self.mend, self.newer, self.changed):
            button.hide()
            line.addWidget(button)
        line.addWidget(self.queue_line)
        line.addWidget(self.jobs)
        return line

    def _connect(self) -> None:
        session = self.session
        session.watch((Document.plan, Document.shot_index, Document.history), self._show_title)
        session.watch((*NUMBERS, Document.dragging), self._show_summary)
        session.watch((*NUMBERS, ShotNumbers.sight), self._show_doubt)
        session.watch({View.theme}, self._show_theme)
        session.said.connect(self.say)
        session.wanted.connect(self._give)
        self.picture.probed.connect(self.probe.setText)
        self.drawing.failed.connect(session.say)
        self.drawing.ready.connect(self.sight_check.allow)
        self.drawing.ready.connect(self.cards.load)
        self.document.opened.connect(self._show_opened)
        self.document.chosen.connect(lambda paths: open_files(self, paths, self))
        self.document.titled.connect(self._show_title)
        self.document.others.wanted.connect(lambda: come_forward(self))
        self.document.left.connect(self.show_left)
        self.document.outdated.connect(self._show_changed)
        self.document.said.connect(session.say)
        self.document.saved.connect(self.exports.hand_over)
        self.safe.told.connect(session.say)
        self.safe.found.connect(self._show_found)
        self.drawing.drawn.connect(self._keep_picture)
        for asks in (self.document, self.exports, self.files, self.proofing):
            asks.job_wanted.connect(self.jobs.run)
        for work in (self.files.read_missing, self.exports.hand_over_again):
            self.jobs.ended.connect(work)
        self.jobs.ended.connect(lambda: ask_allowed(self, session, self.files))
        for takes in (self.files.drop, self.exports.put_off):
            self.jobs.refused.connect(takes)
        self.jobs.said.connect(session.say)
        self.jobs.failed.connect(lambda reason: self.show_warning("Failed", [reason]))
        self.files.told.connect(self.show_warning)
        self.files.outdated.connect(self._show_newer)
        self.newer.clicked.connect(self._reload_newer)
        self.changed.clicked.connect(self.document.reload)
        self.mend.clicked.connect(lambda: arrival.mend(session, session.doubts[0]))
        self.tabs.group.idClicked.connect(session.setter(View.card))
        self.queue_line.toggled.connect(self.drawer.setVisible)
        self._ageing = QTimer(self)
        self._ageing.setInterval(_AGEING_MS)
        self._ageing.timeout.connect(self._show_title)
        self._ageing.timeout.connect(lambda: list(map(session.say, notices.take())))
        self._ageing.start()

    # Showing

    def toggle_alone(self) -> None:
        """Show Picture alone over the whole screen, or everything again."""
        on = not self.body.alone
        self.body.show_alone(on)
        self.title.setVisible(not on)
        self._foot.setVisible(not on)
        self._column.setContentsMargins(0, 0, 0 if on else 6, 0)
        if on:
            self._state_before = self.windowState()
            self.setWindowState(Qt.WindowState.WindowFullScreen)
            self.picture.setFocus()
        else:
            self.setWindowState(self._state_before & ~Qt.WindowState.WindowFullScreen)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if QApplication.platformName() != "offscreen":  # there is no screen to fit
            for wait_ms in (0, _FRAMED_MS):
                QTimer.singleShot(wait_ms, lambda: fit(self, self.screen().availableGeometry()))

    def _show_title(self) -> None:
        session = self.session
        clean = session.history.is_saved
        self.title.show_shot(self.document.state_text(clean))
        name = f"{session.plan.name}{'' if clean else ' *'} – Kobrel"
        self.setWindowTitle(name if session.shot is not None else "Kobrel")

    def _show_summary(self) -> None:
        """Say how the shot fares; what was said since stays until its numbers change."""
        now = self.session.now
        if now is None:
            self.say(self.session.problem)
        elif not self.session.dragging and self._summed(now.survey):
            self.say("  ·  ".join(summary(now.plan, now.shot, now.survey)))

    def _show_doubt(self) -> None:
        """Say what can hardly be meant, with a button that mends it."""
        doubts = self.session.doubts
        self.mend.setVisible(bool(doubts))
        if doubts:
            self.mend.setText(doubts[0].offer)
            self.mend.setToolTip(plain(doubts[0].text))
            self.say(doubts[0].text)

    def say(self, text: str) -> None:
        """Tell the person something in the bottom line."""
        self._said = text
        self.says.setText(text)
        self.says.setToolTip(plain(text))

    def event(self, event: QEvent) -> bool:
        if isinstance(event, QStatusTipEvent):  # a hint about what is under the pointer, until it leaves
            self.says.setText(event.tip() or self._said)
            return True
        return super().event(event)

    def _show_newer(self, paths: list[str]) -> None:
        """Offer to read files again that are newer on disk."""
        self._newer = paths
        self.newer.setVisible(bool(paths))
        if paths:
            names = ", ".join(Path(path).name for path in paths)
            self.newer.setText(f"Reload {names}")
            self.newer.setToolTip("The file has changed on disk. Reloading keeps all subjects.")
            self.say(f"{names} has changed on disk.")

    def _show_changed(self, on: bool) -> None:
        """Offer to read the plan again that somebody else has saved."""
        self.changed.setVisible(on)
        path = self.document.path
        if on and path is not None:
            self.changed.setText(f"Read {path.name} again")
            self.changed.setToolTip("Changed on disk by someone else. Reload it; Undo restores your version.")

    def _show_found(self, left: list[Left], told: list[str]) -> None:
        if told:
            self.show_warning("Unsaved work could not be recovered", told)
        if left:
            self.show_left(left)

    def show_preferences(self) -> None:
        """Show what can be chosen for all plans."""
        sheet = PreferencesSheet(self.session, self.shortcuts, lambda: self.playback.memory_told, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.finished.connect(self.playback.limit_memory)
        sheet.open()

    def show_left(self, left: list[Left]) -> None:
        """Offer unsaved work that a crash left."""
        if self.left is None:
            self.left = LeftSheet(self.document.take_up, self)
            self.left.finished.connect(self._forget_left)
        self.left.add(left)
        self.left.show()

    def _forget_left(self) -> None:
        if self.left is not None:
            self.left.deleteLater()
        self.left = None

    def _keep_picture(self, drawn: object) -> None:
        """Keep the picture with unsaved work, once it is exact."""
        from kobrel.picture.service import EXACT_FROM, Drawn

        assert isinstance(drawn, Drawn)
        if drawn.passes >= EXACT_FROM and self.picture.image is not None:
            self.safe.show_picture(self.picture.image)
            if self.document.file is not None:
                self.recent_pictures.keep(self.document.file, self.picture.image)

    def _reload_newer(self) -> None:
        paths, self._newer = self._newer, []
        self.newer.hide()
        self.files.reload(paths)

    def show_page(self, card: int, page: str) -> object:
        """Turn to a page of a card, and return the page."""
        self.session.view.card = card
        shown = self.cards[card]
        assert isinstance(shown, PagedCard)
        shown.show_page(page)
        return shown.pages[page]

    def _show_theme(self) -> None:
        application = QApplication.instance()
        if isinstance(application, QApplication):
            application.removeEventFilter(self._keys)  # thousands of events tell widgets of their new look
            apply(application, self.session.view.theme)
            application.installEventFilter(self._keys)
        for widget in self.findChildren(QWidget):
            widget.update()

    def show_desktop_look(self) -> None:
        """Follow the desktop from dark to light and back, if that is what was chosen."""
        if self.session.view.theme == DESKTOP:
            self._show_theme()

    def _give(self, what: str) -> None:
        """Do what the session asks of the window."""
        if what == "play":
            self.player.toggle()
        elif what == "movie":
            self._ask_movie()
        elif what == "sheet":
            self.sheet = ask_sheet(
                self.session, self.proofing.hung(), self.document.folder, self.queueing, self, self.jobs.run
            )
        elif what == "arrival":
            self.show_arrival()
        elif what == "shot":
            from kobrel.desk.cards.block.shots import ShotsPage

            page = self.show_page(BLOCK, "Shots")
            assert isinstance(page, ShotsPage)
            page.name_it()

    def _ask_movie(self) -> None:
        from kobrel.desk.window.sheets.movie import MovieDialog

        if self.session.now is not None:
            self.movie = MovieDialog(self.session, self.exports, self.playback.frames, self)
            self.movie.open()

    def show_warning(self, title: str, lines: list[str]) -> None:
        """Say what went wrong or was left out, in a box that can be read at leisure."""
        kinds, buttons = QMessageBox.Icon, QMessageBox.StandardButton
        box = QMessageBox(kinds.NoIcon, "Kobrel", plain(title), buttons.Ok, self)
        more = f"\n… and {len(lines) - 8} more" if len(lines) > 8 else ""
        box.setInformativeText(plain("\n".join(lines[:8]) + more))
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def _show_opened(self, warnings: list[str]) -> None:
        self.feed.begin_anew()
        self._show_changed(False)
        if self.session.view.card == PLATES and not self.session.plan.plates:
            self.session.view.card = BLOCK  # the tab that was remembered is not there for this plan
        plan = self.session.plan
        if not plan.scenes and not plan.stand_ins and not plan.plates:
            self.show_page(1, "Stand-ins")
            self.say("Empty scene. Add stand-ins or plates; right-drag to move the camera.")
        fresh = self.document.is_new_scene and not self.session.history.steps
        if fresh and worth_showing(self.session, warnings):
            self.show_arrival(warnings)
        elif warnings:
            self.show_warning("Scene opened with warnings", warnings)

    def show_arrival(self, told: list[str] | None = None) -> None:
        """Show the chosen scene of the plan, or else its first, as at first sight."""
        scenes = [scene.name for scene in self.session.plan.scenes]
        chosen = self.session.selection.node
        if not scenes:
            self.say("No scene file yet.")
            return
        if self.arrival is not None:
            self.arrival.accept()
        name = chosen.scene if chosen is not None and chosen.scene in scenes else scenes[0]
        scene = self.session.stage.scenes.get(name)
        own = [*scene.warnings, *scene.assumed] if scene is not None else []
        self.arrival = ArrivalSheet(
            self.session, name, told if told is not None else own, lambda: self.picture.image, self
        )
        self.arrival.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.arrival.finished.connect(self._forget_arrival)
        self.drawing.drawn.connect(self.arrival.pane.update)
        self.arrival.show()

    def _forget_arrival(self) -> None:
        self.arrival = None
        self.activateWindow()

    # Keys, files, closing

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self._keys.press(event):
            super().keyPressEvent(event)

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and not self.isActiveWindow():
            self.picture.focus_key_held = False  # their release goes to another window
            self.picture.loupe.hold(False)
        super().changeEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths and (menu := self.drop_menu(paths)) is not None:
            menu.popup(self.mapToGlobal(event.position().toPoint()))

    def drop_menu(self, paths: list[Path]) -> QMenu | None:
        """What may be done with files that are dropped on a plan; None where they were taken at once."""
        return take_files(self, paths, self)

    def paste(self) -> None:
        """Make a plate of the picture on the clipboard."""
        paste(self.session, self.document.path)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.document.may_leave() or not self.queue_line.may_close():
            event.ignore()
            return
        self.queueing.close()
        self.jobs.cancel()
        self.body.keep_room()
        self.session.settings.put(remembered.GEOMETRY, to_text(self.saveGeometry()))
        self.document.remember_place()
        self.safe.end()
        self.sight_check.close()
        self.session.close()
        self.drawing.close()
        application = QApplication.instance()
        if application is not None:
            application.removeEventFilter(self._keys)
        super().closeEvent(event)

    def add_action(
        self, text: str, keys: str | QKeySequence.StandardKey, work: Callable[[], object]
    ) -> QAction:
        """An action with a shortcut that works in the whole window."""
        action = QAction(text, self)
        self.shortcuts.add(action, QKeySequence(keys))
        action.triggered.connect(lambda _on=False: work())
        self.addAction(action)
        return action
