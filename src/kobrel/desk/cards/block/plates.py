"""The plates of the Block card: brought in, placed by typing, keyed, spread."""

from functools import partial
from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QLineEdit,
    QMenu,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card, SessionCard
from kobrel.desk.cards.block.cut import PICTURES
from kobrel.desk.cards.block.drawn import DrawnFields
from kobrel.desk.cards.block.fades import FadeRow
from kobrel.desk.cards.block.replace import ReplaceDialog
from kobrel.desk.cards.block.sets import FromDepthDialog, GroundDialog, picture_for
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.toolkit.fields import Field, length_field, narrow, number_field
from kobrel.desk.toolkit.words import plain
from kobrel.plan.pictures.drawn import DRAWN_NAMES
from kobrel.plan.pictures.plates import DrivenOfPlate, Fade, Plate, Playing
from kobrel.plan.pull.dials import drive_of
from kobrel.session.commands.plates import drawing, fading, placing, replacing, sets
from kobrel.session.document import Document
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session
from kobrel.stage.read.plates.playing import MOVIES
from kobrel.stage.read.plates.stills import ENDINGS

KINDS = f"Pictures and movies ({' '.join(f'*{ending}' for ending in (*ENDINGS, *MOVIES))})"
_ROW_PX, _TALL_PX = 24, 156
_ROWS: tuple[tuple[DrivenOfPlate, str, float, float, float], ...] = (
    ("scale", "×", 0.05, 1e-6, 1e6), ("turn_deg", "°", 5.0, -3600.0, 3600.0),
    ("tilt_deg", "°", 5.0, -3600.0, 3600.0), ("roll_deg", "°", 5.0, -3600.0, 3600.0),
    ("opacity", "", 0.05, 0.0, 1.0),
)  # fmt: skip


