"""Changes of sensor, lens, stop and exposure, with what is to stay the same."""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from kobrel.optics.exposure import MARKED_STOPS
from kobrel.optics.sensor import frame_on_sensor
from kobrel.plan.instrument import Exposure, FrontStop, Glass, KeepSize, Lens, Sensor
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import Survey, spans
from kobrel.plan.model import Shot

_SLACK = 1e-3


def frame_width_mm(glass: Glass) -> float:
    """Width on the sensor of what is delivered, times the squeeze: what the angle of view comes from."""
    sensor, delivery = glass.sensor, glass.delivery
    width, _ = frame_on_sensor(
        sensor.width_mm, sensor.height_mm, glass.squeeze, delivery.aspect, delivery.fit
    )
    return width * glass.squeeze


def with_sensor(glass: Glass, sensor: Sensor, keep_framing: bool) -> Glass:
    """The glass with another sensor: the lens stays, or the framing across does."""
    changed = glass.replace(sensor=sensor)
    if not keep_framing:
        return changed
    by = frame_width_mm(changed) / frame_width_mm(glass)
    return with_focal(changed, glass.focal_mm.times(by))


def with_focal(glass: Glass, focal_mm: Keyed) -> Glass:
    """The glass with other focal lengths; a lens out of a lens set that has none such is put down."""
    lens, values = glass.lens, focal_mm.reached()
    fits = lens is not None and all(
        lens.focal_mm[0] * (1 - _SLACK) <= value <= lens.focal_mm[1] * (1 + _SLACK) for value in values
    )
    return glass.replace(focal_mm=focal_mm, lens=lens if fits else None)


def with_lens(glass: Glass, lens: Lens | None) -> Glass:
    """The glass with a lens out of a lens set: its squeeze and transmission, and the focal length it
    has; None keeps the numbers as those of no lens in particular.
    """
    if lens is None:
        return glass.replace(lens=None)
    low, high = lens.focal_mm
    kept = glass.focal_mm if lens.is_zoom else Keyed(value=glass.focal_mm.value)
    focal = kept.each(lambda value: min(max(value, low), high))
    return glass.replace(lens=lens, focal_mm=focal, squeeze=lens.squeeze, transmission=lens.transmission)


def keep_size(shot: Shot, subject: int, focal_mm: float, frame: float | None) -> Shot:
    """The shot whose camera moves so that a subject keeps its size from this focal length on."""
    return shot.replace(keeps=KeepSize(subject=subject, focal_mm=focal_mm, frame=frame))


def lens_doubts(shot: Shot, numbers: Survey) -> list[str]:
    """What the lens out of the lens set cannot do in a shot, in sentences."""
    lens, camera = shot.glass.lens, numbers.camera
    if lens is None:
        return []
    focus = np.broadcast_to(camera.focus_m, numbers.frames.shape)
    stop = np.broadcast_to(camera.f_number, numbers.frames.shape)
    found = []
    for wrong, text in (
        (focus < lens.close_focus_m * (1 - _SLACK), f"focuses no nearer than {lens.close_focus_m:g} m"),
        (stop < lens.widest * (1 - _SLACK), f"opens no wider than f/{lens.widest:g}"),
        (stop > lens.narrowest * (1 + _SLACK), f"closes no further than f/{lens.narrowest:g}"),
    ):
        if wrong.any():
            at = spans(numbers.frames, wrong, "in the whole shot", "")
            found.append(f"{lens.name} {text} ({at if wrong.all() else f'at {at}'}).")
    return found


MakeUp = Literal["iso", "shutter_deg", "nd_stops"]


def made_up(exposure: Exposure, off_ev: float, by: MakeUp) -> Exposure | None:
    """The exposure whose ISO, shutter angle or ND takes back a difference; None if it cannot."""
    if by == "iso":
        return exposure.replace(iso=exposure.iso * 2.0**-off_ev)
    if by == "shutter_deg":
        angle = exposure.shutter_deg * 2.0**-off_ev
        return exposure.replace(shutter_deg=angle) if angle <= 360 * (1 + 1e-9) else None
    density = exposure.nd_stops + off_ev
    return exposure.replace(nd_stops=max(density, 0.0)) if -1e-9 <= density <= 20 else None


