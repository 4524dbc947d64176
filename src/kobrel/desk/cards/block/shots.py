"""The shots of the plan: names, frames and rate, in which order, and how one cuts to the next.

While it is seen, the strip across shots stands in the chart's room.
"""

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLineEdit, QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import show_words, word_table
from kobrel.desk.toolkit.fields import number_field
from kobrel.desk.toolkit.words import plain
from kobrel.errors import KobrelError
from kobrel.plan.measure.summary import lens_words
from kobrel.plan.model import Shot
from kobrel.plan.sequence import shots
from kobrel.session.commands import shot_list
from kobrel.session.document import Document
from kobrel.session.session import Session


class ShotsPage(Card[Shot]):
    """Name, frames and order of the shot, and what it takes over from its neighbours."""

    name = "Shots"
    purpose = "Names, frames and order of the shots"
    is_page = True
    below = "strip"
    depends = (Document.plan, Document.shot_index)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.title = self._text("Name of the shot", "A short name, often a number", 90)
        self.title.editingFinished.connect(self._rename)
        self.words = self._text("Title of the shot", "What happens in it", 150)
        self.words.editingFinished.connect(self._entitle)
        self.row("Name", self.title)
        self.row("Title", self.words)
        self.first = number_field(
            "First frame", "frame", 1.0, -1e6, 1e6, digits=8, about="First frame of the shot"
        )
        self.last = number_field(
            "Last frame", "frame", 1.0, -1e6, 1e6, digits=8, about="Last frame of the shot"
        )
        self.bind(self.first, lambda shot: shot.first, self._reframe)
        self.bind(self.last, lambda shot: shot.last, self._reframe)
        for field in (self.first, self.last):
            field.setFixedWidth(80)
        self.row("First · last", self.first, self.last)
        self.fps = number_field(
            "Frame rate (fps)", "fps", 1.0, 1.0, 1000.0, digits=6, about="Frames per second of the shot"
        )
        self.bind(
            self.fps, lambda shot: shot.fps, lambda fps: self._change("Rate", lambda s: s.replace(fps=fps))
        )
        self.row("Frame rate (fps)", self.fps)
        self.handles = number_field(
            "Handles", "fr", 1.0, 0.0, 10_000.0, digits=6, about="Extra frames before and after the cut"
        )
        self.bind(
            self.handles, lambda shot: shot.handles,
            lambda n: self._change("Handles", lambda s: s.replace(handles=round(n))),
        )  # fmt: skip
        self.row("Handles", self.handles)
        self.buttons(
            ("Duplicate", "Duplicate after this shot", lambda: shot_list.duplicate(session)),
            ("Up", "Move the shot up (Alt+Up)", lambda: shot_list.move(session, session.shot_index - 1)),
            (
                "Down",
                "Move the shot down (Alt+Down)",
                lambda: shot_list.move(session, session.shot_index + 1),
            ),
            ("Delete", "Delete this shot", lambda: shot_list.remove(session)),
        )
        self.line()
        self.match_before, self.match_after = self.buttons(
            (
                "Match previous shot",
                "Match background blur to the previous shot",
                lambda: shot_list.match(session, -1),
            ),
            (
                "Match next shot",
                "Match background blur to the next shot",
                lambda: shot_list.match(session, 1),
            ),
        )
        self.line()
        self.table = word_table("Shots to give this lens to", ("Shot", "Lens"), 24, wide=(0,))
        self.table.setToolTip("Tick shots to copy this shot's lens to. Double-click opens a shot.")
        self.table.itemDoubleClicked.connect(lambda item: session.show_shot(item.row()))
        self.column.addWidget(self.table, 1)
        self.buttons(
            (
                "Copy lens to ticked",
                "Lens, stop, iris and exposure to the ticked shots",
                self.give_lens,
            )
        )

    def _text(self, name: str, hint: str, width: int) -> QLineEdit:
        field = QLineEdit()
        field.setAccessibleName(name)
        field.setToolTip(plain(f"{hint}; Enter applies it"))
        field.setFixedWidth(width)
        return field

    def name_it(self) -> None:
        """Put the keyboard into the name."""
        self.title.setFocus()
        self.title.selectAll()

    def _rename(self) -> None:
        if self.title.isModified():
            self.title.setModified(False)
            shot_list.rename(self.session, self.title.text())
            self.refresh()

    def _entitle(self) -> None:
        if self.words.isModified():
            self.words.setModified(False)
            text = self.words.text().strip()
            self._change("Title", lambda shot: shot.replace(title=text))

    def _change(self, name: str, change: Callable[[Shot], Shot]) -> None:
        try:
            self.session.edit_shot(name, change)
        except KobrelError as error:
            self.session.say(str(error))

    def _reframe(self, _value: float) -> None:
        first, last = round(self.first.value), round(self.last.value)
        self._change("Frames of the shot", lambda shot: shots.with_frames(shot, first, last))

    def ticked(self) -> list[int]:
        """The shots that are ticked."""
        items = [self.table.item(row, 0) for row in range(self.table.rowCount())]
        return [k for k, item in enumerate(items) if item and item.checkState() == Qt.CheckState.Checked]

    def give_lens(self) -> None:
        """Give this shot's lens to the ticked ones."""
        shot_list.give_lens(self.session, [k for k in self.ticked() if k != self.session.shot_index])

    def subject(self) -> Shot | None:
        """See :class:`Card`."""
        return self.session.shot

    def show_more(self, subject: Shot) -> None:
        shots_of_plan, index = self.session.plan.shots, self.session.shot_index
        for field, text in ((self.title, subject.name), (self.words, subject.title)):
            if not field.isModified():
                field.setText(text)
        self.match_before.setEnabled(index > 0)
        self.match_after.setEnabled(index + 1 < len(shots_of_plan))
        ticked = self.ticked()
        self.table.setRowCount(len(shots_of_plan))
        for row, each in enumerate(shots_of_plan):
            item, _lens = show_words(self.table, row, (each.label, lens_words(each.glass)))
            own = row == index
            item.setFlags(
                Qt.ItemFlag.ItemIsEnabled
                | (Qt.ItemFlag.NoItemFlags if own else Qt.ItemFlag.ItemIsUserCheckable)
            )
            if not own:
                item.setCheckState(Qt.CheckState.Checked if row in ticked else Qt.CheckState.Unchecked)
