"""Across shots: what each cut does to focus, blur and depth, and a shot matched to its neighbour."""

import math
from dataclasses import dataclass

import numpy as np

from kobrel.errors import PlanError
from kobrel.optics.exposure import NARROWEST_STOP, WIDEST_STOP
from kobrel.plan.edit import with_shot
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import Plan, Shot
from kobrel.stage.stage import Stage

FOCUS_JUMP_DPT = 0.25
RATIO_JUMP = 2.0
_LEAST = 1e-6


@dataclass(frozen=True)
class Depth:
    """How a picture's depth looks at one frame, whatever its size.

    Parameters
    ----------
    focus_dpt : nearness of the focus
    blur_percent : blur of the far background, percent of the picture's width; infinite in an
        orthographic view
    depth_dpt : what is sharp, in dioptres: small is a thin slice
    """

    focus_dpt: float
    blur_percent: float
    depth_dpt: float


@dataclass(frozen=True)
class Cut:
    """A cut from one shot to the next."""

    before: Depth
    after: Depth

    @property
    def jumps(self) -> tuple[str, ...]:
        """What jumps there, in a few words each."""
        found = []
        if abs(self.after.focus_dpt - self.before.focus_dpt) > FOCUS_JUMP_DPT:
            found.append(f"focus {self.after.focus_dpt - self.before.focus_dpt:+.2f} dpt".replace("-", "−"))
        for name, one, other in (
            ("blur", self.before.blur_percent, self.after.blur_percent),
            ("depth", self.before.depth_dpt, self.after.depth_dpt),
        ):
            ratio = _ratio(one, other)
            if not 1 / RATIO_JUMP <= ratio <= RATIO_JUMP and math.isfinite(ratio):
                found.append(f"{name} {max(ratio, 1 / ratio):.2g}× {'more' if ratio > 1 else 'less'}")
        return tuple(found)


def _ratio(before: float, after: float) -> float:
    return max(after, _LEAST) / max(before, _LEAST) if math.isfinite(before + after) else math.nan


def depth_at(camera: Camera) -> Depth:
    """How the picture of a camera at one frame looks."""
    near, far = (float(limit) for limit in camera.limits_m)
    blur_percent = 100.0 * float(camera.blur_px(math.inf)) / camera.width_px
    return Depth(1.0 / float(camera.focus_m), blur_percent, 1.0 / near - 1.0 / far)


def cut_between(before: Survey, after: Survey) -> Cut:
    """The cut from the last frame of one shot to the first of the next."""
    return Cut(depth_at(before.camera.frame(-1)), depth_at(after.camera.frame(0)))


def matched(plan: Plan, index: int, to: int, stage: Stage) -> Plan:
    """The plan with a shot stopped so that its far background is as soft as its neighbour's at the cut.

    Blur goes inversely with the f-number (``b = f^2 / (N (s - f))`` for the far background), so the
    stop of the whole shot is multiplied by one number; keys keep their ratios.

    Parameters
    ----------
    index : the shot that changes
    to : the shot that it is matched to

    Raises
    ------
    PlanError
        One of them has an orthographic view, whose blur no stop changes, or the stop would be one that
        no lens has.
    """
    shot, other = plan.shots[index], plan.shots[to]
    for each in (shot, other):
        if each.glass.projection == "orthographic":
            raise PlanError(f"Shot {each.label} has an orthographic view; no stop changes its blur.")
    here, there = (_edge(plan, s, stage, s is shot, to < index) for s in (shot, other))
    times = here.blur_percent / max(there.blur_percent, _LEAST)
    keyed = shot.glass.f_number
    values = [value * times for value in keyed.reached()]
    if not all(WIDEST_STOP <= value <= NARROWEST_STOP for value in values):
        worst = min(values) if min(values) < WIDEST_STOP else max(values)
        raise PlanError(
            f"Shot {shot.label} would need f/{worst:.2g} to match {other.label}. "
            "Change its focal length or distance first."
        )
    return with_shot(plan, index, shot.replace(glass=shot.glass.replace(f_number=keyed.times(times))))


def _edge(plan: Plan, shot: Shot, stage: Stage, own: bool, neighbour_is_before: bool) -> Depth:
    """A shot's picture at the cut: its first frame where the cut is before it."""
    at_first = own == neighbour_is_before
    frame = shot.first if at_first else shot.last
    return depth_at(survey(plan, shot, stage, np.array([float(frame)])).camera.frame(0))
