"""What is between the window's title line and its status bar: shots, views, transport, cards and tabs."""

from functools import cached_property, partial
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.background.exports import Exports
from kobrel.desk.background.playback import Playback
from kobrel.desk.background.player import Player
from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.background.recent_pictures import RecentPictures
from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.barrel.barrel import Barrel
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.deck import NAMES, PLATES, Deck
from kobrel.desk.chart.pull_chart import PullChart
from kobrel.desk.overhead.overhead import Overhead
from kobrel.desk.picture.pair import PairView
from kobrel.desk.picture.picture import MARGIN, PictureView
from kobrel.desk.toolkit.folding import FoldSplitter
from kobrel.desk.views.shots import THUMBNAIL, ShotsColumn
from kobrel.desk.window.document import DocumentFile
from kobrel.desk.window.states import from_text, to_text
from kobrel.desk.window.tabs import TabEdge
from kobrel.desk.window.transport import Transport
from kobrel.desk.window.welcome import Welcome
from kobrel.session import settings
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.tools import Below
from kobrel.session.view import View

if TYPE_CHECKING:
    from kobrel.desk.views.depths import Depths
    from kobrel.desk.views.discs import Discs
    from kobrel.desk.views.maps import Maps
    from kobrel.desk.views.mask import MaskView
    from kobrel.desk.views.strip import Strip
    from kobrel.desk.wall.wall import WallView

_View = TypeVar("_View", bound=QWidget)


class _Room(NamedTuple):
    """How a card shares the room until somebody shares it otherwise.

    Parameters
    ----------
    below : percent of the height for what stands below Barrel
    across : widths there of chart, Overhead and Side, in parts
    beside : percent of the width for Overhead beside Picture, instead
    slim : the Barrel is folded to a line
    """

    below: int
    across: tuple[int, int, int]
    beside: int = 0
    slim: bool = True


_ROOMS = {
    1: _Room(34, (0, 50, 50)), 2: _Room(34, (0, 50, 50)), 3: _Room(25, (66, 34, 0), slim=False),
    4: _Room(34, (72, 28, 0)), 5: _Room(36, (100, 0, 0), beside=22),
    6: _Room(26, (100, 0, 0)), 7: _Room(32, (50, 50, 0)), PLATES: _Room(34, (0, 50, 50)),
}  # fmt: skip
_WIDE: dict[Below, _Room] = {
    "maps": _Room(36, (100, 0, 0)), "mask": _Room(34, (100, 0, 0)), "depths": _Room(34, (74, 26, 0)),
    "strip": _Room(34, (100, 0, 0)),
}  # fmt: skip
"""What stands in the chart's room and needs all of its width."""
_BARE = _Room(0, (100, 0, 0))
_VIEW_BELOW: dict[Below, str] = {
    "": "chart", "maps": "maps", "discs": "discs", "mask": "mask_view", "strip": "strip",
    "depths": "depths",
}  # fmt: skip
_TWO_VIEWS = (1, 2, PLATES)
_LEAST_BELOW = 110
_LEAST_PICTURE = 640
"""Pixels across that Picture has at least on all tabs but Pull, where the window has room for it."""
_CHART, _OVERHEAD, _SIDE = range(3)


