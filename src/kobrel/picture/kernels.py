"""The tracer's compiled kernels: one lens sample for each pixel and pass.

Work goes row by row: shoot, shade, shadow. Arrays are handed on once a row and indexed
down to numbers inside, because handing one on counts references, which threads then
fight over.
"""

import numpy as np

from kobrel.compiled import index_of, kernel
from kobrel.optics import flaws
from kobrel.optics.aperture import SIDE
from kobrel.picture.numbers import ORTHOGRAPHIC, PERSPECTIVE
from kobrel.stage.engine.chance import mixed
from kobrel.stage.engine.rays import (
    FAR_AT,
    LANES,
    NORMAL_AT,
    TRIANGLE_AT,
    blocked,
    closest,
    is_blocked,
    new_packet,
    put_ray,
    row_of_hit,
)

# Powers of the inverse generalised golden ratio for four dimensions (Roberts' additive
# recurrence): pixel x and y, around and across the iris.
_PHI = 1.1673039782614187
_A1, _A2, _A3, _A4 = 1 / _PHI, 1 / _PHI**2, 1 / _PHI**3, 1 / _PHI**4

_BYTES = np.arange(256) / 255.0
_LINEAR = np.where(_BYTES <= 0.04045, _BYTES / 12.92, ((_BYTES + 0.055) / 1.055) ** 2.4).astype(np.float32)

SHADOW_LIFT = np.float32(1e-4)

# Shading stays in single precision; a plain literal would widen it.
_NOUGHT, _HALF, _ONE = np.float32(0), np.float32(0.5), np.float32(1)
_TINY, _ALWAYS = np.float32(1e-30), np.float32(1e-3)
_CLAY = np.float32(0.55)


leaning, within_stop = kernel(flaws.leaning), kernel(flaws.within_stop)


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
    """As :func:`lens_ray`, through a lens in perspective with flaws, for one light: 1 green, 2 red
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


@kernel
def _corners(u, v, start, width, height):  # type: ignore[no-untyped-def]
    """Where a repeating texture is read: four pixels and how far between them."""
    x, y = (u - np.floor(u)) * width - 0.5, (v - np.floor(v)) * height - 0.5
    x0, y0 = index_of(x + 1.0, width + 1) - 1, index_of(y + 1.0, height + 1) - 1
    left, low = (x0 if x0 >= 0 else width - 1), (y0 if y0 >= 0 else height - 1)
    right, high = (x0 + 1 if x0 + 1 < width else 0), (y0 + 1 if y0 + 1 < height else 0)
    bottom, top = start + low * width, start + high * width
    return bottom + left, bottom + right, top + left, top + right, x - x0, y - y0


@kernel
def _surrounding(picture, light, dx, dy, dz):  # type: ignore[no-untyped-def]
    """What an equirectangular picture shows in a direction; its middle lies along -Z."""
    x, z = light.cosine * dx + light.sine * dz, light.cosine * dz - light.sine * dx
    height, width = picture.shape[0], picture.shape[1]
    across = (np.arctan2(x, -z) / (2.0 * np.pi) + 0.5) * width - 0.5
    down = np.arccos(min(max(dy, -1.0), 1.0)) / np.pi * height - 0.5
    left, top = index_of(across + 1.0, width + 1) - 1, index_of(down + 1.0, height + 1) - 1
    fx, fy = across - left, down - top
    right, left = (left + 1) % width, left % width
    bottom, top = min(top + 1, height - 1), max(top, 0)
    r = g = b = 0.0
    for row, column, part in (
        (top, left, (1 - fx) * (1 - fy)), (top, right, fx * (1 - fy)),
        (bottom, left, (1 - fx) * fy), (bottom, right, fx * fy),
    ):  # fmt: skip
        r += picture[row, column, 0] * part
        g += picture[row, column, 1] * part
        b += picture[row, column, 2] * part
    return r, g, b


@kernel
def _falling(light, harmonics, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Light of the surroundings on a surface, from nine spherical harmonics."""
    x, z = light.cosine * nx + light.sine * nz, light.cosine * nz - light.sine * nx
    y = ny
    r = g = b = _NOUGHT
    shapes = (_ONE, y, z, x, x * y, y * z, np.float32(3) * z * z - _ONE, x * z, x * x - y * y)
    for k in range(9):
        r += harmonics[k, 0] * shapes[k]
        g += harmonics[k, 1] * shapes[k]
        b += harmonics[k, 2] * shapes[k]
    return max(r, _NOUGHT), max(g, _NOUGHT), max(b, _NOUGHT)


