"""Values in any renderer's convention, applied to a shot: what changes, and the shot that has them."""

from collections.abc import Collection, Iterable, Mapping, Sequence

import numpy as np
from pydantic import ValidationError

from kobrel.errors import OpticsError, PlanError
from kobrel.optics import lens
from kobrel.optics.lens import Numbers
from kobrel.optics.path import fewest_corners
from kobrel.plan.glass import frame_width_mm, with_focal
from kobrel.plan.instrument import Sensor
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.survey import Survey
from kobrel.plan.model import DistanceTarget, Mark, Shot
from kobrel.plan.parts import MOST, PullEase, plain_reason
from kobrel.plan.pull.marks import refocus, with_marks
from kobrel.plan.values.blocks import EXACT_PX, Term, settle
from kobrel.plan.values.quantities import GROUPS, QUANTITIES, Quantity, single
from kobrel.plan.values.reading import Values
from kobrel.plan.values.render_camera import RenderCamera, render_camera

Given = Mapping[str, Numbers]
"""Values by the keys of their quantities, lengths in metres, one for each frame."""
SAME = 1e-7
"""Values this near to each other, as a part of them, are alike."""
_SHARES, _ROUNDED_PART = 3, 0.01
_KEYED_PART = 1e-7
_MARKED_PX = 1e-3


def taken(camera: RenderCamera, given: Given) -> RenderCamera:
    """The camera that has some values.

    What is as it was keeps what it stands for: a radius that comes back with another focus stays. Of
    several values for the same thing the one that was changed counts. A near and a far limit that were both
    changed move the focus between them. Values that only follow from others are passed over.

    Raises
    ------
    PlanError
        A value makes no sense, or two that were changed contradict each other; names them.
    """
    own, fresh = dict[str, Numbers](), set[str]()
    for key in given:
        quantity, values = QUANTITIES[key], np.asarray(given[key], float)
        if quantity.put is None:
            continue
        _require_sense(quantity, values)
        own[key] = quantity.values(camera)
        if not _alike(own[key], values):
            own[key] = values
            fresh.add(key)
    if not fresh:
        return camera
    between = _focus_between(own, fresh)
    if between is not None:
        own = {key: values for key, values in own.items() if QUANTITIES[key].group != "focus"}
        own, fresh = {"focus_distance": between, **own}, {"focus_distance", *fresh}
    wanted = dict[str, Numbers]()
    for group in GROUPS:
        keys = [key for key in own if QUANTITIES[key].group == group]
        wanted |= {key: own[key] for key in keys if QUANTITIES[key].alone}
        rivals = [key for key in keys if not QUANTITIES[key].alone]
        chosen = _chosen([key for key in rivals if key in fresh] or rivals, own)
        if chosen is not None:
            wanted[chosen] = own[chosen]
    try:
        with np.errstate(all="ignore"):
            made = settle(camera, wanted)
            _require_agreement(camera, wanted, {key: own[key] for key in own if key in fresh})
    except OpticsError as error:
        raise PlanError(str(error)) from None
    return made


def as_printed(values: Values, camera: RenderCamera, shown: Iterable[Term]) -> Given:
    """What was given, with values that are written as Kobrel shows them now in full precision again.

    Parameters
    ----------
    shown : the values of the camera's one frame as they can be copied
    """
    printed: set[tuple[str, str]] = set()
    for term in shown:
        names = (term.label,) if term.name else (term.label, term.quantity.key)
        printed.update((name.lower(), term.text) for name in names)
    return {
        key: QUANTITIES[key].values(camera) if values.written.get(key) in printed else given
        for key, given in values.given.items()
    }


def _chosen(keys: Sequence[str], own: Given) -> str | None:
    """The first of values for the same thing that is finite throughout."""
    finite = [key for key in keys if np.all(np.isfinite(own[key]))]
    return next(iter(finite or keys), None)


def _require_sense(quantity: Quantity, values: Numbers) -> None:
    """See that values can be of a camera.

    Raises
    ------
    PlanError
        One cannot; names the value.
    """
    wrong = np.flatnonzero(~((values >= quantity.least) & (values <= quantity.most)))
    if len(wrong):
        raise PlanError(
            f"{quantity.label} cannot be {float(values[wrong[0]]):g}.",
            remedy=f"It must be between {quantity.least:g} and {quantity.most:g}.",
        )


