"""The shape of the iris: blades, rim, squeeze, and presets to start from."""

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFileDialog, QSizePolicy, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.desk.toolkit.paint import draw_text
from kobrel.desk.toolkit.theme import theme
from kobrel.desk.views.iris_images import iris_image
from kobrel.errors import KobrelError
from kobrel.memo import Memo
from kobrel.optics import iris as shapes
from kobrel.optics.aperture import aperture
from kobrel.plan.lens_sets.irises import (
    OWN,
    SUFFIX,
    Preset,
    preset_from,
    presets_in,
    read_preset,
    write_preset,
)
from kobrel.plan.measure.survey import GONE
from kobrel.session.commands import shaping
from kobrel.session.needs import needs_now
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session
from kobrel.session.settings import allow_chosen
from kobrel.session.view import View

if TYPE_CHECKING:
    from kobrel.desk.cards.iris.export_iris import ExportIris


_NAMES = {
    "roundness": "Roundness", "rotation_deg": "Rotation", "turn_per_stop_deg": "Rotation per stop",
    "rim": "Edge brightness",
}  # fmt: skip
_ABOUT = {
    "roundness": "How round the blades are: 0 a polygon, 1 a circle",
    "rotation_deg": "Rotates the iris",
    "turn_per_stop_deg": "Rotates the iris with each stop that it is closed",
    "rim": "Brightness of the disc edge: +1 bright (soap-bubble bokeh), 0 even, -1 bright centre (creamy)",
}
_EDITS = {**_NAMES, "rotation_deg": "Rotation of the iris", "turn_per_stop_deg": "Rotation per stop"}


