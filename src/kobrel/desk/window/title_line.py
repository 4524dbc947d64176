"""The title line of the window: menus, plan and shot, alts, and whether the plan is saved."""

from PySide6.QtWidgets import QHBoxLayout, QMenuBar, QSizePolicy, QWidget

from kobrel.desk.background.playback import Playback
from kobrel.desk.cards.popovers.alts import AltsButton
from kobrel.desk.toolkit.words import Label
from kobrel.session.session import Session


class TitleLine(QWidget):
    """See :meth:`show_shot`; the menus are filled by the window."""

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        line = QHBoxLayout(self)
        line.setContentsMargins(12, 4, 12, 0)
        brand = Label("Kobrel")
        brand.setObjectName("brand")
        self.bar = QMenuBar()
        self.heading, self.subheading, self.saved = Label(), Label(), Label()
        for label, look in ((self.heading, "title"), (self.subheading, "quiet"), (self.saved, "quiet")):
            label.setObjectName(look)
        self.subheading.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.alts = AltsButton(session, playback)
        line.addWidget(brand)
        line.addWidget(self.bar)
        line.addSpacing(12)
        line.addWidget(self.heading)
        line.addWidget(self.subheading, 1)
        line.addWidget(self.alts)
        line.addWidget(self.saved)

    def show_shot(self, state: str) -> None:
        """Show the plan's name, the shot, and the state of the plan's file in words."""
        plan, shot = self._session.plan, self._session.shot
        self.heading.setText(plan.name if shot else "")
        title = f" “{shot.title}”" if shot and shot.title else ""
        self.subheading.setText(
            f" ·  shot {shot.name}{title}  ·  {shot.last - shot.first + 1} frames at {shot.fps:g} fps"
            if shot
            else ""
        )
        self.saved.setText(state)
