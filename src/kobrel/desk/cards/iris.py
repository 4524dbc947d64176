"""Iris: the shape of blur."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import PagedCard
from kobrel.desk.cards.costs import CostsPage
from kobrel.desk.cards.flaws import FlawsPage
from kobrel.desk.cards.highlights import HighlightsPage
from kobrel.desk.cards.iris_shape import IrisShapePage
from kobrel.desk.cards.mask import MaskPage
from kobrel.desk.session import Session


class IrisCard(PagedCard):
    """While it is seen, discs of blur stand in the chart's room, or the mask."""

    name = "Iris"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.shape, self.masks, self.flaws = IrisShapePage(session), MaskPage(session), FlawsPage(session)
        self.costs, self.highlights = CostsPage(session), HighlightsPage(session)
        super().__init__(session, [self.shape, self.masks, self.flaws, self.costs, self.highlights], parent)
