"""The shape of the iris: blades, rim, squeeze, and presets to start from."""

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFileDialog, QSizePolicy, QWidget

from kobrel.desk.cards.base import Card, choice
from kobrel.desk.fields import number_field
from kobrel.desk.look import look
from kobrel.desk.openings import opening_image
from kobrel.desk.paint import draw_text
from kobrel.desk.session import Session
from kobrel.errors import KobrelError
from kobrel.optics import iris as shapes
from kobrel.optics.opening import opening
from kobrel.plan.model import Shot
from kobrel.plan.presets import OWN, SUFFIX, Preset, preset_from, presets_in, read_preset, write_preset
from kobrel.plan.survey import GONE

if TYPE_CHECKING:
    from kobrel.desk.hand_on import HandOn


class IrisShapeView(QWidget):
    """The opening as its blur disc looks, large, with the round pupil of the same stop behind it."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(170)
        self.setAccessibleName("Shape of the iris")
        session.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(230, 180)

    def paintEvent(self, event: QPaintEvent) -> None:
        camera = self._session.camera
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().surround)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        if camera is None:
            return
        fan = shapes.outline(camera.turned_iris, camera.squeeze, points=720)
        reach = opening(camera.turned_iris, camera.squeeze).up
        radius = min(self.width(), self.height() - 28) * 0.40
        centre = QPointF(self.width() / 2, (self.height() - 20) / 2)
        box = QRectF(
            centre.x() - reach * radius, centre.y() - reach * radius, 2 * reach * radius, 2 * reach * radius
        )
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(box, opening_image(camera))
        painter.setPen(QPen(look().line, 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, radius, radius)
        painter.setPen(QPen(look().sharp, 1.5))
        painter.drawPolygon(QPolygonF([centre + QPointF(x, -y) * radius for x, y in fan]))
        text = f"entrance pupil {float(camera.pupil_mm):.1f} mm"
        if camera.squeeze > 1:
            text += f" high, {float(camera.pupil_mm) / camera.squeeze:.1f} mm wide"
        draw_text(painter, QPointF(self.width() / 2, self.height() - 10), text, look().quiet, 11, "centre")


class IrisShapePage(Card):
    """See the module."""

    name = "Shape"
    is_page = True
    below = "discs"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._presets: list[Preset] = []
        self._folder_state = -1
        self.shape_view = IrisShapeView(session)
        self.column.addWidget(self.shape_view, 1)
        self.preset = choice("Preset", [], "A shape to start from, with its flaws and squeeze", 160)
        self.preset.activated.connect(self._take_preset)
        self.row("Start from", self.preset)
        self.buttons(
            ("Keep …", "Keep this shape and its flaws as a preset of your own", self.ask_keep),
            ("Open …", "Start from a preset in a file", self.ask_open),
            ("Hand on …", "The iris as a picture, as an outline and as numbers", self.hand_on),
        )
        self.blades = number_field("Blades", "", 1.0, 0.0, 64.0)
        self.blades.setToolTip("Blades: 3 or more, 0 for a circle. Up and down keys or the wheel step it.")
        self.blades.taken.connect(self._take_blades)
        self.row("Blades", self.blades)
        self.roundness = number_field("Roundness", "", 0.05, 0.0, 1.0)
        self.roundness.setToolTip("Roundness of the blades: 0 is straight, 1 is a circle.")
        self.roundness.taken.connect(lambda v: self._take("Roundness", roundness=v))
        self.row("Roundness", self.roundness)
        self.rotation = number_field("Rotation", "°", 1.0, -360.0, 360.0)
        self.rotation.taken.connect(lambda v: self._take("Rotation of the iris", rotation_deg=v))
        self.row("Rotation", self.rotation)
        self.turn = number_field("Turn for each stop", "°", 1.0, -90.0, 90.0)
        self.turn.taken.connect(lambda v: self._take("Turn with the stop", turn_per_stop_deg=v))
        self.row("Turn a stop", self.turn)
        self.rim = number_field("Weight of the rim", "", 0.1, -1.0, 1.0)
        self.rim.setToolTip("Weight of the rim: +1 discs with a bright rim, -1 with a bright centre, 0 even.")
        self.rim.taken.connect(lambda v: self._take("Weight of the rim", rim=v))
        self.row("Rim", self.rim)
        self.squeeze = number_field("Squeeze", "×", 0.1, 1.0, 4.0)
        self.squeeze.taken.connect(lambda q: session.edit_glass(f"Squeeze {q:g}", squeeze=q))
        self.row("Squeeze", self.squeeze)
        self.line()
        self.background = self.reading("Far background", 21, "farther")
        self.largest = self.reading("Largest subject", 21, "nearer")
        self.note(
            "Height of the blur discs in pixels at delivery width. The outline keeps the area "
            "of the round pupil, so the f-number keeps its light."
        )
        self.column.addStretch(1)

    # Presets

    def folder(self) -> Path:
        """Where own presets are kept."""
        return Path(self.session.settings.fileName()).parent / "presets"

    def _show_presets(self, shot: Shot) -> None:
        """Fill the list where presets came or went; show the one that the shot has."""
        folder = self.folder()
        state = folder.stat().st_mtime_ns if folder.is_dir() else 0
        if self._folder_state != state:
            self._folder_state = state
            self._presets = [*OWN, *(preset for _path, preset in presets_in(folder))]
            self.preset.clear()
            for preset in self._presets:
                self.preset.addItem(preset.name, preset)
        here = next((i for i, preset in enumerate(self._presets) if preset.is_of(shot)), -1)
        self.preset.setCurrentIndex(here)

    def _take_preset(self) -> None:
        preset, camera = self.preset.currentData(), self.session.camera
        if camera is not None and isinstance(preset, Preset):
            self.session.edit_shot(f"Iris: {preset.name.lower()}", lambda shot: preset.given_to(shot, camera))

    def ask_keep(self) -> None:
        """Keep the shot's iris as a preset."""
        self.folder().mkdir(parents=True, exist_ok=True)
        start = str(self.folder() / f"My iris{SUFFIX}")
        name, _ = QFileDialog.getSaveFileName(self, "Keep as a preset", start, f"Presets (*{SUFFIX})")
        if name:
            self.keep(Path(name if name.endswith(SUFFIX) else name + SUFFIX))

    def keep(self, path: Path) -> None:
        """Write the shot's iris as a preset; it is called as the file."""
        shot = self.session.shot
        if shot is None:
            return
        try:
            write_preset(path, preset_from(path.name.removesuffix(SUFFIX), shot))
        except KobrelError as error:
            self.session.said.emit(str(error))
            return
        self.session.said.emit(f"Kept as {path}")
        self.refresh()

    def ask_open(self) -> None:
        """Start from a preset in a file."""
        name, _ = QFileDialog.getOpenFileName(
            self, "Start from a preset", str(self.folder()), f"Presets (*{SUFFIX})"
        )
        if name:
            self.open(Path(name))

    def open(self, path: Path) -> None:
        """Give the shot a preset from a file, or say what is wrong with it."""
        camera = self.session.camera
        try:
            preset = read_preset(path)
        except KobrelError as error:
            self.session.said.emit(str(error))
            return
        if camera is not None:
            self.session.edit_shot(f"Iris: {preset.name}", lambda shot: preset.given_to(shot, camera))

    def hand_on(self) -> "HandOn":
        """Show the iris for others."""
        from kobrel.desk.hand_on import HandOn

        made = HandOn(self.session, self)
        made.show()
        return made

    # Fields

    def _take(self, name: str, **changes: object) -> None:
        self.session.edit_shot(name, lambda shot: shot.but(iris=shot.iris.but(**changes)))

    def _take_blades(self, value: float) -> None:
        """Whole blades; from the circle up to three at once, from three down to the circle."""
        old = self.session.shot.iris.blades if self.session.shot else 0
        wanted = round(value)
        if wanted in (1, 2):
            wanted = 3 if old == 0 else 0
        self._take("Blades", blades=wanted)
        self.refresh()

    def refresh(self) -> None:
        shot, camera, numbers = self.session.shot, self.session.camera, self.session.survey
        self.setEnabled(shot is not None)
        if shot is None or camera is None or numbers is None:
            return
        self.blades.show_value(shot.iris.blades)
        self.roundness.show_value(shot.iris.roundness)
        self.rotation.show_value(shot.iris.rotation_deg)
        self.turn.show_value(shot.iris.turn_per_stop_deg)
        self.rim.show_value(shot.iris.rim)
        self._show_presets(shot)
        self.squeeze.show_value(shot.glass.squeeze)
        self.background.setText(f"{float(camera.blur_px(float('inf'))):.1f} px")
        seen = [
            float(blur)
            for blur, state in zip(
                numbers.sight.blur_px[:, self.session.row], numbers.state[:, self.session.row], strict=True
            )
            if state != GONE
        ]
        self.largest.setText(f"{max(seen):.1f} px" if seen else "–")
