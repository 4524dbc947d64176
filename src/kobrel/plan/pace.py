"""How fast a pull goes, and whether it shows."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kobrel.optics import lens, sensor
from kobrel.optics.lens import Numbers
from kobrel.plan.model import Mark, Plan, Shot, SubjectTarget
from kobrel.plan.survey import GONE, Survey, spans

SHOWS = 2.0
"""A rack shows when it blurs what it leaves by so many times the largest blur called sharp."""


@dataclass(frozen=True, eq=False)
class Pace:
    """Speed of the focus at F frames, on the way to the next.

    Parameters
    ----------
    dpt_s : (F,) dioptres a second
    deg_s : (F,) degrees a second of the focus ring
    too_fast : (F,) beyond what the ring is to be turned at
    """

    dpt_s: Numbers
    deg_s: Numbers
    too_fast: NDArray[np.bool_]

    @property
    def fastest(self) -> int:
        """Index of the fastest frame."""
        return int(np.argmax(self.dpt_s))


def closest_m(shot: Shot) -> float:
    """Where the ring's near end is: the lens's closest focus, or what the shot says."""
    return shot.glass.lens.close_focus_m if shot.glass.lens else shot.ring.closest_m


def pace(shot: Shot, numbers: Survey) -> Pace:
    """The speed of a shot's focus; its ring is even in dioptres from its near end to infinity."""
    steps = np.abs(np.diff(1.0 / numbers.camera.focus_m)) * shot.fps
    dpt_s = np.append(steps, steps[-1:] if len(steps) else 0.0)
    deg_s = dpt_s * closest_m(shot) * shot.ring.throw_deg
    return Pace(dpt_s, deg_s, deg_s > shot.ring.most_deg_s * (1 + 1e-9))


def pace_doubts(plan: Plan, shot: Shot, numbers: Survey) -> list[str]:
    """Pulls that go too fast, and racks that show nothing, in sentences."""
    made = pace(shot, numbers)
    found = []
    if made.too_fast.any():
        frames = spans(numbers.frames, made.too_fast, "all frames", "")
        found.append(
            f"The focus ring turns at up to {made.deg_s.max():.0f} degrees a second, at {frames}; "
            f"{shot.ring.most_deg_s:g} is the most. Give the pull more frames."
        )
    for before, after in pairwise(shot.marks):
        if shot.first <= after.frame <= shot.last:
            found += _unseen(plan, numbers, before, after)
    return found


def _unseen(plan: Plan, numbers: Survey, before: Mark, after: Mark) -> list[str]:
    """Whether a rack between two subjects leaves both sharp, and the stop that would show it."""
    one, other = before.target, after.target
    if not isinstance(one, SubjectTarget) or not isinstance(other, SubjectTarget) or one == other:
        return []
    if one.number not in numbers.subjects or other.number not in numbers.subjects:
        return []
    column = numbers.index_of(after.frame)
    rows = [numbers.subjects.index(target.number) for target in (one, other)]
    camera = numbers.camera.frame(column)
    if camera.projection == "orthographic" or any(numbers.state[row, column] == GONE for row in rows):
        return []
    far, near = (float(numbers.focus_distance_m[row, column]) for row in rows)
    blur_mm = lens.blur_mm(camera.focal_mm, camera.f_number, near, far, camera.model)
    blur = float(sensor.blur_px(blur_mm, camera.sensor_width_mm, camera.width_px, camera.squeeze))
    if blur > camera.coc_px:
        return []
    names = [subject.name if (subject := plan.subject(t.number)) else "" for t in (one, other)]
    stop = float(camera.f_number) * blur / (SHOWS * camera.coc_px)
    would = f"f/{stop:.2g} would show it." if stop >= 0.5 else "No lens would show it; move one of them."
    return [
        f"The rack from {names[0]} to {names[1]} at {after.frame:g} shows nothing: "
        f"what it leaves is {blur:.1f} px soft. {would}"
    ]
