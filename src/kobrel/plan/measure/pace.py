"""How fast a pull goes, and whether it shows."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kobrel.optics import lens, sensor
from kobrel.optics.exposure import WIDEST_STOP
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.survey import GONE, Survey, spans
from kobrel.plan.model import Mark, Plan, Shot, SubjectTarget

SHOWS = 2.0
"""A rack shows when it blurs what it leaves by so many times the largest blur called sharp."""


@dataclass(frozen=True, eq=False)
class Pace:
    """Speed of the focus at F frames, on the way to the next.

    Parameters
    ----------
    dpt_s : (F,) dioptres a second
    deg_s : (F,) degrees a second of the focus ring
    deg_s2 : (F,) change of the ring's speed at the frame, degrees a second in a second
    too_fast : (F,) beyond what the ring is to be turned at
    too_jerky : (F,) its speed changes more than it is to
    """

    dpt_s: Numbers
    deg_s: Numbers
    deg_s2: Numbers
    too_fast: NDArray[np.bool_]
    too_jerky: NDArray[np.bool_]

    @property
    def fastest(self) -> int:
        """Index of the fastest frame."""
        return int(np.argmax(self.dpt_s))


def closest_m(shot: Shot) -> float:
    """Where the ring's near end is: the lens's closest focus, or what the shot says."""
    return shot.glass.lens.close_focus_m if shot.glass.lens else shot.ring.closest_m


def pace(shot: Shot, numbers: Survey) -> Pace:
    """The speed of a shot's focus; its ring is even in dioptres from its near end to infinity."""
    steps = np.diff(1.0 / numbers.camera.focus_m) * shot.fps
    signed = np.append(steps, steps[-1:] if len(steps) else 0.0)
    deg_a_dpt = closest_m(shot) * shot.ring.throw_deg
    deg_s = np.abs(signed) * deg_a_dpt
    deg_s2 = np.abs(np.diff(signed, prepend=signed[:1])) * deg_a_dpt * shot.fps
    over = 1 + 1e-9
    return Pace(
        np.abs(signed), deg_s, deg_s2,
        deg_s > shot.ring.most_deg_s * over, deg_s2 > shot.ring.most_deg_s2 * over,
    )  # fmt: skip


def breathing_percent(numbers: Survey) -> Numbers:
    """How much larger things are pictured than with the focus at infinity, (F,) percent.

    It is the image distance over the focal length: what refocusing alone does to the picture's size.
    """
    camera = numbers.camera
    return np.broadcast_to((camera.image_distance_mm / camera.focal_mm - 1.0) * 100.0, numbers.frames.shape)


def pace_doubts(plan: Plan, shot: Shot, numbers: Survey) -> list[str]:
    """Pulls that go too fast, and racks that show nothing, in sentences."""
    made = pace(shot, numbers)
    found = []
    if made.too_fast.any():
        frames = spans(numbers.frames, made.too_fast, "all frames", "")
        found.append(
            f"Ring speed of {made.deg_s.max():.0f}°/s at {frames} exceeds {shot.ring.most_deg_s:g}°/s. "
            "Lengthen the pull."
        )
    if made.too_jerky.any():
        frames = spans(numbers.frames, made.too_jerky, "all frames", "")
        found.append(
            f"Ring acceleration exceeds {shot.ring.most_deg_s2:g}°/s² at {frames}. Use a smoother ease "
            "or a longer pull."
        )
    return found + [_sentence(plan, rack) for rack in unseen_racks(shot, numbers)]


@dataclass(frozen=True)
class UnseenRack:
    """A rack between two subjects that leaves both sharp.

    Parameters
    ----------
    before, after : its marks
    blur_px : of the subject that it leaves, as it arrives
    stop : the f-number that would show it; None where no lens has it
    """

    before: Mark
    after: Mark
    blur_px: float
    stop: float | None

    @property
    def would(self) -> str:
        """What would show it, in words."""
        return f"f/{self.stop:.2g} would show it" if self.stop else "no lens would show it"


def unseen_racks(shot: Shot, numbers: Survey) -> list[UnseenRack]:
    """Racks of a shot that show nothing."""
    camera, row_of = numbers.camera, {number: row for row, number in enumerate(numbers.subjects)}
    racks: list[tuple[Mark, Mark]] = []
    found: list[list[int]] = []
    for before, after in pairwise(shot.marks):
        targets = [mark.target for mark in (before, after) if isinstance(mark.target, SubjectTarget)]
        rows = {row_of[target.number]: None for target in targets if target.number in row_of}
        if len(rows) == 2 and shot.first <= after.frame <= shot.last:
            racks.append((before, after))
            found.append([*rows, numbers.index_of(after.frame)])
    if not racks or camera.projection == "orthographic":
        return []
    *pair, column = np.array(found).T
    left, reached = numbers.focus_distance_m[pair, column]
    f_number = camera.f_number[column]
    blur_mm = lens.blur_mm(camera.focal_mm[column], f_number, reached, left, camera.model)
    blur = sensor.blur_px(blur_mm, camera.sensor_width_mm, camera.width_px, camera.squeeze)
    unseen = (numbers.state[pair, column] != GONE).all(axis=0) & (blur <= camera.coc_px)
    stop = f_number * blur / (SHOWS * camera.coc_px)
    return [
        UnseenRack(*racks[k], float(blur[k]), float(stop[k]) if stop[k] >= WIDEST_STOP else None)
        for k in np.flatnonzero(unseen)
    ]


def _sentence(plan: Plan, rack: UnseenRack) -> str:
    one, other = (plan.name_of(mark.target) for mark in (rack.before, rack.after))
    would = rack.would if rack.stop else "No lens would show it; move one of them"
    return (
        f"The rack from {one} to {other} at frame {rack.after.frame:g} is barely visible: {one} ends "
        f"only {rack.blur_px:.1f} px soft. {would}."
    )
