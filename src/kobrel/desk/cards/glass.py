"""Glass: sensor, lens, stop, and what they make sharp."""

import math

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card, choice, choose
from kobrel.desk.fields import length_field, number_field, stop_field
from kobrel.desk.scales import NEAREST_M
from kobrel.desk.session import Session
from kobrel.optics.exposure import ev_difference
from kobrel.optics.sensor import FORMATS, format_of
from kobrel.plan.model import Criterion, Sensor

_OWN = "own"

_CRITERIA = {"pixels": "pixels", "millimetres": "mm on sensor", "diagonal": "diagonal ÷"}
_CRITERION_DEFAULTS = {"pixels": 2.0, "millimetres": 0.025, "diagonal": 1500.0}
_MODEL_NOTES = {
    "render": "A render camera: the angle of view stays wherever it focuses.",
    "thin": "A real lens: it breathes, and close focus magnifies.",
}
_PROJECTION_NOTES = {
    "orthographic": "An orthographic view: its cone of light (Block, Camera) sets the blur, not the stop.",
    "fisheye": "A fisheye: what counts is the straight distance from the lens.",
}
_SURFACE_NOTES = {
    "plane": "What counts is the distance along the axis.",
    "sphere": "What counts is the straight distance from the lens.",
}


class GlassCard(Card):
    """See the module."""

    name = "Glass"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.focal = number_field("Focal length", "mm", 1.0, 1.0, 2000.0)
        self.focal.taken.connect(lambda mm: session.set_keyed(f"Focal length {mm:.4g} mm", "focal_mm", mm))
        self.row("Focal length", self.focal)
        self.stop = stop_field("Stop")
        self.stop.taken.connect(lambda n: session.set_keyed(f"Stop f/{n:.3g}", "f_number", n))
        self.row("Stop", self.stop)
        self.focus = length_field("Focus distance", lambda: session.unit, NEAREST_M, float("inf"))
        self.focus.taken.connect(session.focus_at_m)
        self.row("Focus", self.focus)
        self.format = choice(
            "Sensor format",
            [(f"{f.name}  {f.width_mm:g} × {f.height_mm:g}", f) for f in FORMATS] + [("Own size", _OWN)],
            "Sensor formats of the trade, width × height in mm",
            width=186,
        )
        self.format.activated.connect(self._take_format)
        self.row("Sensor", self.format)
        self.sensor_width = number_field("Sensor width", "mm", 0.1, 1.0, 400.0, digits=5)
        self.sensor_height = number_field("Sensor height", "mm", 0.1, 1.0, 400.0, digits=5)
        for field in (self.sensor_width, self.sensor_height):
            field.setFixedWidth(98)
            field.taken.connect(self._take_sensor)
        self.row("Size", self.sensor_width, self.sensor_height)
        self.squeeze = number_field("Squeeze", "×", 0.1, 1.0, 4.0)
        self.squeeze.taken.connect(lambda q: session.edit_glass(f"Squeeze {q:g}", squeeze=q))
        self.row("Squeeze", self.squeeze)
        self.delivery = number_field("Delivery width", "px", 64, 16, 32768, digits=6)
        self.delivery.taken.connect(
            lambda w: session.edit_shot(f"Delivery {w:.0f} px", lambda s: s.but(width_px=round(w)))
        )
        self.row("Delivery", self.delivery)
        self.criterion = choice(
            "Sharp up to, in", [(text, kind) for kind, text in _CRITERIA.items()],
            "How the largest blur still called sharp is given", width=112,
        )  # fmt: skip
        self.criterion.activated.connect(self._take_criterion_kind)
        self.criterion_value = number_field("Sharp up to", "", 0.1, 1e-6, 1e6)
        self.criterion_value.setFixedWidth(70)
        self.criterion_value.taken.connect(
            lambda v: session.edit_glass(
                "Criterion", criterion=Criterion(kind=self.criterion.currentData(), value=v)
            )
        )
        self.row("Sharp up to", self.criterion_value, self.criterion)
        self.model = choice("Lens model", [("Render camera", "render"), ("Real lens", "thin")], "Lens model")
        self.model.activated.connect(
            lambda _i: session.edit_glass("Lens model", model=self.model.currentData())
        )
        self.row("Lens model", self.model)
        self.surface = choice("Focus surface", [("Plane", "plane"), ("Sphere", "sphere")], "Focus surface")
        self.surface.activated.connect(
            lambda _i: session.edit_glass("Focus surface", surface=self.surface.currentData())
        )
        self.row("Focus surface", self.surface)
        self.meaning = self.note()
        self.line()
        self.near = self.reading("Sharp from", 21, "nearer")
        self.far = self.reading("Sharp to", 21, "farther")
        self.sharp_depth = self.reading("Sharp depth", 21, "sharp")
        self.column.addSpacing(6)
        self.small = {
            name: self.reading(name)
            for name in ("Hyperfocal", "Pupil", "Far background", "View angle", "Magnification", "Light")
        }
        self.column.addStretch(1)

    def _take_format(self) -> None:
        size = self.format.currentData()
        if size != _OWN:
            self.session.edit_glass(
                f"Sensor {size.name}", sensor=Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
            )

    def _take_sensor(self) -> None:
        sensor = Sensor(width_mm=self.sensor_width.value, height_mm=self.sensor_height.value)
        self.session.edit_glass("Sensor size", sensor=sensor)

    def _take_criterion_kind(self) -> None:
        kind = self.criterion.currentData()
        self.session.edit_glass("Criterion", criterion=Criterion(kind=kind, value=_CRITERION_DEFAULTS[kind]))

    def refresh(self) -> None:
        session = self.session
        shot, camera = session.shot, session.camera
        self.setEnabled(shot is not None)
        if shot is None or camera is None:
            return
        glass = shot.glass
        self.focal.show_value(float(camera.focal_mm))
        self.stop.show_value(float(camera.f_number))
        self.focus.show_value(float(camera.focus_m))
        choose(self.format, format_of(glass.sensor.width_mm, glass.sensor.height_mm) or _OWN)
        self.sensor_width.show_value(glass.sensor.width_mm)
        self.sensor_height.show_value(glass.sensor.height_mm)
        self.squeeze.show_value(glass.squeeze)
        self.delivery.show_value(shot.width_px)
        self.criterion_value.show_value(glass.criterion.value)
        choose(self.criterion, glass.criterion.kind)
        choose(self.model, glass.model)
        choose(self.surface, glass.surface)
        for field in (self.focal, self.stop):
            field.setEnabled(camera.projection != "orthographic")
        self.surface.setEnabled(camera.projection == "perspective")
        self.model.setEnabled(camera.projection == "perspective")
        note = _PROJECTION_NOTES.get(camera.projection)
        self.meaning.setText(note or f"{_MODEL_NOTES[glass.model]} {_SURFACE_NOTES[glass.surface]}")
        near, far = (float(limit) for limit in camera.limits_m)
        self.near.setText(session.length(near))
        self.far.setText(session.length(far))
        self.sharp_depth.setText(session.length(far - near))
        across, up = camera.view_angles_deg
        background = float(camera.blur_px(float("inf")))
        loss = float(ev_difference(camera.f_number, camera.effective_f_number))
        values = {
            "Hyperfocal": session.length(float(camera.hyperfocal_m)),
            "Pupil": f"{float(camera.pupil_mm):.2f} mm",
            "Far background": f"{background:.1f} px, {background / camera.width_px:.1%} of width"
            if math.isfinite(background)
            else "grows without end",
            "View angle": f"{float(across):.1f}° × {float(up):.1f}°" if across > 0 else "none, parallel rays",
            "Magnification": _ratio(float(camera.magnification)),
            "Light": f"as f/{float(camera.effective_f_number):.3g}"
            + (f", −{loss:.2f} EV" if loss > 0.005 else ""),
        }
        for name, text in values.items():
            self.small[name].setText(text)


def _ratio(magnification: float) -> str:
    return f"1 : {1 / magnification:.3g}" if magnification > 0 else "–"
