"""The tracer's compiled heart: one lens sample for each pixel and pass."""

import numpy as np

from kobrel.compiled import kernel
from kobrel.stage.rays import blocked, closest, new_record

# Powers of the inverse generalised golden ratio for four dimensions (Roberts' additive
# recurrence): pixel x and y, around and across the iris.
_PHI = 1.1673039782614187
_A1, _A2, _A3, _A4 = 1 / _PHI, 1 / _PHI**2, 1 / _PHI**3, 1 / _PHI**4

_BYTES = np.arange(256) / 255.0
_LINEAR = np.where(_BYTES <= 0.04045, _BYTES / 12.92, ((_BYTES + 0.055) / 1.055) ** 2.4).astype(np.float32)

SHADOW_LIFT = 1e-4


@kernel
def _hashed(x, y, salt):  # type: ignore[no-untyped-def]
    """A number in [0, 1) that looks random for each pixel (Wellons' 32-bit mixer)."""
    h = np.uint32(x) * np.uint32(0x9E3779B1) + np.uint32(y) * np.uint32(0x85EBCA77) + np.uint32(salt)
    h ^= h >> np.uint32(16)
    h *= np.uint32(0x7FEB352D)
    h ^= h >> np.uint32(15)
    h *= np.uint32(0x846CA68B)
    h ^= h >> np.uint32(16)
    return np.float64(h) * (1.0 / 4294967296.0)


@kernel
def _texel(sizes, pixels, number, u, v):  # type: ignore[no-untyped-def]
    """Bilinear, repeating look-up, linear RGB."""
    start, width, height = sizes[number, 0], sizes[number, 1], sizes[number, 2]
    x = (u - np.floor(u)) * width - 0.5
    y = (v - np.floor(v)) * height - 0.5
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    r = g = b = 0.0
    for j in range(2):
        row = start + ((y0 + j + height) % height) * width
        wy = fy if j else 1.0 - fy
        for i in range(2):
            at = row + (x0 + i + width) % width
            w = wy * (fx if i else 1.0 - fx)
            r += w * _LINEAR[pixels[at, 0]]
            g += w * _LINEAR[pixels[at, 1]]
            b += w * _LINEAR[pixels[at, 2]]
    return r, g, b


@kernel
def _sky(light, up):  # type: ignore[no-untyped-def]
    """Radiance of the sky in a direction whose height above the horizon is the sine `up`."""
    if up >= 0.0:
        t = np.sqrt(up)
        return (
            light[9] + (light[6] - light[9]) * t,
            light[10] + (light[7] - light[10]) * t,
            light[11] + (light[8] - light[11]) * t,
        )
    t = min(1.0, -up * 8.0)
    return (
        light[9] + (light[12] - light[9]) * t,
        light[10] + (light[13] - light[10]) * t,
        light[11] + (light[14] - light[11]) * t,
    )


@kernel
def _shade(scene, record, integers, tables, normal_matrices, light, x, y, z, dx, dy, dz):  # type: ignore[no-untyped-def]
    """Radiance leaving the point that a ray from (x, y, z) has just met."""
    distance = np.float64(record[8])
    prim, inst = np.int64(integers[17]), np.int64(integers[19])
    u, v = np.float64(record[15]), np.float64(record[16])
    w = 1.0 - u - v
    start = tables.normal_start[inst]
    if start >= 0:
        corner = tables.normals[start + prim]
        lx = w * corner[0, 0] + u * corner[1, 0] + v * corner[2, 0]
        ly = w * corner[0, 1] + u * corner[1, 1] + v * corner[2, 1]
        lz = w * corner[0, 2] + u * corner[1, 2] + v * corner[2, 2]
    else:
        lx, ly, lz = np.float64(record[12]), np.float64(record[13]), np.float64(record[14])
    m = normal_matrices[inst]
    nx = m[0, 0] * lx + m[0, 1] * ly + m[0, 2] * lz
    ny = m[1, 0] * lx + m[1, 1] * ly + m[1, 2] * lz
    nz = m[2, 0] * lx + m[2, 1] * ly + m[2, 2] * lz
    inverse = 1.0 / np.sqrt(nx * nx + ny * ny + nz * nz + 1e-30)
    if nx * dx + ny * dy + nz * dz > 0.0:
        inverse = -inverse
    nx, ny, nz = nx * inverse, ny * inverse, nz * inverse

    slot = 0
    start = tables.slot_start[inst]
    if start >= 0:
        slot = tables.slots[start + prim]
    material = tables.slot_materials[tables.material_start[inst] + slot]
    br, bg, bb = tables.base[material, 0], tables.base[material, 1], tables.base[material, 2]
    er, eg, eb = tables.emission[material, 0], tables.emission[material, 1], tables.emission[material, 2]
    start = tables.uv_start[inst]
    if start >= 0 and (tables.base_texture[material] >= 0 or tables.emission_texture[material] >= 0):
        corner = tables.uv[start + prim]
        tu = w * corner[0, 0] + u * corner[1, 0] + v * corner[2, 0]
        tv = w * corner[0, 1] + u * corner[1, 1] + v * corner[2, 1]
        if tables.base_texture[material] >= 0:
            br, bg, bb = _texel(
                tables.texture_sizes, tables.texture_pixels, tables.base_texture[material], tu, tv
            )
        if tables.emission_texture[material] >= 0:
            er, eg, eb = _texel(
                tables.texture_sizes, tables.texture_pixels, tables.emission_texture[material], tu, tv
            )

    t = 0.5 + 0.5 * ny
    ar = light[12] + (0.5 * (light[6] + light[9]) - light[12]) * t
    ag = light[13] + (0.5 * (light[7] + light[10]) - light[13]) * t
    ab = light[14] + (0.5 * (light[8] + light[11]) - light[14]) * t
    facing = nx * light[0] + ny * light[1] + nz * light[2]
    if facing > 0.0 and light[3] + light[4] + light[5] > 0.0:
        lift = SHADOW_LIFT * (distance * np.sqrt(dx * dx + dy * dy + dz * dz) + 1e-3)
        px, py, pz = x + dx * distance + nx * lift, y + dy * distance + ny * lift, z + dz * distance + nz * lift
        if not blocked(scene, record, integers, px, py, pz, light[0], light[1], light[2]):
            ar += light[3] * facing
            ag += light[4] * facing
            ab += light[5] * facing
    return er + br * ar, eg + bg * ag, eb + bb * ab


