"""Pull: focus over time, and keys of stop and focal length."""

from typing import Any

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.screening import Screening
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.paged import PagedCard
from kobrel.desk.cards.pull.alts import AltsPage
from kobrel.desk.cards.pull.cues import CuesPage
from kobrel.desk.cards.pull.marks import MarksPage
from kobrel.desk.cards.pull.move import MovePage
from kobrel.desk.cards.pull.perform import PerformPage
from kobrel.desk.cards.pull.play import PlayPage
from kobrel.desk.cards.pull.shots import ShotsPage
from kobrel.session.session import Session


class PullCard(PagedCard):
    """Marks, how the focus moves between them, pulling by hand, cues, Alts, playing, and the shots."""

    name = "Pull"
    depends = ()

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        self.marks, self.moves = MarksPage(session), MovePage(session)
        self.perform, self.cues = PerformPage(session), CuesPage(session)
        self.alts, self.play = AltsPage(session, screening), PlayPage(session, screening)
        self.shots = ShotsPage(session)
        pages: list[Card[Any]] = [
            self.marks, self.moves, self.perform, self.cues, self.alts, self.play, self.shots,
        ]  # fmt: skip
        super().__init__(session, pages, parent)
