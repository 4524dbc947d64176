"""Pull: focus over time, and keys of stop and focal length."""

from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.pull.cues import CuesPage
from kobrel.desk.cards.pull.dials import DialsPage
from kobrel.desk.cards.pull.live_pull import LivePullPage
from kobrel.desk.cards.pull.marks import MarksPage


class PullCard(PagedCard):
    """Marks with their timing, live pulls, cues, and dials."""

    name = "Pull"
    depends = ()
    marks, live_pull, cues, dials = Page(MarksPage), Page(LivePullPage), Page(CuesPage), Page(DialsPage)
