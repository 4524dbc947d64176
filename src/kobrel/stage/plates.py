"""Flat pictures that stand on the stage: their pixels over time, and how far they are seen through."""

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from kobrel.stage.motion import Array, Track

STRETCHED, MIRRORED, REPEATED = 0, 1, 2
"""What is seen beyond a picture's edges."""
BYTES, HALVES = 1, 2
"""How pixels are kept: sRGB bytes, or halves in linear light; both with straight alpha."""
BLOCK, CLEAR, SOLID, MIXED = 16, 0, 1, 2
"""Pixels across a block, and what its alpha can be."""
NEVER_SOLID = 1 << 40
"""A triangle that no mesh has: none of a plate is wholly there."""
_AT_WALL = 0.06
"""How far from a wall of its box a speck is whole, in parts of the box."""
_SQUARE = np.array([[-1.0, -1.0, 0.0], [1.0, -1.0, 0.0], [1.0, 1.0, 0.0], [-1.0, 1.0, 0.0]])
Rgba = NDArray[np.uint8] | NDArray[np.float16]
Window = tuple[float, float, float, float]
"""Left, top, right and bottom of a part of a picture, in parts of its width and height."""
WHOLE: Window = (0.0, 0.0, 1.0, 1.0)


@dataclass(frozen=True, eq=False)
class PlatePixels:
    """A picture in memory.

    Parameters
    ----------
    rgba : (H, W, 4), the top row first, alpha straight: uint8 in sRGB, or float16 in linear light
    """

    rgba: Rgba

    @property
    def layout(self) -> int:
        """:data:`BYTES` or :data:`HALVES`."""
        return BYTES if self.rgba.dtype == np.uint8 else HALVES

    @cached_property
    def blocks(self) -> NDArray[np.uint8]:
        """What alpha is in each block of :data:`BLOCK` pixels a side and a pixel about it, (h, w):
        :data:`CLEAR`, :data:`SOLID` or :data:`MIXED`. Most rays are settled by it.
        """
        alpha = self.rgba[..., 3]
        low, high = (_in_blocks(part, fold) for part, fold in ((alpha, np.minimum), (alpha, np.maximum)))
        whole = 255 if self.layout == BYTES else 1.0
        result = np.full(low.shape, MIXED, np.uint8)
        result[high <= 0], result[low >= whole] = CLEAR, SOLID
        return result

    @property
    def width(self) -> int:
        """Pixels across."""
        return int(self.rgba.shape[1])

    @property
    def height(self) -> int:
        """Pixels down."""
        return int(self.rgba.shape[0])


def _in_blocks(values: NDArray[Any], fold: np.ufunc) -> NDArray[Any]:
    """The least or the largest value in each block and a pixel about it."""
    height, width = values.shape
    rows, columns = np.arange(0, height, BLOCK), np.arange(0, width, BLOCK)
    across = fold.reduceat(values, columns, axis=1)
    across[:, 1:] = fold(across[:, 1:], values[:, columns[1:] - 1])
    across[:, :-1] = fold(across[:, :-1], values[:, columns[1:]])
    result = fold.reduceat(across, rows, axis=0)
    result[1:] = fold(result[1:], across[rows[1:] - 1])
    result[:-1] = fold(result[:-1], across[rows[1:]])
    return result


class PlateSource(Protocol):
    """Pixels over time; the same only if it is the very same."""

    def __hash__(self) -> int:
        """Of itself."""

    @property
    def plays(self) -> bool:
        """Whether they change."""

    @property
    def window(self) -> Window:
        """What of the whole picture they are."""

    def at(self, frame: float) -> PlatePixels:
        """The picture at a frame."""


@dataclass(frozen=True, eq=False)
class StillSource:
    """A picture that does not change."""

    pixels: PlatePixels
    window: Window = WHOLE
    plays: bool = False

    def at(self, _frame: float) -> PlatePixels:
        """See :class:`PlateSource`."""
        return self.pixels


