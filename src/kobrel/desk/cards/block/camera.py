"""The camera of the Block card: where it stands, looks and goes, how it projects, guides."""

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import length_field, number_field
from kobrel.plan.model import CameraKey, FileCamera, MadeCamera
from kobrel.plan.parts import Ease
from kobrel.plan.space import moves
from kobrel.session.commands import walking
from kobrel.session.document import Document
from kobrel.session.needs import needs_now
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

_PROJECTIONS = {"perspective": "Perspective", "orthographic": "Orthographic", "fisheye": "Fisheye"}
_PROJECTION_NOTES = {
    "perspective": "",
    "orthographic": "Telecentric: no perspective; blur grows linearly with distance and is set by the "
    "light cone, not the stop.",
    "fisheye": "Equidistant fisheye; spherical focus surface.",
}


class CameraPage(ShotCard):
    """The camera of the Block card: where it stands, looks and goes, how it projects, guides."""

    name = "Camera"
    purpose = "Position, aim, keys and projection of the camera"
    is_page = True
    depends = (*AT_FRAME, Document.dragging)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.source = self.bind(self.note(), self._source)
        self.take, self.leave = self.buttons(
            ("Use as shot camera", "Make this the shot's camera (Enter in Picture)",
             lambda: walking.take_walk(session)),
            ("Back", "Look through the shot's camera again (Esc)",
             lambda: session.set(Document.walk.to(None))),
        )  # fmt: skip
        for button in (self.take, self.leave):
            self.enable_if(button, lambda now: session.walk is not None)
        self.position = self.places(
            "Position", "Camera position", lambda now: self._view_camera().position_m,
            lambda place: walking.edit_camera(session, "Camera position", position_m=place),
        )  # fmt: skip
        self.aim = self.places(
            "Aim", "Camera aim", lambda now: self._view_camera().aim_m,
            lambda place: walking.edit_camera(session, "Aim", aim_m=place),
        )  # fmt: skip
        for field in self.aim:
            self.enable_if(field, lambda now: _aims_at(now) is None)
        self.roll = number_field("Roll", "°", 1.0, -180.0, 180.0, about="Rotates the camera about its axis")
        self.bind(
            self.roll, lambda now: self._view_camera().roll_deg,
            lambda degrees: walking.edit_camera(session, "Roll", roll_deg=degrees),
        )  # fmt: skip
        self.row("Roll", self.roll)
        self.follows = choice("Follow subject", [], "Subject the camera follows", 150)
        self.bind(
            self.follows,
            _aims_at,
            lambda number: self._whole("Follow subject", lambda camera: camera.replace(aims_at=number)),
            lambda now: [
                ("None (aim point)", None),
                *((f"{s.number} {s.name}", s.number) for s in now.plan.subjects),
            ],
        )
        self.row("Follow subject", self.follows)
        self.near = length_field(
            "Near clip",
            lambda: session.unit,
            0.0,
            1000.0,
            about="Nothing closer to the camera than this is drawn",
        )
        self.bind(
            self.near, lambda now: now.camera.near_clip_m,
            lambda m: self._whole("Near clip", lambda camera: camera.replace(near_clip_m=m)),
        )  # fmt: skip
        self.row("Near clip", self.near)
        self.line()
        self._add_keys()
        self.line()
        self._add_projection()
        self.line()
        self._add_guides()
        self.column.addStretch(1)

    def _add_keys(self) -> None:
        self.key, self.to_last, self.to_next = self.buttons(
            ("Key", "Set or remove a camera key at this frame", self._toggle_key),
            ("◂", "Previous key", lambda: self._go(-1)),
            ("▸", "Go to the next key", lambda: self._go(1)),
        )
        self.ease = choice(
            "Interpolation from this key on",
            [("Smooth", "smooth"), ("Linear", "even")],
            "Interpolation from this key",
            86,
        )
        self.bind(self.ease, lambda now: here.ease if (here := _last_key(now)) else "smooth", self._set_ease)
        self.enable_if(self.ease, lambda now: _last_key(now) is not None)
        self.path = choice("Path between keys", [("Straight line", "straight"), ("Arc around aim", "arc")],
                           "Straight, or an arc around the aim", 118)  # fmt: skip
        self.bind(
            self.path, lambda now: made.path if (made := _made(now)) else "straight",
            lambda path: self._whole("Path", lambda camera: camera.replace(path=path)),
        )  # fmt: skip
        self.row("Ease · path", self.ease, self.path)
        session = self.session
        self.moves = self.buttons(
            ("Truck", "Slow sideways move over the shot", lambda: _move(session, "Creep", moves.creep)),
            ("Orbit", "30° arc around the aim", lambda: _move(session, "Orbit", moves.orbit)),
            ("Push in", "Dolly toward the aim", lambda: _move(session, "Push in", moves.push_in)),
        )

    def _add_projection(self) -> None:
        session = self.session
        self.projection = choice(
            "Projection", [(name, kind) for kind, name in _PROJECTIONS.items()], "Lens projection"
        )
        self.bind(
            self.projection, lambda now: now.glass.projection,
            lambda kind: session.edit_glass("Projection", projection=kind),
        )  # fmt: skip
        self.row("Projection", self.projection)
        self.field = length_field(
            "Ortho width", lambda: session.unit, 0.001, 1e5, about="Width of what the parallel view sees"
        )
        self.bind(
            self.field, lambda now: now.glass.field_m, lambda m: session.edit_glass("Ortho width", field_m=m)
        )
        self.row("Ortho width", self.field)
        self.cone = number_field(
            "Light cone angle",
            "°",
            0.1,
            0.001,
            89.0,
            about="Full angle of the light cone, which sets the blur of an orthographic view",
        )
        self.bind(
            self.cone,
            lambda now: now.glass.cone_deg,
            lambda d: session.edit_glass("Light cone angle", cone_deg=d),
        )
        self.row("Light cone angle", self.cone)
        for widget in (self.field, self.cone):
            self.show_if(widget, lambda now: now.glass.projection == "orthographic")
        self.meaning = self.bind(self.note(), lambda now: _PROJECTION_NOTES[now.glass.projection])
        self.show_if(self.meaning, lambda now: bool(_PROJECTION_NOTES[now.glass.projection]), row=False)

    def _add_guides(self) -> None:
        self.thirds = self.flag("guides.thirds", "Thirds")
        self.centre = self.flag("guides.centre", "Centre cross")
        self.safe = self.number("guides.safe_percent", "Safe area %", 5.0)

    def show_more(self, subject: Now) -> None:
        key = _last_key(subject)
        self.key.setText("Remove key" if key is not None and key.frame == subject.frame else "Key")

    def _view_camera(self) -> MadeCamera:
        camera = walking.view_camera(self.session)
        assert camera is not None
        return camera

    def _source(self, now: Now) -> str:
        if self.session.walk is not None:
            return "Free view: these values are not yet the shot camera's."
        camera = now.shot.camera
        if isinstance(camera, FileCamera):
            return f"{camera.path} (from {camera.scene}). Editing makes a local copy."
        made = _made(now)
        keys = f", {len(made.keys)} keys" if made and made.keys else ""
        return (
            f"Camera made in Kobrel{keys}. Move it in Picture with right-drag, Shift and the wheel, "
            "or with Ctrl and the arrow keys."
        )

    def _whole(self, name: str, change: Callable[[MadeCamera], MadeCamera]) -> None:
        _change_whole(self.session, name, change)

    def _toggle_key(self) -> None:
        frame = self.session.frame
        self._whole(f"Camera key at {frame}", lambda camera: camera.toggled(moves.key_of(camera, frame)))

    def _set_ease(self, ease: Ease) -> None:
        self._whole("Camera interpolation", lambda camera: camera.with_ease(self.session.frame, ease))

    def _go(self, way: int) -> None:
        now = self.session.now
        made = _made(now) if now else None
        here = self.session.frame
        ahead = [key.frame for key in (made.keys if made else ()) if (key.frame - here) * way > 0]
        if ahead:
            self.session.show_frame(min(ahead, key=lambda frame: abs(frame - here)))


def _made(now: Now) -> MadeCamera | None:
    camera = now.shot.camera
    return camera if isinstance(camera, MadeCamera) else None


def _aims_at(now: Now) -> int | None:
    made = _made(now)
    return made.aims_at if made else None


def _last_key(now: Now) -> CameraKey | None:
    """The last key up to the frame."""
    made = _made(now)
    return made.last_key(now.frame) if made else None


@needs_now
def _change_whole(session: Session, now: Now, name: str, change: Callable[[MadeCamera], MadeCamera]) -> None:
    """Change the shot's camera as a whole; one of a file becomes one made here first."""
    camera = _made(now) or walking.view_camera(session)
    if camera is not None:
        new = change(camera)
        session.edit_shot(name, lambda shot: shot.replace(camera=new), Document.walk.to(None))


@needs_now
def _move(
    session: Session, now: Now, name: str, make: Callable[[MadeCamera, float, float], MadeCamera]
) -> None:
    _change_whole(session, name, lambda camera: make(camera, now.shot.first, now.shot.last))
