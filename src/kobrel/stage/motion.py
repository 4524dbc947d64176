"""Values and transforms over time, evaluated for many frames at once.

Transforms are column-vector matrices: a point p goes to ``M @ p``.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]
OpKind = Literal["matrix", "translate", "scale", "rotate", "quaternion"]


def eased(u: Array, smooth: NDArray[np.bool_]) -> Array:
    """How far a move has come at the part u of its time: even, or smooth (3u² - 2u³)."""
    return np.where(smooth, u * u * (3.0 - 2.0 * u), u)


@dataclass(frozen=True)
class Track:
    """Samples of a value over time, linear between them and held beyond them.

    Parameters
    ----------
    times : (K,) frames, rising
    values : (K, ...) one value a time
    smooth : (K,) whether the way on from each sample starts and ends gently; None is never
    held : each value stays until the next one
    tangents : (K, 2, ...) slopes a frame before and after each sample, for cubic splines
    half : each step between samples is rounded to 16 bits, as USD does for such values
    """

    times: Array
    values: Array
    smooth: NDArray[np.bool_] | None = None
    held: bool = False
    tangents: Array | None = None
    half: bool = False

    @classmethod
    def constant(cls, value: ArrayLike) -> "Track":
        """A value that never changes."""
        return cls(np.zeros(1), np.asarray(value, dtype=float)[None])

    @property
    def moves(self) -> bool:
        """Whether any two samples differ."""
        if len(self.times) == 1:
            return False
        curved = self.tangents is not None and bool(np.any(self.tangents))
        return curved or bool(np.any(self.values != self.values[:1]))

    def at(self, frames: ArrayLike) -> Array:
        """Values at frames: (F, ...); constants come back as (1, ...), ready to broadcast."""
        if len(self.times) == 1:
            return self.values
        low, part = self.bracket(frames)
        part = part.reshape((-1,) + (1,) * (self.values.ndim - 1))
        first, second = self.values[low], self.values[low + 1]
        if self.held:
            return np.where(part == 1, second, first)
        if self.tangents is not None:
            return self._spline(low, part)
        if self.half:
            parts = ((1 - part) * first).astype(np.float16), (part * second).astype(np.float16)
            return np.asarray(parts[0] + parts[1], float)
        with np.errstate(invalid="ignore"):  # a focus may be at infinity
            between = first * (1 - part) + second * part
        return np.where((part == 0) | (first == second), first, between)

    def _spline(self, low: NDArray[np.intp], t: Array) -> Array:
        """Hermite's cubic through the samples (glTF 2.0, appendix C)."""
        assert self.tangents is not None
        span = (self.times[low + 1] - self.times[low]).reshape(t.shape)
        square, cube = t * t, t * t * t
        return np.asarray(
            (2 * cube - 3 * square + 1) * self.values[low]
            + span * (cube - 2 * square + t) * self.tangents[low, 1]
            + (3 * square - 2 * cube) * self.values[low + 1]
            + span * (cube - square) * self.tangents[low + 1, 0]
        )

    def bracket(self, frames: ArrayLike) -> tuple[NDArray[np.intp], Array]:
        """For frames (F,) the sample before each and the part of the way to the next one."""
        at = np.clip(np.atleast_1d(np.asarray(frames, dtype=float)), self.times[0], self.times[-1])
        low = np.clip(np.searchsorted(self.times, at, side="right") - 1, 0, len(self.times) - 2)
        part = (at - self.times[low]) / (self.times[low + 1] - self.times[low])
        return low, part if self.smooth is None else eased(part, self.smooth[low])

    def slerp_at(self, frames: ArrayLike) -> Array:
        """Quaternions (w, x, y, z) at frames, turned evenly along the shorter arc; those of splines are
        not of unit length.
        """
        if len(self.times) == 1 or self.held or self.tangents is not None:
            return self.at(frames)
        low, part = self.bracket(frames)
        first, second = self.values[low], self.values[low + 1]
        dot = np.sum(first * second, axis=-1, keepdims=True)
        second = np.where(dot < 0, -second, second)
        angle = np.arccos(np.clip(np.abs(dot), 0.0, 1.0))
        small = angle < 1e-6
        safe = np.where(small, 1.0, np.sin(angle))
        t = part.reshape((-1,) + (1,) * (self.values.ndim - 1))
        first_weight = np.where(small, 1 - t, np.sin((1 - t) * angle) / safe)
        second_weight = np.where(small, t, np.sin(t * angle) / safe)
        return first * first_weight + second * second_weight


