"""A first plan from a scene file: its camera, lens, frames, and the point in focus."""

from pathlib import Path

import numpy as np

from kobrel.errors import PlanError
from kobrel.optics.lens import Numbers
from kobrel.plan.edit import add_subject
from kobrel.plan.instrument import Exposure, Glass, Sensor
from kobrel.plan.iris import IrisShape
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
    scene_name,
)
from kobrel.plan.parts import Key, Keyed
from kobrel.plan.space.anchors import on_surface
from kobrel.plan.space.moves import vector
from kobrel.stage.motion import Track
from kobrel.stage.scene import CameraSource, Scene
from kobrel.stage.stage import Stage

DEFAULT_FRAMES = (1001, 1096)
_SAME_RATIO = 1e-3
_SAME_PX = 0.05
"""How far, in pixels at delivery, blur may be off what the file's own focus gives."""
_NEAR_ENOUGH_DPT = 0.02
# How many times its radius a ball must be away to fill the default lens and sensor.
_BACK_OFF = 5.2


def plan_from_scene(
    path: Path, scene: Scene, camera_path: str | None = None, unit_m: float | None = None
) -> tuple[Plan, Stage]:
    """A plan of one shot on a scene, and its stage.

    Parameters
    ----------
    path : the scene's file
    camera_path : which camera; None is the file's first, or one that sees everything
    unit_m : the unit that the scene was read in, if it was given by hand

    Raises
    ------
    PlanError
        The camera is not in the file.
    """
    name = scene_name(path, set())
    stage = Stage([(name, scene)])
    source = _choose(path, scene, camera_path)
    first, last = frames_of(scene)
    shot = (
        shot_from_camera("01", name, scene, source, first, last)
        if source
        else Shot(
            name="01",
            title=path.stem,
            first=first,
            last=last,
            fps=scene.fps,
            camera=overview_camera(stage),
            marks=(Mark(frame=first, target=DistanceTarget(metres=_size(stage) * _BACK_OFF)),),
        )
    )
    reference = SceneRef(name=name, path=str(path.absolute()), unit_m=unit_m)
    plan = Plan(name=path.stem, scenes=(reference,), shots=(shot,))
    if source and source.focus_m:
        plan = _with_focus_subject(plan, shot, stage)
    return plan, stage


def _choose(path: Path, scene: Scene, camera_path: str | None) -> CameraSource | None:
    if camera_path is None:
        return scene.cameras[0] if scene.cameras else None
    source = scene.camera(camera_path)
    if source is None:
        known = ", ".join(camera.path for camera in scene.cameras) or "none"
        raise PlanError(f"no camera {camera_path}.", file=path, remedy=f"The file's cameras: {known}.")
    return source


def frames_of(scene: Scene, otherwise: tuple[int, int] = DEFAULT_FRAMES) -> tuple[int, int]:
    """First and last frame of a scene, or others where it does not say them."""
    if scene.first_frame is None or scene.last_frame is None or scene.last_frame < scene.first_frame:
        return otherwise
    return scene.first_frame, scene.last_frame


def shot_from_camera(
    name: str, scene_ref: str, scene: Scene, source: CameraSource, first: int, last: int
) -> Shot:
    """A shot with a camera's own lens, sensor, keys and focus."""
    focus = source.focus_m or Track.constant([3.0])
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
            focal_mm=_keyed(source.focal_mm, first, last),
            f_number=_keyed(source.f_number, first, last) if source.f_number else Keyed(value=2.8),
            squeeze=source.squeeze,
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
    return focal_mm**2 / f_number / 1000.0 / width_mm * Shot.model_fields["width_px"].default


def _keyed(track: Track, first: int, last: int) -> Keyed:
    """The fewest keys that give a track's values within 0.1 %."""
    if not track.moves:
        return Keyed(value=float(track.values[0, 0]))
    frames = np.arange(first, last + 1.0)
    values = track.at(frames)[:, 0]
    kept = fewest(frames, np.log(values), _SAME_RATIO)
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


def _size(stage: Stage) -> float:
    low, high = stage.bounds()
    return max(float(np.linalg.norm(high - low)) / 2, 1e-3)


def overview_camera(stage: Stage) -> MadeCamera:
    """A camera from in front, to the right and above that sees the whole stage."""
    low, high = stage.bounds()
    centre = (low + high) / 2
    back = np.array([0.5, 0.35, 0.8])
    back /= np.linalg.norm(back)
    return MadeCamera(
        position_m=vector(centre + back * _size(stage) * _BACK_OFF), aim_m=vector(centre), near_clip_m=0.0
    )


def empty_plan() -> Plan:
    """A plan with nothing in it but a shot whose camera stands at eye height."""
    camera = MadeCamera(position_m=(0.0, 1.6, 6.0), aim_m=(0.0, 1.0, 0.0))
    first, last = DEFAULT_FRAMES
    mark = Mark(frame=first, target=DistanceTarget(metres=6.0))
    glass = Glass(focal_mm=Keyed(value=35.0))
    shot = Shot(name="01", first=first, last=last, camera=camera, glass=glass, marks=(mark,))
    return Plan(shots=(shot,))
