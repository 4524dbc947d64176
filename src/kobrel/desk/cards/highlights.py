"""Highlights: how bright, how they bend, and what is done to the view alone."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.fields import number_field
from kobrel.desk.session import Session


class HighlightsPage(Card):
    """See the module."""

    name = "Glow"
    is_page = True
    below = "discs"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.exposure = number_field("Exposure of the picture", "EV", 0.1, -20.0, 20.0)
        self.exposure.setToolTip("Brightness of the picture in stops, on the screen and in PNG files.")
        self.exposure.taken.connect(lambda ev: self._light("Exposure", exposure_ev=ev))
        self.row("Exposure", self.exposure)
        self.shoulder = number_field("Soft shoulder", "", 0.05, 0.0, 1.0)
        self.shoulder.setToolTip(
            "Part of the range of brightness in which highlights bend softly instead of being cut. 0 cuts "
            "each colour by itself, so that bright discs turn white; above 0 they keep their colour."
        )
        self.shoulder.taken.connect(lambda v: self._light("Soft shoulder", shoulder=v))
        self.row("Soft shoulder", self.shoulder)
        self.note("Both are in the picture and in rendered PNG files; EXR files keep linear light.")
        self.line()
        self.mark = self.note("Finishing, of the view alone. No render and no number has it.")
        self.glow = number_field("Glow", "", 0.02, 0.0, 1.0)
        self.glow.setToolTip("Part of the light that spreads into a glow, 0 to 1.")
        self.glow.taken.connect(lambda v: self._finish("Glow", glow=v))
        self.row("Glow", self.glow)
        self.bend = number_field("Lens distortion", "%", 0.5, -30.0, 20.0)
        self.bend.setToolTip("Lens distortion, -30 to 20 %: below 0 as a barrel, above 0 as a cushion.")
        self.bend.taken.connect(lambda v: self._finish("Lens distortion", bend_percent=v))
        self.row("Distortion", self.bend)
        self.line()
        self.throw = number_field("Throw everything out of focus by", "px", 5.0, -2000.0, 2000.0)
        self.throw.setToolTip(
            "Height of all discs in pixels at delivery while everything is thrown out of focus (O); "
            "below 0 they are as before the focus."
        )
        self.throw.taken.connect(lambda px: session.throw(session.thrown, px or 1.0))
        self.row("Throw out by", self.throw)
        self.thrown = self.tick(
            "Throw everything out of focus",
            "Show all of the picture with discs of one size, to judge their shape (O)",
            session.throw,
        )
        self.column.addStretch(1)

    def _light(self, name: str, **changes: object) -> None:
        plan = self.session.plan
        self.session.edit(name, plan.but(light=plan.light.but(**changes)))

    def _finish(self, name: str, **changes: object) -> None:
        plan = self.session.plan
        self.session.edit(name, plan.but(finish=plan.finish.but(**changes)))

    def refresh(self) -> None:
        plan, session = self.session.plan, self.session
        self.setEnabled(session.shot is not None)
        self.exposure.show_value(plan.light.exposure_ev)
        self.shoulder.show_value(plan.light.shoulder)
        self.glow.show_value(plan.finish.glow)
        self.bend.show_value(plan.finish.bend_percent)
        self.throw.show_value(session.throw_px)
        self.thrown.setChecked(session.thrown)
        able = session.camera is not None and session.camera.projection != "orthographic"
        self.thrown.setEnabled(able)
