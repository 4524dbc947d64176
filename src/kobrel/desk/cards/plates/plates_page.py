"""The plates: added, ordered by distance, distributed."""

from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QMenu,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import SessionCard
from kobrel.desk.cards.plates.cutout import PICTURES
from kobrel.desk.cards.plates.drawn import DrawnFields
from kobrel.desk.cards.plates.from_picture import FromDepthDialog, GroundDialog, picture_for
from kobrel.desk.cards.plates.plate_values import PlateValues
from kobrel.desk.cards.plates.replace import ReplaceDialog
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.toolkit.fields import length_field, narrow
from kobrel.desk.toolkit.words import plain
from kobrel.plan.pictures.drawn import DRAWN_NAMES
from kobrel.plan.pictures.plates import Plate
from kobrel.session.commands.plates import drawing, placing, replacing, sets
from kobrel.session.document import Document
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session
from kobrel.stage.read.plates.playing import MOVIES
from kobrel.stage.read.plates.stills import ENDINGS

KINDS = f"Pictures and movies ({' '.join(f'*{ending}' for ending in (*ENDINGS, *MOVIES))})"
_ENDS_PX = 62
_ROW_PX, _TALL_PX = 24, 156


@guarded
class PlatesPage(SessionCard):
    """The plates: added, ordered by distance, distributed."""

    name = "Plates"
    purpose = "Images placed in space: distance, scale, keys and fades"
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
            ("Add…", "Pictures, layered pictures, a sequence or a movie as plates", self.ask_add),
            ("Folder…", "All pictures of a folder as plates", self.ask_folder),
            ("New…", "A plate without a file: title, colour, gradient, vignette, specks", self.ask_new),
            ("Delete", "Delete the selected plates", lambda: placing.remove(session)),
        )
        self.replace, self.reload, self.foot = self.buttons(
            (
                "Replace…",
                "Replace the plate's image; position, keys, dials, fades and cut-out stay",
                self.ask_replace,
            ),
            ("Reload", "Read the selected plate's picture again", self._reload),
            ("Set on ground", "Click where the plate touches the ground", lambda: sets.begin_foot(session)),
        )
        self.by_depth, self.ground = self.buttons(
            (
                "Slice by depth…",
                "Slice the selected image into plates using a depth map",
                self.ask_depth,
            ),
            ("Ground…", "Ground plane from horizon and camera height", self.ask_ground),
        )
        for button in (self.by_depth, self.ground, self.foot):
            self.enable_if(button, lambda session: placing.chosen(session) is not None)
        self.list = word_table("Plates, the farthest first", ("Plate", "Distance", "Blur"), _ROW_PX, {0})
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.list.setToolTip(
            "Farthest first. Ctrl-click: select several. Tick: visible. Drop an image on a plate to replace "
            "its image"
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
            "Lock framing", "Scales with distance, so only its blur changes in frame",
            lambda session: session.selection.keeps_framing,
            session.setter(Selection.keeps_framing),
        )  # fmt: skip
        self.gaps = choice(
            "Gaps", [("Stay put", ""), ("Keep spacing", "metres"), ("Keep ratio", "ratio"),
                     ("Keep dioptres", "dioptres")],
            "How other selected plates follow when one is moved", 140,
        )  # fmt: skip
        self.bind(
            self.gaps, lambda session: session.selection.keeps_gaps, session.setter(Selection.keeps_gaps),
        )  # fmt: skip
        self.row("Other plates", self.gaps)
        self.near = narrow(
            length_field(
                "Nearest plate",
                lambda: session.unit,
                0.01,
                1e6,
                about="Distance of the nearest plate after Distribute",
            )
        )
        self.far = narrow(
            length_field(
                "Farthest plate",
                lambda: session.unit,
                0.01,
                1e6,
                about="Distance of the farthest plate after Distribute",
            )
        )
        for field in (self.near, self.far):
            field.setFixedWidth(_ENDS_PX)  # the choice stands beside them
        self.by = choice(
            "Spread by", [("Dioptres", "dioptres"), ("Ratios", "ratio"), ("Metres", "metres")],
            "Even spacing in", 86,
        )  # fmt: skip
        self.near.taken.connect(lambda _value: self._spread())
        self.far.taken.connect(lambda _value: self._spread())
        self.by.activated.connect(lambda _index: self._spread())
        self.row("Distribute", self.near, self.far, self.by)
        self.show_if(self.near, lambda session: len(session.plan.plates) > 1)
        self.drawn = DrawnFields(session)
        self.show_if(self.drawn, lambda session: drawing.chosen_drawn(session) is not None, row=False)
        self.column.addWidget(self.drawn)
        self.details = PlateValues(session)
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
            self, "A depth pass of this plate", self._files.folder(), PICTURES
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


def _where(session: Session, plate: Plate, metres: float | None) -> str:
    """Where a plate stands, in words."""
    if placing.is_missing(session, plate):
        return "missing"
    if plate.lies:
        return "ground"
    if metres is None:
        return ""
    return session.length(metres) if metres > 0 else "behind"


def _has_file(session: Session) -> bool:
    plate = placing.chosen(session)
    return plate is not None and bool(plate.picture.path)
