"""Surfaces: what shading needs of the places that a row of rays met."""

import numpy as np

from kobrel.compiled import index_of, kernel
from kobrel.stage.engine.plate_pixels import LINEAR, plate_colour

_NOUGHT, _ONE, _TINY = np.float32(0), np.float32(1), np.float32(1e-30)
_CLAY = np.float32(0.55)
UNLIT = np.float32(-1)
"""Roughness of what throws no light back, as plates."""

NORMAL, BASE, GLOW, ROUGH, METAL, LAMP, WIDE = 0, 3, 6, 9, 10, 11, 12
"""Where in a row's entry its parts stand, and how long it is: the normal, toward the ray; base colour;
glow; roughness; how far it is metal; and the number of the lamp that it belongs to, or -1."""


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
def surface_row(rays, met, ids, count, clay, normal_matrices, tables, live_normals, plates, out):  # type: ignore[no-untyped-def]
    """What the first `count` rays met, to `out` (W, WIDE); of those that met nothing it is left as it is.

    Parameters
    ----------
    tables : see :class:`kobrel.stage.geometry.Tables`
    normal_matrices, live_normals, plates : see :class:`kobrel.stage.snapshot.Snapshot`
    """
    normal_start, uv_start, slot_start = tables.normal_start, tables.uv_start, tables.slot_start
    material_start, light_start, colour_start = tables.material_start, tables.light_start, tables.colour_start
    normals, uvs, slots, slot_materials = tables.normals, tables.uv, tables.slots, tables.slot_materials
    base, emission, gloss, textured = tables.base, tables.emission, tables.gloss, tables.textured
    base_texture, emission_texture = tables.base_texture, tables.emission_texture
    gloss_texture, texture_sizes, texture_pixels = (
        tables.gloss_texture,
        tables.texture_sizes,
        tables.texture_pixels,
    )
    light_ids, colours = tables.light_ids, tables.colours
    for x in range(count):
        row = np.int64(ids[x, 1])
        if row < 0:
            continue
        dx, dy, dz = rays[x, 3], rays[x, 4], rays[x, 5]
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
        rough, metal = gloss[mat, 0], gloss[mat, 1]
        if colour_start[row] >= 0:
            k = colour_start[row] + prim
            r *= w * LINEAR[colours[k, 0, 0]] + u * LINEAR[colours[k, 1, 0]] + v * LINEAR[colours[k, 2, 0]]
            g *= w * LINEAR[colours[k, 0, 1]] + u * LINEAR[colours[k, 1, 1]] + v * LINEAR[colours[k, 2, 1]]
            b *= w * LINEAR[colours[k, 0, 2]] + u * LINEAR[colours[k, 1, 2]] + v * LINEAR[colours[k, 2, 2]]
        if uv_start[row] >= 0 and textured[mat]:
            k = uv_start[row] + prim
            tu = w * uvs[k, 0, 0] + u * uvs[k, 1, 0] + v * uvs[k, 2, 0]
            tv = w * uvs[k, 0, 1] + u * uvs[k, 1, 1] + v * uvs[k, 2, 1]
            for layer in range(3):
                tex = (
                    base_texture[mat]
                    if layer == 0
                    else emission_texture[mat]
                    if layer == 1
                    else gloss_texture[mat]
                )
                if layer == 1 and tex < -1:
                    k = -2 - tex
                    tr, tg, tb = plate_colour(
                        plates[k, 0], np.int64(plates[k, 1]), np.int64(plates[k, 2]), np.int64(plates[k, 3]),
                        np.int64(plates[k, 4]), tu, tv,
                    )  # fmt: skip
                    er, eg, eb = np.float32(er * tr), np.float32(eg * tg), np.float32(eb * tb)
                if tex < 0:
                    continue
                i00, i10, i01, i11, fx, fy = _corners(
                    tu, tv, texture_sizes[tex, 0], texture_sizes[tex, 1], texture_sizes[tex, 2]
                )
                w00, w10, w01, w11 = (1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy
                tr = tg = tb = 0.0
                if layer == 2:  # roughness in green, metal in blue, as they are
                    for i, part in ((i00, w00), (i10, w10), (i01, w01), (i11, w11)):
                        tg += part * texture_pixels[i, 1]
                        tb += part * texture_pixels[i, 2]
                    rough, metal = np.float32(rough * tg / 255.0), np.float32(metal * tb / 255.0)
                    continue
                for i, part in ((i00, w00), (i10, w10), (i01, w01), (i11, w11)):
                    tr += part * LINEAR[texture_pixels[i, 0]]
                    tg += part * LINEAR[texture_pixels[i, 1]]
                    tb += part * LINEAR[texture_pixels[i, 2]]
                if layer == 1:
                    er, eg, eb = np.float32(er * tr), np.float32(eg * tg), np.float32(eb * tb)
                else:
                    r, g, b = np.float32(r * tr), np.float32(g * tg), np.float32(b * tb)
        plate = textured[mat] and emission_texture[mat] < -1
        if plate:
            rough = UNLIT
        elif clay:
            r = g = b = _CLAY
            rough, metal = _ONE, _NOUGHT
        own = np.int32(-1)
        if light_start[row] >= 0:
            own = light_ids[light_start[row] + prim]
        out[x, 0], out[x, 1], out[x, 2] = nx, ny, nz
        out[x, 3], out[x, 4], out[x, 5] = r, g, b
        out[x, 6], out[x, 7], out[x, 8] = er, eg, eb
        out[x, 9], out[x, 10], out[x, 11] = rough, metal, own
