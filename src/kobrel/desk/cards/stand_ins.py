"""The stand-ins of the Block card: made by a click, sized and placed by typing."""

from functools import partial

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QComboBox, QGridLayout, QLabel, QLineEdit, QPushButton, QWidget

from kobrel.desk import blocking
from kobrel.desk.blocking import STAND_IN_NAMES
from kobrel.desk.cards.base import Card, choice, choose
from kobrel.desk.fields import Field, length_field, narrow, number_field
from kobrel.desk.session import Session
from kobrel.plan import edit
from kobrel.plan.model import Lights, Row, StandIn, StandInKind

_SHORT: dict[StandInKind, str] = {"seated": "Seated", "string": "String", "scatter": "Scatter"}


class StandInsPage(Card):
    """See the module."""

    name = "Stand-ins"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        grid = QGridLayout()
        grid.setSpacing(4)
        self.kinds: dict[StandInKind, QPushButton] = {}
        for index, (kind, name) in enumerate(STAND_IN_NAMES.items()):
            button = QPushButton(_SHORT.get(kind, name))
            button.setCheckable(True)
            button.setStyleSheet("padding: 3px 4px;")
            button.setToolTip(
                f"{name}: click, then click in Overhead, Side, Front or Picture. Enter places it ahead."
            )
            button.clicked.connect(partial(self._begin, kind))
            grid.addWidget(button, index // 3, index % 3)
            self.kinds[kind] = button
        self.column.addLayout(grid)
        self.chosen: QComboBox = choice("Stand-in", [], "The stand-in that the fields below change", 190)
        self.chosen.activated.connect(lambda _i: session.select(stand_in=self.chosen.currentData()))
        self.row("Chosen", self.chosen)
        self.empty = self.note(
            "None yet. They stand for what is not modelled: cast shadows, can be subjects."
        )
        self.details = _Details(session)
        self.column.addWidget(self.details)
        self.column.addStretch(1)

    def _begin(self, kind: StandInKind) -> None:
        tool = self.session.tool
        if tool is not None and tool.stand_in == kind:
            self.session.use(None)
        else:
            blocking.begin_stand_in(self.session, kind)

    def refresh(self) -> None:
        session, tool = self.session, self.session.tool
        for kind, button in self.kinds.items():
            button.setChecked(tool is not None and tool.stand_in == kind)
        entries = [(f"{s.number} {s.name}", s.number) for s in session.plan.stand_ins]
        if [
            (self.chosen.itemText(i), self.chosen.itemData(i)) for i in range(self.chosen.count())
        ] != entries:
            self.chosen.clear()
            for text, number in entries:
                self.chosen.addItem(text, number)
        choose(self.chosen, session.selected_stand_in)
        self.empty.setVisible(not entries)
        self.details.setVisible(blocking.chosen(session) is not None)
        self.details.refresh()


class _Details(Card):
    """The fields of the chosen stand-in."""

    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the stand-in")
        self.title.setToolTip("Name of the stand-in")
        self.title.setFixedWidth(160)
        self.title.editingFinished.connect(self._rename)
        self.row("Name", self.title)
        self.sizes: list[Field] = []
        for axis, name in enumerate(("Width", "Height", "Depth")):
            field = length_field(name, lambda: session.unit, 0.002, 2000.0)
            narrow(field)
            field.taken.connect(partial(blocking.resize, session, axis))
            self.sizes.append(field)
        self.row("Size", *self.sizes)
        self.place = self.places("Place", "Place", self._move)
        self.turn = number_field("Turn", "°", 5.0, -3600.0, 3600.0)
        self.turn.taken.connect(lambda degrees: blocking.change(session, "Turn", turn_deg=degrees))
        self.colour = QPushButton("Colour")
        self.colour.setToolTip("Colour of its surface, or of its lights")
        self.colour.clicked.connect(self._take_colour)
        self.row("Turn", self.colour, self.turn)
        (self.drop, self.key, self.copy, self.subject, self.delete) = self.buttons(
            ("Drop", "Put it onto what is beneath it", lambda: blocking.drop(session)),
            (
                "Key",
                "Key its place at this frame, so that it walks; again takes the key away",
                lambda: blocking.toggle_key(session),
            ),
            ("Copy", "Another like it, beside it", lambda: blocking.copy(session)),
            ("Subject", "Make it a subject", lambda: blocking.make_subject(session)),
            ("Delete", "Delete it (Del in Overhead)", lambda: blocking.remove(session)),
        )
        for button in (self.drop, self.key, self.copy, self.subject, self.delete):
            button.setStyleSheet("padding: 4px 5px;")  # fmt: skip
        self.ease = choice(
            "Way on from the last key", [("Smooth", "smooth"), ("Even", "even")], "From the last key on", 86
        )
        self.ease.activated.connect(self._set_ease)
        self.keys = QLabel()
        self.row("Walks", self.keys, self.ease)
        self.in_row = self.tick(
            "In a row of copies", "Copies in a line, to judge how blur falls off", self._row
        )
        self.count = number_field("Copies", "", 1, 2, 200)
        self.spacing = length_field("Spacing of copies", lambda: session.unit, 0.001, 1000.0)
        self.direction = number_field("Direction of the row", "°", 5.0, -3600.0, 3600.0)
        for field in (self.count, self.spacing, self.direction):
            narrow(field)
        self.count.taken.connect(lambda n: self._change_row("Copies", count=round(n)))
        self.spacing.taken.connect(lambda m: self._change_row("Spacing", spacing_m=m))
        self.direction.taken.connect(lambda d: self._change_row("Direction", direction_deg=d))
        self.row("Row", self.count, self.spacing, self.direction)
        self.lights = number_field("Lights", "", 1, 1, 2000)
        self.bulb = length_field("Size of a light", lambda: session.unit, 0.0005, 5.0)
        self.bright = number_field("Brightness", "×", 1.0, 0.0, 1e6)
        self.spread = number_field("Colour spread", "", 0.05, 0.0, 1.0)
        self.seed = number_field("Number they grow from", "", 1, 0, 999999, digits=6)
        for field in (self.lights, self.bulb, self.bright, self.spread, self.seed):
            narrow(field)
        self.lights.taken.connect(lambda n: self._change_lights("Lights", count=round(n)))
        self.bulb.taken.connect(lambda m: self._change_lights("Size of lights", size_m=m))
        self.bright.taken.connect(lambda b: self._change_lights("Brightness", brightness=b))
        self.spread.taken.connect(lambda s: self._change_lights("Colour spread", spread=s))
        self.seed.taken.connect(lambda n: self._change_lights("Number", number=round(n)))
        self.row("Lights, size", self.lights, self.bulb)
        self.row("Brightness, spread", self.bright, self.spread)
        self.row("Grown from number", self.seed)

    def _rename(self) -> None:
        stand_in, name = blocking.chosen(self.session), self.title.text().strip()
        if stand_in is not None and name and name != stand_in.name:
            blocking.change(self.session, "Name", name=name)

    def _move(self, axis: int, metres: float) -> None:
        stand_in = blocking.chosen(self.session)
        if stand_in is not None:
            spot = blocking.current_place(self.session, stand_in).copy()
            spot[axis] = metres
            blocking.move(self.session, spot)

    def _set_ease(self) -> None:
        stand_in = blocking.chosen(self.session)
        if stand_in is not None:
            eased = edit.with_ease(stand_in, self.session.frame, self.ease.currentData())
            blocking.change(self.session, "Way", keys=eased.keys)

    def _row(self, on: bool) -> None:
        blocking.change(self.session, "Row", row=Row() if on else None)

    def _change_row(self, name: str, **changes: object) -> None:
        stand_in = blocking.chosen(self.session)
        if stand_in is not None and stand_in.row is not None:
            blocking.change(self.session, name, row=stand_in.row.but(**changes))

    def _change_lights(self, name: str, **changes: object) -> None:
        stand_in = blocking.chosen(self.session)
        if stand_in is not None:
            blocking.change(self.session, name, lights=(stand_in.lights or Lights()).but(**changes))

    def _take_colour(self) -> None:
        stand_in = blocking.chosen(self.session)
        if stand_in is None:
            return
        lights = stand_in.lights
        linear = lights.colour if lights else stand_in.colour
        old = QColor.fromRgbF(*(min(1.0, part) ** (1 / 2.2) for part in linear))
        new = QColorDialog.getColor(old, self, f"Colour of {stand_in.name}")
        if new.isValid():
            colour = tuple(round(part**2.2, 4) for part in (new.redF(), new.greenF(), new.blueF()))
            if lights:
                self._change_lights("Colour", colour=colour)
            else:
                blocking.change(self.session, "Colour", colour=colour)

    def refresh(self) -> None:
        stand_in = blocking.chosen(self.session)
        if stand_in is None:
            return
        if not self.title.hasFocus():
            self.title.setText(stand_in.name)
        for field, metres in zip(self.sizes, stand_in.size_m, strict=True):
            field.show_value(metres)
        for field, metres in zip(self.place, blocking.current_place(self.session, stand_in), strict=True):
            field.show_value(float(metres))
        self.turn.show_value(stand_in.turn_deg)
        self.key.setText("Unkey" if any(k.frame == self.session.frame for k in stand_in.keys) else "Key")
        frames = ", ".join(f"{key.frame:g}" for key in stand_in.keys)
        self.keys.setText(f"keys at {frames}" if len(stand_in.keys) < 4 else f"{len(stand_in.keys)} keys")
        self.keys.setToolTip(f"Keys of its place at frames {frames}")
        self.show_row(self.ease, bool(stand_in.keys))
        before = [key for key in stand_in.keys if key.frame <= self.session.frame]
        choose(self.ease, before[-1].ease if before else "smooth")
        self.ease.setEnabled(bool(before))
        self._show_row(stand_in)
        lights = stand_in.lights or Lights()
        shown = stand_in.lights is not None
        for field, value in (
            (self.lights, lights.count), (self.bulb, lights.size_m), (self.bright, lights.brightness),
            (self.spread, lights.spread), (self.seed, lights.number),
        ):  # fmt: skip
            field.show_value(value)
            self.show_row(field, shown)

    def _show_row(self, stand_in: StandIn) -> None:
        may = stand_in.lights is None and stand_in.kind != "ground"
        self.in_row.setVisible(may)
        self.in_row.setChecked(stand_in.row is not None)
        self.show_row(self.count, may and stand_in.row is not None)
        if stand_in.row is not None:
            self.count.show_value(stand_in.row.count)
            self.spacing.show_value(stand_in.row.spacing_m)
            self.direction.show_value(stand_in.row.direction_deg)