@kernel
def _shoot_row(scene, first_rows, view, hole, y, height, number, lens, packet, rays, met, ids, light_of):  # type: ignore[no-untyped-def]
    """Trace a row's rays: origins and directions to `rays` (W, 6); face normal, place in the
    triangle and distance to `met` (W, 6); triangle and row of the node to `ids` (W, 2); which
    light each carries to `light_of` (W,): 0 all, 1 green, 2 red and blue, 3 none.
    """
    width = len(rays)
    address, numbers, integers, valid = packet
    flawed = lens and view.flawed
    fan, masked = hole.fan, len(hole.light) > 0
    for first in range(0, width, LANES):
        count = min(LANES, width - first)
        for lane in range(count):
            x = first + lane
            if lens:
                px, py, around, across = lens_sample(x, y, number, width, height)
            else:
                px, py, around, across = (x + 0.5) / width, (y + 0.5) / height, 0.0, 0.0
            if masked:
                ax, ay, area = through_mask(view, hole, around, across)
            else:
                ax, ay, area = through_outline(view, fan, around, across)
            if flawed:
                colour = 1 + (number + int(2.0 * hashed(x, y, 5))) % 2 if view.colour != 0.0 else 0
                ox, oy, oz, dx, dy, dz, passed = flawed_ray(view, ax, ay, area, px, py, colour)
                light_of[x] = colour if passed else 3
            else:
                ox, oy, oz, dx, dy, dz = lens_ray(view, ax, ay, px, py)
            rays[x, 0], rays[x, 1], rays[x, 2] = ox, oy, oz
            rays[x, 3], rays[x, 4], rays[x, 5] = dx, dy, dz
            put_ray(numbers, integers, lane, ox, oy, oz, dx, dy, dz)
        closest(scene, address, valid, count)
        for lane in range(count):
            x = first + lane
            ids[x, 0], ids[x, 1] = integers[TRIANGLE_AT + lane], row_of_hit(integers, lane, first_rows)
            for k in range(5):
                met[x, k] = numbers[NORMAL_AT + LANES * k + lane]
            met[x, 5] = numbers[FAR_AT + lane] if ids[x, 1] >= 0 else np.inf


