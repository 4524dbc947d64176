"""What to draw: a stage, a camera, a light and a size, as the kernels want them."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kobrel.optics.aperture import Aperture, aperture
from kobrel.optics.flaws import shift_dpt
from kobrel.optics.lens import Numbers
from kobrel.optics.projection import cone_blur_m
from kobrel.plan.camera import Camera
from kobrel.plan.instrument import Flaws
from kobrel.plan.model import Light
from kobrel.stage.environment import Environment
from kobrel.stage.stage import Snapshot


@dataclass(frozen=True, eq=False)
class View:
    """One picture to be drawn.

    Parameters
    ----------
    snapshot : the stage at a frame
    camera : at that frame
    width, height : size of the picture in pixels
    """

    snapshot: Snapshot
    camera: Camera
    light: Light
    width: int
    height: int

    @cached_property
    def numbers(self) -> Numbers:
        """See :func:`view_numbers`."""
        return view_numbers(self.camera, self.snapshot.origin, self.height / self.width)

    @cached_property
    def aperture(self) -> Aperture:
        """Where light comes through the iris."""
        return aperture(self.camera.turned_iris, self.camera.squeeze)

    @cached_property
    def light_numbers(self) -> NDArray[np.float32]:
        """See :func:`light_numbers`."""
        return light_numbers(self.light, self.snapshot.environment)

    @property
    def environment(self) -> NDArray[np.float32]:
        """The picture all about, (h, w, 3); one black pixel where there is none."""
        about = self.snapshot.environment
        return _NO_ENVIRONMENT if about is None else about.pixels

    @property
    def blur_scale_px(self) -> float:
        """Pixels of blur (the disc's height) in this picture for each dioptre of defocus; for an
        orthographic view for each metre.
        """
        camera = self.camera
        if camera.projection == "orthographic":
            return float(cone_blur_m(camera.cone_deg, 0.0, 1.0)) / camera.field_m * self.width
        per_dioptre_mm = float(camera.pupil_mm * camera.image_distance_mm) / 1000.0
        return per_dioptre_mm / (camera.sensor_width_mm * camera.squeeze) * self.width


_NO_ENVIRONMENT = np.zeros((1, 1, 3), np.float32)
_KINDS = {"perspective": 0.0, "orthographic": 1.0, "fisheye": 2.0}
_FARTHEST_CONE_M = 1e4


def view_numbers(camera: Camera, origin: Numbers, height_over_width: float) -> Numbers:
    """A camera for kernels: rotation by rows (0-8), place (9-11), half width and height of the
    picture in its own coordinates (12, 13), pupil radius in metres (14), focus in dioptres
    (15), sphere (16), projection (17), weight of the rim (18); then the flaws of a lens in
    perspective: distance and radius of its front stop in metres (19, 20), shift of red and blue
    (21), astigmatism in the corner (22) and spherical aberration (23) in dioptres, 1 over the
    square of the corner's tangent (24), whether there are any (25). For an orthographic view 14
    is the tangent of half its cone of light.

    Pixels are square: a picture of another shape than the sensor keeps its angle of view
    across and shows more or less above and below.
    """
    half_x = float(camera.half_widths()[0])
    lens = [float(camera.pupil_mm) / 2000.0, 1.0 / float(camera.focus_m)]
    if camera.projection == "orthographic":
        lens = [np.tan(np.radians(camera.cone_deg) / 2), 1.0 / min(float(camera.focus_m), _FARTHEST_CONE_M)]
    return np.concatenate(
        [
            camera.pose[:3, :3].ravel(),
            camera.pose[:3, 3] - origin,
            [half_x, half_x * height_over_width, *lens],
            [1.0 if camera.surface == "sphere" else 0.0, _KINDS[camera.projection]],
            [camera.iris.rim, *_flaw_numbers(camera)],
        ]
    ).astype(float)


def _flaw_numbers(camera: Camera) -> list[float]:
    """Numbers 19 to 25 of :func:`view_numbers`."""
    flaws, front = camera.flaws, camera.flaws.front_stop
    if camera.projection != "perspective" or flaws == Flaws():
        return [0.0] * 7
    shifts = (flaws.colour_mm, flaws.swirl_mm, flaws.spherical_mm)
    dioptres = [float(shift_dpt(mm, camera.image_distance_mm)) for mm in shifts]
    half_x, half_y = (float(half) for half in camera.half_widths())
    stop = [front.distance_mm / 1000.0, front.diameter_mm / 2000.0] if front else [0.0, 0.0]
    return [*stop, *dioptres, 1.0 / (half_x**2 + half_y**2), 1.0]


def light_numbers(light: Light, environment: Environment | None = None) -> NDArray[np.float32]:
    """A light for kernels: way to the key light (0-2), its colour (3-5), zenith (6-8),
    horizon (9-11), ground (12-14), all with their strengths; clay (15), strength of the
    picture all about or 0 (16), cosine and sine of its turn (17, 18), and its harmonics,
    three colours each (19-45).
    """
    azimuth, elevation = np.radians(light.key_azimuth_deg), np.radians(light.key_elevation_deg)
    toward = [
        np.cos(elevation) * np.sin(azimuth), np.sin(elevation), np.cos(elevation) * np.cos(azimuth),
    ]  # fmt: skip
    key = np.asarray(light.key_colour) * light.key_strength
    sky = np.asarray([light.zenith, light.horizon, light.ground]) * light.sky_strength
    about = np.zeros(30)
    if light.surround is not None and environment is not None:
        strength, turn = 2.0**light.surround.exposure_ev, np.radians(light.surround.rotation_deg)
        about = np.concatenate(
            [[strength, np.cos(turn), -np.sin(turn)], (environment.harmonics * strength).ravel()]
        )
    return np.concatenate([toward, key, sky.ravel(), [float(light.clay)], about]).astype(np.float32)
