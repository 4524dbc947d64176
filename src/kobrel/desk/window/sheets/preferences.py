"""Preferences: what is chosen once for all plans."""

import re
from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.cards.widgets import choice, choose
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.desk.toolkit.theme import LOOKS
from kobrel.desk.toolkit.words import Label, plain
from kobrel.desk.window.sheets.shortcuts import Shortcuts, ShortcutsSheet
from kobrel.optics.units import UNIT_NAMES
from kobrel.session import settings
from kobrel.session.session import Session
from kobrel.session.view import View

MOST_VERSIONS = 99
_ADDRESS = re.compile(r"(tcp|tls|ucx|ws|wss)://[^\s/]+:\d{1,5}")


class PreferencesSheet(QDialog):
    """Each field takes effect as soon as it is typed.

    Parameters
    ----------
    memory : tells how much frames take
    """

    def __init__(
        self, session: Session, shortcuts: Shortcuts, memory: Callable[[], str], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Preferences")
        column, grid = QVBoxLayout(self), QGridLayout()
        grid.setVerticalSpacing(8)
        self.said = Label()
        self.said.setWordWrap(True)
        self.versions = self._field(
            "Versions kept per plan", "count", 0, MOST_VERSIONS, settings.VERSIONS_KEPT,
            "Previous versions kept beside a plan when it is saved (File, Previous versions)",
        )  # fmt: skip
        self.memory = self._field(
            "Memory", "%", 5, 80, settings.MEMORY_PERCENT,
            "Share of RAM that playback may use",
        )  # fmt: skip
        self.look = self._choice(
            "Appearance", [(text, look) for look, text in LOOKS.items()], session.view.theme,
            session.setter(View.theme), "Colours for a dark room, a bright one, or as the desktop has them",
        )  # fmt: skip
        self.unit = self._kept_choice(
            "Lengths", [(name, unit) for unit, name in UNIT_NAMES.items()], settings.NEW_UNIT,
            "Units for new plans (this plan's are on Export, Values)",
        )  # fmt: skip
        self.steps = self._choice(
            "Stop steps", [("Any", "free"), ("Thirds", "third"), ("Halves", "half"), ("Full stops", "full")],
            session.view.stop_steps, session.setter(View.stop_steps), "Steps that the stop is set in",
        )  # fmt: skip
        self.fps = self._field(
            "Default frame rate", "fps", 1, 1000, settings.NEW_FPS, "Frame rate of new plans"
        )
        self.folder = QPushButton(session.settings.get(settings.MOVIE_FOLDER) or "Home folder")
        self.folder.setToolTip("Folder that movies are written to")
        self.folder.clicked.connect(self._choose_folder)
        self.scheduler = QLineEdit(session.settings.get(settings.SCHEDULER))
        self.scheduler.setPlaceholderText("this machine")
        self.scheduler.setAccessibleName("Scheduler of workers")
        self.scheduler.setToolTip(
            "Address of a scheduler of workers, such as tcp://10.0.0.5:8786; empty for this machine alone"
        )
        self.scheduler.editingFinished.connect(self._take_scheduler)
        self.keys = QPushButton("Change keys…")
        self.keys.setToolTip("Show all keys, and change them")
        self.keys.clicked.connect(lambda: ShortcutsSheet(shortcuts, self).open())
        self.forget = QPushButton("Delete")
        self.forget.clicked.connect(self._forget_folders)
        self._show_folders()
        for button in (self.folder, self.forget, self.keys):
            button.setAutoDefault(False)  # Enter in a field takes the field alone
        for row, (text, field) in enumerate((
            ("Appearance", self.look), ("Default units", self.unit), ("Default frame rate", self.fps),
            ("Steps of the stop", self.steps), ("Versions kept per plan", self.versions),
            ("Memory for frames", self.memory), ("Movie folder", self.folder),
            ("Render scheduler", self.scheduler), ("Allowed folders", self.forget), ("Keys", self.keys),
        )):  # fmt: skip
            label = Label(text)
            label.setBuddy(field)
            grid.addWidget(label, row, 0)
            grid.addWidget(field, row, 1)
        note = Label(memory())
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
        field = number_field(name, unit, 1.0, low, high, digits=3, about=hint)
        field.show_value(self._session.settings.get(setting))
        field.refused.connect(self.said.setText)
        field.taken.connect(lambda value: self._session.settings.put(setting, round(value)))
        return field

    def _choice(
        self,
        name: str,
        options: list[tuple[str, object]],
        chosen: object,
        take: Callable[[Any], object],
        hint: str,
    ) -> QComboBox:
        box = choice(name, options, hint, width=150)
        choose(box, chosen)
        box.activated.connect(lambda _row: take(box.currentData()))
        return box

    def _kept_choice(
        self, name: str, options: list[tuple[str, object]], setting: settings.Setting[str], hint: str
    ) -> QComboBox:
        kept = self._session.settings
        return self._choice(name, options, kept.get(setting), lambda data: kept.put(setting, data), hint)

    def _take_scheduler(self) -> None:
        """Keep the address, if it is one."""
        text = self.scheduler.text().strip()
        if text and not _ADDRESS.fullmatch(text):
            self.said.setText(f"“{text}” is not an address. Write it like tcp://10.0.0.5:8786.")
            return
        self.said.setText("")
        self._session.settings.put(settings.SCHEDULER, text)

    def _choose_folder(self) -> None:
        kept = self._session.settings
        name = QFileDialog.getExistingDirectory(self, "Movie folder", kept.get(settings.MOVIE_FOLDER))
        if name:
            kept.put(settings.MOVIE_FOLDER, name)
            self.folder.setText(name)

    def _forget_folders(self) -> None:
        self._session.settings.put(settings.ALLOWED, [])
        self._show_folders()

    def _show_folders(self) -> None:
        folders = self._session.settings.get(settings.ALLOWED)
        self.forget.setText(f"Clear {len(folders)}" if folders else "None")
        self.forget.setEnabled(bool(folders))
        self.forget.setToolTip(plain("\n".join(folders) or "Kobrel asks before reading from other folders"))
