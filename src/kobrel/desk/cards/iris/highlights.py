"""Highlights: how bright, how they bend, and what is done to the view alone."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import SessionCard
from kobrel.desk.toolkit.fields import number_field
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.view import View


class HighlightsPage(SessionCard):
    """See the module."""

    name = "Glow"
    is_page = True
    below = "discs"
    depends = (Document.plan, Document.shot_index, Document.walk, View.throw_px, View.thrown)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.exposure = self.number("light.exposure_ev", "Exposure", 0.1, (-20.0, 20.0))
        self.shoulder = self.number("light.shoulder", "Soft shoulder", 0.05)
        self.note("Both are in the picture and in rendered PNG files; EXR files keep linear light.")
        self.line()
        self.mark = self.note("Finishing, of the view alone. No render and no number has it.")
        self.glow = self.number("finish.glow", "Glow", 0.02)
        self.bend = self.number("finish.bend_percent", "Lens distortion", 0.5)
        self.line()
        self.throw = number_field("Throw everything out of focus by", "px", 5.0, -2000.0, 2000.0)
        self.throw.setToolTip(
            "Height of all discs in pixels at delivery while everything is thrown out of focus (O); "
            "below 0 they are as before the focus."
        )
        self.bind(
            self.throw, lambda session: session.view.throw_px,
            lambda px: session.throw(session.view.thrown, px or 1.0),
        )  # fmt: skip
        self.row("Throw out by", self.throw)
        self.thrown = self.tick(
            "Throw everything out of focus",
            "Show all of the picture with discs of one size, to judge their shape (O)",
            lambda session: session.view.thrown,
            session.throw,
        )
        self.enable_if(self.thrown, _can_throw)
        self.column.addStretch(1)

    def subject(self) -> Session | None:
        """See :class:`Card`."""
        return self.session if self.session.shot is not None else None


def _can_throw(session: Session) -> bool:
    return session.camera is not None and session.camera.projection != "orthographic"
