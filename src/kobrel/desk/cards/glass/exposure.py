"""The light of the Glass card: exposure kept or coupled to the stop, and what makes up for it."""

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import number_field
from kobrel.plan import glass as glasses
from kobrel.plan.glass import MakeUp
from kobrel.plan.instrument import Exposure
from kobrel.session.needs import needs_now
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

_NOTES = {
    True: "Brightness is held; the difference below must come from ISO, shutter or ND.",
    False: "The picture darkens and brightens with the stop, as a real camera does.",
}
_NO_EV = 0.005


class ExposurePage(ShotCard):
    """The light of the Glass card: exposure kept or coupled to the stop, and what makes up for it."""

    name = "Exposure"
    purpose = "ISO, shutter, ND, and what compensates for the stop"
    is_page = True
    depends = AT_FRAME

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.kept = choice(
            "Exposure",
            [("Constant", True), ("Follows the stop", False)],
            "Hold brightness when the stop changes (this shot)",
            width=160,
        )
        self.bind(
            self.kept, lambda now: now.shot.exposure.kept, lambda kept: self._change("Exposure", kept=kept)
        )
        self.row("Exposure", self.kept)
        self.meaning = self.bind(self.note(), lambda now: _NOTES[now.shot.exposure.kept])
        self.line()
        self.off = self.reading(
            "Over/under", 26, "focus",
            "Over (+) or under (−) the metered exposure, in stops",
            lambda now: ev_text(float(now.camera.off_ev)),
        )  # fmt: skip
        self.records = self.reading(
            "T-stop", hint="T-stop at this frame, close focus included.",
            read=lambda now: f"T{float(now.camera.t_stop):.3g}, f/{float(now.camera.f_number):.3g}",
        )  # fmt: skip
        self.line()
        self.iso = number_field("ISO", "ISO", 100.0, 1.0, 1e6, digits=6, about="Sensitivity of the camera")
        self.bind(self.iso, lambda now: now.shot.exposure.iso, lambda v: self._change(f"ISO {v:.0f}", iso=v))
        self.row("ISO", self.iso)
        self.shutter = number_field(
            "Shutter angle",
            "°",
            5.0,
            0.1,
            360.0,
            about="Part of each frame's time for which the shutter is open",
        )
        self.bind(
            self.shutter, lambda now: now.shot.exposure.shutter_deg,
            lambda v: self._change(f"Shutter {v:.4g}°", shutter_deg=v),
        )  # fmt: skip
        self.row("Shutter angle", self.shutter)
        self.density = number_field(
            "ND", "stops", 0.3, 0.0, 20.0, about="Neutral density filters in front of the lens"
        )
        self.bind(
            self.density, lambda now: now.shot.exposure.nd_stops,
            lambda v: self._change(f"ND {v:.3g} stops", nd_stops=v),
        )  # fmt: skip
        self.row("ND", self.density)
        self.line()
        self.makes_up = self.bind(
            self.note(),
            lambda now: "Compensate with:" if _differs(now) else "No compensation needed.",
        )
        self.by_iso, self.by_shutter, self.by_density = self.buttons(
            ("ISO", "Compensate with ISO", lambda: _make_up(session, "iso")),
            ("Shutter", "Compensate with the shutter", lambda: _make_up(session, "shutter_deg")),
            ("ND", "Compensate with ND filters", lambda: _make_up(session, "nd_stops")),
        )
        self.cannot = self.bind(self.note(), _cannot)
        self.show_if(self.cannot, lambda now: bool(_cannot(now)), row=False)
        self.meter = self.buttons(
            ("Meter here", "Set current exposure as correct", lambda: _meter(session)),
        )[0]
        self.enable_if(self.meter, _differs)
        self.column.addStretch(1)

    def _change(self, name: str, /, **changes: object) -> None:
        self.session.edit_shot(name, lambda s: s.replace(exposure=s.exposure.replace(**changes)))

    def show_more(self, subject: Now) -> None:
        iso, shutter, density = (
            _made_up(subject, "iso"),
            _made_up(subject, "shutter_deg"),
            _made_up(subject, "nd_stops"),
        )
        for button, made, text in (
            (self.by_iso, iso, f"ISO {iso.iso:.0f}" if iso else ""),
            (self.by_shutter, shutter, f"{shutter.shutter_deg:.4g}°" if shutter else ""),
            (self.by_density, density, f"ND {density.nd_stops:.2f}" if density else ""),
        ):
            button.setVisible(_differs(subject) and made is not None)
            button.setText(text)


def _differs(now: Now) -> bool:
    return abs(float(now.camera.off_ev)) > _NO_EV


def _made_up(now: Now, by: MakeUp) -> Exposure | None:
    return glasses.made_up(now.shot.exposure, float(now.camera.off_ev), by)


def _cannot(now: Now) -> str:
    wants = []
    if _differs(now) and _made_up(now, "shutter_deg") is None:
        degrees = now.shot.exposure.shutter_deg * 2 ** -float(now.camera.off_ev)
        wants.append(f"Needs a {degrees:.0f}° shutter; the maximum is 360°.")
    if _differs(now) and _made_up(now, "nd_stops") is None:
        wants.append("Not enough ND to remove.")
    return " ".join(wants)


@needs_now
def _make_up(session: Session, now: Now, by: MakeUp) -> None:
    made = _made_up(now, by)
    if made is not None:
        session.edit_shot("Compensate exposure", lambda s: s.replace(exposure=made))


@needs_now
def _meter(session: Session, now: Now) -> None:
    exposure = glasses.metered(now.shot.exposure, float(now.camera.off_ev))
    session.edit_shot("Meter here", lambda s: s.replace(exposure=exposure))


def ev_text(ev: float) -> str:
    """A difference in stops, with its sign."""
    return "±0 EV" if abs(ev) <= _NO_EV else f"{ev:+.2f} EV".replace("-", "−")
