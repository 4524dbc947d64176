"""Light on surfaces: plainly, or in full with gloss, mirrors, lamps and a sky that is seen or hidden."""

import numpy as np

from kobrel.compiled import index_of, kernel
from kobrel.picture.tracing.gloss import SMOOTHEST, hidden, reflected, thrown_back, visible_facet
from kobrel.picture.tracing.lens import hashed
from kobrel.stage.engine.rays import FAR

SHADOW_LIFT = np.float32(1e-4)
_NOUGHT, _HALF, _ONE, _ALWAYS = np.float32(0), np.float32(0.5), np.float32(1), np.float32(1e-3)
CLOSE, RANDOM, _BLOCK = 2, 1, 64
"""Lamps looked at for each point, of which one is asked for: the strongest near it, found for so many pixels
of a row at once, and some of the others at random.
"""
_MIRROR, _SOFT, _ALIKE = np.float32(0.0064), np.float32(0.1), np.float32(0.02)
"""Square of the roughness below which lamps are seen mirrored, not worked out; and the least for lamps
that are looked at at random, whose glints are spread a little so that they settle soon.
"""
_SHARING = 4
"""Dull neighbours of which one may take the ray of another."""
_KEY_RADIUS, _KEY_LEAST = np.float32(0.006), np.float32(0.012)
"""Tangent of the key light's radius, and the least square of a roughness that it is worked out with."""
_OPEN = np.float32(0.5)
"""How much of the sky a place sees that itself is only seen by the light that it throws on."""
DIFFUSE, GLOSSY, MIRRORED = 1, 2, 3
LOBES = 12
"""Of a surface's entry: diffuse colour 0-2, colour at right angles 3-5, what makes up for several facets 6-8,
square of the roughness 9; cosine to the viewer 10, below 0 where there is none; chance of gloss onward 11."""
_TURNS = 4096
_CIRCLE = np.stack([fn(2 * np.pi * (np.arange(_TURNS) + 0.5) / _TURNS) for fn in (np.cos, np.sin)], 1).astype(
    np.float32
)
# Fractions of square roots: one even sequence a pixel for each choice, over all passes.
_S1, _S2, _S3, _S4, _S5, _S6 = 0.41421356, 0.73205081, 0.23606798, 0.64575131, 0.31662479, 0.60555128


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
def sky(light, environment, dx, dy, dz):  # type: ignore[no-untyped-def]
    """What is seen in a direction, of unit length, where nothing stands."""
    if light.about > _NOUGHT:
        r, g, b = _surrounding(environment, light, dx, dy, dz)
        return np.float32(r * light.about), np.float32(g * light.about), np.float32(b * light.about)
    if dy >= _NOUGHT:
        t, er, eg, eb = np.sqrt(dy), light.zenith_r, light.zenith_g, light.zenith_b
    else:
        t, er, eg, eb = min(_ONE, -dy * np.float32(8)), light.ground_r, light.ground_g, light.ground_b
    return (
        light.horizon_r + (er - light.horizon_r) * t,
        light.horizon_g + (eg - light.horizon_g) * t,
        light.horizon_b + (eb - light.horizon_b) * t,
    )


