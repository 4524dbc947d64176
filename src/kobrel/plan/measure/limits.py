"""Readings of a camera that are said in words or need more than one formula."""

from dataclasses import replace

import numpy as np

from kobrel.optics import sensor
from kobrel.optics.units import Measure, format_length, format_lengths
from kobrel.plan.instrument import Criterion
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import Survey


def criterion_text(criterion: Criterion, camera: Camera) -> str:
    """Up to which blur things are called sharp, and what that is in pixels at delivery."""
    pixels = f"up to {camera.coc_px:.3g} px"
    if criterion.kind == "millimetres":
        return f"{pixels}, {criterion.value:.3g} mm"
    if criterion.kind == "diagonal":
        return f"{pixels}, diagonal ÷ {criterion.value:.4g}"
    return pixels


def field_m(camera: Camera) -> tuple[float, float]:
    """Width and height of what the frame takes in at the focus distance, metres; a fisheye's
    along the arc.
    """
    half_x, half_y = (float(half) for half in camera.half_widths())
    distance = 1.0 if camera.projection == "orthographic" else float(camera.focus_m)
    return 2 * half_x * distance, 2 * half_y * distance


def breathing(numbers: Survey) -> float:
    """How much of the picture's width the view changes by over a pull, 0 for a render camera.

    Only what the focus does counts, not a zoom: with v the image distance, each frame's
    ``f / v`` is how much wider it sees than at infinity.
    """
    camera = numbers.camera
    if camera.projection != "perspective":
        return 0.0
    wider = np.broadcast_to(camera.focal_mm / camera.image_distance_mm, numbers.frames.shape)
    return float(np.max(wider) / np.min(wider) - 1.0)


def reads_as(camera: Camera) -> float:
    """The model scale that the blur suggests, see :func:`kobrel.optics.sensor.reads_as`; not-a-number
    where there is no angle of view.
    """
    angle = float(camera.view_angles_deg[0])
    if camera.projection == "orthographic" or angle >= 180:
        return float("nan")
    return float(sensor.reads_as(camera.pupil_mm, angle))


def models_differ(camera: Camera, unit: Measure) -> str:
    """How far the two lens models differ at a camera's settings, in a sentence."""
    other = replace(camera, model="thin" if camera.model == "render" else "render")
    name = {"thin": "A real lens", "render": "A render camera"}[other.model]
    if other.model == "thin" and float(camera.focus_m) * 1000.0 <= float(camera.focal_mm) * 1.001:
        return f"{name} cannot focus this close."
    near, far = (float(limit) for limit in other.limits_m)
    wider = float(other.half_widths()[0] / camera.half_widths()[0]) - 1.0
    angle = (
        "the same angle of view"
        if abs(wider) < 5e-5
        else f"{abs(wider):.2%} {'wider' if wider > 0 else 'narrower'} angle of view"
    )
    blurs = float(other.blur_px(np.inf)), float(camera.blur_px(np.inf))
    more = blurs[0] / blurs[1] - 1.0 if blurs[1] > 0.0 else 0.0
    background = f"background blur {abs(more):.2%} {'larger' if more >= 0 else 'smaller'}"
    if blurs[1] == 0.0:
        background = "the background is as sharp"
    own_near, own_far = (float(limit) for limit in camera.limits_m)
    deep = (far - near) / (own_far - own_near) - 1.0 if np.isfinite(far) and np.isfinite(own_far) else 0.0
    from_m, to_m = format_lengths([near, far], unit)
    return (
        f"{name}: {from_m}–{to_m} in focus, {abs(deep):.1%} {'deeper' if deep >= 0 else 'shallower'}; "
        f"{angle}; {background}."
    )


def surfaces_differ(camera: Camera, unit: Measure) -> str:
    """How far a plane and a sphere of focus lie apart in the picture's corner, in a sentence."""
    focus = float(camera.focus_m)
    if camera.projection != "perspective" or not np.isfinite(focus):
        return ""
    apart = focus * (1.0 - 1.0 / float(np.sqrt(1.0 + camera.corner_tangent**2)))
    other = "plane" if camera.surface == "sphere" else "sphere"
    return (
        f"In the corners a {other} would lie {format_length(apart, unit)} "
        f"{'farther' if other == 'plane' else 'nearer'} on axis."
    )
