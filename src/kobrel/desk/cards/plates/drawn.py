"""The fields of plates that need no file: titles, flat colours, gradients, vignettes and specks."""

from collections.abc import Collection
from functools import partial
from typing import Any

from PySide6.QtWidgets import QComboBox, QPushButton, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import Choice, ask_colour, choice, fill, show_colour
from kobrel.desk.toolkit.fields import Field, length_field, narrow, number_field
from kobrel.desk.toolkit.words import plain
from kobrel.plan.pictures.drawn import MOST_SPECKS, SHIPPED_FAMILY, Specks, Title
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.drawing import letters_in_height
from kobrel.plan.plates.typefaces import face_of, families, shipped
from kobrel.session.commands.plates import drawing
from kobrel.session.document import Document
from kobrel.session.selection import Selection
from kobrel.session.session import Session


class DrawnFields(Card[Plate]):
    """The fields of plates that need no file: titles, flat colours, gradients, vignettes and specks."""

    is_page = True
    depends = (Document.plan, Selection.item)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._title()
        self._colours()
        self._shapes()
        self._speck_fields()
        self.warning = self.note()

    def subject(self) -> Plate | None:
        """See :class:`Card`."""
        return drawing.chosen_drawn(self.session)

    def _title(self) -> None:
        self.edit_text = QPushButton("Edit text")
        self.edit_text.setToolTip(plain("Type the title in Picture; a double click on it does the same"))
        self.edit_text.clicked.connect(lambda _on=False: self.session.want("title"))
        self.letters = narrow(
            length_field(
                "Size of the letters", lambda: self.session.unit, 1e-4, 1e5, about="Height of the letters"
            )
        )
        self.bind(
            self.letters, lambda plate: plate.height_m / letters_in_height(plate.picture.drawn)  # type: ignore[arg-type]
            if isinstance(plate.picture.drawn, Title) else 0.0,
            partial(drawing.set_letters, self.session),
        )  # fmt: skip
        self._row("title", "Letters", self.edit_text, self.letters)
        self.family = _Families()
        self.family.activated.connect(
            lambda _i: drawing.change(self.session, "Typeface", family=self.family.currentData())
        )
        self.weight = choice("Weight", [], "Weight or style of the typeface", 90)
        self.weight.activated.connect(
            lambda _i: drawing.change(self.session, "Weight", style=self.weight.currentData())
        )
        self._row("title", "Typeface", self.family, self.weight)
        self.align = choice(
            "Alignment", [("Left", "left"), ("Centre", "centre"), ("Right", "right")],
            "Of its lines; from that side it grows when its text does", 86,
        )  # fmt: skip
        self.bind(self.align, partial(_value, "align"), partial(drawing.set_align, self.session))
        self.tracking = self._number("Tracking", "tracking", "ratio", 0.02, -0.5, 5.0,
                                     "Room between letters, in parts of their size")  # fmt: skip
        self._row("title", "Align, tracking", self.align, self.tracking)

    def _colours(self) -> None:
        self.colour = self._colour("Colour", "colour")
        self._row("title colour vignette specks", "Colour", self.colour)
        self.first, self.last = self._colour("First colour", "first"), self._colour("Last colour", "last")
        self.first_opacity = self._number("First opacity", "first_opacity", "ratio", 0.05, 0.0, 1.0,
                                          "Opacity at the start, 0 to 1")  # fmt: skip
        self.last_opacity = self._number("Last opacity", "last_opacity", "ratio", 0.05, 0.0, 1.0,
                                         "Opacity where it ends, 0 to 1")  # fmt: skip
        self._row("gradient", "From, opacity", self.first, self.first_opacity)
        self._row("gradient", "To, opacity", self.last, self.last_opacity)

    def _shapes(self) -> None:
        self.shape = choice("Shape", [("Linear", "linear"), ("Radial", "radial")],
                            "Straight across, or from the middle out", 86)  # fmt: skip
        self.bind(
            self.shape, partial(_value, "shape"),
            lambda shape: drawing.change(self.session, "Shape", shape=shape),
        )  # fmt: skip
        self.angle = self._number("Angle", "angle_deg", "°", 5.0, -3600.0, 3600.0,
                                  "Way from the first to the last colour: 0° right, 90° up")  # fmt: skip
        self._row("gradient", "Shape, angle", self.shape, self.angle)
        self.strength = self._number(
            "Strength", "strength", "ratio", 0.05, 0.0, 1.0, "Opacity at the corners, 0 to 1"
        )
        self.clear = self._number("Begins", "clear", "ratio", 0.05, 0.0, 1.0,
                                  "Where it starts, from the centre (0) to the corner (1)")  # fmt: skip
        self._row("vignette", "Strength · start", self.strength, self.clear)
        self.round = self._number("Roundness", "round", "ratio", 0.05, 0.0, 1.0,
                                  "0 follows the picture's shape, 1 is a circle")  # fmt: skip
        self._row("vignette", "Roundness", self.round)

    def _speck_fields(self) -> None:
        self.specks = self._number("Specks", "count", "count", 10, 1, MOST_SPECKS, "How many there are")
        self.speck = self._length("Size of a speck", "size_m", 1e-5, 1e4,
                                  "Diameter; they are half to one and a half of it")  # fmt: skip
        self._row("specks", "Specks, size", self.specks, self.speck)
        self.speed = self._length("Speed", "speed_m", 0.0, 1e4, "How far one drifts in a frame")
        self.way = self._number("Direction", "direction_deg", "°", 5.0, -3600.0, 3600.0,
                                "Way of the drift: 0° right, 90° up")  # fmt: skip
        self._row("specks", "Speed, direction", self.speed, self.way)
        self.depth_of_box = self._length("Depth", "depth_m", 0.0, 1e5,
                                  "From the nearest to the farthest, about the plate's distance")  # fmt: skip
        self.seed = self._number("Seed", "seed", "count", 1, 0, 999_999, "Changes the random pattern", 6)
        self._row("specks", "Depth, seed", self.depth_of_box, self.seed)

    # Fields

    def _row(self, kinds: str, label: str, *widgets: QWidget) -> None:
        self.row(label, *widgets)
        self.show_if(widgets[0], lambda plate: _kind(plate) in kinds.split())

    def _number(
        self, name: str, what: str, unit: str, step: float, low: float, high: float, hint: str,
        digits: int = 4,
    ) -> Field:  # fmt: skip
        return self._field(narrow(number_field(name, unit, step, low, high, digits, about=hint)), name, what)

    def _length(self, name: str, what: str, low: float, high: float, hint: str) -> Field:
        return self._field(
            narrow(length_field(name, lambda: self.session.unit, low, high, about=hint)), name, what
        )

    def _field(self, field: Field, name: str, what: str) -> Field:
        whole = what in ("count", "seed")
        self.bind(
            field, lambda plate: float(_value(what, plate) or 0.0),
            lambda value: drawing.change(self.session, name, **{what: round(value) if whole else value}),
        )  # fmt: skip
        return field

    def _colour(self, name: str, what: str) -> QPushButton:
        button = QPushButton(name)
        button.setToolTip(plain(f"{name}: click to change the colour"))

        def ask() -> None:
            plate = self.subject()
            if plate is not None:
                colour = ask_colour(self, _value(what, plate), f"{name} of {plate.name}")
                if colour is not None:
                    drawing.change(self.session, name, **{what: colour})

        button.clicked.connect(lambda _on=False: ask())
        self._shows.append(lambda plate: show_colour(button, _value(what, plate)))
        return button

    def show_more(self, subject: Plate) -> None:
        title = subject.picture.drawn
        self.warning.setText("")
        if isinstance(title, Title):
            self.warning.setText(face_of(title)[1])
            self.family.show_family(title.family)
            known = shipped() if title.family == SHIPPED_FAMILY else families()
            _offer(self.weight, known.get(title.family, {}), title.style)
        elif isinstance(title, Specks):
            self.warning.setText("Each speck is as soft as its own distance makes it.")
        self.warning.setVisible(bool(self.warning.text()))


@guarded
class _Families(Choice):
    """The typefaces; those of the system are looked up when the list is first opened."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Typeface")
        self.setToolTip(plain("Typeface: the one that ships with Kobrel, or one of the system's"))
        self.setFixedWidth(118)

    def show_family(self, family: str) -> None:
        """Show the one in use."""
        _offer(self, [self.itemData(k) for k in range(self.count())], family)

    def showPopup(self) -> None:
        _offer(self, families(), self.currentData())
        super().showPopup()


def _offer(box: QComboBox, texts: Collection[str], chosen: str) -> None:
    """Give a drop-down texts, with the chosen one before them if it is none of them."""
    every = texts if chosen in texts else [chosen, *texts]
    fill(box, [(text, text) for text in every], chosen)


def _kind(plate: Plate) -> str:
    return plate.picture.drawn.kind if plate.picture.drawn is not None else ""


def _value(what: str, plate: Plate) -> Any:
    return getattr(plate.picture.drawn, what, None)
