"""The camera of a shot at a frame, or at many: all its numbers, in one place."""

from dataclasses import dataclass, field, fields, replace
from functools import partial

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.optics import lens, projection, sensor
from kobrel.optics.aperture import passes
from kobrel.optics.exposure import effective_f_number, light_value, t_stop
from kobrel.optics.iris import Iris, turned_deg
from kobrel.optics.lens import FocusSurface, LensModel, Numbers
from kobrel.optics.projection import Projection
from kobrel.plan.instrument import Character, Exposure
from kobrel.plan.masks import iris_of
from kobrel.plan.measure.poses import near_clip_m, poses
from kobrel.plan.model import (
    Anchor,
    Plan,
    PointTarget,
    Shot,
    SubjectTarget,
    Target,
)
from kobrel.plan.pull.dials import lens_at
from kobrel.plan.pull.interpolation import focus_dpt, ways
from kobrel.plan.space.anchors import subject_points
from kobrel.stage.plates import Eye
from kobrel.stage.stage import Stage

BY_FRAME = ("pose", "focal_mm", "f_number", "focus_m")
_SURFACES: dict[Projection, FocusSurface] = {"orthographic": "plane", "fisheye": "sphere"}


@dataclass(frozen=True)
class Sight:
    """How a camera sees points; arrays of the points' shape, (...).

    Parameters
    ----------
    axial_m : distance along the axis, negative behind the camera
    straight_m : distance as a tape gives it
    x_px, y_px : place in the delivery picture, from its upper left corner
    blur_px : blur diameter at delivery width (the disc's height where there is a squeeze)
    in_frame : before the camera and within the picture
    """

    axial_m: Numbers
    straight_m: Numbers
    x_px: Numbers
    y_px: Numbers
    blur_px: Numbers
    in_frame: NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Camera:
    """A camera at one frame (numbers are scalars) or at F frames (numbers are (F,)).

    Parameters
    ----------
    pose : (..., 4, 4) camera to stage, metres, looking along -Z, without scale
    focal_mm, f_number, focus_m : the lens; the focus distance counts along the axis
        for a flat focus surface and straight for a sphere
    coc_mm : the largest blur still called sharp, on the sensor
    sensor_width_mm, sensor_height_mm : the delivered frame on the sensor
    shift_mm : how far the picture's middle lies right of and above the lens's axis, on the sensor
    gate_mm : width and height of the whole sensor, if the frame is not all of it
    inner : part of the picture's width and height that is delivered, see :attr:`whole`
    width_px : delivery width
    field_m : width of an orthographic view's field
    cone_deg : full angle of its cone of light, which the f-number does not change
    """

    pose: Numbers
    focal_mm: Numbers
    f_number: Numbers
    focus_m: Numbers
    sensor_width_mm: float
    sensor_height_mm: float
    squeeze: float
    model: LensModel
    surface: FocusSurface
    iris: Iris
    coc_mm: float
    width_px: int
    near_clip_m: float = 0.0
    projection: Projection = "perspective"
    field_m: float = 4.0
    cone_deg: float = 1.0
    shift_mm: tuple[float, float] = (0.0, 0.0)
    gate_mm: tuple[float, float] | None = None
    inner: tuple[float, float] = (1.0, 1.0)
    transmission: float = 1.0
    exposure: Exposure = field(default_factory=Exposure)
    turn_per_stop_deg: float = 0.0
    flaws: Character = field(default_factory=Character)

    def frame(self, index: int) -> "Camera":
        """One of many frames."""
        return self.rows(index)

    def rows(self, index: int | list[int] | NDArray[np.intp]) -> "Camera":
        """One or some of many frames."""
        return replace(self, **{name: getattr(self, name)[index] for name in BY_FRAME})

    def differs(self, other: "Camera") -> NDArray[np.bool_]:
        """(F,) at which frames it is not as another of as many frames is."""
        constant = [f.name for f in fields(self) if f.name not in BY_FRAME]
        if any(getattr(self, name) != getattr(other, name) for name in constant):
            return np.ones(len(self.focus_m), bool)
        poses = (self.pose != other.pose).any(axis=(-2, -1))
        result: NDArray[np.bool_] = np.logical_or.reduce(
            [poses, *(getattr(self, name) != getattr(other, name) for name in BY_FRAME[1:])]
        )
        return result

    @property
    def eye(self) -> Eye:
        """The camera at its one frame as plates know it."""
        if self.projection == "orthographic":
            return Eye(self.pose, 0.0, 0.0)
        return Eye(self.pose, 1.0 / float(self.focus_m), float(self.px_per_dioptre))

    @property
    def aspect(self) -> float:
        """Width over height of the picture, desqueezed."""
        return self.sensor_width_mm * self.squeeze / self.sensor_height_mm

    @property
    def height_px(self) -> int:
        """Delivery height."""
        return max(1, round(self.width_px / self.aspect))

    @property
    def whole(self) -> "Camera":
        """The camera that pictures the whole sensor, and what of the frame lies beyond it."""
        if self.gate_mm is None:
            return self
        wide, tall = max(self.gate_mm[0], self.sensor_width_mm), max(self.gate_mm[1], self.sensor_height_mm)
        part = self.sensor_width_mm / wide
        return replace(
            self, sensor_width_mm=wide, sensor_height_mm=tall, width_px=round(self.width_px / part),
            field_m=self.field_m / part, inner=(part, self.sensor_height_mm / tall), gate_mm=None,
        )  # fmt: skip

    @property
    def turned_iris(self) -> Iris:
        """The iris as it is turned at the camera's one frame."""
        if not self.turn_per_stop_deg:
            return self.iris
        turned = turned_deg(self.iris.rotation_deg, self.turn_per_stop_deg, self.f_number)
        return replace(self.iris, rotation_deg=float(turned))

    @property
    def t_stop(self) -> Numbers:
        """The stop as the light counts it, close focus of a thin lens included."""
        return t_stop(self.effective_f_number, self.transmission)

    @property
    def off_ev(self) -> Numbers:
        """How much brighter than metered the camera records."""
        e = self.exposure
        return light_value(self.t_stop, e.iso, e.shutter_deg, e.nd_stops) - e.metered

    @property
    def shown_ev(self) -> Numbers:
        """The part of it that the picture shows: none where the shot keeps its exposure."""
        return 0.0 * self.off_ev if self.exposure.kept else self.off_ev

    @property
    def pupil_mm(self) -> Numbers:
        """Diameter of the entrance pupil."""
        return lens.pupil_mm(self.focal_mm, self.f_number)

    @property
    def image_distance_mm(self) -> Numbers:
        """Distance from lens to sensor."""
        return lens.image_distance_mm(self.focal_mm, self.focus_m, self.model)

    @property
    def pupil_radius_m(self) -> Numbers:
        """Half the diameter of the entrance pupil, metres."""
        return self.pupil_mm / 2000.0

    @property
    def blur_per_dioptre_mm(self) -> Numbers:
        """Blur on the sensor for each dioptre of defocus, in perspective."""
        return lens.blur_per_dioptre_mm(self.pupil_mm, self.image_distance_mm)

    @property
    def px_per_dioptre(self) -> Numbers:
        """Pixels of blur at delivery for each dioptre of defocus, in perspective."""
        blur = self.blur_per_dioptre_mm
        return sensor.blur_px(blur, self.sensor_width_mm, self.width_px, self.squeeze)

    @property
    def image_f_number(self) -> Numbers:
        """The f-number of a render camera that makes the same picture."""
        return lens.image_f_number(self.pupil_mm, self.image_distance_mm)

    def half_widths(self) -> tuple[Numbers, Numbers]:
        """Half the picture's width and height in its own coordinates, see
        :mod:`kobrel.optics.projection`: tangents of the half angles, metres, or radians.
        """
        if self.projection == "orthographic":
            half = np.full_like(self.focus_m, self.field_m / 2)
            return half, half / self.aspect
        double = 2.0 * self.image_distance_mm
        return self.sensor_width_mm * self.squeeze / double, self.sensor_height_mm / double

    def middle(self) -> tuple[Numbers, Numbers]:
        """The picture's middle in its own coordinates, beside the lens's axis where that is shifted."""
        half_x, half_y = self.half_widths()
        across, up = self.shift_mm
        return 2.0 * across / self.sensor_width_mm * half_x, 2.0 * up / self.sensor_height_mm * half_y

    @property
    def corner_tangent(self) -> Numbers:
        """The picture's own coordinates of the corner that lies farthest from the axis, as one length."""
        sides = [abs(m) + h for m, h in zip(self.middle(), self.half_widths(), strict=True)]
        return np.hypot(*sides)

    @property
    def view_angles_deg(self) -> tuple[Numbers, Numbers]:
        """Angle of view across and upward; none for an orthographic view."""
        across, up = self.half_widths()
        if self.projection == "orthographic":
            return 0.0 * across, 0.0 * up
        if self.projection == "fisheye":
            return np.degrees(2 * across), np.degrees(2 * up)
        distance = self.image_distance_mm
        return (
            sensor.view_angle_deg(self.sensor_width_mm * self.squeeze, distance),
            sensor.view_angle_deg(self.sensor_height_mm, distance),
        )

    @property
    def limits_m(self) -> tuple[Numbers, Numbers]:
        """Near and far limit of what is sharp."""
        if self.projection == "orthographic":
            half = self.coc_px / self._px_per_metre_off
            return np.maximum(self.focus_m - half, 0.0), self.focus_m + half
        return lens.limits_m(self.focal_mm, self.f_number, self.focus_m, self.coc_mm, self.model)

    @property
    def sharp_depth_m(self) -> Numbers:
        """How deep what is sharp is, from the near limit to the far one."""
        near, far = self.limits_m
        with np.errstate(invalid="ignore"):
            return np.asarray(far - near)

    @property
    def _px_per_metre_off(self) -> float:
        """Blur of an orthographic view for each metre from the focus, pixels at delivery."""
        return float(projection.cone_blur_m(self.cone_deg, 0.0, 1.0)) / self.field_m * self.width_px

    @property
    def hyperfocal_m(self) -> Numbers:
        """Focus distance that reaches infinity; an orthographic view has none."""
        if self.projection == "orthographic":
            return np.nan * self.focus_m
        return lens.hyperfocal_m(self.focal_mm, self.f_number, self.coc_mm, self.model)

    @property
    def magnification(self) -> Numbers:
        """Size on the sensor over size in the scene, at the focus."""
        if self.projection == "orthographic":
            size = self.sensor_width_mm * self.squeeze / (1000.0 * self.field_m)
            return np.full_like(self.focus_m, size)
        return lens.magnification(self.focal_mm, self.focus_m, self.model)

    @property
    def effective_f_number(self) -> Numbers:
        """What the light sees: more than the f-number for a thin lens at close focus."""
        return effective_f_number(self.f_number, self.magnification if self.model == "thin" else 0.0)

    @property
    def coc_px(self) -> float:
        """The largest blur still called sharp, in pixels at delivery width."""
        return float(sensor.blur_px(self.coc_mm, self.sensor_width_mm, self.width_px, self.squeeze))

    def blur_px(self, distance_m: ArrayLike) -> Numbers:
        """Blur diameter of points at distances as the focus counts them, in the picture's middle."""
        if self.projection == "orthographic":
            return np.abs(np.asarray(distance_m, float) - self.focus_m) * self._px_per_metre_off
        blur = lens.blur_mm(self.focal_mm, self.f_number, self.focus_m, distance_m, self.model)
        return sensor.blur_px(blur, self.sensor_width_mm, self.width_px, self.squeeze)

    def stop_for_limit(self, limit_m: ArrayLike) -> Numbers:
        """The f-number whose sharp band ends at a distance on the axis."""
        return lens.stop_for_limit(self.focal_mm, self.focus_m, limit_m, self.coc_mm, self.model)

    def cone_for_limit(self, limit_m: ArrayLike) -> Numbers:
        """The cone of light, degrees, whose sharp band ends at a distance: of an orthographic view."""
        off = np.maximum(np.abs(np.asarray(limit_m, float) - self.focus_m), 1e-9)
        result: Numbers = np.degrees(2 * np.arctan(self.coc_px / self.width_px * self.field_m / (2 * off)))
        return result

    def see(self, points: ArrayLike) -> Sight:
        """How points appear: (..., 3) metres on the stage, broadcast against the frames.

        Blur is that of the pictured disc: on a sphere the focus stands at ``s cos t`` along
        the axis for a point at angle t.
        """
        x, y, axial = self.before(points)
        straight = np.sqrt(x * x + y * y + axial * axial)
        with np.errstate(divide="ignore", invalid="ignore"):
            if self.projection == "perspective":
                # what counts is the pictured disc, so distances count along the axis
                focus = lens.focus_along_axis_m(self.focus_m, self.surface, axial / straight)
                pixels = self.px_per_dioptre * np.abs(1.0 / focus - 1.0 / axial)
            else:
                pixels = self.blur_px(straight if self.projection == "fisheye" else axial)
            (half_x, half_y), (middle_x, middle_y) = self.half_widths(), self.middle()
            u, v = projection.project(self.projection, x, y, axial)
            right, down = (u - middle_x) / half_x, (middle_y - v) / half_y
        before = straight > 0 if self.projection == "fisheye" else axial > 0
        in_frame = before & (np.abs(right) <= 1) & (np.abs(down) <= 1)
        return Sight(
            axial,
            straight,
            np.where(before, (right + 1) / 2 * self.width_px, np.nan),
            np.where(before, (down + 1) / 2 * self.width_px / self.aspect, np.nan),
            np.where(before, pixels, np.nan),
            in_frame,
        )

    def before(self, points: ArrayLike) -> tuple[Numbers, Numbers, Numbers]:
        """Points (..., 3) in the camera's own axes, metres: to the right, upward, ahead."""
        turn, places = self.pose[..., :3, :3], np.asarray(points, dtype=float)
        a, b, c = (places[..., k] - self.pose[..., k, 3] for k in range(3))
        x, y, back = (turn[..., 0, j] * a + turn[..., 1, j] * b + turn[..., 2, j] * c for j in range(3))
        return x, y, -back

    def ray(
        self, x_px: ArrayLike, y_px: ArrayLike, width_px: float, height_px: float
    ) -> tuple[Numbers, Numbers]:
        """Origins and directions, (..., 3) each, through pixels of a picture of some size.

        The directions are one metre long along the axis (fisheye: straight), so that distances
        along the rays in their own units are metres. For a camera at one frame.
        """
        (half_x, half_y), (middle_x, middle_y) = self.half_widths(), self.middle()
        start, toward = projection.ray(
            self.projection,
            (2 * np.asarray(x_px, dtype=float) / width_px - 1) * float(half_x) + float(middle_x),
            (1 - 2 * np.asarray(y_px, dtype=float) / height_px) * float(half_y) + float(middle_y),
        )
        turn = self.pose[:3, :3].T
        return np.asarray(self.pose[:3, 3] + start @ turn), np.asarray(toward @ turn)


