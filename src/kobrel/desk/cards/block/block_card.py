"""Block: scene files, stand-ins, camera, lighting and shots, and what would spoil a render."""

from PySide6.QtWidgets import QLabel, QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.cards.block.camera import CameraPage
from kobrel.desk.cards.block.lighting import LightPage
from kobrel.desk.cards.block.scene_files import ScenesPage
from kobrel.desk.cards.block.shots import ShotsPage
from kobrel.desk.cards.block.stand_ins import StandInsPage
from kobrel.desk.cards.paged import Page, PagedCard
from kobrel.desk.cards.widgets import DiagnosticLabel, give_role
from kobrel.session.numbers import NUMBERS, ShotNumbers
from kobrel.session.session import Session

_MOST = 4


class BlockCard(PagedCard):
    """What is in front of the camera, and the camera itself."""

    name = "Block"
    depends = (*NUMBERS, ShotNumbers.sight)
    scenes = Page(ScenesPage, lambda card: (card.files,))
    stand_ins = Page(StandInsPage)
    camera = Page(CameraPage)
    light = Page(LightPage, lambda card: (card.files,))
    shots = Page(ShotsPage)

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        self.files = files
        super().__init__(session, parent)
        self.line()
        self.doubts = DiagnosticLabel(session)
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
        text = "Free view: the shot camera is checked when you return."
    elif report is None:
        text = "Checking visibility…"
    else:
        more = f"\n… and {len(warnings) - _MOST} more" if len(warnings) > _MOST else ""
        fine = "" if report.doubts else "No clipping, occlusion or subjects out of frame."
        text = "\n".join(warnings[:_MOST]) + more or fine
    label.setText(text)
    label.setObjectName("" if warnings else "quiet")
    give_role(label, "wrong" if warnings else "")
