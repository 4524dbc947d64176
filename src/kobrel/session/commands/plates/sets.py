"""Commands that make whole sets of plates: from a depth picture, and on a ground from one picture."""

from pathlib import Path

import numpy as np

from kobrel.errors import KobrelError, PlanError
from kobrel.plan import edit
from kobrel.plan.keys import Level
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates import placing
from kobrel.plan.plates.from_depth import DepthScale, Slices, plates_from
from kobrel.plan.plates.ground import distance_of_foot, ground_plate, level_camera
from kobrel.session import settings
from kobrel.session.commands.plates.placing import chosen, needs_both, set_distance
from kobrel.session.numbers import Now
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session
from kobrel.session.tools import Tool

_SOFT = 0.01
_BACKDROP_M = 40.0
_LEAST_M = 0.01


@needs_both
def from_depth(
    session: Session, both: tuple[Now, Plate], depth_path: Path, slices: Slices, scale: DepthScale
) -> None:
    """Put plates at the distances of a depth picture in the place of the chosen plate, which they show."""
    now, source = both
    settings.allow_chosen(session.settings, depth_path)
    number = max(plate.number for plate in now.plan.plates) + 1
    made = plates_from(source.picture, str(depth_path.absolute()), slices, scale, now.camera, _SOFT, number)
    taken = [plate.name for plate in now.plan.plates]
    named = []
    for plate in made:
        named.append(plate.replace(name=edit.unused(plate.name, taken)))
        taken.append(named[-1].name)
    left = tuple(plate for plate in now.plan.plates if plate is not source)
    plan = now.plan.replace(plates=(*left, *named))
    chosen = ChosenPlates(named[-1].number, frozenset(plate.number for plate in named[:-1]))
    session.edit(f"Make plates of {source.name} by depth", plan, Selection.item.to(chosen))
    session.say(f"{source.name} sliced into {len(named)} plates.")


@needs_both
def make_ground(session: Session, both: tuple[Now, Plate], horizon: float, height_m: float) -> None:
    """Lay what the chosen plate shows below its horizon on a ground, and put the camera where it was taken;
    the plate itself becomes the backdrop.
    """
    now, photo = both
    shot = now.shot
    camera = level_camera(now.camera, photo, horizon, max(height_m, _LEAST_M))
    plan = edit.with_shot(now.plan, session.shot_index, edit.with_camera(shot, camera))
    eye = camera_at(plan, plan.shots[session.shot_index], now.frame, now.stage)
    place, tall = placing.filling(eye, _BACKDROP_M, photo.picture.aspect)
    backdrop = photo.replace(
        position_m=place, keys=(), height_m=tall, scale=Level(value=1.0), pivot=(0.5, 0.5), faces=True,
        roll_deg=Level(), lies=False, beyond="mirrored" if photo.beyond == "nothing" else photo.beyond,
    )  # fmt: skip
    plan = edit.with_plate(plan, backdrop)
    plan, ground = edit.add_plate(plan, ground_plate(eye, photo, horizon, max(height_m, _LEAST_M)))
    session.edit(f"Make a ground of {photo.name}", plan, Selection.item.to(ChosenPlates(photo.number)))
    session.say(f"{ground.name} made. Cut out what stands on it, then use Set on ground.")


def begin_foot(session: Session) -> None:
    """The next click in Picture tells where the chosen plate stands on the ground."""
    if chosen(session) is None or ground_of(session) is None:
        session.say("Make a ground first, then select a plate.")
        return
    session.selection.tool = Tool("foot")
    session.say("Click where the plate touches the ground. Esc: cancel.")


def ground_of(session: Session) -> float | None:
    """Height of the plates' ground, metres; None without one."""
    lying = [plate for plate in session.plan.plates if plate.lies]
    if not lying:
        return None
    return lying[-1].position_m[1] - lying[-1].scale.value


@needs_both
def set_foot(session: Session, both: tuple[Now, Plate], right: float, down: float) -> None:
    """Put the chosen plate where its foot, at a place of the frame, meets the ground; it looks the same."""
    now, _plate = both
    session.selection.tool = None
    ground = ground_of(session)
    if ground is None:
        return
    try:
        metres = distance_of_foot(now.camera, ground, right, down)
    except PlanError as error:
        session.say(str(error))
        return
    selection = session.selection
    kept = Selection.keeps_framing.to(selection.keeps_framing), Selection.keeps_gaps.to(selection.keeps_gaps)
    with session.as_one():
        session.set(Selection.keeps_framing.to(True), Selection.keeps_gaps.to(""))
        set_distance(session, metres)
        session.set(*kept)


def depth_values(session: Session, path: Path) -> tuple[np.ndarray, tuple[float, float], bool] | None:
    """Values of a depth picture from 0 to 1, (H, W), the lowest and highest that the file has, and whether it
    stores whole numbers; None where it cannot be read.
    """
    from kobrel.plan.plates.pixels import read_plane
    from kobrel.stage.pictures.pixels import read_pixels

    settings.allow_chosen(session.settings, path)
    try:
        raw, _names = read_pixels(path)
        finite = raw[..., 0][np.isfinite(raw[..., 0])]
        ends = (float(finite.min()), float(finite.max())) if finite.size else (0.0, 1.0)
        return read_plane(str(path), raw.shape[:2]), ends, path.suffix.lower() not in (".exr", ".hdr")
    except KobrelError as error:
        session.say(str(error))
        return None
