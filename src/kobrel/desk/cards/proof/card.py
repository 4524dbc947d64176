"""Proof: pictures kept and compared, ladders of a setting, frames played with their true blur, the queue."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.background.screening import Screening
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.proof.frames import FramesPage
from kobrel.desk.cards.proof.ladder import LadderPage
from kobrel.desk.cards.proof.play import PlayPage
from kobrel.desk.cards.proof.queue import QueuePage
from kobrel.desk.cards.proof.wall import WallPage
from kobrel.session.session import Session


class ProofCard(PagedCard):
    """See the module."""

    name = "Proof"
    depends = ()
    wall = Page(WallPage, lambda card: (card.proofing,))
    ladder = Page(LadderPage, lambda card: (card.proofing, card.queueing))
    frames = Page(FramesPage, lambda card: (card.proofing, card.queueing))
    play = Page(PlayPage, lambda card: (card.screening,))
    queue = Page(QueuePage, lambda card: (card.queueing,))

    def __init__(
        self,
        session: Session,
        screening: Screening,
        proofing: Proofing,
        queueing: Queueing,
        parent: QWidget | None = None,
    ) -> None:
        self.screening, self.proofing, self.queueing = screening, proofing, queueing
        super().__init__(session, parent)
