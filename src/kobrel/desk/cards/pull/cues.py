"""Cues: named frames and ranges, shown in the chart and snapped to."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import show_words, word_table
from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import number_field
from kobrel.errors import KobrelError
from kobrel.plan.model import Cue, Shot
from kobrel.plan.sequence import cues
from kobrel.session.document import Document
from kobrel.session.session import Session

_FILES = "Cues (*.csv *.otio *.otioz)"


class CuesPage(Card[Shot]):
    """Cues: named frames and ranges, shown in the chart and snapped to."""

    name = "Cues"
    purpose = "Named frames that marks snap to"
    is_page = True
    depends = (Document.plan, Document.shot_index)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.table = word_table("Cues of the shot", ("Cue", "From", "To"), 24, wide=(0,))
        self.table.itemSelectionChanged.connect(self._select)
        self.column.addWidget(self.table, 1)
        self.chosen: Cue | None = None
        self.title = QLineEdit()
        self.title.setFixedWidth(190)
        self.title.setAccessibleName("Name of the cue")
        self.title.setToolTip("What is done or said there; Enter applies it")
        self.title.editingFinished.connect(self._rename)
        self.row("Name", self.title)
        self.first = number_field(
            "First frame of the cue", "frame", 1.0, -1e6, 1e6, digits=8, about="Frame at which the cue starts"
        )
        self.first.taken.connect(lambda frame: self._reach(round(frame), None))
        self.last = number_field(
            "Last frame of the cue", "frame", 1.0, -1e6, 1e6, digits=8, about="Frame at which the cue ends"
        )
        self.last.taken.connect(lambda frame: self._reach(None, round(frame)))
        for field in (self.first, self.last):
            field.setFixedWidth(80)
        self.row("From, to", self.first, self.last)
        self.buttons(
            ("Add cue here", "A cue at the frame that is shown", self.add),
            ("End here", "End the selected cue at this frame", self.end_here),
            ("Delete", "Delete selected cue", self.remove),
        )
        self.buttons(
            (
                "Import…",
                "Add cues from CSV (name,first,last) or OpenTimelineIO",
                self.ask_import,
            ),
            ("Export…", "The shot's cues as CSV; the list of shots has them as markers", self.ask_export),
        )
        self.note("Dragged marks snap to cues; hold alt to override.")

    def _select(self) -> None:
        rows, shot = self.table.selectionModel().selectedRows(), self.session.shot
        if rows and shot and rows[0].row() < len(shot.cues):
            self.chosen = shot.cues[rows[0].row()]
            self.session.show_frame(self.chosen.first)
            self.refresh()

    def _exchange(self, name: str, new: Cue) -> None:
        old = self.chosen
        if old is not None and new != old:
            self.chosen = new
            self.session.edit_shot(name, lambda shot: cues.change_cue(shot, old, new))

    def _rename(self) -> None:
        text = self.title.text().strip()
        self.title.setModified(False)  # it is taken, and shows whatever is chosen next
        if self.chosen is not None and text and text != self.chosen.name:
            self._exchange(f"Cue {text}", self.chosen.replace(name=text))

    def _reach(self, first: int | None, last: int | None) -> None:
        """Let the chosen cue begin or end elsewhere; the other end gives way."""
        cue = self.chosen
        if cue is None:
            return
        begin = cue.first if first is None else first
        end = cue.end if last is None else last
        if end < begin:
            begin, end = (begin, begin) if first is not None else (end, end)
        self._exchange("Frames of a cue", cue.replace(first=begin, last=end if end > begin else None))

    def add(self) -> None:
        """A cue at the frame that is shown."""
        shot = self.session.shot
        if shot is not None:
            fresh, self.chosen = cues.add_cue(shot, self.session.frame)
            self.session.edit_shot(f"Cue at {self.session.frame}", lambda _shot: fresh)
            self.title.setFocus()
            self.title.selectAll()

    def end_here(self) -> None:
        """Let the chosen cue last until the frame that is shown."""
        if self.chosen is None:
            self.session.say("Select a cue in the list.")
        else:
            self._reach(None, self.session.frame)

    def remove(self) -> None:
        """Forget the chosen cue."""
        cue = self.chosen
        if cue is not None:
            self.chosen = None
            self.session.edit_shot(f"Delete cue {cue.name}", lambda shot: cues.remove_cue(shot, cue))

    def ask_import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Read cues", str(Path.home()), _FILES)
        if name:
            self.read(Path(name))

    def read(self, path: Path) -> None:
        """Take the cues of a file besides those that are there."""
        from kobrel.exchange.cues import read_cues

        shot = self.session.shot
        if shot is None:
            return
        try:
            found = read_cues(path, shot)
        except KobrelError as error:
            self.session.say(str(error))
            return
        fresh = [cue for cue in found if cue not in shot.cues]
        self.session.edit_shot(f"Cues of {path.name}", lambda s: cues.with_cues(s, [*s.cues, *fresh]))
        self.session.say(f"{len(fresh)} cues of {path.name}.")

    def ask_export(self) -> None:
        path = ask_target(self, "Write cues", Path.home() / "cues.csv", "Cues (*.csv)", [".csv"])
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the shot's cues as CSV."""
        from kobrel.exchange.cues import write_cues

        shot = self.session.shot
        try:
            write_cues(shot.cues if shot else (), path)
        except KobrelError as error:
            self.session.say(str(error))
            return
        self.session.say(f"Written {path}")

    def subject(self) -> Shot | None:
        """See :class:`Card`."""
        return self.session.shot

    def show_more(self, subject: Shot) -> None:
        if self.chosen not in subject.cues:
            self.chosen = None
        self.table.blockSignals(True)
        self.table.setRowCount(len(subject.cues))
        self.table.clearSelection()
        for row, cue in enumerate(subject.cues):
            last = "" if cue.last is None else str(cue.last)
            show_words(self.table, row, (cue.name, str(cue.first), last))
            if cue == self.chosen:
                self.table.selectRow(row)
        self.table.blockSignals(False)
        for field in (self.title, self.first, self.last):
            field.setEnabled(self.chosen is not None)
        if not self.title.isModified():
            self.title.setText(self.chosen.name if self.chosen else "")
        if self.chosen is not None:
            self.first.show_value(self.chosen.first)
            self.last.show_value(self.chosen.end)
