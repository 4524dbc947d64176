"""A table of named things of the plan, of which only the names can be typed."""

from collections.abc import Sequence
from typing import Protocol

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.words import plain
from kobrel.session.session import Session

Index = QModelIndex | QPersistentModelIndex


class Named(Protocol):
    """Something with a name."""

    @property
    def name(self) -> str:
        """What it is called."""


@guarded
class NamedRows(QAbstractTableModel):
    """Rows of named things; subclasses say which, what else stands in a row, and rename.

    `headings` is for the name's column and for each of the texts.
    """

    headings: tuple[str, ...] = ("Name",)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session

    def things(self) -> Sequence[Named]:
        """What the rows show."""
        raise NotImplementedError

    def texts(self, row: int) -> tuple[str, ...]:
        """What stands behind the name, right-aligned."""
        raise NotImplementedError

    def rename(self, row: int, name: str) -> None:
        """Call something otherwise."""
        raise NotImplementedError

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.things())

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        return len(self.headings)

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> object:
        shown = orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole
        return self.headings[section] if shown else None

    def flags(self, index: Index) -> Qt.ItemFlag:
        base = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return base | Qt.ItemFlag.ItemIsEditable if index.column() == 0 else base

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        name = self.things()[index.row()].name
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return (name, *self.texts(index.row()))[index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() > 0:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(f"{name}. Double-click to rename.")
        return None

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        name = str(value).strip()
        if not name or name == self.things()[index.row()].name:
            return False
        self.rename(index.row(), name)
        return True
