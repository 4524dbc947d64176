"""What the blur costs: the largest disc of the shot, a renderer's limits, and samples for a wanted noise."""

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import give_role
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.optics.aperture import passes
from kobrel.optics.noise import samples_for_noise
from kobrel.plan.measure.survey import GONE
from kobrel.session import settings
from kobrel.session.numbers import AT_FRAME, Now, ShotNumbers
from kobrel.session.session import Session


class RenderCostPage(ShotCard):
    """What the blur costs."""

    name = "Render cost"
    purpose = "Largest blur disc, and the samples that a renderer needs"
    is_page = True
    below = "discs"
    depends = (*AT_FRAME, ShotNumbers.sight)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.largest = self.reading(
            "Largest blur disc", 21, "nearer",
            "Largest blur disc of anything in frame, whole shot (delivered px)",
        )  # fmt: skip
        self.where = self.note()
        self.of_subject = self.reading(
            "Largest of a subject", hint="The largest of a subject, over all frames.", read=_largest_subject
        )
        self.line()
        self.limit = number_field(
            "The renderer's largest disc",
            "px",
            10.0,
            0.0,
            100000.0,
            about="Largest blur disc that the renderer draws; 0 means no limit",
        )
        self.bind(
            self.limit, lambda now: now.shot.most_px or 0.0,
            lambda px: session.edit_shot("Renderer's largest disc", lambda s: s.replace(most_px=px or None)),
        )  # fmt: skip
        self.row("Renderer's maximum", self.limit)
        self.verdict = self.note()
        self.show_if(self.verdict, lambda now: now.shot.most_px is not None, row=False)
        self.line()
        self.light_px = self._kept(
            "Light size, sharp",
            settings.COST_LIGHT_PX,
            "px",
            0.5,
            "Size of the light in the image when it is in focus",
        )
        self.row("Light size, sharp", self.light_px)
        self.noise = self._kept(
            "Target noise",
            settings.COST_NOISE,
            "%",
            1.0,
            "Noise allowed in the light's disc, relative to its brightness",
        )
        self.row("Target noise", self.noise)
        self.samples = self.reading("Samples per pixel", 21, "focus")
        self.note(
            "Samples a path tracer needs for the largest disc of this light: N = (1 − p) / (p · "
            "noise²), p being the light's area over the disc's."
        )
        self.line()
        self.eaten = self.reading(
            "Mask loss", hint="Stops of light that the mask in the iris takes.",
            read=lambda now: f"{-math.log2(passes(now.camera.iris)) + 0.0:.2f} stops",
        )  # fmt: skip
        self.column.addStretch(1)

    def _kept(self, name: str, setting: settings.Setting[float], unit: str, step: float, about: str) -> Field:
        return self.bind(
            number_field(name, unit, step, 0.1, 1000.0, about=about),
            lambda now: self.session.settings.get(setting),
            lambda value: self.session.settings.put(setting, value),
        )  # fmt: skip

    def show_more(self, subject: Now) -> None:
        report, most_px = self.session.sight_report, subject.shot.most_px
        give_role(self.verdict, "")
        if report is None:
            self.largest.setText("…")
            self.where.setText("Checking all frames…")
            self.verdict.setText("")
            self.samples.setText("…")
            return
        largest, frame = report.lines.largest_disc(subject.survey)
        self.largest.setText(f"{largest:.0f} px")
        self.where.setText(f"at frame {frame:g}")
        if most_px is not None:
            cut = largest > most_px
            give_role(self.verdict, "wrong" if cut else "")
            self.verdict.setText(
                f"The largest discs exceed the renderer's maximum by {largest - most_px:.0f} px."
                if cut
                else "Within the renderer's max."
            )
        disc = largest / math.sqrt(subject.camera.squeeze)
        if disc > 0:
            wanted = samples_for_noise(self.light_px.value, disc, self.noise.value / 100)
            self.samples.setText(f"{float(wanted):,.0f}".replace(",", " "))
        else:
            self.samples.setText("…")


def _largest_subject(now: Now) -> str:
    blur = np.where(now.survey.state != GONE, now.survey.sight.blur_px, 0.0)
    return f"{float(blur.max()):.0f} px" if blur.any() else "–"