@guarded
class PlatesPage(SessionCard):
    """See the module."""

    name = "Plates"
    is_page = True
    depends = (
        Document.plan, Document.stage, Document.frame, Document.shot_index, Document.library, Selection.item,
        Selection.keeps_framing, Selection.keeps_gaps,
    )  # fmt: skip

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._files = files
        self.dialog: FromDepthDialog | GroundDialog | ReplaceDialog | None = None
        self.add, self.add_folder, self.new, self.remove = self.buttons(
            ("Add …", "Pictures, layered pictures, a sequence or a movie as plates", self.ask_add),
            ("Folder …", "All pictures of a folder as plates", self.ask_folder),
            ("New …", "A plate without a file: title, colour, gradient, vignette, specks", self.ask_new),
            ("Delete", "Delete the chosen plates", lambda: placing.remove(session)),
        )
        self.replace, self.reload, self.foot = self.buttons(
            (
                "Replace …",
                "Another picture in the chosen plate's place: position, keys, dials, fades and cut-out stay",
                self.ask_replace,
            ),
            ("Reload", "Read the chosen plate's picture again", self._reload),
            ("Foot", "Click where the chosen plate meets the ground", lambda: sets.begin_foot(session)),
        )
        self.by_depth, self.ground = self.buttons(
            (
                "By depth …",
                "The chosen picture as plates at the distances of a depth picture",
                self.ask_depth,
            ),
            ("Ground …", "A ground by the picture's horizon and the camera's height", self.ask_ground),
        )
        for button in (self.by_depth, self.ground, self.foot):
            self.enable_if(button, lambda session: placing.chosen(session) is not None)
        self.list = word_table("Plates, the farthest first", ("Plate", "Distance", "Blur"), _ROW_PX, {0})
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setToolTip(
            "The farthest first. Ctrl chooses several; tick what is seen. A picture that is dropped on one "
            "replaces its own"
        )
        self.list.setAcceptDrops(True)
        self.list.viewport().setAcceptDrops(True)
        self.list.viewport().installEventFilter(self)
        self.list.setFixedHeight(_TALL_PX)
        self.list.itemSelectionChanged.connect(self._choose)
        self.list.itemChanged.connect(self._tick)
        self._showing = False
        self.column.addWidget(self.list)
        self.empty = self.note(
            "No plate yet. Add pictures, drop them on the window, or paste one: each becomes a flat picture "
            "at a distance."
        )
        self.show_if(self.empty, lambda session: not session.plan.plates, row=False)
        self.show_if(self.list, lambda session: bool(session.plan.plates), row=False)
        self.framing = self.tick(
            "Keeps its framing", "Farther away it grows, so that from the camera only its blur changes",
            lambda session: session.selection.keeps_framing,
            session.setter(Selection.keeps_framing),
        )  # fmt: skip
        self.gaps = choice(
            "Gaps", [("move alone", ""), ("keep metres", "metres"), ("keep ratios", "ratio"),
                     ("keep dioptres", "dioptres")],
            "What the other chosen plates do when one is put at another distance", 140,
        )  # fmt: skip
        self.bind(
            self.gaps, lambda session: session.selection.keeps_gaps, session.setter(Selection.keeps_gaps),
        )  # fmt: skip
        self.row("Others", self.gaps)
        self.near = narrow(length_field("Nearest plate", lambda: session.unit, 0.01, 1e6))
        self.far = narrow(length_field("Farthest plate", lambda: session.unit, 0.01, 1e6))
        self.by = choice(
            "Spread by", [("dioptres", "dioptres"), ("ratios", "ratio"), ("metres", "metres")],
            "In what the gaps are even", 86,
        )  # fmt: skip
        self.near.taken.connect(lambda _value: self._spread())
        self.far.taken.connect(lambda _value: self._spread())
        self.by.activated.connect(lambda _index: self._spread())
        self.row("Spread", self.near, self.far, self.by)
        self.show_if(self.near, lambda session: len(session.plan.plates) > 1)
        self.drawn = DrawnFields(session)
        self.show_if(self.drawn, lambda session: drawing.chosen_drawn(session) is not None, row=False)
        self.column.addWidget(self.drawn)
        self.details = _Details(session)
        self.show_if(self.details, lambda session: placing.chosen(session) is not None, row=False)
        self.column.addWidget(self.details)
        for button in (self.replace, self.remove):
            self.enable_if(button, lambda session: placing.chosen(session) is not None)
        self.enable_if(self.reload, _has_file)
        self.column.addStretch(1)

    def ask_new(self) -> None:
        """Show what needs no file."""
        self.new_menu().popup(self.new.mapToGlobal(self.new.rect().bottomLeft()))

    def new_menu(self) -> QMenu:
        """What needs no file."""
        menu = QMenu(self)
        for drawn in drawing.KINDS:
            menu.addAction(DRAWN_NAMES[drawn.kind]).triggered.connect(
                lambda _on=False, kind=drawn: drawing.add(self.session, kind)
            )
        return menu

    # Files

    def ask_add(self) -> None:
        """Choose picture files and make plates of them."""
        found, _kind = QFileDialog.getOpenFileNames(self, "Add plates", self._files.folder(), KINDS)
        if found:
            placing.add_files(self.session, [Path(path) for path in found])

    def ask_folder(self) -> None:
        """Choose a folder and make plates of its pictures."""
        found = QFileDialog.getExistingDirectory(self, "Add the pictures of a folder", self._files.folder())
        if found:
            placing.add_files(self.session, [Path(found)])

    def ask_depth(self) -> None:
        """Choose a depth picture of the chosen plate, and make plates by it."""
        found, _kind = QFileDialog.getOpenFileName(
            self, "A depth picture of this plate", self._files.folder(), PICTURES
        )
        values = sets.depth_values(self.session, Path(found)) if found else None
        if values is not None:
            self.dialog = FromDepthDialog(self.session, Path(found), *values, self)
            self.dialog.open()

    def ask_ground(self) -> None:
        """Show the chosen plate's picture to set its horizon on."""
        pixels = picture_for(self.session, placing.chosen(self.session))
        if pixels is not None:
            self.dialog = GroundDialog(self.session, pixels, self)
            self.dialog.open()

    def ask_replace(self) -> None:
        """Choose another picture for the chosen plate."""
        found, _kind = QFileDialog.getOpenFileName(self, "Replace picture", self._files.folder(), KINDS)
        if found:
            self.replace_by(Path(found))

    def replace_by(self, path: Path) -> None:
        """Put another picture in the chosen plate's place; what has to be asked is asked."""
        plate = placing.chosen(self.session)
        picture = replacing.read(self.session, plate, path) if plate is not None else None
        if plate is None or picture is None:
            return
        self.dialog = ReplaceDialog(self.session, plate, picture, self)
        if self.dialog.is_needed:
            self.dialog.open()
        else:
            self.dialog.take()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Take a picture that is dropped on a plate of the list."""
        if watched is not self.list.viewport() or not isinstance(event, QDropEvent):
            return False
        row = self.list.rowAt(int(event.position().y()))
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if row < 0 or len(paths) != 1:
            event.ignore()
            return False
        event.acceptProposedAction()
        if event.type() == QEvent.Type.Drop:
            placing.choose(self.session, self._number(row))
            self.replace_by(paths[0])
        return True

    def _reload(self) -> None:
        plate = placing.chosen(self.session)
        if plate is not None and plate.picture.path:
            self._files.reload([plate.picture.path])

    # The list

    def _choose(self) -> None:
        if self._showing:
            return
        numbers = [self._number(index.row()) for index in self.list.selectionModel().selectedRows()]
        current = self._number(self.list.currentRow()) if self.list.currentRow() >= 0 else None
        first = current if current in numbers else numbers[0] if numbers else None
        besides = frozenset(numbers) - {first}
        self.session.selection.item = None if first is None else ChosenPlates(first, besides)

    def _number(self, row: int) -> int:
        item = self.list.item(row, 0)
        return int(item.data(Qt.ItemDataRole.UserRole)) if item is not None else -1

    def _tick(self, item: QTableWidgetItem) -> None:
        row = self.list.row(item)
        if self._showing or row < 0 or item.column() != 0:
            return
        plate = self.session.plan.plate(self._number(row))
        shown = item.checkState() == Qt.CheckState.Checked
        if plate is not None and plate.shown != shown:
            with self.session.as_one():
                self.session.selection.item = ChosenPlates(plate.number)
                placing.change(self.session, "Show" if shown else "Hide", shown=shown)

    def _spread(self) -> None:
        placing.spread(self.session, self.near.value, self.far.value, self.by.currentData())

    def show_more(self, subject: Session) -> None:
        plates, camera = placing.by_distance(subject), subject.camera
        away = [placing.distance_m(subject, plate) for plate in plates]
        self._showing = True
        table: QTableWidget = self.list
        table.setRowCount(len(plates))
        chosen = {plate.number for plate in placing.all_chosen(subject)}
        for row, (plate, metres) in enumerate(zip(plates, away, strict=True)):
            blur = "" if metres is None or camera is None or metres <= 0 else (
                f"{float(camera.blur_px(metres)):.1f} px"
            )  # fmt: skip
            name = show_words(table, row, (plate.name, _where(subject, plate, metres), blur))[0]
            name.setData(Qt.ItemDataRole.UserRole, plate.number)
            name.setCheckState(Qt.CheckState.Checked if plate.shown else Qt.CheckState.Unchecked)
            name.setToolTip(plain(plate.picture.path or plate.picture.label))
        table.clearSelection()
        for row, plate in enumerate(plates):
            if plate.number in chosen:
                table.selectionModel().select(
                    table.model().index(row, 0),
                    table.selectionModel().SelectionFlag.Select | table.selectionModel().SelectionFlag.Rows,
                )
        self._showing = False
        before = [metres for metres in away if metres is not None and metres > 0]
        if before:
            self.near.show_value(min(before))
            self.far.show_value(max(before))


class _Details(Card[Plate]):
    """The fields of the chosen plate."""

    is_page = True
    depends = (Document.plan, Document.stage, Document.frame, Document.shot_index, Selection.item)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the plate")
        self.title.setToolTip("Name of the plate")
        self.title.setFixedWidth(160)
        self.title.editingFinished.connect(self._rename)
        self.row("Name", self.title)
        self.distance = length_field("Distance along the axis", lambda: session.unit, 0.01, 1e6)
        self.bind(
            self.distance, lambda plate: placing.distance_m(session, plate) or 0.0,
            partial(placing.set_distance, session),
        )  # fmt: skip
        self.on = choice("On subject", [], "Put it at a subject's distance", 96)
        self.on.activated.connect(self._put_on)
        self.row("Distance", self.on, self.distance)
        self.fields: dict[DrivenOfPlate, Field] = {}
        for what, unit, step, low, high in _ROWS:
            field = narrow(number_field(placing.NAMES[what], unit, step, low, high))
            self.bind(field, partial(self._level, what), partial(placing.set_level, session, what))
            self.fields[what] = field
        self.row("Scale, opacity", self.fields["scale"], self.fields["opacity"])
        self.row("Turn, tilt", self.fields["turn_deg"], self.fields["tilt_deg"])
        for what in ("turn_deg", "tilt_deg"):
            self.enable_if(self.fields[what], lambda plate: not plate.faces)  # type: ignore[index]
        self.pivot = [
            narrow(number_field(f"Pivot {way}", "", 0.05, -10.0, 10.0)) for way in ("across", "down")
        ]
        for axis, field in enumerate(self.pivot):
            field.setToolTip(
                plain(f"{field.accessibleName()}, of the picture's size from its upper left corner")
            )
            self.bind(field, partial(_pivot_part, axis), partial(self._set_pivot, axis))
        self.row("Pivot", *self.pivot)
        self.faces = self.tick(
            "Faces the camera", "Always parallel to the sensor; else it stands as it is turned",
            lambda plate: plate.faces, partial(placing.set_faces, session),
        )  # fmt: skip
        self.fill, self.subject_button, self.copy, self.key = self.buttons(
            ("Fill frame", "Size it so that it covers the frame at its distance",
             lambda: placing.fill_frame(session)),
            ("Subject", "Make the chosen plates subjects", lambda: placing.make_subject(session)),
            ("Copy", "Another like it", lambda: placing.copy(session)),
            ("Key …", "Key a value at this frame, or take its key away", self._ask_key),
        )  # fmt: skip
        for button in (self.fill, self.subject_button, self.copy, self.key):
            button.setStyleSheet("padding: 4px 5px;")
        self.keyed = self.note()
        self.fade = choice(
            "Fades by", [("no fade", ""), ("by its blur", "blur"), ("by its distance", "distance")],
            "Opacity that follows blur or distance", 110,
        )  # fmt: skip
        self.bind(self.fade, lambda plate: plate.fade.by if plate.fade else "", self._take_fade)
        self.whole = narrow(number_field("Whole up to", "", 1.0, 0.0, 1e6))
        self.gone = narrow(number_field("Gone from", "", 1.0, 0.0, 1e6))
        for field, name in ((self.whole, "whole"), (self.gone, "gone")):
            self.bind(
                field,
                partial(_fade_part, name),
                partial(self._change_fade, name),
            )
            field.setToolTip(plain(f"{field.accessibleName()}: pixels of blur, or metres"))
        self.fades = FadeRow(self, partial(fading.fade, session))
        self.row("Fade", self.fade)
        self.row("Whole to, gone from", self.whole, self.gone)
        self.show_if(self.whole, lambda plate: plate.fade is not None)
        self.bright = narrow(number_field("Brightness", "EV", 0.5, -20.0, 20.0))
        self.bind(
            self.bright, lambda plate: plate.brightness_ev,
            lambda ev: placing.change(session, "Brightness", brightness_ev=ev),
        )  # fmt: skip
        self.row("Roll, brightness", self.fields["roll_deg"], self.bright)
        self.after = choice(
            "At its end", [("held", "held"), ("looped", "looped"), ("back and forth", "turned")],
            "What it shows after its last frame", 110,
        )  # fmt: skip
        self.at = narrow(number_field("Begins at frame", "", 1, -1e6, 1e6, digits=7))
        self.speed = narrow(number_field("Speed", "×", 0.1, 0.01, 100.0))
        self.bind(self.after, lambda plate: self._playing(plate).after, partial(self._play, "after"))
        self.bind(self.at, lambda plate: self._playing(plate).at, lambda v: self._play("at", round(v)))
        self.bind(self.speed, lambda plate: self._playing(plate).speed, partial(self._play, "speed"))
        self.row("Plays from, speed", self.at, self.speed)
        self.row("At its end", self.after)
        for widget in (self.at, self.after):
            self.show_if(widget, lambda plate: plate.picture.playing is not None)

    def subject(self) -> Plate | None:
        """See :class:`Card`."""
        return placing.chosen(self.session)

    def _level(self, what: DrivenOfPlate, plate: Plate) -> float:
        return placing.level_now(self.session, plate, what)

    def _set_pivot(self, axis: int, value: float) -> None:
        plate = self.subject()
        if plate is not None:
            across, down = plate.pivot
            placing.set_pivot(self.session, (value, down) if axis == 0 else (across, value))

    def _rename(self) -> None:
        plate, name = self.subject(), self.title.text().strip()
        if plate is not None and name and name != plate.name:
            placing.change(self.session, "Name", name=name)

    def _put_on(self, _index: int) -> None:
        number = self.on.currentData()
        self.on.setCurrentIndex(0)
        if number is not None:
            placing.put_on_subject(self.session, number)

    def _ask_key(self) -> None:
        self.key_menu().popup(self.key.mapToGlobal(self.key.rect().bottomLeft()))

    def key_menu(self) -> QMenu:
        """What can be keyed at the frame, and how each value goes on."""
        menu = QMenu(self)
        for what, name in placing.NAMES.items():
            word = "Place" if what == "distance" else name
            text = f"Take the key of {word.lower()}" if self._has_key(what) else f"Key {word.lower()}"
            menu.addAction(text).triggered.connect(
                lambda _on=False, w=what: placing.toggle_key(self.session, w)
            )
        ways = menu.addMenu("Way on from the last key")
        for what, name in placing.NAMES.items():
            own = ways.addMenu("Place" if what == "distance" else name)
            for ease in ("smooth", "even", "fast", "late")[: 2 if what == "distance" else 4]:
                own.addAction(ease.capitalize()).triggered.connect(
                    lambda _on=False, w=what, e=ease: placing.set_ease(self.session, w, e)
                )
        return menu

    def _has_key(self, what: DrivenOfPlate) -> bool:
        plate = self.subject()
        keys = () if plate is None else plate.keys if what == "distance" else getattr(plate, what).keys
        return any(key.frame == self.session.frame for key in keys)

    def _take_fade(self, by: str) -> None:
        fade = None if not by else Fade(whole=10.0, gone=60.0) if by == "blur" else (
            Fade(by="distance", whole=5.0, gone=20.0)
        )  # fmt: skip
        placing.change(self.session, "Fade", fade=fade)

    def _change_fade(self, name: str, value: float) -> None:
        plate = self.subject()
        if plate is not None and plate.fade is not None:
            placing.change(self.session, "Fade", fade=plate.fade.but(**{name: value}))

    @staticmethod
    def _playing(plate: Plate) -> Playing:
        return plate.picture.playing or Playing()

    def _play(self, name: str, value: object) -> None:
        plate = self.subject()
        if plate is not None and plate.picture.playing is not None:
            playing = plate.picture.playing.but(**{name: value})
            placing.change(self.session, "Playing", picture=plate.picture.but(playing=playing))

    def show_more(self, subject: Plate) -> None:
        if not self.title.hasFocus():
            self.title.setText(subject.name)
        subjects = [("on …", None), *((f"{s.number} {s.name}", s.number) for s in self.session.plan.subjects)]
        if [self.on.itemData(k) for k in range(self.on.count())] != [number for _name, number in subjects]:
            self.on.clear()
            for name, number in subjects:
                self.on.addItem(name, number)
        dials = self.session.plan.dials
        told = []
        for what, name in placing.NAMES.items():
            driven = drive_of(dials, subject.number, what)
            keys = subject.keys if what == "distance" else getattr(subject, what).keys
            word = "Place" if what == "distance" else name
            if driven is not None:
                told.append(f"{name} driven by {driven[0].name}")
            elif keys:
                told.append(f"{word} keyed at {', '.join(f'{key.frame:g}' for key in keys[:4])}"
                            f"{' …' if len(keys) > 4 else ''}")  # fmt: skip
        self.keyed.setText(". ".join(told) + "." if told else "")
        self.keyed.setVisible(bool(told))


def _has_file(session: Session) -> bool:
    plate = placing.chosen(session)
    return plate is not None and bool(plate.picture.path)


def _where(session: Session, plate: Plate, metres: float | None) -> str:
    """Where a plate stands, in words."""
    if placing.is_missing(session, plate):
        return "missing"
    if plate.lies:
        return "ground"
    if metres is None:
        return ""
    return session.length(metres) if metres > 0 else "behind"


def _pivot_part(axis: int, plate: Plate) -> float:
    return plate.pivot[axis]


def _fade_part(name: str, plate: Plate) -> float:
    return float(getattr(plate.fade or Fade(), name))
