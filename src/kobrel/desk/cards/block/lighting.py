"""The light of the Block card: a key light by its direction, the sky or a picture all about."""

import math
from pathlib import Path
from typing import get_args

from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import Field, narrow, number_field
from kobrel.desk.toolkit.gesture import Drag, Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import draw_text
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.look import Light, Surfaces, Surround
from kobrel.session import settings
from kobrel.session.commands import blocking
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME
from kobrel.session.session import Session
from kobrel.stage.pictures.environment import SUFFIXES

KINDS = f"Environment maps ({' '.join(f'*{suffix}' for suffix in SUFFIXES)})"


@guarded
class KeyDial(GestureWidget):
    """The sky seen from beneath: the rim is the horizon, the middle straight up; drag the light.

    Up is the way the camera looks, so that a light at the bottom comes from behind it.
    """

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setFixedSize(QSize(132, 132))
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Direction of the key light")
        self.setToolTip(
            "Key light direction: edge = horizon, centre = overhead, top = ahead of the camera (back "
            "light). Drag or use arrow keys"
        )
        session.watch(AT_FRAME, self.update)

    def _facing_deg(self) -> float:
        camera = self._session.camera
        if camera is None:
            return 180.0
        ahead = -camera.pose[:3, 2]
        return math.degrees(math.atan2(float(ahead[0]), float(ahead[2])))

    def place(self) -> QPointF:
        """Where the light stands on the dial."""
        light = self._session.plan.light
        out = 54 * (1 - max(light.key_elevation_deg, 0.0) / 90)
        angle = math.radians(self._facing_deg() - light.key_azimuth_deg)
        return QPointF(66 + out * math.sin(angle), 66 - out * math.cos(angle))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle, light = QPointF(66, 66), self._session.plan.light
        painter.setPen(QPen(theme().focus if self.hasFocus() else theme().line, 1.4))
        painter.setBrush(theme().raised)
        painter.drawEllipse(middle, 54, 54)
        painter.setPen(QPen(theme().line, 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for out in (18, 36):
            painter.drawEllipse(middle, out, out)
        painter.setPen(QPen(theme().quiet, 1.2))
        painter.drawPolyline([middle + QPointF(-14, -30), middle, middle + QPointF(14, -30)])
        at = self.place()
        painter.setPen(QPen(faded(theme().focus, 0.7), 1))
        painter.drawLine(at, middle)
        painter.setBrush(theme().focus if light.key_elevation_deg >= 0 else theme().base)
        painter.setPen(QPen(theme().focus, 1.6))
        painter.drawEllipse(at, 6, 6)
        draw_text(painter, QPointF(66, 129), "behind the camera", theme().quiet, 11, "centre")

    def press(self, event: QMouseEvent) -> Gesture | None:
        self.setFocus()
        return _TurnKey(self._session, self)

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def take(self, at: QPointF) -> None:
        """Let the light come from a place on the dial."""
        x, y = at.x() - 66, 66 - at.y()
        azimuth = self._facing_deg() - math.degrees(math.atan2(x, y))
        self._set(azimuth, 90 * (1 - min(math.hypot(x, y) / 54, 1.0)))

    def _set(self, azimuth: float, elevation: float) -> None:
        azimuth = round((azimuth + 180) % 360 - 180, 1)
        blocking.light(
            self._session, "Key light", key_azimuth_deg=azimuth, key_elevation_deg=round(elevation, 1)
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: (5, 0), Qt.Key.Key_Right: (-5, 0),
            Qt.Key.Key_Up: (0, 5), Qt.Key.Key_Down: (0, -5),
        }  # fmt: skip
        step = steps.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        light = self._session.plan.light
        self._set(light.key_azimuth_deg + step[0], min(max(light.key_elevation_deg + step[1], -90.0), 90.0))


class _TurnKey(Drag):
    """Turns the key light on the dial."""

    def __init__(self, session: Session, dial: KeyDial) -> None:
        super().__init__(session)
        self._dial = dial

    def begin(self, at: QPointF) -> None:
        super().begin(at)
        self._dial.take(at)

    def move(self, at: QPointF, keys: Keys) -> None:
        self._dial.take(at)


class LightPage(Card[Light]):
    """The light of the Block card: a key light by its direction, the sky or a picture all about."""

    name = "Lighting"
    purpose = "Key light, sky and environment map"
    is_page = True
    depends = (Document.plan, Document.library, Document.stage)

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._files = files
        self.dial = KeyDial(session)
        line = QHBoxLayout()
        line.addStretch(1)
        line.addWidget(self.dial)
        line.addStretch(1)
        self.column.addLayout(line)
        self.azimuth = narrow(
            self.field_of("light.key_azimuth_deg", "Key light, azimuth", 5.0, (-360.0, 360.0))
        )
        self.elevation = narrow(self.field_of("light.key_elevation_deg", "Key light, elevation", 5.0))
        self.row("Azimuth, elevation", self.azimuth, self.elevation)
        self.strength = self.number("light.key_strength", "Key light", 0.1, unit="×")
        self.sky = self.number("light.sky_strength", "Sky", 0.1, unit="×")
        self.exposure = self.number("light.exposure_ev", "View exposure", 0.1, (-60.0, 60.0))
        self.surfaces = choice(
            "Surfaces", [(name.capitalize(), name) for name in get_args(Surfaces)],
            "Full: reflections and lights. Plain: faster. Clay: grey",
        )  # fmt: skip
        self.bind(
            self.surfaces, lambda light: light.surfaces,
            lambda kind: blocking.light(session, f"Surfaces {kind}", surfaces=kind),
        )  # fmt: skip
        self.row("Shading", self.surfaces)
        self.line()
        self.note("Environment map (HDRI): lights the scene in place of the sky.")
        self.picture = self.bind(self.note(), self._picture)
        self.choose, self.remove, self.find_key = self.buttons(
            ("Choose…", "Choose an environment map (HDRI, equirectangular)", self.ask),
            ("Remove", "Remove environment map", lambda: blocking.light(session, "Sky", surround=None)),
            ("Key from HDRI", "Aim the key light from the HDRI's brightest spot", self._find_key),
        )
        self.rotation = number_field(
            "Rotation of the picture",
            "°",
            5.0,
            -3600.0,
            3600.0,
            about="Rotates the environment map about the vertical",
        )
        self._bind_surround(self.rotation, "rotation_deg")
        self.row("Rotation", self.rotation)
        self.about = number_field(
            "HDRI exposure", "EV", 0.5, -20.0, 20.0, about="Brightens or darkens the environment map"
        )
        self._bind_surround(self.about, "exposure_ev")
        self.row("Exposure", self.about)
        for widget in (self.remove, self.find_key, self.rotation, self.about):
            self.enable_if(widget, lambda light: light.surround is not None)
        self.column.addStretch(1)

    def subject(self) -> Light | None:
        """See :class:`Card`."""
        return self.session.plan.light

    def _bind_surround(self, field: Field, what: str) -> None:
        self.bind(
            field,
            lambda light: getattr(light.surround or Surround(path=""), what),
            lambda value: blocking.surround(self.session, **{what: value}),
        )

    def _picture(self, light: Light) -> str:
        if light.surround is None:
            return "None (sky is used)"
        path = light.surround.path
        return self.session.library.problems.get(path) or Path(path).name

    def ask(self) -> None:
        """Let the person choose a picture."""
        name, _ = QFileDialog.getOpenFileName(self, "Choose an environment map", self._files.folder(), KINDS)
        if name:
            self.light_with(Path(name))

    def light_with(self, path: Path) -> None:
        """Light the scene with an environment map."""
        settings.allow_chosen(self.session.settings, path)
        blocking.light(self.session, "Environment map", surround=Surround(path=str(path)))

    def _find_key(self) -> None:
        about, surround = self.session.stage.environment, self.session.plan.light.surround
        if about is not None and surround is not None:
            azimuth, elevation = about.brightest_deg()
            azimuth = round((azimuth + surround.rotation_deg + 180) % 360 - 180, 1)
            blocking.light(
                self.session, "Key light", key_azimuth_deg=azimuth, key_elevation_deg=round(elevation, 1)
            )
