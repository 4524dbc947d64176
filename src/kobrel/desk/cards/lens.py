"""The lens of the Glass card: sensor, frame, lens, focal length, stop and focus."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from kobrel.desk import choosing
from kobrel.desk.cards.base import Card, choice, choose, give_role
from kobrel.desk.fields import length_field, narrow, number_field, place_field, stop_field
from kobrel.desk.scales import NEAREST_M
from kobrel.desk.session import Session
from kobrel.errors import PlanError
from kobrel.optics.sensor import FORMATS, format_of
from kobrel.optics.units import scene_measure
from kobrel.plan.instrument import Delivery, Lens, Sensor
from kobrel.plan.lenses import SUFFIXES, Kit
from kobrel.plan.stand_ins import number_of

_OWN = "own"
_ASPECTS = (1.33, 1.5, 1.66, 1.78, 1.85, 2.0, 2.2, 2.39)


class LensPage(Card):
    """See the module."""

    name = "Lens"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._kits: list[Kit] = []
        self._held: Lens | None = None
        self._build_sensor()
        self.line()
        self._build_lens()
        self.line()
        self._build_stop()
        self.column.addStretch(1)

    def _build_sensor(self) -> None:
        session = self.session
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
        self.keeps = choice(
            "When the sensor changes",
            [("the lens stays", False), ("the framing stays", True)],
            "What stays when the sensor changes: the focal length, or what is seen across the picture",
            width=148,
        )
        self.keeps.activated.connect(
            lambda _i: choosing.set_keeps_framing(session, bool(self.keeps.currentData()))
        )
        self.row("When it changes", self.keeps)
        self.aspect = choice(
            "Delivered frame",
            [("whole sensor", 0.0), *((f"{a:.2f} : 1", a) for a in _ASPECTS), ("own", -1.0)],
            "Width over height of what is delivered; the rest of the sensor is darkened in Picture",
            width=124,
        )
        self.aspect.activated.connect(self._take_aspect)
        self.own_aspect = narrow(number_field("Delivered frame, width over height", "", 0.01, 0.0, 20.0))
        self.own_aspect.taken.connect(lambda a: self._deliver(aspect=a))
        self.row("Frame, w ÷ h", self.own_aspect, self.aspect)
        self.fit = choice(
            "How the frame fits",
            [("inside the sensor", "inside"), ("as wide", "width"), ("as high", "height")],
            "How the delivered frame lies on the sensor",
            width=148,
        )
        self.fit.activated.connect(lambda _i: self._deliver(fit=self.fit.currentData()))
        self.row("It lies", self.fit)
        self.delivery = number_field("Delivery width", "px", 64, 16, 32768, digits=6)
        self.delivery.taken.connect(
            lambda w: session.edit_shot(f"Delivery {w:.0f} px", lambda s: s.but(width_px=round(w)))
        )
        self.row("Delivery", self.delivery)

    def _build_lens(self) -> None:
        session = self.session
        self.kit = choice("Kit of lenses", [], "Kits of lenses; add your own as JSON or CSV", width=186)
        self.kit.activated.connect(self._take_kit)
        self.row("Kit", self.kit)
        self.lens = choice("Lens", [], "A lens of the kit: its closest focus and stops", width=186)
        self.lens.activated.connect(lambda _i: choosing.set_lens(session, self.lens.currentData()))
        self.row("Lens", self.lens)
        self.doubt = self.note()
        give_role(self.doubt, "wrong")
        self.able, self.widest = self.buttons(
            ("Take another", "Take the nearest lens of the kit that can", self._take_able),
            ("Stop it can", "Take the nearest stop that the lens has", self._take_widest),
        )
        self.focal = number_field("Focal length", "mm", 1.0, 1.0, 2000.0)
        self.focal.taken.connect(lambda mm: session.set_keyed(f"Focal length {mm:.4g} mm", "focal_mm", mm))
        self.row("Focal length", self.focal)
        self.keeping = choice(
            "When the focal length changes",
            [("the camera stays", ""), ("size stays, here", "frame"), ("size stays, all along", "move")],
            "Whether the camera moves along its axis so that a subject keeps its size: "
            "as it is at this frame, or at each frame of the move",
            width=148,
        )
        self.keeping.activated.connect(lambda _i: choosing.set_keeping(session, self.keeping.currentData()))
        self.row("When it changes", self.keeping)
        self.ahead = place_field("Camera moved ahead", lambda: session.unit)
        self.ahead.taken.connect(
            lambda m: session.edit_shot(f"Camera {session.length(m)} ahead", lambda s: s.but(ahead_m=m))
        )
        self.row("Camera ahead", self.ahead)
        self.moved = self.note()
        self.squeeze = number_field("Squeeze", "×", 0.1, 1.0, 4.0)
        self.squeeze.taken.connect(lambda q: session.edit_glass(f"Squeeze {q:g}", squeeze=q))
        self.row("Squeeze", self.squeeze)

    def _build_stop(self) -> None:
        session = self.session
        self.stop = stop_field("Stop", lambda: session.stop_steps)
        self.stop.taken.connect(lambda n: session.set_keyed(f"Stop f/{n:.3g}", "f_number", n))
        self.stop.setFixedWidth(76)
        self.steps = choice(
            "Stops go by",
            [("full", "full"), ("half", "half"), ("third", "third"), ("free", "free")],
            "What stops are taken when you step or drag: full, half or third stops, or any",
            width=72,
        )
        self.steps.activated.connect(lambda _i: session.set_stop_steps(self.steps.currentData()))
        self.row("Stop, steps", self.stop, self.steps)
        self.focus = length_field("Focus distance", lambda: session.unit, NEAREST_M, float("inf"))
        self.focus.taken.connect(session.focus_at_m)
        self.row("Focus", self.focus)
        self.transmission = number_field("Transmission of the lens", "%", 1.0, 1.0, 100.0)
        self.transmission.taken.connect(
            lambda p: session.edit_glass(f"Transmission {p:g} %", transmission=p / 100)
        )
        self.row("Transmission", self.transmission)
        self.t_stop = self.reading(
            "T-stop", hint="The stop as the light counts it: f-number ÷ √transmission."
        )
        self.pupil = self.reading(
            "Pupil", hint="Diameter of the entrance pupil, focal length ÷ f-number: it makes the blur."
        )
        self.radius = self.reading(
            "Aperture radius",
            hint="Half the pupil in scene units, which is what some renderers call the aperture.",
        )
        self.sharp_depth = self.reading(
            "Sharp depth", 21, "sharp", "From the near limit to the far limit of what is sharp."
        )
        self.between = self.reading("Sharp", hint="Near and far limit, and up to which blur that counts.")

    # Hands

    def _take_format(self) -> None:
        size = self.format.currentData()
        if size != _OWN:
            sensor = Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
            choosing.set_sensor(self.session, f"Sensor {size.name}", sensor)

    def _take_sensor(self) -> None:
        sensor = Sensor(width_mm=self.sensor_width.value, height_mm=self.sensor_height.value)
        choosing.set_sensor(self.session, "Sensor size", sensor)

    def _take_aspect(self) -> None:
        aspect = float(self.aspect.currentData())
        if aspect >= 0:
            self._deliver(aspect=aspect)
        else:
            self.own_aspect.setVisible(True)
            self.own_aspect.setFocus()
            self.own_aspect.selectAll()

    def _deliver(self, **changes: object) -> None:
        shot = self.session.shot
        if shot is not None:
            delivery = shot.glass.delivery.but(**changes)
            self.session.edit_glass("Delivered frame", delivery=delivery)

    def _take_kit(self) -> None:
        if self.kit.currentData() is None:
            self.ask_kit()
        self._show_lenses()

    def ask_kit(self) -> None:
        """Ask for a file of lenses."""
        pattern = " ".join(f"*{suffix}" for suffix in SUFFIXES)
        name, _ = QFileDialog.getOpenFileName(self, "Add a kit of lenses", "", f"Kits of lenses ({pattern})")
        if name:
            self.add_kit(Path(name))

    def add_kit(self, path: Path) -> None:
        """Take a kit from a file, and say what is wrong with it if anything is."""
        try:
            kit = choosing.add_kit(self.session, path)
        except PlanError as error:
            self.session.said.emit(str(error))
            return
        self._kits = []
        self._show_kits(kit.kit)
        self._show_lenses()
        self.session.said.emit(f"{kit.kit}: {len(kit.lenses)} lenses.")

    def _take_able(self) -> None:
        kit = self.kit.currentData()
        able = choosing.able_lens(self.session, kit) if kit is not None else None
        if able is not None:
            choosing.set_lens(self.session, able)

    def _take_widest(self) -> None:
        session, shot = self.session, self.session.shot
        lens = shot.glass.lens if shot else None
        camera = session.camera
        if lens is not None and camera is not None:
            stop = min(max(float(camera.f_number), lens.widest), lens.narrowest)
            session.set_keyed(f"Stop f/{stop:.3g}", "f_number", stop)

    # Showing

    def refresh(self) -> None:
        session = self.session
        shot, camera = session.shot, session.camera
        self.setEnabled(shot is not None)
        if shot is None or camera is None:
            return
        glass = shot.glass
        choose(self.format, format_of(glass.sensor.width_mm, glass.sensor.height_mm) or _OWN)
        self.sensor_width.show_value(glass.sensor.width_mm)
        self.sensor_height.show_value(glass.sensor.height_mm)
        choose(self.keeps, choosing.keeps_framing(session))
        self._show_delivery(glass.delivery)
        self.delivery.show_value(shot.width_px)
        self._show_kits()
        self._show_lenses()
        self._show_doubts()
        self.focal.show_value(float(camera.focal_mm))
        self._show_keeping()
        self.squeeze.show_value(glass.squeeze)
        self.stop.show_value(float(camera.f_number))
        choose(self.steps, session.stop_steps)
        self.focus.show_value(float(camera.focus_m))
        self.transmission.show_value(glass.transmission * 100)
        for field in (self.focal, self.stop):
            field.setEnabled(camera.projection != "orthographic")
        self.t_stop.setText(f"T{float(camera.t_stop):.3g}")
        pupil = float(camera.pupil_mm)
        self.pupil.setText(f"{pupil:.2f} mm")
        files = [s.unit_m for name, s in session.stage.scenes.items() if number_of(name) is None]
        unit = scene_measure(files[0] if files else 1.0)
        self.radius.setText(f"{pupil / 2000.0 / unit.metres:.4g} {unit.symbol}")
        near, far = (float(limit) for limit in camera.limits_m)
        self.sharp_depth.setText(session.length(far - near))
        self.between.setText(f"{session.length(near)} – {session.length(far)}, up to {camera.coc_px:.3g} px")

    def _show_delivery(self, delivery: Delivery) -> None:
        known = next((a for a in (0.0, *_ASPECTS) if abs(a - delivery.aspect) < 1e-6), -1.0)
        choose(self.aspect, known)
        self.own_aspect.show_value(delivery.aspect)
        self.own_aspect.setVisible(known < 0)
        self.show_row(self.fit, delivery.aspect > 0)
        choose(self.fit, delivery.fit)

    def _show_kits(self, wanted: str = "") -> None:
        """Fill the list of kits the first time, and after one was added; another lens on the camera
        turns to its kit.
        """
        shot = self.session.shot
        own = shot.glass.lens if shot else None
        if self._kits:
            holder = next((kit for kit in self._kits if own in kit.lenses), None)
            if own != self._held and holder is not None:
                self.kit.setCurrentIndex(self._kits.index(holder))
            self._held = own
            return
        self._kits, problems = choosing.kits(self.session)
        self._held = own
        self.kit.clear()
        for kit in self._kits:
            self.kit.addItem(kit.kit, kit)
        self.kit.addItem("Add a kit …", None)
        names = [kit.kit for kit in self._kits]
        holding = next((kit.kit for kit in self._kits if own in kit.lenses), names[0])
        self.kit.setCurrentIndex(names.index(wanted or holding))
        for problem in problems:
            self.session.said.emit(problem)

    def _show_lenses(self) -> None:
        shot = self.session.shot
        kit = self.kit.currentData()
        own = shot.glass.lens if shot else None
        lenses: list[tuple[str, Lens | None]] = [("none in particular", None)]
        lenses += [(_lens_text(lens), lens) for lens in (kit.lenses if kit else ())]
        if own is not None and own not in [lens for _, lens in lenses]:
            lenses.insert(1, (_lens_text(own), own))
        if [self.lens.itemText(i) for i in range(self.lens.count())] != [text for text, _ in lenses]:
            self.lens.clear()
            for text, lens in lenses:
                self.lens.addItem(text, lens)
            self.lens.view().setMinimumWidth(330)
        self.lens.blockSignals(True)
        self.lens.setCurrentIndex([lens for _, lens in lenses].index(own))
        self.lens.blockSignals(False)

    def _show_doubts(self) -> None:
        session, shot = self.session, self.session.shot
        found = choosing.doubts(session)
        self.doubt.setVisible(bool(found))
        self.doubt.setText("\n".join(found))
        lens, camera, kit = shot.glass.lens if shot else None, session.camera, self.kit.currentData()
        able = choosing.able_lens(session, kit) if found and kit is not None else None
        self.able.setVisible(bool(found) and able is not None)
        if able is not None:
            self.able.setText(f"Take {able.name}")
        wrong = (
            lens is not None
            and camera is not None
            and not lens.widest * 0.999 <= float(camera.f_number) <= lens.narrowest * 1.001
        )
        self.widest.setVisible(wrong)
        if lens is not None and camera is not None and wrong:
            stop = min(max(float(camera.f_number), lens.widest), lens.narrowest)
            self.widest.setText(f"Take f/{stop:.3g}")

    def _show_keeping(self) -> None:
        session, shot = self.session, self.session.shot
        keeps = shot.keeps if shot else None
        self.ahead.show_value(shot.ahead_m if shot else 0.0)
        choose(self.keeping, "" if keeps is None else "move" if keeps.frame is None else "frame")
        moved = choosing.moved_ahead_m(session)
        text = ""
        if abs(moved) > 5e-4:
            text = f"Camera {session.length(abs(moved))} {'nearer' if moved > 0 else 'farther back'}"
        if keeps is not None:
            subject = session.plan.subject(keeps.subject)
            name = f"{keeps.subject} {subject.name}" if subject else "a missing subject"
            text = f"{text or 'Camera not moved yet'}: {name} keeps its size."
        self.moved.setText(text)
        self.moved.setVisible(bool(text))


def _lens_text(lens: Lens) -> str:
    squeeze = f", squeeze {lens.squeeze:g}" if lens.squeeze > 1 else ""
    return f"{lens.name}  f/{lens.widest:g}, from {lens.close_focus_m:g} m{squeeze}"
