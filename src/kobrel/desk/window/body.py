"""What stands between the window's heading and its bottom line: shots, views, cards and tabs."""

from functools import cached_property
from typing import TYPE_CHECKING, TypeVar

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.background.screening import Screening
from kobrel.desk.barrel.view import Barrel
from kobrel.desk.cards.deck import NAMES, Deck
from kobrel.desk.chart.view import PullChart
from kobrel.desk.overhead.view import Overhead
from kobrel.desk.picture.pair import PairView
from kobrel.desk.picture.view import PictureView
from kobrel.desk.views.shots import ShotsColumn
from kobrel.desk.window.document import Document
from kobrel.desk.window.states import from_text, to_text
from kobrel.desk.window.tabs import TabEdge
from kobrel.desk.window.welcome import Welcome
from kobrel.session import settings
from kobrel.session.session import Session
from kobrel.session.tools import Below

if TYPE_CHECKING:
    from kobrel.desk.views.discs import Discs
    from kobrel.desk.views.maps import Maps
    from kobrel.desk.views.mask import MaskView
    from kobrel.desk.views.strip import Strip

_View = TypeVar("_View", bound=QWidget)

# How a card shares the room: picture : chart in height, picture : overhead in width.
_ROOM = {
    1: ((80, 20), (64, 36)), 2: ((80, 20), (64, 36)), 3: ((62, 38), (72, 28)), 4: ((62, 38), (78, 22)),
    5: ((54, 46), (74, 26)),
}  # fmt: skip
_VIEW_BELOW: dict[Below, str] = {
    "": "chart", "maps": "maps", "discs": "discs", "mask": "mask_view", "strip": "strip",
}  # fmt: skip
_PICTURE_FIRST = ((74, 26), (78, 22))
_TWO_VIEWS = (1, 2)


class Body(QWidget):
    """Lays the views out and shares the room between them, as each card needs it."""

    def __init__(self, session: Session, document: Document, files: SceneFiles, screening: Screening) -> None:
        super().__init__()
        self._session, self._screening = session, screening
        self._shared = str(session.card)
        self.bare = False
        self.picture, self.overhead = PictureView(session), Overhead(session)
        self.second = Overhead(session, "Side")
        self.barrel, self.chart, self.shots = Barrel(session), PullChart(session), ShotsColumn(session)
        self.welcome = Welcome(document)
        self._build_views()
        self.cards = Deck(session, files, screening)
        self.tabs = TabEdge(list(NAMES.items()))
        self._shots_area = QScrollArea()
        self._shots_area.setWidget(self.shots)
        self._shots_area.setWidgetResizable(True)
        self._shots_area.setFixedWidth(118)
        self._shots_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._shots_area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._middle = QStackedWidget()
        self._middle.addWidget(self._views)
        self._middle.addWidget(self.welcome)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(8)
        line.addWidget(self._shots_area)
        line.addWidget(self._middle, 1)
        line.addWidget(self.cards)
        line.addWidget(self.tabs)
        self.show_card()
        self._show_sides()

    def _build_views(self) -> None:
        self._upper = QSplitter(Qt.Orientation.Horizontal)
        self._beside = QSplitter(Qt.Orientation.Vertical)
        self._beside.addWidget(self.overhead)
        self._beside.addWidget(self.second)
        self._seen = QStackedWidget()
        self._seen.addWidget(self.picture)
        self.pair = PairView(self._session, self._screening)
        self._seen.addWidget(self.pair)
        self._screening.changed.connect(self._show_seen)
        self._upper.addWidget(self._seen)
        self._upper.addWidget(self._beside)
        above = QWidget()
        stack = QVBoxLayout(above)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.setSpacing(8)
        stack.addWidget(self._upper, 1)
        stack.addWidget(self.barrel)
        self._views = QSplitter(Qt.Orientation.Vertical)
        self._views.addWidget(above)
        self._lower = QStackedWidget()
        self._lower.addWidget(self.chart)
        self._views.addWidget(self._lower)
        self._session.watch({"below"}, self._show_lower)
        self._session.watch({"room"}, self._share_anew)
        self._session.watch({"card"}, self.show_card)
        self._session.watch({"plan"}, self._show_sides)
        for splitter in (self._upper, self._views, self._beside):
            splitter.setHandleWidth(8)
            splitter.setChildrenCollapsible(False)

    def _show_seen(self) -> None:
        """Picture, or two ways of the shot side by side."""
        self._seen.setCurrentWidget(self.pair if self._screening.beside else self.picture)

    def _show_lower(self) -> None:
        """The chart, or whatever is wanted in its room."""
        self._lower.setCurrentWidget(getattr(self, _VIEW_BELOW[self._session.below]))

    @cached_property
    def maps(self) -> "Maps":
        """The maps of trade-offs, made when they are first wanted."""
        from kobrel.desk.views.maps import Maps

        return self._put_below(Maps(self._session))

    @cached_property
    def discs(self) -> "Discs":
        """The chart of blur discs, made when it is first wanted."""
        from kobrel.desk.views.discs import Discs

        return self._put_below(Discs(self._session))

    @cached_property
    def strip(self) -> "Strip":
        """All shots one after the other, made when they are first wanted."""
        from kobrel.desk.views.strip import Strip

        return self._put_below(Strip(self._session))

    @cached_property
    def mask_view(self) -> "MaskView":
        """The mask, large, made when it is first wanted."""
        from kobrel.desk.views.mask import MaskView

        return self._put_below(MaskView(self._session))

    def _put_below(self, view: _View) -> _View:
        self._lower.addWidget(view)
        return view

    def show_card(self) -> None:
        """Show the chosen card; how the room was shared until now is remembered."""
        self.keep_room()
        card = self._session.card
        self.second.setVisible(card in _TWO_VIEWS)
        self.cards.turn_to(card)
        self.tabs.choose(card)
        self._share_room()

    def _share_anew(self) -> None:
        """Something is given more room than the card alone would, or not any more."""
        self.keep_room()
        self._share_room()

    def _share_room(self) -> None:
        """Share the room as it was under this card, or as the card's work needs it."""
        kept, card = self._session.settings, self._session.card
        self._shared = f"{card}{self._session.room}"
        parts_of = _PICTURE_FIRST if self._session.room == "picture" else _ROOM[card]
        for splitter, setting, size, parts in (
            (self._views, settings.ROOM_DOWN, self._views.height(), parts_of[0]),
            (self._upper, settings.ROOM_ACROSS, self._upper.width(), parts_of[1]),
        ):
            state = kept.get(setting, self._shared)
            if not state or not splitter.restoreState(from_text(state)):
                splitter.setSizes([max(size, 400) * part // 100 for part in parts])

    def keep_room(self) -> None:
        """Remember how the room is shared, under the card that it was shared for."""
        if self.isVisible() and not self.bare:
            kept = self._session.settings
            kept.put(settings.ROOM_DOWN, to_text(self._views.saveState()), self._shared)
            kept.put(settings.ROOM_ACROSS, to_text(self._upper.saveState()), self._shared)

    def toggle_bare(self) -> None:
        """Hide everything but Picture, Barrel and chart, and back."""
        if not self.bare:
            self.keep_room()
        self.bare = not self.bare
        self._show_sides()

    def _show_sides(self) -> None:
        """Show how to begin unless there is a plan, and what stands about unless it is bare."""
        full = bool(self._session.plan.shots)
        self._middle.setCurrentIndex(0 if full else 1)
        for widget in (self._shots_area, self.cards, self.tabs, self._beside):
            widget.setVisible(full and not self.bare)
