"""What the selected plate has: distance, scale, rotation, pivot, keys, fades, playback."""

from functools import partial

from PySide6.QtWidgets import (
    QLineEdit,
    QMenu,
    QWidget,
)

from kobrel.desk.cards.base import Card
from kobrel.desk.cards.plates.fades import FadeRow
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import Field, length_field, narrow, number_field
from kobrel.plan.pictures.plates import DrivenOfPlate, Fade, Plate, Playing
from kobrel.plan.pull.dials import drive_of
from kobrel.session.commands.plates import fading, placing
from kobrel.session.document import Document
from kobrel.session.selection import Selection
from kobrel.session.session import Session

_ROWS: tuple[tuple[DrivenOfPlate, str, float, float, float], ...] = (
    ("scale", "×", 0.05, 1e-6, 1e6), ("turn_deg", "°", 5.0, -3600.0, 3600.0),
    ("tilt_deg", "°", 5.0, -3600.0, 3600.0), ("roll_deg", "°", 5.0, -3600.0, 3600.0),
    ("opacity", "ratio", 0.05, 0.0, 1.0),
)  # fmt: skip
_ABOUT: dict[DrivenOfPlate, str] = {
    "scale": "Scales the plate", "turn_deg": "Rotates the plate about the vertical",
    "tilt_deg": "Tilts the plate forward or back", "roll_deg": "Rotates the plate in its plane",
    "opacity": "0 is invisible, 1 is opaque",
}  # fmt: skip


