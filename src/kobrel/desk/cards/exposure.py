"""The light of the Glass card: exposure kept or coupled to the stop, and what makes up for it."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import Card, choice, choose
from kobrel.desk.fields import number_field
from kobrel.desk.session import Session
from kobrel.plan import glass as glasses
from kobrel.plan.glass import MakeUp
from kobrel.plan.instrument import Exposure

_NOTES = {
    True: "The picture keeps its brightness: something else makes up for the stop. "
    "The difference is what that has to be.",
    False: "The picture darkens and brightens with the stop, as a real camera does.",
}
_NO_EV = 0.005


class ExposurePage(Card):
    """See the module."""

    name = "Light"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.kept = choice(
            "Exposure",
            [("kept", True), ("coupled to the stop", False)],
            "Whether the picture keeps its brightness when the stop changes, for this shot",
            width=160,
        )
        self.kept.activated.connect(lambda _i: self._change("Exposure", kept=self.kept.currentData()))
        self.row("Exposure", self.kept)
        self.meaning = self.note()
        self.line()
        self.off = self.reading(
            "Against metered", 26, "focus",
            "How much brighter (+) or darker (−) the camera records than was metered, in EV (stops).",
        )  # fmt: skip
        self.records = self.reading("Recorded at", hint="T-stop at this frame, close focus included.")
        self.line()
        self.iso = number_field("Sensitivity", "ISO", 100.0, 1.0, 1e6, digits=6)
        self.iso.taken.connect(lambda v: self._change(f"ISO {v:.0f}", iso=v))
        self.row("Sensitivity", self.iso)
        self.shutter = number_field("Shutter angle", "°", 5.0, 0.1, 360.0)
        self.shutter.taken.connect(lambda v: self._change(f"Shutter {v:.4g}°", shutter_deg=v))
        self.row("Shutter angle", self.shutter)
        self.density = number_field("Neutral density", "stops", 0.3, 0.0, 20.0)
        self.density.taken.connect(lambda v: self._change(f"ND {v:.3g} stops", nd_stops=v))
        self.row("Neutral density", self.density)
        self.line()
        self.makes_up = self.note("What makes it up, a click each:")
        self.by: dict[MakeUp, object] = {}
        self.by_iso, self.by_shutter, self.by_density = self.buttons(
            ("ISO", "Take back the difference by the sensitivity", lambda: self._make_up("iso")),
            ("Shutter", "Take back the difference by the shutter", lambda: self._make_up("shutter_deg")),
            ("ND", "Take back the difference by neutral density", lambda: self._make_up("nd_stops")),
        )
        self.cannot = self.note()
        self.meter = self.buttons(
            ("Meter here", "Call right what is recorded now, at this frame", self._meter),
        )[0]
        self.column.addStretch(1)

    def _change(self, name: str, /, **changes: object) -> None:
        self.session.edit_shot(name, lambda s: s.but(exposure=s.exposure.but(**changes)))

    def _take(self, name: str, exposure: Exposure) -> None:
        self.session.edit_shot(name, lambda s: s.but(exposure=exposure))

    def _off_ev(self) -> float:
        camera = self.session.camera
        return float(camera.off_ev) if camera is not None else 0.0

    def _make_up(self, by: MakeUp) -> None:
        shot = self.session.shot
        made = glasses.made_up(shot.exposure, self._off_ev(), by) if shot else None
        if made is not None:
            self._take("Exposure made up", made)

    def _meter(self) -> None:
        shot = self.session.shot
        if shot is not None:
            self._take("Meter here", glasses.metered(shot.exposure, self._off_ev()))

    def refresh(self) -> None:
        shot, camera = self.session.shot, self.session.camera
        self.setEnabled(shot is not None)
        if shot is None or camera is None:
            return
        exposure, off = shot.exposure, float(camera.off_ev)
        choose(self.kept, exposure.kept)
        self.meaning.setText(_NOTES[exposure.kept])
        self.off.setText(ev_text(off))
        self.records.setText(f"T{float(camera.t_stop):.3g}, f/{float(camera.f_number):.3g}")
        self.iso.show_value(exposure.iso)
        self.shutter.show_value(exposure.shutter_deg)
        self.density.show_value(exposure.nd_stops)
        differs = abs(off) > _NO_EV
        iso, shutter, density = (
            glasses.made_up(exposure, off, by) for by in ("iso", "shutter_deg", "nd_stops")
        )
        self.makes_up.setText("What makes it up, a click each:" if differs else "Nothing has to be made up.")
        for button, made, text in (
            (self.by_iso, iso, f"ISO {iso.iso:.0f}" if iso else ""),
            (self.by_shutter, shutter, f"{shutter.shutter_deg:.4g}°" if shutter else ""),
            (self.by_density, density, f"ND {density.nd_stops:.2f}" if density else ""),
        ):
            button.setVisible(differs and made is not None)
            button.setText(text)
        wants = []
        if differs and shutter is None:
            wants.append(
                f"The shutter would have to be open {exposure.shutter_deg * 2**-off:.0f}°, more than 360°."
            )
        if differs and density is None:
            wants.append("There is not so much neutral density to take away.")
        self.cannot.setText(" ".join(wants))
        self.cannot.setVisible(bool(wants))
        self.meter.setEnabled(differs)


def ev_text(ev: float) -> str:
    """A difference in stops, with its sign."""
    return "±0 EV" if abs(ev) <= _NO_EV else f"{ev:+.2f} EV".replace("-", "−")
