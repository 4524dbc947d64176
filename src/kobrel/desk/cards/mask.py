"""A mask in the iris: a picture, or one drawn here."""

import math
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kobrel.desk.cards.base import Card, choice, choose
from kobrel.desk.fields import Field, number_field
from kobrel.desk.session import Session
from kobrel.optics.opening import passes
from kobrel.plan.masks import mask_fault
from kobrel.plan.opening import MaskPicture, Outline, Stencil

KINDS = "Pictures (*.png *.tif *.tiff *.exr *.jpg)"
_OUTLINES: list[tuple[str, Outline]] = [
    ("Open, only spoilt", "open"), ("Blades", "blades"), ("Star", "star"), ("Heart", "heart"),
    ("Slot", "slot"), ("Ring", "ring"), ("Polygon", "polygon"), ("Text", "text"),
]  # fmt: skip
_INNER = {"star": "Inner corners", "slot": "Height", "ring": "Hole"}
_ROWS: dict[str, tuple[str, ...]] = {
    "open": (), "blades": ("count", "roundness", "size", "turn_deg"),
    "star": ("count", "inner", "roundness", "size", "turn_deg"), "heart": ("size", "turn_deg"),
    "slot": ("inner", "roundness", "size", "turn_deg"), "ring": ("inner", "size"),
    "polygon": ("roundness", "size", "turn_deg"), "text": ("text", "size", "turn_deg"),
}  # fmt: skip
_SPOILS = (
    ("Dust", "dust", "Dark specks"), ("Hairs", "hairs", "Thin curved lines"),
    ("Scratches", "scratches", "Straight fine lines"), ("Smudges", "smudges", "Broad cloudy stains"),
    ("Onion rings", "onion", "Fine rings, as a moulded lens has them"),
)  # fmt: skip


