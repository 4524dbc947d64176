"""The shots of a plan as a list: added, doubled, moved, renamed, and given each other's lens."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.plan.edit import unused, with_shot
from kobrel.plan.model import ALT_FIELDS, Cue, FileCamera, Plan, Shot
from kobrel.plan.parts import MOST_FRAMES
from kobrel.plan.sequence.cues import with_cues
from kobrel.plan.start import DEFAULT_FRAMES, frames_of, shot_from_camera
from kobrel.stage.stage import Stage

LENS_FIELDS = tuple(name for name in ALT_FIELDS if name not in ("marks", "keeps", "ahead_m"))
"""What of a shot is its lens and how it records: everything an alt has but marks and place."""


@dataclass(frozen=True)
class Listed:
    """A shot as an edit list has it: its name, its frames without handles, and its cues."""

    name: str
    first: int
    last: int
    fps: float
    handles: int = 0
    cues: tuple[Cue, ...] = ()


def shot_ends(shot: Shot) -> tuple[int, int]:
    """First and last frame of a shot, its handles too."""
    return shot.first - shot.handles, shot.last + shot.handles


def whole_range(shot: Shot) -> Numbers:
    """(F,) all frames of a shot, its handles too."""
    first, last = shot_ends(shot)
    return np.arange(first, last + 1.0)


def add_shot(plan: Plan, shot: Shot, at: int | None = None) -> Plan:
    """The plan with another shot, under an unused name, last or at a place."""
    shots = list(plan.shots)
    fresh = shot.replace(name=unused(shot.name, [s.name for s in shots]))
    shots.insert(len(shots) if at is None else at, fresh)
    return plan.replace(shots=tuple(shots))


def duplicated(plan: Plan, index: int) -> Plan:
    """The plan with a copy of a shot behind it."""
    return add_shot(plan, plan.shots[index], index + 1)


def moved(plan: Plan, index: int, to: int) -> Plan:
    """The plan with a shot at another place of the list; it stops at the ends."""
    shots = list(plan.shots)
    shots.insert(min(max(to, 0), len(shots) - 1), shots.pop(index))
    return plan.replace(shots=tuple(shots))


def removed(plan: Plan, index: int) -> Plan:
    """The plan without a shot; the last one stays.

    Raises
    ------
    PlanError
        It is the only shot.
    """
    if len(plan.shots) == 1:
        raise PlanError("A plan needs at least one shot.")
    return plan.replace(shots=plan.shots[:index] + plan.shots[index + 1 :])


def renamed(plan: Plan, index: int, name: str) -> Plan:
    """The plan with a shot under another name; files that are exported and dials follow it.

    Raises
    ------
    PlanError
        The name is empty, or another shot has it.
    """
    wanted = name.strip()
    if not wanted:
        raise PlanError("A shot needs a name.")
    if any(shot.name == wanted for k, shot in enumerate(plan.shots) if k != index):
        raise PlanError(f"Another shot is called {wanted} already.", remedy="Choose another name.")
    old = plan.shots[index].name
    handed = tuple(
        out.replace(shots=tuple(wanted if each == old else each for each in out.shots)) for out in plan.handed
    )
    dials = tuple(dial.replace(shot=wanted) if dial.shot == old else dial for dial in plan.dials)
    return with_shot(plan, index, plan.shots[index].replace(name=wanted)).replace(handed=handed, dials=dials)


def with_frames(shot: Shot, first: int, last: int) -> Shot:
    """The shot over other frames; its marks and cues stay at theirs.

    Raises
    ------
    PlanError
        It would end before it begins, or be too long to work with.
    """
    if last < first:
        raise PlanError(f"A shot cannot end at {last}, before its start at {first}.")
    if last - first >= MOST_FRAMES:
        raise PlanError(f"A shot has {MOST_FRAMES} frames at most; {first} to {last} are {last - first + 1}.")
    return shot.replace(first=first, last=last)


def with_lens_of(plan: Plan, index: int, others: Collection[int]) -> Plan:
    """The plan with the lens settings of one shot given to others."""
    source = plan.shots[index]
    given = {name: getattr(source, name) for name in LENS_FIELDS}
    shots = [
        shot.replace(**given) if k in others and k != index else shot for k, shot in enumerate(plan.shots)
    ]
    return plan.replace(shots=tuple(shots))


def from_cameras(plan: Plan, stage: Stage) -> tuple[Plan, int]:
    """The plan with a shot for each camera of its scenes that no shot has yet, and how many those are."""
    have, count = {shot.camera for shot in plan.shots}, 0
    like = (plan.shots[-1].first, plan.shots[-1].last) if plan.shots else DEFAULT_FRAMES
    for name, scene in stage.scenes.items():
        for source in scene.cameras:
            if FileCamera(scene=name, path=source.path) in have:
                continue
            frames = frames_of(scene, like)
            plan = add_shot(plan, shot_from_camera(_next_number(plan), name, scene, source, *frames))
            count += 1
    return plan, count


def _next_number(plan: Plan) -> str:
    """The number after the greatest that a shot is named by."""
    numbers = [int(shot.name) for shot in plan.shots if shot.name.isdecimal()]
    return f"{max(numbers, default=len(plan.shots)) + 1:02d}"


def with_list(plan: Plan, listed: Sequence[Listed], like: int, stage: Stage) -> Plan:
    """The plan with the shots of an edit list, in its order.

    A shot of that name takes frames, rate, handles and cues of the list; a new one takes the scene's
    camera of that name, or else is a copy of the shot `like`. Shots that the list does not have follow.

    Raises
    ------
    PlanError
        One is too long to work with.
    """
    known = {shot.name: shot for shot in plan.shots}
    fresh = [_as_listed(known.get(entry.name) or _begun(plan, entry, like, stage), entry) for entry in listed]
    names = {shot.name for shot in fresh}
    return plan.replace(shots=(*fresh, *(shot for shot in plan.shots if shot.name not in names)))


def _as_listed(shot: Shot, entry: Listed) -> Shot:
    placed = with_frames(shot, entry.first, entry.last).replace(fps=entry.fps, handles=entry.handles)
    return with_cues(placed, entry.cues) if entry.cues else placed


def _begun(plan: Plan, entry: Listed, like: int, stage: Stage) -> Shot:
    """A shot that the plan does not have yet."""
    for name, scene in stage.scenes.items():
        for source in scene.cameras:
            if source.path.rsplit("/", 1)[-1] == entry.name:
                return shot_from_camera(entry.name, name, scene, source, entry.first, entry.last)
    return plan.shots[like].replace(name=entry.name, title="", brief=(), alts=(), cues=())
