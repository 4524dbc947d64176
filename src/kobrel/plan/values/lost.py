"""What a block of values cannot say about a picture, and how much that is in pixels."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from kobrel.optics import iris as shapes
from kobrel.optics.iris import Iris
from kobrel.optics.lens import FocusSurface, Numbers
from kobrel.plan.glass import cat_eye_amount
from kobrel.plan.measure.survey import GONE, Survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.values.blocks import Block
from kobrel.plan.values.quantities import QUANTITIES
from kobrel.plan.values.render_camera import RenderCamera, render_camera, worst_blur_px

LEAST_PX = 0.05
"""What is less is not told."""
_STEPS = 2000


@dataclass(frozen=True)
class Loss:
    """Something that is lost.

    Parameters
    ----------
    key : which loss, for tests and files
    text : a sentence, without the amount
    px : how much at most, pixels at delivery
    """

    key: str
    text: str
    px: float

    @property
    def told(self) -> str:
        """The sentence with its amount."""
        return f"{self.text} {self.px:.2g} px" if self.px < 100 else f"{self.text} {self.px:.0f} px"


@dataclass(frozen=True, eq=False)
class _Scene:
    """A shot at a frame, as losses are looked for in it."""

    plan: Plan
    shot: Shot
    numbers: Survey
    row: int
    camera: RenderCamera

    @cached_property
    def largest_px(self) -> float:
        return worst_blur_px(self.numbers, self.row)

    @property
    def seen(self) -> list[int]:
        """Rows of the subjects in the picture."""
        return [int(k) for k in np.flatnonzero(self.numbers.state[:, self.row] != GONE)]

    def name(self, subject: int) -> str:
        return self.plan.subjects[subject].name


def losses(
    which: Block, plan: Plan, shot: Shot, numbers: Survey, row: int, whole: RenderCamera | None = None
) -> list[Loss]:
    """What a block cannot say at a frame of a shot, the most first.

    Parameters
    ----------
    whole : the camera at all frames of the survey, if it is known already
    """
    whole = whole or render_camera(shot, numbers)
    scene = _Scene(plan, shot, numbers, row, whole.at(row))
    if scene.camera.projection == "orthographic":
        return []
    found: list[Loss] = []
    if any(key in which.keys for key in ("focus_distance", "focal_distance", "focus_value")):
        found += [*_other_surface(scene), *_straight(scene)]
    if "focal_length" in which.keys:
        found += _own_numbers(scene)
    if any(key in which.keys for key in ("focal_length", "angle_across")):
        found += _breathing(scene, whole)
    if _tells_blur(which):
        found += [*_shape(scene, which), *_within(scene)]
    if which.key == "ramp":
        found += _ramp(scene)
    if which.key == "depth":
        found += _straight_depth(scene)
    if "largest_blur" in which.keys:
        found += _cut(scene)
    return sorted((loss for loss in found if loss.px >= LEAST_PX), key=lambda loss: -loss.px)


def _tells_blur(which: Block) -> bool:
    return any(quantity.group == "aperture" for quantity in which.quantities) or "iris" in which.carries


def _other_surface(scene: _Scene) -> Iterator[Loss]:
    """A renderer whose focus surface is of the other kind."""
    camera = scene.numbers.camera.frame(scene.row)
    if camera.projection != "perspective":
        return
    other: FocusSurface = "sphere" if camera.surface == "plane" else "plane"
    points = scene.numbers.points[:, scene.row]
    off = np.abs(replace(camera, surface=other).see(points).blur_px - camera.see(points).blur_px)
    seen = scene.seen
    if seen:
        worst = max(seen, key=lambda k: float(off[k]))
        kind = {"plane": "spherical", "sphere": "flat"}[camera.surface]
        yield Loss(
            "surface", f"With a {kind} focus surface, {scene.name(worst)} is off by", float(off[worst])
        )


def _straight(scene: _Scene) -> Iterator[Loss]:
    """The straight distance of what is in focus, typed as the focus."""
    camera = scene.numbers.camera.frame(scene.row)
    if camera.projection != "perspective" or camera.surface != "plane":
        return
    for k in scene.seen:
        straight, along = (
            float(part[k, scene.row])
            for part in (scene.numbers.sight.straight_m, scene.numbers.sight.axial_m)
        )
        if abs(along / float(camera.focus_m) - 1) < 1e-6:
            off = float(replace(camera, focus_m=np.asarray(straight)).blur_px(along))
            yield Loss("straight", f"If the straight-line distance is typed, {scene.name(k)} is off by", off)
            return


def _own_numbers(scene: _Scene) -> Iterator[Loss]:
    """A lens's own focal length and stop, typed into a render camera."""
    camera = scene.camera
    if camera.model != "thin":
        return
    part = float(camera.focal_mm[0] / camera.image_mm[0])
    yield Loss("thin", "The lens's own focal length typed, framing is off by",
               float(camera.width_px / 2 * (1 / part - 1)))  # fmt: skip
    yield Loss("thin_blur", "With the lens's nominal focal length and stop, blur is off by",
               scene.largest_px * (1 - part))  # fmt: skip