class MaskPage(Card):
    """While it is seen, the mask stands large in the chart's room."""

    name = "Mask"
    is_page = True
    below = "mask"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        kinds = [("No mask", ""), ("Picture …", "picture"), *_OUTLINES]
        self.kind = choice("Mask", list(kinds), "What stands in the iris; white lets light pass", 160)
        self.kind.activated.connect(lambda _i: self._take_kind(self.kind.currentData()))
        self.row("Mask", self.kind)
        self.lost = self.reading(
            "Light lost",
            21,
            "focus",
            "Stops of light that the mask takes: minus log2 of its mean over the iris.",
        )
        self.made_up = self.tick(
            "Made up by the exposure",
            "Do not count the loss in the T-stop",
            lambda on: self._take("Made up", made_up=on),
        )
        self.file = self.note()
        self.file_row = self.buttons(("Another picture …", "Choose another picture", self.ask_picture))
        self._fields: dict[str, QWidget] = {}
        self._number("Blades", "count", "", 1.0, 3.0, 32.0)
        self._number("Inner corners", "inner", "", 0.05, 0.05, 0.95)
        self.text = QLineEdit()
        self.text.setMaxLength(3)
        self.text.setFixedWidth(112)
        self.text.setAccessibleName("Text of the mask")
        self.text.setToolTip("One to three letters or signs")
        self.text.editingFinished.connect(self._take_text)
        self.row("Text", self.text)
        self._fields["text"] = self.text
        self._number("Rounded", "roundness", "", 0.05, 0.0, 1.0)
        self._number("Size", "size", "", 0.05, 0.05, 1.0)
        self._number("Turn", "turn_deg", "°", 1.0, -360.0, 360.0)
        self._number("Soft edge", "soft", "", 0.05, 0.0, 1.0)
        self._number("Bright rim", "rim", "", 0.1, 0.0, 1.0)
        self.line()
        for label, field, hint in _SPOILS:
            self._number(label, field, "", 0.1, 0.0, 1.0, hint)
        self._number("Random number", "seed", "", 1.0, 0.0, 999999.0, "Another number, other places")
        self.column.addStretch(1)

    def _number(
        self, label: str, field: str, unit: str, step: float, low: float, high: float, hint: str = ""
    ) -> None:
        made = number_field(label, unit, step, low, high)
        if hint:
            made.setToolTip(f"{label}: {hint}, {low:g} to {high:g}. Up and down keys or the wheel step it.")
        whole = field in ("count", "seed")
        made.taken.connect(lambda v: self._take(label, **{field: round(v) if whole else v}))
        self.row(label, made)
        self._fields[field] = made

    # Changes

    def _set(self, name: str, mask: MaskPicture | Stencil | None) -> None:
        self.session.edit_shot(name, lambda shot: shot.but(iris=shot.iris.but(mask=mask)))

    def _take(self, name: str, **changes: object) -> None:
        shot = self.session.shot
        if shot is not None and shot.iris.mask is not None:
            self._set(name, shot.iris.mask.but(**changes))

    def _take_kind(self, kind: str) -> None:
        shot = self.session.shot
        old = shot.iris.mask if shot else None
        if kind == "":
            self._set("No mask", None)
        elif kind == "picture":
            self.ask_picture()
        else:
            drawn = old if isinstance(old, Stencil) else Stencil()
            text = self.kind.currentText().split(",")[0].lower()
            self._set(f"Mask: {text}", drawn.but(outline=kind))
        self.refresh()

    def ask_picture(self) -> None:
        """Choose a picture as the mask."""
        name, _ = QFileDialog.getOpenFileName(self, "Choose a picture as the mask", str(Path.home()), KINDS)
        if name:
            self.take_picture(Path(name))
        self.refresh()

    def take_picture(self, path: Path) -> None:
        """Put a picture in the iris, or say why it cannot be."""
        shot = self.session.shot
        mask = MaskPicture(path=str(path.absolute()))
        fault = mask_fault(shot.iris.but(mask=mask)) if shot else ""
        if fault:
            self.session.said.emit(fault)
            return
        self._set(f"Mask: {path.name}", mask)

    def _take_text(self) -> None:
        text = self.text.text()
        shot = self.session.shot
        if shot is None or not isinstance(shot.iris.mask, Stencil) or text == shot.iris.mask.text:
            return
        if not text.strip():
            self.session.said.emit("A mask of text needs a letter or a sign that can be seen.")
            self.text.setText(shot.iris.mask.text)
            return
        self._take("Text of the mask", text=text)

    # Showing

    def refresh(self) -> None:
        shot, camera = self.session.shot, self.session.camera
        self.setEnabled(shot is not None)
        if shot is None or camera is None:
            return
        mask = shot.iris.mask
        drawn = mask if isinstance(mask, Stencil) else None
        choose(self.kind, "" if mask is None else drawn.outline if drawn else "picture")
        self.lost.setText(f"{-math.log2(passes(camera.iris)) + 0.0:.2f} stops" if mask else "–")
        self.made_up.setVisible(mask is not None)
        if mask is not None:
            self.made_up.setChecked(mask.made_up)
        picture = mask if isinstance(mask, MaskPicture) else None
        self.file.setVisible(picture is not None)
        self.file_row[0].setVisible(picture is not None)
        if picture is not None:
            self.file.setText(mask_fault(shot.iris) or Path(picture.path).name)
            self.file.setToolTip(picture.path)
        shown = (
            {*_ROWS[drawn.outline], "soft", "rim", "seed", *(f for _l, f, _h in _SPOILS)} if drawn else set()
        )
        if drawn is not None and drawn.outline == "open":
            shown -= {"soft", "rim"}
        for field, widget in self._fields.items():
            self.show_row(widget, field in shown)
            if drawn is not None and isinstance(widget, Field):
                widget.show_value(getattr(drawn, field))
        if drawn is not None:
            self.name_row(self._fields["count"], "Points" if drawn.outline == "star" else "Blades")
            self.name_row(self._fields["inner"], _INNER.get(drawn.outline, "Inner corners"))
            if not self.text.hasFocus():
                self.text.setText(drawn.text)