def _alike(own: Numbers, given: Numbers) -> bool:
    with np.errstate(invalid="ignore"):
        near = np.abs(own - given) <= np.abs(own) * SAME
    return bool(np.all(near | (own == given)))


def _focus_between(own: Given, fresh: Collection[str]) -> Numbers | None:
    """The focus that a near and a far limit ask for that were both changed while the focus was not: their
    middle in dioptres.
    """
    if any(QUANTITIES[key].group == "focus" for key in fresh):
        return None
    for near, far in (("near_limit", "far_limit"), ("begins_before", "begins_behind")):
        if near in fresh and far in fresh and np.all(np.isfinite(own[far])):
            return np.asarray(2.0 / (1.0 / own[near] + 1.0 / own[far]))
    return None


def _require_agreement(camera: RenderCamera, wanted: Given, fresh: Given) -> None:
    """See that values for the same thing were not changed against each other.

    Raises
    ------
    PlanError
        Two contradict; names them.
    """
    for key, values in fresh.items():
        quantity = QUANTITIES[key]
        rival = next((k for k in wanted if QUANTITIES[k].group == quantity.group), key)
        if key in wanted or quantity.alone or not np.all(np.isfinite(values)):
            continue
        others = {k: v for k, v in wanted.items() if QUANTITIES[k].group != quantity.group or k == rival}
        one = settle(camera, others)
        other = settle(camera, {**{k: v for k, v in others.items() if k != rival}, key: values})
        if _apart(one, other):
            raise PlanError(
                f"{quantity.label} contradicts {QUANTITIES[rival].label}.",
                remedy="Change one of them and leave the other as it was.",
            )


def _apart(one: RenderCamera, other: RenderCamera) -> bool:
    """Whether two cameras differ by more than the rounding of a block does."""
    places = (np.inf, one.ends_m[0])
    pairs = [(one.blur_px(at), other.blur_px(at), EXACT_PX * _SHARES) for at in places]
    pairs.append((one.image_mm, other.image_mm, 0.0))
    turned = np.abs(np.exp(1j * np.radians(one.turn_deg)) - np.exp(1j * np.radians(other.turn_deg)))
    return (
        any(bool(np.any(np.abs(a - b) > _ROUNDED_PART * np.abs(a) + slack)) for a, b, slack in pairs)
        or bool(np.any(turned > _ROUNDED_PART))
        or abs(one.squeeze - other.squeeze) > _ROUNDED_PART
    )


def shot_with(shot: Shot, numbers: Survey, camera: RenderCamera) -> Shot:
    """The shot whose camera has other values, at the frames of a survey: at one as if it was set there,
    at several with keys and marks that follow them.

    Raises
    ------
    PlanError
        A shot cannot have these values; says which.
    """
    before = render_camera(shot, numbers)
    if len(camera.frames) == 1 and len(before.frames) > 1:
        before = before.at(int(np.flatnonzero(before.frames == camera.frames[0])[0]))
    _require_camera(camera)
    try:
        return _changed(shot, before, camera)
    except ValueError as error:  # pydantic's, of a value beyond what a plan holds
        why = plain_reason(error) if isinstance(error, ValidationError) else str(error)
        raise PlanError(f"The shot cannot have these values: {why}") from None


def _changed(shot: Shot, before: RenderCamera, camera: RenderCamera) -> Shot:
    shot = _with_glass(shot, before, camera)
    shot = _with_focus(shot, before, camera)
    iris = {
        name: value for name, value in (("blades", round(camera.blades)), ("roundness", camera.roundness))
        if value != getattr(before, name)
    }  # fmt: skip
    turned = camera.turn_deg - before.turn_deg
    if np.any(np.abs(turned) > 1e-9):
        iris["rotation_deg"] = shot.iris.rotation_deg + single(turned + 1.0, "the rotation of the iris") - 1.0
    exposure = {
        name: getattr(camera, name) for name in ("shutter_deg", "iso", "nd_stops")
        if getattr(camera, name) != getattr(before, name)
    }  # fmt: skip
    if iris:
        shot = shot.replace(iris=shot.iris.replace(**iris))
    if exposure:
        shot = shot.replace(exposure=shot.exposure.replace(**exposure))
    if not np.array_equal(camera.full_px, before.full_px) and np.ptp(camera.full_px) == 0:
        shot = shot.replace(most_px=float(camera.full_px[0]))
    return shot


