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


class CostsPage(ShotCard):
    """See the module."""

    name = "Costs"
    is_page = True
    below = "discs"
    depends = (*AT_FRAME, ShotNumbers.sight)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.largest = self.reading(
            "Largest disc", 21, "nearer",
            "Height of the largest disc of anything in the picture, over all frames, pixels at delivery.",
        )  # fmt: skip
        self.where = self.note()
        self.of_subject = self.reading(
            "Of a subject", hint="The largest of a subject, over all frames.", read=_largest_subject
        )
        self.line()
        self.limit = number_field("The renderer's largest disc", "px", 10.0, 0.0, 100000.0)
        self.limit.setToolTip("The largest blur disc that your renderer draws, in pixels; 0 is no limit.")
        self.bind(
            self.limit, lambda now: now.shot.most_px or 0.0,
            lambda px: session.edit_shot("Renderer's largest disc", lambda s: s.but(most_px=px or None)),
        )  # fmt: skip
        self.row("Renderer's limit", self.limit)
        self.verdict = self.note()
        self.show_if(self.verdict, lambda now: now.shot.most_px is not None, row=False)
        self.line()
        self.light_px = self._kept("Size of a light, sharp", settings.COST_LIGHT_PX, "px", 0.5)
        self.row("Light, sharp", self.light_px)
        self.noise = self._kept("Wanted noise", settings.COST_NOISE, "%", 1.0)
        self.row("Noise wanted", self.noise)
        self.samples = self.reading("Samples a pixel", 21, "focus")
        self.note(
            "What a path tracer needs in the light's largest disc. A ray meets the light with probability "
            "p, its area over the disc's, so N = (1 − p) / (p · noise²)."
        )
        self.line()
        self.eaten = self.reading(
            "Eaten by the mask", hint="Stops of light that the mask in the iris takes.",
            read=lambda now: f"{-math.log2(passes(now.camera.iris)) + 0.0:.2f} stops",
        )  # fmt: skip
        self.column.addStretch(1)

    def _kept(self, name: str, setting: settings.Setting[float], unit: str, step: float) -> Field:
        return self.bind(
            number_field(name, unit, step, 0.1, 1000.0), lambda now: self.session.settings.get(setting),
            lambda value: self.session.settings.put(setting, value),
        )  # fmt: skip

    def show_more(self, subject: Now) -> None:
        report, most_px = self.session.sight_report, subject.shot.most_px
        give_role(self.verdict, "")
        if report is None:
            self.largest.setText("…")
            self.where.setText("Looking at all frames …")
            self.verdict.setText("")
            self.samples.setText("…")
            return
        largest, frame = report.lines.largest_disc(subject.survey)
        self.largest.setText(f"{largest:.0f} px")
        self.where.setText(f"at frame {frame:g}, of what stands in the picture")
        if most_px is not None:
            cut = largest > most_px
            give_role(self.verdict, "wrong" if cut else "")
            self.verdict.setText(
                f"Discs would be cut, by {largest - most_px:.0f} px at worst." if cut else "No disc is cut."
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