def _breathing(scene: _Scene, whole: RenderCamera) -> Iterator[Loss]:
    """One value held over the shot, where the lens breathes or zooms."""
    off = np.abs(whole.image_mm / scene.camera.image_mm - 1.0)
    yield Loss("held", "Held over the shot, framing is off by up to",
               float(np.max(off) * whole.width_px / 2))  # fmt: skip


def _shape(scene: _Scene, which: Block) -> Iterator[Loss]:
    """Discs that are round where they should not be."""
    camera, largest = scene.camera, scene.largest_px
    if "squeeze" not in which.carries and camera.squeeze > 1:
        yield Loss("squeeze", "No squeeze: discs too wide by", largest * (1 - 1 / camera.squeeze))
    if "iris" not in which.carries and camera.blades:
        outline = shapes.outline(Iris(round(camera.blades), camera.roundness))
        off = np.abs(np.linalg.norm(outline, axis=1) - 1.0)
        yield Loss("blades", "No blades: edge of discs off by", largest / 2 * float(off.max()))


def _within(scene: _Scene) -> Iterator[Loss]:
    """What no block can say: cut discs, masks, the rim's weight, and what lens errors do."""
    camera, largest = scene.numbers.camera.frame(scene.row), scene.largest_px
    yield Loss("cat_eye", "No cat's eye: corner discs too wide by", largest * cat_eye_amount(camera))
    iris = scene.shot.iris
    if iris.mask is not None:
        yield Loss("mask", "No mask: within discs of up to", largest)
    elif iris.rim:
        yield Loss("rim", "No edge brightness: affects discs up to", largest)
    flaws = scene.shot.flaws
    shifts = [abs(flaws.colour_mm), abs(flaws.swirl_mm) / 2, abs(flaws.spherical_mm) / 2]
    if any(shifts):
        # the image lies as much before or behind the sensor, seen through the pupil at its distance
        spread = max(shifts) / float(camera.image_f_number)
        yield Loss("flaws", "Without lens character, blur is off by about",
                   spread / scene.camera.film_mm[0] * camera.width_px)  # fmt: skip


def _places(scene: _Scene) -> Numbers:
    """Distances from the nearest to the farthest that matter, even in dioptres."""
    near, far = scene.camera.ends_m
    return np.asarray(1.0 / np.linspace(1.0 / near, 1.0 / far, _STEPS))


def _ramp(scene: _Scene) -> Iterator[Loss]:
    """A ramp that is straight in distance, where blur is not; over the distances that matter."""
    camera = scene.camera
    near, far = camera.ends_m
    places = np.append(_places(scene), [end for end in _ramp_ends(camera) if near <= end <= far])
    exact = camera.blur_px(places)
    full = float(camera.full_px[0])
    off = np.abs(np.minimum(exact, full) - ramp_px(camera, places))
    yield Loss("ramp", "Ramp even in distance: blur off by up to", float(off.max()))


def _ramp_ends(camera: RenderCamera) -> list[float]:
    """Where a ramp is full, begins, begins and is full again, metres."""
    keys = ("full_before", "begins_before", "begins_behind", "full_behind")
    return [float(QUANTITIES[key].values(camera)[0]) for key in keys]


def ramp_px(camera: RenderCamera, distance_m: Numbers) -> Numbers:
    """Blur of a ramp at distances: none between where it begins, then even in distance to the full one."""
    ends = _ramp_ends(camera)
    full = float(camera.full_px[0])
    before = np.clip((ends[1] - distance_m) / (ends[1] - ends[0]), 0.0, 1.0)
    if np.isinf(ends[3]):  # it never is full, so there is no end to be typed
        behind = np.zeros_like(distance_m)
    else:
        behind = np.clip((distance_m - ends[2]) / (ends[3] - ends[2]), 0.0, 1.0)
    return np.asarray(np.maximum(before, behind) * full)


def _straight_depth(scene: _Scene) -> Iterator[Loss]:
    """Blur that is even in depth, where a lens's is even in one over it."""
    camera = scene.camera
    near, _far = camera.ends_m
    focus = float(camera.focus_m[0])
    at_black = float(camera.blur_px(near)[0])
    places = _places(scene)
    even = np.abs(places - focus) / abs(focus - near) * at_black
    yield Loss("even_depth", "Blur even in depth: off by up to",
               float(np.max(np.abs(even - camera.blur_px(places)))))  # fmt: skip


def _cut(scene: _Scene) -> Iterator[Loss]:
    """Blur that is larger than the ramp's largest."""
    largest = max(scene.largest_px, float(scene.camera.blur_px(scene.camera.ends_m[0])[0]))
    yield Loss("cut", "Largest blur cut by", largest - float(scene.camera.full_px[0]))
