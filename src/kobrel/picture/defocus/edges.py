"""Edges in depth taken apart: a pixel there shows some of the nearer thing and some of the farther one.

What it shows of each follows from its colour, between those of the two things beside it (as in matting;
Porter and Duff, "Compositing Digital Images", 1984). So a smoothed edge leaves no line of mixed colour in the
blur.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.picture.tracer import in_bands, never

_ALIKE = 1e-6


class Apart(NamedTuple):
    """A picture whose edges are taken apart.

    Parameters
    ----------
    blur, colour : (H, W) signed blur and (H, W, 3), at edges those of the farther thing
    row, column, near_blur, near_colour, cover : (n,) and (n, 3) of the nearer thing at edges, and how much of
        the pixel it covers
    """

    blur: NDArray[np.float32]
    colour: NDArray[np.float32]
    row: NDArray[np.int64]
    column: NDArray[np.int64]
    near_blur: NDArray[np.float32]
    near_colour: NDArray[np.float32]
    cover: NDArray[np.float32]


@kernel
def jump(one, other):  # type: ignore[no-untyped-def]
    """Whether two neighbours' signed blurs, the first farther away, are those of two things."""
    return one - other > 1.0 + 0.12 * (abs(one) + abs(other))


@kernel
def _find(rows, blur, low, high, edge):  # type: ignore[no-untyped-def]
    """The nearest and the farthest blur about each pixel, and whether they are those of two things."""
    height, width = blur.shape
    for y in range(rows[0], rows[1]):
        for x in range(width):
            a = b = blur[y, x]
            for j in range(max(0, y - 1), min(height, y + 2)):
                for i in range(max(0, x - 1), min(width, x + 2)):
                    a, b = min(a, blur[j, i]), max(b, blur[j, i])
            low[y, x], high[y, x], edge[y, x] = a, b, jump(b, a)


@kernel
def _part(rows, blur, colour, low, high, edge, far, near, cover):  # type: ignore[no-untyped-def]
    """Colours of both sides at edges, `far` and `near` (H, W, 3), and how much the nearer one covers."""
    height, width = blur.shape
    for y in range(rows[0], rows[1]):
        for x in range(width):
            if not edge[y, x]:
                continue
            a, b = low[y, x], high[y, x]
            nr = ng = nb = fr = fg = fb = wn = wf = 0.0
            for j in range(max(0, y - 2), min(height, y + 3)):
                for i in range(max(0, x - 2), min(width, x + 3)):
                    there = blur[j, i]
                    r, g, bl = colour[j, i, 0], colour[j, i, 1], colour[j, i, 2]
                    # an edge may show some of a light beside it: the brighter it is the less it counts
                    w = 1e-3 / (1.0 + (r + g + bl) ** 2) if edge[j, i] else 1.0
                    r, g, bl = w * r, w * g, w * bl
                    if not jump(there, a):
                        nr, ng, nb, wn = nr + r, ng + g, nb + bl, wn + w
                    elif not jump(b, there):
                        fr, fg, fb, wf = fr + r, fg + g, fb + bl, wf + w
            own = 1.0 if not jump(blur[y, x], a) else 0.0
            r, g, bl = colour[y, x, 0], colour[y, x, 1], colour[y, x, 2]
            if wn < 0.5 or wf < 0.5:  # a thing too thin to be seen by itself: the pixel is wholly of one
                near[y, x, 0], near[y, x, 1], near[y, x, 2] = r, g, bl
                if wf > 0.0 and own > 0.0:
                    r, g, bl = fr / wf, fg / wf, fb / wf
                far[y, x, 0], far[y, x, 1], far[y, x, 2], cover[y, x] = r, g, bl, own
                continue
            nr, ng, nb, fr, fg, fb = nr / wn, ng / wn, nb / wn, fr / wf, fg / wf, fb / wf
            dr, dg, db = nr - fr, ng - fg, nb - fb
            size = dr * dr + dg * dg + db * db
            part = own
            if size > _ALIKE:
                part = ((r - fr) * dr + (g - fg) * dg + (bl - fb) * db) / size
                part = min(max(part, 0.0), 1.0)
            # what the two do not explain belongs to the thing that the pixel's depth is of
            lr, lg, lb = r - fr - part * dr, g - fg - part * dg, bl - fb - part * db
            if own > 0.0:
                rest = max(part, 0.5)
                nr, ng, nb = nr + lr / rest, ng + lg / rest, nb + lb / rest
            else:
                rest = max(1.0 - part, 0.5)
                fr, fg, fb = fr + lr / rest, fg + lg / rest, fb + lb / rest
            mixed = (own > 0.0) == (part > 0.5) or size <= _ALIKE
            if not mixed or min(nr, ng, nb, fr, fg, fb) < 0.0:  # no mixture of the two: it is wholly of one
                part = own
                if own > 0.0:
                    nr, ng, nb = r, g, bl
                else:
                    fr, fg, fb = r, g, bl
            near[y, x, 0], near[y, x, 1], near[y, x, 2] = nr, ng, nb
            far[y, x, 0], far[y, x, 1], far[y, x, 2] = fr, fg, fb
            cover[y, x] = part


def taken_apart(blur: NDArray[np.float32], colour: NDArray[np.float32]) -> Apart:
    """Take the edges in depth of a picture apart.

    Parameters
    ----------
    blur : (H, W) signed blur, pixels
    colour : (H, W, 3) linear light
    """
    low, high, edge = np.empty_like(blur), np.empty_like(blur), np.empty(blur.shape, np.bool_)
    in_bands(len(blur), lambda rows: _find(rows, blur, low, high, edge), never)
    far, near, cover = colour.copy(), np.empty_like(colour), np.zeros_like(blur)
    in_bands(len(blur), lambda rows: _part(rows, blur, colour, low, high, edge, far, near, cover), never)
    row, column = np.nonzero(edge & (cover > 0.0))
    return Apart(
        np.where(edge, high, blur), far, row, column, low[row, column], near[row, column], cover[row, column]
    )