@kernel
def _shade_row(  # type: ignore[no-untyped-def]
    rays, met, ids, light, harmonics, environment, normal_matrices, normal_start, uv_start, slot_start,
    material_start, normals, uvs, slots, slot_materials, base, emission, base_texture, emission_texture,
    texture_sizes, texture_pixels, light_start, light_ids, colour_start, colours, live_normals, drawn, out,
    waiting, start, share,
):  # fmt: skip
    """Radiance of a row without the key light, to `out` (W, 3); emitters that are `drawn` from
    the light give none here.

    For the points that face the key light: their pixel to `waiting` (W,), where they are to
    `start` (W, 3) and what the light would add to `share` (W, 3). Returns how many.
    """
    count = 0
    key = light.key_r + light.key_g + light.key_b > 0.0
    for x in range(len(rays)):
        dx, dy, dz = rays[x, 3], rays[x, 4], rays[x, 5]
        long = np.sqrt(dx * dx + dy * dy + dz * dz)
        row = np.int64(ids[x, 1])
        if row < 0:
            if light.about > _NOUGHT:
                r, g, b = _surrounding(environment, light, dx / long, dy / long, dz / long)
                out[x, 0], out[x, 1], out[x, 2] = r * light.about, g * light.about, b * light.about
                continue
            up = dy / long
            if up >= _NOUGHT:
                t, er, eg, eb = np.sqrt(up), light.zenith_r, light.zenith_g, light.zenith_b
            else:
                t, er, eg, eb = min(_ONE, -up * np.float32(8)), light.ground_r, light.ground_g, light.ground_b
            out[x, 0] = light.horizon_r + (er - light.horizon_r) * t
            out[x, 1] = light.horizon_g + (eg - light.horizon_g) * t
            out[x, 2] = light.horizon_b + (eb - light.horizon_b) * t
            continue
        prim = np.int64(ids[x, 0])
        u, v = met[x, 3], met[x, 4]
        w = _ONE - u - v
        nx, ny, nz = met[x, 0], met[x, 1], met[x, 2]
        lx, ly, lz = nx, ny, nz
        smooth = normal_start[row] != -1
        if normal_start[row] < -1:
            k = -2 - normal_start[row] + prim
            lx = w * live_normals[k, 0, 0] + u * live_normals[k, 1, 0] + v * live_normals[k, 2, 0]
            ly = w * live_normals[k, 0, 1] + u * live_normals[k, 1, 1] + v * live_normals[k, 2, 1]
            lz = w * live_normals[k, 0, 2] + u * live_normals[k, 1, 2] + v * live_normals[k, 2, 2]
        elif smooth:
            k = normal_start[row] + prim
            lx = w * normals[k, 0, 0] + u * normals[k, 1, 0] + v * normals[k, 2, 0]
            ly = w * normals[k, 0, 1] + u * normals[k, 1, 1] + v * normals[k, 2, 1]
            lz = w * normals[k, 0, 2] + u * normals[k, 1, 2] + v * normals[k, 2, 2]
        m = normal_matrices
        turn = 2 * row if smooth else 2 * row + 1
        nx = m[turn, 0, 0] * lx + m[turn, 0, 1] * ly + m[turn, 0, 2] * lz
        ny = m[turn, 1, 0] * lx + m[turn, 1, 1] * ly + m[turn, 1, 2] * lz
        nz = m[turn, 2, 0] * lx + m[turn, 2, 1] * ly + m[turn, 2, 2] * lz
        inverse = _ONE / np.sqrt(nx * nx + ny * ny + nz * nz + _TINY)
        if nx * dx + ny * dy + nz * dz > _NOUGHT:
            inverse = -inverse
        nx, ny, nz = nx * inverse, ny * inverse, nz * inverse

        slot = np.int64(0)
        if slot_start[row] >= 0:
            slot = np.int64(slots[slot_start[row] + prim])
        mat = slot_materials[material_start[row] + slot]
        r, g, b = base[mat, 0], base[mat, 1], base[mat, 2]
        er, eg, eb = emission[mat, 0], emission[mat, 1], emission[mat, 2]
        if colour_start[row] >= 0:
            k = colour_start[row] + prim
            r *= w * _LINEAR[colours[k, 0, 0]] + u * _LINEAR[colours[k, 1, 0]] + v * _LINEAR[colours[k, 2, 0]]
            g *= w * _LINEAR[colours[k, 0, 1]] + u * _LINEAR[colours[k, 1, 1]] + v * _LINEAR[colours[k, 2, 1]]
            b *= w * _LINEAR[colours[k, 0, 2]] + u * _LINEAR[colours[k, 1, 2]] + v * _LINEAR[colours[k, 2, 2]]
        if uv_start[row] >= 0 and (base_texture[mat] >= 0 or emission_texture[mat] >= 0):
            k = uv_start[row] + prim
            tu = w * uvs[k, 0, 0] + u * uvs[k, 1, 0] + v * uvs[k, 2, 0]
            tv = w * uvs[k, 0, 1] + u * uvs[k, 1, 1] + v * uvs[k, 2, 1]
            for layer in range(2):
                tex = emission_texture[mat] if layer else base_texture[mat]
                if tex < 0:
                    continue
                i00, i10, i01, i11, fx, fy = _corners(
                    tu, tv, texture_sizes[tex, 0], texture_sizes[tex, 1], texture_sizes[tex, 2]
                )
                w00, w10, w01, w11 = (1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy
                tr = tg = tb = 0.0
                for i, part in ((i00, w00), (i10, w10), (i01, w01), (i11, w11)):
                    tr += part * _LINEAR[texture_pixels[i, 0]]
                    tg += part * _LINEAR[texture_pixels[i, 1]]
                    tb += part * _LINEAR[texture_pixels[i, 2]]
                if layer:
                    er, eg, eb = np.float32(er * tr), np.float32(eg * tg), np.float32(eb * tb)
                else:
                    r, g, b = np.float32(r * tr), np.float32(g * tg), np.float32(b * tb)

        if len(drawn) > 0 and light_start[row] >= 0:
            own = light_ids[light_start[row] + prim]
            if own >= 0 and drawn[own]:
                er = eg = eb = _NOUGHT
        if light.clay > _NOUGHT:
            r = g = b = _CLAY
        if light.about > _NOUGHT:
            fr, fg, fb = _falling(light, harmonics, nx, ny, nz)
            out[x, 0], out[x, 1], out[x, 2] = er + r * fr, eg + g * fg, eb + b * fb
        else:
            t = _HALF + _HALF * ny
            sr, sg = light.zenith_r + light.horizon_r, light.zenith_g + light.horizon_g
            sb = light.zenith_b + light.horizon_b
            out[x, 0] = er + r * (light.ground_r + (_HALF * sr - light.ground_r) * t)
            out[x, 1] = eg + g * (light.ground_g + (_HALF * sg - light.ground_g) * t)
            out[x, 2] = eb + b * (light.ground_b + (_HALF * sb - light.ground_b) * t)
        facing = nx * light.x + ny * light.y + nz * light.z
        if key and facing > _NOUGHT:
            distance = met[x, 5]
            lift = SHADOW_LIFT * (distance * long + _ALWAYS)
            start[count, 0] = rays[x, 0] + dx * distance + nx * lift
            start[count, 1] = rays[x, 1] + dy * distance + ny * lift
            start[count, 2] = rays[x, 2] + dz * distance + nz * lift
            share[count, 0], share[count, 1], share[count, 2] = (
                r * light.key_r * facing, g * light.key_g * facing, b * light.key_b * facing,
            )  # fmt: skip
            waiting[count] = x
            count += 1
    return count


@kernel
def _shadow_row(scene, packet, light, many, waiting, start, share, out):  # type: ignore[no-untyped-def]
    """Add the key light to those of the `many` waiting points that nothing hides from it."""
    address, numbers, integers, valid = packet
    for first in range(0, many, LANES):
        count = min(LANES, many - first)
        for lane in range(count):
            k = first + lane
            put_ray(numbers, integers, lane, start[k, 0], start[k, 1], start[k, 2], light.x, light.y, light.z)
        blocked(scene, address, valid, count)
        for lane in range(count):
            if not is_blocked(numbers, lane):
                k = first + lane
                for c in range(3):
                    out[waiting[k], c] += share[k, c]


@kernel
def draw_rows(  # type: ignore[no-untyped-def]
    scene, first_rows, view, hole, light, harmonics, environment, tables, normal_matrices, live_normals,
    drawn, number, lens, rows, colour, depth,
):  # fmt: skip
    """Draw some rows of the picture.

    Parameters
    ----------
    scene : Embree handle
    first_rows : (I,) row at which each of its instances begins
    view : the camera, see :class:`kobrel.picture.numbers.ViewNumbers`
    hole : where light comes through the iris, see :class:`kobrel.optics.aperture.Aperture`
    light : see :class:`kobrel.picture.numbers.LightNumbers`
    harmonics : (9, 3) float32, see :attr:`kobrel.picture.view.View.harmonics`
    environment : (h, w, 3) float32 picture all about, used where the light says so
    live_normals : (n, 3, 3), see :class:`kobrel.stage.snapshot.Snapshot`
    drawn : (E,) emitters that are drawn from the light, or (0,) for none
    number : which pass
    lens : one random lens sample for each pixel, or else the middle of pixel and lens
    rows : (top row, rows end)
    colour : (H, W, 3) float32, added to
    depth : (H, W) float32, metres along the axis, infinite where nothing is; or (0, 0)
    """
    packet = new_packet()
    height, width = colour.shape[0], colour.shape[1]
    rays = np.empty((width, 6), np.float32)
    met = np.empty((width, 6), np.float32)
    ids = np.empty((width, 2), np.int32)
    out = np.empty((width, 3), np.float32)
    waiting = np.empty(width, np.int32)
    start = np.empty((width, 3), np.float32)
    share = np.empty((width, 3), np.float32)
    light_of = np.zeros(width, np.uint8)
    own_harmonics, own_first = harmonics.copy(), first_rows.copy()
    for y in range(rows[0], rows[1]):
        _shoot_row(scene, own_first, view, hole, y, height, number, lens, packet, rays, met, ids, light_of)
        count = _shade_row(
            rays, met, ids, light, own_harmonics, environment, normal_matrices, tables.normal_start,
            tables.uv_start, tables.slot_start, tables.material_start, tables.normals, tables.uv,
            tables.slots, tables.slot_materials, tables.base, tables.emission, tables.base_texture,
            tables.emission_texture, tables.texture_sizes, tables.texture_pixels,
            tables.light_start, tables.light_ids, tables.colour_start, tables.colours, live_normals, drawn,
            out, waiting, start, share,
        )  # fmt: skip
        _shadow_row(scene, packet, light, count, waiting, start, share, out)
        for x in range(width):
            kind = light_of[x]
            if kind == 0:
                for c in range(3):
                    colour[y, x, c] += out[x, c]
            elif kind == 1:
                colour[y, x, 1] += 2 * out[x, 1]
            elif kind == 2:
                colour[y, x, 0] += 2 * out[x, 0]
                colour[y, x, 2] += 2 * out[x, 2]
        if len(depth):
            for x in range(width):
                depth[y, x] = met[x, 5]
