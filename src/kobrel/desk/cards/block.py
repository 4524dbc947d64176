"""Block: what stands before the camera, the camera itself, the light, and what to look out for."""

from PySide6.QtWidgets import QLabel, QWidget

from kobrel.desk.cards.base import PagedCard, give_role
from kobrel.desk.cards.camera import CameraPage
from kobrel.desk.cards.light import LightPage
from kobrel.desk.cards.scenes import ScenesPage
from kobrel.desk.cards.stand_ins import StandInsPage
from kobrel.desk.scene_files import SceneFiles
from kobrel.desk.session import Session

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
    looked = session.found
    warnings = looked.warnings if looked is not None and session.walk is None else ()
    if session.survey is None:
        text = session.problem
    elif session.walk is not None:
        text = "Seen from elsewhere: the shot's own camera is judged when you go back."
    elif looked is None:
        text = "Looking along the lines of sight …"
    else:
        more = f"\n… and {len(warnings) - _MOST} more" if len(warnings) > _MOST else ""
        text = "\n".join(warnings[:_MOST]) + more or "Nothing cut, hidden or out of the picture."
    label.setText(text)
    label.setObjectName("" if warnings else "quiet")
    give_role(label, "wrong" if warnings else "")
