"""Iris: the shape of blur."""

from kobrel.desk.cards.iris.costs import CostsPage
from kobrel.desk.cards.iris.flaws import FlawsPage
from kobrel.desk.cards.iris.highlights import HighlightsPage
from kobrel.desk.cards.iris.mask import MaskPage
from kobrel.desk.cards.iris.shape import IrisShapePage
from kobrel.desk.cards.paged import Page, PagedCard


class IrisCard(PagedCard):
    """While it is seen, discs of blur stand in the chart's room, or the mask."""

    name = "Iris"
    depends = ()
    shape, masks, flaws = Page(IrisShapePage), Page(MaskPage), Page(FlawsPage)
    costs, highlights = Page(CostsPage), Page(HighlightsPage)
