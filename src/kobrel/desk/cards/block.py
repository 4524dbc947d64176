"""Block: what stands before the camera, the camera itself, the light, and what to look out for."""

from PySide6.QtWidgets import QLabel, QWidget

from kobrel.desk.cards.base import PagedCard, give_role
from kobrel.desk.cards.camera import CameraPage
from kobrel.desk.cards.light import LightPage
from kobrel.desk.cards.scenes import ScenesPage
from kobrel.desk.cards.stand_ins import StandInsPage
from kobrel.desk.scene_files import SceneFiles
from kobrel.desk.session import Session
from kobrel.plan.check import unit_doubts, warnings_from
from kobrel.plan.stand_ins import number_of

_MOST = 4


class BlockCard(PagedCard):
    """See the module."""

    name = "Block"

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        self.scenes = ScenesPage(session, files)
        self.stand_ins = StandInsPage(session)
        self.camera = CameraPage(session)
        self.light = LightPage(session, files)
        pages = [self.scenes, self.stand_ins, self.camera, self.light]
        super().__init__(session, pages, parent)
        self.line()
        self.look_out = self.note()
        self.look_out.setAccessibleName("What to look out for")

    def refresh(self) -> None:
        show_warnings(self.look_out, self.session)


def show_warnings(label: QLabel, session: Session) -> None:
    """Say what would spoil a render of the shot, as far as it is known yet."""
    numbers, sight = session.survey, session.sightlines
    found = [
        doubt
        for name in session.stage.scenes
        if number_of(name) is None
        for doubt in unit_doubts(name, session.stage)
    ]
    if numbers is None:
        text = session.problem
    elif sight is None or session.walk is not None:
        text = "\n".join([*found, "Looking along the lines of sight …"])
    else:
        found += warnings_from(session.plan, numbers, sight)
        more = f"\n… and {len(found) - _MOST} more" if len(found) > _MOST else ""
        text = "\n".join(found[:_MOST]) + more or "Nothing cut, hidden or out of the picture."
    label.setText(text)
    label.setObjectName("" if found else "quiet")
    give_role(label, "wrong" if found else "")
