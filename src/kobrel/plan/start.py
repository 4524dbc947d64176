"""A first plan from a scene file: its camera, lens, frames, and the point in focus."""

import math
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.plan.edit import add_subject
from kobrel.plan.instrument import Exposure, Glass, Sensor
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.look import Light
from kobrel.plan.measure.arrival import focused_on_middle, light_of, middle_pick, shot_doubts
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import (
    Anchor,
    DistanceTarget,
    FileCamera,
    MadeCamera,
    Mark,
    Plan,
    PointAnchor,
    SceneRef,
    Shot,
)
from kobrel.plan.names import scene_name, thing_name
from kobrel.plan.parts import plain_reason
from kobrel.plan.pictures.rendered import RenderedImage
from kobrel.plan.space.anchors import on_surface
from kobrel.plan.space.moves import vector
from kobrel.plan.space.overview import overview_camera, overview_distance_m
from kobrel.stage.motion import Track
from kobrel.stage.scene import CameraSource, Progress, Scene, UpAxis, no_progress
from kobrel.stage.stage import Stage

DEFAULT_FRAMES = (1001, 1096)
_SAME_RATIO = 1e-3
_SAME_PX = 0.05
"""How far, in pixels at delivery, blur may be off what the file's own focus gives."""
_NEAR_ENOUGH_DPT = 0.02
MOST_SHOTS = 12
"""How many cameras of a file become shots by themselves."""


def plan_from_scene(
    path: Path,
    scene: Scene,
    camera_path: str | None = None,
    unit_m: float | None = None,
    up: UpAxis | None = None,
    told: list[str] | None = None,
    progress: Progress = no_progress,
    finished: RenderedImage | None = None,
) -> tuple[Plan, Stage]:
    """A plan of the shots of a scene, and its stage.

    Parameters
    ----------
    path : the scene's file
    camera_path : which camera; None is each of the file's, or one that sees everything
    unit_m, up : the unit that the scene was read in, and its up axis, if they were given by hand
    told : where it is said what was chosen
    progress : told how far the making of what rays need is
    finished : where the scene is the relief of a rendered image

    Raises
    ------
    PlanError
        The camera is not in the file.
    """
    told = [] if told is None else told
    stage = Stage([(scene_name(path, set()), scene)])
    told += scene.assumed if unit_m is None else []
    sources = _chosen(path, scene, camera_path)
    stage.prepare(progress)
    if len(sources) > MOST_SHOTS:
        told.append(f"Of {len(sources)} cameras the first {MOST_SHOTS} became shots.")
    name = next(iter(stage.scenes))
    reference = SceneRef(name=name, path=str(path.absolute()), unit_m=unit_m, up=up, finished=finished)
    plan = Plan(name=path.stem, scenes=(reference,), light=light_of(scene, Light()))
    try:
        plan = _with_shots(plan, stage, sources[:MOST_SHOTS], told)
        shown = name if finished is not None else ""
        return plan.replace(shots=tuple(shot.replace(finished=shown) for shot in plan.shots)), stage
    except ValidationError as error:
        raise PlanError(
            f"its content cannot be used ({plain_reason(error).rstrip('.')}).", file=path
        ) from None


def _with_shots(plan: Plan, stage: Stage, sources: list[CameraSource], told: list[str]) -> Plan:
    """The plan with a shot of each camera, or with one that sees everything."""
    if not sources:
        return _with_overview(plan, stage, plan.name)
    for number, source in enumerate(sources, start=1):
        plan = with_shot_of(plan, stage, plan.scenes[0].name, source, f"{number:02d}", told)
    return plan


def _chosen(path: Path, scene: Scene, camera_path: str | None) -> list[CameraSource]:
    if camera_path is None:
        return list(scene.cameras)
    source = scene.camera(camera_path)
    if source is None:
        known = ", ".join(camera.path for camera in scene.cameras) or "none"
        raise PlanError(f"no camera {camera_path}.", file=path, remedy=f"The file's cameras: {known}.")
    return [source]


