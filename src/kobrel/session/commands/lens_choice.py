"""Commands for sensor and lens."""

from pathlib import Path

import numpy as np

from kobrel.errors import PlanError
from kobrel.plan import glass as glasses
from kobrel.plan.instrument import Lens, Sensor
from kobrel.plan.lens_sets.lenses import LensSet, nearest_lens, read_lens_set, shipped_lens_sets
from kobrel.plan.measure.poses import poses
from kobrel.plan.model import Shot, SubjectTarget
from kobrel.session import settings
from kobrel.session.needs import needs_now, needs_shot
from kobrel.session.numbers import Now
from kobrel.session.session import Session


def keeps_framing(session: Session) -> bool:
    """Whether a change of sensor keeps the framing, and changes the lens."""
    return session.settings.get(settings.KEEPS_FRAMING)


def set_keeps_framing(session: Session, keeps: bool) -> None:
    """Choose what a change of sensor keeps."""
    session.settings.put(settings.KEEPS_FRAMING, keeps)


@needs_shot
def set_sensor(session: Session, shot: Shot, name: str, sensor: Sensor) -> None:
    """Take another sensor, by the choice of what stays."""
    keeps = keeps_framing(session)
    changed = glasses.with_sensor(shot.glass, sensor, keeps)
    session.edit_shot(name, lambda s: s.replace(glass=changed))
    if keeps and shot.glass.lens is not None and changed.lens is None:
        session.say(f"Framing held at {changed.focal_mm.value:.4g} mm, which no lens of the set has.")


def lens_sets(session: Session) -> tuple[list[LensSet], list[str]]:
    """The lens sets there are, and what is wrong with those that cannot be read any more."""
    found, problems = shipped_lens_sets(), []
    for path in own_lens_sets(session):
        try:
            found.append(read_lens_set(Path(path)))
        except PlanError as error:
            problems.append(str(error))
    return found, problems


def own_lens_sets(session: Session) -> list[str]:
    """Files of the person's own lens sets."""
    return session.settings.get(settings.LENS_SETS)


def add_lens_set(session: Session, path: Path) -> LensSet:
    """Take a file of lenses among the lens sets.

    Raises
    ------
    PlanError
        It is no such file.
    """
    kit = read_lens_set(path)
    others = [old for old in own_lens_sets(session) if old != str(path)]
    session.settings.put(settings.LENS_SETS, [*others, str(path)])
    return kit


def set_lens(session: Session, lens: Lens | None) -> None:
    """Put a lens out of a lens set on the camera, or none in particular."""
    name = lens.name if lens else "No lens of a set"
    session.edit_shot(name, lambda s: s.replace(glass=glasses.with_lens(s.glass, lens)))


@needs_now
def able_lens(session: Session, now: Now, kit: LensSet) -> Lens | None:
    """The lens of a lens set that can do all the shot asks for, nearest in focal length."""
    shot, camera = now.shot, now.survey.camera
    focal = float(np.mean(camera.focal_mm))
    lens = nearest_lens(kit, focal, float(np.min(camera.f_number)), float(np.min(camera.focus_m)))
    return None if lens is not None and lens == shot.glass.lens else lens


@needs_now
def able_stop(session: Session, now: Now) -> float | None:
    """The nearest stop that the lens has, where it does not have the one at the frame."""
    lens, stop = now.glass.lens, float(now.camera.f_number)
    if lens is None or lens.widest * 0.999 <= stop <= lens.narrowest * 1.001:
        return None
    return min(max(stop, lens.widest), lens.narrowest)


def take_able_stop(session: Session) -> None:
    """Take the nearest stop that the lens has."""
    stop = able_stop(session)
    if stop is not None:
        session.set_keyed(f"Stop f/{stop:.3g}", "f_number", stop)


@needs_now
def deliver(session: Session, now: Now, **changes: object) -> None:
    """Change the delivered frame."""
    session.edit_glass("Delivered frame", delivery=now.glass.delivery.replace(**changes))


@needs_now
def set_keeping(session: Session, now: Now, how: str) -> None:
    """Choose what a change of focal length keeps: "" nothing, the size of a subject at this
    "frame", or over the whole "move".
    """
    shot, camera = now.shot, now.camera
    if not how:
        session.edit_shot("Camera stays", lambda s: s.replace(keeps=None))
        if shot.keeps is not None:
            session.say("Camera position held; framing changes with focal length.")
        return
    number = subject_kept(session)
    if number is None:
        session.say("No subject yet. Click an object in Picture.")
        return
    frame = float(session.frame) if how == "frame" else None
    focal = shot.keeps.focal_mm if shot.keeps else float(camera.focal_mm)
    session.edit_shot("Hold subject size", lambda s: glasses.keep_size(s, number, focal, frame))
    subject = session.plan.subject(number)
    if subject is not None:
        session.say(f"Holding the size of {number} {subject.name}.")


def subject_kept(session: Session) -> int | None:
    """The subject whose size is kept, or would be: the chosen one, that in focus, or the first."""
    shot = session.shot
    if shot is not None and shot.keeps is not None:
        return shot.keeps.subject
    known = [subject.number for subject in session.plan.subjects]
    if session.selection.subject in known:
        return session.selection.subject
    target = session.subject_in_focus()
    return target.number if isinstance(target, SubjectTarget) else (known[0] if known else None)


def subject_axial_m(session: Session, now: Now) -> float:
    """Distance along the axis of what keeps its size, or of the focus where there is none."""
    number, numbers = subject_kept(session), now.survey
    if number is not None and number in numbers.subjects:
        distance = float(numbers.sight.axial_m[numbers.subjects.index(number), now.row])
        if distance > 0:
            return distance
    return min(float(now.camera.focus_m), 1e4)


def moved_ahead_m(now: Now) -> float:
    """How far the camera is moved along its axis at the frame."""
    shot, camera = now.shot, now.camera
    if shot.keeps is None and not shot.ahead_m:
        return 0.0
    still = poses(now.plan, shot.replace(keeps=None, ahead_m=0.0), [now.frame], now.stage)[0]
    return float((still[:3, 3] - camera.pose[:3, 3]) @ still[:3, 2])
