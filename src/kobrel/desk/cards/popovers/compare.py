"""What the shot is compared with: an alt, a proof, or itself before the last change."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.playback import BEFORE, Playback
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import choice
from kobrel.plan.model import Shot
from kobrel.session.document import Document
from kobrel.session.session import Session


class ComparePanel(Card[Shot]):
    """Both sides of the comparison."""

    name = "Compare"
    is_page = True
    depends = (Document.plan, Document.shot_index)

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.playback = playback
        self.beside = choice("Compare with", [], "What is shown on the right (or below)", 176)
        self.bind(self.beside, lambda _shot: playback.beside, self._compare, self._seconds)
        self.row("Compare with", self.beside)
        self.left = choice("Left side", [], "What is shown on the left (or above)", 176)
        self.bind(self.left, lambda _shot: playback.left, self._compare, self._firsts)
        self.enable_if(self.left, lambda _shot: bool(playback.beside))
        self.row("Left side", self.left)
        self.note("Both play with their true blur, frame by frame, once they are cached.")
        playback.changed.connect(self._refresh_if_seen)

    def _firsts(self, shot: Shot) -> list[tuple[str, object]]:
        return [("As it is now", ""), *((name, name) for name in self.playback.ways(shot))]

    def _seconds(self, shot: Shot) -> list[tuple[str, object]]:
        named = [(name, name) for name in self.playback.ways(shot)]
        return [("Nothing", ""), (BEFORE.capitalize(), BEFORE), *named]

    def _compare(self, _name: str) -> None:
        self.playback.compare(self.beside.currentData() or "", self.left.currentData() or "")

    def subject(self) -> Shot | None:
        return self.session.shot
