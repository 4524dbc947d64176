"""Labels near points that cover nothing: neither one another, nor tags."""

import math
from collections import defaultdict
from collections.abc import Iterable

from PySide6.QtCore import QPointF, QRectF

_Box = tuple[float, float, float, float]
"""Left, top, right, bottom."""

_WAYS = ((1, -1), (1, 1), (-1, -1), (-1, 1), (0, -1), (1, 0), (0, 1), (-1, 0))
_GAPS = (8.0, 20.0, 36.0, 56.0, 80.0, 108.0)
_RING = [(math.cos(turn * math.pi / 6), math.sin(turn * math.pi / 6)) for turn in range(12)]
_ABOUT = [(0.0, 0.0), *((x * gap, y * gap) for gap in (2.1, 3.2, 4.4, 6.0) for x, y in _RING)]
_CELL = 48.0
_MOST_VAIN = 12
"""Vain searches for room beside a tag's point after which the others stay on theirs: there is a crowd."""


class Labels:
    """Gives out room within bounds, first come, first served."""

    def __init__(self, bounds: QRectF) -> None:
        self._bounds = _box(bounds)
        self._taken: defaultdict[tuple[int, int], list[_Box]] = defaultdict(list)
        self._vain = 0

    def take(self, *boxes: QRectF) -> None:
        """Keep room free of labels."""
        for box in boxes:
            self._take(_box(box))

    def take_points(self, points: Iterable[QPointF], radius: float) -> None:
        """Keep round tags free of labels."""
        for x, y in ((point.x(), point.y()) for point in points):
            self._take((x - radius, y - radius, x + radius, y + radius))

    def put(self, at: QPointF, width: float, height: float) -> QRectF | None:
        """Room for a label as near to a point as can be, taken from now on; None where there is none."""
        x, y, half, tall = at.x(), at.y(), width / 2, height / 2
        middles = ((x + a * (gap + half), y + b * (gap + tall)) for gap in _GAPS for a, b in _WAYS)
        return self._first((a - half, b - tall, a + half, b + tall) for a, b in middles)

    def put_on(self, at: QPointF, radius: float) -> QPointF:
        """A place for a round tag: on its point, or else beside it."""
        x, y = at.x(), at.y()
        around = _ABOUT if self._vain < _MOST_VAIN else _ABOUT[:1]
        middles = ((x + a * radius, y + b * radius) for a, b in around)
        found = self._first((a - radius, b - radius, a + radius, b + radius) for a, b in middles)
        if found is not None:
            return found.center()
        self._vain += 1
        return at

    def put_here(self, box: QRectF) -> bool:
        """Whether there is room for a label at its one place, which is taken from now on."""
        return self._first([_box(box)]) is not None

    def _first(self, boxes: Iterable[_Box]) -> QRectF | None:
        found = next(filter(self._is_free, boxes), None)
        if found is None:
            return None
        self._take(found)
        return QRectF(QPointF(*found[:2]), QPointF(*found[2:]))

    def _is_free(self, box: _Box) -> bool:
        left, top, right, bottom = box
        low, high, far, deep = self._bounds
        if not (left >= low and top >= high and right <= far and bottom <= deep):
            return False
        for cell in _cells(box):
            for a, b, c, d in self._taken.get(cell, ()):
                if right > a and left < c and bottom > b and top < d:
                    return False
        return True

    def _take(self, box: _Box) -> None:
        (left, top, right, bottom), (low, high, far, deep) = box, self._bounds
        if right > low and left < far and bottom > high and top < deep:
            within = max(left, low), max(top, high), min(right, far), min(bottom, deep)
            for cell in _cells(within):
                self._taken[cell].append(within)


def _box(box: QRectF) -> _Box:
    return box.left(), box.top(), box.right(), box.bottom()


def _cells(box: _Box) -> list[tuple[int, int]]:
    """The cells of a coarse grid that a box lies in, so that only what is near is compared."""
    left, top = int(box[0] // _CELL), int(box[1] // _CELL)
    right, bottom = int(box[2] // _CELL), int(box[3] // _CELL)
    if left == right and top == bottom:
        return [(left, top)]
    return [(column, row) for column in range(left, right + 1) for row in range(top, bottom + 1)]
