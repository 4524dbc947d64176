"""A card whose work is divided into pages."""

from collections.abc import Sequence
from typing import Any

from PySide6.QtWidgets import QButtonGroup, QGridLayout, QPushButton, QWidget

from kobrel.desk.cards.base import Card, SessionCard
from kobrel.session import settings
from kobrel.session.session import Session

_PAGES_A_ROW = 5


class PagedCard(SessionCard):
    """A card whose work is divided: one page is seen at a time."""

    def __init__(self, session: Session, pages: Sequence[Card[Any]], parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.pages = {page.name: page for page in pages}
        self._choice = QButtonGroup(self)
        rows = QGridLayout()
        rows.setSpacing(2)
        for number, page in enumerate(pages):
            button = QPushButton(page.name)
            button.setCheckable(True)
            button.setChecked(number == 0)
            button.setToolTip(f"The {page.name.lower()} of this card")
            self._choice.addButton(button, number)
            rows.addWidget(button, *divmod(number, _PAGES_A_ROW))
        rows.setColumnStretch(_PAGES_A_ROW, 1)
        self._choice.idClicked.connect(self._turn)
        self.column.addLayout(rows)
        for number, page in enumerate(pages):
            self.column.addWidget(page, 1)
            page.setVisible(number == 0)
        kept = session.settings.get(settings.PAGE, self.name)
        if kept in self.pages:
            self.show_page(kept)

    def _turn(self, number: int) -> None:
        wanted = list(self.pages.values())[number]
        for page in self.pages.values():
            if page is not wanted:
                page.hide()
        wanted.show()
        self.session.settings.put(settings.PAGE, list(self.pages)[number], self.name)

    def show_page(self, name: str) -> None:
        """Turn to a page."""
        number = list(self.pages).index(name)
        self._choice.button(number).setChecked(True)
        self._turn(number)
