"""Block: what stands before the camera, the camera itself, the light, and what to look out for."""

from PySide6.QtWidgets import QLabel, QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.cards.block.camera import CameraPage
from kobrel.desk.cards.block.cut import CutPage
from kobrel.desk.cards.block.light import LightPage
from kobrel.desk.cards.block.plates import PlatesPage
from kobrel.desk.cards.block.scenes import ScenesPage
from kobrel.desk.cards.block.stand_ins import StandInsPage
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.widgets import DoubtLabel, give_role
from kobrel.session.numbers import NUMBERS, ShotNumbers
from kobrel.session.session import Session

_MOST = 4


class BlockCard(PagedCard):
    """See the module."""

    name = "Block"
    depends = (*NUMBERS, ShotNumbers.sight)
    scenes = Page(ScenesPage, lambda card: (card.files,))
    stand_ins = Page(StandInsPage)
    camera = Page(CameraPage)
    light = Page(LightPage, lambda card: (card.files,))
    plates = Page(PlatesPage, lambda card: (card.files,))
    cut = Page(CutPage)

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        self.files = files
        super().__init__(session, parent)
        self.line()
        self.doubts = DoubtLabel(session)
        self.column.addWidget(self.doubts)
        self.look_out = self.note()
        self.look_out.setAccessibleName("What to look out for")

    def show_more(self, subject: Session) -> None:
        show_warnings(self.look_out, subject)
        self.doubts.show_doubts(subject.doubts)


def show_warnings(label: QLabel, session: Session) -> None:
    """Say what would spoil a render of the shot, as far as it is known yet."""
    report = session.sight_report
    warnings = report.warnings if report is not None and session.walk is None else ()
    if session.survey is None:
        text = session.problem
    elif session.walk is not None:
        text = "Walking about: the shot's own camera is checked when you go back."
    elif report is None:
        text = "Looking along the lines of sight …"
    else:
        more = f"\n… and {len(warnings) - _MOST} more" if len(warnings) > _MOST else ""
        fine = "" if report.doubts else "Nothing cut, hidden or out of the picture."
        text = "\n".join(warnings[:_MOST]) + more or fine
    label.setText(text)
    label.setObjectName("" if warnings else "quiet")
    give_role(label, "wrong" if warnings else "")
