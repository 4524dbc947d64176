"""A scene at first sight: whether anything is in the picture and in focus, and what would mend it."""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from kobrel.optics.lens import Numbers
from kobrel.optics.units import format_length
from kobrel.plan.edit import add_subject
from kobrel.plan.look import Light, Surround
from kobrel.plan.measure.camera import Camera, camera_at
from kobrel.plan.model import DistanceTarget, Mark, Plan, Shot, SubjectTarget
from kobrel.plan.names import is_of_a_file, thing_name
from kobrel.plan.space.anchors import on_surface
from kobrel.plan.space.overview import overview_camera, overview_distance_m
from kobrel.stage.scene import Scene
from kobrel.stage.stage import Pick, Stage

_GRID = (31, 17)
_IN_FOCUS_PX = 10.0
"""Blur up to which something counts as what a focus may be meant for."""
_SKY_OF_KEY = 0.25

Mend = Literal["", "camera", "focus", "unit"]


@dataclass(frozen=True)
class Diagnostic:
    """What can hardly be meant, in a sentence, and what would mend it.

    Parameters
    ----------
    mend : "camera" looks at everything, "focus" focuses on the middle, "unit" takes `unit_m` for `scene`
    offer : the words of a button for it
    """

    text: str
    mend: Mend = ""
    offer: str = ""
    scene: str = ""
    unit_m: float = 1.0


def seen_distances_m(camera: Camera, stage: Stage, frame: float) -> Numbers:
    """Distances, as the focus counts them, to what a grid of rays over the picture meets; infinite where
    they meet nothing. (17, 31).
    """
    from kobrel.stage.engine.rays import closest_hits

    width, height = _GRID
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    origins, ways = camera.ray(x.ravel(), y.ravel(), width, height)
    snapshot = stage.snapshot(frame, eye=camera.eye)
    hits = closest_hits(snapshot.handle, snapshot.first_rows, origins - snapshot.origin, ways)
    along = hits.distance.astype(float)
    if camera.surface == "sphere" and camera.projection == "perspective":
        along = along * np.linalg.norm(ways, axis=1)
    return np.asarray(np.where(along > camera.near_clip_m, along, np.inf).reshape(height, width))


def shot_doubts(plan: Plan, shot: Shot, stage: Stage) -> list[Diagnostic]:
    """Whether a shot's picture is empty, or its focus never on anything: at its first, middle and last
    frame.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    """
    stage = stage.of_shot(shot.name)
    if not stage.triangle_count:
        return []
    empty, lost = True, True
    focus_m, nearest_m = 0.0, np.inf
    for frame in dict.fromkeys((shot.first, (shot.first + shot.last) // 2, shot.last)):
        camera = camera_at(plan, shot, frame, stage)
        seen = seen_distances_m(camera, stage, frame)
        there = seen[np.isfinite(seen)]
        empty &= not len(there)
        if len(there):
            lost &= float(np.min(camera.blur_px(there))) > _IN_FOCUS_PX
            if float(there.min()) < nearest_m:
                focus_m, nearest_m = float(camera.focus_m), float(there.min())
    if empty:
        text = f"Shot {shot.label}: nothing is in frame."
        return [Diagnostic(text, "camera", "Look at everything")]
    if lost:
        text = (
            f"Shot {shot.label}: nothing is at the focus distance ({format_length(focus_m)}); the "
            f"nearest visible object is at {format_length(nearest_m)}."
        )
        return [Diagnostic(text, "focus", "Focus on frame centre")]
    return []


def mended(plan: Plan, stage: Stage, shot: Shot, doubt: Diagnostic) -> Plan:
    """The plan with another camera or focus for a shot, as a doubt offers it."""
    if doubt.mend == "camera":
        mark = Mark(frame=float(shot.first), target=DistanceTarget(metres=overview_distance_m(stage)))
        moved = shot.replace(camera=overview_camera(stage), ahead_m=0.0, keeps=None, marks=(mark,))
        plan = plan.replace(shots=tuple(moved if s is shot else s for s in plan.shots))
        return focused_on_middle(plan, moved, stage)
    return focused_on_middle(plan, shot, stage) if doubt.mend == "focus" else plan


def focused_on_middle(plan: Plan, shot: Shot, stage: Stage) -> Plan:
    """The plan with a shot focused on what is nearest to its picture's middle, as a subject; as it is where
    nothing is seen.
    """
    pick = middle_pick(plan, shot, stage)
    if pick is None:
        return plan
    changed, subject = add_subject(plan, thing_name(plan, pick.place), on_surface(pick))
    mark = Mark(frame=float(shot.first), target=SubjectTarget(number=subject.number))
    return changed.replace(shots=tuple(s.replace(marks=(mark,)) if s is shot else s for s in changed.shots))


def middle_pick(plan: Plan, shot: Shot, stage: Stage) -> Pick | None:
    """What is nearest to the middle of a shot's picture at its first frame."""
    stage = stage.of_shot(shot.name)
    camera = camera_at(plan, shot, shot.first, stage)
    seen = seen_distances_m(camera, stage, shot.first)
    height, width = seen.shape
    y, x = np.mgrid[0:height, 0:width]
    away = np.hypot(x - width // 2, y - height // 2)
    away[~np.isfinite(seen)] = np.inf
    if not np.isfinite(away).any():
        return None
    row, column = np.unravel_index(int(np.argmin(away)), away.shape)
    ray = camera.ray(float(column) + 0.5, float(row) + 0.5, width, height)
    return stage.pick(shot.first, *ray, camera.eye)


def light_of(scene: Scene, light: Light) -> Light:
    """A plan's light with what a scene's file lights it with."""
    found = scene.light
    if found is None:
        return light
    changes: dict[str, object] = {"sky_strength": 0.0, "key_strength": 0.0}
    if found.toward is not None and max(found.colour) > 0:
        x, y, z = scene.root[:3, :3] @ np.asarray(found.toward, float) / scene.unit_m
        strength = max(found.colour)
        red, green, blue = (part / strength for part in found.colour)
        changes |= {
            "key_azimuth_deg": float(np.degrees(np.arctan2(x, z))),
            "key_elevation_deg": float(np.degrees(np.arcsin(np.clip(y, -1, 1)))),
            "key_strength": strength,
            "key_colour": (red, green, blue),
            "sky_strength": _SKY_OF_KEY * strength,
        }
    about = max(found.about)
    if about > 0 and found.picture is not None:
        changes["surround"] = Surround(
            path=str(found.picture), rotation_deg=found.turn_deg, exposure_ev=float(np.log2(about))
        )
    elif about > 0:
        red, green, blue = (part / about for part in found.about)
        even = (red, green, blue)
        changes |= {"zenith": even, "horizon": even, "ground": even, "sky_strength": about}
    return light.replace(**changes)


def scene_names(stage: Stage) -> list[str]:
    """The stage's scenes that are files."""
    return [name for name in stage.scenes if is_of_a_file(name)]