@kernel
def sky_on(light, harmonics, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Light of the whole sky on a white surface."""
    if light.about > _NOUGHT:
        return _falling(light, harmonics, nx, ny, nz)
    t = _HALF + _HALF * ny
    sr, sg = light.zenith_r + light.horizon_r, light.zenith_g + light.horizon_g
    sb = light.zenith_b + light.horizon_b
    return (
        light.ground_r + (_HALF * sr - light.ground_r) * t,
        light.ground_g + (_HALF * sg - light.ground_g) * t,
        light.ground_b + (_HALF * sb - light.ground_b) * t,
    )


@kernel
def own_light_row(rays, ids, surfaces, light, environment, drawn, out):  # type: ignore[no-untyped-def]
    """The sky and what glows of itself, to `out` (W, 3); lamps that are `drawn` from themselves give
    nothing here.
    """
    for x in range(len(rays)):
        if ids[x, 1] < 0:
            dx, dy, dz = rays[x, 3], rays[x, 4], rays[x, 5]
            over = _ONE / np.sqrt(dx * dx + dy * dy + dz * dz)
            out[x, 0], out[x, 1], out[x, 2] = sky(light, environment, dx * over, dy * over, dz * over)
            continue
        own = int(surfaces[x, 11])
        dark = own >= 0 and len(drawn) > 0 and drawn[own] > 0
        for c in range(3):
            out[x, c] = _NOUGHT if dark else surfaces[x, 6 + c]


@kernel
def plain_row(rays, met, ids, surfaces, light, harmonics, out, waiting, start, way, far, share):  # type: ignore[no-untyped-def]
    """Add the sky's light to a row, hidden by nothing, and ask for the key light.

    Asked for are points: their pixel in `waiting`, where they are in `start` (n, 3), the `way` (n, 3) to
    the light and how `far` it is in its lengths, and what it would add, `share` (n, 3). Returns how many.
    """
    count = 0
    key = light.key_r + light.key_g + light.key_b > 0.0
    for x in range(len(rays)):
        if ids[x, 1] < 0:
            continue
        nx, ny, nz = surfaces[x, 0], surfaces[x, 1], surfaces[x, 2]
        r, g, b = surfaces[x, 3], surfaces[x, 4], surfaces[x, 5]
        fr, fg, fb = sky_on(light, harmonics, nx, ny, nz)
        out[x, 0] += r * fr
        out[x, 1] += g * fg
        out[x, 2] += b * fb
        facing = nx * light.x + ny * light.y + nz * light.z
        if key and facing > _NOUGHT:
            _place(rays, met, x, nx, ny, nz, start, count)
            way[count, 0], way[count, 1], way[count, 2], far[count] = light.x, light.y, light.z, FAR
            share[count, 0], share[count, 1], share[count, 2] = (
                r * light.key_r * facing, g * light.key_g * facing, b * light.key_b * facing,
            )  # fmt: skip
            waiting[count] = x
            count += 1
    return count


@kernel
def _place(rays, met, x, nx, ny, nz, start, k):  # type: ignore[no-untyped-def]
    """Where a ray met something, lifted off a little, to `start` [k]."""
    dx, dy, dz, distance = rays[x, 3], rays[x, 4], rays[x, 5], met[x, 5]
    lift = SHADOW_LIFT * (distance * np.sqrt(dx * dx + dy * dy + dz * dz) + _ALWAYS)
    start[k, 0] = rays[x, 0] + dx * distance + nx * lift
    start[k, 1] = rays[x, 1] + dy * distance + ny * lift
    start[k, 2] = rays[x, 2] + dz * distance + nz * lift


@kernel
def _even(pixel, salt, number, step):  # type: ignore[no-untyped-def]
    """A number of one of a pixel's even sequences, 0 to 1."""
    value = pixel * salt + number * step
    return value - np.floor(value)


@kernel
def _across(nx, ny, nz):  # type: ignore[no-untyped-def]
    """Two directions at right angles to one and to each other (Duff et al., 2017)."""
    sign = _ONE if nz >= _NOUGHT else -_ONE
    a = -_ONE / (sign + nz)
    b = nx * ny * a
    return _ONE + sign * nx * nx * a, sign * b, -sign * nx, b, sign + ny * ny * a, -ny


@kernel
def lobes_row(rays, ids, surfaces, sums, lobes):  # type: ignore[no-untyped-def]
    """How each surface of a row throws light back, to `lobes` (W, LOBES)."""
    for x in range(len(rays)):
        if ids[x, 1] < 0:
            lobes[x, 10] = -1.0
            continue
        if surfaces[x, 9] < _NOUGHT:
            for c in range(LOBES):
                lobes[x, c] = _NOUGHT
            lobes[x, 10] = -1.0
            continue
        dx, dy, dz = rays[x, 3], rays[x, 4], rays[x, 5]
        long = np.sqrt(dx * dx + dy * dy + dz * dz)
        facing = -(surfaces[x, 0] * dx + surfaces[x, 1] * dy + surfaces[x, 2] * dz) / long
        facing = min(max(facing, 1e-3), 1.0)
        rough, metal = min(max(surfaces[x, 9], SMOOTHEST), 1.0), min(max(surfaces[x, 10], 0.0), 1.0)
        plain, grazing = thrown_back(sums, rough, facing)
        lost = 1.0 / max(plain + grazing, 1e-3) - 1.0
        for c in range(3):
            base = min(max(surfaces[x, 3 + c], 0.0), 1.0)
            straight = 0.04 * (1.0 - metal) + base * metal
            more = 1.0 + straight * lost
            lobes[x, c] = base * (1.0 - metal) * (1.0 - min((straight * plain + grazing) * more, 1.0))
            lobes[x, 3 + c], lobes[x, 6 + c] = straight, more
        gloss = dull = 0.0
        for c in range(3):
            gloss += (lobes[x, 3 + c] * plain + grazing) * lobes[x, 6 + c]
            dull += lobes[x, c]
        chance = gloss / max(gloss + dull, 1e-6)
        lobes[x, 9], lobes[x, 10] = rough * rough, facing
        lobes[x, 11] = chance if dull < 1e-4 else min(max(chance, 0.1), 0.9)


@kernel
def _alike(surfaces, met, ids, x, other):  # type: ignore[no-untyped-def]
    """Whether two pixels show nearly the same place."""
    near = abs(met[x, 5] - met[other, 5]) < _ALIKE * met[x, 5]
    turn = 0.0
    for c in range(3):
        turn += surfaces[x, c] * surfaces[other, c]
    return near and turn > 0.99 and ids[x, 1] == ids[other, 1]


@kernel
def bounce_row(  # type: ignore[no-untyped-def]
    rays, met, ids, surfaces, lobes, y, number, onward, weight, kind, origin, shared
):  # fmt: skip
    """One ray onward from each surface of a row: at random by its gloss, or as dull surfaces do.

    To `onward` (n, 6) the rays, `weight` (n, 3) what they bring counts, `kind` (n,) one of :data:`DIFFUSE`,
    :data:`GLOSSY` and :data:`MIRRORED`, and the pixel to `origin` (n,). Of :data:`_SHARING` dull neighbours
    the ones that are alike take the ray of the first of them, each being the first in its turn, pass by pass:
    `shared` (W,) is the ray that a pixel takes, or -1; its weight stands at the pixel behind those of rays,
    in `weight` (2 W, 3). Returns how many rays.
    """
    count, turned, width = 0, int(number), len(rays)
    leader, its_ray = -_SHARING, -1
    for i in range(-(-width // _SHARING) * _SHARING):
        x = i // _SHARING * _SHARING + (i + turned) % _SHARING
        if x >= width:
            continue
        shared[x] = -1
        if lobes[x, 10] < 0.0:
            continue
        nx, ny, nz = float(surfaces[x, 0]), float(surfaces[x, 1]), float(surfaces[x, 2])
        nv, alpha = float(lobes[x, 10]), float(lobes[x, 9])
        chance, pixel = float(lobes[x, 11]), hashed(x, y, 21)
        if chance <= 0.0:
            continue
        u, w = _even(pixel, 1.0, number, _S1), _even(pixel, 61.0, number, _S2)
        ax, ay, az, bx, by, bz = _across(nx, ny, nz)
        if _even(pixel, 383.0, number, _S3) < chance:
            dx, dy, dz = rays[x, 3], rays[x, 4], rays[x, 5]
            over = -1.0 / np.sqrt(dx * dx + dy * dy + dz * dz)
            vx, vy, vz = dx * over, dy * over, dz * over
            hx, hy, hz = visible_facet(
                vx * ax + vy * ay + vz * az, vx * bx + vy * by + vz * bz, nv, alpha, u, w
            )
            gx, gy, gz = ax * hx + bx * hy + nx * hz, ay * hx + by * hy + ny * hz, az * hx + bz * hy + nz * hz
            vh = min(max(vx * gx + vy * gy + vz * gz, 0.0), 1.0)
            ox, oy, oz = 2.0 * vh * gx - vx, 2.0 * vh * gy - vy, 2.0 * vh * gz - vz
            nl = ox * nx + oy * ny + oz * nz
            if nl <= 1e-4:
                continue
            hides = 1.0 + hidden(nv, alpha)
            seen = hides / ((hides + hidden(nl, alpha)) * chance)
            edge = (1.0 - vh) * (1.0 - vh)
            edge *= edge * (1.0 - vh)
            for c in range(3):
                straight = lobes[x, 3 + c]
                weight[count, c] = seen * (straight + (1.0 - straight) * edge) * lobes[x, 6 + c]
            kind[count] = MIRRORED if alpha < _MIRROR else GLOSSY
        else:
            out, turn = np.sqrt(u), int(w * _TURNS)
            p, q, o = out * _CIRCLE[turn, 0], out * _CIRCLE[turn, 1], np.sqrt(max(0.0, 1.0 - u))
            ox, oy, oz = p * ax + q * bx + o * nx, p * ay + q * by + o * ny, p * az + q * bz + o * nz
            if leader // _SHARING == x // _SHARING and _alike(surfaces, met, ids, x, leader):
                shared[x] = its_ray
                for c in range(3):
                    weight[width + x, c] = lobes[x, c] / (1.0 - chance)
                continue
            for c in range(3):
                weight[count, c] = lobes[x, c] / (1.0 - chance)
            kind[count] = DIFFUSE
            leader, its_ray = x, count
        _place(rays, met, x, surfaces[x, 0], surfaces[x, 1], surfaces[x, 2], onward, count)
        onward[count, 3], onward[count, 4], onward[count, 5] = ox, oy, oz
        origin[count] = x
        count += 1
    return count


@kernel
def brought_row(  # type: ignore[no-untyped-def]
    onward, ids, count, surfaces, near, weight, kind, origin, shared, brought, light, harmonics, environment,
    lobes, out,
):  # fmt: skip
    """Add what the rays onward bring, but for lamps and key light; `near` are the surfaces they left.

    What a glossy ray met throws light on as a dull surface, told in `lobes`.
    """
    for k in range(count):
        x, hit = origin[k], ids[k, 1] >= 0
        if not hit:
            lobes[k, 10] = -1.0
            if kind[k] == DIFFUSE:
                r, g, b = sky_on(light, harmonics, near[x, 0], near[x, 1], near[x, 2])
            else:
                r, g, b = sky(light, environment, onward[k, 3], onward[k, 4], onward[k, 5])
        else:
            r, g, b = sky_on(light, harmonics, surfaces[k, 0], surfaces[k, 1], surfaces[k, 2])
            r, g, b = r * surfaces[k, 3] * _OPEN, g * surfaces[k, 4] * _OPEN, b * surfaces[k, 5] * _OPEN
            if kind[k] == MIRRORED or surfaces[k, 11] < _NOUGHT:
                r, g, b = r + surfaces[k, 6], g + surfaces[k, 7], b + surfaces[k, 8]
            lobes[k, 10] = -1.0 if kind[k] == DIFFUSE else 1.0
            lobes[k, 9] = 1.0
            for c in range(3):
                lobes[k, c], lobes[k, 3 + c], lobes[k, 6 + c] = surfaces[k, 3 + c], 0.0, 1.0
        brought[k, 0], brought[k, 1], brought[k, 2] = r, g, b
        for c in range(3):
            out[x, c] += weight[k, c] * brought[k, c]
    for x in range(len(shared)):
        k = shared[x]
        if k >= 0:
            r, g, b = brought[k, 0], brought[k, 1], brought[k, 2]
            if ids[k, 1] < 0:
                r, g, b = sky_on(light, harmonics, near[x, 0], near[x, 1], near[x, 2])
            out[x, 0] += weight[len(shared) + x, 0] * r
            out[x, 1] += weight[len(shared) + x, 1] * g
            out[x, 2] += weight[len(shared) + x, 2] * b


@kernel
def _lit(lobes, x, c, gloss, edge):  # type: ignore[no-untyped-def]
    """What a surface throws back of a light, in one colour."""
    straight = lobes[x, 3 + c]
    return lobes[x, c] + gloss * (straight + (1.0 - straight) * edge) * lobes[x, 6 + c]


@kernel
def _grey(dull, straight, more, gloss, edge):  # type: ignore[no-untyped-def]
    """What a surface throws back of a white light, all colours together, by the sums of its lobes."""
    return dull + gloss * (straight + (more - straight) * edge)


@kernel
def nearest_lamps(lamps, x, y, z, close, bright):  # type: ignore[no-untyped-def]
    """The lamps that are strongest at a place, to `close`, with how strong they are."""
    for k in range(CLOSE):
        close[k], bright[k] = -1, _NOUGHT
    for e in range(len(lamps)):
        ax, ay, az = lamps[e, 0] - x, lamps[e, 1] - y, lamps[e, 2] - z
        strong = lamps[e, 9] / (ax * ax + ay * ay + az * az + lamps[e, 3] * lamps[e, 3])
        for k in range(CLOSE):
            if strong > bright[k]:
                for down in range(CLOSE - 1, k, -1):
                    close[down], bright[down] = close[down - 1], bright[down - 1]
                close[k], bright[k] = e, strong
                break


@kernel
def lamps_row(  # type: ignore[no-untyped-def]
    rays, met, count, surfaces, lobes, weight, origin, light, lamps, slots, y, number, salt, many, waiting,
    start, way, far, share,
):  # fmt: skip
    """Ask for one light for each surface of a row: the key light or a lamp, drawn by what they would bring.

    Of many lamps those strongest near by are looked at, and a few others by their strength (Talbot et al.,
    "Importance Resampling for Global Illumination", 2005). Asked for as in :func:`plain_row`, from entry
    `many` on.

    Parameters
    ----------
    weight, origin : (n, 3) what a light counts and the pixel it is for
    lamps, slots : see :attr:`kobrel.picture.view.View.lamps`
    """
    key_strong = light.key_r + light.key_g + light.key_b
    key, many_slots = key_strong > _NOUGHT, np.float32(len(slots))
    kx, ky, kz, mx, my, mz = _across(light.x, light.y, light.z)
    looks = 0 if len(lamps) == 0 else CLOSE if len(lamps) <= CLOSE else CLOSE + RANDOM
    close, bright, last_block = np.full(CLOSE, -1, np.int64), np.zeros(CLOSE, np.float32), -1
    for x in range(count):
        nv = lobes[x, 10]
        if nv < _NOUGHT:
            continue
        nx, ny, nz = surfaces[x, 0], surfaces[x, 1], surfaces[x, 2]
        dx, dy, dz = rays[x, 3], rays[x, 4], rays[x, 5]
        over = -_ONE / np.sqrt(dx * dx + dy * dy + dz * dz)
        vx, vy, vz, alpha = dx * over, dy * over, dz * over, lobes[x, 9]
        _place(rays, met, x, nx, ny, nz, start, many)
        px, py, pz = start[many, 0], start[many, 1], start[many, 2]
        pixel = hashed(origin[x], y, salt)
        turn = int(_even(pixel, 61.0, number, _S5) * _TURNS)
        out = np.float32(np.sqrt(_even(pixel, 1.0, number, _S4)))
        p, q = out * _CIRCLE[turn, 0], out * _CIRCLE[turn, 1]
        u, look = np.float32(_even(pixel, 383.0, number, _S6)), _even(pixel, 953.0, number, _S1)
        dull, more = lobes[x, 0] + lobes[x, 1] + lobes[x, 2], lobes[x, 6] + lobes[x, 7] + lobes[x, 8]
        straight = lobes[x, 3] * lobes[x, 6] + lobes[x, 4] * lobes[x, 7] + lobes[x, 5] * lobes[x, 8]
        total, part, chosen, rarest = _NOUGHT, _NOUGHT, -2, _ONE
        wx = wy = wz = away_of = _NOUGHT
        if key:
            lx = light.x + _KEY_RADIUS * (p * kx + q * mx)
            ly = light.y + _KEY_RADIUS * (p * ky + q * my)
            lz = light.z + _KEY_RADIUS * (p * kz + q * mz)
            nl = lx * nx + ly * ny + lz * nz
            if nl > _NOUGHT:
                gloss, edge = reflected(nv, nl, lx * vx + ly * vy + lz * vz, max(alpha, _KEY_LEAST))
                total = part = _grey(dull, straight, more, gloss, edge) * nl * key_strong
                chosen, wx, wy, wz = -1, lx, ly, lz
        if x - last_block >= _BLOCK or last_block < 0:
            last_block = x
            nearest_lamps(lamps, px, py, pz, close, bright)
        for i in range(looks):
            if i < CLOSE:
                e, rarer = close[i], _ONE
                if e < 0:
                    continue
            else:
                e = slots[index_of((i - CLOSE + look) / RANDOM * len(slots), len(slots))]
                if e == close[0] or e == close[1]:
                    continue
                rarer = many_slots / (lamps[e, 8] * np.float32(RANDOM))
            lx, ly, lz = lamps[e, 0] - px, lamps[e, 1] - py, lamps[e, 2] - pz
            nl = lx * nx + ly * ny + lz * nz
            away2 = lx * lx + ly * ly + lz * lz
            if nl <= _NOUGHT or away2 <= lamps[e, 4] * lamps[e, 4]:
                continue
            over = _ONE / np.sqrt(away2)
            lx, ly, lz, nl = lx * over, ly * over, lz * over, nl * over
            own = dull
            if alpha >= _MIRROR:
                blunt = alpha if i < CLOSE else max(alpha, _SOFT)
                gloss, edge = reflected(nv, nl, lx * vx + ly * vy + lz * vz, blunt)
                own = _grey(dull, straight, more, gloss, edge)
            own *= lamps[e, 9] * nl * rarer / max(away2, lamps[e, 3] * lamps[e, 3])
            if own <= _NOUGHT:
                continue
            total += own
            chance = own / total
            if u < chance:
                u /= chance
                part, chosen, rarest = own, e, rarer if i < CLOSE else -rarer
                wx, wy, wz, away_of = lx, ly, lz, _ONE / over
            else:
                u = (u - chance) / (_ONE - chance)
        if chosen == -2:
            continue
        scale, nl, blunt = total / part, wx * nx + wy * ny + wz * nz, alpha
        gloss, edge, reach = _NOUGHT, _NOUGHT, FAR
        if chosen < 0:
            lr, lg, lb, blunt = light.key_r, light.key_g, light.key_b, max(alpha, _KEY_LEAST)
        else:
            radius, lr, lg, lb = lamps[chosen, 3], lamps[chosen, 5], lamps[chosen, 6], lamps[chosen, 7]
            size = radius / max(away_of, radius)
            scale *= size * size * abs(rarest)
            if rarest < _NOUGHT:
                blunt = max(alpha, _SOFT)
        if chosen < 0 or alpha >= _MIRROR:
            gloss, edge = reflected(nv, nl, wx * vx + wy * vy + wz * vz, blunt)
        scale *= nl
        share[many, 0] = weight[x, 0] * _lit(lobes, x, 0, gloss, edge) * lr * scale
        share[many, 1] = weight[x, 1] * _lit(lobes, x, 1, gloss, edge) * lg * scale
        share[many, 2] = weight[x, 2] * _lit(lobes, x, 2, gloss, edge) * lb * scale
        if chosen >= 0:
            ax, ay, az, bx, by, bz = _across(wx, wy, wz)
            reach = max(_NOUGHT, _ONE - np.float32(1.05) * lamps[chosen, 4] / away_of)
            wx = wx * away_of + radius * (p * ax + q * bx)
            wy = wy * away_of + radius * (p * ay + q * by)
            wz = wz * away_of + radius * (p * az + q * bz)
        way[many, 0], way[many, 1], way[many, 2], far[many] = wx, wy, wz, reach
        waiting[many] = origin[x]
        many += 1
    return many
