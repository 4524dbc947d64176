"""Tape: subjects and their distances, tapes, and readings; in the unit of one's choice."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.tape.laser import LaserPage
from kobrel.desk.cards.tape.subjects import SubjectsPage
from kobrel.desk.cards.tape.tapes import TapesPage
from kobrel.desk.cards.widgets import choice
from kobrel.optics.units import UNIT_NAMES
from kobrel.session.document import Document
from kobrel.session.session import Session


class TapeCard(PagedCard):
    """Tape: subjects and their distances, tapes, and readings; in the unit of one's choice."""

    name = "Tape"
    depends = (Document.plan,)
    subjects, tapes, readings = Page(SubjectsPage), Page(TapesPage), Page(LaserPage)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        units: list[tuple[str, object]] = [(name, unit) for unit, name in UNIT_NAMES.items()]
        self.unit = choice(
            "Unit of length", [*units, ("The scene's own", "scene")], "Unit for all lengths", 150
        )
        self.bind(self.unit, lambda session: session.plan.unit, self._set_unit)
        self.row("Lengths in", self.unit)

    def _set_unit(self, unit: str) -> None:
        plan = self.session.plan.replace(unit=unit)
        self.session.edit(f"Lengths in {self.unit.currentText().lower()}", plan)
