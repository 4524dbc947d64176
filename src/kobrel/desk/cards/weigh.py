"""Weighing: the maps of trade-offs, and what another sensor would need for the same picture."""

from PySide6.QtWidgets import QWidget

from kobrel.desk import choosing
from kobrel.desk.cards.base import Card, choice
from kobrel.desk.fields import number_field
from kobrel.desk.session import Session
from kobrel.optics.sensor import FORMATS
from kobrel.plan import glass as glasses
from kobrel.plan.glass import Match
from kobrel.plan.instrument import Sensor


class WeighPage(Card):
    """While it is seen, the maps stand in the chart's room."""

    name = "Weigh"
    is_page = True
    below = "maps"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.note(
            "The maps below weigh the stop against the focal length, and against the focus. A click takes "
            "a point: with another focal length the camera moves, so that the subject keeps its size."
        )
        self.subject = self.reading("Keeps its size", hint="The chosen subject, or else what is in focus.")
        self.background = self.reading("Far background", 21, "farther", "Blur of the far background here.")
        self.sharp_depth = self.reading("Sharp depth", 21, "sharp", "From the near limit to the far limit.")
        self.line()
        self.note("The same picture on another sensor: same framing, same blur.")
        self.format = choice(
            "Other sensor",
            [(f"{f.name}  {f.width_mm:g} × {f.height_mm:g}", f) for f in FORMATS],
            "The sensor to match this picture on, width × height in mm",
            width=186,
        )
        self.format.setCurrentIndex([f.name for f in FORMATS].index("Full frame"))
        self.format.activated.connect(lambda _i: self.refresh())
        self.row("Other sensor", self.format)
        self.squeeze = number_field("Squeeze of the other lens", "×", 0.1, 1.0, 4.0)
        self.squeeze.show_value(1.0)
        self.squeeze.taken.connect(lambda _q: self.refresh())
        self.row("Its squeeze", self.squeeze)
        self.focal = self.reading("Focal length", 21, hint="Same angle of view across the delivered frame.")
        self.stop = self.reading("Stop", 21, hint="Same pupil, and so the same blur in the picture.")
        self.iso = self.reading("Sensitivity", 21, hint="Makes up for the stop, at the same shutter.")
        self.cannot = self.note()
        self.take = self.buttons(("Take these", "Set sensor, lens, stop and ISO so", self._take))[0]
        self.column.addStretch(1)

    def _match(self) -> Match | None:
        shot, camera, size = self.session.shot, self.session.camera, self.format.currentData()
        if shot is None or camera is None or camera.projection == "orthographic":
            return None
        sensor = Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
        return glasses.match(shot, camera, sensor, self.squeeze.value)

    def _take(self) -> None:
        found, squeeze, frame = self._match(), self.squeeze.value, self.session.frame
        if found is not None:
            name = f"Match on {self.format.currentText().split('  ')[0]}"
            self.session.edit_shot(name, lambda s: glasses.matched(s, found, squeeze, frame))

    def refresh(self) -> None:
        session, camera = self.session, self.session.camera
        self.setEnabled(camera is not None)
        if camera is None:
            return
        number = choosing.subject_kept(session)
        subject = session.plan.subject(number) if number is not None else None
        self.subject.setText(f"{number} {subject.name}" if subject else "what is in focus")
        background = float(camera.blur_px(float("inf")))
        self.background.setText(f"{background:.1f} px")
        near, far = (float(limit) for limit in camera.limits_m)
        self.sharp_depth.setText(session.length(far - near))
        found = self._match()
        self.take.setEnabled(found is not None)
        if found is None:
            self.cannot.setText("An orthographic view has no lens to match.")
            return
        self.focal.setText(f"{found.focal_mm:.3g} mm")
        self.stop.setText(f"f/{found.f_number:.3g}")
        self.iso.setText(f"ISO {found.iso:.0f}")
        self.cannot.setText(" ".join(found.cannot) or "Everything matches.")
