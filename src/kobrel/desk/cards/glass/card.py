"""Glass: sensor, lens, stop and exposure by what they do, and backwards from what they shall do."""

from typing import Any

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.cards.glass.brief import BriefPage
from kobrel.desk.cards.glass.exposure import ExposurePage
from kobrel.desk.cards.glass.lens import LensPage
from kobrel.desk.cards.glass.limits import LimitsPage
from kobrel.desk.cards.glass.weigh import WeighPage
from kobrel.desk.cards.paged import PagedCard
from kobrel.session.session import Session


class GlassCard(PagedCard):
    """See the module."""

    name = "Glass"
    depends = ()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        self.lens, self.light, self.read = LensPage(session), ExposurePage(session), LimitsPage(session)
        self.brief, self.weigh = BriefPage(session), WeighPage(session)
        pages: list[Card[Any]] = [self.lens, self.light, self.read, self.brief, self.weigh]
        super().__init__(session, pages, parent)
