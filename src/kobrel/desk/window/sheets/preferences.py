"""Preferences: what is chosen once for all plans."""

from collections.abc import Callable

from PySide6.QtWidgets import QDialog, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.session import settings
from kobrel.session.session import Session

MOST_VERSIONS = 99


class PreferencesSheet(QDialog):
    """Each field takes effect as soon as it is typed.

    Parameters
    ----------
    memory : tells how much frames take
    """

    def __init__(self, session: Session, memory: Callable[[], str], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Preferences")
        column, grid = QVBoxLayout(self), QGridLayout()
        grid.setVerticalSpacing(8)
        self.said = QLabel()
        self.said.setWordWrap(True)
        self.versions = self._field(
            "Earlier versions", "", 0, MOST_VERSIONS, settings.VERSIONS_KEPT,
            "How many earlier versions are kept beside a plan when it is saved, see File",
        )  # fmt: skip
        self.memory = self._field(
            "Memory", "%", 5, 80, settings.MEMORY_PERCENT,
            "How much of the machine's memory frames that are played may take, percent",
        )  # fmt: skip
        for row, (text, field) in enumerate(
            (("Earlier versions of a plan", self.versions), ("Memory for frames", self.memory))
        ):
            label = QLabel(text)
            label.setBuddy(field)
            grid.addWidget(label, row, 0)
            grid.addWidget(field, row, 1)
        note = QLabel(memory())
        note.setObjectName("quiet")
        close = QPushButton("Close")
        close.setAutoDefault(False)
        close.clicked.connect(self.accept)
        column.addLayout(grid)
        column.addWidget(note)
        column.addWidget(self.said)
        column.addWidget(close)

    def _field(
        self, name: str, unit: str, low: float, high: float, setting: settings.Setting[int], hint: str
    ) -> Field:
        field = number_field(name, unit, 1.0, low, high, digits=3)
        field.setToolTip(hint)
        field.show_value(self._session.settings.get(setting))
        field.refused.connect(self.said.setText)
        field.taken.connect(lambda value: self._session.settings.put(setting, round(value)))
        return field
