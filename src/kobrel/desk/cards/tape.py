"""Tape: subjects and their distances."""

import math

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QPushButton, QTableView, QWidget

from kobrel.desk.cards.base import Card, choice, choose, give_role, plain_table
from kobrel.desk.look import look
from kobrel.desk.paint import role_of, subject_colour
from kobrel.desk.session import Session
from kobrel.optics.units import UNIT_NAMES
from kobrel.plan.edit import with_subject
from kobrel.plan.model import SubjectTarget
from kobrel.plan.survey import STATES

_HEADINGS = ("", "Name", "Distance", "px", "State")
_Index = QModelIndex | QPersistentModelIndex


class SubjectsModel(QAbstractTableModel):
    """The session's subjects at the frame; only names can be typed."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session

    def rowCount(self, parent: _Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self._session.plan.subjects)

    def columnCount(self, parent: _Index = QModelIndex()) -> int:
        return len(_HEADINGS)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> object:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _HEADINGS[section]
        return None

    def flags(self, index: _Index) -> Qt.ItemFlag:
        base = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return base | Qt.ItemFlag.ItemIsEditable if index.column() == 1 else base

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        session, numbers = self._session, self._session.survey
        subject = session.plan.subjects[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self._text(index.row(), index.column())
        if role == Qt.ItemDataRole.ForegroundRole and numbers is not None and index.column() != 1:
            return subject_colour(numbers, index.row(), session.row)
        if role == Qt.ItemDataRole.ForegroundRole:
            return QColor(look().text)
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() in (2, 3):
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole and numbers is not None:
            straight = session.length(float(numbers.sight.straight_m[index.row(), session.row]))
            axial = session.length(float(numbers.sight.axial_m[index.row(), session.row]))
            return f"{subject.name}: {axial} along the axis, {straight} straight. Double-click to rename."
        return None

    def _text(self, row: int, column: int) -> str:
        session, numbers = self._session, self._session.survey
        subject = session.plan.subjects[row]
        if column == 0:
            return str(subject.number)
        if column == 1:
            return subject.name
        if numbers is None:
            return "–"
        if column == 2:
            return session.length(float(numbers.focus_distance_m[row, session.row]))
        if column == 3:
            blur = float(numbers.sight.blur_px[row, session.row])
            return "–" if math.isnan(blur) else f"{blur:.1f}"
        return STATES[numbers.state[row, session.row]]

    def setData(self, index: _Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        name = str(value).strip()
        subject = self._session.plan.subjects[index.row()]
        if not name or name == subject.name:
            return False
        self._session.edit(
            f"Rename {subject.name}", with_subject(self._session.plan, subject.number, name=name)
        )
        return True


class TapeCard(Card):
    """See the module."""

    name = "Tape"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.unit = choice(
            "Unit of length", [(name, unit) for unit, name in UNIT_NAMES.items()], "Unit for all lengths"
        )
        self.unit.activated.connect(
            lambda _i: session.edit(
                f"Lengths in {self.unit.currentText().lower()}",
                session.plan.but(unit=self.unit.currentData()),
            )
        )
        self.row("Lengths in", self.unit)
        self.line()
        self.distance = self.reading("Distance", 25, "sharp")
        self.axial = self.reading("Along the axis")
        self.straight = self.reading("Straight, as a tape gives it")
        self.off = self.reading("From the focus")
        self.blur = self.reading("Blur")
        self.line()
        self._model = SubjectsModel(session)
        self.table = QTableView()
        self.table.setModel(self._model)
        plain_table(self.table, "Subjects", 26)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.selectionModel().currentRowChanged.connect(self._select)
        self.column.addWidget(self.table, 1)
        self.empty = self.note("No subjects yet. Click a thing in Picture to make it one.")
        buttons = QHBoxLayout()
        self.focus_button = QPushButton("Focus on it")
        self.focus_button.setToolTip("Put the focus on the chosen subject at this frame")
        self.focus_button.clicked.connect(self._focus)
        self.delete_button = QPushButton("Delete")
        self.delete_button.setToolTip("Delete the chosen subject; marks on it keep its distance")
        self.delete_button.clicked.connect(self._delete)
        buttons.addWidget(self.focus_button)
        buttons.addWidget(self.delete_button)
        buttons.addStretch(1)
        self.column.addLayout(buttons)

    def _select(self, current: QModelIndex) -> None:
        if 0 <= current.row() < len(self.session.plan.subjects):
            self.session.selected_subject = self.session.plan.subjects[current.row()].number
            self.session.changed.emit()

    def _chosen_row(self) -> int:
        numbers = [subject.number for subject in self.session.plan.subjects]
        chosen = self.session.selected_subject
        return numbers.index(chosen) if chosen in numbers else (0 if numbers else -1)

    def _focus(self) -> None:
        row = self._chosen_row()
        if row >= 0:
            self.session.focus_on(SubjectTarget(number=self.session.plan.subjects[row].number))

    def _delete(self) -> None:
        row = self._chosen_row()
        if row >= 0:
            self.session.remove_subject(self.session.plan.subjects[row].number)

    def refresh(self) -> None:
        session, numbers = self.session, self.session.survey
        choose(self.unit, session.plan.unit)
        row = self._chosen_row()
        self._model.layoutChanged.emit()
        self.empty.setVisible(row < 0)
        for button in (self.focus_button, self.delete_button):
            button.setEnabled(row >= 0)
        if row >= 0 and self.table.currentIndex().row() != row:
            self.table.selectionModel().blockSignals(True)
            self.table.selectRow(row)
            self.table.selectionModel().blockSignals(False)
        if numbers is None or row < 0:
            for label in (self.distance, self.axial, self.straight, self.off, self.blur):
                label.setText("–")
            return
        at = session.row
        distance = float(numbers.focus_distance_m[row, at])
        focus = float(numbers.camera.focus_m[at])
        self.distance.setText(session.length(distance))
        give_role(self.distance, role_of(int(numbers.state[row, at]), bool(numbers.nearer[row, at])))
        sphere = numbers.camera.surface == "sphere"
        for label, metres, counts in (
            (self.axial, numbers.sight.axial_m[row, at], not sphere),
            (self.straight, numbers.sight.straight_m[row, at], sphere),
        ):
            label.setText(session.length(float(metres)))
            give_role(label, "focus" if counts else "")
            label.setToolTip(
                "This distance counts for the focus" if counts else "Does not count for the focus"
            )
        self.off.setText(_off_focus(session, distance, focus))
        blur = float(numbers.sight.blur_px[row, at])
        self.blur.setText(
            "–" if math.isnan(blur) else f"{blur:.1f} px, {blur / numbers.camera.width_px:.2%} of width"
        )


def _off_focus(session: Session, distance: float, focus: float) -> str:
    if distance <= 0:
        return "behind the camera"
    off = distance - focus
    if abs(off) < 5e-4 * distance:
        return "in it"
    return f"{session.length(abs(off))} {'farther' if off > 0 else 'nearer'}"
