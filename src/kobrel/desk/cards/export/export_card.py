"""Export: values in renderers' conventions and back, files, the camera sheet."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.export.camera_sheet import CameraSheetPage
from kobrel.desk.cards.export.files import FilesPage
from kobrel.desk.cards.export.importing import ImportPage
from kobrel.desk.cards.export.values import ValuesPage
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.session.session import Session


class ExportCard(PagedCard):
    """What leaves Kobrel, and what comes back."""

    name = "Export"
    depends = ()
    terms = Page(ValuesPage)
    back = Page(ImportPage, lambda card: (card.exports,))
    files = Page(FilesPage, lambda card: (card.exports,))
    sheet = Page(CameraSheetPage, lambda card: (card.exports,))

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        self.exports = exports
        super().__init__(session, parent)
