"""The tapes of the Tape card."""

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QModelIndex
from PySide6.QtWidgets import QHeaderView, QTableView, QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.cards.tables import NamedRows
from kobrel.desk.cards.widgets import plain_table
from kobrel.desk.toolkit.fields import Field
from kobrel.plan.measure.tapes import Miss, miss
from kobrel.plan.model import CameraEnd, SubjectEnd, Tape
from kobrel.plan.space.anchors import on_surface
from kobrel.session.commands import taping
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, ShotNumbers
from kobrel.session.selection import ChosenTape, Selection
from kobrel.session.session import Session


class TapesModel(NamedRows):
    """The session's tapes and their lengths at the frame."""

    headings = ("Name", "Straight-line")

    def things(self) -> tuple[Tape, ...]:
        return self.session.plan.tapes

    def texts(self, row: int) -> tuple[str, ...]:
        numbers = taping.numbers_of(self.session, self.things()[row])
        return (self.session.length(float(numbers.straight_m[0])) if numbers else "–",)

    def rename(self, row: int, name: str) -> None:
        taping.rename(self.session, self.things()[row], name)


class TapesPage(Card[Tape]):
    """The tapes of the Tape card."""

    name = "Tapes"
    purpose = "Distances between two points, at every frame"
    is_page = True
    depends = (*AT_FRAME, Document.dragging, Selection.item, ShotNumbers.sight)
    needs_subject = False

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.straight = self.reading("Straight-line", 25, "focus")
        self.axial = self.reading("On axis")
        self.across = self.reading("Across axis")
        self.line()
        self._model = TapesModel(session)
        self.table = QTableView()
        self.table.setModel(self._model)
        plain_table(self.table, "Tapes", 26)
        self.table.horizontalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.table.setMinimumHeight(110)
        self.table.selectionModel().currentRowChanged.connect(self._select)
        self.column.addWidget(self.table, 1)
        self.empty = self.note("No tapes yet. T starts one; its ends snap to vertices, edges and subjects.")
        self.new, self.focus, self.delete = self.buttons(
            ("New", "Start a tape (T)", lambda: taping.begin(session)),
            ("Focus", "Put the focus on its end (F)", lambda: taping.focus_on_end(session)),
            ("Delete", "Delete the selected tape", lambda: taping.remove(session)),
        )
        self.off = self.note()
        self.off.setObjectName("")
        self.off.setProperty("role", "wrong")
        self.snap = self.buttons(
            ("Snap to surface", "Move the end onto the nearest surface", self._put_there)
        )[0]
        self.start_on = self.note()
        self.start = self._end_places("Start", "start")
        self.end_on = self.note()
        self.end = self._end_places("End", "end")

    def subject(self) -> Tape | None:
        """See :class:`Card`."""
        return taping.chosen(self.session)

    def _end_places(self, word: str, which: str) -> list[Field]:
        fields = self.places(
            word, f"{word} of the tape", lambda tape: self._point(tape, which),
            lambda place: taping.nudge_end(self.session, which, place),
        )  # fmt: skip
        for field in fields:
            self.enable_if(
                field, lambda tape: not isinstance(taping.end_of(tape, which), CameraEnd | SubjectEnd)
            )
        self.show_if(fields[0], lambda tape: True)
        return fields

    def _point(self, tape: Tape, which: str) -> NDArray[np.float64] | None:
        numbers = taping.numbers_of(self.session, tape)
        return taping.points_of(numbers, which)[0] if numbers else None

    def _select(self, current: QModelIndex) -> None:
        if 0 <= current.row() < len(self.session.plan.tapes):
            self.session.selection.item = ChosenTape(self.session.plan.tapes[current.row()].name)

    def _missed(self, tape: Tape) -> tuple[str, Miss] | None:
        """The first of a tape's ends that touches nothing."""
        session, now = self.session, self.session.now
        numbers = taping.numbers_of(session, tape)
        if now is None or numbers is None or session.dragging or not now.stage.built:
            return None
        for which in ("start", "end"):
            point = taping.points_of(numbers, which)[0]
            found = miss(taping.end_of(tape, which), point, now.camera, now.stage, now.frame)
            if found is not None:
                return which, found
        return None

    def _put_there(self) -> None:
        tape = self.subject()
        missed = self._missed(tape) if tape else None
        if tape is not None and missed is not None:
            taping.set_end(self.session, tape, missed[0], on_surface(missed[1].pick))

    def show_nothing(self) -> None:
        self._show_list(False)
        for label in (self.straight, self.axial, self.across):
            label.setText("–")
        for widget in (self.start[0], self.end[0]):
            self.show_row(widget, False)
        for gone in (self.off, self.snap, self.start_on, self.end_on):
            gone.hide()

    def _show_list(self, chosen: bool) -> None:
        self._model.layoutChanged.emit()
        self.empty.setVisible(not self.session.plan.tapes)
        for button in (self.focus, self.delete):
            button.setEnabled(chosen)

    def show_more(self, subject: Tape) -> None:
        session = self.session
        self._show_list(True)
        row = session.plan.tapes.index(subject)
        if self.table.currentIndex().row() != row:
            self.table.selectionModel().blockSignals(True)
            self.table.selectRow(row)
            self.table.selectionModel().blockSignals(False)
        numbers = taping.numbers_of(session, subject)
        for label, metres in (
            (self.straight, numbers.straight_m[0] if numbers else None),
            (self.axial, numbers.axial_m[0] if numbers else None),
            (self.across, numbers.across_m[0] if numbers else None),
        ):
            label.setText("–" if metres is None else session.length(float(metres)))
        for label, word, end in (
            (self.start_on, "Start:", subject.start),
            (self.end_on, "Ends at", subject.end),
        ):
            label.setText(f"{word} {taping.end_name(session, end)}")
            label.show()
        missed = self._missed(subject)
        self.off.setVisible(missed is not None)
        self.snap.setVisible(missed is not None)
        if missed is not None:
            which, found = missed
            self.off.setText(
                f"The {'start' if which == 'start' else 'end'} of the tape is not on a surface (misses "
                f"by {session.length(found.gap_m)})."
            )
