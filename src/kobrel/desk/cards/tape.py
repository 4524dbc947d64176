"""Tape: subjects and their distances, tapes, and readings; in the unit of one's choice."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import PagedCard, choice, choose
from kobrel.desk.cards.readings import ReadingsPage
from kobrel.desk.cards.subjects import SubjectsPage
from kobrel.desk.cards.tapes import TapesPage
from kobrel.desk.session import Session
from kobrel.optics.units import UNIT_NAMES


class TapeCard(PagedCard):
    """See the module."""

    name = "Tape"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.subjects, self.tapes, self.readings = (
            SubjectsPage(session),
            TapesPage(session),
            ReadingsPage(session),
        )
        super().__init__(session, [self.subjects, self.tapes, self.readings], parent)
        units: list[tuple[str, object]] = [(name, unit) for unit, name in UNIT_NAMES.items()]
        self.unit = choice(
            "Unit of length", [*units, ("The scene's own", "scene")], "Unit for all lengths", 150
        )
        self.unit.activated.connect(
            lambda _i: session.edit(
                f"Lengths in {self.unit.currentText().lower()}",
                session.plan.but(unit=self.unit.currentData()),
            )
        )
        self.row("Lengths in", self.unit)

    def refresh(self) -> None:
        choose(self.unit, self.session.plan.unit)
