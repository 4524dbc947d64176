"""A shot's camera as a USD layer.

Lengths of lens and sensor are written the schema's way, in tenths of a scene unit. The
layer stands alone and can be laid over the scene it came from: it uses that scene's
unit, up axis, rate and the camera's own path.

USD's camera is a render camera: it does not breathe and knows no squeeze. What is
written under the schema's names is the render camera that makes the same picture; the
lens's own values stand beside it in the ``kobrel`` namespace, and count when read back as long as
the schema's are still those that were written.
"""

from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom

from kobrel.errors import ExchangeError
from kobrel.exchange.writing.whole import whole_file
from kobrel.optics import lens
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import FileCamera, Plan, Shot
from kobrel.plan.sequence.shots import whole_range
from kobrel.stage.motion import rigid
from kobrel.stage.read.usd.camera import (
    OWN_BLADES,
    OWN_CONE,
    OWN_F_NUMBER,
    OWN_FOCAL,
    OWN_FOCUS,
    OWN_MODEL,
    OWN_ROTATION,
    OWN_ROUNDNESS,
    OWN_SENSOR,
    OWN_SURFACE,
    tenths_mm,
)
from kobrel.stage.scene import OWN_SQUEEZE, CameraSource, Scene
from kobrel.stage.stage import Stage

_TRANSFORM = "xformOp:transform"
_FAR_M = 1e6
"""Written for a focus at infinity, which renderers do not read."""


def write_usd(plan: Plan, shot: Shot, stage: Stage, path: Path, only_changes: bool = False) -> None:
    """Write a shot's camera, sampled at each of its frames.

    Parameters
    ----------
    only_changes : write no more than what differs from the scene that the camera comes from, as opinions
        over it, so that a render's own layer can lie above or below

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    ExchangeError
        The file cannot be written.
    """
    numbers = survey(plan, shot, stage, whole_range(shot))
    if shot.glass.projection == "fisheye":
        raise ExchangeError(
            f"Shot {shot.label}: USD's camera knows no fisheye. Export its numbers as CSV instead."
        )
    scene = stage.scenes.get(shot.camera.scene) if isinstance(shot.camera, FileCamera) else None
    if path.suffix.lower() not in (".usd", ".usda", ".usdc"):
        raise ExchangeError("a USD layer's name ends in .usda, .usdc or .usd.", file=path)
    layer = Sdf.Layer.CreateAnonymous(path.suffix)
    target = Usd.Stage.Open(layer)
    unit_m, to_file = _axes(shot, stage)
    UsdGeom.SetStageMetersPerUnit(target, scene.unit_m if scene else 1.0)
    UsdGeom.SetStageUpAxis(target, UsdGeom.Tokens.z if scene and scene.up == "Z" else UsdGeom.Tokens.y)
    # Layers of different time codes a second are scaled when laid over each other, so the
    # scene's count is kept; how fast the shot plays stands beside it.
    target.SetTimeCodesPerSecond(scene.fps if scene else shot.fps)
    target.SetFramesPerSecond(shot.fps)
    target.SetStartTimeCode(numbers.frames[0])
    target.SetEndTimeCode(numbers.frames[-1])
    target.GetRootLayer().comment = f"{plan.name}, shot {shot.label}, by Kobrel"
    prim_path = (
        shot.camera.path
        if isinstance(shot.camera, FileCamera)
        else f"/{Tf.MakeValidIdentifier('shot_' + shot.name)}"
    )
    camera = UsdGeom.Camera.Define(target, prim_path)
    target.SetDefaultPrim(target.GetPrimAtPath(Sdf.Path(prim_path).GetPrefixes()[0]))
    _write_samples(camera, shot, numbers.frames, numbers.camera, unit_m, to_file)
    source = scene.camera(prim_path) if scene else None
    _write_clip(camera, source, numbers.camera.near_clip_m, unit_m)
    if only_changes:
        if scene is None or source is None:
            raise ExchangeError(
                f"Shot {shot.label}: its camera is of no scene file, so there is nothing that it changes.",
                remedy="Export the whole camera instead.",
            )
        _keep_changes(layer, camera, _as_it_was(scene, source, numbers.frames), shot)
    with whole_file(path) as beside:
        try:
            written = layer.Export(str(beside))
        except Tf.ErrorException:
            written = False
        if not written:
            raise ExchangeError("the file cannot be written.", file=path, remedy="Choose another folder.")


def _as_it_was(scene: Scene, source: CameraSource, frames: Numbers) -> dict[str, Numbers]:
    """What the scene's own camera has at frames, (F, ...) by the names of the schema, in its unit."""
    tenths, one = 1.0 / tenths_mm(scene.unit_m), np.ones(len(frames))
    model = source.model if source.focus_m is not None else "render"
    focal = source.focal_mm.at(frames)[:, 0] * one
    focus = source.focus_m.at(frames)[:, 0] * one if source.focus_m is not None else None
    image = focal if focus is None else lens.image_distance_mm(focal, focus, model)
    found = {
        "focalLength": image * tenths,
        "horizontalAperture": source.width_mm.at(frames)[:, 0] * source.squeeze * tenths * one,
        "verticalAperture": source.height_mm.at(frames)[:, 0] * tenths * one,
    }
    if source.f_number is not None:
        found["fStop"] = source.f_number.at(frames)[:, 0] * image / focal
    if focus is not None:
        found["focusDistance"] = focus / scene.unit_m
    poses = rigid(np.linalg.inv(scene.root) @ scene.world(source.node, frames))
    return {**found, _TRANSFORM: np.broadcast_to(poses, (len(frames), 4, 4))}


