"""Depth of field of a lens: blur, limits, hyperfocal, magnification.

Sources: Kingslake, *Optics in Photography*; Ray, *Applied Photographic Optics*;
Greenleaf, *Photographic Optics*.

With A the entrance-pupil diameter, v the image distance, s the focus distance and
d a point's distance, the blur circle on the sensor is ``c = A v |1/s - 1/d|``.
Two lens models share this formula and differ in v alone:

``render``  ``v = f``: the angle of view stays, wherever the camera focuses.
``thin``    ``v = f s / (s - f)``: a lens that moves to focus, so it breathes.
"""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.errors import OpticsError

LensModel = Literal["render", "thin"]
FocusSurface = Literal["plane", "sphere"]
Numbers = NDArray[np.float64]

_MM_PER_M = 1000.0


def pupil_mm(focal_mm: ArrayLike, f_number: ArrayLike) -> Numbers:
    """Diameter of the entrance pupil, ``A = f / N``, in millimetres.

    >>> float(pupil_mm(50, 8))
    6.25
    """
    result: Numbers = np.asarray(focal_mm, dtype=float) / np.asarray(f_number, dtype=float)
    return result


def image_distance_mm(focal_mm: ArrayLike, focus_m: ArrayLike, model: LensModel = "render") -> Numbers:
    """Distance from lens to sensor, v, in millimetres.

    Parameters
    ----------
    focal_mm : focal length, mm
    focus_m : focus distance, m; infinity is allowed
    model : which lens

    Raises
    ------
    OpticsError
        A thin lens is asked to focus at or within its focal length.
    """
    focal = np.asarray(focal_mm, dtype=float)
    if model == "render":
        return np.broadcast_to(focal, np.broadcast_shapes(focal.shape, np.shape(focus_m))) + 0.0
    nearness = focal / (_MM_PER_M * np.asarray(focus_m, dtype=float))
    if np.any(nearness >= 1) or np.any(nearness < 0):
        raise OpticsError(
            f"A thin lens of {float(np.max(focal)):g} mm cannot focus nearer than its focal length; "
            "focus farther away or use the render model."
        )
    return focal / (1.0 - nearness)


def closest_focus_m(focal_mm: ArrayLike, model: LensModel = "render") -> Numbers:
    """The nearest focus the formulas bear, in metres: 1 mm, or just outside the focal length."""
    focal_m = np.asarray(focal_mm, dtype=float) / _MM_PER_M
    return focal_m * 1.01 if model == "thin" else focal_m * 0 + 1e-3


def blur_mm(
    focal_mm: ArrayLike,
    f_number: ArrayLike,
    focus_m: ArrayLike,
    distance_m: ArrayLike,
    model: LensModel = "render",
) -> Numbers:
    """Diameter of the blur circle on the sensor, ``c = A v |1/s - 1/d|``, in millimetres.

    Both distances are taken the same way (along the axis for a flat focus surface) and
    may be infinite.

    >>> round(float(blur_mm(50, 8, 10, 3)), 9)
    0.072916667
    """
    defocus = np.abs(1.0 / np.asarray(focus_m, dtype=float) - 1.0 / np.asarray(distance_m, dtype=float))
    return _per_dioptre_mm(focal_mm, f_number, focus_m, model) * defocus


def blur_per_dioptre_mm(pupil_mm: ArrayLike, image_distance_mm: ArrayLike) -> Numbers:
    """Millimetres of blur on the sensor for each dioptre of defocus, ``A v``.

    >>> float(blur_per_dioptre_mm(6.25, 50))
    0.3125
    """
    result: Numbers = (
        np.asarray(pupil_mm, dtype=float) * np.asarray(image_distance_mm, dtype=float) / _MM_PER_M
    )
    return result


def image_f_number(pupil_mm: ArrayLike, image_distance_mm: ArrayLike) -> Numbers:
    """The f-number of a render camera that makes the same picture: its focal length is the image distance,
    its pupil the lens's, ``N' = v / A``.

    >>> float(image_f_number(6.25, 51))
    8.16
    """
    result: Numbers = np.asarray(image_distance_mm, dtype=float) / np.asarray(pupil_mm, dtype=float)
    return result


