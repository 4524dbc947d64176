"""How Picture is shown; nothing of it is in a render, and no number depends on it but the exposure."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import SessionCard
from kobrel.desk.toolkit.fields import number_field
from kobrel.picture.denoise import is_installed
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.view import View


class ViewLook(SessionCard):
    """Exposure of the view, highlight roll-off, glow, distortion, and everything defocused."""

    name = "View look"
    is_page = True
    depends = (
        Document.plan,
        Document.shot_index,
        Document.walk,
        View.throw_px,
        View.defocus_everything,
        View.denoises,
    )

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.exposure = self.number("light.exposure_ev", "Exposure", 0.1, (-20.0, 20.0))
        self.shoulder = self.number("light.shoulder", "Highlight roll-off", 0.05)
        self.note("Applied to the view and PNG files; EXR stays linear.")
        self.line()
        self.mark = self.note("Preview only; not in renders or numbers.")
        self.glow = self.number("finish.glow", "Glow", 0.02)
        self.bend = self.number("finish.bend_percent", "Lens distortion", 0.5)
        self.denoise = self.tick(
            "Denoise (R)",
            "Remove noise from Picture after 2, 8, 32 and all samples; measurements use the raw picture (R)",
            lambda session: session.view.denoises,
            self.session.setter(View.denoises),
        )
        self.enable_if(self.denoise, lambda _session: is_installed())
        self.line()
        self.throw = number_field(
            "Defocus by",
            "px",
            5.0,
            -2000.0,
            2000.0,
            about="Disc height while everything is defocused (O); negative: as in front of the focus",
        )
        self.bind(
            self.throw, lambda session: session.view.throw_px,
            lambda px: session.throw(session.view.defocus_everything, px or 1.0),
        )  # fmt: skip
        self.row("Defocus by", self.throw)
        self.defocus_everything = self.tick(
            "Defocus everything (O)",
            "Blur everything equally to judge the bokeh (O)",
            lambda session: session.view.defocus_everything,
            session.throw,
        )
        self.enable_if(self.defocus_everything, _can_throw)
        self.column.addStretch(1)

    def subject(self) -> Session | None:
        """See :class:`Card`."""
        return self.session if self.session.shot is not None else None


def _can_throw(session: Session) -> bool:
    return session.camera is not None and session.camera.projection != "orthographic"
