"""Iris: the shape of blur."""

from kobrel.desk.cards.iris.character import CharacterPage
from kobrel.desk.cards.iris.mask import MaskPage
from kobrel.desk.cards.iris.render_cost import RenderCostPage
from kobrel.desk.cards.iris.shape import IrisShapePage
from kobrel.desk.cards.paged import Page, PagedCard


class IrisCard(PagedCard):
    """While it is seen, discs of blur stand in the chart's room, or the mask."""

    name = "Iris"
    depends = ()
    shape, masks, character = Page(IrisShapePage), Page(MaskPage), Page(CharacterPage)
    render_cost = Page(RenderCostPage)
