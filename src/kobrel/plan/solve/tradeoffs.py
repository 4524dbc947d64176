"""Maps of trade-offs: what two settings do together, at one frame."""

from dataclasses import dataclass

import numpy as np

from kobrel.errors import OpticsError
from kobrel.optics import lens, reach, sensor
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.camera import Camera
from kobrel.plan.solve.brief import Terms

STOPS = (1.0, 32.0)
FOCAL_FACTOR = 4.0
_DEPTHS_M = (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0)
_MOST_CONTOURS = 6


@dataclass(frozen=True, eq=False)
class Map:
    """Two settings against each other.

    Parameters
    ----------
    across : (n,) the setting across, focal lengths in mm or focus distances in m
    stops : (m,) f-numbers
    blur_px : (m, n) far background
    contours : sharp depths in metres, each with the stops (n,) that give it
    ranges : least and greatest stops (n,) that meet the brief, a pair for each place that the
        focus can have among what shall be soft; not-a-number where none does; None without a brief
    """

    across: Numbers
    stops: Numbers
    blur_px: Numbers
    contours: tuple[tuple[float, Numbers], ...]
    ranges: tuple[tuple[Numbers, Numbers], ...] | None


def stop_scale(camera: Camera, count: int) -> Numbers:
    """Stops even in their logarithm, from wide to narrow; the camera's own is within."""
    low, high = min(STOPS[0], float(camera.f_number)), max(STOPS[1], float(camera.f_number))
    return np.geomspace(low, high, count)


def _has_stops(camera: Camera) -> None:
    if camera.projection == "orthographic":
        raise OpticsError("An orthographic view has no focal length and no stop to weigh.")


def focal_map(camera: Camera, subject_m: float, brief: Terms | None, size: tuple[int, int]) -> Map:
    """Stop against focal length: the camera moves so that what is in focus keeps its size.

    Parameters
    ----------
    camera : at one frame
    subject_m : distance of what keeps its size and is in focus, along the axis
    brief : its values at that frame alone
    size : how many focal lengths and stops

    Raises
    ------
    OpticsError
        The view is orthographic.
    """
    _has_stops(camera)
    own = float(camera.focal_mm)
    focal = own * np.geomspace(1 / FOCAL_FACTOR, FOCAL_FACTOR, size[0])
    by = focal / own
    ahead = subject_m * (1.0 - by)  # as KeepSize moves the camera
    focus = subject_m - ahead
    ranges = None
    if brief is not None:
        many = brief.at(np.zeros(len(focal), dtype=int))
        ranges = _pairs(*reach.stop_ranges(many.numbers(ahead, by), many.lens(by)))
    return _map(camera, focal, focal, focus, size[1], ranges)


def _pairs(low: Numbers, high: Numbers) -> tuple[tuple[Numbers, Numbers], ...]:
    """Windows (n, K) as K pairs."""
    none = ~(low <= high)
    low, high = np.where(none, np.nan, low), np.where(none, np.nan, high)
    return tuple((low[:, k], high[:, k]) for k in range(low.shape[1]) if np.isfinite(low[:, k]).any())


def focus_map(camera: Camera, nearest_m: float, brief: Terms | None, size: tuple[int, int]) -> Map:
    """Stop against focus distance, from infinity at the last column to a nearest one, even in
    dioptres. Parameters and errors as :func:`focal_map`.
    """
    _has_stops(camera)
    nearest = max(nearest_m, float(lens.closest_focus_m(camera.focal_mm, camera.model)) * 1.01)
    dpt = np.linspace(1.0 / nearest, 0.0, size[0])
    with np.errstate(divide="ignore"):
        focus = 1.0 / dpt
    focal = np.full(len(focus), float(camera.focal_mm))
    ranges = None
    if brief is not None:
        x = reach.coordinate(dpt, focal, camera.model)
        low, high = reach.stops_at(brief.numbers(), brief.lens(), x)
        low = np.where(x <= brief.lens().closest_x[0], low, np.inf)
        ranges = _pairs(low[:, None], high[:, None])
    return _map(camera, focus, focal, focus, size[1], ranges)


def _map(
    camera: Camera,
    across: Numbers,
    focal: Numbers,
    focus: Numbers,
    rows: int,
    ranges: tuple[tuple[Numbers, Numbers], ...] | None,
) -> Map:
    stops = stop_scale(camera, rows)
    blur = lens.background_blur_mm(focal, stops[:, None], focus, camera.model)
    pixels = sensor.blur_px(blur, camera.sensor_width_mm, camera.width_px, camera.squeeze)
    return Map(across, stops, pixels, _contours(camera, focal, focus, stops), ranges)


def _contours(
    camera: Camera, focal: Numbers, focus: Numbers, stops: Numbers
) -> tuple[tuple[float, Numbers], ...]:
    """The stops at which the sharp depth is a round length.

    With h half the sharp band in dioptres and D the focus, the depth is ``T = 2h / (D^2 - h^2)``,
    so ``h = (sqrt(1 + T^2 D^2) - 1) / T``, and the stop ``N = h f v / c0``.
    """
    at_f1 = lens.half_band_dpt(focal, 1.0, focus, camera.coc_mm, camera.model)
    found = []
    for depth in _DEPTHS_M:
        half = (np.sqrt(1.0 + (depth / focus) ** 2) - 1.0) / depth
        values = half / at_f1
        inside = (values >= stops[0]) & (values <= stops[-1])
        if inside.mean() > 0.15:
            found.append((depth, np.where(inside, values, np.nan)))
    few = np.unique(np.linspace(0, len(found) - 1, min(len(found), _MOST_CONTOURS)).round().astype(int))
    return tuple(found[i] for i in few)
