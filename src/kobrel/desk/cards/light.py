"""The light of the Block card: a key light by its direction, the sky or a picture all about."""

import math
from pathlib import Path

from PySide6.QtCore import QPointF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QWidget

from kobrel.desk.cards.base import Card
from kobrel.desk.fields import narrow, number_field
from kobrel.desk.look import faded, look
from kobrel.desk.paint import draw_text
from kobrel.desk.scene_files import SceneFiles
from kobrel.desk.session import Session
from kobrel.plan.model import Light, Surround
from kobrel.stage.environment import SUFFIXES

KINDS = f"Pictures all about ({' '.join(f'*{suffix}' for suffix in SUFFIXES)})"


class KeyDial(QWidget):
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
            "Where the key light comes from: the rim is the horizon, the middle straight up, the top "
            "what the camera faces. Drag it, or use the arrow keys."
        )
        session.changed.connect(self.update)

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
        painter.setPen(QPen(look().focus if self.hasFocus() else look().line, 1.4))
        painter.setBrush(look().raised)
        painter.drawEllipse(middle, 54, 54)
        painter.setPen(QPen(look().line, 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for out in (18, 36):
            painter.drawEllipse(middle, out, out)
        painter.setPen(QPen(look().quiet, 1.2))
        painter.drawPolyline([middle + QPointF(-14, -30), middle, middle + QPointF(14, -30)])
        at = self.place()
        painter.setPen(QPen(faded(look().focus, 0.7), 1))
        painter.drawLine(at, middle)
        painter.setBrush(look().focus if light.key_elevation_deg >= 0 else look().base)
        painter.setPen(QPen(look().focus, 1.6))
        painter.drawEllipse(at, 6, 6)
        draw_text(painter, QPointF(66, 129), "behind the camera", look().quiet, 11, "centre")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        self._session.begin_drag()
        self._take(event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._take(event.position())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._session.end_drag()

    def _take(self, at: QPointF) -> None:
        x, y = at.x() - 66, 66 - at.y()
        azimuth = self._facing_deg() - math.degrees(math.atan2(x, y))
        self._set(azimuth, 90 * (1 - min(math.hypot(x, y) / 54, 1.0)))

    def _set(self, azimuth: float, elevation: float) -> None:
        plan = self._session.plan
        azimuth = round((azimuth + 180) % 360 - 180, 1)
        light = plan.light.but(key_azimuth_deg=azimuth, key_elevation_deg=round(elevation, 1))
        self._session.edit("Key light", plan.but(light=light))

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


class LightPage(Card):
    """See the module."""

    name = "Light"
    is_page = True

    def __init__(self, session: Session, files: SceneFiles, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._files = files
        self.dial = KeyDial(session)
        line = QHBoxLayout()
        line.addStretch(1)
        line.addWidget(self.dial)
        line.addStretch(1)
        self.column.addLayout(line)
        self.azimuth = number_field("Key light, azimuth", "°", 5.0, -360.0, 360.0)
        self.elevation = number_field("Key light, elevation", "°", 5.0, -90.0, 90.0)
        for field in (self.azimuth, self.elevation):
            narrow(field)
        self.azimuth.taken.connect(lambda d: self._change("Key light", key_azimuth_deg=d))
        self.elevation.taken.connect(lambda d: self._change("Key light", key_elevation_deg=d))
        self.row("Azimuth, elevation", self.azimuth, self.elevation)
        self.strength = number_field("Strength of the key light", "×", 0.1, 0.0, 1000.0)
        self.strength.taken.connect(lambda s: self._change("Key light", key_strength=s))
        self.row("Key light", self.strength)
        self.sky = number_field("Strength of the sky", "×", 0.1, 0.0, 1000.0)
        self.sky.taken.connect(lambda s: self._change("Sky", sky_strength=s))
        self.row("Sky", self.sky)
        self.exposure = number_field("Exposure of the view", "EV", 0.1, -20.0, 20.0)
        self.exposure.taken.connect(lambda ev: self._change("Exposure", exposure_ev=ev))
        self.row("Exposure of the view", self.exposure)
        self.clay = self.tick(
            "Clay",
            "Draw all surfaces in one grey, lights as they are",
            lambda on: self._change("Clay", clay=on),
        )
        self.line()
        self.note("A picture all about, HDR or EXR, as background and light in place of the sky.")
        self.picture = self.note()
        self.choose, self.remove, self.find_key = self.buttons(
            ("Choose …", "Choose an equirectangular picture", self.ask),
            ("Remove", "Back to the sky", lambda: self._change("Sky", surround=None)),
            ("Key from it", "Turn the key light to the picture's brightest spot", self._find_key),
        )
        self.rotation = number_field("Rotation of the picture", "°", 5.0, -3600.0, 3600.0)
        self.rotation.taken.connect(lambda d: self._change_surround(rotation_deg=d))
        self.row("Rotation", self.rotation)
        self.about = number_field("Exposure of the picture", "EV", 0.5, -20.0, 20.0)
        self.about.taken.connect(lambda ev: self._change_surround(exposure_ev=ev))
        self.row("Exposure", self.about)
        self.column.addStretch(1)

    @property
    def _light(self) -> Light:
        return self.session.plan.light

    def _change(self, name: str, **changes: object) -> None:
        self.session.edit(name, self.session.plan.but(light=self._light.but(**changes)))

    def _change_surround(self, **changes: object) -> None:
        if self._light.surround is not None:
            self._change("Picture all about", surround=self._light.surround.but(**changes))

    def ask(self) -> None:
        """Let the person choose a picture."""
        name, _ = QFileDialog.getOpenFileName(self, "Choose a picture", self._files.folder(), KINDS)
        if name:
            self._change("Picture all about", surround=Surround(path=name))

    def _find_key(self) -> None:
        about, surround = self.session.stage.environment, self._light.surround
        if about is not None and surround is not None:
            azimuth, elevation = about.brightest_deg()
            azimuth = round((azimuth + surround.rotation_deg + 180) % 360 - 180, 1)
            self._change("Key light", key_azimuth_deg=azimuth, key_elevation_deg=round(elevation, 1))

    def refresh(self) -> None:
        light = self._light
        self.azimuth.show_value(light.key_azimuth_deg)
        self.elevation.show_value(light.key_elevation_deg)
        self.strength.show_value(light.key_strength)
        self.sky.show_value(light.sky_strength)
        self.exposure.show_value(light.exposure_ev)
        self.clay.setChecked(light.clay)
        surround = light.surround
        problem = self.session.library.problems.get(surround.path) if surround else None
        self.picture.setText(problem or (Path(surround.path).name if surround else "None: the sky lights."))
        for widget in (self.remove, self.find_key, self.rotation, self.about):
            widget.setEnabled(surround is not None)
        if surround is not None:
            self.rotation.show_value(surround.rotation_deg)
            self.about.show_value(surround.exposure_ev)
