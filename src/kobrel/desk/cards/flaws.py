"""The flaws of a lens: discs cut towards the corners, fringes, swirl, and uneven rims."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.fields import Field, number_field
from kobrel.desk.session import Session
from kobrel.picture.discs import corner_loss_stops
from kobrel.plan.glass import cat_eye_amount, front_stop
from kobrel.plan.instrument import FrontStop

_NOTES = {
    "cat": "A second stop before the pupil cuts discs towards the corners, and darkens them. At an amount of "
    "0.5 a corner's disc has lost half its width.",
    "colour": "Red and blue focus farther than green: green fringes behind the focus, purple ones before.",
    "swirl": "Astigmatism, growing to the corners: discs behind the focus stretch around the middle.",
    "spherical": "The rim of the lens focuses nearer than its middle: soft rims behind the focus, hard ones "
    "before it. Minus turns that about.",
}


class FlawsPage(Card):
    """See the module."""

    name = "Flaws"
    is_page = True
    below = "discs"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.amount = number_field("Cat's eye", "", 0.05, 0.0, 2.0)
        self.amount.setToolTip("Cat's eye: how much of its width a corner's disc loses here; 0 is none.")
        self.amount.taken.connect(self._take_amount)
        self.row("Cat's eye", self.amount)
        self.distance = number_field("Front stop before the pupil", "mm", 1.0, 0.1, 2000.0)
        self.diameter = number_field("Diameter of the front stop", "mm", 1.0, 0.1, 2000.0)
        self.distance.taken.connect(lambda mm: self._take_stop(distance_mm=mm))
        self.diameter.taken.connect(lambda mm: self._take_stop(diameter_mm=mm))
        self.row("Front stop at", self.distance)
        self.row("Its diameter", self.diameter)
        self.loss = self.reading("Corner", 21, "focus", "How much darker the corner is, in stops.")
        self.made_up = self.tick(
            "Made up in the picture",
            "Lift the corners by what the front stop takes, three stops at the most",
            lambda on: self._take_stop(made_up=on),
        )
        self.note(_NOTES["cat"])
        self.line()
        self.colour = self._flaw("Fringes", "colour_mm", "colour")
        self.swirl = self._flaw("Swirl", "swirl_mm", "swirl")
        self.spherical = self._flaw("Uneven rims", "spherical_mm", "spherical")
        self.column.addStretch(1)

    def _flaw(self, label: str, field: str, note: str) -> Field:
        made = number_field(label, "mm", 0.02, -5.0, 5.0)
        made.setToolTip(f"{label}: {_NOTES[note]} In mm on the sensor's side; 0 is none.")
        made.taken.connect(lambda mm: self._take(label, **{field: mm}))
        self.row(label, made)
        self.note(_NOTES[note])
        return made

    def _take(self, name: str, **changes: object) -> None:
        self.session.edit_shot(name, lambda shot: shot.but(flaws=shot.flaws.but(**changes)))

    def _take_amount(self, amount: float) -> None:
        camera = self.session.camera
        if camera is not None:
            stop = front_stop(camera, amount) if amount > 0 else None
            self._take("Cat's eye", front_stop=stop)

    def _take_stop(self, **changes: object) -> None:
        shot = self.session.shot
        old = shot.flaws.front_stop if shot else None
        if old is not None:
            self._take("Front stop", front_stop=old.but(**changes))

    def refresh(self) -> None:
        shot, camera = self.session.shot, self.session.camera
        self.setEnabled(shot is not None and camera is not None and camera.projection == "perspective")
        if shot is None or camera is None:
            return
        flaws = shot.flaws
        front: FrontStop | None = flaws.front_stop
        self.amount.show_value(round(cat_eye_amount(camera), 4))
        for field in (self.distance, self.diameter):
            self.show_row(field, front is not None)
        self.made_up.setVisible(front is not None)
        if front is not None:
            self.distance.show_value(front.distance_mm)
            self.diameter.show_value(front.diameter_mm)
            self.made_up.setChecked(front.made_up)
        loss = float(corner_loss_stops(camera, 1.0, 1.0))
        self.loss.setText(f"−{loss:.2f} stops" if loss > 0.005 else "as bright")
        self.colour.show_value(flaws.colour_mm)
        self.swirl.show_value(flaws.swirl_mm)
        self.spherical.show_value(flaws.spherical_mm)