def _keep_changes(layer: Sdf.Layer, camera: UsdGeom.Camera, was: dict[str, Numbers], shot: Shot) -> None:
    """Leave in a layer only what is not as it was, as opinions over the scene's camera."""
    prim = camera.GetPrim()
    spec = layer.GetPrimAtPath(prim.GetPath())
    gone = [name for name, values in was.items() if _stays(prim.GetAttribute(name), values)]
    if _TRANSFORM in gone:
        gone.append("xformOpOrder")
    gone += ["clippingRange", *([] if shot.glass.projection == "orthographic" else ["projection"])]
    for name in gone:
        if name in spec.properties:
            spec.RemoveProperty(spec.properties[name])
    while spec is not None and spec.path != Sdf.Path.absoluteRootPath:
        spec.specifier = Sdf.SpecifierOver
        spec.ClearInfo("typeName")
        spec = spec.nameParent


def _stays(attribute: Usd.Attribute, values: Numbers) -> bool:
    """Whether an attribute's samples are as they were."""
    times = attribute.GetTimeSamples()
    written = np.asarray([np.array(attribute.Get(time)).T for time in times])
    return written.shape == values.shape and bool(np.allclose(written, values, rtol=2e-6, atol=1e-6))


def _axes(shot: Shot, stage: Stage) -> tuple[float, Numbers]:
    """Metres on the stage in a unit of the scene, and the matrix from the stage to that scene's
    axes and unit: where it stands turned or scaled, the layer still fits its file.
    """
    name = shot.camera.scene if isinstance(shot.camera, FileCamera) else None
    if name is None or name not in stage.scenes:
        return 1.0, np.eye(4)
    scene = stage.scenes[name]
    placed = stage.placement_of(name) @ scene.root
    return scene.unit_m * stage.scale_of(name), np.asarray(np.linalg.inv(placed), float)


def _write_samples(
    camera: UsdGeom.Camera, shot: Shot, frames: Numbers, numbers: Any, unit_m: float, to_file: Numbers
) -> None:
    tenths = 1.0 / tenths_mm(unit_m)
    prim = camera.GetPrim()
    orthographic = numbers.projection == "orthographic"
    width_mm, height_mm = numbers.sensor_width_mm * numbers.squeeze, numbers.sensor_height_mm
    if orthographic:  # the schema gives the field's size in tenths of a scene unit too
        camera.CreateProjectionAttr(UsdGeom.Tokens.orthographic)
        width_mm, height_mm = numbers.field_m * 1000.0, numbers.field_m * 1000.0 / numbers.aspect
        _own(prim, OWN_CONE, Sdf.ValueTypeNames.Double).Set(numbers.cone_deg)
    poses = rigid(to_file @ numbers.pose)
    camera.SetResetXformStack(True)
    transform = camera.AddTransformOp()
    render_focal = numbers.image_distance_mm
    render_stop = numbers.image_f_number
    sampled = (
        (camera.CreateFocalLengthAttr(), render_focal * tenths),
        (camera.CreateFStopAttr(), render_stop),
        (camera.CreateFocusDistanceAttr(), np.minimum(numbers.focus_m, _FAR_M) / unit_m),
        (
            camera.CreateHorizontalApertureAttr(),
            np.full(len(frames), width_mm * tenths),
        ),
        (camera.CreateVerticalApertureAttr(), np.full(len(frames), height_mm * tenths)),
        (_own(prim, OWN_FOCAL, Sdf.ValueTypeNames.Double), numbers.focal_mm),
        (_own(prim, OWN_F_NUMBER, Sdf.ValueTypeNames.Double), numbers.f_number),
        (_own(prim, OWN_FOCUS, Sdf.ValueTypeNames.Double), numbers.focus_m),
    )
    with Sdf.ChangeBlock():
        for attribute, values in sampled:
            for frame, value in zip(frames, values, strict=True):
                attribute.Set(float(value), float(frame))
        for frame, pose in zip(frames, poses, strict=True):
            transform.Set(Gf.Matrix4d(np.ascontiguousarray(pose.T)), float(frame))
    across, up = numbers.shift_mm
    if across or up:
        camera.CreateHorizontalApertureOffsetAttr(width_mm * tenths * across / numbers.sensor_width_mm)
        camera.CreateVerticalApertureOffsetAttr(height_mm * tenths * up / numbers.sensor_height_mm)
    half_open = shot.exposure.shutter_deg / 720.0
    camera.CreateShutterOpenAttr(-half_open)
    camera.CreateShutterCloseAttr(half_open)
    for name, kind, value in (
        (OWN_SENSOR, Sdf.ValueTypeNames.Double, float(numbers.sensor_width_mm)),
        (OWN_SQUEEZE, Sdf.ValueTypeNames.Double, float(numbers.squeeze)),
        (OWN_MODEL, Sdf.ValueTypeNames.Token, numbers.model),
        (OWN_SURFACE, Sdf.ValueTypeNames.Token, numbers.surface),
        (OWN_BLADES, Sdf.ValueTypeNames.Int, shot.iris.blades),
        (OWN_ROUNDNESS, Sdf.ValueTypeNames.Double, shot.iris.roundness),
        (OWN_ROTATION, Sdf.ValueTypeNames.Double, shot.iris.rotation_deg),
    ):
        _own(prim, name, kind).Set(value)


def _write_clip(camera: UsdGeom.Camera, source: CameraSource | None, near_m: float, unit_m: float) -> None:
    """The range of sight: a file's camera keeps its own."""
    far_m = _FAR_M if source is None or not np.isfinite(source.far_clip_m) else source.far_clip_m
    if near_m > 0 or source is not None:
        camera.CreateClippingRangeAttr(Gf.Vec2f(near_m / unit_m, far_m / unit_m))


def _own(prim: Usd.Prim, name: str, kind: Sdf.ValueTypeName) -> Usd.Attribute:
    return prim.CreateAttribute(name, kind, custom=True)
