"""What the blur costs: the largest disc of the shot, a renderer's limits, and samples for a wanted noise."""

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card, give_role
from kobrel.desk.fields import Field, number_field
from kobrel.desk.session import Session
from kobrel.optics.noise import samples_for_noise
from kobrel.optics.opening import passes
from kobrel.plan.survey import GONE

_LIGHT_PX, _NOISE = 4.0, 5.0


class CostsPage(Card):
    """See the module."""

    name = "Costs"
    is_page = True
    below = "discs"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.largest = self.reading(
            "Largest disc", 21, "nearer",
            "Height of the largest disc of anything in the picture, over all frames, pixels at delivery.",
        )  # fmt: skip
        self.where = self.note()
        self.subject = self.reading("Of a subject", hint="The largest of a subject, over all frames.")
        self.line()
        self.limit = number_field("The renderer's largest disc", "px", 10.0, 0.0, 100000.0)
        self.limit.setToolTip("The largest blur disc that your renderer draws, in pixels; 0 is no limit.")
        self.limit.taken.connect(self._take_limit)
        self.row("Renderer's limit", self.limit)
        self.verdict = self.note()
        self.line()
        self.light_px = self._kept("Size of a light, sharp", "costs/light_px", "px", 0.5, 0.1, _LIGHT_PX)
        self.row("Light, sharp", self.light_px)
        self.noise = self._kept("Wanted noise", "costs/noise", "%", 1.0, 0.1, _NOISE)
        self.row("Noise wanted", self.noise)
        self.samples = self.reading("Samples a pixel", 21, "focus")
        self.note(
            "What a path tracer needs in the light's largest disc. A ray meets the light with probability "
            "p, its area over the disc's, so N = (1 − p) / (p · noise²)."
        )
        self.line()
        self.eaten = self.reading("Eaten by the mask", hint="Stops of light that the mask in the iris takes.")
        self.column.addStretch(1)

    def _kept(self, name: str, key: str, unit: str, step: float, low: float, start: float) -> Field:
        made = number_field(name, unit, step, low, 1000.0)
        made.show_value(float(str(self.session.settings.value(key, start))))

        def take(value: float) -> None:
            self.session.settings.setValue(key, value)
            made.show_value(value)
            self.refresh()

        made.taken.connect(take)
        return made

    def _take_limit(self, px: float) -> None:
        self.session.edit_shot("Renderer's largest disc", lambda shot: shot.but(most_px=px or None))

    def refresh(self) -> None:
        session = self.session
        shot, camera, numbers, looked = session.shot, session.camera, session.survey, session.found
        self.setEnabled(shot is not None)
        if shot is None or camera is None or numbers is None:
            return
        blur = np.where(numbers.state != GONE, numbers.sight.blur_px, 0.0)
        self.subject.setText(f"{float(blur.max()):.0f} px" if blur.any() else "–")
        largest, frame = looked.sight.largest_disc(numbers) if looked else (math.nan, 0.0)
        self.largest.setText(f"{largest:.0f} px" if looked else "…")
        self.where.setText(
            f"at frame {frame:g}, of what stands in the picture" if looked else "Looking at all frames …"
        )
        self.limit.show_value(shot.most_px or 0.0)
        cut = shot.most_px is not None and largest > shot.most_px
        self.verdict.setVisible(shot.most_px is not None)
        give_role(self.verdict, "wrong" if cut else "")
        self.verdict.setText(
            "" if shot.most_px is None or not looked
            else f"Discs would be cut, by {largest - shot.most_px:.0f} px at worst." if cut
            else "No disc is cut."
        )  # fmt: skip
        disc = largest / math.sqrt(camera.squeeze)
        fine = looked is not None and disc > 0
        wanted = (
            float(samples_for_noise(self.light_px.value, disc, self.noise.value / 100)) if fine else math.nan
        )
        self.samples.setText(f"{wanted:,.0f}".replace(",", " ") if fine else "…")
        self.eaten.setText(f"{-math.log2(passes(camera.iris)) + 0.0:.2f} stops")
