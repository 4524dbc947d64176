"""Proof: pictures kept and compared, ladders of a setting, and frames played with their true blur."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.screening import Screening
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.proof.frames import FramesPage
from kobrel.desk.cards.proof.ladder import LadderPage
from kobrel.desk.cards.proof.play import PlayPage
from kobrel.desk.cards.proof.wall import WallPage
from kobrel.session.session import Session


class ProofCard(PagedCard):
    """See the module."""

    name = "Proof"
    depends = ()
    wall = Page(WallPage, lambda card: (card.proofing,))
    ladder = Page(LadderPage, lambda card: (card.proofing,))
    frames = Page(FramesPage, lambda card: (card.proofing,))
    play = Page(PlayPage, lambda card: (card.screening,))

    def __init__(
        self, session: Session, screening: Screening, proofing: Proofing, parent: QWidget | None = None
    ) -> None:
        self.screening, self.proofing = screening, proofing
        super().__init__(session, parent)
