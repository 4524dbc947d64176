"""Commands for rendered images: how their depth counts, which shot they belong to, and what is measured."""

from pathlib import Path
from typing import Any

import numpy as np

from kobrel.errors import KobrelError
from kobrel.plan import edit
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import FileCamera, MadeCamera, Plan, SceneRef, Shot
from kobrel.plan.names import scene_name
from kobrel.plan.pictures.rendered import RenderedImage, calibrated, opened
from kobrel.session.session import Session
from kobrel.stage.read.rendered.pose import taken_from

_NO_SHIFT = 1e-3


def reference_of(session: Session) -> SceneRef | None:
    """The rendered image of the shot in work, as the plan names it."""
    shot = session.shot
    return next((s for s in session.plan.scenes if shot is not None and s.name == shot.finished), None)


def finished_of(session: Session) -> RenderedImage | None:
    """The rendered image of the shot in work."""
    return session.plan.finished_of(session.shot) if session.shot is not None else None


def put(session: Session, path: Path, depth: Path | None = None) -> list[str]:
    """Give the shot in work a rendered image; what looks odd in it, in sentences.

    Raises
    ------
    KobrelError
        It cannot be read.
    """
    from kobrel.stage.read.rendered.relief import CAMERA

    shot, camera = session.shot, session.camera
    if shot is None or camera is None:
        return []
    found, pixels = opened(
        path.absolute(), None if depth is None else depth.absolute(), float(camera.focus_m)
    )
    taken, told = taken_from(Path(found.path)), list(pixels.told)
    if taken is None or taken.half_width is None:
        found = found.replace(half_width=float(camera.half_widths()[0]))
    elif max(map(abs, taken.shift)) > _NO_SHIFT:
        told.append("Its header has a lens shift, which is ignored: positions off centre are inexact.")
    name = scene_name(path, {scene.name for scene in session.plan.scenes})
    if taken is not None and _may_stand_elsewhere(session.plan, shot):
        shot = edit.with_camera(shot, FileCamera(scene=name, path=CAMERA))
        told.append("The camera is at the position in the file's header.")
        if taken.half_width is not None and shot.glass.lens is None:
            focal = float(camera.focal_mm) * float(camera.half_widths()[0]) / taken.half_width
            shot = shot.replace(glass=shot.glass.replace(focal_mm=Keyed(value=round(focal, 6))))
            told.append(f"The focal length is {focal:.4g} mm, by its field of view.")
    plan = session.plan.replace(
        scenes=(*session.plan.scenes, SceneRef(name=name, path=found.path, finished=found))
    )
    plan = _without_unused(
        edit.with_shot(plan, session.shot_index, shot.replace(finished=name)), shot.finished
    )
    session.edit(f"Rendered image {name}", plan)
    return told


def _may_stand_elsewhere(plan: Plan, shot: Shot) -> bool:
    """Whether a shot's camera may be put where its rendered image was taken from: it is of no scene file,
    does not move by keys, and nothing was modelled before it.
    """
    camera = shot.camera
    keyed = isinstance(camera, MadeCamera) and bool(camera.keys)
    modelled = any(scene.finished is None for scene in plan.scenes)
    return not (keyed or modelled or (isinstance(camera, FileCamera) and camera.scene != shot.finished))


def _without_unused(plan: Plan, name: str) -> Plan:
    """A plan without a rendered image that no shot has any more, and whose camera none has."""
    used = any(
        name in (shot.finished, shot.camera.scene if isinstance(shot.camera, FileCamera) else "")
        for shot in plan.shots
    )
    return plan if used or not name else edit.remove_scene(plan, name)


def change(session: Session, **changes: Any) -> None:
    """Change which layer or channel counts, or which files."""
    reference = reference_of(session)
    if reference is not None and reference.finished is not None:
        fresh = reference.finished.replace(**changes)
        plan = edit.with_scene(session.plan, reference.name, finished=fresh)
        session.edit("Change depth settings", plan)


def change_rule(session: Session, **changes: Any) -> None:
    """Change how its depth counts."""
    found = finished_of(session)
    if found is not None:
        change(session, rule=found.rule.replace(**changes))


def calibrate(session: Session, known_m: float) -> None:
    """Let the chosen subject, or the first, stand at a distance that is known."""
    now, found = session.now, finished_of(session)
    if now is None or found is None or not now.survey.subjects:
        session.say("Click a point of known distance in Picture first: it becomes a subject.")
        return
    numbers = list(now.survey.subjects)
    row = (
        numbers.index(session.selection.subject) if session.selection.subject in numbers else len(numbers) - 1
    )
    read = float(now.survey.sight.axial_m[row, now.row])
    if not np.isfinite(read) or read <= 0:
        session.say("Nothing there; choose another point.")
        return
    change(session, rule=calibrated(found.rule, read, known_m))
    session.say(f"Depth calibrated: {session.length(known_m)} (was {session.length(read)}).")


def take_lens(session: Session) -> None:
    """Let the picture have been made with the lens that the shot has now."""
    camera = session.camera
    if camera is not None:
        change(session, half_width=float(camera.half_widths()[0]))


def let_go(session: Session) -> None:
    """Take the rendered image from the shot; it goes from the plan where no other shot has it, or was made
    by its camera.
    """
    shot, reference = session.shot, reference_of(session)
    if shot is None or reference is None:
        return
    plan = edit.with_shot(session.plan, session.shot_index, shot.replace(finished=""))
    session.edit("Remove rendered image", _without_unused(plan, reference.name))


def measure(session: Session, camera: Camera, start: tuple[float, float], end: tuple[float, float]) -> str:
    """The blur between two places of the rendered image, each 0 to 1, in words, beside what the plan says.

    Raises
    ------
    KobrelError
        There is nothing to measure, or no rendered image.
    """
    from kobrel.picture.judging.measure import measured
    from kobrel.stage.read.rendered.frames import read_frame

    found = finished_of(session)
    if found is None:
        raise KobrelError("The shot has no rendered image to measure.", remedy="Open one on Proof, Defocus.")
    pixels = read_frame(found, session.frame if found.sequence else None)
    tall, wide = pixels.depth.shape
    places = [(x * wide, y * tall) for x, y in (start, end)]
    blur = measured(pixels.colour, places[0], places[1])
    scale = camera.width_px / wide
    middle = (start[0] + end[0]) / 2, (start[1] + end[1]) / 2
    pick = session.pick(*camera.ray(middle[0] * wide, middle[1] * tall, wide, tall))
    planned = ""
    if pick is not None:
        planned = f"; the plan has {float(camera.see(pick.point).blur_px):.1f} px there"
    px, doubt = blur.px * scale, blur.doubt_px * scale
    return f"Blur of the {blur.of} at delivery: {px:.1f} ± {doubt:.1f} px{planned}."
