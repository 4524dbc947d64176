"""The camera that all values describe, each in its own words."""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Self

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics import lens
from kobrel.optics.exposure import effective_f_number, light_value, t_stop
from kobrel.optics.iris import turned_deg
from kobrel.optics.lens import FocusSurface, LensModel, Numbers
from kobrel.optics.projection import Projection
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import GONE, Survey, round_up
from kobrel.plan.model import Shot

_MM_PER_M = 1000.0
_PART_OF_INFINITY = 0.8
"""A ramp's largest blur, where the shot has none, as a part of the blur at infinity."""


@dataclass(frozen=True, eq=False)
class RenderCamera:
    """A camera at F frames in the numbers that every convention is worked out from.

    Parameters
    ----------
    frames : (F,)
    focal_mm, f_number, focus_m : (F,) of the lens itself
    film_mm : width (desqueezed) and height of the delivered frame on the sensor
    coc_px : the largest blur called sharp, pixels at delivery
    width_px : delivery width
    ends_m : nearest and farthest distance that a depth picture shows
    full_px : (F,) the largest blur that a ramp reaches
    turn_deg : (F,) of the iris, as it stands at each frame
    field_m, cone_deg : of an orthographic view
    recorded_ev : light value that is right here
    """

    frames: Numbers
    focal_mm: Numbers
    f_number: Numbers
    focus_m: Numbers
    film_mm: tuple[float, float]
    model: LensModel
    surface: FocusSurface
    projection: Projection
    coc_px: float
    width_px: int
    squeeze: float
    ends_m: tuple[float, float]
    full_px: Numbers
    blades: float
    roundness: float
    turn_deg: Numbers
    shutter_deg: float
    fps: float
    iso: float
    nd_stops: float
    transmission: float
    recorded_ev: float
    field_m: float
    cone_deg: float

    @cached_property
    def pupil_mm(self) -> Numbers:
        """Diameter of the entrance pupil."""
        return lens.pupil_mm(self.focal_mm, self.f_number)

    @cached_property
    def image_mm(self) -> Numbers:
        """Focal length of the render camera that makes the same picture: the image distance."""
        return lens.image_distance_mm(self.focal_mm, self.focus_m, self.model)

    @cached_property
    def px_per_dpt(self) -> Numbers:
        """Pixels of blur at delivery for each dioptre of defocus."""
        if self.projection == "orthographic":
            return np.full(len(self.frames), np.nan)
        per_dioptre = lens.blur_per_dioptre_mm(self.pupil_mm, self.image_mm)
        return per_dioptre / self.film_mm[0] * self.width_px

    @property
    def coc_mm(self) -> float:
        """The largest blur called sharp, on the film back."""
        return self.coc_px / self.width_px * self.film_mm[0]

    @property
    def t_stop(self) -> Numbers:
        """The stop as the light counts it."""
        near = lens.magnification(self.focal_mm, self.focus_m, self.model) if self.model == "thin" else 0.0
        return t_stop(effective_f_number(self.f_number, near), self.transmission)

    @property
    def brighter_ev(self) -> Numbers:
        """How much brighter than metered the camera records."""
        return light_value(self.t_stop, self.iso, self.shutter_deg, self.nd_stops) - self.recorded_ev

    def blur_px(self, distance_m: ArrayLike) -> Numbers:
        """Blur in the picture's middle at a distance, pixels at delivery."""
        away = 1.0 / np.asarray(distance_m, dtype=float)
        return np.asarray(self.px_per_dpt * np.abs(1.0 / self.focus_m - away))

    def at(self, row: int) -> Self:
        """The camera at one of its frames."""
        rows = slice(row, row + 1)
        names = ("frames", "focal_mm", "f_number", "focus_m", "full_px", "turn_deg")
        return replace(self, **{name: getattr(self, name)[rows] for name in names})

    def with_pupil(self, pupil_mm: ArrayLike) -> Self:
        """Another aperture, by the f-number."""
        return replace(self, f_number=self.focal_mm / np.asarray(pupil_mm, dtype=float))

    def with_px_per_dpt(self, px_per_dpt: ArrayLike) -> Self:
        """Another blur, by the f-number."""
        return replace(self, f_number=self.f_number * self.px_per_dpt / np.asarray(px_per_dpt, dtype=float))

    def with_image(self, image_mm: ArrayLike) -> Self:
        """Another angle of view, by the focal length; the f-number stays."""
        image = np.asarray(image_mm, dtype=float) + np.zeros_like(self.frames)
        if self.model == "render":
            return replace(self, focal_mm=image)
        return replace(self, focal_mm=image / (1.0 + image / (_MM_PER_M * self.focus_m)))


def render_camera(shot: Shot, numbers: Survey) -> RenderCamera:
    """The camera of a shot at the frames of its survey."""
    camera, iris = numbers.camera, shot.iris
    count = np.ones(len(numbers.frames))
    made = RenderCamera(
        frames=numbers.frames,
        focal_mm=camera.focal_mm * count,
        f_number=camera.f_number * count,
        focus_m=camera.focus_m * count,
        film_mm=(camera.sensor_width_mm * camera.squeeze, camera.sensor_height_mm),
        model=camera.model,
        surface=camera.surface,
        projection=camera.projection,
        coc_px=camera.coc_px,
        width_px=camera.width_px,
        squeeze=camera.squeeze,
        ends_m=depth_ends_m(numbers),
        full_px=count,
        blades=float(iris.blades),
        roundness=iris.roundness,
        turn_deg=turned_deg(iris.rotation_deg, iris.turn_per_stop_deg, camera.f_number) * count,
        shutter_deg=shot.exposure.shutter_deg,
        fps=shot.fps,
        iso=shot.exposure.iso,
        nd_stops=shot.exposure.nd_stops,
        transmission=camera.transmission,
        recorded_ev=shot.exposure.metered,
        field_m=camera.field_m,
        cone_deg=camera.cone_deg,
    )
    return replace(made, full_px=_full_px(made, shot.most_px))


def _full_px(camera: RenderCamera, most_px: float | None) -> Numbers:
    """The largest blur of a ramp: the renderer's own, or most of what infinity has."""
    if most_px is not None:
        return np.full(len(camera.frames), most_px)
    return np.maximum(_PART_OF_INFINITY * camera.blur_px(np.inf), 2.0 * camera.coc_px)


def depth_ends_m(numbers: Survey) -> tuple[float, float]:
    """Round distances between which a depth picture shows all that matters in a shot."""
    seen = numbers.focus_distance_m[(numbers.state != GONE) & (numbers.focus_distance_m > 0)]
    focus = numbers.camera.focus_m[np.isfinite(numbers.camera.focus_m)]
    near = numbers.nearest_of_interest_m
    farthest = max([float(np.max(part)) for part in (seen, focus) if part.size] or [10.0 * near])
    return near, round_up(1.2 * max(farthest, 2.0 * near))


def worst_blur_px(numbers: Survey, row: int) -> float:
    """The largest blur at a frame, of subjects in the picture and of infinity."""
    camera: Camera = numbers.camera.frame(row)
    seen = numbers.sight.blur_px[:, row][numbers.state[:, row] != GONE]
    return float(max([float(camera.blur_px(np.inf)), *seen]))
