"""A card whose work is divided into pages. A page is made when it is first shown or asked for."""

from collections.abc import Callable, Iterator, Mapping
from typing import Any, Generic, Self, TypeVar, overload

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from kobrel.desk.cards.base import Card, SessionCard
from kobrel.desk.toolkit.words import plain
from kobrel.session import settings
from kobrel.session.session import Session

_ROW_WIDTH, _PAD_PX, _TYPE_PX = 296, 7, 12
"""Room for page buttons in a row, and a button's padding and type, pixels."""
P = TypeVar("P", bound=Card[Any])


class Page(Generic[P]):
    """A page of a :class:`PagedCard`, told in its class in the order of the buttons.

    Parameters
    ----------
    kind : of page
    given : what it is made with besides the session, from the card
    """

    def __init__(self, kind: type[P], given: Callable[[Any], tuple[Any, ...]] = lambda _card: ()) -> None:
        self.kind, self._given = kind, given
        self.title = kind.name

    @overload
    def __get__(self, card: None, owner: type) -> Self: ...
    @overload
    def __get__(self, card: "PagedCard", owner: type) -> P: ...
    def __get__(self, card: Any, owner: type) -> Any:
        return self if card is None else card.pages[self.title]

    def make(self, card: "PagedCard") -> P:
        """Make it for a card."""
        return self.kind(card.session, *self._given(card))


class _Pages(Mapping[str, Card[Any]]):
    """Pages by name, each made when it is first asked for."""

    def __init__(self, card: "PagedCard", kinds: list[Page[Any]], add: Callable[[Card[Any]], None]) -> None:
        self._card, self._add = card, add
        self._kinds = {kind.title: kind for kind in kinds}
        self.made: dict[str, Card[Any]] = {}

    def __getitem__(self, name: str) -> Card[Any]:
        if name not in self.made:
            self.made[name] = page = self._kinds[name].make(self._card)
            self._add(page)
        return self.made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._kinds)

    def __len__(self) -> int:
        return len(self._kinds)


class PagedCard(SessionCard):
    """A card whose work is divided: one page is seen at a time."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        kinds = [kind for kind in vars(type(self)).values() if isinstance(kind, Page)]
        self.pages = _Pages(self, kinds, self._place)
        self._choice = QButtonGroup(self)
        rows = QVBoxLayout()
        rows.setSpacing(2)
        room = 0
        for number, (name, kind) in enumerate(zip(self.pages, kinds, strict=True)):
            button = QPushButton(name, self)
            button.setCheckable(True)
            button.setToolTip(plain(kind.kind.purpose))
            button.setStyleSheet(f"padding: 4px {_PAD_PX}px; font-size: {_TYPE_PX}px;")
            self._choice.addButton(button, number)
            width = button.fontMetrics().horizontalAdvance(name) + 2 * _PAD_PX + 4
            if width > room:  # long names go on in another row
                line = QHBoxLayout()
                line.setSpacing(2)
                line.addStretch(1)
                rows.addLayout(line)
                room = _ROW_WIDTH
            room -= width
            line.insertWidget(line.count() - 1, button)
        self._choice.idClicked.connect(self._turn)
        self.column.addLayout(rows)
        self._first = self.column.count()
        kept = settings.remembered_page(session.settings, self.name)
        self.show_page(kept if kept in self.pages else next(iter(self.pages)))

    def _place(self, page: Card[Any]) -> None:
        page.hide()
        self.column.insertWidget(self._first, page, 1)

    def _turn(self, number: int) -> None:
        name = list(self.pages)[number]
        wanted = self.pages[name]
        for page in self.pages.made.values():
            if page is not wanted:
                page.hide()  # first: what a page shows elsewhere goes before another shows its own
        wanted.show()
        self.session.settings.put(settings.PAGE, name, self.name)

    @property
    def page_buttons(self) -> list[QPushButton]:
        """The buttons of the pages, in their order."""
        return [button for button in self._choice.buttons() if isinstance(button, QPushButton)]

    @property
    def shown(self) -> str:
        """Name of the page that is seen."""
        return list(self.pages)[self._choice.checkedId()]

    def make_next_page(self) -> bool:
        """Make a page that was not seen yet; whether there was one."""
        unmade = [name for name in self.pages if name not in self.pages.made]
        if unmade:
            self.pages[unmade[0]]
        return bool(unmade)

    def show_page(self, name: str) -> None:
        """Turn to a page."""
        number = list(self.pages).index(name)
        self._choice.button(number).setChecked(True)
        self._turn(number)
