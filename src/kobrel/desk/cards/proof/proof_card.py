"""Proof: proofs compared on the wall, brackets, rendered images defocused."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.proof.bracket import BracketPage
from kobrel.desk.cards.proof.defocus import DefocusPage
from kobrel.desk.cards.proof.wall import WallPage
from kobrel.session.session import Session


class ProofCard(PagedCard):
    """Proofs on the wall, brackets of a setting, and rendered images to defocus."""

    name = "Proof"
    depends = ()
    wall = Page(WallPage, lambda card: (card.proofing,))
    bracket = Page(BracketPage, lambda card: (card.proofing, card.queueing))
    defocus = Page(DefocusPage, lambda card: (card.proofing, card.queueing))

    def __init__(
        self,
        session: Session,
        proofing: Proofing,
        queueing: Queueing,
        parent: QWidget | None = None,
    ) -> None:
        self.proofing, self.queueing = proofing, queueing
        super().__init__(session, parent)