@dataclass(frozen=True, eq=False)
class Drift:
    """Corners of small squares that drift through a box; what leaves it comes in again at the other side,
    and is small at its walls, so that none comes or goes at once. See :class:`kobrel.stage.deform.Source`.

    Parameters
    ----------
    start : (N, 3) where their middles are at frame 0, in parts of the box
    step : (N, 3) how far each goes in a frame, in parts of the box
    low, size : (3,) the box
    half : (N,) half the side of each square
    """

    start: Array
    step: Array
    low: Array
    size: Array
    half: Array
    moves: bool = True

    def _corners(self, frames: Array, which: NDArray[np.intp]) -> Array:
        """(F, n, 4, 3) the corners of some squares."""
        part = (self.start[which] + self.step[which] * np.asarray(frames, float)[:, None, None]) % 1.0
        drifts = np.any(self.step[which] != 0, axis=0)
        wall = np.where(drifts, np.minimum(part, 1.0 - part), 1.0).min(axis=-1)
        half = self.half[which] * np.clip(wall / _AT_WALL, 0.0, 1.0)
        middle = self.low + part * self.size
        result: Array = middle[:, :, None, :] + half[..., None, None] * _SQUARE
        return result

    def whole(self, frame: float) -> NDArray[np.float32]:
        """(4 N, 3) all corners at a frame."""
        every = self._corners(np.array([frame]), np.arange(len(self.start)))
        return every.reshape(-1, 3).astype(np.float32)

    def some(self, frames: Array, vertices: NDArray[np.intp]) -> Array:
        """(F, n, 3) some corners at frames."""
        return self._corners(frames, vertices // 4)[:, np.arange(len(vertices)), vertices % 4]


class Eye(NamedTuple):
    """The camera as plates know it: its pose (4, 4), focus in dioptres, and pixels of blur at delivery for
    each dioptre off; 0 where blur is not of that kind.
    """

    pose: Array
    focus_dpt: float
    px_per_dpt: float

    @property
    def key(self) -> tuple[bytes, float, float]:
        """What tells it from others."""
        return self.pose.tobytes(), self.focus_dpt, self.px_per_dpt


class FadeRule(NamedTuple):
    """Opacity that follows blur in pixels or distance in metres: whole up to one value, gone from another
    on; the other way round where the first is larger.
    """

    by: Literal["blur", "distance"]
    whole: float
    gone: float

    def opacity(self, eye: Eye, depth_m: float) -> float:
        """Of a plate so far along the axis, 0 to 1."""
        value = depth_m
        if self.by == "blur":
            value = abs(eye.focus_dpt - 1.0 / max(depth_m, 1e-6)) * eye.px_per_dpt
        span = self.gone - self.whole
        if span == 0:
            return float(value <= self.whole)
        return float(np.clip(1.0 - (value - self.whole) / span, 0.0, 1.0))


@dataclass(frozen=True, eq=False)
class PlateFace:
    """What a plate's surface shows.

    Parameters
    ----------
    source : its pixels
    opacity : (K, 1), 0 to 1
    faces : whether it is turned parallel to the camera's sensor
    roll : (K, 1) degrees about its own axis, where it faces the camera
    beyond : what is seen beyond its edges, one of those above
    local : (4, 4) from its mesh to the space whose origin is its pivot
    solid_from : triangle of its mesh from which on it is wholly there
    """

    source: PlateSource
    opacity: Track
    faces: bool
    roll: Track
    fade: FadeRule | None = None
    beyond: int = STRETCHED
    local: Array = field(default_factory=lambda: np.eye(4))
    solid_from: int = NEVER_SOLID

    @property
    def changes(self) -> bool:
        """Whether its picture or its opacity changes over time."""
        return self.source.plays or self.opacity.moves or (self.faces and self.roll.moves)

    @property
    def needs_eye(self) -> bool:
        """Whether it depends on the camera."""
        return self.faces or self.fade is not None

    def opacity_at(self, frame: float, matrix: Array, eye: Eye | None) -> float:
        """How much of the light it stops at a frame, where its mesh stands so (4, 4)."""
        own = float(np.clip(self.opacity.at([frame])[0, 0], 0.0, 1.0))
        if self.fade is None or eye is None:
            return own
        pivot = (matrix @ np.linalg.inv(self.local))[:3, 3]
        depth = float((eye.pose[:3, 3] - pivot) @ eye.pose[:3, 2])
        return own * self.fade.opacity(eye, depth)

    def turned(self, frame: float, matrix: Array, eye: Eye) -> Array:
        """The place of its mesh (4, 4) turned parallel to the sensor; its size and pivot stay."""
        stands = matrix @ np.linalg.inv(self.local)
        size = np.linalg.norm(stands[:3, :3], axis=0)
        roll = np.radians(float(self.roll.at([frame])[0, 0]))
        spin = np.array(
            [[np.cos(roll), -np.sin(roll), 0.0], [np.sin(roll), np.cos(roll), 0.0], [0.0, 0.0, 1.0]]
        )
        stands[:3, :3] = eye.pose[:3, :3] @ spin * size
        return np.asarray(stands @ self.local)
