"""The tracer's compiled kernels: one lens sample for each pixel and pass.

Work goes row by row: shoot, find the surfaces, light them, ask for what hides the light. Arrays are handed
on once a row and indexed down to numbers inside, because handing one on counts references, which threads
then fight over.
"""

import numpy as np

from kobrel.compiled import kernel
from kobrel.picture.tracing.lens import (
    flawed_ray,
    hashed,
    lens_ray,
    lens_sample,
    through_mask,
    through_outline,
)
from kobrel.picture.tracing.lighting import (
    LOBES,
    bounce_row,
    brought_row,
    lamps_row,
    lobes_row,
    own_light_row,
    plain_row,
)
from kobrel.picture.tracing.surface import WIDE, surface_row
from kobrel.stage.engine.random import pass_code
from kobrel.stage.engine.rays import (
    FAR_AT,
    LANES,
    NORMAL_AT,
    TIME_AT,
    TRIANGLE_AT,
    blocked,
    closest,
    is_blocked,
    new_packet,
    put_ray,
    put_rays,
    row_of_hit,
)

_HARDLY = np.float32(0.3)
"""Part of what a pixel has of which a light is asked for now and then only."""


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
            numbers[TIME_AT + lane] = pass_code(hashed(x, y, 7), number)
        closest(scene, address, valid, count)
        _take(numbers, integers, first, count, first_rows, met, ids)


@kernel
def _take(numbers, integers, first, count, first_rows, met, ids):  # type: ignore[no-untyped-def]
    """What the lanes met, as :func:`_shoot_row` has it."""
    for lane in range(count):
        x = first + lane
        ids[x, 0], ids[x, 1] = integers[TRIANGLE_AT + lane], row_of_hit(integers, lane, first_rows)
        for k in range(5):
            met[x, k] = numbers[NORMAL_AT + LANES * k + lane]
        met[x, 5] = numbers[FAR_AT + lane] if ids[x, 1] >= 0 else np.inf


@kernel
def _shoot_on(scene, first_rows, packet, rays, many, met, ids):  # type: ignore[no-untyped-def]
    """Trace rays onward."""
    address, numbers, integers, valid = packet
    places, ways = rays[:, :3], rays[:, 3:]
    for first in range(0, many, LANES):
        count = min(LANES, many - first)
        put_rays(numbers, integers, places, ways, first, count)
        closest(scene, address, valid, count)
        _take(numbers, integers, first, count, first_rows, met, ids)


@kernel
def _shadow_row(scene, packet, many, waiting, start, way, far, share, out):  # type: ignore[no-untyped-def]
    """Add the light that was asked for where nothing hides it."""
    address, numbers, integers, valid = packet
    for first in range(0, many, LANES):
        count = min(LANES, many - first)
        put_rays(numbers, integers, start, way, first, count)
        for lane in range(count):
            numbers[FAR_AT + lane] = far[first + lane]
        blocked(scene, address, valid, count)
        for lane in range(count):
            if not is_blocked(numbers, lane):
                k = first + lane
                for c in range(3):
                    out[waiting[k], c] += share[k, c]


@kernel
def _fewer(many, y, number, waiting, start, way, far, share, out):  # type: ignore[no-untyped-def]
    """Drop some of the lights asked for that would hardly be seen beside what a pixel has, and let the others
    count for them (Arvo and Kirk, "Particle Transport and Image Synthesis", 1990). Returns how many are left.
    """
    left = 0
    for k in range(many):
        x = waiting[k]
        whole = share[k, 0] + share[k, 1] + share[k, 2]
        seen = _HARDLY * (out[x, 0] + out[x, 1] + out[x, 2])
        scale = np.float32(1)
        if whole < seen:
            chance = hashed(k, y, 77) + number * 0.7548776662466927
            if (chance - np.floor(chance)) * seen >= whole:
                continue
            scale = seen / whole
        waiting[left], far[left] = x, far[k]
        for c in range(3):
            start[left, c], way[left, c] = start[k, c], way[k, c]
            share[left, c] = share[k, c] * scale
        left += 1
    return left


