"""Labels near points that cover nothing: neither one another, nor pegs."""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF

Boxes = NDArray[np.float64]
"""(n, 4) left, top, right, bottom."""

_WAYS = np.array([(1, -1), (1, 1), (-1, -1), (-1, 1), (0, -1), (1, 0), (0, 1), (-1, 0)], float)
_GAPS = np.array([8.0, 20.0, 36.0, 56.0, 80.0, 108.0])


class Labels:
    """Gives out room within bounds, first come, first served."""

    def __init__(self, bounds: QRectF) -> None:
        self._bounds = _box(bounds)
        self._taken: Boxes = np.empty((0, 4))

    def take(self, *boxes: QRectF) -> None:
        """Keep room free of labels."""
        self._taken = np.concatenate([self._taken, *([_box(box)] for box in boxes)])

    def take_points(self, points: Iterable[QPointF], radius: float) -> None:
        """Keep round pegs free of labels."""
        self.take(*(QRectF(p.x() - radius, p.y() - radius, 2 * radius, 2 * radius) for p in points))

    def put(self, at: QPointF, width: float, height: float) -> QRectF | None:
        """Room for a label as near to a point as can be, taken from now on; None where there is none."""
        half = np.array([width, height]) / 2
        middles = np.array([at.x(), at.y()]) + (_WAYS * (_GAPS[:, None, None] + half)).reshape(-1, 2)
        return self._first(np.concatenate([middles - half, middles + half], axis=1))

    def put_on(self, at: QPointF, radius: float) -> QPointF:
        """A place for a round peg: on its point, or else beside it."""
        turns = np.arange(12) * (np.pi / 6)
        ring = np.stack([np.cos(turns), np.sin(turns)], 1)
        outward = np.concatenate([[(0.0, 0.0)], *(ring * gap * radius for gap in (2.1, 3.2, 4.4, 6.0))])
        middles = np.array([at.x(), at.y()]) + outward
        found = self._first(np.concatenate([middles - radius, middles + radius], axis=1))
        return found.center() if found is not None else at

    def put_here(self, box: QRectF) -> bool:
        """Whether there is room for a label at its one place, which is taken from now on."""
        return self._first(_box(box)[None]) is not None

    def _first(self, boxes: Boxes) -> QRectF | None:
        left, top, right, bottom = self._bounds
        free = (boxes[:, :2] >= (left, top)).all(axis=1) & (boxes[:, 2:] <= (right, bottom)).all(axis=1)
        before = boxes[:, None, 2:] <= self._taken[None, :, :2]
        apart: NDArray[np.bool_] = before | (boxes[:, None, :2] >= self._taken[None, :, 2:])
        free &= np.all(np.any(apart, axis=2), axis=1)
        if not free.any():
            return None
        found = boxes[int(np.argmax(free))]
        self._taken = np.concatenate([self._taken, found[None]])
        return QRectF(QPointF(*found[:2]), QPointF(*found[2:]))


def _box(box: QRectF) -> Boxes:
    return np.array([box.left(), box.top(), box.right(), box.bottom()])
