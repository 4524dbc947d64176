"""Glass: sensor, lens, stop and exposure by what they do, and backwards from what they shall do."""

from kobrel.desk.cards.glass.brief import BriefPage
from kobrel.desk.cards.glass.exposure import ExposurePage
from kobrel.desk.cards.glass.lens import LensPage
from kobrel.desk.cards.glass.limits import LimitsPage
from kobrel.desk.cards.glass.weigh import WeighPage
from kobrel.desk.cards.paged import Page, PagedCard


class GlassCard(PagedCard):
    """See the module."""

    name = "Glass"
    depends = ()
    lens, light, read = Page(LensPage), Page(ExposurePage), Page(LimitsPage)
    brief, weigh = Page(BriefPage), Page(WeighPage)
