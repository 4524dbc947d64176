"""A shot in a few plain sentences: what holds sharp, how the focus travels."""

import numpy as np

from kobrel.plan.instrument import Glass
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.survey import SHARP, Survey, runs
from kobrel.plan.model import Plan, Shot, SubjectTarget

_STILL_DPT = 1e-4


def summary(plan: Plan, shot: Shot, numbers: Survey) -> list[str]:
    """Sentences about a shot.

    Parameters
    ----------
    numbers : the survey of all the shot's frames
    """
    wanted = {mark.target.number for mark in shot.marks if isinstance(mark.target, SubjectTarget)}
    said = []
    for row, number in enumerate(numbers.subjects):
        subject = plan.subject(number)
        if subject and number in wanted:
            said.append(f"{subject.name} {_sharp_frames(numbers, row)}")
    pulls = _pulls(shot, numbers)
    return said[:1] + pulls + said[1:]


def lens_words(glass: Glass) -> str:
    """Focal length and stop, from the least to the most where keys change them; of an orthographic view
    its cone.
    """
    if glass.projection == "orthographic":
        return f"orthographic, cone {glass.cone_deg:.3g}°"
    return f"{_reach(glass.focal_mm, 4)} mm  f/{_reach(glass.f_number, 3)}"


def _reach(keyed: Keyed, digits: int) -> str:
    values = keyed.reached()
    return "–".join(dict.fromkeys(f"{value:.{digits}g}" for value in (min(values), max(values))))


def _sharp_frames(numbers: Survey, row: int) -> str:
    """In which frames a subject is sharp."""
    sharp = numbers.state[row] == SHARP
    if sharp.all():
        return "in focus throughout"
    if not sharp.any():
        return "never in focus"
    found = runs(numbers.frames, sharp)
    if len(found) == 1 and sharp[0]:
        return f"in focus to {found[0][1]:g}"
    if len(found) == 1 and sharp[-1]:
        return f"in focus from {found[0][0]:g}"
    return "in focus " + ", ".join(f"{a:g}–{b:g}" if b > a else f"at {a:g}" for a, b in found)


def _pulls(shot: Shot, numbers: Survey) -> list[str]:
    """Length and greatest speed of each move between marks on different things."""
    focus = 1.0 / numbers.camera.focus_m
    result = []
    for before, after in zip(shot.marks, shot.marks[1:], strict=False):
        inside = np.flatnonzero((numbers.frames >= before.frame) & (numbers.frames <= after.frame))
        if before.target == after.target or len(inside) < 2:
            continue
        speed = float(np.max(np.abs(np.diff(focus[inside])))) * shot.fps
        if speed > _STILL_DPT:
            result.append(f"pull of {after.frame - before.frame:g} frames, up to {speed:.2f} dioptres/s")
    return result
