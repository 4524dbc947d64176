"""Highlights: how bright, how they bend, and what is done to the view alone."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import SessionCard
from kobrel.desk.toolkit.fields import number_field
from kobrel.session.commands import blocking
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
        self.exposure = number_field("Exposure of the picture", "EV", 0.1, -20.0, 20.0)
        self.exposure.setToolTip("Brightness of the picture in stops, on the screen and in PNG files.")
        self.bind(
            self.exposure, lambda session: session.plan.light.exposure_ev,
            lambda ev: blocking.light(session, "Exposure", exposure_ev=ev),
        )  # fmt: skip
        self.row("Exposure", self.exposure)
        self.shoulder = number_field("Soft shoulder", "", 0.05, 0.0, 1.0)
        self.shoulder.setToolTip(
            "Part of the range of brightness in which highlights bend softly instead of being cut. 0 cuts "
            "each colour by itself, so that bright discs turn white; above 0 they keep their colour."
        )
        self.bind(
            self.shoulder, lambda session: session.plan.light.shoulder,
            lambda v: blocking.light(session, "Soft shoulder", shoulder=v),
        )  # fmt: skip
        self.row("Soft shoulder", self.shoulder)
        self.note("Both are in the picture and in rendered PNG files; EXR files keep linear light.")
        self.line()
        self.mark = self.note("Finishing, of the view alone. No render and no number has it.")
        self.glow = number_field("Glow", "", 0.02, 0.0, 1.0)
        self.glow.setToolTip("Part of the light that spreads into a glow, 0 to 1.")
        self.bind(self.glow, lambda session: session.plan.finish.glow, lambda v: self._finish("Glow", glow=v))
        self.row("Glow", self.glow)
        self.bend = number_field("Lens distortion", "%", 0.5, -30.0, 20.0)
        self.bend.setToolTip("Lens distortion, -30 to 20 %: below 0 as a barrel, above 0 as a cushion.")
        self.bind(
            self.bend, lambda session: session.plan.finish.bend_percent,
            lambda v: self._finish("Lens distortion", bend_percent=v),
        )  # fmt: skip
        self.row("Distortion", self.bend)
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

    def _finish(self, name: str, **changes: object) -> None:
        plan = self.session.plan
        self.session.edit(name, plan.but(finish=plan.finish.but(**changes)))


def _can_throw(session: Session) -> bool:
    return session.camera is not None and session.camera.projection != "orthographic"