class PlateValues(Card[Plate]):
    """The fields of the chosen plate."""

    is_page = True
    depends = (Document.plan, Document.stage, Document.frame, Document.shot_index, Selection.item)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the plate")
        self.title.setToolTip("Renames the plate; Enter applies")
        self.title.setFixedWidth(160)
        self.title.editingFinished.connect(self._rename)
        self.row("Name", self.title)
        self.distance = length_field(
            "Distance on axis",
            lambda: session.unit,
            0.01,
            1e6,
            about="Distance of the plate on axis from the camera",
        )
        self.bind(
            self.distance, lambda plate: placing.distance_m(session, plate) or 0.0,
            partial(placing.set_distance, session),
        )  # fmt: skip
        self.on = choice("On subject", [], "Put it at a subject's distance", 96)
        self.on.activated.connect(self._put_on)
        self.row("Distance", self.on, self.distance)
        self.fields: dict[DrivenOfPlate, Field] = {}
        for what, unit, step, low, high in _ROWS:
            field = narrow(number_field(placing.NAMES[what], unit, step, low, high, about=_ABOUT[what]))
            self.bind(field, partial(self._level, what), partial(placing.set_level, session, what))
            self.fields[what] = field
        self.row("Scale, opacity", self.fields["scale"], self.fields["opacity"])
        self.row("Yaw · pitch", self.fields["turn_deg"], self.fields["tilt_deg"])
        for what in ("turn_deg", "tilt_deg"):
            self.enable_if(self.fields[what], lambda plate: not plate.faces)  # type: ignore[index]
        self.pivot = [
            narrow(
                number_field(
                    f"Pivot {way}",
                    "ratio",
                    0.05,
                    -10.0,
                    10.0,
                    about="Point of the image that is at the plate's position, 0 to 1 from the top left",
                )
            )
            for way in ("across", "down")
        ]
        for axis, field in enumerate(self.pivot):
            self.bind(field, partial(_pivot_part, axis), partial(self._set_pivot, axis))
        self.row("Pivot", *self.pivot)
        self.faces = self.tick(
            "Faces the camera", "Stay parallel to the sensor",
            lambda plate: plate.faces, partial(placing.set_faces, session),
        )  # fmt: skip
        self.fill, self.subject_button, self.copy, self.key = self.buttons(
            ("Fill frame", "Scale to fill the frame",
             lambda: placing.fill_frame(session)),
            ("Subject", "Make the selected plates subjects", lambda: placing.make_subject(session)),
            ("Copy", "Duplicate the plate", lambda: placing.copy(session)),
            ("Key…", "Set or remove a key", self._ask_key),
        )  # fmt: skip
        for button in (self.fill, self.subject_button, self.copy, self.key):
            button.setStyleSheet("padding: 4px 5px;")
        self.keyed = self.note()
        self.fade = choice(
            "Fades by", [("no fade", ""), ("With blur", "blur"), ("by its distance", "distance")],
            "Opacity that follows blur or distance", 110,
        )  # fmt: skip
        self.bind(self.fade, lambda plate: plate.fade.by if plate.fade else "", self._take_fade)
        self.whole = narrow(
            number_field(
                "Whole up to",
                "px or m",
                1.0,
                0.0,
                1e6,
                about="The plate is opaque up to this blur or distance",
            )
        )
        self.gone = narrow(
            number_field(
                "Gone from",
                "px or m",
                1.0,
                0.0,
                1e6,
                about="The plate has faded out from this blur or distance",
            )
        )
        for field, name in ((self.whole, "whole"), (self.gone, "gone")):
            self.bind(
                field,
                partial(_fade_part, name),
                partial(self._change_fade, name),
            )
        self.fades = FadeRow(self, partial(fading.fade, session))
        self.row("Fade", self.fade)
        self.row("Opaque to · gone at", self.whole, self.gone)
        self.show_if(self.whole, lambda plate: plate.fade is not None)
        self.bright = narrow(
            number_field("Brightness", "EV", 0.5, -20.0, 20.0, about="Brightens or darkens the plate")
        )
        self.bind(
            self.bright, lambda plate: plate.brightness_ev,
            lambda ev: placing.change(session, "Brightness", brightness_ev=ev),
        )  # fmt: skip
        self.row("Roll · brightness", self.fields["roll_deg"], self.bright)
        self.after = choice(
            "After last frame", [("Hold", "held"), ("Loop", "looped"), ("Ping-pong", "turned")],
            "What it shows after its last frame", 110,
        )  # fmt: skip
        self.at = narrow(
            number_field(
                "Start frame",
                "frame",
                1,
                -1e6,
                1e6,
                digits=7,
                about="Frame at which the image sequence starts",
            )
        )
        self.speed = narrow(
            number_field("Speed", "×", 0.1, 0.01, 100.0, about="Playback speed of the image sequence")
        )
        self.bind(self.after, lambda plate: self._playing(plate).after, partial(self._play, "after"))
        self.bind(self.at, lambda plate: self._playing(plate).at, lambda v: self._play("at", round(v)))
        self.bind(self.speed, lambda plate: self._playing(plate).speed, partial(self._play, "speed"))
        self.row("Start frame · speed", self.at, self.speed)
        self.row("After last frame", self.after)
        for widget in (self.at, self.after):
            self.show_if(widget, lambda plate: plate.picture.playing is not None)

    def subject(self) -> Plate | None:
        """See :class:`Card`."""
        return placing.chosen(self.session)

    def _level(self, what: DrivenOfPlate, plate: Plate) -> float:
        return placing.level_now(self.session, plate, what)

    def _set_pivot(self, axis: int, value: float) -> None:
        plate = self.subject()
        if plate is not None:
            across, down = plate.pivot
            placing.set_pivot(self.session, (value, down) if axis == 0 else (across, value))

    def _rename(self) -> None:
        plate, name = self.subject(), self.title.text().strip()
        if plate is not None and name and name != plate.name:
            placing.change(self.session, "Name", name=name)

    def _put_on(self, _index: int) -> None:
        number = self.on.currentData()
        self.on.setCurrentIndex(0)
        if number is not None:
            placing.put_on_subject(self.session, number)

    def _ask_key(self) -> None:
        self.key_menu().popup(self.key.mapToGlobal(self.key.rect().bottomLeft()))

    def key_menu(self) -> QMenu:
        """What can be keyed at the frame, and how each value goes on."""
        menu = QMenu(self)
        for what, name in placing.NAMES.items():
            word = "Position" if what == "distance" else name
            text = f"Remove the {word.lower()} key" if self._has_key(what) else f"Key {word.lower()}"
            menu.addAction(text).triggered.connect(
                lambda _on=False, w=what: placing.toggle_key(self.session, w)
            )
        ways = menu.addMenu("Interpolation")
        for what, name in placing.NAMES.items():
            own = ways.addMenu("Position" if what == "distance" else name)
            for ease in ("smooth", "even", "fast", "late")[: 2 if what == "distance" else 4]:
                own.addAction(ease.capitalize()).triggered.connect(
                    lambda _on=False, w=what, e=ease: placing.set_ease(self.session, w, e)
                )
        return menu

    def _has_key(self, what: DrivenOfPlate) -> bool:
        plate = self.subject()
        keys = () if plate is None else plate.keys if what == "distance" else getattr(plate, what).keys
        return any(key.frame == self.session.frame for key in keys)

    def _take_fade(self, by: str) -> None:
        fade = None if not by else Fade(whole=10.0, gone=60.0) if by == "blur" else (
            Fade(by="distance", whole=5.0, gone=20.0)
        )  # fmt: skip
        placing.change(self.session, "Fade", fade=fade)

    def _change_fade(self, name: str, value: float) -> None:
        plate = self.subject()
        if plate is not None and plate.fade is not None:
            placing.change(self.session, "Fade", fade=plate.fade.replace(**{name: value}))

    @staticmethod
    def _playing(plate: Plate) -> Playing:
        return plate.picture.playing or Playing()

    def _play(self, name: str, value: object) -> None:
        plate = self.subject()
        if plate is not None and plate.picture.playing is not None:
            playing = plate.picture.playing.replace(**{name: value})
            placing.change(self.session, "Playing", picture=plate.picture.replace(playing=playing))

    def show_more(self, subject: Plate) -> None:
        if not self.title.hasFocus():
            self.title.setText(subject.name)
        subjects = [
            ("At subject…", None),
            *((f"{s.number} {s.name}", s.number) for s in self.session.plan.subjects),
        ]
        if [self.on.itemData(k) for k in range(self.on.count())] != [number for _name, number in subjects]:
            self.on.clear()
            for name, number in subjects:
                self.on.addItem(name, number)
        dials = self.session.plan.dials
        told = []
        for what, name in placing.NAMES.items():
            driven = drive_of(dials, subject.number, what)
            keys = subject.keys if what == "distance" else getattr(subject, what).keys
            word = "Position" if what == "distance" else name
            if driven is not None:
                told.append(f"{name} driven by {driven[0].name}")
            elif keys:
                frames = ", ".join(f"{key.frame:g}" for key in keys[:4])
                told.append(f"{word} keys: {frames}{', …' if len(keys) > 4 else ''}")
        self.keyed.setText(". ".join(told) + "." if told else "")
        self.keyed.setVisible(bool(told))


def _pivot_part(axis: int, plate: Plate) -> float:
    return plate.pivot[axis]


def _fade_part(name: str, plate: Plate) -> float:
    return float(getattr(plate.fade or Fade(), name))
