"""The camera of the Block card: where it stands, looks and goes, how it projects, guides."""

from collections.abc import Callable

from PySide6.QtWidgets import QWidget

from kobrel.desk import blocking
from kobrel.desk.cards.base import Card, choice, choose
from kobrel.desk.fields import length_field, number_field
from kobrel.desk.session import Session
from kobrel.plan import moves
from kobrel.plan.model import FileCamera, MadeCamera

_PROJECTIONS = {"perspective": "Perspective", "orthographic": "Orthographic", "fisheye": "Fisheye"}
_PROJECTION_NOTES = {
    "perspective": "",
    "orthographic": "Parallel rays, as of a telecentric lens: size does not change with distance, and blur "
    "grows by metres. The cone of light sets it, not the stop.",
    "fisheye": "Equidistant: the angle to the axis is even in the picture. It focuses on a sphere.",
}


class CameraPage(Card):
    """See the module."""

    name = "Camera"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.source = self.note()
        self.take, self.leave = self.buttons(
            ("Make it the camera", "Make this the shot's camera (Enter in Picture)",
             lambda: blocking.take_walk(session)),
            ("Go back", "Look through the shot's camera again (Esc)", lambda: session.walk_with(None)),
        )  # fmt: skip
        self.position = self.places("Stands", "Camera place", lambda a, m: self._place("position_m", a, m))
        self.aim = self.places("Looks at", "Camera aim", lambda a, m: self._place("aim_m", a, m))
        self.roll = number_field("Roll", "°", 1.0, -180.0, 180.0)
        self.roll.taken.connect(lambda d: blocking.edit_camera(session, "Roll", roll_deg=d))
        self.row("Roll", self.roll)
        self.follows = choice(
            "Keeps looking at", [("its own aim", None)], "A subject that it keeps looking at", 150
        )
        self.follows.activated.connect(lambda _i: self._follow())
        self.row("Keeps looking at", self.follows)
        self.near = length_field("Near clip", lambda: session.unit, 0.0, 1000.0)
        self.near.taken.connect(lambda m: self._whole("Near clip", lambda camera: camera.but(near_clip_m=m)))
        self.row("Near clip", self.near)
        self.line()
        self.key, self.to_last, self.to_next = self.buttons(
            ("Key", "Key place, aim and roll at this frame; again takes the key away", self._toggle_key),
            ("◂", "Go to the key before", lambda: self._go(-1)),
            ("▸", "Go to the next key", lambda: self._go(1)),
        )
        self.ease = choice(
            "Way on from this key", [("Smooth", "smooth"), ("Even", "even")], "From this key on", 86
        )
        self.ease.activated.connect(lambda _i: self._set_ease())
        self.path = choice("Path between keys", [("Straight", "straight"), ("About the aim", "arc")],
                           "Straight between places, or on an arc about the aim", 118)  # fmt: skip
        self.path.activated.connect(
            lambda _i: self._whole("Path", lambda camera: camera.but(path=self.path.currentData()))
        )
        self.row("Way", self.ease, self.path)
        self.moves = self.buttons(
            ("Creep", "A slow move aside over the shot", lambda: self._move("Creep", moves.creep)),
            ("Orbit", "A move of 30° about the aim over the shot", lambda: self._move("Orbit", moves.orbit)),
            ("Push in", "A move toward the aim over the shot", lambda: self._move("Push in", moves.push_in)),
        )
        self.line()
        self.projection = choice(
            "Projection", [(name, kind) for kind, name in _PROJECTIONS.items()], "How it draws space"
        )
        self.projection.activated.connect(
            lambda _i: session.edit_glass("Projection", projection=self.projection.currentData())
        )
        self.row("Projection", self.projection)
        self.field = length_field("Field width", lambda: session.unit, 0.001, 1e5)
        self.field.taken.connect(lambda m: session.edit_glass("Field width", field_m=m))
        self.row("Field width", self.field)
        self.cone = number_field("Cone of light", "°", 0.1, 0.001, 89.0)
        self.cone.taken.connect(lambda d: session.edit_glass("Cone of light", cone_deg=d))
        self.row("Cone of light", self.cone)
        self.meaning = self.note()
        self.line()
        self.thirds = self.tick("Thirds", "Lines at thirds of the frame", lambda on: self._guide(thirds=on))
        self.centre = self.tick("Centre", "A cross in the middle", lambda on: self._guide(centre=on))
        self.safe = number_field("Safe area", "%", 5.0, 0.0, 100.0)
        self.safe.taken.connect(lambda p: self._guide(safe_percent=p))
        self.row("Safe area, 0 for none", self.safe)
        self.column.addStretch(1)

    def _made(self) -> MadeCamera | None:
        shot = self.session.shot
        return shot.camera if shot and isinstance(shot.camera, MadeCamera) else None

    def _place(self, which: str, axis: int, metres: float) -> None:
        camera = blocking.walker(self.session)
        if camera is not None:
            spot = list(getattr(camera, which))
            spot[axis] = metres
            blocking.edit_camera(
                self.session, "Camera place" if which == "position_m" else "Aim", **{which: tuple(spot)}
            )

    def _whole(self, name: str, change: Callable[[MadeCamera], MadeCamera]) -> None:
        """Change the shot's camera as a whole; one of a file becomes one made here first."""
        session = self.session
        camera = self._made() or blocking.walker(session)
        if camera is not None:
            new = change(camera)
            session.walk = None
            session.edit_shot(name, lambda shot: shot.but(camera=new))

    def _move(self, name: str, make: Callable[[MadeCamera, float, float], MadeCamera]) -> None:
        shot = self.session.shot
        if shot is not None:
            self._whole(name, lambda camera: make(camera, shot.first, shot.last))

    def _follow(self) -> None:
        number = self.follows.currentData()
        self._whole("Keep looking at", lambda camera: camera.but(aims_at=number))

    def _toggle_key(self) -> None:
        frame = float(self.session.frame)

        def toggled(camera: MadeCamera) -> MadeCamera:
            if any(key.frame == frame for key in camera.keys):
                return moves.without_key(camera, frame)
            return moves.with_key(camera, moves.key_of(camera, frame))

        self._whole(f"Camera key at {self.session.frame}", toggled)

    def _set_ease(self) -> None:
        def eased(camera: MadeCamera) -> MadeCamera:
            before = [key.frame for key in camera.keys if key.frame <= self.session.frame]
            at = before[-1] if before else None
            ease = self.ease.currentData()
            return camera.but(keys=tuple(k.but(ease=ease) if k.frame == at else k for k in camera.keys))

        self._whole("Way of the camera", eased)

    def _go(self, way: int) -> None:
        camera, here = self._made(), self.session.frame
        frames = [key.frame for key in camera.keys] if camera else []
        ahead = [f for f in frames if (f - here) * way > 0]
        if ahead:
            self.session.show_frame(min(ahead, key=lambda f: abs(f - here)))

    def _guide(self, **changes: object) -> None:
        plan = self.session.plan
        self.session.edit("Guides", plan.but(guides=plan.guides.but(**changes)))

    def refresh(self) -> None:
        session, shot, camera = self.session, self.session.shot, self.session.camera
        if shot is None or camera is None:
            self.setEnabled(False)
            return
        self.setEnabled(True)
        made, walking = self._made(), session.walk is not None
        if walking:
            self.source.setText("Walking about: these are the walker's numbers, not yet the shot's.")
        elif isinstance(shot.camera, FileCamera):
            self.source.setText(
                f"{shot.camera.path} of scene {shot.camera.scene}. A change makes it one of Kobrel's own."
            )
        else:
            keys = f", {len(made.keys)} keys" if made and made.keys else ""
            self.source.setText(
                f"Made here{keys}. Walk in Picture: right button, Shift, wheel; or Ctrl and arrow keys."
            )
        self.take.setEnabled(walking)
        self.leave.setEnabled(walking)
        shown = blocking.walker(session)
        if shown is not None:
            for fields, values in ((self.position, shown.position_m), (self.aim, shown.aim_m)):
                for field, metres in zip(fields, values, strict=True):
                    field.show_value(metres)
            self.roll.show_value(shown.roll_deg)
        self._show_subjects(made)
        self.near.show_value(camera.near_clip_m)
        here = [key for key in (made.keys if made else ()) if key.frame <= session.frame]
        self.key.setText("Unkey" if here and here[-1].frame == session.frame else "Key")
        self.ease.setEnabled(bool(here))
        choose(self.ease, here[-1].ease if here else "smooth")
        choose(self.path, made.path if made else "straight")
        glass = shot.glass
        choose(self.projection, glass.projection)
        self.field.show_value(glass.field_m)
        self.cone.show_value(glass.cone_deg)
        for widget in (self.field, self.cone):
            self.show_row(widget, glass.projection == "orthographic")
        self.meaning.setText(_PROJECTION_NOTES[glass.projection])
        self.meaning.setVisible(bool(_PROJECTION_NOTES[glass.projection]))
        guides = session.plan.guides
        self.thirds.setChecked(guides.thirds)
        self.centre.setChecked(guides.centre)
        self.safe.show_value(guides.safe_percent)

    def _show_subjects(self, made: MadeCamera | None) -> None:
        entries: list[tuple[str, int | None]] = [("its own aim", None)]
        entries += [(f"{s.number} {s.name}", s.number) for s in self.session.plan.subjects]
        if [self.follows.itemText(i) for i in range(self.follows.count())] != [text for text, _ in entries]:
            self.follows.clear()
            for text, number in entries:
                self.follows.addItem(text, number)
        self.follows.setCurrentIndex(max(0, self.follows.findData(made.aims_at if made else None)))
        for field in self.aim:
            field.setEnabled(made is None or made.aims_at is None)
