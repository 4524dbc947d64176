"""Weighing: the maps of trade-offs, and what another sensor would need for the same picture."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import number_field
from kobrel.optics.sensor import FORMATS
from kobrel.plan import glass as glasses
from kobrel.plan.glass import Match
from kobrel.plan.instrument import Sensor
from kobrel.session.commands import lens_choice
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session


class TradeOffsPage(ShotCard):
    """While it is seen, the maps stand in the chart's room."""

    name = "Trade-offs"
    purpose = "Maps of stop against focal length and focus; match another sensor"
    is_page = True
    below = "maps"
    depends = (*AT_FRAME, Selection.subject)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.note(
            "Maps of stop vs. focal length and stop vs. focus. Click a point to use it; the camera "
            "dollies to hold subject size."
        )
        self.kept = self.reading(
            "Hold size of", hint="Selected subject, else whatever is in focus.", read=self._kept
        )
        self.background = self.reading(
            "Background blur", 21, "farther", "Blur at infinity at this frame.",
            lambda now: f"{float(now.camera.blur_px(float('inf'))):.1f} px",
        )  # fmt: skip
        self.sharp_depth = self.reading(
            "Depth of field", 21, "sharp", "From the near limit to the far limit.",
            lambda now: session.length(now.camera.sharp_depth_m),
        )  # fmt: skip
        self.line()
        self.note("Match this shot on another sensor")
        self.format = choice(
            "Other sensor",
            [(f"{f.name}  {f.width_mm:g} × {f.height_mm:g}", f) for f in FORMATS],
            "The sensor to match this picture on, width × height in mm",
            width=186,
        )
        self.format.setCurrentIndex([f.name for f in FORMATS].index("Full frame"))
        self.format.activated.connect(lambda _i: self.refresh())
        self.row("Other sensor", self.format)
        self.squeeze = number_field(
            "Squeeze of the other lens",
            "×",
            0.1,
            1.0,
            4.0,
            about="Anamorphic squeeze of the lens on the other sensor",
        )
        self.squeeze.show_value(1.0)
        self.squeeze.taken.connect(lambda _q: self.refresh())
        self.row("Squeeze there", self.squeeze)
        self.focal = self.reading("Focal length", 21, hint="Same angle of view across the delivered frame.")
        self.stop = self.reading("Stop", 21, hint="Same pupil, and so the same blur in the picture.")
        self.iso = self.reading(
            "Sensitivity", 21, hint="ISO that compensates for the stop at the same shutter."
        )
        self.cannot = self.note()
        self.take = self.buttons(("Apply match", "Apply this sensor, lens, stop and ISO", self._take_match))[
            0
        ]
        self.column.addStretch(1)

    def _kept(self, now: Now) -> str:
        number = lens_choice.subject_kept(self.session)
        subject = now.plan.subject(number) if number is not None else None
        return f"{number} {subject.name}" if subject else "what is in focus"

    def _match(self, now: Now) -> Match | None:
        if now.camera.projection == "orthographic":
            return None
        size = self.format.currentData()
        sensor = Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
        return glasses.match(now.shot, now.camera, sensor, self.squeeze.value)

    def _take_match(self) -> None:
        now = self.session.now
        found, squeeze = self._match(now) if now else None, self.squeeze.value
        if now is not None and found is not None:
            name = f"Match on {self.format.currentText().split('  ')[0]}"
            self.session.edit_shot(name, lambda s: glasses.matched(s, found, squeeze, now.frame))

    def show_more(self, subject: Now) -> None:
        found = self._match(subject)
        self.take.setEnabled(found is not None)
        if found is None:
            self.cannot.setText("An orthographic view has no lens to match.")
            return
        self.focal.setText(f"{found.focal_mm:.3g} mm")
        self.stop.setText(f"f/{found.f_number:.3g}")
        self.iso.setText(f"ISO {found.iso:.0f}")
        self.cannot.setText(" ".join(found.cannot) or "Everything matches.")
