"""The tapes of the Tape card."""

from PySide6.QtCore import QModelIndex
from PySide6.QtWidgets import QHeaderView, QLabel, QTableView, QWidget

from kobrel.desk import taping
from kobrel.desk.cards.base import Card, plain_table
from kobrel.desk.cards.tables import NamedRows
from kobrel.desk.fields import Field
from kobrel.desk.session import Session
from kobrel.plan import edit
from kobrel.plan.model import CameraEnd, SubjectEnd, Tape
from kobrel.plan.tapes import Miss, miss


class TapesModel(NamedRows):
    """The session's tapes and their lengths at the frame."""

    headings = ("Name", "Straight")

    def things(self) -> tuple[Tape, ...]:
        return self.session.plan.tapes

    def texts(self, row: int) -> tuple[str, ...]:
        numbers = taping.numbers_of(self.session, self.things()[row])
        return (self.session.length(float(numbers.straight_m[0])) if numbers else "–",)

    def rename(self, row: int, name: str) -> None:
        session, tape = self.session, self.things()[row]
        name = edit.unused(name, [other.name for other in session.plan.tapes])
        session.selected_tape = name
        session.edit(f"Rename {tape.name}", edit.with_tape(session.plan, tape.name, name=name))


class TapesPage(Card):
    """See the module."""

    name = "Tapes"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.straight = self.reading("Straight", 25, "focus")
        self.axial = self.reading("Along the axis")
        self.across = self.reading("Across it")
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
            ("Delete", "Delete the chosen tape", lambda: taping.remove(session)),
        )
        self.off = self.note()
        self.off.setObjectName("")
        self.off.setProperty("role", "wrong")
        self.snap = self.buttons(("Put it there", "Move the end onto what it missed", self._put_there))[0]
        self.start_on = self.note()
        self.start = self.places("Begin", "Begin of the tape", lambda a, m: self._nudge("start", a, m))
        self.end_on = self.note()
        self.end = self.places("End", "End of the tape", lambda a, m: self._nudge("end", a, m))

    def _select(self, current: QModelIndex) -> None:
        if 0 <= current.row() < len(self.session.plan.tapes):
            self.session.select(tape=self.session.plan.tapes[current.row()].name)

    def _nudge(self, which: str, axis: int, metres: float) -> None:
        tape = taping.chosen(self.session)
        numbers = taping.numbers_of(self.session, tape) if tape else None
        if tape is None or numbers is None:
            return
        point = (numbers.start if which == "start" else numbers.end)[0].copy()
        point[axis] = metres
        end = tape.start if which == "start" else tape.end
        taping.set_end(self.session, tape, which, taping.moved_end(self.session, end, point))

    def _missed(self, tape: Tape) -> tuple[str, Miss] | None:
        """The first of a tape's ends that touches nothing."""
        session, camera = self.session, self.session.camera
        numbers = taping.numbers_of(session, tape)
        if camera is None or numbers is None or session.dragging or not session.stage.built:
            return None
        for which, end, points in (("start", tape.start, numbers.start), ("end", tape.end, numbers.end)):
            found = miss(end, points[0], camera, session.stage, session.frame)
            if found is not None:
                return which, found
        return None

    def _put_there(self) -> None:
        tape = taping.chosen(self.session)
        missed = self._missed(tape) if tape else None
        if tape is not None and missed is not None:
            taping.set_end(self.session, tape, missed[0], taping.surface_end(missed[1].pick))

    def refresh(self) -> None:
        session = self.session
        self._model.layoutChanged.emit()
        tape = taping.chosen(session)
        self.empty.setVisible(not session.plan.tapes)
        for button in (self.focus, self.delete):
            button.setEnabled(tape is not None)
        numbers = taping.numbers_of(session, tape) if tape else None
        for widget in (self.start[0], self.end[0]):
            self.show_row(widget, tape is not None)
        for label in (self.start_on, self.end_on):
            label.setVisible(tape is not None)
        self.off.hide()
        self.snap.hide()
        if tape is None or numbers is None:
            for label in (self.straight, self.axial, self.across):
                label.setText("–")
            return
        row = session.plan.tapes.index(tape)
        if self.table.currentIndex().row() != row:
            self.table.selectionModel().blockSignals(True)
            self.table.selectRow(row)
            self.table.selectionModel().blockSignals(False)
        self.straight.setText(session.length(float(numbers.straight_m[0])))
        self.axial.setText(session.length(float(numbers.axial_m[0])))
        self.across.setText(session.length(float(numbers.across_m[0])))
        self._show_ends(tape, self.start, self.start_on, "start")
        self._show_ends(tape, self.end, self.end_on, "end")
        missed = self._missed(tape)
        if missed is not None:
            which, found = missed
            self.off.setText(
                f"Its {'begin' if which == 'start' else 'end'} touches nothing: it is off the nearest "
                f"thing by {session.length(found.gap_m)}."
            )
            self.off.show()
            self.snap.show()

    def _show_ends(self, tape: Tape, fields: list[Field], label: QLabel, which: str) -> None:
        end = tape.start if which == "start" else tape.end
        numbers = taping.numbers_of(self.session, tape)
        assert numbers is not None
        points = numbers.start if which == "start" else numbers.end
        word = "Begins at" if which == "start" else "Ends at"
        label.setText(f"{word} {taping.end_name(self.session, end)}")
        for field, metres in zip(fields, points[0], strict=True):
            field.show_value(float(metres))
            field.setEnabled(not isinstance(end, CameraEnd | SubjectEnd))
