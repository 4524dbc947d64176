"""Cameras of USD: what their numbers mean, in both directions.

USD's schema gives focal length and apertures in tenths of a scene unit, so that a scene
in centimetres holds millimetres. Many files in other units hold millimetres all the
same; they are told by a sensor that could not exist.
"""

import math
from dataclasses import replace
from typing import Any

import numpy as np
from pxr import Usd, UsdGeom

from kobrel.optics.iris import Iris
from kobrel.optics.lens import FocusSurface, LensModel, closest_focus_m, image_distance_mm
from kobrel.stage.motion import Track
from kobrel.stage.read.usd.motion import FIRST, Clock
from kobrel.stage.scene import OWN_SQUEEZE, CameraSource

POSSIBLE_SENSOR_MM = (1.0, 400.0)
ASSUMED_F_NUMBER = 2.8
_SAME = 2e-5

OWN_FOCAL = "kobrel:focalMm"
OWN_F_NUMBER = "kobrel:fNumber"
OWN_FOCUS = "kobrel:focusM"
OWN_SENSOR = "kobrel:sensorWidthMm"
OWN_CONE = "kobrel:coneDeg"
OWN_MODEL = "kobrel:lensModel"
OWN_SURFACE = "kobrel:focusSurface"
OWN_BLADES = "kobrel:irisBlades"
OWN_ROUNDNESS = "kobrel:irisRoundness"
OWN_ROTATION = "kobrel:irisRotationDeg"


def tenths_mm(unit_m: float) -> float:
    """Millimetres in a tenth of a scene unit."""
    return unit_m * 1000.0 / 10.0


def read_camera(
    camera: UsdGeom.Camera, node: int, unit_m: float, clock: Clock
) -> tuple[CameraSource, list[str]]:
    """A camera of the file and what had to be assumed.

    Attributes in Kobrel's own namespace, where a plan was exported, give the lens's own
    values: the schema's ones then describe the render camera that makes the same picture.
    """
    prim, track = camera.GetPrim(), clock.track
    warnings: list[str] = []
    width = track(camera.GetHorizontalApertureAttr())
    scale = tenths_mm(unit_m)
    height = track(camera.GetVerticalApertureAttr())
    squeeze = float(_own(prim, OWN_SQUEEZE, 1.0))
    field_m = _field_m(camera, width, scale)
    focal_scale = scale
    if field_m:  # its apertures are the field's; the sensor is Kobrel's own, or one of full frame
        sensor = float(_own(prim, OWN_SENSOR, 36.0)) * squeeze
        shape = float(height.values[0, 0]) * scale / 1000.0 / field_m if height is not None else 2 / 3
        width, height, scale = Track.constant([sensor]), Track.constant([sensor * shape]), 1.0
    elif not _possible(width, scale):
        if width is not None and _possible(width, 1.0):
            warnings.append(
                f"{prim.GetPath()}: read in tenths of a scene unit its sensor would be "
                f"{float(width.values[0, 0]) * scale:.4g} mm wide; its numbers are taken as millimetres."
            )
            scale = 1.0
        else:
            warnings.append(f"{prim.GetPath()}: its sensor width makes no sense; 36 x 24 mm is assumed.")
    sized = _possible(width, scale)
    if sized and width is not None and width.moves:
        warnings.append(f"{prim.GetPath()}: its sensor changes over time; the first size is used.")
    f_number = track(camera.GetFStopAttr())
    focus = track(camera.GetFocusDistanceAttr())
    focal_scale = focal_scale if field_m else scale
    model: LensModel = "thin" if _own(prim, OWN_MODEL, "render") == "thin" else "render"
    render = (
        _scaled(track(camera.GetFocalLengthAttr()), focal_scale), _scaled(_positive(f_number), 1.0),
        _scaled(_positive(focus), unit_m),
    )  # fmt: skip
    lens = (
        track(prim.GetAttribute(OWN_FOCAL)), track(prim.GetAttribute(OWN_F_NUMBER)),
        track(prim.GetAttribute(OWN_FOCUS)),
    )  # fmt: skip
    if any(lens) and not _is_that(lens, render, model):
        warnings.append(
            f"{prim.GetPath()}: the lens was edited elsewhere; the lens stored by Kobrel is ignored."
        )
        lens, model = (None, None, None), "render"
    focal, stop, sharp_at = (own or written for own, written in zip(lens, render, strict=True))
    surface: FocusSurface = "sphere" if _own(prim, OWN_SURFACE, "plane") == "sphere" else "plane"
    source = CameraSource(
        path=str(prim.GetPath()),
        node=node,
        focal_mm=_positive(focal) or Track.constant([50.0]),
        width_mm=(_scaled(width, scale / squeeze) if sized else None) or Track.constant([36.0]),
        height_mm=(_positive(_scaled(height, scale)) if sized else None) or Track.constant([24.0]),
        f_number=stop,
        focus_m=sharp_at,
        near_clip_m=_clip(camera)[0] * unit_m,
        far_clip_m=_clip(camera)[1] * unit_m,
        squeeze=squeeze,
        model=model,
        surface=surface,
        projection="orthographic" if field_m else "perspective",
        field_m=field_m or 4.0,
        cone_deg=float(_own(prim, OWN_CONE, 1.0)),
        iris=Iris(
            int(_own(prim, OWN_BLADES, 0)),
            float(_own(prim, OWN_ROUNDNESS, 0.0)),
            float(_own(prim, OWN_ROTATION, 0.0)),
        ),
    )
    source = replace(source, shift_mm=_shift_mm(camera, source, warnings))
    if source.f_number is None:
        warnings.append(f"{source.path}: it has no f-number; f/{ASSUMED_F_NUMBER:g} is assumed.")
    return source, warnings