def metered(exposure: Exposure, off_ev: float) -> Exposure:
    """The exposure that calls right what is recorded now."""
    return exposure.replace(metered=exposure.metered + off_ev)


@dataclass(frozen=True)
class Match:
    """Settings of another sensor that give the same framing and the same blur.

    Parameters
    ----------
    cannot : what will differ all the same, in sentences
    """

    sensor: Sensor
    focal_mm: float
    f_number: float
    iso: float
    cannot: tuple[str, ...]


def match(shot: Shot, camera: Camera, sensor: Sensor, squeeze: float) -> Match:
    """What to set on another sensor, at the camera's frame.

    The same angle of view needs the same ratio of image distance to frame width, and the same
    blur in the picture then needs the same pupil: N' = f' / A. The ISO makes up the stop.
    """
    glass = shot.glass
    other = glass.replace(sensor=sensor, squeeze=squeeze)
    by = frame_width_mm(other) / frame_width_mm(glass)
    image = float(camera.image_distance_mm) * by
    nearness = 1.0 / (1000.0 * float(camera.focus_m)) if glass.model == "thin" else 0.0
    focal = image / (1.0 + image * nearness)
    stop = focal / float(camera.pupil_mm)
    old_t, new_t = float(camera.effective_f_number), stop * (1 + (image * nearness))
    cannot = []
    if not MARKED_STOPS[0] <= stop <= MARKED_STOPS[-1]:
        cannot.append(f"f/{stop:.2g} does not exist; there will be {'less' if stop < 1 else 'more'} blur.")
    elif stop < 1.0:
        cannot.append(f"No lens opens to f/{stop:.2g}.")
    if squeeze != glass.squeeze:
        shapes = ["round" if q == 1 else f"{q:g} times taller than wide" for q in (squeeze, glass.squeeze)]
        cannot.append(f"Discs are {shapes[0]}, not {shapes[1]}; their height matches.")
    shape = (sensor.width_mm * squeeze / sensor.height_mm) / (
        glass.sensor.width_mm * glass.squeeze / glass.sensor.height_mm
    )
    if glass.delivery.aspect <= 0 and abs(shape - 1) > _SLACK:
        cannot.append(
            f"The picture is {'flatter' if shape > 1 else 'taller'}: width matches, height does not."
        )
    if glass.model == "thin":
        cannot.append("Away from this focus the lenses breathe differently.")
    if glass.criterion.kind == "millimetres":
        cannot.append("The limit of sharp is in millimetres and means another blur in the picture there.")
    return Match(sensor, focal, stop, shot.exposure.iso * (new_t / old_t) ** 2, tuple(cannot))


def matched(shot: Shot, found: Match, squeeze: float, frame: float) -> Shot:
    """The shot with the settings of a match; keys move along with the value at the frame."""
    glass = shot.glass
    focal_by = found.focal_mm / float(glass.focal_mm.at(frame)[0])
    stop_by = found.f_number / float(glass.f_number.at(frame)[0])
    changed = with_focal(glass.replace(sensor=found.sensor, squeeze=squeeze), glass.focal_mm.times(focal_by))
    return shot.replace(
        glass=changed.replace(f_number=glass.f_number.times(stop_by)),
        exposure=shot.exposure.replace(iso=found.iso),
    )


def _corner_tangent(camera: Camera) -> float:
    return float(camera.corner_tangent)


def front_stop(camera: Camera, amount: float) -> FrontStop:
    """A front stop as wide as the pupil now, far enough before it that a corner's discs lose an
    amount of their width: ``L = amount A / tan t``.
    """
    pupil = float(camera.pupil_mm)
    return FrontStop(distance_mm=amount * pupil / _corner_tangent(camera), diameter_mm=pupil)


def cat_eye_amount(camera: Camera) -> float:
    """How much of its width a far disc in the corner loses at the present stop; 0 without a front
    stop.
    """
    front = camera.flaws.front_stop
    if front is None:
        return 0.0
    pupil, apart = float(camera.pupil_mm), front.distance_mm * _corner_tangent(camera)
    return max(0.0, (apart + (pupil - front.diameter_mm) / 2) / pupil)
