"""Plates: the tab that is there once the plan has a plate."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.plates.cutout import CutoutPage
from kobrel.desk.cards.plates.plates_page import PlatesPage
from kobrel.session.session import Session


class PlatesCard(PagedCard):
    """The list of plates, and what is cut out of the selected one."""

    name = "Plates"
    depends = ()
    plates = Page(PlatesPage, lambda card: (card.files,))
    cutout = Page(CutoutPage)

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        self.files = files
        super().__init__(session, parent)
