"""Depth of field by distance and stop: what a lens holds sharp, as a table."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kobrel.optics import lens
from kobrel.optics.exposure import FULL_STOPS
from kobrel.optics.lens import LensModel, Numbers
from kobrel.optics.units import Measure
from kobrel.plan.instrument import Lens
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.model import Shot

MOST_ROWS = 18
_ROOM, _LEAST_M = 1000.0, 0.05


@dataclass(frozen=True, eq=False)
class DepthTable:
    """Depth of field of a lens.

    Parameters
    ----------
    title : which lens
    distances_m : (D,) rising, infinity last
    stops : (S,)
    near_m, far_m : (D, S) limits of what is sharp
    hyperfocal_m : (S,)
    """

    title: str
    distances_m: Numbers
    stops: Numbers
    near_m: Numbers
    far_m: Numbers
    hyperfocal_m: Numbers

    @property
    def depth_m(self) -> Numbers:
        """(D, S) from the near limit to the far one."""
        with np.errstate(invalid="ignore"):
            return np.asarray(self.far_m - self.near_m)


def depth_table(
    title: str,
    focal_mm: float,
    coc_mm: float,
    model: LensModel,
    distances_m: Sequence[float] | Numbers,
    stops: Sequence[float] | Numbers,
) -> DepthTable:
    """Work out a table; see :mod:`kobrel.optics.lens` for the formulas.

    Raises
    ------
    OpticsError
        A thin lens cannot focus so near.
    """
    at, n = np.asarray(distances_m, float), np.asarray(stops, float)
    near, far = lens.limits_m(focal_mm, n[None, :], at[:, None], coc_mm, model)
    return DepthTable(title, at, n, near, far, lens.hyperfocal_m(focal_mm, n, coc_mm, model))


def shot_table(shot: Shot, camera: Camera, unit: Measure) -> DepthTable | None:
    """The table of a shot's lens at one frame; None for a view that has no stop."""
    if camera.projection == "orthographic":
        return None
    kit, focal = shot.glass.lens, float(camera.focal_mm)
    closest = kit.close_focus_m if kit is not None else shot.ring.closest_m
    title = (
        f"{kit.name}, {focal:.4g} mm"
        if kit is not None and kit.is_zoom
        else kit.name
        if kit
        else f"{focal:.4g} mm"
    )
    stops = _stops(kit.widest, kit.narrowest) if kit is not None else _stops(1.4, 22.0)
    return depth_table(
        title,
        focal,
        camera.coc_mm,
        camera.model,
        round_distances_m(closest, focal, camera.model, unit),
        stops,
    )


def lens_set_tables(lenses: Sequence[Lens], camera: Camera, unit: Measure) -> list[DepthTable]:
    """A table for each lens of a lens set on a camera's sensor; for zooms one at either end."""
    found = []
    for each in lenses:
        for focal in dict.fromkeys(each.focal_mm):
            distances = round_distances_m(each.close_focus_m, focal, camera.model, unit)
            title = f"{each.name}, {focal:g} mm" if each.is_zoom else each.name
            found.append(
                depth_table(title, focal, camera.coc_mm, camera.model, distances,
                            _stops(each.widest, each.narrowest))
            )  # fmt: skip
    return found


def _stops(widest: float, narrowest: float) -> list[float]:
    """Full stops that a lens has, its widest first."""
    inside = [stop for stop in FULL_STOPS if widest * 1.02 < stop <= narrowest * 1.02]
    return [widest, *inside]


def round_distances_m(closest_m: float, focal_mm: float, model: LensModel, unit: Measure) -> list[float]:
    """Round distances from the closest focus to infinity, even in dioptres."""
    nearest = max(closest_m, float(lens.closest_focus_m(focal_mm, model)) * 1.05, _LEAST_M)
    scale = DioptreScale(nearest, 0.0, _ROOM)
    ticks = [
        metres for metres, _ in scale.ticks(unit, _ROOM / (1.6 * MOST_ROWS)) if metres >= nearest * 0.999
    ]
    far = [step * 10.0 * unit.metres for step in (1.0, 2.0, 5.0) if step * 10.0 * unit.metres > nearest]
    rows = sorted({*(round(metres, 9) for metres in ticks), *(round(metres, 9) for metres in far)})
    return rows if rows and np.isinf(rows[-1]) else [*rows, float("inf")]
