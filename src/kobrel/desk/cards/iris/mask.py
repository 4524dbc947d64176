"""A mask in the iris: a picture, or one drawn here."""

import math
from pathlib import Path
from typing import Literal

from PySide6.QtWidgets import QFileDialog, QLineEdit, QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.desk.toolkit.words import plain
from kobrel.optics.aperture import passes
from kobrel.plan.iris import MaskPicture, Outline, Stencil
from kobrel.plan.masks import mask_fault
from kobrel.session.commands import shaping
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

KINDS = "Pictures (*.png *.tif *.tiff *.exr *.jpg)"
_OUTLINES: list[tuple[str, Outline]] = [
    ("Round, with dirt", "open"), ("Blades", "blades"), ("Star", "star"), ("Heart", "heart"),
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
    ("Onion rings", "onion", "Fine rings, as from moulded aspheres"),
)  # fmt: skip


class MaskPage(ShotCard):
    """While it is seen, the mask stands large in the chart's room."""

    name = "Mask"
    purpose = "An image or a drawing in the iris"
    is_page = True
    below = "mask"
    depends = AT_FRAME

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        kinds = [("No mask", ""), ("Picture…", "picture"), *_OUTLINES]
        self.kind = choice("Mask", list(kinds), "Mask in the iris; white passes light", 160)
        self.bind(self.kind, _kind, self._take_kind)
        self.row("Mask", self.kind)
        self.lost = self.reading(
            "Light lost",
            21,
            "focus",
            "Stops of light that the mask takes: minus log2 of its mean over the iris.",
            _lost,
        )
        self.made_up = self.tick(
            "Compensate exposure", "Ignore the loss in the T-stop",
            lambda now: now.shot.iris.mask is not None and now.shot.iris.mask.made_up,
            lambda on: shaping.change_mask(session, "Made up", made_up=on),
        )  # fmt: skip
        self.show_if(self.made_up, lambda now: now.shot.iris.mask is not None, row=False)
        self.file = self.note()
        self.choose_file = self.buttons(("Replace image…", "Choose another image", self.ask_picture))[0]
        for widget in (self.file, self.choose_file):
            self.show_if(widget, lambda now: isinstance(now.shot.iris.mask, MaskPicture), row=False)
        self.count = self._number("Blades", "count", "count", 1.0, 3.0, 32.0, "Number of corners or points")
        self.inner = self._number(
            "Inner corners",
            "inner",
            "ratio",
            0.05,
            0.05,
            0.95,
            "Radius of the inner corners, as a part of the outer",
        )
        self.text = QLineEdit()
        self.text.setMaxLength(3)
        self.text.setFixedWidth(112)
        self.text.setAccessibleName("Text of the mask")
        self.text.setToolTip("1–3 characters")
        self.text.editingFinished.connect(self._take_text)
        self.row("Text", self.text)
        self.show_if(self.text, lambda now: "text" in _fields(now))
        self._number(
            "Rounded", "roundness", "ratio", 0.05, 0.0, 1.0, "Rounds the sides: 0 straight, 1 circular"
        )
        self._number("Size", "size", "ratio", 0.05, 0.05, 1.0, "Size of the opening, as a part of the iris")
        self._number("Rotation", "turn_deg", "°", 1.0, -360.0, 360.0, "Rotates the mask in the iris")
        self._number("Soft edge", "soft", "ratio", 0.05, 0.0, 1.0, "Softens the edge of the opening")
        self._number("Bright edge", "rim", "ratio", 0.1, 0.0, 1.0, "Brightens the edge of the opening")
        self.line()
        for label, field, hint in _SPOILS:
            self._number(label, field, "ratio", 0.1, 0.0, 1.0, hint)
        self._number("Seed", "seed", "count", 1.0, 0.0, 999999.0, "Changes the random pattern")
        self.column.addStretch(1)

    def _number(
        self, label: str, field: str, unit: str, step: float, low: float, high: float, about: str
    ) -> Field:
        made = number_field(label, unit, step, low, high, about=about)

        def take(value: float) -> None:
            whole = field in ("count", "seed")
            shaping.change_mask(self.session, label, **{field: round(value) if whole else value})

        self.bind(made, lambda now: getattr(_drawn(now) or Stencil(), field), take)
        self.row(label, made)
        self.show_if(made, lambda now: field in _fields(now))
        return made

    def _take_kind(self, kind: Outline | Literal["", "picture"]) -> None:
        if kind == "":
            shaping.change_iris(self.session, "No mask", mask=None)
        elif kind == "picture":
            self.ask_picture()
        else:
            text = self.kind.currentText().split(",")[0].lower()
            shaping.draw_mask(self.session, kind, f"Mask: {text}")

    def ask_picture(self) -> None:
        """Choose an image as the mask."""
        name, _ = QFileDialog.getOpenFileName(self, "Choose an image as the mask", str(Path.home()), KINDS)
        if name:
            shaping.put_picture(self.session, Path(name))

    def _take_text(self) -> None:
        shaping.write_text(self.session, self.text.text())
        self.refresh()

    def show_more(self, subject: Now) -> None:
        mask, drawn = subject.shot.iris.mask, _drawn(subject)
        if isinstance(mask, MaskPicture):
            self.file.setText(mask_fault(subject.shot.iris) or Path(mask.path).name)
            self.file.setToolTip(plain(mask.path))
        if drawn is not None:
            self.name_row(self.count, "Points" if drawn.outline == "star" else "Blades")
            self.name_row(self.inner, _INNER.get(drawn.outline, "Inner corners"))
            if not self.text.hasFocus() or not self.text.text().strip():
                self.text.setText(drawn.text)


def _drawn(now: Now) -> Stencil | None:
    mask = now.shot.iris.mask
    return mask if isinstance(mask, Stencil) else None


def _kind(now: Now) -> str:
    drawn = _drawn(now)
    return drawn.outline if drawn else "picture" if now.shot.iris.mask else ""


def _lost(now: Now) -> str:
    return f"{-math.log2(passes(now.camera.iris)) + 0.0:.2f} stops" if now.shot.iris.mask else "–"


def _fields(now: Now) -> set[str]:
    """Fields of the mask that can be set."""
    drawn = _drawn(now)
    if drawn is None:
        return set()
    edges = () if drawn.outline == "open" else ("soft", "rim")
    return {*_ROWS[drawn.outline], *edges, "seed", *(field for _label, field, _hint in _SPOILS)}
