"""Hand over: values in everybody's terms and back, files, the crew's sheet, tables of depth of field."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.handing.back import BackPage
from kobrel.desk.cards.handing.files import FilesPage
from kobrel.desk.cards.handing.sheet import SheetPage
from kobrel.desk.cards.handing.tables import TablesPage
from kobrel.desk.cards.handing.terms import TermsPage
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.session.session import Session


class HandCard(PagedCard):
    """See the module."""

    name = "Hand over"
    depends = ()
    terms = Page(TermsPage)
    back = Page(BackPage, lambda card: (card.exports,))
    files = Page(FilesPage, lambda card: (card.exports,))
    sheet = Page(SheetPage, lambda card: (card.exports,))
    tables = Page(TablesPage, lambda card: (card.exports,))

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        self.exports = exports
        super().__init__(session, parent)