@guarded
class Body(QWidget):
    """Lays the views out and shares the room between them, as each card needs it."""

    def __init__(
        self,
        session: Session,
        document: DocumentFile,
        files: SceneFiles,
        playback: Playback,
        player: Player,
        proofing: Proofing,
        exports: Exports,
        queueing: Queueing,
    ) -> None:
        super().__init__()
        self._session, self._screening, self._proofing = session, playback, proofing
        self.transport = Transport(session, player, playback)
        self._shared = ""
        self._moved = set[FoldSplitter]()
        self.bare = self.alone = False
        self.picture, self.overhead = PictureView(session), Overhead(session)
        self.second = Overhead(session, "Side")
        self.barrel, self.chart, self.shots = Barrel(session), PullChart(session), ShotsColumn(session)
        self.welcome = Welcome(document, RecentPictures(session.settings))
        self.welcome.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)
        self._build_views()
        self.cards = Deck(session, files, proofing, exports, queueing)
        self.tabs = TabEdge(list(NAMES.items()))
        self._shots_area = QScrollArea()
        self._shots_area.setWidget(self.shots)
        self._shots_area.setWidgetResizable(True)
        self._shots_area.setFixedWidth(118)
        self._shots_area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._shots_area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._edit_shots = QPushButton("Shot list")
        self._edit_shots.setToolTip("Names, frames and order of the shots (F2)")
        self._edit_shots.clicked.connect(lambda: self._session.want("shot"))
        self._left = QWidget()
        left = QVBoxLayout(self._left)
        left.setContentsMargins(0, 0, 0, 4)
        left.addWidget(self._shots_area, 1)
        self._edit_shots.setFixedWidth(THUMBNAIL[0] + 4)
        left.addWidget(self._edit_shots, 0, Qt.AlignmentFlag.AlignHCenter)
        self._middle = QStackedWidget()
        self._middle.addWidget(self._views)
        self._middle.addWidget(self.welcome)
        self._line = line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(8)
        line.addWidget(self._left)
        line.addWidget(self._middle, 1)
        line.addWidget(self.cards)
        line.addWidget(self.tabs)
        self.show_card()

    def _build_views(self) -> None:
        self._seen = QStackedWidget()
        self._seen.addWidget(self.picture)
        self.pair = PairView(self._session, self._screening)
        self._seen.addWidget(self.pair)
        self._upper = FoldSplitter(Qt.Orientation.Horizontal)
        self._upper.addWidget(self._seen)
        self._upper.setCollapsible(0, False)
        above = QWidget()
        stack = QVBoxLayout(above)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.setSpacing(8)
        stack.addWidget(self._upper, 1)
        stack.addWidget(self.transport)
        stack.addWidget(self.barrel)
        self._stack = QStackedWidget()
        self._stack.addWidget(self.chart)
        self._stack.setMinimumSize(260, _LEAST_BELOW)  # whatever stands there: turning to it moves nothing
        self._lower = FoldSplitter(Qt.Orientation.Horizontal)
        for view in (self._stack, self.overhead, self.second):
            self._lower.addWidget(view)
        self._views = FoldSplitter(Qt.Orientation.Vertical)
        self._views.addWidget(above)
        self._views.addWidget(self._lower)
        self._views.setCollapsible(0, False)
        for splitter in (self._upper, self._lower, self._views):
            splitter.splitterMoved.connect(partial(self._note_share, splitter))
        self._screening.changed.connect(self._show_seen)
        self._session.watch({View.below}, self._show_lower)
        self._session.watch({View.seen}, self._show_seen)
        self._session.watch({View.card}, self.show_card)
        self._session.watch({Document.plan}, self._show_sides)
        self._session.watch({Document.plan}, self._show_plates_tab)

    def _show_seen(self) -> None:
        """Picture, or two ways of the shot side by side; or the wall, which needs all of the room."""
        wall = self._session.view.seen == "wall"
        shown = self.wall if wall else self.pair if self._screening.beside else self.picture
        self._seen.setCurrentWidget(shown)
        for view in (self.barrel, self._lower):
            view.setVisible(not wall and not self.alone)

    def _show_lower(self) -> None:
        """The chart, or whatever is wanted in its room."""
        self._stack.setCurrentWidget(getattr(self, _VIEW_BELOW[self._session.view.below]))
        self.keep_room()
        self._share_room()

    @cached_property
    def wall(self) -> "WallView":
        """The wall of proofs, made when it is first wanted."""
        from kobrel.desk.wall.wall import WallView

        made = WallView(self._session, self._proofing)
        self._seen.addWidget(made)
        return made

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
    def depths(self) -> "Depths":
        """The map of depth of field, made when it is first wanted."""
        from kobrel.desk.views.depths import Depths

        return self._put_below(Depths(self._session))

    @cached_property
    def mask_view(self) -> "MaskView":
        """The mask, large, made when it is first wanted."""
        from kobrel.desk.views.mask import MaskView

        return self._put_below(MaskView(self._session))

    def _put_below(self, view: _View) -> _View:
        self._stack.addWidget(view)
        return view

    def show_card(self) -> None:
        """Show the chosen card; how the room was shared until now is remembered."""
        self.keep_room()
        card = self._session.view.card
        self._show_plates_tab()
        self.cards.turn_to(card)
        self.tabs.choose(card)
        self._share_room()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._views.isVisible() and not self.alone:
            self.keep_room()
            self._share_room()

    def _show_plates_tab(self) -> None:
        """The tab of plates is there once the plan has a plate, or while it is shown."""
        session = self._session
        self.tabs.show_tab(PLATES, bool(session.plan.plates) or session.view.card == PLATES)

    @property
    def _room(self) -> _Room:
        if self.bare:
            return _BARE
        return _WIDE.get(self._session.view.below, _ROOMS[self._session.view.card])

    def _share_room(self) -> None:
        """Share the room as it was under this card, or as the card's work needs it."""
        kept, room = self._session.settings, self._room
        wide = self._session.view.below if self._session.view.below in _WIDE else ""
        self._shared = "bare" if self.bare else f"{self._session.view.card}{wide}"
        if room.beside:
            self._upper.addWidget(self.overhead)
        else:
            self._lower.insertWidget(_OVERHEAD, self.overhead)
            self._lower.folds[1] = _OVERHEAD if room.across[_CHART] else _CHART
        self._show_sides()
        self._line.activate()  # sizes count from here on
        slim = kept.get(settings.BARREL_SLIM, self._shared)
        self.barrel.show_slim(slim if kept.has(settings.BARREL_SLIM, self._shared) else room.slim)
        for splitter, setting, sizes in (
            (self._views, settings.ROOM_DOWN, self._heights),
            (self._upper, settings.ROOM_ACROSS, self._widths),
            (self._lower, settings.ROOM_BELOW, lambda: list(room.across)),
        ):  # fmt: skip
            state = kept.get(setting, self._shared)
            if state and splitter.restoreState(from_text(state)):
                continue
            parts, across = sizes(), splitter.orientation() == Qt.Orientation.Horizontal
            size = max(splitter.width() if across else splitter.height(), 400)
            splitter.setSizes([size * part // max(sum(parts), 1) for part in parts])

    def _widths(self) -> list[int]:
        """Widths of Picture and of Overhead beside it, which is folded where it would be too narrow."""
        beside = self._room.beside
        narrow = self._upper.width() * beside < 100 * self.overhead.minimumWidth()
        return [100] if self._upper.count() == 1 else [100, 0] if narrow else [100 - beside, beside]

    def _heights(self) -> list[int]:
        """Heights of what stands above and below: no more for Picture than its width can use."""
        whole, width = max(self._views.height(), 400), max(self._views.width(), 400)
        camera = self._session.camera
        aspect = camera.whole.aspect if camera else 16 / 9
        wide = width * (100 - self._room.beside) / 100 - 2 * MARGIN
        lines = self.barrel.sizeHint().height() + self.transport.sizeHint().height() + 24
        most = int(wide / aspect) + 2 * MARGIN + lines
        least = int(_LEAST_PICTURE / aspect) + 2 * MARGIN + lines if not self._room.beside else 0
        above = min(max(whole * (100 - self._room.below) // 100, least), most, whole - _LEAST_BELOW)
        return [above, whole - above]

    def _note_share(self, splitter: FoldSplitter, _position: int, _index: int) -> None:
        self._moved.add(splitter)

    def keep_room(self) -> None:
        """Remember how the room is shared, where a person has changed it, by card."""
        if self._views.isVisible() and self._shared and not self.alone:
            kept = self._session.settings
            for splitter, setting in (
                (self._views, settings.ROOM_DOWN), (self._upper, settings.ROOM_ACROSS),
                (self._lower, settings.ROOM_BELOW),
            ):  # fmt: skip
                if splitter in self._moved:
                    kept.put(setting, to_text(splitter.saveState()), self._shared)
            self._moved.clear()
            kept.put(settings.BARREL_SLIM, self.barrel.slim, self._shared)

    def toggle_bare(self) -> None:
        """Hide everything but Picture, Barrel and chart, and back."""
        self.keep_room()
        self.bare = not self.bare
        self._share_room()

    def show_alone(self, on: bool) -> None:
        """Show Picture and nothing else, or what was there before."""
        self.keep_room()
        self.alone = on
        self.picture.show_alone(on)
        self._show_sides()
        if not on:
            QTimer.singleShot(0, self, self._share_room)  # when the window has its size again

    def hold_loupe(self, on: bool) -> None:
        """Take up the loupe over what is seen, or put it down."""
        if self._session.view.seen == "wall":
            self.wall.compared.hold_loupe(on)
        else:
            self.picture.loupe.hold(on)

    def fold(self, view: QWidget) -> None:
        """Fold the Barrel to a line, or another view away; or bring it back."""
        if view is self.barrel:
            self.barrel.show_slim(not self.barrel.slim)
        elif view is self._upper.widget(1):
            self._upper.toggle(1)
        elif view is self.overhead:
            self._lower.toggle(_OVERHEAD)
        else:
            self._views.toggle(1)

    def _show_sides(self) -> None:
        """Show how to begin unless there is a plan, and what stands about unless it is bare."""
        full = bool(self._session.plan.shots)
        if full and self._middle.currentIndex() == 1:
            QTimer.singleShot(0, self, self._share_room)  # the views have their size only then
        self._middle.setCurrentIndex(0 if full else 1)
        for widget in (self._left, self.cards, self.tabs):
            widget.setVisible(full and not self.bare and not self.alone)
        self.overhead.setVisible(not self.bare and not self.alone)
        self.transport.setVisible(full and not self.alone and not self.bare)
        self.second.setVisible(self._session.view.card in _TWO_VIEWS and not self.bare)
        self._show_seen()
