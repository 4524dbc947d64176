"""Custom values: names, what each is, unit, scale, sign, order and decimals."""

from functools import partial
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.cards.widgets import choice, choose, plain_table
from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import read_number
from kobrel.desk.toolkit.words import Label, plain
from kobrel.errors import ExchangeError, KobrelError, PlanError
from kobrel.exchange.writing.whole import write_text
from kobrel.plan.parts import plain_reason
from kobrel.plan.values.blocks import BLOCKS
from kobrel.plan.values.own import SUFFIX, CustomValue, CustomValues, as_own, own_text, read_own
from kobrel.plan.values.quantities import QUANTITIES
from kobrel.session.commands import exporting
from kobrel.session.session import Session

_HEADS = ("Name", "Quantity", "Unit", "Multiply by", "Sign", "Decimals", "Now")
_NAME, _WHAT, _UNIT, _SCALE, _SIGN, _DECIMALS, _NOW = range(7)
_UNITS = ("scene", "m", "cm", "mm", "in", "ft")


class CustomValuesDialog(QDialog):
    """Makes and changes custom values; each row shows its value at the frame as it is typed."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._key = session, ""
        self.setWindowTitle("Custom values")
        self.resize(760, 460)
        column = QVBoxLayout(self)
        top = QHBoxLayout()
        self.begin = choice("Start from", [], "Change custom values, or start from values of Kobrel", 220)
        self.begin.activated.connect(lambda _i: self._begin())
        self.title = QLineEdit()
        self.title.setAccessibleName("Title")
        self.title.setToolTip("Name of these values")
        for label, widget in (("Start from", self.begin), ("Title", self.title)):
            text = Label(label)
            text.setBuddy(widget)
            top.addWidget(text)
            top.addWidget(widget, int(widget is self.title))
        column.addLayout(top)
        self.table = QTableWidget(0, len(_HEADS))
        self.table.setHorizontalHeaderLabels(_HEADS)
        plain_table(self.table, "Custom values", 28)
        header, modes = self.table.horizontalHeader(), QHeaderView.ResizeMode
        for number, width in (
            (_WHAT, 190),
            (_UNIT, 74),
            (_SCALE, 64),
            (_SIGN, 52),
            (_DECIMALS, 70),
            (_NOW, 110),
        ):
            header.setSectionResizeMode(number, modes.Fixed)
            header.resizeSection(number, width)
        header.setSectionResizeMode(_NAME, modes.Stretch)
        self.table.itemChanged.connect(lambda item: self._show_values() if item.column() < _NOW else None)
        column.addWidget(self.table, 1)
        self.said = Label()
        self.said.setWordWrap(True)
        column.addWidget(self.said)
        self._add_buttons(column)
        self._list()
        self._begin()

    def _add_buttons(self, column: QVBoxLayout) -> None:
        line = QHBoxLayout()
        for text, hint, work in (
            ("Add", "Another value below the selected one", self.add_row),
            ("Remove", "Remove the selected value", self.remove_row),
            ("Up", "Move the selected value up", partial(self.move_row, -1)),
            ("Down", "Move the selected value down", partial(self.move_row, 1)),
            ("Import…", "Import custom values from a file", self._ask_import),
            ("Export…", "Export these values to a file", self._ask_export),
            ("Delete", "Delete these custom values", self.forget),
            ("Save", "Save these values and show them on the page", self.keep),
        ):
            button = QPushButton(text)
            button.setToolTip(plain(hint))
            button.setAutoDefault(False)
            button.clicked.connect(lambda _on=False, do=work: do())
            if text in ("Import…", "Keep"):
                line.addStretch(1)
            line.addWidget(button)
        column.addLayout(line)

    # What is begun with

    def _list(self) -> None:
        self.begin.clear()
        for own in self._session.view.custom_values:
            self.begin.addItem(own.title, own)
        for block in BLOCKS:
            self.begin.addItem(f"New: {block.title}", as_own(block))

    def _begin(self) -> None:
        own = self.begin.currentData()
        self._key = own.key if own in self._session.view.custom_values else ""
        self.show_own(own)

    def show_own(self, own: CustomValues) -> None:
        """Show values to be changed."""
        self.title.setText(own.title)
        self.table.blockSignals(True)
        self.table.setRowCount(0)
        for term in own.terms:
            self._put_row(self.table.rowCount(), term)
        self.table.blockSignals(False)
        self.table.selectRow(0)
        self._show_values()

    def _put_row(self, row: int, term: CustomValue) -> None:
        self.table.insertRow(row)
        what = choice("Quantity", [(q.label, q.key) for q in QUANTITIES.values()], "Which value it is", 186)
        unit = choice("Unit", [(u, u) for u in _UNITS], "Of a length", 70)
        sign = choice("Sign", [("+", 1), ("−", -1)], "− flips the sign", 48)
        for column, box, value in (
            (_WHAT, what, term.quantity),
            (_UNIT, unit, term.unit),
            (_SIGN, sign, term.sign),
        ):
            choose(box, value)
            box.activated.connect(lambda _i: self._show_values())
            self.table.setCellWidget(row, column, box)
        decimals = "" if term.decimals is None else str(term.decimals)
        for column, text in ((_NAME, term.name), (_SCALE, f"{term.scale:g}"), (_DECIMALS, decimals)):
            self.table.setItem(row, column, QTableWidgetItem(text))
        now = QTableWidgetItem()
        now.setFlags(Qt.ItemFlag.ItemIsEnabled)
        now.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.table.setItem(row, _NOW, now)

    def add_row(self) -> None:
        """Another value below the chosen one."""
        names = {self._text(row, _NAME) for row in range(self.table.rowCount())}
        name = next(f"value {k}" for k in range(1, 1000) if f"value {k}" not in names)
        row = self.table.currentRow() + 1
        self.table.blockSignals(True)
        self._put_row(row, CustomValue(name=name, quantity="aperture_radius"))
        self.table.blockSignals(False)
        self.table.selectRow(row)
        self._show_values()

    def remove_row(self) -> None:
        """Without the chosen value."""
        self.table.removeRow(self.table.currentRow())
        self._show_values()

    def move_row(self, by: int) -> None:
        """The chosen value earlier or later."""
        row, to = self.table.currentRow(), self.table.currentRow() + by
        if row < 0 or not 0 <= to < self.table.rowCount():
            return
        try:
            term = CustomValue.model_validate(self._row(row))
        except (ValidationError, KobrelError) as error:
            self.said.setText(_reason(error))
            return
        self.table.blockSignals(True)
        self.table.removeRow(row)
        self._put_row(to, term)
        self.table.blockSignals(False)
        self.table.selectRow(to)
        self._show_values()

    # Reading the table

    def _text(self, row: int, column: int) -> str:
        item = self.table.item(row, column)
        return item.text().strip() if item is not None else ""

    def _data(self, row: int, column: int) -> Any:
        box = self.table.cellWidget(row, column)
        assert isinstance(box, QComboBox)
        return box.currentData()

    def _row(self, row: int) -> dict[str, object]:
        decimals = self._text(row, _DECIMALS)
        return {
            "name": self._text(row, _NAME), "quantity": self._data(row, _WHAT),
            "unit": self._data(row, _UNIT), "scale": read_number(self._text(row, _SCALE)),
            "sign": self._data(row, _SIGN), "decimals": round(read_number(decimals)) if decimals else None,
        }  # fmt: skip

    def own(self) -> CustomValues:
        """The values as they stand in the table.

        Raises
        ------
        PlanError
            They make no sense; says why.
        """
        try:
            rows = [self._row(row) for row in range(self.table.rowCount())]
            return CustomValues.model_validate({"title": self.title.text().strip(), "terms": rows})
        except (ValidationError, KobrelError, ValueError) as error:
            raise PlanError(_reason(error)) from None

    def _show_values(self) -> None:
        """What each would be at the frame, or why they make no sense."""
        now = self._session.now
        try:
            own = self.own()
        except PlanError as error:
            self.said.setText(str(error))
            return
        self.said.setText("")
        if now is None:
            return
        self.table.blockSignals(True)
        for row, term in enumerate(exporting.values_now(self._session, now, own)):
            item = self.table.item(row, _NOW)
            if item is not None:
                item.setText(term.shown)
        self.table.blockSignals(False)

    # Keeping

    def keep(self) -> None:
        """Keep the values."""
        try:
            own = self.own()
            exporting.save_custom_values(self._session, own, self._key)
        except KobrelError as error:
            self.said.setText(str(error))
            return
        self._key = own.key
        self._list()
        self.begin.setCurrentIndex(max(self.begin.findText(own.title), 0))
        self.said.setText(f"Saved: {own.title}")

    def forget(self) -> None:
        """Remove the custom values that are shown."""
        if self._key:
            exporting.remove_custom_values(self._session, self._key)
        self._list()
        self._begin()

    def _ask_import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Import values", str(Path.home()), "Values (*.json)")
        if name:
            self.import_file(Path(name))

    def import_file(self, path: Path) -> None:
        """Show values of a file; they are kept with Keep."""
        try:
            own = read_own(path)
        except PlanError as error:
            self.said.setText(str(error))
            return
        self._key = ""
        self.show_own(own)

    def _ask_export(self) -> None:
        try:
            own = self.own()
        except PlanError as error:
            self.said.setText(str(error))
            return
        start = Path.home() / f"{own.key}{SUFFIX}"
        path = ask_target(self, "Export values", start, "Values (*.json)", [SUFFIX, ".json"])
        if path is not None:
            self.export_file(path)

    def export_file(self, path: Path) -> None:
        """Write the values as a file to share."""
        try:
            write_text(path, own_text(self.own()))
        except (PlanError, ExchangeError) as error:
            self.said.setText(str(error))
            return
        self.said.setText(f"Written: {path}")


def _reason(error: Exception) -> str:
    return plain_reason(error) if isinstance(error, ValidationError) else str(error)
