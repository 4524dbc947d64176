"""The stand-ins of the Block card: made by a click, sized and placed by typing."""

from functools import partial

from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QWidget

from kobrel.desk.cards.base import Card, SessionCard
from kobrel.desk.cards.plates.fades import FadeRow
from kobrel.desk.cards.widgets import ask_colour, choice
from kobrel.desk.toolkit.fields import Field, length_field, narrow, number_field
from kobrel.desk.toolkit.words import Label, plain
from kobrel.plan.model import Lights, Row, StandIn, StandInKind
from kobrel.session.commands import blocking
from kobrel.session.commands.blocking import STAND_IN_NAMES
from kobrel.session.document import Document
from kobrel.session.selection import ChosenStandIn, Selection
from kobrel.session.session import Session

_SHORT: dict[StandInKind, str] = {"seated": "Seated", "string": "String", "scatter": "Scatter"}


class StandInsPage(SessionCard):
    """The stand-ins of the Block card: made by a click, sized and placed by typing."""

    name = "Stand-ins"
    purpose = "Placeholders for people and props"
    is_page = True
    depends = (Document.plan, Selection.tool, Selection.item)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        grid = QGridLayout()
        grid.setSpacing(4)
        self.kinds: dict[StandInKind, QPushButton] = {}
        for index, (kind, name) in enumerate(STAND_IN_NAMES.items()):
            button = QPushButton(_SHORT.get(kind, name))
            button.setCheckable(True)
            button.setStyleSheet("padding: 3px 4px;")
            button.setToolTip(plain(f"{name}: click in a view to place it (Enter: in front of the camera)."))
            self.bind(button, partial(_is_placed, kind=kind), partial(self._begin, kind))
            grid.addWidget(button, index // 3, index % 3)
            self.kinds[kind] = button
        self.column.addLayout(grid)
        self.chosen = choice("Stand-in", [], "Selected stand-in", 190)
        self.bind(
            self.chosen,
            lambda session: session.selection.stand_in,
            lambda number: session.set(Selection.item.to(ChosenStandIn(number))),
            lambda session: [(f"{s.number} {s.name}", s.number) for s in session.plan.stand_ins],
        )
        self.row("Selected", self.chosen)
        self.empty = self.note(
            "None yet. Placeholders for unmodelled props and people; they cast shadows and can be subjects."
        )
        self.show_if(self.empty, lambda session: not session.plan.stand_ins, row=False)
        self.details = _Details(session)
        self.show_if(self.details, lambda session: blocking.chosen(session) is not None, row=False)
        self.column.addWidget(self.details)
        self.column.addStretch(1)

    def _begin(self, kind: StandInKind, on: bool) -> None:
        if on:
            blocking.begin_stand_in(self.session, kind)
        else:
            self.session.selection.tool = None


def _is_placed(session: Session, kind: StandInKind) -> bool:
    return session.selection.tool is not None and session.selection.tool.stand_in == kind


class _Details(Card[StandIn]):
    """The fields of the chosen stand-in."""

    is_page = True
    depends = (Document.plan, Document.frame, Selection.item)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the stand-in")
        self.title.setToolTip("Renames the stand-in; Enter applies")
        self.title.setFixedWidth(160)
        self.title.editingFinished.connect(self._rename)
        self.row("Name", self.title)
        self.sizes: list[Field] = []
        for axis, name in enumerate(("Width", "Height", "Depth")):
            field = narrow(
                length_field(name, lambda: session.unit, 0.002, 2000.0, about=f"{name} of the stand-in")
            )
            self.bind(field, partial(_size, axis=axis), partial(blocking.resize, session, axis))
            self.sizes.append(field)
        self.row("Size", *self.sizes)
        self.place = self.places(
            "Position", "Position", partial(blocking.current_place, session), partial(blocking.move, session)
        )
        self.turn = number_field(
            "Rotation", "°", 5.0, -3600.0, 3600.0, about="Rotates the stand-in about the vertical"
        )
        self.bind(
            self.turn,
            lambda one: one.turn_deg,
            lambda deg: blocking.change(session, "Rotation", turn_deg=deg),
        )
        self.colour = QPushButton("Colour")
        self.colour.setToolTip("Colour of its surface, or of its lights")
        self.colour.clicked.connect(self._take_colour)
        self.row("Colour · rotation", self.colour, self.turn)
        self._add_buttons()
        self.opacity = narrow(
            number_field("Opacity", "ratio", 0.05, 0.0, 1.0, about="0 is invisible, 1 is opaque")
        )
        self.bind(
            self.opacity, lambda one: one.opacity.value_at(session.frame),
            partial(blocking.set_opacity, session),
        )  # fmt: skip
        self.key_opacity = QPushButton("Key")
        self.key_opacity.setToolTip(plain("Key its opacity at this frame; again takes the key away"))
        self.key_opacity.clicked.connect(lambda _on=False: blocking.toggle_opacity_key(session))
        self.row("Opacity", self.key_opacity, self.opacity)
        self.faded = self.note()
        self.fades = FadeRow(self, partial(blocking.fade, session))
        self.in_row = self.tick(
            "Repeat in a row", "A row of copies to see focus fall-off",
            lambda one: one.row is not None,
            lambda on: blocking.change(session, "Row", row=Row() if on else None),
        )  # fmt: skip
        self.show_if(self.in_row, _may_repeat, row=False)
        self.count = narrow(
            number_field("Copies", "count", 1, 2, 200, about="How many stand-ins the row has")
        )
        self.spacing = narrow(
            length_field(
                "Spacing of copies",
                lambda: session.unit,
                0.001,
                1000.0,
                about="Distance from one copy to the next",
            )
        )
        self.direction = narrow(
            number_field(
                "Direction of the row",
                "°",
                5.0,
                -3600.0,
                3600.0,
                about="Direction of the row about the vertical",
            )
        )
        self._bind_row(self.count, "Copies", "count")
        self._bind_row(self.spacing, "Spacing", "spacing_m")
        self._bind_row(self.direction, "Direction", "direction_deg")
        self.row("Row", self.count, self.spacing, self.direction)
        self.show_if(self.count, lambda one: _may_repeat(one) and one.row is not None)
        self.lights = narrow(
            number_field("Lights", "count", 1, 1, 2000, about="How many point lights the stand-in has")
        )
        self.bulb = narrow(
            length_field("Size of a light", lambda: session.unit, 0.0005, 5.0, about="Diameter of each light")
        )
        self.bright = narrow(
            number_field(
                "Brightness", "×", 1.0, 0.0, 1e6, about="Intensity of the lights, 1 is diffuse white"
            )
        )
        self.spread = narrow(
            number_field(
                "Colour spread", "ratio", 0.05, 0.0, 1.0, about="How much the lights differ in colour"
            )
        )
        self.seed = narrow(
            number_field(
                "Seed of the random positions",
                "seed",
                1,
                0,
                999999,
                digits=6,
                about="Changes the random positions of the lights",
            )
        )
        self.row("Count · size", self.lights, self.bulb)
        self.row("Intensity · colour spread", self.bright, self.spread)
        self.row("Seed", self.seed)
        self._bind_lights(self.lights, "Lights", "count")
        self._bind_lights(self.bulb, "Size of lights", "size_m")
        self._bind_lights(self.bright, "Brightness", "brightness")
        self._bind_lights(self.spread, "Colour spread", "spread")
        self._bind_lights(self.seed, "Number", "number")

    def _add_buttons(self) -> None:
        session = self.session
        (self.drop, self.key, self.copy, self.subject_button, self.delete) = self.buttons(
            ("Drop", "Drop to the ground: onto the surface below", lambda: blocking.drop(session)),
            (
                "Key",
                "Set or remove a position key at this frame",
                lambda: blocking.toggle_key(session),
            ),
            ("Copy", "Duplicate the stand-in", lambda: blocking.copy(session)),
            ("Subject", "Make it a subject", lambda: blocking.make_subject(session)),
            ("Delete", "Delete it (Del in Overhead)", lambda: blocking.remove(session)),
        )
        for button in (self.drop, self.key, self.copy, self.subject_button, self.delete):
            button.setStyleSheet("padding: 4px 5px;")
        self.ease = choice(
            "Interpolation", [("Smooth", "smooth"), ("Even", "even")], "From the last key on", 86
        )
        self.bind(self.ease, self._ease, lambda ease: blocking.set_ease(session, ease))
        self.enable_if(self.ease, lambda one: one.last_key(session.frame) is not None)
        self.keys = Label()
        self.row("Move", self.keys, self.ease)
        self.show_if(self.ease, lambda one: bool(one.keys))

    def subject(self) -> StandIn | None:
        """See :class:`Card`."""
        return blocking.chosen(self.session)

    def _ease(self, stand_in: StandIn) -> str:
        before = [key for key in stand_in.keys if key.frame <= self.session.frame]
        return before[-1].ease if before else "smooth"

    def _bind_row(self, field: Field, name: str, what: str) -> None:
        self.bind(
            field,
            lambda one: getattr(one.row or Row(), what),
            lambda value: blocking.change_row(self.session, name, **{what: value}),
        )

    def _bind_lights(self, field: Field, name: str, what: str) -> None:
        self.bind(
            field,
            lambda one: getattr(one.lights or Lights(), what),
            lambda value: blocking.change_lights(self.session, name, **{what: value}),
        )
        self.show_if(field, lambda one: one.lights is not None)

    def _rename(self) -> None:
        stand_in, name = self.subject(), self.title.text().strip()
        if stand_in is not None and name and name != stand_in.name:
            blocking.change(self.session, "Name", name=name)

    def _take_colour(self) -> None:
        stand_in = self.subject()
        if stand_in is None:
            return
        linear = stand_in.lights.colour if stand_in.lights else stand_in.colour
        colour = ask_colour(self, linear, f"Colour of {stand_in.name}")
        if colour is not None:
            change = blocking.change_lights if stand_in.lights else blocking.change
            change(self.session, "Colour", colour=colour)

    def show_more(self, subject: StandIn) -> None:
        if not self.title.hasFocus():
            self.title.setText(subject.name)
        self.key.setText("Remove key" if subject.key_at(self.session.frame) else "Key")
        frames = ", ".join(f"{key.frame:g}" for key in subject.keys)
        self.keys.setText(f"keys at {frames}" if len(subject.keys) < 4 else f"{len(subject.keys)} keys")
        self.keys.setToolTip(plain(f"Position keys at frames {frames}"))
        faded = [key.frame for key in subject.opacity.keys]
        self.key_opacity.setText("Remove key" if self.session.frame in faded else "Key")
        self.faded.setText(f"Opacity keyed at {', '.join(f'{frame:g}' for frame in faded)}.")
        self.faded.setVisible(bool(faded))


def _size(stand_in: StandIn, axis: int) -> float:
    return stand_in.size_m[axis]


def _may_repeat(stand_in: StandIn) -> bool:
    return stand_in.lights is None and stand_in.kind != "ground"
