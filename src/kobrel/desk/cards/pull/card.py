"""Pull: focus over time, and keys of stop and focal length."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.screening import Screening
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.pull.alts import AltsPage
from kobrel.desk.cards.pull.cues import CuesPage
from kobrel.desk.cards.pull.dials import DialsPage
from kobrel.desk.cards.pull.marks import MarksPage
from kobrel.desk.cards.pull.move import MovePage
from kobrel.desk.cards.pull.perform import PerformPage
from kobrel.session.session import Session


class PullCard(PagedCard):
    """Marks, how the focus moves between them, pulling by hand, cues, Alts, and dials."""

    name = "Pull"
    depends = ()
    marks, moves, perform, cues = Page(MarksPage), Page(MovePage), Page(PerformPage), Page(CuesPage)
    alts = Page(AltsPage, lambda card: (card.screening,))
    dials = Page(DialsPage)

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        self.screening = screening
        super().__init__(session, parent)
