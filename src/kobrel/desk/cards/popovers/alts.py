"""Alts: alternatives of the shot's settings, saved with it, to compare and to return to."""

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QWidget

from kobrel.desk.background.playback import Playback
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.popovers.popover import PopOverButton
from kobrel.desk.cards.widgets import show_words, word_table
from kobrel.errors import KobrelError
from kobrel.plan.measure.summary import lens_words
from kobrel.plan.model import Alt, DistanceTarget, Shot
from kobrel.plan.variants import alts
from kobrel.session.document import Document
from kobrel.session.session import Session


class Alts(Card[Shot]):
    """The alts of the shot: save, apply, rename, compare, delete."""

    name = "Alts"
    is_page = True
    depends = (Document.plan, Document.shot_index)

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.playback = playback
        self.table = word_table("Alts of the shot", ("Alt", "Settings"), 26, wide=(1,))
        self.table.setToolTip("Double-click an alt to apply it; V toggles between the last two pictures")
        self.table.itemDoubleClicked.connect(lambda _item: self.take())
        self.table.itemSelectionChanged.connect(self._show_name)
        self.column.addWidget(self.table, 1)
        self.title = QLineEdit()
        self.title.setFixedWidth(160)
        self.title.setAccessibleName("Name of the alt")
        self.title.setToolTip("Name of the new alt; Enter saves it")
        self.title.returnPressed.connect(self.keep)
        self.row("Name", self.title)
        self.buttons(
            (
                "Save alt",
                "Save lens, iris, exposure and marks under the name",
                self.keep,
            ),
            ("Rename", "Give the selected alt the name above", self.rename),
        )
        self.buttons(
            ("Apply", "Apply the selected alt to the shot (double-click)", self.take),
            ("Compare", "Show the shot and the selected alt side by side", self.compare),
            ("Delete", "Delete the selected alt", self.remove),
        )
        self.note("An alt stores lens, stop, iris, exposure and marks; not camera, subjects or brief.")

    def _chosen(self) -> Alt | None:
        rows, shot = self.table.selectionModel().selectedRows(), self.session.shot
        return shot.alts[rows[0].row()] if rows and shot and rows[0].row() < len(shot.alts) else None

    def _show_name(self) -> None:
        alt = self._chosen()
        if alt is not None:
            self.title.setText(alt.name)

    def _try(self, name: str, change: Callable[[Shot], Shot]) -> None:
        try:
            self.session.edit_shot(name, change)
        except KobrelError as error:
            self.session.say(str(error))

    def keep(self) -> None:
        """Keep the shot's settings under the name that is written."""
        shot, name = self.session.shot, self.title.text()
        if shot is None:
            return
        name = name if name.strip() else alts.unused_name(shot)
        self._try(f"Save alt {name.strip()}", lambda s: alts.kept(s, name))
        self.title.setText("")
        self.session.say(f"Alt {name.strip()} saved.")

    def take(self) -> None:
        """Take the chosen Alt."""
        alt = self._chosen()
        if alt is None:
            self.session.say("Select an alt in the list.")
            return
        self._try(f"Apply alt {alt.name}", lambda s: alts.taken(s, alt.name))

    def rename(self) -> None:
        """Give the selected alt the name that is written."""
        alt, name = self._chosen(), self.title.text()
        if alt is None:
            self.session.say("Select an alt in the list.")
            return
        self._try(f"Rename alt {alt.name}", lambda s: alts.renamed(s, alt.name, name))

    def compare(self) -> None:
        """See the chosen Alt beside the shot; the one that is seen so already goes."""
        alt = self._chosen()
        if alt is None:
            self.session.say("Select an alt in the list.")
            return
        self.playback.compare("" if self.playback.beside == alt.name else alt.name)

    def remove(self) -> None:
        """Forget the chosen Alt."""
        alt = self._chosen()
        if alt is not None:
            self._try(f"Delete alt {alt.name}", lambda s: alts.removed(s, alt.name))

    def subject(self) -> Shot | None:
        """See :class:`Card`."""
        return self.session.shot

    def show_more(self, subject: Shot) -> None:
        chosen = self._chosen()
        self.table.blockSignals(True)
        self.table.setRowCount(len(subject.alts))
        for row, alt in enumerate(subject.alts):
            now = "● " if alts.is_now(subject, alt) else ""
            show_words(self.table, row, (f"{now}{alt.name}", self._summary(alt)))
            if chosen is not None and alt.name == chosen.name:
                self.table.selectRow(row)
        self.table.blockSignals(False)
        self.title.setPlaceholderText(alts.unused_name(subject))

    def _summary(self, alt: Alt) -> str:
        """Lens and stop, and what it is focused on, or how many marks it has."""
        first = alt.marks[0].target
        name = self.session.plan.name_of(first)
        if name is None and isinstance(first, DistanceTarget):
            name = self.session.length(first.metres)
        on = f"on {name}" if len(alt.marks) == 1 and name else f"{len(alt.marks)} marks"
        return f"{lens_words(alt.glass)}  {on}"


class AltsButton(PopOverButton):
    """The drop-down of alts beside the shot; says which alt the shot is now."""

    def __init__(self, session: Session, playback: Playback) -> None:
        super().__init__(
            "Alts ▾",
            "Alternatives of the shot's settings: save, apply, compare",
            lambda: Alts(session, playback),
        )
        self._session = session
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        session.watch((Document.plan, Document.shot_index), self._show_alt)
        self._show_alt()

    def _show_alt(self) -> None:
        shot = self._session.shot
        self.setVisible(shot is not None)
        if shot is not None:
            now = next((alt.name for alt in shot.alts if alts.is_now(shot, alt)), None)
            self.setText(f"Alt: {now} ▾" if now else f"Alts ({len(shot.alts)}) ▾" if shot.alts else "Alts ▾")
