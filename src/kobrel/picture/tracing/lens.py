"""The lens: rays through places on the iris, and which places a pass takes."""

import numpy as np

from kobrel.compiled import index_of, kernel
from kobrel.optics import character
from kobrel.optics.aperture import SIDE
from kobrel.picture.numbers import ORTHOGRAPHIC, PERSPECTIVE
from kobrel.stage.engine.random import mixed

# Powers of the inverse generalised golden ratio for four dimensions (Roberts' additive
# recurrence): pixel x and y, around and across the iris.
_PHI = 1.1673039782614187
_A1, _A2, _A3, _A4 = 1 / _PHI, 1 / _PHI**2, 1 / _PHI**3, 1 / _PHI**4


leaning, within_stop = kernel(character.leaning), kernel(character.within_stop)


@kernel
def hashed(x, y, salt):  # type: ignore[no-untyped-def]
    """A number in [0, 1) that looks random for each pixel."""
    return mixed(
        np.uint32(x) * np.uint32(0x9E3779B1) + np.uint32(y) * np.uint32(0x85EBCA77) + np.uint32(salt)
    )


@kernel
def area_within(v, rim):  # type: ignore[no-untyped-def]
    """As :func:`kobrel.optics.iris.area_within`."""
    if abs(rim) < 1e-6:
        return v
    return (rim - 1.0 + np.sqrt((1.0 - rim) * (1.0 - rim) + 4.0 * rim * v)) / (2.0 * rim)


@kernel
def _last_at(sums, hints, wanted):  # type: ignore[no-untyped-def]
    """The last place whose running sum, 0 to 1, is not above what is wanted; `hints` are the
    answers for even steps of it.
    """
    k = index_of(wanted * (len(hints) - 1), len(hints) - 1)
    low, high = hints[k], hints[k + 1] + 1
    while high - low > 1:
        middle = (low + high) // 2
        if sums[middle] <= wanted:
            low = middle
        else:
            high = middle
    return low


@kernel
def through_mask(view, hole, around, across):  # type: ignore[no-untyped-def]
    """As :func:`through_outline`, for an aperture with a mask, see
    :func:`kobrel.optics.aperture.places`.
    """
    sums = hole.light
    row = _last_at(hole.rows, hole.row_hints, across)
    low, high = hole.rows[row], hole.rows[row + 1]
    wanted = low + around * (high - low)
    cell = min(max(_last_at(sums, hole.hints, wanted), row * SIDE), row * SIDE + SIDE - 1)
    column = cell - row * SIDE + (wanted - sums[cell]) / max(sums[cell + 1] - sums[cell], 1e-300)
    height = row + (across - low) / max(high - low, 1e-300)
    x, y = column * (2.0 / SIDE) - 1.0, height * (2.0 / SIDE) - 1.0
    out = hole.up * view.pupil
    return x * hole.across * view.pupil, y * out, (x * x + y * y) * hole.up * hole.up


@kernel
def through_outline(view, fan, around, across):  # type: ignore[no-untyped-def]
    """A place on the iris, metres, and how much of the area lies within it; equal parts of `around`
    and `across` have equal light.
    """
    area = across if view.rim == 0.0 else area_within(across, view.rim)
    corners = len(fan) - 1
    place = around * corners
    k = index_of(place, corners)
    part = place - k
    out = np.sqrt(area) * view.pupil
    return (
        out * (fan[k, 0] * (1.0 - part) + fan[k + 1, 0] * part),
        out * (fan[k, 1] * (1.0 - part) + fan[k + 1, 1] * part),
        area,
    )


@kernel
def pupil(view, hole, around, across):  # type: ignore[no-untyped-def]
    """A place on the iris through an :class:`kobrel.optics.aperture.Aperture` of either kind."""
    if len(hole.light) > 0:
        return through_mask(view, hole, around, across)
    return through_outline(view, hole.fan, around, across)


