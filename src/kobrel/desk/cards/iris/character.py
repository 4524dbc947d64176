"""The character of a lens: discs cut towards the corners, fringes, swirl, and uneven rims."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.picture.discs import corner_loss_stops
from kobrel.plan.glass import cat_eye_amount, front_stop
from kobrel.session.commands import shaping
from kobrel.session.needs import needs_now
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

_NOTES = {
    "cat": "Mechanical vignetting: clips discs towards the corners. 0.5 halves the corner disc's width.",
    "colour": "Red and blue focus farther than green: green fringes behind the focus, purple ones before.",
    "swirl": "Astigmatism, growing to the corners: discs behind the focus stretch around the middle.",
    "spherical": "Positive: soft edges behind focus, hard in front. Negative: reversed.",
}


class CharacterPage(ShotCard):
    """The character of a lens: discs cut towards the corners, fringes, swirl, and uneven rims."""

    name = "Character"
    purpose = "Cat's eye, swirl, fringing and spherical aberration"
    is_page = True
    below = "discs"
    depends = AT_FRAME

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.amount = number_field(
            "Cat's eye",
            "ratio",
            0.05,
            0.0,
            2.0,
            about="Share of its width that a corner disc loses at full aperture",
        )
        self.bind(
            self.amount, lambda now: round(cat_eye_amount(now.camera), 4),
            lambda amount: _take_amount(session, amount),
        )  # fmt: skip
        self.row("Cat's eye", self.amount)
        self.distance = number_field(
            "Front stop before the pupil",
            "mm",
            1.0,
            0.1,
            2000.0,
            about="Distance of the vignetting ring in front of the entrance pupil",
        )
        self.diameter = number_field(
            "Diameter of the front stop",
            "mm",
            1.0,
            0.1,
            2000.0,
            about="Inner diameter of the vignetting ring",
        )
        self._bind_stop(self.distance, "distance_mm")
        self._bind_stop(self.diameter, "diameter_mm")
        self.row("Vignetting ring at", self.distance)
        self.row("Ring diameter", self.diameter)
        self.loss = self.reading("Corner", 21, "focus", "How much darker the corner is, in stops.", _corner)
        self.made_up = self.tick(
            "Lift corners",
            "Compensate corner darkening, up to 3 stops",
            lambda now: now.shot.flaws.front_stop is not None and now.shot.flaws.front_stop.made_up,
            lambda on: shaping.change_front_stop(session, made_up=on),
        )
        self.note(_NOTES["cat"])
        for field in (self.distance, self.diameter):
            self.show_if(field, lambda now: now.shot.flaws.front_stop is not None)
        self.show_if(self.made_up, lambda now: now.shot.flaws.front_stop is not None, row=False)
        self.line()
        self.colour = self._flaw("Colour fringing", "colour_mm", "colour")
        self.swirl = self._flaw("Swirl", "swirl_mm", "swirl")
        self.spherical = self._flaw("Spherical aberration", "spherical_mm", "spherical")
        self.column.addStretch(1)

    def _flaw(self, label: str, field: str, note: str) -> Field:
        made = number_field(
            label, "mm", 0.02, -5.0, 5.0, about=f"{_NOTES[note]} On the sensor's side; 0 is none"
        )
        self.bind(
            made, lambda now: getattr(now.shot.flaws, field),
            lambda mm: shaping.change_character(self.session, label, **{field: mm}),
        )  # fmt: skip
        self.row(label, made)
        self.note(_NOTES[note])
        return made

    def _bind_stop(self, widget: Field, field: str) -> None:
        self.bind(
            widget, lambda now: getattr(now.shot.flaws.front_stop, field, widget.value),
            lambda mm: shaping.change_front_stop(self.session, **{field: mm}),
        )  # fmt: skip

    def show_more(self, subject: Now) -> None:
        self.setEnabled(subject.camera.projection == "perspective")


def _corner(now: Now) -> str:
    loss = float(corner_loss_stops(now.camera, 1.0, 1.0))
    return f"−{loss:.2f} stops" if loss > 0.005 else "none"


@needs_now
def _take_amount(session: Session, now: Now, amount: float) -> None:
    front = front_stop(now.camera, amount) if amount > 0 else None
    shaping.change_character(session, "Cat's eye", front_stop=front)
