"""Compiled: each pixel's light laid down as its disc, layer by layer from near to far.

A layer is laid down row by row: spans as differences, summed up along the row, and then put behind what is
nearer. What covers a pixel already leaves less room for what is farther, as coverings that stand side by
side do: so a surface that lies in two layers has no seam. What is much brighter than the picture is laid
down for itself, as light that covers nothing: its disc has its energy, whatever is beside it.
"""

import numpy as np

from kobrel.compiled import kernel
from kobrel.picture.defocus.stamp import row_of, subrows

_FULL = 1.0 - 1e-4
WIDEST = 3
"""Rows that the tallest entry reaches beyond its first."""
_BLOCK_4, _BLOCK_2 = 14.0, 5.0
"""Least radii of discs for which squares of four by four, and of two by two pixels are laid down as one."""
_EVEN = 1.6
"""How much brighter than all of a square on the average one of its pixels may be."""


@kernel
def lay_rows(rows, starts, at, radius, light, half, most, stamp, corner, out, glints, room):  # type: ignore[no-untyped-def]
    """Lay one layer down over some rows of the picture, behind what is there.

    Parameters
    ----------
    rows : (top row, rows end)
    starts : (H + 1,) where the entries that begin in each row of pixels begin
    at : (n,) their left columns
    radius : (n,) half the height of their discs, pixels; below 0 for what is nearer than the focus
    light : (n, 4) linear light, and how many pixels they are: none for light that covers nothing
    half : (n,) from an entry's first pixel to its middle, pixels
    most : the largest radius among them
    stamp : see :class:`kobrel.picture.defocus.stamp.Stamp`
    corner : of a front stop, in radii of the pupil: how far its shadow's middle moves for each pixel from the
        picture's axis, the axis's column and row, and the shadow's radius; 0 there for none
    out, glints : (H, W, 3) what was laid down so far, and of light that covers nothing
    room : (H, W) the part that is free still
    """
    height, width = room.shape
    first, left, right, weight, tall, sums = stamp
    count, reach, end = len(first) - 1, int(most * tall + 0.5), float(width)
    line = np.zeros((width + 2, 8))  # of surfaces, and of light that covers nothing
    shadow, axis_x, axis_y, cut = corner
    for y in range(rows[0], rows[1]):
        any_there = glints_there = False
        for source in range(max(0, y - reach - WIDEST), min(height, y + reach + 1)):
            for k in range(starts[source], starts[source + 1]):
                r = abs(radius[k])
                middle, row_at = at[k] + half[k], source + half[k]
                down = y - row_at
                if abs(down) > (r * tall + 0.5 if r > 0.5 else 0.4):
                    continue
                red, green, blue, cover = light[k, 0], light[k, 1], light[k, 2], light[k, 3]
                to = 0 if cover > 0.0 else 4
                any_there, glints_there = any_there or to == 0, glints_there or to == 4
                parts = subrows(r) if r > 0.5 else 1
                turned = -1.0 if radius[k] < 0.0 else 1.0
                share = 1.0 / (sums[int(r * 16.0 + 0.5)] * parts)
                for part in range(parts):
                    up = -(down + (part + 0.5) / parts - 0.5) / r * turned
                    row = row_of(count, tall, up)
                    if row < 0:
                        continue
                    low, high = -1e9, 1e9
                    if cut > 0.0:
                        cx, cy = (middle - axis_x) * shadow, -(row_at - axis_y) * shadow
                        far = cut * cut - (up - cy) * (up - cy)
                        if far <= 0.0:
                            continue
                        low, high = cx - np.sqrt(far), cx + np.sqrt(far)
                    for s in range(first[row], first[row + 1]):
                        a, b, w = max(left[s], low) * r, min(right[s], high) * r, share * weight[s]
                        if turned < 0.0:
                            a, b = -b, -a
                        if r <= 0.5:
                            a, b, w = -0.5, 0.5, 1.0
                        a = min(max(middle + 0.5 + a, 0.0), end)
                        b = min(max(middle + 0.5 + b, 0.0), end)
                        if b <= a:
                            continue
                        ia, ib = int(a), int(b)
                        wa, wb = w * (a - ia), w * (b - ib)
                        line[ia, to] += red * (w - wa)
                        line[ia, to + 1] += green * (w - wa)
                        line[ia, to + 2] += blue * (w - wa)
                        line[ia, to + 3] += cover * (w - wa)
                        line[ia + 1, to] += red * wa
                        line[ia + 1, to + 1] += green * wa
                        line[ia + 1, to + 2] += blue * wa
                        line[ia + 1, to + 3] += cover * wa
                        line[ib, to] -= red * (w - wb)
                        line[ib, to + 1] -= green * (w - wb)
                        line[ib, to + 2] -= blue * (w - wb)
                        line[ib, to + 3] -= cover * (w - wb)
                        line[ib + 1, to] -= red * wb
                        line[ib + 1, to + 1] -= green * wb
                        line[ib + 1, to + 2] -= blue * wb
                        line[ib + 1, to + 3] -= cover * wb
        if glints_there:
            _add_behind(line, y, glints, room)
        if any_there:
            _put_behind(line, y, out, room)
        if any_there or glints_there:
            line[:] = 0.0