@kernel
def on_stage(view, ax, ay, az, cx, cy, cz):  # type: ignore[no-untyped-def]
    """A ray of the camera's own axes on the stage: origin and direction."""
    return (
        view.x + view.xx * ax + view.xy * ay + view.xz * az,
        view.y + view.yx * ax + view.yy * ay + view.yz * az,
        view.z + view.zx * ax + view.zy * ay + view.zz * az,
        view.xx * cx + view.xy * cy + view.xz * cz,
        view.yx * cx + view.yy * cy + view.yz * cz,
        view.zx * cx + view.zy * cy + view.zz * cz,
    )


@kernel
def focus_toward(view, tx, ty, colour):  # type: ignore[no-untyped-def]
    """Focus in dioptres of the distance along the axis, toward a tangent, for a light: 2 red and blue."""
    focus = view.focus
    if view.sphere:
        focus *= np.sqrt(tx * tx + ty * ty + 1.0)
    return focus - view.colour if colour == 2 else focus


@kernel
def lens_ray(view, ax, ay, px, py):  # type: ignore[no-untyped-def]
    """A ray through a place on the iris, metres, and a place in the picture, 0 to 1 each way.

    Its direction is one metre long along the axis: (origin x, y, z, direction x, y, z).
    """
    tx = (2.0 * px - 1.0) * view.half_x + view.middle_x
    ty = (1.0 - 2.0 * py) * view.half_y + view.middle_y
    focus = view.focus
    az, cz = 0.0, -1.0
    if view.projection == PERSPECTIVE:
        focus = focus_toward(view, tx, ty, 0)
        cx, cy = tx - ax * focus, ty - ay * focus
    elif view.projection == ORTHOGRAPHIC:  # parallel rays; all of a cone meet in the plane of focus
        cx, cy = -ax, -ay
        ax, ay = tx + ax / focus, ty + ay / focus
    else:  # equidistant: the iris turns to face each direction
        angle = np.sqrt(tx * tx + ty * ty)
        ux, uy = (tx / angle, ty / angle) if angle > 0.0 else (1.0, 0.0)
        sine, cosine = np.sin(angle), np.cos(angle)
        outward, aside = ax * ux + ay * uy, ay * ux - ax * uy
        ax, ay, az = outward * cosine * ux - aside * uy, outward * cosine * uy + aside * ux, outward * sine
        cx, cy, cz = sine * ux - ax * focus, sine * uy - ay * focus, -cosine - az * focus
    return on_stage(view, ax, ay, az, cx, cy, cz)


@kernel
def flawed_ray(view, ax, ay, area, px, py, colour):  # type: ignore[no-untyped-def]
    """As :func:`lens_ray`, through a lens in perspective with errors, for one light: 1 green, 2 red
    and blue; and whether its front stop lets the ray pass.
    """
    tx = (2.0 * px - 1.0) * view.half_x + view.middle_x
    ty = (1.0 - 2.0 * py) * view.half_y + view.middle_y
    focus = focus_toward(view, tx, ty, colour)
    lx, ly = leaning(ax, ay, area, tx, ty, focus, view.spherical, view.swirl)
    cx, cy = tx - lx, ty - ly
    passed = view.stop_radius == 0.0 or within_stop(ax, ay, cx, cy, view.stop_distance, view.stop_radius)
    ox, oy, oz, dx, dy, dz = on_stage(view, ax, ay, 0.0, cx, cy, -1.0)
    return ox, oy, oz, dx, dy, dz, passed


@kernel
def lens_sample(x, y, number, width, height):  # type: ignore[no-untyped-def]
    """Where pixel (x, y) looks in pass `number`: picture place, around and across the iris.

    Each pixel follows the same low-discrepancy sequence from a start of its own.
    """
    px = hashed(x, y, 1) + number * _A1
    py = hashed(x, y, 2) + number * _A2
    around = hashed(x, y, 3) + number * _A3
    across = hashed(x, y, 4) + number * _A4
    px -= np.floor(px)
    py -= np.floor(py)
    around -= np.floor(around)
    across -= np.floor(across)
    return (x + px) / width, (y + py) / height, around, across
