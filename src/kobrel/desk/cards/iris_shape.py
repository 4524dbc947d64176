"""The shape of the iris: blades, rim, squeeze, and presets to start from."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QBrush, QPainter, QPaintEvent, QPen, QPolygonF, QRadialGradient
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.cards.base import Card, choice, choose
from kobrel.desk.fields import number_field
from kobrel.desk.look import faded, look
from kobrel.desk.paint import draw_text
from kobrel.desk.session import Session
from kobrel.optics import iris as shapes
from kobrel.plan.camera import Camera
from kobrel.plan.glass import front_stop
from kobrel.plan.instrument import Flaws
from kobrel.plan.model import Shot
from kobrel.plan.opening import IrisShape
from kobrel.plan.survey import GONE


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
        return QSize(230, 240)

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
        radius = min(self.width(), self.height() - 28) * 0.40
        centre = QPointF(self.width() / 2, (self.height() - 20) / 2)
        painter.setPen(QPen(look().line, 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, radius, radius)
        painter.setPen(QPen(look().sharp, 1.5))
        painter.setBrush(_light(centre, radius, camera.iris.rim))
        painter.drawPolygon(QPolygonF([centre + QPointF(x, -y) * radius for x, y in fan]))
        text = f"entrance pupil {float(camera.pupil_mm):.1f} mm"
        if camera.squeeze > 1:
            text += f" high, {float(camera.pupil_mm) / camera.squeeze:.1f} mm wide"
        draw_text(painter, QPointF(self.width() / 2, self.height() - 10), text, look().quiet, 11, "centre")


PRESETS: dict[str, tuple[dict[str, object], dict[str, object], float | None]] = {
    "Round": ({}, {}, None),
    "Six blades": ({"blades": 6, "rotation_deg": 15.0}, {}, None),
    "Nine soft blades": ({"blades": 9, "roundness": 0.6, "turn_per_stop_deg": 4.0}, {}, None),
    "Two times anamorphic": ({"rim": 0.2}, {}, 2.0),
    "Soap bubble": ({"rim": 0.9}, {"spherical_mm": -0.15}, None),
    "Creamy": ({"rim": -0.8}, {}, None),
    "Swirl": ({}, {"swirl_mm": 0.7, "front_stop": 0.45}, None),
    "Old portrait": ({"blades": 8, "roundness": 0.7}, {"colour_mm": 0.12, "front_stop": 0.3}, None),
}
"""Kobrel's own: fields of the shape and of the flaws, and a squeeze if it brings one. A front
stop is one plain amount.
"""


class IrisShapePage(Card):
    """See the module."""

    name = "Shape"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.shape_view = IrisShapeView(session)
        self.column.addWidget(self.shape_view, 1)
        self.preset = choice(
            "Preset",
            [(name, name) for name in PRESETS],
            "A shape to start from, with its flaws and squeeze",
            160,
        )
        self.preset.activated.connect(lambda _i: take_preset(session, self.preset.currentData()))
        self.row("Start from", self.preset)
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
        choose(self.preset, preset_of(shot, camera))
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


def _light(centre: QPointF, radius: float, rim: float) -> QBrush:
    """Brass, as bright from the centre outward as the rim's weight makes it."""
    ramp = QRadialGradient(centre, radius)
    for step in range(11):
        part = step / 10
        weight = 1 + rim * (2 * part * part - 1)
        ramp.setColorAt(part, faded(look().focus, 0.08 + 0.77 * weight / 2 if rim else 0.85))
    return QBrush(ramp)


def _preset(name: str, camera: Camera) -> tuple[IrisShape, Flaws, float | None]:
    shape, flaws, squeeze = PRESETS[name]
    made = dict(flaws)
    if "front_stop" in made:
        made["front_stop"] = front_stop(camera, float(str(made["front_stop"])))
    return IrisShape(**shape), Flaws(**made), squeeze


def take_preset(session: Session, name: str) -> None:
    """Start from one of the presets."""
    camera = session.camera
    if camera is None:
        return
    shape, flaws, squeeze = _preset(name, camera)
    session.edit_shot(
        f"Iris: {name.lower()}",
        lambda shot: shot.but(
            iris=shape, flaws=flaws, glass=shot.glass.but(squeeze=squeeze) if squeeze else shot.glass
        ),
    )


def preset_of(shot: Shot, camera: Camera) -> str | None:
    """The preset that a shot has, if any."""

    def plain(flaws: Flaws) -> tuple[object, ...]:
        return (flaws.colour_mm, flaws.swirl_mm, flaws.spherical_mm, flaws.front_stop is None)

    for name in PRESETS:
        shape, flaws, squeeze = _preset(name, camera)
        if shape == shot.iris and plain(flaws) == plain(shot.flaws) and squeeze in (None, shot.glass.squeeze):
            return name
    return None