def with_shot_of(
    plan: Plan, stage: Stage, scene_ref: str, source: CameraSource, name: str, told: list[str]
) -> Plan:
    """The plan with a shot more: of a camera, focused where the file has it, whatever is there; where it
    holds no focus, on what is in the middle. What the first shot is focused on becomes a subject.
    """
    scene = stage.scenes[scene_ref]
    shot = shot_from_camera(name, scene_ref, scene, source, *frames_of(scene))
    plan = plan.replace(shots=(*plan.shots, shot))
    if source.focus_m is not None:
        told += [doubt.text for doubt in shot_doubts(plan, shot, stage) if doubt.mend == "focus"]
        return _with_focus_subject(plan, shot, stage) if len(plan.shots) == 1 else plan
    pick = middle_pick(plan, shot, stage) if stage.triangle_count else None
    if pick is None:
        return plan
    where = thing_name(plan, pick.place)
    told.append(f"{source.path} has no focus distance; focus set to {where}, at the centre of the frame.")
    if len(plan.shots) == 1:
        return focused_on_middle(plan, shot, stage)
    mark = Mark(frame=shot.first, target=DistanceTarget(metres=pick.along))
    return plan.replace(shots=(*plan.shots[:-1], shot.replace(marks=(mark,))))


def _with_overview(plan: Plan, stage: Stage, title: str) -> Plan:
    """The plan with a shot that sees everything, focused on what is in its middle."""
    scene = next(iter(stage.scenes.values()))
    first, last = frames_of(scene)
    mark = Mark(frame=first, target=DistanceTarget(metres=overview_distance_m(stage)))
    camera = overview_camera(stage)
    shot = Shot(name="01", title=title, first=first, last=last, fps=scene.fps, camera=camera, marks=(mark,))
    plan = plan.replace(shots=(shot,))
    return focused_on_middle(plan, shot, stage) if stage.triangle_count else plan


def frames_of(scene: Scene, otherwise: tuple[int, int] = DEFAULT_FRAMES) -> tuple[int, int]:
    """First and last frame of a scene, or others where it does not say them."""
    if scene.first_frame is None or scene.last_frame is None or scene.last_frame < scene.first_frame:
        return otherwise
    return scene.first_frame, scene.last_frame


def shot_from_camera(
    name: str, scene_ref: str, scene: Scene, source: CameraSource, first: int, last: int
) -> Shot:
    """A shot with a camera's own lens, sensor, keys and focus."""
    focus, stops = source.focus_m or Track.constant([3.0]), source.f_number or Track.constant([2.8])
    return Shot(
        name=name,
        title=scene.nodes[source.node].name,
        first=first,
        last=last,
        fps=scene.fps,
        camera=FileCamera(scene=scene_ref, path=source.path),
        glass=Glass(
            sensor=Sensor(
                width_mm=float(source.width_mm.values[0, 0]), height_mm=float(source.height_mm.values[0, 0])
            ),
            focal_mm=_keyed(source.focal_mm, first, last, _same_framing(source)),
            f_number=_keyed(stops, first, last, _SAME_RATIO),
            squeeze=source.squeeze,
            shift_mm=source.shift_mm,
            model=source.model,
            surface=source.surface,
            projection=source.projection,
            field_m=source.field_m,
            cone_deg=source.cone_deg,
        ),
        iris=IrisShape(
            blades=source.iris.blades,
            roundness=source.iris.roundness,
            rotation_deg=source.iris.rotation_deg,
        ),
        exposure=Exposure.right_at(float(source.f_number.values[0, 0]) if source.f_number else 2.8),
        marks=_marks(focus, first, last, _SAME_PX / _px_a_dioptre(source)),
    )