def pixel_rays(
    camera: Camera, x_px: ArrayLike, y_px: ArrayLike, width_px: int, height_px: int
) -> tuple[Numbers, Numbers]:
    """As :meth:`Camera.ray`, through pixels of a picture that is as wide as the frame and of any height: its
    pixels are as wide as high, as when it is drawn, so another shape shows more or less above and below.
    """
    frame_px = width_px / camera.aspect
    return camera.ray(x_px, np.asarray(y_px, float) - (height_px - frame_px) / 2, width_px, frame_px)


def cameras_at(plan: Plan, shot: Shot, frames: ArrayLike, stage: Stage) -> Camera:
    """The shot's camera at many frames.

    Raises
    ------
    PlanError
        As :func:`poses`.
    """
    at, stage = np.atleast_1d(np.asarray(frames, dtype=float)), stage.of_shot(shot.name)
    pose = np.broadcast_to(poses(plan, shot, at, stage), (len(at), 4, 4))
    glass = shot.glass
    # Parallel rays focus on a plane; a fisheye's discs have a shape of their own only on a sphere.
    surface = glass.surface if glass.projection == "perspective" else _SURFACES[glass.projection]
    model = glass.model if glass.projection == "perspective" else "render"
    dialled = lens_at(plan.dials, shot.name, at)
    focal = dialled["focal_mm"] if "focal_mm" in dialled else glass.focal_mm.at(at)
    gate = glass.sensor.width_mm, glass.sensor.height_mm
    frame = sensor.frame_on_sensor(*gate, glass.squeeze, glass.delivery.aspect, glass.delivery.fit)
    nearness = partial(_wanted_dpt, plan, shot, stage, surface)
    way = None
    if any(mark.search for mark in shot.marks[:-1]):
        arrivals = np.asarray([mark.frame for mark in shot.marks[1:]])
        way = ways(shot.marks, nearness(arrivals, poses(plan, shot, arrivals, stage)))
    with np.errstate(divide="ignore"):
        focus = 1.0 / focus_dpt(shot.marks, at, nearness(at, pose), way)
    focus = dialled.get("focus", focus)
    iris, mask = iris_of(shot.iris), shot.iris.mask
    return Camera(
        pose=pose,
        focal_mm=focal,
        f_number=dialled["f_number"] if "f_number" in dialled else glass.f_number.at(at),
        focus_m=np.maximum(focus, lens.closest_focus_m(focal, model)),
        sensor_width_mm=frame[0],
        sensor_height_mm=frame[1],
        squeeze=glass.squeeze,
        model=model,
        surface=surface,
        iris=iris,
        coc_mm=sensor.coc_mm(
            glass.criterion.kind,
            glass.criterion.value,
            *(frame if glass.criterion.kind == "pixels" else gate),
            shot.width_px,
            glass.squeeze,
        ),
        width_px=shot.width_px,
        near_clip_m=near_clip_m(shot, stage),
        projection=glass.projection,
        field_m=glass.field_m * frame[0] / gate[0],
        cone_deg=glass.cone_deg,
        shift_mm=glass.shift_mm,
        gate_mm=gate if frame != gate else None,
        transmission=glass.transmission * (1.0 if mask is None or mask.made_up else passes(iris)),
        exposure=shot.exposure,
        turn_per_stop_deg=shot.iris.turn_per_stop_deg,
        flaws=shot.flaws,
    )


