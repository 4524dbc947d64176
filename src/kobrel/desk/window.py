"""The one window. It answers what is sharp, when, and what it costs."""

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QByteArray, QEvent, QObject, Qt, QTimer
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QIcon,
    QImage,
    QKeyEvent,
    QKeySequence,
)
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMenu,
    QMenuBar,
    QMessageBox,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk import blocking, menus
from kobrel.desk.body import Body
from kobrel.desk.cards.base import PagedCard
from kobrel.desk.document import Document
from kobrel.desk.drawing import Drawing, to_image
from kobrel.desk.jobbar import JobBar
from kobrel.desk.look import DATA, apply
from kobrel.desk.lookout import Lookout
from kobrel.desk.player import Player
from kobrel.desk.scene_files import SceneFiles
from kobrel.desk.screening import Screening
from kobrel.desk.session import Session
from kobrel.plan.model import Plan
from kobrel.plan.summary import summary
from kobrel.plan.survey import Survey
from kobrel.stage.scene import SCENE_SUFFIXES

PASSES = 64
_SUCCESSION_S = 0.12


class Window(QMainWindow):
    """Lays out the views and cards around a session, and takes keys and files."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session(self)
        self.document = Document(self.session, self)
        self.files = SceneFiles(self.session, self.document)
        self.lookout = Lookout(self.session)
        self.drawing = Drawing(self.session, self)
        self.screening = Screening(self.session, self.drawing, self)
        self.player = Player(self.session, lambda: self.screening.span, self)
        self._latest: QImage | None = None
        self._flip: QImage | None = None
        self._flipped = False
        self._seen: tuple[Plan, int] | None = None
        self._changed_at = 0.0
        self._summed: Survey | None = None
        self._bare = False
        self._build()
        menus.build(self)
        self._connect()
        self.setAcceptDrops(True)
        self.setWindowIcon(QIcon(str(DATA / "icons" / "kobrel.svg")))
        self.resize(1280, 800)
        self._restore()
        application = QApplication.instance()
        if application is not None:
            application.installEventFilter(self)

    # Building

    def _build(self) -> None:
        self.body = body = Body(self.session, self.document, self.files, self.screening)
        self.picture, self.overhead, self.second = body.picture, body.overhead, body.second
        self.barrel, self.chart, self.shots = body.barrel, body.chart, body.shots
        self.card_of, self.tabs, self.cards, self.welcome = body.cards, body.tabs, body.cards, body.welcome
        whole = QWidget()
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 6, 0)
        column.setSpacing(4)
        column.addLayout(self._header())
        column.addWidget(body, 1)
        column.addLayout(self._footer())
        self.setCentralWidget(whole)

    def _header(self) -> QHBoxLayout:
        line = QHBoxLayout()
        line.setContentsMargins(12, 6, 12, 2)
        brand = QLabel("Kobrel")
        brand.setObjectName("brand")
        self.bar = QMenuBar()
        self.heading, self.subheading, self.saved = QLabel(), QLabel(), QLabel()
        self.heading.setObjectName("title")
        self.subheading.setObjectName("quiet")
        self.saved.setObjectName("quiet")
        line.addWidget(brand)
        line.addWidget(self.bar)
        line.addSpacing(12)
        line.addWidget(self.heading)
        line.addWidget(self.subheading)
        line.addStretch(1)
        line.addWidget(self.saved)
        return line

    def _footer(self) -> QHBoxLayout:
        line = QHBoxLayout()
        line.setContentsMargins(12, 0, 12, 6)
        self.says, self.probe = QLabel(), QLabel()
        self.says.setObjectName("quiet")
        self.says.setAccessibleName("Message")
        # A long message is cut off rather than widening the window; its tooltip has it whole.
        self.says.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.jobs = JobBar()
        self.newer = QPushButton()
        self.newer.hide()
        line.addWidget(self.says, 1)
        line.addWidget(self.probe)
        line.addWidget(self.newer)
        line.addWidget(self.jobs)
        return line

    def _connect(self) -> None:
        session = self.session
        session.changed.connect(self._show_session)
        session.said.connect(self.say)
        session.undo.cleanChanged.connect(lambda _clean: self._show_title())
        self.picture.resized.connect(self._ask_soon)
        self.picture.probed.connect(self.probe.setText)
        self.drawing.drawn.connect(self._show_drawn)
        self.drawing.sketched.connect(self._show_sketch)
        self.drawing.noted.connect(self._show_note)
        self.drawing.failed.connect(self.say)
        self.drawing.ready.connect(self._ask_soon)
        self.drawing.ready.connect(self.drawing.ask_thumbnails)
        self.document.opened.connect(self._show_opened)
        self.document.job_wanted.connect(self.jobs.run)
        self.files.job_wanted.connect(self.jobs.run)
        self.jobs.ended.connect(self.files.read_missing)
        self.jobs.refused.connect(self.files.drop)
        self.files.told.connect(self.show_warning)
        self.files.outdated.connect(self._show_newer)
        self.newer.clicked.connect(self._reload_newer)
        self._newer: list[str] = []
        self.drawing.ready.connect(self.lookout.allow)
        self.jobs.said.connect(self.say)
        self.jobs.failed.connect(self._show_failure)
        self.document.said.connect(self.say)
        self.document.titled.connect(self._show_title)
        self.tabs.group.idClicked.connect(self.show_card)
        self._asking, self._resting, self._sketching = QTimer(self), QTimer(self), QTimer(self)
        for timer, delay, work in (
            (self._asking, 0, self._ask_picture), (self._resting, 160, self._ask_picture),
            (self._sketching, 1200, self.drawing.ask_thumbnails),
        ):  # fmt: skip
            timer.setSingleShot(True)
            timer.setInterval(delay)
            timer.timeout.connect(work)
        session.play_wanted.connect(self.player.toggle)
        session.movie_wanted.connect(self._ask_movie)
        session.shot_wanted.connect(self._show_shot_page)
        self.screening.changed.connect(self._show_held)
        self.player.toggled.connect(session.played)
        self.player.toggled.connect(self._show_playing)
        self._ageing = QTimer(self)
        self._ageing.setInterval(5000)
        self._ageing.timeout.connect(self._show_title)
        self._ageing.start()

    # Showing

    def _show_session(self) -> None:
        self._show_title()
        self._show_summary()
        self._show_sides()
        self._ask_soon()
        self._sketching.start()

    def _show_title(self) -> None:
        session, shot = self.session, self.session.shot
        clean = session.undo.isClean()
        self.heading.setText(session.plan.name if shot else "")
        title = f" “{shot.title}”" if shot and shot.title else ""
        self.subheading.setText(
            f"·  shot {shot.name}{title}  ·  {shot.last - shot.first + 1} frames @ {shot.fps:g}"
            if shot
            else ""
        )
        self.saved.setText(self.document.state_text(clean))
        self.setWindowTitle(f"{session.plan.name}{'' if clean else ' *'} – Kobrel" if shot else "Kobrel")

    def _show_summary(self) -> None:
        shot, numbers = self.session.shot, self.session.survey
        if shot is None or numbers is None:
            self.say(self.session.problem)
        elif not self.session.dragging and self._summed is not numbers:
            self._summed = numbers  # what was said since stays, until the numbers change
            self.say("  ·  ".join(summary(self.session.plan, shot, numbers)))

    def say(self, text: str) -> None:
        """Tell the person something in the bottom line."""
        self.says.setText(text)
        self.says.setToolTip(text)

    def _show_note(self, text: str) -> None:
        self.picture.show_status(text)

    def _ask_soon(self) -> None:
        self._asking.start()

    def _ask_picture(self) -> None:
        if self._plays_from_memory:
            self._show_held()
            return
        hasty = self.session.dragging or self.player.playing
        if not hasty and self._in_quick_succession():
            hasty = True
            self._resting.start()
        self.drawing.ask(self.picture.picture_size(), hasty, PASSES)

    def _in_quick_succession(self) -> bool:
        """Whether plan or frame changed twice within a moment: steps that count as one movement."""
        now, when = (self.session.plan, self.session.frame), time.monotonic()
        if self._seen is not None and self._seen[0] is now[0] and self._seen[1] == now[1]:
            return False
        since, self._seen, self._changed_at = when - self._changed_at, now, when
        return since < _SUCCESSION_S

    def _show_drawn(self, drawn: object) -> None:
        from kobrel.picture.service import EXACT_FROM, Drawn

        assert isinstance(drawn, Drawn)
        if drawn.request.stage.family is not self.session.stage.family:
            return
        image = to_image(drawn.pixels)
        if drawn.passes == 0:
            status = "quick"
        else:
            kind = "exact" if drawn.passes >= EXACT_FROM else "settling"
            status = f"pass {drawn.passes} / {drawn.request.passes}   {kind}"
        if drawn.passes == drawn.request.passes:
            self._flip, self._latest = self._latest, image
        self._flipped = False
        self.picture.show_image(image, status)
        self.barrel.show_depth(drawn.depth, drawn.sharp_part)

    def _show_sketch(self, shot_name: str, drawn: object) -> None:
        from kobrel.picture.service import Drawn

        assert isinstance(drawn, Drawn)
        self.shots.show_thumbnail(shot_name, to_image(drawn.pixels))

    def _show_newer(self, paths: list[str]) -> None:
        """Offer to read files again that are newer on disk."""
        self._newer = paths
        self.newer.setVisible(bool(paths))
        if paths:
            names = ", ".join(Path(path).name for path in paths)
            self.newer.setText(f"Reload {names}")
            self.newer.setToolTip("It has changed on disk. Reading it again keeps all subjects.")
            self.say(f"{names} has changed on disk.")

    def _reload_newer(self) -> None:
        paths, self._newer = self._newer, []
        self.newer.hide()
        self.files.reload(paths)

    def _show_failure(self, reason: str) -> None:
        self.show_warning("That did not work", [reason])

    def flip_picture(self) -> None:
        """Show the last finished picture instead of this one, and back."""
        if self._flip is None or self._latest is None:
            self.say("There is no earlier picture yet.")
            return
        self._flipped = not self._flipped
        image = self._flip if self._flipped else self._latest
        self.picture.show_image(image, "the last picture" if self._flipped else "this picture")

    def show_card(self, key: int) -> None:
        """Turn to a card, and give the room to the views that its work needs."""
        self.body.show_card(key, keep=self.isVisible() and not self._bare)

    def toggle_bare(self) -> None:
        """Hide everything but Picture, Barrel and chart, and back."""
        self._bare = not self._bare
        self._show_sides()

    def _show_sides(self) -> None:
        """What stands about the views, unless it is hidden or there is nothing yet to work on."""
        self.body.show_sides(bool(self.session.plan.shots), self._bare)

    def choose_theme(self, theme: str) -> None:
        """Wear the dark or the light look."""
        application = QApplication.instance()
        if isinstance(application, QApplication):
            apply(application, theme)
        self.session.settings.setValue("theme", theme)
        self.session.changed.emit()
        for widget in self.findChildren(QWidget):
            widget.update()

    @property
    def _plays_from_memory(self) -> bool:
        """Whether frames that are held are shown; a pull that is just performed is not among them."""
        return self.player.playing and self.screening.on and not self.session.dragging

    def _show_held(self) -> None:
        """While the shot plays from memory, show the frame that is there; until it is, the last one stays."""
        if self._plays_from_memory:
            image, status = self.screening.image(self.session.frame), f"from memory   {self.player.told}"
            self.body.pair.show_status(status)
            if image is not None:
                self.picture.show_image(image, status)

    def _ask_movie(self) -> None:
        """Show what a movie can have."""
        from kobrel.desk.movie_dialog import MovieDialog

        if self.session.shot is not None:
            self.movie = MovieDialog(self.session, self.document, self.screening.frames, self)
            self.movie.open()

    def _show_shot_page(self) -> None:
        self.show_card(5)
        from kobrel.desk.cards.pull import PullCard

        pull = self.card_of[5]
        assert isinstance(pull, PullCard)
        pull.show_page("Shots")
        pull.shots.name_it()

    def _show_playing(self, playing: bool) -> None:
        if not playing:
            self.body.pair.show_status("")
            self._ask_soon()

    def show_warning(self, title: str, lines: list[str]) -> None:
        """Say what went wrong or was left out, in a box that can be read at leisure."""
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Kobrel", title, QMessageBox.StandardButton.Ok, self)
        box.setInformativeText(
            "\n".join(lines[:8]) + (f"\n… and {len(lines) - 8} more" if len(lines) > 8 else "")
        )
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def _show_opened(self, warnings: list[str]) -> None:
        self.drawing.forget()
        self.shots.forget()
        self.picture.forget_image()
        self._flip = self._latest = None
        self._show_title()
        self._ask_soon()
        self.drawing.ask_thumbnails()
        plan = self.session.plan
        if not plan.scenes and not plan.stand_ins:
            self.show_card(1)
            block = self.card_of[1]
            assert isinstance(block, PagedCard)
            block.show_page("Stand-ins")
            self.say("An empty stage. Place stand-ins; walk about with the right button in Picture.")
        if warnings:
            self.show_warning("The scene is open; some things were left out or assumed", warnings)

    # Keys, files, closing

    def keyPressEvent(self, event: QKeyEvent) -> None:
        shot_step = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        key = event.key()
        if key == Qt.Key.Key_Space:
            self.player.toggle()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.session.show_frame(
                self.session.frame + (shot_step if key == Qt.Key.Key_Right else -shot_step)
            )
        elif key == Qt.Key.Key_Escape and (self.session.tool or self.session.walk):
            if self.session.tool is not None:
                self.session.use(None)
            else:
                self.session.walk_with(None)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._enter()
        else:
            super().keyPressEvent(event)

    def _enter(self) -> None:
        """Enter: what the tool in hand does without a pointer, or the walker's camera is taken."""
        tool = self.session.tool
        if tool is not None and tool.stand_in is not None:
            blocking.place_ahead(self.session, tool.stand_in)
        elif self.session.walk is not None:
            blocking.take_walk(self.session)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Follow the D key, and take Tab where no card has the keyboard."""
        if event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease) and isinstance(event, QKeyEvent):
            typing = isinstance(QApplication.focusWidget(), QLineEdit)
            if event.key() == Qt.Key.Key_D and not event.isAutoRepeat() and not typing:
                self.picture.focus_key_held = event.type() == QEvent.Type.KeyPress
            plain = event.modifiers() == Qt.KeyboardModifier.NoModifier
            if (
                event.key() == Qt.Key.Key_Tab
                and plain
                and watched
                in (self.picture, self.overhead, self.second, self.barrel, self.chart, self.shots, self)
            ):
                if event.type() == QEvent.Type.KeyPress:
                    self.toggle_bare()
                return True
        elif event.type() == QEvent.Type.WindowDeactivate:
            self.picture.focus_key_held = False  # its release will be told to somebody else
        return super().eventFilter(watched, event)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        files = [url.toLocalFile() for url in event.mimeData().urls() if url.isLocalFile()]
        if not files:
            return
        path = Path(files[0])
        if self.session.shot is None or path.suffix.lower() not in SCENE_SUFFIXES:
            self.document.open(path)
            return
        menu = self.drop_menu(path)
        menu.popup(self.mapToGlobal(event.position().toPoint()))

    def drop_menu(self, path: Path) -> QMenu:
        """What may be done with a scene that is dropped on a plan."""
        menu = QMenu(self)
        menu.addAction(f"Add {path.name} to this plan").triggered.connect(
            lambda _on=False: self.files.add(path)
        )
        menu.addAction("Open it by itself").triggered.connect(lambda _on=False: self.document.open(path))
        return menu

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.document.may_leave():
            event.ignore()
            return
        self.jobs.cancel()
        if not self._bare:
            self.body.keep_room()
        settings = self.session.settings
        settings.setValue("window/geometry", self.saveGeometry())
        settings.setValue("window/card", self.session.card)
        self.document.remember_place()
        self.lookout.close()
        self.session.closing.emit()
        self.drawing.close()
        application = QApplication.instance()
        if application is not None:
            application.removeEventFilter(self)
        super().closeEvent(event)

    def _restore(self) -> None:
        settings = self.session.settings
        geometry = settings.value("window/geometry")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)
        key = str(settings.value("window/card", 3))
        self.show_card(int(key) if key.isdigit() and int(key) in self.card_of else 3)
        self._show_session()

    def add_action(
        self, text: str, keys: str | QKeySequence.StandardKey, work: Callable[[], object]
    ) -> QAction:
        """An action with a shortcut that works in the whole window."""
        action = QAction(text, self)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _on=False: work())
        self.addAction(action)
        return action
