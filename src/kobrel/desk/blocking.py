"""What hands do to stand-ins and cameras, whichever view or card they do it in."""

import numpy as np
from numpy.typing import ArrayLike

from kobrel.desk.session import Session, Tool
from kobrel.plan import edit, moves
from kobrel.plan.anchors import subject_points
from kobrel.plan.model import Lights, MadeCamera, Row, StandIn, StandInAnchor, StandInKind
from kobrel.plan.moves import vector
from kobrel.plan.parts import PlaceKey
from kobrel.plan.staging import stage_of
from kobrel.plan.stand_ins import SIZES, place_track

STAND_IN_NAMES: dict[StandInKind, str] = {
    "standing": "Person", "seated": "Seated person", "child": "Child", "box": "Box", "ball": "Ball",
    "cone": "Cone", "cylinder": "Cylinder", "card": "Card", "wall": "Wall", "ground": "Ground",
    "string": "String of lights", "scatter": "Scatter of lights",
}  # fmt: skip
_SMALLEST_M = 0.002
_GREY, _GROUND = (0.3, 0.3, 0.29), (0.16, 0.155, 0.145)


def place(session: Session, kind: StandInKind, position_m: ArrayLike, in_row: bool = False) -> StandIn:
    """Make a stand-in at a place, facing the camera, and choose it."""
    camera = session.camera
    turn = 0.0
    if camera is not None and kind != "ground":
        back = camera.pose[:3, 2]
        turn = round(float(np.degrees(np.arctan2(back[0], back[2]))), 1) + 0.0
    fresh = StandIn(
        number=1, name="Row" if in_row else STAND_IN_NAMES[kind], kind=kind, size_m=SIZES[kind],
        position_m=_rounded(position_m), turn_deg=turn,
        row=Row(direction_deg=round(turn + 180.0, 1) % 360.0) if in_row else None,
        colour=_GROUND if kind == "ground" else _GREY,
        lights=Lights() if kind in ("string", "scatter") else None,
    )  # fmt: skip
    plan, made = edit.add_stand_in(session.plan, fresh)
    session.edit(f"Place {made.name.lower()}", plan)
    session.use(None)
    session.select(stand_in=made.number)
    session.said.emit(f"{made.name} placed. Drag it, or its handles, in Overhead, Side or Front.")
    return made


def place_ahead(session: Session, kind: StandInKind, in_row: bool = False) -> StandIn:
    """Make a stand-in where the camera looks, on what is beneath; a ground at no height."""
    camera = session.camera
    spot = np.zeros(3)
    if camera is not None and kind != "ground":
        focus = min(float(camera.focus_m), 50.0)
        spot = camera.pose[:3, 3] - camera.pose[:3, 2] * focus
        spot[1] = floor_beneath(session, spot)
        if kind in ("string", "scatter"):
            spot[1] += 2.0
    return place(session, kind, spot, in_row)


def floor_beneath(session: Session, point: ArrayLike, without: int | None = None) -> float:
    """The height of the first surface beneath a point, leaving a stand-in out; 0 where none is."""
    start = np.asarray(point, dtype=float)
    stage = session.stage
    if not stage.built:
        return 0.0
    if without is not None:
        others = tuple(s for s in session.plan.stand_ins if s.number != without)
        stage = stage_of(session.plan.but(stand_ins=others), session.library, stage)
    pick = stage.pick(session.frame, start, (0.0, -1.0, 0.0))
    return float(pick.point[1]) if pick else 0.0


def current_place(session: Session, stand_in: StandIn) -> np.ndarray:
    """Where a stand-in stands at the frame, (3,)."""
    return np.asarray(place_track(stand_in).at([session.frame])[0])


def chosen(session: Session) -> StandIn | None:
    """The chosen stand-in."""
    number = session.selected_stand_in
    return session.plan.stand_in(number) if number is not None else None


def change(session: Session, what: str, /, **changes: object) -> None:
    """Change fields of the chosen stand-in."""
    stand_in = chosen(session)
    if stand_in is not None:
        session.edit(
            f"{what} of {stand_in.name}", edit.with_stand_in(session.plan, stand_in.number, **changes)
        )


def move(session: Session, position_m: ArrayLike) -> None:
    """Move the chosen stand-in: by a key at the frame where it has keys."""
    stand_in = chosen(session)
    if stand_in is not None:
        moved = edit.moved_to(stand_in, session.frame, _rounded(position_m))
        change(session, "Place", position_m=moved.position_m, keys=moved.keys)


def resize(session: Session, axis: int, metres: float) -> None:
    """Change width, height or depth; a person keeps its proportions, a ball is round."""
    stand_in = chosen(session)
    if stand_in is None:
        return
    metres = round(max(metres, _SMALLEST_M), 4)
    size = list(stand_in.size_m)
    if stand_in.is_person or stand_in.kind == "ball":
        size = [round(part * metres / size[axis], 4) for part in size]
    size[axis] = metres
    if stand_in.kind in ("cone", "cylinder") and axis != 1:
        size[0] = size[2] = metres
    change(session, "Size", size_m=tuple(size))


def drop(session: Session) -> None:
    """Put the chosen stand-in onto what is beneath it."""
    stand_in = chosen(session)
    if stand_in is None:
        return
    here = current_place(session, stand_in)
    above = here + np.array([0.0, stand_in.size_m[1], 0.0])
    move(session, (here[0], floor_beneath(session, above, stand_in.number), here[2]))
    session.said.emit(f"{stand_in.name} stands on what is beneath it.")