def _per_dioptre_mm(
    focal_mm: ArrayLike, f_number: ArrayLike, focus_m: ArrayLike, model: LensModel
) -> Numbers:
    return blur_per_dioptre_mm(pupil_mm(focal_mm, f_number), image_distance_mm(focal_mm, focus_m, model))


def background_blur_mm(
    focal_mm: ArrayLike, f_number: ArrayLike, focus_m: ArrayLike, model: LensModel = "render"
) -> Numbers:
    """Blur circle of a point at infinity, ``A v / s``, in millimetres."""
    return blur_mm(focal_mm, f_number, focus_m, np.inf, model)


def half_band_dpt(
    focal_mm: ArrayLike,
    f_number: ArrayLike,
    focus_m: ArrayLike,
    coc_mm: ArrayLike,
    model: LensModel = "render",
) -> Numbers:
    """Half the width of the sharp band, ``c0 / (A v)``, in dioptres.

    The band is symmetric about the focus when distances are counted in dioptres.
    """
    return np.asarray(coc_mm, dtype=float) / _per_dioptre_mm(focal_mm, f_number, focus_m, model)


def limits_m(
    focal_mm: ArrayLike,
    f_number: ArrayLike,
    focus_m: ArrayLike,
    coc_mm: ArrayLike,
    model: LensModel = "render",
) -> tuple[Numbers, Numbers]:
    """Near and far limit of what is sharp, in metres; far is infinity beyond the hyperfocal.

    >>> near, far = limits_m(50, 8, 10, 0.03)
    >>> round(float(near), 7), round(float(far), 6)
    (5.1020408, 250.0)
    """
    half = half_band_dpt(focal_mm, f_number, focus_m, coc_mm, model)
    focus = 1.0 / np.asarray(focus_m, dtype=float)
    far_dpt = focus - half
    with np.errstate(divide="ignore"):
        far = np.where(far_dpt > 0, 1.0 / np.where(far_dpt > 0, far_dpt, 1.0), np.inf)
    return 1.0 / (focus + half), far


def hyperfocal_m(
    focal_mm: ArrayLike, f_number: ArrayLike, coc_mm: ArrayLike, model: LensModel = "render"
) -> Numbers:
    """Focus distance from which everything to infinity is sharp, in metres.

    ``f^2 / (N c0)``, and one focal length more for the thin lens.
    """
    focal = np.asarray(focal_mm, dtype=float)
    reach = focal**2 / (np.asarray(f_number, dtype=float) * np.asarray(coc_mm, dtype=float))
    result: Numbers = (reach + (focal if model == "thin" else 0.0)) / _MM_PER_M
    return result


def stop_for_limit(
    focal_mm: ArrayLike,
    focus_m: ArrayLike,
    limit_m: ArrayLike,
    coc_mm: ArrayLike,
    model: LensModel = "render",
) -> Numbers:
    """The f-number whose sharp band ends at a distance, ``N = f v |1/s - 1/d| / c0``.

    Raises
    ------
    OpticsError
        As :func:`image_distance_mm`.
    """
    result: Numbers = blur_mm(focal_mm, 1.0, focus_m, limit_m, model) / np.asarray(coc_mm, dtype=float)
    return result


def magnification(focal_mm: ArrayLike, focus_m: ArrayLike, model: LensModel = "render") -> Numbers:
    """Size on the sensor over size in the scene, at the focus: ``m = v / s``."""
    return image_distance_mm(focal_mm, focus_m, model) / (_MM_PER_M * np.asarray(focus_m, dtype=float))


def focus_along_axis_m(focus_m: ArrayLike, surface: FocusSurface, cos_off_axis: ArrayLike) -> Numbers:
    """Where the focus surface stands along the axis, seen in one direction, in metres.

    A flat surface stands at the focus distance everywhere. On a sphere of that radius a
    point at angle t from the axis stands at ``s cos t``. Every other formula then takes
    distances along the axis, whichever the surface.
    """
    focus = np.asarray(focus_m, dtype=float)
    return focus * np.asarray(cos_off_axis, dtype=float) if surface == "sphere" else focus + 0.0
