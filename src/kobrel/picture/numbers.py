"""Cameras and lights as the kernels want them: named numbers."""

from typing import Any, NamedTuple

import numpy as np

from kobrel.optics.character import shift_dpt
from kobrel.optics.lens import Numbers
from kobrel.plan.instrument import Character
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import Camera

PERSPECTIVE, ORTHOGRAPHIC, FISHEYE = 0, 1, 2
_KINDS = {"perspective": PERSPECTIVE, "orthographic": ORTHOGRAPHIC, "fisheye": FISHEYE}
_FARTHEST_CONE_M = 1e4


class ViewNumbers(NamedTuple):
    """A camera for kernels.

    Parameters
    ----------
    xx, xy, xz, yx, yy, yz, zx, zy, zz : its rotation, row by row
    x, y, z : its place, metres from the snapshot's origin
    half_x, half_y : half width and height of the picture in the camera's own coordinates
    pupil : radius of the pupil in metres; for an orthographic view the tangent of half its cone of light
    focus : dioptres
    sphere : whether it focuses on a sphere
    projection : :data:`PERSPECTIVE`, :data:`ORTHOGRAPHIC` or :data:`FISHEYE`
    rim : weight of the iris's rim
    flawed : whether the lens has lens errors; without them those below are 0
    stop_distance, stop_radius : of the front stop, metres; 0 for none
    colour, spherical : shift of red and blue, and at the rim of the pupil, dioptres
    swirl : astigmatism, dioptres at a tangent of 1
    middle_x, middle_y : where the picture's middle lies in the camera's own coordinates
    """

    xx: float
    xy: float
    xz: float
    yx: float
    yy: float
    yz: float
    zx: float
    zy: float
    zz: float
    x: float
    y: float
    z: float
    half_x: float
    half_y: float
    pupil: float
    focus: float
    sphere: bool
    projection: int
    rim: float
    flawed: bool = False
    stop_distance: float = 0.0
    stop_radius: float = 0.0
    colour: float = 0.0
    spherical: float = 0.0
    swirl: float = 0.0
    middle_x: float = 0.0
    middle_y: float = 0.0

    @property
    def framing(self) -> tuple[float, ...]:
        """What a picture without blur depends on."""
        return (*self[:14], self.projection, self.middle_x, self.middle_y)


class LightNumbers(NamedTuple):
    """A light for kernels; single precision, all with their strengths.

    Parameters
    ----------
    x, y, z : way to the key light
    key_r, key_g, key_b : its colour
    zenith_r, ..., ground_b : colours of the sky
    clay : above 0 where all surfaces are drawn in one grey
    full : above 0 where surfaces are lit in full
    about : strength of the picture all about, or 0
    cosine, sine : of its turn
    """

    x: np.float32
    y: np.float32
    z: np.float32
    key_r: np.float32
    key_g: np.float32
    key_b: np.float32
    zenith_r: np.float32
    zenith_g: np.float32
    zenith_b: np.float32
    horizon_r: np.float32
    horizon_g: np.float32
    horizon_b: np.float32
    ground_r: np.float32
    ground_g: np.float32
    ground_b: np.float32
    clay: np.float32
    full: np.float32
    about: np.float32
    cosine: np.float32
    sine: np.float32


def view_numbers(camera: Camera, origin: Numbers, height_over_width: float) -> ViewNumbers:
    """A camera for kernels.

    Pixels are square: a picture of another shape than the sensor keeps its angle of view
    across and shows more or less above and below.
    """
    half_x = float(camera.half_widths()[0])
    middle_x, middle_y = (float(middle) for middle in camera.middle())
    pupil, focus = float(camera.pupil_radius_m), 1.0 / float(camera.focus_m)
    if camera.projection == "orthographic":
        pupil = float(np.tan(np.radians(camera.cone_deg) / 2))
        focus = 1.0 / min(float(camera.focus_m), _FARTHEST_CONE_M)
    rotation, place = camera.pose[:3, :3].ravel().tolist(), (camera.pose[:3, 3] - origin).tolist()
    own: dict[str, Any] = {
        **dict(zip(ViewNumbers._fields, (*rotation, *place), strict=False)),
        "half_x": half_x, "half_y": half_x * height_over_width, "middle_x": middle_x, "middle_y": middle_y,
        "pupil": pupil, "focus": focus,
        "sphere": camera.surface == "sphere", "projection": _KINDS[camera.projection],
        "rim": float(camera.iris.rim),
    }  # fmt: skip
    return ViewNumbers(**own, **_flaw_numbers(camera))


def _flaw_numbers(camera: Camera) -> dict[str, Any]:
    """The fields of :class:`ViewNumbers` that a lens with lens errors has."""
    flaws, front = camera.flaws, camera.flaws.front_stop
    if camera.projection != "perspective" or flaws == Character():
        return {}
    shifts = (flaws.colour_mm, flaws.swirl_mm, flaws.spherical_mm)
    colour, swirl, spherical = (float(shift_dpt(mm, camera.image_distance_mm)) for mm in shifts)
    half_x, half_y = (float(half) for half in camera.half_widths())
    return {
        "flawed": True, "colour": colour, "spherical": spherical, "swirl": swirl / (half_x**2 + half_y**2),
        "stop_distance": front.distance_mm / 1000.0 if front else 0.0,
        "stop_radius": front.diameter_mm / 2000.0 if front else 0.0,
    }  # fmt: skip


def light_numbers(light: Light) -> LightNumbers:
    """A light for kernels."""
    azimuth, elevation = np.radians(light.key_azimuth_deg), np.radians(light.key_elevation_deg)
    toward = [
        np.cos(elevation) * np.sin(azimuth), np.sin(elevation), np.cos(elevation) * np.cos(azimuth),
    ]  # fmt: skip
    key = np.asarray(light.key_colour) * light.key_strength
    sky = np.asarray([light.zenith, light.horizon, light.ground]) * light.sky_strength
    about = [0.0, 0.0, 0.0]
    if light.surround is not None:
        turn = np.radians(light.surround.rotation_deg)
        about = [2.0**light.surround.exposure_ev, np.cos(turn), -np.sin(turn)]
    values = np.concatenate(
        [toward, key, sky.ravel(), [float(light.surfaces == "clay"), float(light.surfaces == "full")], about]
    ).astype(np.float32)
    return LightNumbers(*values)
