"""Glass: sensor, lens, stop and exposure by what they do, and backwards from what they shall do."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import PagedCard
from kobrel.desk.cards.brief import BriefPage
from kobrel.desk.cards.exposure import ExposurePage
from kobrel.desk.cards.lens import LensPage
from kobrel.desk.cards.limits import LimitsPage
from kobrel.desk.cards.weigh import WeighPage
from kobrel.desk.session import Session


class GlassCard(PagedCard):
    """See the module."""

    name = "Glass"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.lens, self.light, self.read = LensPage(session), ExposurePage(session), LimitsPage(session)
        self.brief, self.weigh = BriefPage(session), WeighPage(session)
        super().__init__(session, [self.lens, self.light, self.read, self.brief, self.weigh], parent)