def _px_a_dioptre(source: CameraSource) -> float:
    """The most blur, in pixels at delivery, that a camera has for each dioptre of defocus.

    The pupil times the focal length over the sensor's width; a real lens focused near has a little more.
    """
    focal_mm = float(np.max(source.focal_mm.values))
    f_number = float(np.min(source.f_number.values)) if source.f_number else 2.8
    width_mm = float(source.width_mm.values[0, 0])
    return float(focal_mm**2 / f_number / 1000.0 / width_mm * Shot.model_fields["width_px"].default)


def _same_framing(source: CameraSource) -> float:
    """The part by which a camera's focal length may be off so that nothing moves in the delivered picture."""
    shape = float(source.height_mm.values[0, 0]) / float(source.width_mm.values[0, 0])
    corner_px = Shot.model_fields["width_px"].default / 2 * math.hypot(1.0, shape)
    return float(_SAME_PX / corner_px)


def _keyed(track: Track, first: int, last: int, same_part: float) -> Keyed:
    """The fewest keys that give a track's values within a part of them."""
    if not track.moves:
        return Keyed(value=float(track.values[0, 0]))
    frames = np.arange(first, last + 1.0)
    values = track.at(frames)[:, 0]
    kept = fewest(frames, np.log(values), same_part)
    keys = tuple(Key(frame=frames[i], value=float(values[i]), ease="even") for i in kept)
    return Keyed(value=keys[0].value, keys=keys)


def _marks(track: Track, first: int, last: int, same_dpt: float) -> tuple[Mark, ...]:
    frames = np.arange(first, last + 1.0)
    values = np.broadcast_to(track.at(frames)[:, 0], frames.shape)
    kept = fewest(frames, 1.0 / values, same_dpt) if track.moves else [0]
    return tuple(
        Mark(frame=frames[i], target=DistanceTarget(metres=float(values[i])), ease="even") for i in kept
    )


def fewest(times: Numbers, values: Numbers, tolerance: float) -> list[int]:
    """The samples that straight lines between them need to pass all others within a tolerance.

    Ramer, Douglas and Peucker's division, measured along the value; (n,) each.
    """
    kept = {0, len(times) - 1}
    spans = [(0, len(times) - 1)]
    while spans:
        low, high = spans.pop()
        if high - low < 2:
            continue
        line = np.interp(times[low : high + 1], [times[low], times[high]], [values[low], values[high]])
        off = np.abs(values[low : high + 1] - line)
        worst = low + int(np.argmax(off))
        if off.max() > tolerance:
            kept.add(worst)
            spans += [(low, worst), (worst, high)]
    return sorted(kept)


def _with_focus_subject(plan: Plan, shot: Shot, stage: Stage) -> Plan:
    """The plan with a subject at the point in focus: on a surface that is there, or in the air."""
    camera = camera_at(plan, shot, shot.first, stage)
    focus = float(camera.focus_m)
    origin, toward = np.array(camera.pose[:3, 3]), -np.array(camera.pose[:3, 2])
    pick = stage.pick(shot.first, origin, toward)
    anchor: Anchor
    if pick and abs(1 / pick.along - 1 / focus) < _NEAR_ENOUGH_DPT:
        anchor = on_surface(pick)
        name = pick.place.path.rsplit("/", 1)[-1]
    else:
        anchor, name = PointAnchor(position_m=vector(origin + toward * focus)), "In focus"
    return add_subject(plan, name, anchor)[0]


def empty_plan() -> Plan:
    """A plan with nothing in it but a shot whose camera stands at eye height."""
    camera = MadeCamera(position_m=(0.0, 1.6, 6.0), aim_m=(0.0, 1.0, 0.0))
    first, last = DEFAULT_FRAMES
    mark = Mark(frame=first, target=DistanceTarget(metres=6.0))
    glass = Glass(focal_mm=Keyed(value=35.0))
    shot = Shot(name="01", first=first, last=last, camera=camera, glass=glass, marks=(mark,))
    return Plan(shots=(shot,))
