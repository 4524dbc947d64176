"""Iris: the shape of blur."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import PagedCard
from kobrel.desk.cards.flaws import FlawsPage
from kobrel.desk.cards.iris_shape import IrisShapePage
from kobrel.desk.session import Session


class IrisCard(PagedCard):
    """While it is seen, discs of blur stand in the chart's room."""

    name = "Iris"
    below = "discs"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.shape, self.flaws = IrisShapePage(session), FlawsPage(session)
        super().__init__(session, [self.shape, self.flaws], parent)