@kernel
def draw_rows(  # type: ignore[no-untyped-def]
    scene, first_rows, view, hole, light, harmonics, environment, tables, normal_matrices, live_normals,
    plates, drawn, lamps, slots, gloss_sums, number, lens, rows, colour, depth,
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
    live_normals, plates : (n, 3, 3) and (P, 5), see :class:`kobrel.stage.snapshot.Snapshot`
    drawn : (E,) emitters that are drawn from the light, or (0,) for none
    lamps, slots : see :attr:`kobrel.picture.view.View.lamps`
    gloss_sums : see :func:`kobrel.picture.tracing.gloss.table`
    number : which pass
    lens : one random lens sample for each pixel, or else the middle of pixel and lens
    rows : (top row, rows end)
    colour : (H, W, 3) float32, added to
    depth : (H, W) float32, metres along the axis, infinite where the frame is empty; or (0, 0)
    """
    packet = new_packet()
    height, width = colour.shape[0], colour.shape[1]
    full = light.full > np.float32(0)
    on = width if full else 0
    rays, onward = np.empty((width, 6), np.float32), np.empty((on, 6), np.float32)
    met, met_on = np.empty((width, 6), np.float32), np.empty((on, 6), np.float32)
    ids, ids_on = np.empty((width, 2), np.int32), np.empty((on, 2), np.int32)
    surfaces, surfaces_on = np.empty((width, WIDE), np.float32), np.empty((on, WIDE), np.float32)
    lobes, lobes_on = np.empty((on, LOBES), np.float32), np.empty((on, LOBES), np.float32)
    ones, weight = np.ones((on, 3), np.float32), np.empty((2 * on, 3), np.float32)
    themselves, origin, kind = np.arange(on), np.empty(on, np.int64), np.empty(on, np.uint8)
    shared, brought = np.empty(on, np.int64), np.empty((on, 3), np.float32)
    out = np.empty((width, 3), np.float32)
    waiting = np.empty(width + on, np.int64)
    start, way = np.empty((width + on + 1, 3), np.float32), np.empty((width + on, 3), np.float32)
    far, share = np.empty(width + on, np.float32), np.empty((width + on, 3), np.float32)
    light_of = np.zeros(width, np.uint8)
    own_harmonics, own_first = harmonics.copy(), first_rows.copy()
    clay = light.clay > np.float32(0)
    for y in range(rows[0], rows[1]):
        _shoot_row(scene, own_first, view, hole, y, height, number, lens, packet, rays, met, ids, light_of)
        surface_row(rays, met, ids, width, clay, normal_matrices, tables, live_normals, plates, surfaces)
        own_light_row(rays, ids, surfaces, light, environment, drawn, out)
        if not full:
            many = plain_row(
                rays, met, ids, surfaces, light, own_harmonics, out, waiting, start, way, far, share
            )
        else:
            lobes_row(rays, ids, surfaces, gloss_sums, lobes)
            many = lamps_row(
                rays, met, width, surfaces, lobes, ones, themselves, light, lamps, slots, y, number, 31, 0,
                waiting, start, way, far, share,
            )  # fmt: skip
            count = bounce_row(
                rays, met, ids, surfaces, lobes, y, number, onward, weight, kind, origin, shared
            )  # fmt: skip
            _shoot_on(scene, own_first, packet, onward, count, met_on, ids_on)
            surface_row(
                onward, met_on, ids_on, count, clay, normal_matrices, tables, live_normals, plates,
                surfaces_on,
            )  # fmt: skip
            brought_row(
                onward, ids_on, count, surfaces_on, surfaces, weight, kind, origin, shared, brought,
                light, own_harmonics, environment, lobes_on, out,
            )  # fmt: skip
            many = lamps_row(
                onward, met_on, count, surfaces_on, lobes_on, weight, origin, light, lamps, slots, y,
                number, 41, many, waiting, start, way, far, share,
            )  # fmt: skip
            many = _fewer(many, y, number, waiting, start, way, far, share, out)
        _shadow_row(scene, packet, many, waiting, start, way, far, share, out)
        for x in range(width):
            lit = light_of[x]
            if lit == 0:
                for c in range(3):
                    colour[y, x, c] += out[x, c]
            elif lit == 1:
                colour[y, x, 1] += 2 * out[x, 1]
            elif lit == 2:
                colour[y, x, 0] += 2 * out[x, 0]
                colour[y, x, 2] += 2 * out[x, 2]
        if len(depth):
            for x in range(width):
                depth[y, x] = met[x, 5]
