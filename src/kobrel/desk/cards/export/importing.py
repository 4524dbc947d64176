"""Back: values and cameras that return, what they would change, and taking them."""

from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QPlainTextEdit, QTableWidget, QTableWidgetItem, QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.background.jobs import Job
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice, fill, show_words, word_table
from kobrel.errors import KobrelError, PlanError
from kobrel.exchange.cameras.back import Comparison, Part
from kobrel.plan.model import FileCamera
from kobrel.plan.values.changes import Taken
from kobrel.plan.values.reading import Values
from kobrel.session.commands import exporting
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session
from kobrel.session.view import View
from kobrel.stage.scene import SCENE_SUFFIXES, Cancelled, Progress

_LATER_MS = 120
_KINDS = "*.csv *.json *.txt *.usd *.usda *.usdc *.gltf *.glb *.abc"


class ImportPage(ShotCard):
    """Back: values and cameras that return, what they would change, and taking them."""

    name = "Import"
    purpose = "Values or a camera that come back, compared before they are applied"
    is_page = True
    depends = (*AT_FRAME, Document.dragging, View.custom_values)

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._exports = exports
        self.note("Paste values in any renderer's convention, or open a file with values or a camera.")
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("Values that came back")
        self.text.setPlaceholderText("Radius: 1.25 cm\nFocus distance: 3.2 m")
        self.text.setToolTip("One value per line, a table, or JSON. Lengths in the unit set on Values")
        self.text.setFixedHeight(118)
        self.text.setTabChangesFocus(True)
        self.text.textChanged.connect(self._read)
        self.column.addWidget(self.text)
        self.paste, self.open, self.clear = self.buttons(
            ("Paste", "Paste from clipboard", self._paste),
            ("From a file…", "Values over frames (CSV, JSON), or a camera (USD, glTF, Alembic)", self.ask),
            ("Clear", "Clear what was pasted or opened", self._clear),
        )  # fmt: skip
        self.which = choice("Camera of the file", [], "Which camera came back", 190)
        self.which.activated.connect(lambda _i: self._read_camera(self._path, self.which.currentText()))
        self.row("Camera", self.which)
        self.show_if(self.which, lambda _now: self.camera is not None and len(self.camera.read.cameras) > 1)
        self.said = self.note()
        self.table = word_table("What it would change", ("What", "Now", "New"), 24, (0,))
        self.table.setMinimumHeight(190)
        self.table.itemChanged.connect(lambda _item: self._show_take())
        self.column.addWidget(self.table, 1)
        (self.take,) = self.buttons(("Apply", "Apply to shot", self.take_it))
        self.values: Values | None = None
        self.found: Taken | None = None
        self.camera: Comparison | None = None
        self._asked: object = None
        self._path: Path = Path()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_LATER_MS)
        self._later.timeout.connect(self._show_values)

    # What came back

    def _paste(self) -> None:
        self.text.setPlainText(QGuiApplication.clipboard().text())

    def _clear(self) -> None:
        self.text.blockSignals(True)
        self.text.clear()
        self.text.blockSignals(False)
        self.values = self.found = self.camera = None
        self.refresh()

    def _read(self) -> None:
        """Read the text."""
        self.values = self.camera = None
        words = self.text.toPlainText()
        if not words.strip():
            self.refresh()
            return
        try:
            self.values = exporting.read_pasted(self.session, words)
        except PlanError as error:
            self._show_fault(str(error))
            return
        self._show_values()

    def ask(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "Restore", str(Path.home()), f"Values and cameras ({_KINDS})"
        )
        if name:
            self.read_file(Path(name))

    def read_file(self, path: Path) -> None:
        """Read values, or a camera beside the window."""
        if path.suffix.lower() in SCENE_SUFFIXES:
            self._read_camera(path)
            return
        from kobrel.exchange.values import read_values_file

        self.camera = self.values = None
        try:
            self.values = read_values_file(
                path, exporting.values_unit(self.session), self.session.view.custom_values
            )
        except KobrelError as error:
            self._show_fault(str(error))
            return
        self.text.blockSignals(True)
        self.text.setPlainText(f"# {path.name}")
        self.text.blockSignals(False)
        self._show_values()

    def _read_camera(self, path: Path, camera: str | None = None) -> None:
        session, shot = self.session, self.session.shot
        self._path = path
        if shot is None:
            return
        plan, stage, unit = session.plan, session.stage, session.unit
        chosen = exporting.unit_chosen(session)
        metres = exporting.values_unit(session).metres if chosen else None  # of a file that tells no unit

        like = shot.camera.path if isinstance(shot.camera, FileCamera) else ""

        def work(progress: Progress) -> Comparison | str:
            from kobrel.exchange.cameras.back import compare, read_camera

            try:
                return compare(plan, shot, stage, read_camera(path, camera, metres, progress, like), unit)
            except Cancelled:
                raise
            except KobrelError as error:
                return str(error)

        job = Job(work, self)
        self._asked = job
        job.done.connect(lambda found: self._show_camera(found) if self._asked is job else None)
        self.said.setText(f"Reading {path.name}")
        self._exports.job_wanted.emit(job)

    def _show_camera(self, found: Comparison | str) -> None:
        self.session.say("" if isinstance(found, str) else f"{self._path.name} is read.")
        if isinstance(found, str):
            self._show_fault(found)
            return
        self._clear()
        fill(self.which, [(name, name) for name in found.read.cameras], found.read.path)
        self.camera = found
        self.refresh()

    # What it would change

    def show_more(self, subject: Now) -> None:
        if self.camera is not None and self.camera.shot is not subject.shot:
            self.camera = None
            self._show_fault("The shot has changed since; open the camera again.")
        elif self.camera is not None:
            self._show_differences(self.camera)
        elif self.values is not None:
            self._later.start()  # not at every frame that is gone through
        elif not self.text.toPlainText().strip():
            self._show_rows([])
            self.said.setText("")
        self._show_take()

    def _show_values(self) -> None:
        if self.values is not None:
            self._show_changes(self.values)
            self._show_take()

    def _show_changes(self, values: Values) -> None:
        try:
            self.found = exporting.with_values(self.session, values)
        except PlanError as error:
            self._show_fault(str(error))
            return
        unknown = f"Ignored: {', '.join(values.unknown[:6])}." if values.unknown else ""
        told = "" if self.found.changes else "The shot has these values already."
        self.said.setText(" ".join(filter(None, (unknown, told))))
        self._show_rows([(c.label, c.before, c.after) for c in self.found.changes])

    def _show_differences(self, camera: Comparison) -> None:
        told = list(camera.told) or ([] if camera.differences else ["Identical to the shot's camera."])
        self.said.setText(" ".join(told))
        rows = [
            ("\n".join((each.title, *each.told.split(", "))), each.before, each.after)
            for each in camera.differences
        ]
        if self.table.rowCount() == len(rows) and self.table.item(0, 0) is not None:
            return
        self._show_rows(rows)
        for row in range(len(rows)):
            item = self.table.item(row, 0)
            assert item is not None
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked)
            self.table.setRowHeight(row, 60)

    def _show_rows(self, rows: list[tuple[str, str, str]]) -> None:
        table: QTableWidget = self.table
        table.blockSignals(True)
        table.setRowCount(len(rows))
        for row, words in enumerate(rows):
            items = show_words(table, row, words)
            table.setRowHeight(row, 24)
            self._bold(items[2])
        table.blockSignals(False)

    @staticmethod
    def _bold(item: QTableWidgetItem) -> None:
        shown = item.font()
        shown.setBold(True)
        item.setFont(shown)

    def _show_fault(self, text: str) -> None:
        self.found = None
        self.said.setText(text)
        self._show_rows([])
        self._show_take()

    def _show_take(self) -> None:
        able = bool(self.chosen_parts()) if self.camera else bool(self.found and self.found.changes)
        self.take.setEnabled(able and (self.camera is not None or self.values is not None))

    # Taking

    def chosen_parts(self) -> list[Part]:
        """Which parts of the camera are ticked."""
        if self.camera is None:
            return []
        return [
            each.part
            for row, each in enumerate(self.camera.differences)
            if (item := self.table.item(row, 0)) is not None and item.checkState() == Qt.CheckState.Checked
        ]

    def take_it(self) -> None:
        """Take what came back; undo brings back what was."""
        try:
            if self.camera is not None:
                changed, name = self.camera.taken(self.chosen_parts()), "Apply the camera that came back"
            elif self.found is not None:
                changed, name = self.found.shot, "Apply values"
            else:
                return
        except KobrelError as error:
            self._show_fault(str(error))
            return
        self._clear()
        exporting.take_shot(self.session, changed, name)
