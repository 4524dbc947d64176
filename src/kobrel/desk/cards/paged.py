"""A card whose work is divided into pages. A page is made when it is first shown or asked for."""

from collections.abc import Callable, Iterator, Mapping
from typing import Any, Generic, Self, TypeVar, overload

from PySide6.QtWidgets import QButtonGroup, QGridLayout, QPushButton, QWidget

from kobrel.desk.cards.base import Card, SessionCard
from kobrel.desk.toolkit.words import plain
from kobrel.session import settings
from kobrel.session.session import Session

_PAGES_A_ROW = 6
P = TypeVar("P", bound=Card[Any])


class Page(Generic[P]):
    """A page of a :class:`PagedCard`, told in its class in the order of the buttons.

    Parameters
    ----------
    kind : of page
    given : what it is made with besides the session, from the card
    """

    def __init__(
        self, kind: Callable[..., P], given: Callable[[Any], tuple[Any, ...]] = lambda _card: ()
    ) -> None:
        self.kind, self._given = kind, given
        self.title = str(kind.name)  # type: ignore[attr-defined]

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
        rows = QGridLayout()
        rows.setSpacing(2)
        for number, name in enumerate(self.pages):
            button = QPushButton(name, self)
            button.setCheckable(True)
            button.setToolTip(plain(f"The {name.lower()} of this card"))
            if len(self.pages) == _PAGES_A_ROW:
                button.setStyleSheet("padding: 4px 4px; font-size: 12px;")
            self._choice.addButton(button, number)
            if len(self.pages) > 1:
                rows.addWidget(button, *divmod(number, _PAGES_A_ROW))
            else:
                button.hide()
        rows.setColumnStretch(_PAGES_A_ROW, 1)
        self._choice.idClicked.connect(self._turn)
        self.column.addLayout(rows)
        self._first = self.column.count()
        kept = session.settings.get(settings.PAGE, self.name)
        self.show_page(kept if kept in self.pages else next(iter(self.pages)))

    def _place(self, page: Card[Any]) -> None:
        page.hide()
        self.column.insertWidget(self._first, page, 1)

    def _turn(self, number: int) -> None:
        name = list(self.pages)[number]
        wanted = self.pages[name]
        for page in self.pages.made.values():
            page.setVisible(page is wanted)
        self.session.settings.put(settings.PAGE, name, self.name)

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
