"""Values that were given, taken into a shot, and what that changes in words."""

from dataclasses import dataclass

import numpy as np

from kobrel.optics.lens import Numbers
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.survey import GONE, Survey, survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.values.back import as_printed, matched_frames, shot_with, taken
from kobrel.plan.values.blocks import Term, blocks_for, terms
from kobrel.plan.values.own import CustomValues, own_values
from kobrel.plan.values.reading import Values
from kobrel.plan.values.render_camera import RenderCamera, render_camera
from kobrel.stage.stage import Stage

_LEAST_PX = 0.005


@dataclass(frozen=True)
class Change:
    """Something that is not as it was: what, and both in words."""

    label: str
    before: str
    after: str


@dataclass(frozen=True, eq=False)
class Taken:
    """A shot with values that were given."""

    shot: Shot
    changes: tuple[Change, ...]


def taken_values(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    values: Values,
    frame: float,
    unit: Measure,
    owns: tuple[CustomValues, ...] = (),
) -> Taken:
    """A shot with values that were given, at one frame or over those that they name.

    Raises
    ------
    PlanError
        The shot cannot have them, or none of the frames is its own; names the value.
    """
    if values.frames is None:
        whole = survey(plan, shot, stage)
        if frame not in whole.frames:
            whole = survey(plan, shot, stage, [frame])
        row = whole.index_of(frame)
        camera = render_camera(shot, whole).at(row)
        given = as_printed(values, camera, _shown(camera, whole.focus_distance_m[:, row], unit, owns))
        numbers = survey(plan, shot, stage, [frame])
    else:
        everything = survey(plan, shot, stage)
        frames, given = matched_frames(everything, values.frames, values.given)
        whole = numbers = survey(plan, shot, stage, frames)
        camera = render_camera(shot, numbers)
    changed = shot_with(shot, whole, taken(camera, given))
    after = survey(plan, changed, stage, numbers.frames)
    return Taken(changed, tuple(changes(plan, shot, changed, numbers, after, unit)))


def _shown(
    camera: RenderCamera, distances: Numbers, unit: Measure, owns: tuple[CustomValues, ...]
) -> list[Term]:
    """Every value as it can be copied now."""
    found = [
        term for block in blocks_for(camera.projection) for term in terms(block, camera, unit, distances)
    ]
    return found + [term for own in owns for term in own_values(own, camera, unit, distances)]


def changes(plan: Plan, old: Shot, new: Shot, before: Survey, after: Survey, unit: Measure) -> list[Change]:
    """What differs between a shot and the same with other values, at the frame where it differs most."""
    if new == old:
        return []
    one, other = render_camera(old, before), render_camera(new, after)
    row = _worst_row(one, other)
    a, b = one.at(row), other.at(row)
    pairs = [
        ("Focal length", f"{a.focal_mm[0]:.5g} mm", f"{b.focal_mm[0]:.5g} mm"),
        ("f-number", f"f/{a.f_number[0]:.4g}", f"f/{b.f_number[0]:.4g}"),
        ("Focus distance", _length(a.focus_m[0], unit), _length(b.focus_m[0], unit)),
        ("Film back", _film(a), _film(b)),
        ("Squeeze", f"{a.squeeze:g}", f"{b.squeeze:g}"),
        ("Blades", f"{a.blades:g}", f"{b.blades:g}"),
        ("Roundness", f"{a.roundness:.3g}", f"{b.roundness:.3g}"),
        ("Rotation of the iris", f"{a.turn_deg[0]:.4g}°", f"{b.turn_deg[0]:.4g}°"),
        ("Shutter", f"{a.shutter_deg:g}°", f"{b.shutter_deg:g}°"),
        ("ISO", f"{a.iso:g}", f"{b.iso:g}"),
        ("ND", f"{a.nd_stops:g} stops", f"{b.nd_stops:g} stops"),
        ("Largest blur", _most(old), _most(new)),
    ]
    found = [Change(*pair) for pair in pairs if pair[1] != pair[2]]
    for k, subject in enumerate(plan.subjects):
        blurs = before.sight.blur_px[k, row], after.sight.blur_px[k, row]
        seen = before.state[k, row] != GONE or after.state[k, row] != GONE
        if seen and np.all(np.isfinite(blurs)) and abs(blurs[1] - blurs[0]) > _LEAST_PX:
            found.append(Change(f"Blur of {subject.name}", f"{blurs[0]:.2f} px", f"{blurs[1]:.2f} px"))
    far = [float(camera.blur_px(np.inf)[0]) for camera in (a, b)]
    if np.all(np.isfinite(far)) and abs(far[1] - far[0]) > _LEAST_PX:
        found.append(Change("Blur at infinity", f"{far[0]:.2f} px", f"{far[1]:.2f} px"))
    if len(before.frames) > 1 and found:
        found.insert(0, Change("Frames", f"{before.frames[0]:g}–{before.frames[-1]:g}",
                               f"most at {before.frames[row]:g}"))  # fmt: skip
    return found


def _worst_row(one: RenderCamera, other: RenderCamera) -> int:
    """The frame at which blur, framing or focus differ most."""
    with np.errstate(invalid="ignore", divide="ignore"):
        off = np.abs(np.log(one.px_per_dpt / other.px_per_dpt)) + np.abs(
            np.log(one.image_mm / other.image_mm)
        )
        off += np.abs(1.0 / one.focus_m - 1.0 / other.focus_m) * one.ends_m[0]
    return int(np.argmax(np.nan_to_num(off)))


def _length(metres: float, unit: Measure) -> str:
    text = format_length(float(metres), unit)
    return (
        text
        if unit.symbol == "ft" or not np.isfinite(metres)
        else f"{metres / unit.metres:.5g} {unit.symbol}"
    )


def _film(camera: RenderCamera) -> str:
    return f"{camera.film_mm[0]:.5g} × {camera.film_mm[1]:.5g} mm"


def _most(shot: Shot) -> str:
    return "–" if shot.most_px is None else f"{shot.most_px:g} px"