def _require_camera(camera: RenderCamera) -> None:
    for what, values in (("focal length", camera.focal_mm), ("f-number", camera.f_number)):
        if not np.all((values > 1e-6) & (values < MOST)):
            raise PlanError(f"These values ask for a {what} that cannot be.")
    with np.errstate(invalid="ignore"):
        closest = lens.closest_focus_m(camera.focal_mm, camera.model)
        if not np.all(camera.focus_m >= closest * (1 - 1e-9)):
            raise PlanError(
                f"The focus would be {float(np.nanmin(camera.focus_m)):.4g} m away, nearer than the lens can."
            )


def _with_glass(shot: Shot, before: RenderCamera, camera: RenderCamera) -> Shot:
    glass = shot.glass
    if camera.squeeze != before.squeeze:
        glass = glass.replace(squeeze=camera.squeeze)
    own = glass.sensor
    wide = camera.film_mm[0] / camera.squeeze / (before.film_mm[0] / before.squeeze)
    tall = camera.film_mm[1] / before.film_mm[1]
    if abs(wide - 1) > SAME or abs(tall - 1) > SAME:
        glass = glass.replace(sensor=Sensor(width_mm=own.width_mm * wide, height_mm=own.height_mm * tall))
    if not np.isclose(frame_width_mm(glass), camera.film_mm[0], rtol=1e-6):
        raise PlanError(
            f"A film back {camera.film_mm[0]:g} mm wide does not fit the delivered frame of this shot.",
            remedy="Set the delivered frame to the whole sensor first.",
        )
    if not _alike(before.focal_mm, camera.focal_mm):
        glass = with_focal(glass, _keyed(glass.focal_mm, camera.frames, camera.focal_mm))
    if not _alike(before.f_number, camera.f_number):
        glass = glass.replace(f_number=_keyed(glass.f_number, camera.frames, camera.f_number))
    return shot if glass is shot.glass else shot.replace(glass=glass)


def _keyed(keyed: Keyed, frames: Numbers, values: Numbers) -> Keyed:
    """A value set at one frame, or with the fewest keys that follow it over several."""
    if len(frames) == 1:
        return keyed.set(Key(frame=float(frames[0]), value=float(values[0])))
    logs = np.log(values)
    corners = _corners(frames, logs, np.full(len(frames), _KEYED_PART))
    if len(corners) <= 2 and np.ptp(logs) <= _KEYED_PART:
        return Keyed(value=float(values[0]))
    keys = tuple(Key(frame=float(frames[k]), value=float(values[k]), ease="even") for k in corners)
    return Keyed(value=keyed.value, keys=keys)


def _corners(frames: Numbers, path: Numbers, slack: Numbers) -> Sequence[int]:
    """Which of the frames straight lines need; all where they are not one after the other."""
    if np.any(np.diff(frames) != 1):
        return range(len(frames))
    return fewest_corners(path, path - slack, path + slack)


def _with_focus(shot: Shot, before: RenderCamera, camera: RenderCamera) -> Shot:
    if _alike(before.focus_m, camera.focus_m):
        return shot
    frames, focus = camera.frames, camera.focus_m
    if len(frames) == 1:
        return refocus(shot, float(frames[0]), DistanceTarget(metres=float(focus[0])))
    dioptres = 1.0 / focus
    with np.errstate(divide="ignore"):
        slack = np.minimum(_MARKED_PX / camera.px_per_dpt, 1e-4)
    corners = _corners(frames, dioptres, slack)
    if len(corners) <= 2 and np.ptp(dioptres) <= float(np.min(slack)):
        corners = corners[:1]
    ease: PullEase = "even" if len(corners) > 1 else "smooth"
    fresh = [
        Mark(frame=float(frames[k]), target=DistanceTarget(metres=float(focus[k])), ease=ease)
        for k in corners
    ]
    outside = [mark for mark in shot.marks if not frames[0] <= mark.frame <= frames[-1]]
    return with_marks(shot, [*outside, *fresh])


def matched_frames(numbers: Survey, frames: Numbers, given: Given) -> tuple[Numbers, dict[str, Numbers]]:
    """The frames of a survey that values are given for, and these values.

    Raises
    ------
    PlanError
        None of them is of the shot.
    """
    inside = np.isin(frames, numbers.frames)
    if not inside.any():
        raise PlanError(
            f"none of the frames {frames[0]:g} to {frames[-1]:g} is of the shot, which has "
            f"{numbers.frames[0]:g} to {numbers.frames[-1]:g}."
        )
    return frames[inside], {key: np.asarray(values)[inside] for key, values in given.items()}