@kernel
def _add_behind(line, y, glints, room):  # type: ignore[no-untyped-def]
    """Sum a row's differences up, and add them where something is free."""
    r = g = b = 0.0
    for x in range(room.shape[1]):
        r, g, b = r + line[x, 4], g + line[x, 5], b + line[x, 6]
        free = room[y, x]
        glints[y, x, 0] += max(r, 0.0) * free
        glints[y, x, 1] += max(g, 0.0) * free
        glints[y, x, 2] += max(b, 0.0) * free


@kernel
def _put_behind(line, y, out, room):  # type: ignore[no-untyped-def]
    """Sum a row's differences up, and put it behind what is there."""
    r = g = b = w = 0.0
    for x in range(room.shape[1]):
        r, g, b, w = r + line[x, 0], g + line[x, 1], b + line[x, 2], w + line[x, 3]
        free = room[y, x]
        if w > 1e-6 and free > 0.0:
            part = min(w, free)
            over = part / w
            out[y, x, 0] += max(r, 0.0) * over
            out[y, x, 1] += max(g, 0.0) * over
            out[y, x, 2] += max(b, 0.0) * over
            room[y, x] = free - part


@kernel
def _is_even(number, radius, colour, y, x, side, least):  # type: ignore[no-untyped-def]
    """Whether a square of pixels can be laid down as one."""
    height, width = number.shape
    if y + side > height or x + side > width or abs(radius[y, x]) < least:
        return False
    layer, most, total = number[y, x], np.float32(0), np.float32(0)
    for j in range(y, y + side):
        for i in range(x, x + side):
            if number[j, i] != layer:
                return False
            light = colour[j, i, 0] + colour[j, i, 1] + colour[j, i, 2]
            most, total = max(most, light), total + light
    return most * side * side <= _EVEN * total + 1e-4


@kernel
def lay_out(blocks, number, radius, colour, fills, heads, begins, at, sizes, light, half):  # type: ignore[no-untyped-def]
    """The pixels as entries, ordered by layer and row: counted first, then filled in.

    Parameters
    ----------
    blocks : (first, end) of the rows, in fours
    number, radius, colour : (H, W) layers, (H, W) signed radii, (H, W, 3)
    fills : whether they are filled in
    heads : (layers * H,) counts; or where the next entry of each goes
    begins : number of the first layer
    at, sizes, light, half : see :func:`lay_rows`
    """
    height, width = number.shape
    for y in range(4 * blocks[0], min(4 * blocks[1], height), 4):
        for x in range(0, width, 4):
            four = _is_even(number, radius, colour, y, x, 4, _BLOCK_4)
            for j in range(y, y + 1 if four else min(y + 4, height), 2):
                for i in range(x, x + 1 if four else min(x + 4, width), 2):
                    two = not four and _is_even(number, radius, colour, j, i, 2, _BLOCK_2)
                    side = 4 if four else 2 if two else 1
                    for v in range(j, j + 1 if side > 1 else min(j + 2, height)):
                        for u in range(i, i + 1 if side > 1 else min(i + 2, width)):
                            head = (number[v, u] - begins) * height + v
                            place = heads[head]
                            heads[head] = place + 1
                            if not fills:
                                continue
                            at[place], sizes[place], half[place] = u, radius[v, u], 0.5 * (side - 1)
                            red = green = blue = np.float32(0)
                            for q in range(v, v + side):
                                for p in range(u, u + side):
                                    red += colour[q, p, 0]
                                    green += colour[q, p, 1]
                                    blue += colour[q, p, 2]
                            light[place, 0], light[place, 1], light[place, 2] = red, green, blue
                            light[place, 3] = side * side


@kernel
def lay_out_single(pixels, height, fills, heads, begins, at, sizes, light, half):  # type: ignore[no-untyped-def]
    """As :func:`lay_out`, of single pixels.

    Parameters
    ----------
    pixels : row, column, layer, radius, colour and cover of each: none for light that covers nothing
    """
    rows, columns, layers, radii, colours, covers = pixels
    for k in range(len(rows)):
        head = (layers[k] - begins) * height + rows[k]
        place = heads[head]
        heads[head] = place + 1
        if fills:
            at[place], sizes[place], half[place], light[place, 3] = columns[k], radii[k], 0.0, covers[k]
            for c in range(3):
                light[place, c] = colours[k, c]


@kernel
def fill_rows(rows, out, glints, room):  # type: ignore[no-untyped-def]
    """Where something of a pixel is free still, let the rest stand for all of it; and add the glints."""
    for y in range(rows[0], rows[1]):
        for x in range(room.shape[1]):
            there = 1.0 - room[y, x]
            if 1e-3 < there < _FULL:
                for c in range(3):
                    out[y, x, c] /= there
            for c in range(3):
                out[y, x, c] += glints[y, x, c]


@kernel
def snap_rows(rows, blur, least, out):  # type: ignore[no-untyped-def]
    """Give pixels between two depths, as smoothed edges have them, that of the nearer one in value.

    Parameters
    ----------
    blur : (H, W) signed blur
    least : pixels by which the two sides have to differ
    """
    height, width = blur.shape
    for y in range(rows[0], rows[1]):
        for x in range(width):
            here = blur[y, x]
            low = high = here
            for j in range(max(0, y - 1), min(height, y + 2)):
                for i in range(max(0, x - 1), min(width, x + 2)):
                    low, high = min(low, blur[j, i]), max(high, blur[j, i])
            if high - low > least and low < here < high:
                here = low if here - low < high - here else high
            out[y, x] = here
