"""Glass: sensor, lens, stop, exposure, depth of field, the brief, and trade-offs."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.glass.brief import BriefPage
from kobrel.desk.cards.glass.exposure import ExposurePage
from kobrel.desk.cards.glass.lens import LensPage
from kobrel.desk.cards.glass.limits import DepthOfFieldPage
from kobrel.desk.cards.glass.trade_offs import TradeOffsPage
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.session.session import Session


class GlassCard(PagedCard):
    """The lens, what it does, and the lens that does what the brief asks for."""

    name = "Glass"
    depends = ()
    lens, exposure = Page(LensPage), Page(ExposurePage)
    depth_of_field = Page(DepthOfFieldPage, lambda card: (card.exports,))
    brief, trade_offs = Page(BriefPage), Page(TradeOffsPage)

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        self.exports = exports
        super().__init__(session, parent)
