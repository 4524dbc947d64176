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
    "orthographic": "Parallel rays, as of a telecentric lens: size does not change with distance, and blur "
    "grows by metres. The cone of light sets it, not the stop.",
    "fisheye": "Equidistant: the angle to the axis is even in the picture. It focuses on a sphere.",
}


class CameraPage(ShotCard):
    """See the module."""

    name = "Camera"
    is_page = True
    depends = (*AT_FRAME, Document.dragging)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.source = self.bind(self.note(), self._source)
        self.take, self.leave = self.buttons(
            ("Make it the camera", "Make this the shot's camera (Enter in Picture)",
             lambda: walking.take_walk(session)),
            ("Go back", "Look through the shot's camera again (Esc)",
             lambda: session.set(Document.walk.to(None))),
        )  # fmt: skip
        for button in (self.take, self.leave):
            self.enable_if(button, lambda now: session.walk is not None)
        self.position = self.places(
            "Stands", "Camera place", lambda now: self._view_camera().position_m,
            lambda place: walking.edit_camera(session, "Camera place", position_m=place),
        )  # fmt: skip
        self.aim = self.places(
            "Looks at", "Camera aim", lambda now: self._view_camera().aim_m,
            lambda place: walking.edit_camera(session, "Aim", aim_m=place),
        )  # fmt: skip
        for field in self.aim:
            self.enable_if(field, lambda now: _aims_at(now) is None)
        self.roll = number_field("Roll", "°", 1.0, -180.0, 180.0)
        self.bind(
            self.roll, lambda now: self._view_camera().roll_deg,
            lambda degrees: walking.edit_camera(session, "Roll", roll_deg=degrees),
        )  # fmt: skip
        self.row("Roll", self.roll)
        self.follows = choice("Keeps looking at", [], "A subject that it keeps looking at", 150)
        self.bind(
            self.follows,
            _aims_at,
            lambda number: self._whole("Keep looking at", lambda camera: camera.but(aims_at=number)),
            lambda now: [
                ("its own aim", None),
                *((f"{s.number} {s.name}", s.number) for s in now.plan.subjects),
            ],
        )
        self.row("Keeps looking at", self.follows)
        self.near = length_field("Near clip", lambda: session.unit, 0.0, 1000.0)
        self.bind(
            self.near, lambda now: now.camera.near_clip_m,
            lambda m: self._whole("Near clip", lambda camera: camera.but(near_clip_m=m)),
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
            ("Key", "Key place, aim and roll at this frame; again takes the key away", self._toggle_key),
            ("◂", "Go to the key before", lambda: self._go(-1)),
            ("▸", "Go to the next key", lambda: self._go(1)),
        )
        self.ease = choice(
            "Way on from this key", [("Smooth", "smooth"), ("Even", "even")], "From this key on", 86
        )
        self.bind(self.ease, lambda now: here.ease if (here := _last_key(now)) else "smooth", self._set_ease)
        self.enable_if(self.ease, lambda now: _last_key(now) is not None)
        self.path = choice("Path between keys", [("Straight", "straight"), ("About the aim", "arc")],
                           "Straight between places, or on an arc about the aim", 118)  # fmt: skip
        self.bind(
            self.path, lambda now: made.path if (made := _made(now)) else "straight",
            lambda path: self._whole("Path", lambda camera: camera.but(path=path)),
        )  # fmt: skip
        self.row("Way", self.ease, self.path)
        session = self.session
        self.moves = self.buttons(
            ("Creep", "A slow move aside over the shot", lambda: _move(session, "Creep", moves.creep)),
            ("Orbit", "A move of 30° about the aim", lambda: _move(session, "Orbit", moves.orbit)),
            ("Push in", "A move toward the aim", lambda: _move(session, "Push in", moves.push_in)),
        )

    def _add_projection(self) -> None:
        session = self.session
        self.projection = choice(
            "Projection", [(name, kind) for kind, name in _PROJECTIONS.items()], "How it draws space"
        )
        self.bind(
            self.projection, lambda now: now.glass.projection,
            lambda kind: session.edit_glass("Projection", projection=kind),
        )  # fmt: skip
        self.row("Projection", self.projection)
        self.field = length_field("Field width", lambda: session.unit, 0.001, 1e5)
        self.bind(
            self.field, lambda now: now.glass.field_m, lambda m: session.edit_glass("Field width", field_m=m)
        )
        self.row("Field width", self.field)
        self.cone = number_field("Cone of light", "°", 0.1, 0.001, 89.0)
        self.bind(
            self.cone,
            lambda now: now.glass.cone_deg,
            lambda d: session.edit_glass("Cone of light", cone_deg=d),
        )
        self.row("Cone of light", self.cone)
        for widget in (self.field, self.cone):
            self.show_if(widget, lambda now: now.glass.projection == "orthographic")
        self.meaning = self.bind(self.note(), lambda now: _PROJECTION_NOTES[now.glass.projection])
        self.show_if(self.meaning, lambda now: bool(_PROJECTION_NOTES[now.glass.projection]), row=False)

    def _add_guides(self) -> None:
        self.thirds = self.flag("guides.thirds", "Thirds")
        self.centre = self.flag("guides.centre", "Centre")
        self.safe = self.number("guides.safe_percent", "Safe area, 0 for none", 5.0)

    def show_more(self, subject: Now) -> None:
        key = _last_key(subject)
        self.key.setText("Unkey" if key is not None and key.frame == subject.frame else "Key")

    def _view_camera(self) -> MadeCamera:
        camera = walking.view_camera(self.session)
        assert camera is not None
        return camera

    def _source(self, now: Now) -> str:
        if self.session.walk is not None:
            return "Walking about: numbers of this view, not yet of the shot."
        camera = now.shot.camera
        if isinstance(camera, FileCamera):
            return f"{camera.path} of scene {camera.scene}. A change makes it one of Kobrel's own."
        made = _made(now)
        keys = f", {len(made.keys)} keys" if made and made.keys else ""
        return f"Made here{keys}. Walk in Picture: right button, Shift, wheel; or Ctrl and arrow keys."

    def _whole(self, name: str, change: Callable[[MadeCamera], MadeCamera]) -> None:
        _change_whole(self.session, name, change)

    def _toggle_key(self) -> None:
        frame = self.session.frame
        self._whole(f"Camera key at {frame}", lambda camera: camera.toggled(moves.key_of(camera, frame)))

    def _set_ease(self, ease: Ease) -> None:
        self._whole("Way of the camera", lambda camera: camera.with_ease(self.session.frame, ease))

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
        session.edit_shot(name, lambda shot: shot.but(camera=new), Document.walk.to(None))


@needs_now
def _move(
    session: Session, now: Now, name: str, make: Callable[[MadeCamera, float, float], MadeCamera]
) -> None:
    _change_whole(session, name, lambda camera: make(camera, now.shot.first, now.shot.last))
