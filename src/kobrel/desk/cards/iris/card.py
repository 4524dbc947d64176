"""Iris: the shape of blur."""

from typing import Any

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.cards.iris.costs import CostsPage
from kobrel.desk.cards.iris.flaws import FlawsPage
from kobrel.desk.cards.iris.highlights import HighlightsPage
from kobrel.desk.cards.iris.mask import MaskPage
from kobrel.desk.cards.iris.shape import IrisShapePage
from kobrel.desk.cards.paged import PagedCard
from kobrel.session.session import Session


class IrisCard(PagedCard):
    """While it is seen, discs of blur stand in the chart's room, or the mask."""

    name = "Iris"
    depends = ()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.shape, self.masks, self.flaws = IrisShapePage(session), MaskPage(session), FlawsPage(session)
        self.costs, self.highlights = CostsPage(session), HighlightsPage(session)
        pages: list[Card[Any]] = [self.shape, self.masks, self.flaws, self.costs, self.highlights]
        super().__init__(session, pages, parent)