def toggle_key(session: Session) -> None:
    """Key the chosen stand-in's place at the frame, or take the key there away."""
    stand_in = chosen(session)
    if stand_in is None:
        return
    if any(key.frame == session.frame for key in stand_in.keys):
        changed = edit.without_place_key(stand_in, session.frame)
    else:
        key = PlaceKey(frame=session.frame, position_m=vector(current_place(session, stand_in)))
        changed = edit.with_place_key(stand_in, key)
    change(session, f"Key at {session.frame}", keys=changed.keys, position_m=changed.position_m)


def copy(session: Session) -> None:
    """Make another like the chosen stand-in, beside it, and choose that."""
    stand_in = chosen(session)
    if stand_in is None:
        return
    aside = np.array([stand_in.size_m[0] + 0.2, 0.0, 0.0])
    there = _rounded(current_place(session, stand_in) + aside)
    plan, made = edit.add_stand_in(session.plan, stand_in.but(position_m=there, keys=()))
    session.edit(f"Copy {stand_in.name}", plan)
    session.select(stand_in=made.number)


def remove(session: Session) -> None:
    """Delete the chosen stand-in; what was tied to it stays where it was."""
    stand_in = chosen(session)
    if stand_in is None:
        return
    spot = subject_points(StandInAnchor(number=stand_in.number), [session.frame], session.stage)[0]
    session.edit(f"Delete {stand_in.name}", edit.remove_stand_in(session.plan, stand_in.number, vector(spot)))
    session.select()


def make_subject(session: Session) -> None:
    """Make the chosen stand-in a subject; a person is sharp from the nose to the ears."""
    stand_in = chosen(session)
    if stand_in is not None:
        half = round(0.06 * stand_in.size_m[1], 3) if stand_in.is_person else 0.0
        session.add_subject(stand_in.name, StandInAnchor(number=stand_in.number), half)


# Walking about


def walker(session: Session) -> MadeCamera | None:
    """The camera that looks now, as one that can be moved about: its aim lies in the focus."""
    if session.walk is not None:
        return session.walk
    camera, shot = session.camera, session.shot
    if camera is None or shot is None:
        return None
    focus = min(float(camera.focus_m), 100.0)
    if isinstance(shot.camera, MadeCamera) and shot.camera.aims_at is None:
        here = moves.key_of(shot.camera, session.frame)
        return MadeCamera(
            position_m=here.position_m, aim_m=here.aim_m, roll_deg=here.roll_deg,
            near_clip_m=shot.camera.near_clip_m,
        )  # fmt: skip
    return moves.made_from_pose(camera.pose, focus, camera.near_clip_m)


def orbit(session: Session, across_rad: float, up_rad: float) -> None:
    """Walk around the aim."""
    camera = walker(session)
    if camera is not None:
        there = moves.turned_about(camera.position_m, camera.aim_m, across_rad, up_rad)
        session.walk_with(camera.but(position_m=vector(there)))


def pan(session: Session, right: float, up: float) -> None:
    """Walk aside and up by parts of the distance to the aim; the aim comes along."""
    camera = walker(session)
    if camera is not None:
        pose = moves.look_at(camera.position_m, camera.aim_m)[0]
        reach = float(np.linalg.norm(np.subtract(camera.aim_m, camera.position_m)))
        step = (pose[:3, 0] * right + pose[:3, 1] * up) * reach
        session.walk_with(
            camera.but(position_m=vector(camera.position_m + step), aim_m=vector(camera.aim_m + step))
        )


def dolly(session: Session, steps: float) -> None:
    """Walk toward the aim by a tenth of the way a step, or back."""
    camera = walker(session)
    if camera is not None:
        away = np.subtract(camera.position_m, camera.aim_m) * 0.9**steps
        if 0.01 < float(np.linalg.norm(away)) < 1e5:
            session.walk_with(camera.but(position_m=vector(np.asarray(camera.aim_m) + away)))


def take_walk(session: Session) -> None:
    """Make the walker's camera the shot's: by a key at the frame where the shot's has keys."""
    walk, shot = session.walk, session.shot
    if walk is None or shot is None:
        return
    old = shot.camera
    if isinstance(old, MadeCamera) and old.keys:
        new = moves.posed(
            old, session.frame, position_m=walk.position_m, aim_m=walk.aim_m, roll_deg=walk.roll_deg
        )
    else:
        new = walk
    session.walk = None
    session.edit_shot("Camera placed", lambda s: edit.with_camera(s, new))
    session.changed.emit()
    session.said.emit("This is the shot's camera now.")


def edit_camera(session: Session, name: str, /, **changes: object) -> None:
    """Move the shot's camera: at this frame where it has keys; one of a file becomes one made here."""
    shot, camera = session.shot, session.camera
    if shot is None or camera is None:
        return
    session.walk = None
    old = shot.camera
    if not isinstance(old, MadeCamera):
        focus = min(float(camera.focus_m), 100.0)
        old = moves.made_from_pose(camera.pose, focus, camera.near_clip_m)
    try:
        new = moves.posed(old, session.frame, **changes)
    except ValueError:
        session.said.emit("A camera cannot aim at the place where it stands.")
        return
    session.edit_shot(name, lambda s: s.but(camera=new))


def begin_stand_in(session: Session, kind: StandInKind) -> None:
    """The next click places a stand-in."""
    session.use(Tool("place", stand_in=kind))
    session.said.emit(
        f"Click in Overhead, Side, Front or Picture to place the {STAND_IN_NAMES[kind].lower()}; "
        "Enter places it ahead of the camera, Esc does not."
    )


def _rounded(position_m: ArrayLike) -> tuple[float, float, float]:
    """A place to a tenth of a millimetre, which no hand is steadier than."""
    x, y, z = np.round(np.asarray(position_m, dtype=float), 4) + 0.0
    return float(x), float(y), float(z)