def camera_at(plan: Plan, shot: Shot, frame: float, stage: Stage) -> Camera:
    """The shot's camera at one frame.

    Raises
    ------
    PlanError
        As :func:`poses`.
    """
    return cameras_at(plan, shot, [frame], stage).frame(0)


def _wanted_dpt(
    plan: Plan, shot: Shot, stage: Stage, surface: str, at: Numbers, pose: Numbers
) -> dict[Target, Numbers]:
    """Nearness, (F,), of the subjects and points that the shot's marks are on."""
    pose, all_round = np.broadcast_to(pose, (len(at), 4, 4)), shot.glass.projection == "fisheye"
    found: dict[Target, Numbers] = {}
    for target in {mark.target for mark in shot.marks}:
        anchor: Anchor | PointTarget | None = target if isinstance(target, PointTarget) else None
        if isinstance(target, SubjectTarget):
            subject = plan.subject(target.number)
            anchor = subject.anchor if subject else None
        if anchor is not None:
            points = subject_points(anchor, at, stage, pose[:, :3, 3])
            found[target] = np.broadcast_to(points, (len(at), 3))
    if not found:
        return found
    nearness = _nearness_dpt(np.stack(list(found.values())), pose, surface, all_round)
    return dict(zip(found, nearness, strict=True))


def _nearness_dpt(points: Numbers, pose: Numbers, surface: str, all_round: bool) -> Numbers:
    """Dioptres, (T, F), of points (T, F, 3) before cameras (F, 4, 4); 0 for those behind, unless the
    view goes all round.
    """
    a, b, c = (points[..., k] - pose[:, k, 3] for k in range(3))
    axial = -(pose[:, 0, 2] * a + pose[:, 1, 2] * b + pose[:, 2, 2] * c)
    distance = np.sqrt(a * a + b * b + c * c) if surface == "sphere" else axial
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where((axial > 0) | all_round, 1.0 / distance, 0.0)
