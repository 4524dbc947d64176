"""What the glass does, to read: limits of sharpness, blur, view, and what they suggest."""

import math

import numpy as np
from PySide6.QtWidgets import QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.glass.dof_table import DofTable
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import number_field
from kobrel.optics.units import METRES
from kobrel.plan.instrument import Criterion
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.limits import (
    breathing,
    criterion_text,
    field_m,
    models_differ,
    reads_as,
    surfaces_differ,
)
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

_CRITERIA = {"pixels": "Pixels", "millimetres": "mm on sensor (CoC)", "diagonal": "Sensor diagonal ÷"}
_CRITERION_DEFAULTS = {"pixels": 2.0, "millimetres": 0.025, "diagonal": 1500.0}
_MODEL_NOTES = {
    "render": "CG camera: angle of view does not change with focus (no breathing).",
    "thin": "A real lens: it breathes, and close focus magnifies.",
}
_PROJECTION_NOTES = {
    "orthographic": "Orthographic: blur is set by the light cone (Camera page).",
    "fisheye": "A fisheye: what counts is the straight distance from the lens.",
}
_SURFACE_NOTES = {
    "plane": "Distances are measured on axis.",
    "sphere": "Distances are straight-line from the lens.",
}
_READINGS = {
    "Hyperfocal": "Focused here, everything from half this distance to infinity is sharp.",
    "Blur at infinity": "Largest blur anything behind the focus can have",
    "Angle of view": "Horizontal × vertical, delivered frame",
    "Field of view at focus": "Width × height seen at the focus distance.",
    "Pixel size at focus": "Size of one delivered pixel at the focus distance.",
    "Magnification": "Size on the sensor against size in the scene, at the focus distance.",
    "Breathing": "Change of field width over the shot's pull.",
    "Reads as": "Miniature scale this depth of field suggests, compared with full frame at f/8",
}


class DepthOfFieldPage(ShotCard):
    """Limits, readings, and the table of all stops and distances."""

    name = "Depth of field"
    purpose = "Limits, hyperfocal distance, angles, and the table of stops and distances"
    is_page = True
    depends = AT_FRAME

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        length = session.length
        self.near = self.reading(
            "Near limit", 21, "nearer", "Nearest distance in focus.",
            lambda now: self.session.lengths(now.camera.limits_m)[0],
        )  # fmt: skip
        self.far = self.reading(
            "Far limit", 21, "farther", "Farthest distance in focus.",
            lambda now: self.session.lengths(now.camera.limits_m)[1],
        )  # fmt: skip
        self.sharp_depth = self.reading(
            "Depth of field", 21, "sharp", "From the near limit to the far limit.",
            lambda now: length(now.camera.sharp_depth_m),
        )  # fmt: skip
        self.counts = self.reading(
            "Sharpness limit", hint="Largest blur that counts as in focus: the circle of confusion.",
            read=lambda now: criterion_text(now.glass.criterion, now.camera),
        )  # fmt: skip
        self.column.addSpacing(6)
        self.small = {name: self.reading(name, hint=hint) for name, hint in _READINGS.items()}
        self.line()
        self.criterion = choice(
            "Unit of the sharpness limit", [(text, kind) for kind, text in _CRITERIA.items()],
            "Pixels at delivery, mm on the sensor, or a part of the sensor's diagonal", width=112,
        )  # fmt: skip
        self.criterion_value = number_field(
            "Sharpness limit",
            "px, mm or parts",
            0.1,
            1e-6,
            1e6,
            about="Largest blur that counts as in focus: the circle of confusion",
        )
        self.criterion_value.setFixedWidth(70)
        self.bind(
            self.criterion, lambda now: now.glass.criterion.kind,
            lambda kind: self._take_criterion(kind, _CRITERION_DEFAULTS[kind]),
        )  # fmt: skip
        self.bind(
            self.criterion_value, lambda now: now.glass.criterion.value,
            lambda value: self._take_criterion(self.criterion.currentData(), value),
        )  # fmt: skip
        self.row("Sharpness limit", self.criterion_value, self.criterion)
        self.model = choice(
            "Lens model",
            [("CG camera (no breathing)", "render"), ("Real lens (breathes)", "thin")],
            "CG camera: angle of view does not change with focus. Real lens: it breathes",
            190,
        )
        self.bind(
            self.model,
            lambda now: now.glass.model,
            lambda model: session.edit_glass("Lens model", model=model),
        )
        self.row("Lens model", self.model)
        self.surface = choice(
            "Focus surface", [("Plane", "plane"), ("Sphere", "sphere")],
            "Plane: distances on axis are in focus. Sphere: straight-line distances are",
        )  # fmt: skip
        self.bind(
            self.surface, lambda now: now.glass.surface,
            lambda surface: session.edit_glass("Focus surface", surface=surface),
        )  # fmt: skip
        self.row("Focus surface", self.surface)
        for box in (self.model, self.surface):
            self.enable_if(box, lambda now: now.camera.projection == "perspective")
        self.meaning = self.bind(self.note(), _meaning)
        self.differs = self.bind(self.note(), self._apart)
        self.show_if(self.differs, lambda now: bool(self._apart(now)), row=False)
        with self.fold("Table of stops and distances", opened=False) as self.table_fold:
            self.table = DofTable(session, exports)
            self.column.addWidget(self.table)
        self.column.addStretch(1)

    def _take_criterion(self, kind: str, value: float) -> None:
        self.session.edit_glass("Sharpness limit", criterion=Criterion(kind=kind, value=value))

    def _apart(self, now: Now) -> str:
        unit = self.session.unit
        if now.camera.projection != "perspective":
            return ""
        return " ".join([models_differ(now.camera, unit), surfaces_differ(now.camera, unit)])

    def show_more(self, subject: Now) -> None:
        for name, text in self._texts(subject.camera, breathing(subject.survey)).items():
            self.small[name].setText(text)

    def _texts(self, camera: Camera, breathes: float) -> dict[str, str]:
        session = self.session
        across, up = camera.view_angles_deg
        background = float(camera.blur_px(float("inf")))
        wide, tall = field_m(camera)
        scale = reads_as(camera)
        return {
            "Hyperfocal": session.length(float(camera.hyperfocal_m)),
            "Blur at infinity": f"{background:.1f} px, {background / camera.width_px:.1%} of width"
            if math.isfinite(background)
            else "unlimited",
            "Angle of view": f"{float(across):.1f}° × {float(up):.1f}°"
            if across > 0
            else "none, parallel rays",
            "Field of view at focus": f"{session.length(wide)} × {session.length(tall)}"
            if np.isfinite(wide)
            else "infinite",
            "Pixel size at focus": _small(wide / camera.width_px, session.unit.symbol),
            "Magnification": _ratio(float(camera.magnification)),
            "Breathing": f"{breathes:.2%} of width" if breathes >= 5e-5 else "none",
            "Reads as": "–" if np.isnan(scale) else "life size" if scale <= 1.05 else f"1 : {scale:.1f}",
        }


def _meaning(now: Now) -> str:
    note = _PROJECTION_NOTES.get(now.camera.projection)
    return note or f"{_MODEL_NOTES[now.glass.model]} {_SURFACE_NOTES[now.glass.surface]}"


def _small(metres: float, symbol: str) -> str:
    """A very small length, in millimetres or in inches where lengths are so."""
    if not np.isfinite(metres):
        return "–"
    return f"{metres / METRES['in']:.3g} in" if symbol in ("in", "ft") else f"{metres * 1000:.3g} mm"


def _ratio(magnification: float) -> str:
    return f"1 : {1 / magnification:.3g}" if magnification > 0 else "–"
