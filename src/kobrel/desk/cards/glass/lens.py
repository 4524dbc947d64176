"""The lens of the Glass card: sensor, frame, lens, focal length, stop and focus."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice, give_role
from kobrel.desk.toolkit.fields import length_field, narrow, number_field, place_field, stop_field
from kobrel.errors import PlanError
from kobrel.optics.sensor import FORMATS, SensorFormat, format_of
from kobrel.optics.units import scene_measure
from kobrel.plan.glass import lens_doubts
from kobrel.plan.instrument import Lens, Sensor
from kobrel.plan.lens_sets.lenses import SUFFIXES, LensSet
from kobrel.plan.measure.survey import NEAREST_M
from kobrel.plan.names import is_of_a_file
from kobrel.session.commands import focusing, lens_choice
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View

_OWN, _OWN_ASPECT = "own", -1.0
_ASPECTS = (1.33, 1.5, 1.66, 1.78, 1.85, 2.0, 2.2, 2.39)


class LensPage(ShotCard):
    """The lens of the Glass card: sensor, frame, lens, focal length, stop and focus."""

    name = "Lens"
    purpose = "Sensor, lens, stop and focus distance"
    is_page = True
    depends = (*AT_FRAME, Document.dragging, View.stop_steps, Selection.subject)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._lens_sets: list[LensSet] = []
        self._held: Lens | None = None
        self._build_sensor()
        self._build_delivery()
        self.line()
        self._build_lens()
        self.line()
        self._build_stop()
        self._build_readings()
        self.column.addStretch(1)

    def _build_sensor(self) -> None:
        session = self.session
        self.format = choice(
            "Sensor format",
            [(f"{f.name}  {f.width_mm:g} × {f.height_mm:g}", f) for f in FORMATS] + [("Custom", _OWN)],
            "Standard sensor formats, width × height in mm",
            width=186,
        )
        self.bind(self.format, _format, self._take_format)
        self.row("Sensor", self.format)
        self.sensor_width = number_field(
            "Sensor width",
            "mm",
            0.1,
            1.0,
            400.0,
            digits=5,
            about="Width of the sensor; sets the angle of view and the blur",
        )
        self.sensor_height = number_field(
            "Sensor height", "mm", 0.1, 1.0, 400.0, digits=5, about="Height of the sensor"
        )
        self.bind(self.sensor_width, lambda now: now.glass.sensor.width_mm, self._take_sensor)
        self.bind(self.sensor_height, lambda now: now.glass.sensor.height_mm, self._take_sensor)
        for field in (self.sensor_width, self.sensor_height):
            field.setFixedWidth(98)
        self.row("Size", self.sensor_width, self.sensor_height)
        self.keeps = choice(
            "When the sensor changes",
            [("Focal length", False), ("Framing", True)],
            "Hold focal length or framing when the sensor changes",
            width=126,
        )
        self.bind(
            self.keeps, lambda now: lens_choice.keeps_framing(session),
            lambda keeps: lens_choice.set_keeps_framing(session, keeps),
        )  # fmt: skip
        self.row("On sensor change, hold", self.keeps)

    def _build_delivery(self) -> None:
        session = self.session
        self.aspect = choice(
            "Delivered frame",
            [
                ("Open gate", 0.0),
                *((f"{a:.2f} : 1", a) for a in _ASPECTS),
                ("own", _OWN_ASPECT),
            ],
            "Delivered aspect ratio; the rest of the sensor is dimmed in Picture",
            width=124,
        )
        self.own_aspect = narrow(
            number_field(
                "Delivered frame, width over height",
                "ratio",
                0.01,
                0.0,
                20.0,
                about="Aspect ratio of the delivered frame, width ÷ height; 0 is open gate",
            )
        )
        self.bind(self.own_aspect, lambda now: now.glass.delivery.aspect, lambda a: self._deliver(aspect=a))
        self.show_if(self.own_aspect, lambda now: _known_aspect(now) == _OWN_ASPECT, row=False)
        self.bind(self.aspect, _known_aspect)
        self.aspect.activated.connect(self._take_aspect)
        self.row("Aspect ratio", self.own_aspect, self.aspect)
        self.fit = choice(
            "How the frame fits",
            [("Inside", "inside"), ("Fit width", "width"), ("Fit height", "height")],
            "How the frame fits the sensor",
            width=148,
        )
        self.bind(self.fit, lambda now: now.glass.delivery.fit, lambda fit: self._deliver(fit=fit))
        self.row("Fit", self.fit)
        self.show_if(self.fit, lambda now: now.glass.delivery.aspect > 0)
        self.delivery = number_field(
            "Delivery width",
            "px",
            64,
            16,
            32768,
            digits=6,
            about="Width of the delivered image; blur in pixels is counted at it",
        )
        self.bind(
            self.delivery, lambda now: now.shot.width_px,
            lambda w: session.edit_shot(f"Delivery {w:.0f} px", lambda s: s.replace(width_px=round(w))),
        )  # fmt: skip
        self.row("Delivery width", self.delivery)

    def _build_lens(self) -> None:
        session = self.session
        self.kit = choice("Lens set", [], "Lens sets; add your own as JSON or CSV", width=186)
        self.kit.activated.connect(self._add_lens_set)
        self.row("Lens set", self.kit)
        self.lens = choice("Lens", [], "Lens of the set: its closest focus and stops", width=186)
        self.bind(
            self.lens, lambda now: now.glass.lens, lambda lens: lens_choice.set_lens(session, lens),
            self._lenses,
        )  # fmt: skip
        self.lens.view().setMinimumWidth(330)
        self.row("Lens", self.lens)
        self.doubt = self.note()
        give_role(self.doubt, "wrong")
        self.able, self.widest = self.buttons(
            ("Nearest lens that can", "Switch to the nearest lens in the set that can", self._take_able),
            ("Nearest stop", "Set the nearest stop that the lens has", self._take_widest),
        )
        self.focal = number_field("Focal length", "mm", 1.0, 1.0, 2000.0, about="Focal length of the lens")
        self.bind(
            self.focal, lambda now: float(now.camera.focal_mm),
            lambda mm: session.set_keyed(f"Focal length {mm:.4g} mm", "focal_mm", mm),
        )  # fmt: skip
        self.row("Focal length", self.focal)
        self.keeping = choice(
            "When the focal length changes",
            [
                ("Camera position", ""),
                ("Subject size (this frame)", "frame"),
                ("Subject size (whole shot, dolly zoom)", "move"),
            ],
            "Dolly the camera so the subject keeps its size in frame",
            width=148,
        )
        self.bind(self.keeping, _keeping, lambda how: lens_choice.set_keeping(session, how))
        self.row("On zoom, hold", self.keeping)
        self.ahead = place_field(
            "Dolly offset",
            lambda: session.unit,
            about="Moves the shot's camera along its axis; negative is back",
        )
        self.bind(
            self.ahead, lambda now: now.shot.ahead_m,
            lambda m: session.edit_shot(f"Camera {session.length(m)} ahead", lambda s: s.replace(ahead_m=m)),
        )  # fmt: skip
        self.row("Dolly offset", self.ahead)
        self.moved = self.bind(self.note(), self._moved)
        self.show_if(self.moved, lambda now: bool(self.moved.text()), row=False)
        self.squeeze = number_field(
            "Squeeze", "×", 0.1, 1.0, 4.0, about="Anamorphic squeeze of the lens; 1 is spherical"
        )
        self.bind(
            self.squeeze, lambda now: now.glass.squeeze,
            lambda q: session.edit_glass(f"Squeeze {q:g}", squeeze=q),
        )  # fmt: skip
        self.row("Squeeze", self.squeeze)
        self.shift_x = narrow(
            number_field(
                "Lens shift across", "mm", 1.0, -500.0, 500.0, about="Shifts the image sideways on the sensor"
            )
        )
        self.shift_y = narrow(
            number_field(
                "Lens shift up", "mm", 1.0, -500.0, 500.0, about="Shifts the image upward on the sensor"
            )
        )
        self.bind(
            self.shift_x, lambda now: now.glass.shift_mm[0],
            lambda x: session.edit_glass("Lens shift", shift_mm=(x, self.shift_y.value)),
        )  # fmt: skip
        self.bind(
            self.shift_y, lambda now: now.glass.shift_mm[1],
            lambda y: session.edit_glass("Lens shift", shift_mm=(self.shift_x.value, y)),
        )  # fmt: skip
        self.row("Shift", self.shift_x, self.shift_y)
        self.show_if(self.shift_x, lambda now: any(now.glass.shift_mm))

    def _build_stop(self) -> None:
        session = self.session
        self.stop = stop_field(
            "Stop",
            lambda: session.view.stop_steps,
            about="f-number of the lens; a larger one gives more depth of field",
        )
        self.bind(
            self.stop, lambda now: float(now.camera.f_number),
            lambda n: session.set_keyed(f"Stop f/{n:.3g}", "f_number", n),
        )  # fmt: skip
        self.stop.setFixedWidth(76)
        for field in (self.focal, self.stop):
            self.enable_if(field, lambda now: now.camera.projection != "orthographic")
        self.steps = choice(
            "Stops go by",
            [("Full", "full"), ("Half", "half"), ("Third", "third"), ("Any", "free")],
            "Step size of the stop",
            width=72,
        )
        self.bind(self.steps, lambda now: session.view.stop_steps, session.setter(View.stop_steps))
        self.row("Stop · step", self.stop, self.steps)
        self.focus = length_field(
            "Focus distance",
            lambda: session.unit,
            NEAREST_M,
            float("inf"),
            about="Focus distance on axis, at this frame",
        )
        self.bind(
            self.focus, lambda now: float(now.camera.focus_m), lambda m: focusing.focus_at_m(session, m)
        )
        self.row("Focus", self.focus)
        self.transmission = number_field(
            "Transmission of the lens",
            "%",
            1.0,
            1.0,
            100.0,
            about="Light that the lens lets through; T-stop = f-number ÷ √transmission",
        )
        self.bind(
            self.transmission, lambda now: now.glass.transmission * 100,
            lambda p: session.edit_glass(f"Transmission {p:g} %", transmission=p / 100),
        )  # fmt: skip
        self.row("Transmission", self.transmission)

    def _build_readings(self) -> None:
        length = self.session.length
        self.t_stop = self.reading(
            "T-stop", hint="Effective stop for exposure: f-number ÷ √transmission",
            read=lambda now: f"T{float(now.camera.t_stop):.3g}",
        )  # fmt: skip
        self.pupil = self.reading(
            "Entrance pupil", hint="Entrance pupil diameter (focal length ÷ f-number); it sets the blur.",
            read=lambda now: f"{float(now.camera.pupil_mm):.2f} mm",
        )  # fmt: skip
        self.radius = self.reading(
            "Aperture radius",
            hint="Half the pupil in scene units, which is what some renderers call the aperture.",
            read=_radius,
        )
        self.sharp_depth = self.reading(
            "Depth of field", 21, "sharp", "From the near limit to the far limit of what is sharp.",
            lambda now: length(now.camera.sharp_depth_m),
        )  # fmt: skip
        self.between = self.reading(
            "In focus", hint="Near and far limit at the sharpness limit in px",
            read=lambda now: f"{' – '.join(self.session.lengths(now.camera.limits_m))}, "
            f"up to {now.camera.coc_px:.3g} px",
        )  # fmt: skip

    # Choosing

    def _take_format(self, size: SensorFormat | str) -> None:
        if isinstance(size, SensorFormat):
            sensor = Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
            lens_choice.set_sensor(self.session, f"Sensor {size.name}", sensor)

    def _take_sensor(self, _mm: float) -> None:
        sensor = Sensor(width_mm=self.sensor_width.value, height_mm=self.sensor_height.value)
        lens_choice.set_sensor(self.session, "Sensor size", sensor)

    def _take_aspect(self) -> None:
        aspect = float(self.aspect.currentData())
        if aspect >= 0:
            self._deliver(aspect=aspect)
        else:
            self.own_aspect.setVisible(True)
            self.own_aspect.setFocus()
            self.own_aspect.selectAll()

    def _deliver(self, **changes: object) -> None:
        lens_choice.deliver(self.session, **changes)

    def _add_lens_set(self) -> None:
        if self.kit.currentIndex() == self.kit.count() - 1:
            self.kit.setCurrentIndex(0)
            self.ask_lens_set()
        self.refresh()

    @property
    def _chosen_lens_set(self) -> LensSet | None:
        kit = self.kit.currentData()
        return kit if isinstance(kit, LensSet) else None

    def ask_lens_set(self) -> None:
        """Ask for a file of lenses."""
        pattern = " ".join(f"*{suffix}" for suffix in SUFFIXES)
        name, _ = QFileDialog.getOpenFileName(self, "Add a lens set", "", f"Lens sets ({pattern})")
        if name:
            self.add_lens_set(Path(name))

    def add_lens_set(self, path: Path) -> None:
        """Take a lens set from a file, and say what is wrong with it if anything is."""
        try:
            kit = lens_choice.add_lens_set(self.session, path)
        except PlanError as error:
            self.session.say(str(error))
            return
        self._lens_sets = []
        self._show_lens_sets(kit.kit)
        self.refresh()
        self.session.say(f"{kit.kit}: {len(kit.lenses)} lenses.")

    def _take_able(self) -> None:
        kit = self._chosen_lens_set
        able = lens_choice.able_lens(self.session, kit) if kit is not None else None
        if able is not None:
            lens_choice.set_lens(self.session, able)

    def _take_widest(self) -> None:
        lens_choice.take_able_stop(self.session)

    # Showing

    def refresh(self) -> None:
        if self.subject() is not None:
            self._show_lens_sets()
        super().refresh()

    def show_more(self, subject: Now) -> None:
        session, kit = self.session, self._chosen_lens_set
        found = lens_doubts(subject.shot, subject.survey)
        self.doubt.setVisible(bool(found))
        self.doubt.setText("\n".join(found))
        able = lens_choice.able_lens(session, kit) if found and kit is not None else None
        self.able.setVisible(able is not None)
        if able is not None:
            self.able.setText(f"Use {able.name}")
        stop = lens_choice.able_stop(session)
        self.widest.setVisible(stop is not None)
        if stop is not None:
            self.widest.setText(f"Use f/{stop:.3g}")

    def _show_lens_sets(self, wanted: str = "") -> None:
        """Fill the list of lens sets the first time, and after one was added; another lens on the camera
        turns to its lens set.
        """
        shot = self.session.shot
        own = shot.glass.lens if shot else None
        if self._lens_sets:
            holder = next((kit for kit in self._lens_sets if own in kit.lenses), None)
            if own != self._held and holder is not None:
                self.kit.setCurrentIndex(1 + self._lens_sets.index(holder))
            self._held = own
            return
        self._lens_sets, problems = lens_choice.lens_sets(self.session)
        self._held = own
        self.kit.clear()
        self.kit.addItem("None")
        for kit in self._lens_sets:
            self.kit.addItem(kit.kit, kit)
        self.kit.addItem("Add a lens set…", None)
        names = ["", *(kit.kit for kit in self._lens_sets)]
        holding = next((kit.kit for kit in self._lens_sets if own in kit.lenses), "")
        self.kit.setCurrentIndex(names.index(wanted or holding))
        for problem in problems:
            self.session.say(problem)

    def _lenses(self, now: Now) -> list[tuple[str, object]]:
        kit, own = self._chosen_lens_set, now.glass.lens
        lenses = [*kit.lenses] if kit else []
        if own is not None and own not in lenses:
            lenses.insert(0, own)
        return [("Generic", None), *((_lens_text(lens), lens) for lens in lenses)]

    def _moved(self, now: Now) -> str:
        session, keeps = self.session, now.shot.keeps
        moved = lens_choice.moved_ahead_m(now)
        text = ""
        if abs(moved) > 5e-4:
            text = f"Camera {session.length(abs(moved))} {'forward' if moved > 0 else 'back'}"
        if keeps is not None:
            subject = session.plan.subject(keeps.subject)
            name = f"{keeps.subject} {subject.name}" if subject else "a missing subject"
            text = f"{text or 'Camera not moved yet'} · holds the size of {name}"
        return text


def _format(now: Now) -> object:
    sensor = now.glass.sensor
    return format_of(sensor.width_mm, sensor.height_mm) or _OWN


def _known_aspect(now: Now) -> float:
    aspect = now.glass.delivery.aspect
    return next((known for known in (0.0, *_ASPECTS) if abs(known - aspect) < 1e-6), _OWN_ASPECT)


def _keeping(now: Now) -> str:
    keeps = now.shot.keeps
    return "" if keeps is None else "move" if keeps.frame is None else "frame"


def _radius(now: Now) -> str:
    files = [scene.unit_m for name, scene in now.stage.scenes.items() if is_of_a_file(name)]
    unit = scene_measure(files[0] if files else 1.0)
    return f"{float(now.camera.pupil_radius_m) / unit.metres:.4g} {unit.symbol}"


def _lens_text(lens: Lens) -> str:
    squeeze = f", squeeze {lens.squeeze:g}" if lens.squeeze > 1 else ""
    return f"{lens.name}  f/{lens.widest:g}, from {lens.close_focus_m:g} m{squeeze}"
