"""Commands for focus and stop."""

import numpy as np

from kobrel.optics.exposure import NARROWEST_STOP, WIDEST_STOP, marked_stop, step_stop
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import DistanceTarget, Shot, SubjectTarget, Target
from kobrel.plan.pull import marks as pulls
from kobrel.plan.pull.dials import lens_drives
from kobrel.session.evented import Change
from kobrel.session.needs import needs_now, needs_shot
from kobrel.session.numbers import Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session

_CONES_DEG = (0.001, 89.0)


@needs_shot
def focus_on(session: Session, shot: Shot, target: Target, *chosen: Change) -> None:
    """Put the focus on something at this frame, and choose the mark that it sets, and what else is given."""
    if dialled := lens_drives(session.plan.dials, shot.name).get("focus"):
        session.say(f"Focus is driven by the dial {dialled[0].name} (Pull, Dials).")
        return
    several, label = len(shot.marks) > 1 or session.view.playing, session.target_label(target)
    put, frame = pulls.set_mark if session.view.playing else pulls.refocus, session.frame
    if several:
        chosen = (Selection.marks.to((float(frame),)), *chosen)
    session.edit_shot(f"Focus on {label}", lambda s: put(s, frame, target), *chosen)
    session.say(f"Mark at {frame}: {label}" if several else f"Focus: {label} (whole shot). M adds a mark.")


def focus_on_subject(session: Session, number: int) -> None:
    """Choose a subject and put the focus on it at this frame."""
    focus_on(session, SubjectTarget(number=number), Selection.subject.to(number))


def focus_at_m(session: Session, metres: float) -> None:
    """Put the focus at a distance at this frame."""
    focus_on(session, DistanceTarget(metres=metres))


@needs_now
def set_mark(session: Session, now: Now) -> None:
    """Set a mark at this frame on what is now in focus: a subject if it is on one."""
    target: Target = session.subject_in_focus() or DistanceTarget(metres=float(now.camera.focus_m))
    session.edit_shot(
        f"Set mark at {now.frame}", lambda s: pulls.set_mark(s, now.frame, target),
        Selection.marks.to((float(now.frame),)),
    )  # fmt: skip
    session.say(f"Mark at {now.frame}: {session.target_label(target)}")


@needs_now
def sharp_to(session: Session, now: Now, limit_m: float) -> None:
    """Let the sharp band end at a distance, by the stop; an orthographic view's by its cone."""
    camera = now.camera
    if camera.projection == "orthographic":
        _set_cone(session, float(camera.cone_for_limit(limit_m)), 3)
    else:
        stop = float(np.clip(camera.stop_for_limit(limit_m), WIDEST_STOP, NARROWEST_STOP))
        set_stop(session, marked_stop(stop, session.view.stop_steps))


@needs_now
def step_iris(session: Session, now: Now, thirds: int) -> None:
    """Open or close the iris by thirds of a stop; an orthographic view's cone alike."""
    camera = now.camera
    if camera.projection == "orthographic":
        half = np.tan(np.radians(camera.cone_deg) / 2) * 2.0 ** (-thirds / 6)
        cone = _set_cone(session, float(np.degrees(2 * np.arctan(half))), 4)
        session.say(f"Cone of light {cone:.3g}°")
        return
    stop = step_stop(float(camera.f_number), thirds)
    set_stop(session, stop)
    session.say(f"Stop f/{stop:g}")


def set_stop(session: Session, stop: float) -> None:
    """Take another stop: its key at this frame, or the value where it has none."""
    session.set_keyed(f"Stop f/{stop:.3g}", "f_number", stop)


def _set_cone(session: Session, cone_deg: float, digits: int) -> float:
    cone = float(f"{float(np.clip(cone_deg, *_CONES_DEG)):.{digits}g}")
    session.edit_glass(f"Cone of light {cone:.3g}°", cone_deg=cone)
    return cone


def focus_distance(camera: Camera, point: np.ndarray) -> float:
    """The distance of a point on the stage, (3,), as the focus counts it, metres."""
    sight = camera.see(point)
    return float(sight.straight_m if camera.surface == "sphere" else sight.axial_m)