@guarded
class IrisShapeView(QWidget):
    """The opening as its blur disc looks, large, with the round pupil of the same stop behind it."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._image = Memo[QImage]()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(170)
        self.setAccessibleName("Shape of the iris")
        session.watch((*AT_FRAME, View.theme), self.update)

    def sizeHint(self) -> QSize:
        return QSize(230, 180)

    def paintEvent(self, event: QPaintEvent) -> None:
        camera = self._session.camera
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().surround)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        if camera is None:
            return
        fan = shapes.outline(camera.turned_iris, camera.squeeze, points=720)
        reach = aperture(camera.turned_iris, camera.squeeze).up
        radius = min(self.width(), self.height() - 28) * 0.40
        centre = QPointF(self.width() / 2, (self.height() - 20) / 2)
        box = QRectF(
            centre.x() - reach * radius, centre.y() - reach * radius, 2 * reach * radius, 2 * reach * radius
        )
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        parts = (aperture(camera.turned_iris, camera.squeeze), theme())
        painter.drawImage(box, self._image.get(parts, lambda: iris_image(camera)))
        painter.setPen(QPen(theme().line, 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, radius, radius)
        painter.setPen(QPen(theme().sharp, 1.5))
        painter.drawPolygon(QPolygonF([centre + QPointF(x, -y) * radius for x, y in fan]))
        text = f"entrance pupil {float(camera.pupil_mm):.1f} mm"
        if camera.squeeze > 1:
            text += f" high, {float(camera.pupil_mm) / camera.squeeze:.1f} mm wide"
        draw_text(painter, QPointF(self.width() / 2, self.height() - 10), text, theme().quiet, 11, "centre")


class IrisShapePage(ShotCard):
    """The shape of the iris: blades, rim, squeeze, and presets to start from."""

    name = "Shape"
    purpose = "Blades, roundness and squeeze: the shape of the bokeh"
    is_page = True
    below = "discs"
    depends = AT_FRAME

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._presets = Memo[list[Preset]]()
        self.shape_view = IrisShapeView(session)
        self.column.addWidget(self.shape_view, 1)
        self.preset = choice("Preset", [], "Preset shape with character and squeeze", 160)
        self.bind(
            self.preset, lambda now: next((one for one in self.presets() if one.is_of(now.shot)), None),
            lambda preset: _give(session, preset, f"Iris: {preset.name.lower()}"),
            lambda now: [(preset.name, preset) for preset in self.presets()],
        )  # fmt: skip
        self.row("Preset", self.preset)
        self.buttons(
            ("Save preset…", "Save as your own preset", self.ask_keep),
            ("Open…", "Start from a preset in a file", self.ask_open),
            ("Export iris…", "The iris as a picture, as an outline and as numbers", self.hand_on),
        )
        self.blades = number_field(
            "Blades", "count", 1.0, 0.0, 64.0, about="Number of iris blades; 0 is round"
        )
        self.bind(self.blades, lambda now: now.shot.iris.blades, self._take_blades)
        self.row("Blades", self.blades)
        self.roundness = self._number("Roundness", "roundness", "ratio", 0.05, 0.0, 1.0)
        self.rotation = self._number("Rotation", "rotation_deg", "°", 1.0, -360.0, 360.0)
        self.turn = self._number("Rotation per stop", "turn_per_stop_deg", "°", 1.0, -90.0, 90.0)
        self.rim = self._number("Edge brightness", "rim", "ratio", 0.1, -1.0, 1.0)
        self.squeeze = number_field(
            "Squeeze", "×", 0.1, 1.0, 4.0, about="Anamorphic squeeze: discs are this much taller than wide"
        )
        self.bind(
            self.squeeze, lambda now: now.glass.squeeze,
            lambda q: session.edit_glass(f"Squeeze {q:g}", squeeze=q),
        )  # fmt: skip
        self.row("Squeeze", self.squeeze)
        self.line()
        self.background = self.reading(
            "Background blur", 21, "farther",
            read=lambda now: f"{float(now.camera.blur_px(float('inf'))):.1f} px",
        )  # fmt: skip
        self.largest = self.reading("Softest subject", 21, "nearer", read=_largest)
        self.note("Disc height in delivered px. Changing the shape keeps the light of the f-number.")
        self.column.addStretch(1)

    def _number(self, label: str, field: str, unit: str, step: float, low: float, high: float) -> Field:
        name = _NAMES[field]
        made = number_field(name, unit, step, low, high, about=_ABOUT[field])
        self.bind(
            made, lambda now: getattr(now.shot.iris, field),
            lambda value: shaping.change_iris(self.session, _EDITS[field], **{field: value}),
        )  # fmt: skip
        self.row(label, made)
        return made

    # Presets

    def folder(self) -> Path:
        """Where own presets are kept."""
        return self.session.settings.folder / "presets"

    def presets(self) -> list[Preset]:
        """The shipped presets and the person's own; read anew where files came or went."""
        folder = self.folder()
        state = folder.stat().st_mtime_ns if folder.is_dir() else 0
        return self._presets.get((state,), lambda: [*OWN, *presets_in(folder, self.session.say)])

    def ask_keep(self) -> None:
        """Keep the shot's iris as a preset."""
        self.folder().mkdir(parents=True, exist_ok=True)
        start = self.folder() / f"My iris{SUFFIX}"
        path = ask_target(self, "Save preset", start, f"Presets (*{SUFFIX})", [SUFFIX])
        if path is not None:
            self.keep(path)

    def keep(self, path: Path) -> None:
        """Write the shot's iris as a preset; it is called as the file."""
        shot = self.session.shot
        if shot is None:
            return
        try:
            write_preset(path, preset_from(path.name.removesuffix(SUFFIX), shot))
        except KobrelError as error:
            self.session.say(str(error))
            return
        self.session.say(f"Saved as {path}")
        self.refresh()

    def ask_open(self) -> None:
        """Start from a preset in a file."""
        name, _ = QFileDialog.getOpenFileName(
            self, "Start from a preset", str(self.folder()), f"Presets (*{SUFFIX})"
        )
        if name:
            allow_chosen(self.session.settings, Path(name))
            self.open(Path(name))

    def open(self, path: Path) -> None:
        """Give the shot a preset from a file, or say what is wrong with it."""
        try:
            preset = read_preset(path)
        except KobrelError as error:
            self.session.say(str(error))
            return
        _give(self.session, preset, f"Iris: {preset.name}")

    def hand_on(self) -> "ExportIris":
        """Show the iris for others."""
        from kobrel.desk.cards.iris.export_iris import ExportIris

        made = ExportIris(self.session, self)
        made.show()
        return made

    def _take_blades(self, value: float) -> None:
        """Whole blades; from the circle up to three at once, from three down to the circle."""
        old = self.session.shot.iris.blades if self.session.shot else 0
        wanted = round(value)
        if wanted in (1, 2):
            wanted = 3 if old == 0 else 0
        shaping.change_iris(self.session, "Blades", blades=wanted)


@needs_now
def _give(session: Session, now: Now, preset: Preset, name: str) -> None:
    session.edit_shot(name, lambda shot: preset.given_to(shot, now.camera))


def _largest(now: Now) -> str:
    numbers, row = now.survey, now.row
    seen = numbers.sight.blur_px[numbers.state[:, row] != GONE, row]
    return f"{float(seen.max()):.1f} px" if len(seen) else "–"