@kernel
def lens_ray(view, fan, px, py, around, across):  # type: ignore[no-untyped-def]
    """A ray through a place in the picture (0 to 1 each way) and a place on the iris.

    Its direction is one metre long along the axis: (origin x, y, z, direction x, y, z).
    """
    tx = (2.0 * px - 1.0) * view[12]
    ty = (1.0 - 2.0 * py) * view[13]
    corners = len(fan) - 1
    place = around * corners
    k = min(int(place), corners - 1)
    part = place - k
    out = np.sqrt(across) * view[14]
    ax = out * (fan[k, 0] * (1.0 - part) + fan[k + 1, 0] * part)
    ay = out * (fan[k, 1] * (1.0 - part) + fan[k + 1, 1] * part)
    focus = view[15]
    if view[16] != 0.0:
        focus *= np.sqrt(tx * tx + ty * ty + 1.0)
    cx, cy = tx - ax * focus, ty - ay * focus
    ox = view[9] + view[0] * ax + view[1] * ay
    oy = view[10] + view[3] * ax + view[4] * ay
    oz = view[11] + view[6] * ax + view[7] * ay
    dx = view[0] * cx + view[1] * cy - view[2]
    dy = view[3] * cx + view[4] * cy - view[5]
    dz = view[6] * cx + view[7] * cy - view[8]
    return ox, oy, oz, dx, dy, dz


@kernel
def lens_sample(x, y, number, width, height):  # type: ignore[no-untyped-def]
    """Where pixel (x, y) looks in pass `number`: picture place, around and across the iris.

    Each pixel follows the same low-discrepancy sequence from a start of its own.
    """
    px = (_hashed(x, y, 1) + number * _A1) % 1.0
    py = (_hashed(x, y, 2) + number * _A2) % 1.0
    around = (_hashed(x, y, 3) + number * _A3) % 1.0
    across = (_hashed(x, y, 4) + number * _A4) % 1.0
    return (x + px) / width, (y + py) / height, around, across


@kernel
def trace_rows(scene, view, fan, light, tables, normal_matrices, number, first, film):  # type: ignore[no-untyped-def]
    """Add one lens sample to each pixel of some rows of the film.

    Parameters
    ----------
    scene : Embree handle
    view : numbers of the camera, see :func:`kobrel.picture.view.view_numbers`
    fan : (n + 1, 2) outline of the iris
    light : numbers of the light, see :func:`kobrel.picture.view.light_numbers`
    number : which pass
    first : (top row, rows end)
    film : (H, W, 3) float32, added to
    """
    _room, record, integers = new_record()
    height, width = film.shape[0], film.shape[1]
    for y in range(first[0], first[1]):
        for x in range(width):
            px, py, around, across = lens_sample(x, y, number, width, height)
            ox, oy, oz, dx, dy, dz = lens_ray(view, fan, px, py, around, across)
            if closest(scene, record, integers, ox, oy, oz, dx, dy, dz):
                r, g, b = _shade(
                    scene, record, integers, tables, normal_matrices, light, ox, oy, oz, dx, dy, dz
                )
            else:
                r, g, b = _sky(light, dy / np.sqrt(dx * dx + dy * dy + dz * dz))
            film[y, x, 0] += r
            film[y, x, 1] += g
            film[y, x, 2] += b


@kernel
def sharp_rows(scene, view, fan, light, tables, normal_matrices, first, colour, depth):  # type: ignore[no-untyped-def]
    """The picture without blur and its depth along the axis, through the pixels' centres.

    `colour` is (H, W, 3) and `depth` (H, W) float32, metres, infinite where nothing is;
    other parameters as :func:`trace_rows`.
    """
    _room, record, integers = new_record()
    height, width = depth.shape
    for y in range(first[0], first[1]):
        for x in range(width):
            ox, oy, oz, dx, dy, dz = lens_ray(view, fan, (x + 0.5) / width, (y + 0.5) / height, 0.0, 0.0)
            if closest(scene, record, integers, ox, oy, oz, dx, dy, dz):
                depth[y, x] = record[8]
                r, g, b = _shade(
                    scene, record, integers, tables, normal_matrices, light, ox, oy, oz, dx, dy, dz
                )
            else:
                depth[y, x] = np.inf
                r, g, b = _sky(light, dy / np.sqrt(dx * dx + dy * dy + dz * dz))
            colour[y, x, 0] = r
            colour[y, x, 1] = g
            colour[y, x, 2] = b
