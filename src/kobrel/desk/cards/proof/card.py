"""Proof: frames played with their true blur, alone or two ways side by side."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.screening import Screening
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.proof.play import PlayPage
from kobrel.session.session import Session


class ProofCard(PagedCard):
    """See the module."""

    name = "Proof"
    depends = ()
    play = Page(PlayPage, lambda card: (card.screening,))

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        self.screening = screening
        super().__init__(session, parent)
