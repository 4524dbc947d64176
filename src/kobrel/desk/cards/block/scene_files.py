"""The scenes of the Block card: files, where they stand, and what they hold."""

from pathlib import Path

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, QSortFilterProxyModel, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QFileDialog, QHeaderView, QLineEdit, QTreeView, QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import SessionCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import narrow, number_field
from kobrel.desk.toolkit.theme import theme
from kobrel.desk.toolkit.words import plain
from kobrel.memo import Changed
from kobrel.optics.units import METRES, UNIT_NAMES
from kobrel.plan import edit
from kobrel.plan.model import SceneRef
from kobrel.session import settings
from kobrel.session.commands import arrival
from kobrel.session.commands.visibility import isolate, reference_of, set_shown
from kobrel.session.document import Document
from kobrel.session.selection import ChosenNode, Selection
from kobrel.session.session import Session
from kobrel.stage.scene import SCENE_SUFFIXES, Scene
from kobrel.stage.stage import Place

_Index = QModelIndex | QPersistentModelIndex
KINDS = f"Scenes ({' '.join(f'*{suffix}' for suffix in SCENE_SUFFIXES)})"


_NO_SCENE = SceneRef(name="none", path="")


@guarded
class NodesModel(QAbstractItemModel):
    """Scenes and below them their nodes; the tick says whether a node is drawn.

    An index's number counts through all scenes: each scene, then its nodes.
    """

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._changed = Changed()
        self._scenes: list[tuple[str, Scene | None]] = []
        self._starts: list[int] = []
        self._children: list[list[int]] = []
        self._rows: list[int] = []
        self._parents: list[int] = []

    def take(self, scenes: list[tuple[str, Scene | None]]) -> bool:
        """Show these scenes, None for one that is not there; whether they are others than before."""
        if not self._changed(tuple(scenes)):
            return False
        self.beginResetModel()
        self._scenes, self._starts, self._children, self._rows, self._parents = scenes, [], [], [], []
        for row, (_name, scene) in enumerate(scenes):
            start = len(self._children)
            self._starts.append(start)
            self._add(row, -1)
            for node in scene.nodes if scene else ():
                above = start if node.parent < 0 else start + 1 + node.parent
                self._children[above].append(len(self._children))
                self._add(len(self._children[above]) - 1, above)
        self.endResetModel()
        return True

    def _add(self, row: int, parent: int) -> None:
        self._children.append([])
        self._rows.append(row)
        self._parents.append(parent)

    def place_of(self, index: _Index) -> Place | None:
        """The node behind an index; a scene itself has an empty path."""
        if not index.isValid():
            return None
        number = index.internalId()
        which = max(i for i, start in enumerate(self._starts) if start <= number)
        name, scene = self._scenes[which]
        at = number - self._starts[which]
        return Place(name, scene.nodes[at - 1].path if scene and at else "")

    def index_of(self, place: Place) -> QModelIndex:
        """The index of a node, or an invalid one."""
        for which, (name, scene) in enumerate(self._scenes):
            if name == place.scene:
                at = scene.find(place.path) + 1 if scene and place.path else 0
                number = self._starts[which] + at
                return self.createIndex(self._rows[number], 0, number)
        return QModelIndex()

    def index(self, row: int, column: int, parent: _Index = QModelIndex()) -> QModelIndex:
        below = self._children[parent.internalId()] if parent.isValid() else self._starts
        return self.createIndex(row, column, below[row]) if 0 <= row < len(below) else QModelIndex()

    def parent(self, index: _Index = QModelIndex()) -> QModelIndex:  # type: ignore[override]
        above = self._parents[index.internalId()] if index.isValid() else -1
        return self.createIndex(self._rows[above], 0, above) if above >= 0 else QModelIndex()

    def rowCount(self, parent: _Index = QModelIndex()) -> int:
        return len(self._children[parent.internalId()] if parent.isValid() else self._starts)

    def columnCount(self, parent: _Index = QModelIndex()) -> int:
        return 1

    def flags(self, index: _Index) -> Qt.ItemFlag:
        base = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        place = self.place_of(index)
        return base | Qt.ItemFlag.ItemIsUserCheckable if place and place.path else base

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        place = self.place_of(index)
        if place is None:
            return None
        reference = reference_of(self._session.plan, place.scene)
        problem = self._session.library.problems.get(reference.path) if reference else None
        if role == Qt.ItemDataRole.DisplayRole:
            if place.path:
                return place.path.rsplit("/", 1)[-1] or place.path
            return f"{place.scene}  missing" if problem else place.scene
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(place.path or problem or (reference.path if reference else ""))
        if role == Qt.ItemDataRole.ForegroundRole and problem:
            return QColor(theme().wrong)
        if role == Qt.ItemDataRole.CheckStateRole and place.path and reference:
            hidden = place.path in reference.hidden
            return Qt.CheckState.Unchecked if hidden else Qt.CheckState.Checked
        return None

    def setData(self, index: _Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        place = self.place_of(index)
        if role != Qt.ItemDataRole.CheckStateRole or place is None:
            return False
        set_shown(self._session, place, bool(value))
        return True


class ScenesPage(SessionCard):
    """The scenes of the Block card: files, where they stand, and what they hold."""

    name = "Scene files"
    purpose = "Scene files of the plan: add, place, filter and relink them"
    is_page = True
    depends = (Document.plan, Document.stage, Document.library, Selection.item)

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._files = files
        self.add, self.reload, self.find_button, self.remove = self.buttons(
            ("Add…", "Add a scene file to the plan", self.ask_add),
            ("Reload", "Reload the file; subjects are kept", self._reload),
            ("Relink…", "Relink to the file's new location", self.ask_find),
            ("Remove", "Remove from plan", self._remove),
        )
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Find by name")
        self.filter.setAccessibleName("Find by name")
        self.filter.setToolTip("Filter by name")
        self.column.addWidget(self.filter)
        self.nodes = NodesModel(session)
        self._sieve = QSortFilterProxyModel(self)
        self._sieve.setSourceModel(self.nodes)
        self._sieve.setRecursiveFilteringEnabled(True)
        self._sieve.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.filter.textChanged.connect(self._sift)
        self.tree = QTreeView()
        self.tree.setModel(self._sieve)
        self.tree.setAccessibleName("Scenes and their parts")
        self.tree.setToolTip("Ticked objects are visible")
        self.tree.setHeaderHidden(True)
        self.tree.setUniformRowHeights(True)
        self.tree.header().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.tree.setMinimumHeight(150)
        self.tree.selectionModel().currentChanged.connect(self._choose)
        self.column.addWidget(self.tree, 1)
        self.empty = self.note("No scene file yet. Add one, or block with stand-ins.")
        self.hide_button, self.isolate, self.show_all = self.buttons(
            ("Hide", "Hide selected object", self._hide),
            ("Isolate", "Show only the selected object", self._isolate),
            ("Show all", "Show all objects", self._show_all),
        )
        self.line()
        self.place = self.places(
            "Position", "Position of the scene", lambda _session: self._reference().position_m,
            lambda place: self._change("Position", position_m=place),
        )  # fmt: skip
        self.turn = narrow(
            number_field(
                "Rotation of the scene",
                "°",
                5.0,
                -3600.0,
                3600.0,
                about="Rotates the scene about the vertical",
            )
        )
        self.scale = narrow(
            number_field(
                "Scale of the scene", "×", 0.1, 1e-6, 1e6, about="Scales the scene, on top of its unit"
            )
        )
        self.row("Rotation · scale", self.turn, self.scale)
        units: list[tuple[str, object]] = [("From file", None)]
        units += [(UNIT_NAMES[unit], METRES[unit]) for unit in METRES]
        self.unit = choice("Unit of the scene", units, "Unit of the file")
        self.row("Scene units", self.unit)
        self.up = choice(
            "Up axis of the scene", [("From file", None), ("Y", "Y"), ("Z", "Z")],
            "Which of the file's axes points up",
        )  # fmt: skip
        self.row("Up axis", self.up)
        self.bind(self.up, lambda _session: self._reference().up, lambda up: self._change("Up axis", up=up))
        (self.first_sight,) = self.buttons(
            (
                "Scene report…",
                "Import report: size, units, cameras, variants, skipped items",
                self._show_first_sight,
            )
        )
        self.bind(
            self.turn,
            lambda _session: self._reference().turn_deg,
            lambda d: self._change("Rotation", turn_deg=d),
        )
        self.bind(
            self.scale, lambda _session: self._reference().scale, lambda f: self._change("Scale", scale=f)
        )
        self.bind(
            self.unit, lambda _session: self._reference().unit_m, lambda m: self._change("Unit", unit_m=m)
        )
        of_scene: list[QWidget] = [self.reload, self.find_button, self.remove, *self.place]
        for widget in (*of_scene, self.turn, self.scale, self.unit, self.up, self.first_sight):
            self.enable_if(widget, lambda _session: self._chosen() is not None)
        for button in (self.hide_button, self.isolate):
            self.enable_if(button, lambda _session: bool((place := self._chosen()) and place.path))
        self.enable_if(self.show_all, lambda session: any(scene.hidden for scene in session.plan.scenes))
        self._picked: Place | None = None

    # What is chosen

    def _sift(self, text: str) -> None:
        self._sieve.setFilterFixedString(text)
        if text:
            self.tree.expandAll()

    def _choose(self, current: QModelIndex) -> None:
        place = self.nodes.place_of(self._sieve.mapToSource(current))
        if place is not None:
            self._picked = place
            self.session.selection.item = ChosenNode(place)

    def _chosen(self) -> Place | None:
        """The chosen node or scene; the only scene where nothing is."""
        place, scenes = self.session.selection.node, self.session.plan.scenes
        if place is not None and reference_of(self.session.plan, place.scene):
            return place
        return Place(scenes[0].name, "") if scenes else None

    def _reference(self) -> SceneRef:
        """The chosen scene of the plan, or one that stands for none."""
        place = self._chosen()
        return (reference_of(self.session.plan, place.scene) if place else None) or _NO_SCENE

    # What buttons do

    def ask_add(self) -> None:
        """Let the person choose a scene file to add."""
        name, _ = QFileDialog.getOpenFileName(self, "Add a scene", self._files.folder(), KINDS)
        if name:
            self._files.add(Path(name))

    def ask_find(self) -> None:
        """Let the person point to a missing scene's file."""
        place = self._chosen()
        if place is None:
            return
        title = f"Locate scene {place.scene}"
        name, _ = QFileDialog.getOpenFileName(self, title, self._files.folder(), KINDS)
        if name:
            settings.allow_chosen(self.session.settings, Path(name))
            self._change("File", path=name)

    def _show_first_sight(self) -> None:
        self.session.want("arrival")

    def _reload(self) -> None:
        if self._chosen() is not None:
            self._files.reload([self._reference().path])

    def _remove(self) -> None:
        place = self._chosen()
        if place is not None:
            self.session.edit(
                f"Remove scene {place.scene}", edit.remove_scene(self.session.plan, place.scene)
            )

    def _hide(self) -> None:
        place = self._chosen()
        if place is not None and place.path:
            set_shown(self.session, place, False)

    def _isolate(self) -> None:
        place = self._chosen()
        if place is not None and place.path:
            isolate(self.session, place)

    def _show_all(self) -> None:
        plan = self.session.plan
        scenes = tuple(scene.replace(hidden=()) for scene in plan.scenes)
        self.session.edit("Show all", plan.replace(scenes=scenes))

    def _change(self, name: str, **changes: object) -> None:
        place = self._chosen()
        if place is not None:
            arrival.change_scene(self.session, place.scene, f"{name} of scene {place.scene}", **changes)

    def show_more(self, subject: Session) -> None:
        scenes = [(r.name, subject.stage.scenes.get(r.name)) for r in subject.plan.scenes]
        fresh = self.nodes.take(scenes)
        self.tree.viewport().update()
        if fresh and not self.filter.text():
            self.tree.expandToDepth(1)
        if subject.selection.node is not None and subject.selection.node != self._picked:
            self._picked = subject.selection.node
            index = self._sieve.mapFromSource(self.nodes.index_of(subject.selection.node))
            self.tree.setCurrentIndex(index)
            self.tree.scrollTo(index)
        self.empty.setVisible(not subject.plan.scenes)