@dataclass(frozen=True)
class TransformOp:
    """One step of a node's transform, as scene files keep them.

    `track` holds (4, 4) matrices, (3,) vectors, quaternions (w, x, y, z), or for
    ``rotate`` angles in degrees: one, or three about X, Y and Z; `axes` names the order, the
    first turned first.
    """

    kind: OpKind
    track: Track
    axes: str = ""
    inverse: bool = False

    def matrices(self, frames: ArrayLike) -> Array:
        """(F, 4, 4), or (1, 4, 4) where nothing moves."""
        result = self._forward(frames)
        return np.asarray(np.linalg.inv(result), float) if self.inverse else result

    def _forward(self, frames: ArrayLike) -> Array:
        if self.kind == "quaternion":
            return from_quaternions(self.track.slerp_at(frames))
        values = self.track.at(frames)
        if self.kind == "matrix":
            return values
        result = _unmoved(values.shape[:-1])
        if self.kind == "translate":
            result[..., :3, 3] = values
        elif self.kind == "scale":
            result[..., [0, 1, 2], [0, 1, 2]] = values
        else:
            for axis in self.axes:
                angle = values[..., "XYZ".index(axis)] if len(self.axes) == 3 else values[..., 0]
                result = _about(axis, np.radians(angle)) @ result
        return result

    @property
    def form(self) -> tuple[object, ...]:
        """What operations have in common that can be worked out together: all but their values."""
        track = self.track
        smooth = None if track.smooth is None else track.smooth.tobytes()
        times = track.times.tobytes() if len(track.times) > 1 else b""
        splined = track.tangents is not None
        return (
            self.kind,
            self.axes,
            self.inverse,
            track.values.shape,
            times,
            smooth,
            track.held,
            splined,
            track.half,
        )


def _unmoved(shape: tuple[int, ...]) -> Array:
    """(..., 4, 4) transforms that change nothing."""
    result = np.zeros((*shape, 4, 4))
    result[..., range(4), range(4)] = 1.0
    return result


def _about(axis: str, angle: Array) -> Array:
    first, second = {"X": (1, 2), "Y": (2, 0), "Z": (0, 1)}[axis]
    result = _unmoved(angle.shape)
    result[..., first, first] = result[..., second, second] = np.cos(angle)
    result[..., second, first] = np.sin(angle)
    result[..., first, second] = -np.sin(angle)
    return result


def from_quaternions(q: Array) -> Array:
    """Turns by quaternions (..., 4), w first and of any length, as matrices (..., 4, 4)."""
    w, x, y, z = np.moveaxis(q / np.linalg.norm(q, axis=-1, keepdims=True), -1, 0)
    result = np.zeros((*q.shape[:-1], 4, 4))
    result[..., 3, 3] = 1.0
    result[..., :3, :3] = np.stack(
        [
            np.stack([1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)], -1),
            np.stack([2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)], -1),
            np.stack([2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)], -1),
        ],
        axis=-2,
    )
    return result


@dataclass(frozen=True)
class Motion:
    """A node's local transform: its steps, the last applied to a point first."""

    ops: tuple[TransformOp, ...] = field(default=())

    @property
    def moves(self) -> bool:
        """Whether the transform changes over time."""
        return any(op.track.moves for op in self.ops)

    @property
    def form(self) -> tuple[object, ...]:
        """See :attr:`TransformOp.form`."""
        return tuple(op.form for op in self.ops)

    def matrices(self, frames: ArrayLike) -> Array:
        """(F, 4, 4), or (1, 4, 4) where nothing moves; (F, N, 4, 4) for :func:`together`."""
        if not self.ops:
            return np.eye(4)[None]
        result = self.ops[-1].matrices(frames)
        for op in reversed(self.ops[:-1]):
            if op.kind == "translate" and not op.inverse:  # cheaper than to multiply
                shift = op.track.at(frames)
                shape = np.broadcast_shapes(shift.shape[:-1], result.shape[:-2])
                result = np.array(np.broadcast_to(result, (*shape, 4, 4)))
                result[..., :3, 3] += shift
            else:
                result = op.matrices(frames) @ result
        return result


def together(motions: Sequence[Motion]) -> Motion:
    """Motions of one form as a single one, whose values have an axis more for them: (K, N, ...)."""
    return Motion(tuple(_stacked(ops) for ops in zip(*(motion.ops for motion in motions), strict=True)))


def _stacked(ops: Sequence[TransformOp]) -> TransformOp:
    track = ops[0].track
    values = np.stack([op.track.values for op in ops], axis=1)
    tangents = [op.track.tangents for op in ops if op.track.tangents is not None]
    stacked = replace(track, values=values, tangents=np.stack(tangents, axis=2) if tangents else None)
    return replace(ops[0], track=stacked)


def matrix_motion(matrix: ArrayLike) -> Motion:
    """A transform that stands still."""
    return Motion((TransformOp("matrix", Track.constant(matrix)),))


def rigid(matrices: Array) -> Array:
    """The same places and directions without scale or shear, for (..., 4, 4) poses of cameras.

    The view axis (third column) keeps its direction; the others are squared up to it.
    """
    back = _unit(matrices[..., :3, 2])
    up = matrices[..., :3, 1]
    right = _unit(np.cross(up, back))
    result = np.array(matrices, dtype=float)
    result[..., :3, 0], result[..., :3, 1], result[..., :3, 2] = right, np.cross(back, right), back
    return result


def _unit(vectors: Array) -> Array:
    length = np.linalg.norm(vectors, axis=-1, keepdims=True)
    return vectors / np.where(length > 0, length, 1.0)