def _is_that(lens: tuple[Track | None, ...], render: tuple[Track | None, ...], model: LensModel) -> bool:
    """Whether the schema's values are still those of the render camera that makes a lens's picture."""
    if None in lens or None in render:
        return True  # nothing to be told by
    times = np.unique(np.concatenate([track.times for track in (*lens, *render) if track is not None]))
    focal, stop, focus = (track.at(times)[:, 0] for track in lens if track is not None)
    image = image_distance_mm(focal, np.maximum(focus, closest_focus_m(focal, model)), model)
    with np.errstate(divide="ignore"):
        wanted = (image, stop * image / focal, 1.0 / focus)
    written = [track.at(times)[:, 0] for track in render if track is not None]
    written[2] = 1.0 / written[2]
    return all(np.allclose(a, b, rtol=_SAME, atol=_SAME * 0.1) for a, b in zip(wanted, written, strict=True))


def _shift_mm(camera: UsdGeom.Camera, source: CameraSource, warnings: list[str]) -> tuple[float, float]:
    """How far the picture's middle lies to the right of and above the axis, on the sensor."""
    across, up = (
        _part(offset, size, source.path, warnings)
        for offset, size in (
            (camera.GetHorizontalApertureOffsetAttr(), camera.GetHorizontalApertureAttr()),
            (camera.GetVerticalApertureOffsetAttr(), camera.GetVerticalApertureAttr()),
        )
    )
    return across * float(source.width_mm.values[0, 0]), up * float(source.height_mm.values[0, 0])


def _part(offset: Usd.Attribute, size: Usd.Attribute, path: str, warnings: list[str]) -> float:
    """An offset as a part of the aperture."""
    if offset.GetNumTimeSamples() > 1:
        warnings.append(f"{path}: its {offset.GetName()} changes over time; the first is used.")
    given, whole = offset.Get(FIRST), size.Get(FIRST)
    return float(given) / float(whole) if given and whole and math.isfinite(given) else 0.0


def _field_m(camera: UsdGeom.Camera, width: Track | None, scale: float) -> float | None:
    """Width of an orthographic camera's field; None for any other camera."""
    if camera.GetProjectionAttr().Get() != UsdGeom.Tokens.orthographic or _positive(width) is None:
        return None
    assert width is not None
    return float(width.values[0, 0]) * scale / 1000.0


def _clip(camera: UsdGeom.Camera) -> tuple[float, float]:
    """Where the camera's range of sight begins and ends, scene units."""
    near, far = (float(end) for end in camera.GetClippingRangeAttr().Get(FIRST) or (0.0, math.inf))
    return (near if math.isfinite(near) and near > 0 else 0.0), (far if far > near else math.inf)


def _own(prim: Usd.Prim, name: str, default: Any) -> Any:
    attribute = prim.GetAttribute(name)
    return attribute.Get() if attribute and attribute.HasValue() else default


def _possible(width: Track | None, scale: float) -> bool:
    low, high = POSSIBLE_SENSOR_MM
    return width is not None and bool(np.all((width.values * scale >= low) & (width.values * scale <= high)))


def _positive(values: Track | None) -> Track | None:
    good = values is not None and bool(np.all(np.isfinite(values.values) & (values.values > 0)))
    return values if good else None


def _scaled(values: Track | None, factor: float) -> Track | None:
    """The track in another unit, rid of the digits that single precision made up."""
    if values is None:
        return None
    scaled = values.values * factor
    digits = 6 - np.floor(np.log10(np.maximum(np.abs(scaled), 1e-30)))
    return replace(values, values=np.round(scaled * 10.0**digits) / 10.0**digits)
