"""Meshes whose points move: sampled shapes, blend shapes, and skins over joints."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.stage.joints import Joints
from kobrel.stage.motion import Array, Track

if TYPE_CHECKING:
    from scipy.sparse import csr_matrix

MOST_KEPT_BYTES = 128 * 2**20
"""Memory for the points of meshes at the frames that were asked for last."""

Points = NDArray[np.float32]


class Source(Protocol):
    """Points before blend shapes and skin."""

    @property
    def moves(self) -> bool:
        """Whether they change over time."""

    def whole(self, frame: float) -> Points:
        """(V, 3) all of them at a frame."""

    def some(self, frames: Array, vertices: NDArray[np.intp]) -> Array:
        """(F, n, 3) some of them at frames, or (1, n, 3) where they never change."""


@dataclass(frozen=True, eq=False)
class Still:
    """Points that never change, (V, 3)."""

    points: Points
    moves: bool = False

    def whole(self, _frame: float) -> Points:
        """The points."""
        return self.points

    def some(self, _frames: Array, vertices: NDArray[np.intp]) -> Array:
        """Some of the points."""
        return self.points[vertices].astype(float)[None]


@dataclass(frozen=True, eq=False)
class Sampled:
    """Points that the file keeps for some frames, straight ways between them.

    Parameters
    ----------
    times : (K,) frames, rising
    read : the points (V, 3) of one sample; called when they are needed
    """

    times: Array
    read: Callable[[int], Points]
    moves: bool = True

    def _between(self, frame: float) -> tuple[int, int, float]:
        """The samples before and after a frame, and how far it lies between them."""
        if len(self.times) == 1:
            return 0, 0, 0.0
        low, part = Track(self.times, self.times).bracket([frame])
        before = int(low[0]) + (1 if part[0] >= 1.0 else 0)
        return before, min(before + 1, len(self.times) - 1), float(part[0]) % 1.0

    def _sample(self, number: int) -> Points:
        return _RECENT.get((id(self), "sample", number), self, lambda: self.read(number))

    def whole(self, frame: float) -> Points:
        """All points at a frame."""
        before, after, part = self._between(frame)
        first = self._sample(before)
        return first if part == 0.0 else first + (self._sample(after) - first) * np.float32(part)

    def some(self, frames: Array, vertices: NDArray[np.intp]) -> Array:
        """Some of the points; each sample is read once."""
        found = [self._between(float(frame)) for frame in frames]
        kept = {
            number: self._sample(number)[vertices].astype(float)
            for number in sorted({number for before, after, _ in found for number in (before, after)})
        }
        return np.stack([kept[a] + (kept[b] - kept[a]) * part for a, b, part in found])


@dataclass(frozen=True, eq=False)
class Blend:
    """Blend shapes: S sets of shifts, each times its weight.

    Parameters
    ----------
    starts : (S + 1,) where each shape begins among the shifts
    vertices, shifts : (n,) and (n, 3) which points they move, and how far
    weights : for frames (F,) the weights (F, S), or (1, S) where they never change
    """

    starts: NDArray[np.int64]
    vertices: NDArray[np.int64]
    shifts: Points
    weights: Callable[[Array], Array]

    @classmethod
    def of(
        cls, shapes: Sequence[tuple[NDArray[np.int64], Points]], weights: Callable[[Array], Array]
    ) -> "Blend":
        """From the points and shifts of each shape."""
        starts = np.cumsum([0, *(len(vertices) for vertices, _ in shapes)])
        vertices = np.concatenate([np.zeros(0, np.int64), *(v for v, _ in shapes)])
        shifts = np.concatenate([np.zeros((0, 3), np.float32), *(s for _, s in shapes)])
        return cls(starts, vertices, shifts, weights)

    @cached_property
    def _order(self) -> NDArray[np.intp]:
        """The shifts by the points that they move."""
        return np.argsort(self.vertices, kind="stable")

    def add(self, points: Points, frame: float) -> Points:
        """(V, 3) points at a frame with the shapes in them."""
        result = points.copy()
        for shape, weight in enumerate(self.weights(np.array([frame]))[0]):
            if weight:
                part = slice(int(self.starts[shape]), int(self.starts[shape + 1]))
                np.add.at(result, self.vertices[part], self.shifts[part] * np.float32(weight))
        return result

    def add_some(self, points: Array, frames: Array, vertices: NDArray[np.intp]) -> Array:
        """(F, n, 3) some points with the shapes in them."""
        weights = self.weights(frames)
        result = np.array(np.broadcast_to(points, (max(len(points), len(weights)), *points.shape[1:])))
        by_vertex = self.vertices[self._order]
        for column, vertex in enumerate(vertices):
            low, high = np.searchsorted(by_vertex, [vertex, vertex + 1])
            for entry in self._order[low:high]:
                shape = int(np.searchsorted(self.starts, entry, side="right")) - 1
                result[:, column] += weights[:, shape, None] * self.shifts[entry].astype(float)
        return result


@dataclass(frozen=True, eq=False)
class Skin:
    """How joints move points: each by the weighted mean of its joints' movements.

    Parameters
    ----------
    joints, weights : (V, K) each, numbers of the skin's J joints, and weights with the sum 1
    skeleton : where the joints are
    at : (J,) the number that each of the skin's joints has in the skeleton
    bound : (J, 4, 4) from the points' space at rest to each joint's
    """

    joints: NDArray[np.int32]
    weights: NDArray[np.float32]
    skeleton: Joints
    at: NDArray[np.int64]
    bound: Array

    def bend(self, points: Points, frame: float) -> Points:
        """(V, 3) points at a frame, from those at rest."""
        from kobrel.stage.bending import bend

        matrices = self.skeleton.places(np.array([frame]), self.at)[0, self.at]
        moved = matrices[:, :, :3] @ self.bound[:, :3]
        moved[:, :, 3] += matrices[:, :, 3]
        result = np.empty((len(points), 3), np.float32)
        bend(np.ascontiguousarray(points, np.float32), self.joints, self.weights, moved, result)
        return result

    def bend_some(self, points: Array, frames: Array, vertices: NDArray[np.intp]) -> Array:
        """(F, n, 3) some points at frames, from those at rest, (F, n, 3) or (1, n, 3)."""
        from kobrel.stage.bending import bend_some

        joints, weights = self.joints[vertices], self.weights[vertices].astype(float)
        joints = np.where(weights > 0, joints, joints[:, :1])
        bound = self.bound[joints]  # (n, K, 4, 4)
        rest = (bound[..., :3, :3] @ points[:, :, None, :, None])[..., 0] + bound[..., :3, 3]
        places = self.skeleton.places(frames, self.at[np.unique(joints)])
        result = np.empty((max(len(points), len(places)), len(vertices), 3))
        bend_some(places, self.at[joints], weights, rest, result)
        return result

    def bend_mean(self, points: Array, frames: Array, vertices: NDArray[np.intp], shares: Array) -> Array:
        """(F, 3) the mean, by shares (n,), of some points at frames, from those at rest, (n, 3): what is of
        one joint is put together first.
        """
        from kobrel.stage.bending import bend_some

        weights = self.weights[vertices] * shares[:, None]
        used, which = np.unique(self.joints[vertices], return_inverse=True)
        which = which.reshape(weights.shape)
        total = np.bincount(which.ravel(), weights.ravel(), len(used))
        sums = [
            np.bincount(which.ravel(), (weights * points[:, k, None]).ravel(), len(used)) for k in range(3)
        ]
        mean = np.stack(sums, axis=1) / np.where(total == 0, 1.0, total)[:, None]
        rest = (self.bound[used, :3, :3] @ mean[..., None])[..., 0] + self.bound[used, :3, 3]
        at = self.at[used]
        result = np.empty((len(frames), 1, 3))
        places = self.skeleton.places(frames, at[total != 0])
        bend_some(places, at[None], total[None], rest[None, None], result)
        return result[:, 0]


@dataclass(frozen=True, eq=False)
class Deformation:
    """Where a mesh's points are over time: a source, then blend shapes, then a skin, then the finer
    surface (V', V) over the points of a cage.
    """

    source: Source
    blend: Blend | None = None
    skin: Skin | None = None
    refined: "csr_matrix | None" = None

    @property
    def moves(self) -> bool:
        """Whether any point ever moves."""
        return self.source.moves or self.blend is not None or self.skin is not None

    def points(self, frame: float) -> Points:
        """(V, 3) all points at a frame, in the node's space; the last few frames' are kept."""
        return _RECENT.get((id(self), "points", frame), self, lambda: self._worked_out(frame))

    def _worked_out(self, frame: float) -> Points:
        points = self.source.whole(frame)
        if self.blend is not None:
            points = self.blend.add(points, frame)
        if self.skin is not None:
            points = self.skin.bend(points, frame)
        return points if self.refined is None else np.asarray(self.refined @ points, np.float32)

    def some(self, frames: ArrayLike, vertices: ArrayLike) -> Array:
        """(F, n, 3) some points at frames, in the node's space; no others are worked out."""
        at = np.atleast_1d(np.asarray(frames, float))
        which = np.asarray(vertices, np.intp)
        if self.refined is not None:
            rows = self.refined[which]
            of_cage, places = np.unique(rows.indices, return_inverse=True)
            small = np.zeros((len(which), len(of_cage)))
            small[np.repeat(np.arange(len(which)), np.diff(rows.indptr)), places] = rows.data
            return np.asarray(small @ replace(self, refined=None).some(at, of_cage))
        points = self.source.some(at, which)
        if self.blend is not None:
            points = self.blend.add_some(points, at, which)
        if self.skin is not None:
            points = self.skin.bend_some(points, at, which)
        return np.asarray(np.broadcast_to(points, (len(at), len(which), 3)))

    def mean_of(self, frames: ArrayLike, vertices: ArrayLike, shares: Array) -> Array:
        """(F, 3) the mean, by shares (n,) with the sum 1, of some points at frames, in the node's space."""
        at, which = np.atleast_1d(np.asarray(frames, float)), np.asarray(vertices, np.intp)
        plain = self.blend is None and self.refined is None and not self.source.moves
        if plain and self.skin is not None:
            return self.skin.bend_mean(self.source.some(at, which)[0], at, which, shares)
        return np.asarray(np.einsum("fki,k->fi", self.some(at, which), shares))


class _Recent:
    """The arrays that were asked for last, within so many bytes."""

    def __init__(self, most_bytes: int) -> None:
        self._most, self._bytes = most_bytes, 0
        self._kept: OrderedDict[tuple[int, str, float], tuple[object, Points]] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[int, str, float], owner: object, make: Callable[[], Points]) -> Points:
        """What is kept, or else made now. `owner` is what the key's number stands for."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][1]
        made = make()
        with self._lock:
            if key not in self._kept:
                self._kept[key] = owner, made
                self._bytes += made.nbytes
            while self._bytes > self._most and len(self._kept) > 1:
                self._bytes -= self._kept.popitem(last=False)[1][1].nbytes
        return made


_RECENT = _Recent(MOST_KEPT_BYTES)
