"""Frames of a shot in memory, to be played at its rate: those that are missing are made in the
background, and a change throws away only the frames that it changes.
"""

import threading
from collections.abc import Callable
from dataclasses import dataclass, fields
from functools import partial

import numpy as np
from numpy.typing import NDArray

from kobrel.picture.defocus.source import FrameSource
from kobrel.picture.service import Request, Spare
from kobrel.plan.look import Finish, Light
from kobrel.plan.measure.camera import BY_FRAME, Camera
from kobrel.stage.stage import Stage

MOST_BYTES = 3 * 2**29


@dataclass(frozen=True, eq=False)
class Wanted:
    """What a cache is to hold.

    Parameters
    ----------
    camera : at the F frames
    frames : (F,) in order
    width, height : of the pictures in pixels
    passes : exact passes for each
    finished : the rendered images that are blurred, instead of the stage
    denoise : whether noise is removed, where that can be done
    """

    stage: Stage
    camera: Camera
    frames: NDArray[np.int64]
    light: Light
    width: int
    height: int
    passes: int
    finish: Finish
    finished: FrameSource | None = None
    denoise: bool = False

    @property
    def shared(self) -> tuple[object, ...]:
        """What all its frames depend on."""
        still = [getattr(self.camera, each.name) for each in fields(Camera) if each.name not in BY_FRAME]
        return (
            self.stage,
            self.light,
            self.width,
            self.height,
            self.passes,
            self.finish,
            self.finished,
            self.denoise,
            *still,
        )

    def keys(self) -> list[bytes]:
        """What each frame depends on besides."""
        count = len(self.frames)
        rows = [np.asarray(getattr(self.camera, name), float).reshape(count, -1) for name in BY_FRAME]
        return [row.tobytes() for row in np.concatenate(rows, axis=1)]

    def request(self, row: int) -> Request:
        """The picture of one of its frames."""
        return Request(
            self.stage, self.camera.frame(row), float(self.frames[row]), self.light, self.width, self.height,
            passes=self.passes, finish=self.finish, finished=self.finished,
            denoise=self.denoise,
        )  # fmt: skip


class FrameCache:
    """Pictures by frame. It may be asked and filled from different threads.

    Parameters
    ----------
    told : called, from whichever thread, when a picture has come
    most_bytes : it holds no more than that
    """

    def __init__(self, told: Callable[[], None], most_bytes: int = MOST_BYTES) -> None:
        self._told, self._most = told, most_bytes
        self._lock = threading.Lock()
        self._wanted: Wanted | None = None
        self._shared: tuple[object, ...] = ()
        self._keys: dict[int, bytes] = {}
        self._kept: dict[int, NDArray[np.uint8]] = {}
        self.made = 0

    def limit(self, most_bytes: int) -> None:
        """Hold no more than so much from now on; what is too much goes."""
        with self._lock:
            self._most = most_bytes
            while len(self._kept) > max(self._room, 0):
                self._kept.popitem()

    @property
    def size(self) -> int:
        """Bytes that it holds."""
        with self._lock:
            return sum(picture.nbytes for picture in self._kept.values())

    def want(self, wanted: Wanted) -> int:
        """Hold these frames from now on; returns how many of those held had to be thrown away."""
        shared = wanted.shared
        keys = dict(zip((int(frame) for frame in wanted.frames), wanted.keys(), strict=True))
        with self._lock:
            held = len(self._kept)
            alike = shared == self._shared
            still = {f for f, key in keys.items() if self._keys.get(f) == key} if alike else set()
            self._kept = {frame: picture for frame, picture in self._kept.items() if frame in still}
            self._wanted, self._shared, self._keys = wanted, self._shared if alike else shared, keys
            return held - len(self._kept)

    def forget(self) -> None:
        """Hold nothing."""
        with self._lock:
            self._wanted, self._shared = None, ()
            self._keys, self._kept = {}, {}

    def picture(self, frame: int) -> NDArray[np.uint8] | None:
        """The picture of a frame, or of the last one before it that is wanted; None while it is missing."""
        with self._lock:
            if frame not in self._keys:
                frame = max((f for f in self._keys if f <= frame), default=frame)
            return self._kept.get(frame)

    @property
    def filled(self) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """The frames that are wanted, (F,), and which of them are there, (F,)."""
        with self._lock:
            frames = np.fromiter(self._keys, np.int64, len(self._keys))
            return frames, np.array([frame in self._kept for frame in self._keys], bool)

    @property
    def count(self) -> int:
        """How many frames are there."""
        return len(self._kept)

    @property
    def short(self) -> bool:
        """Whether there is not room for all frames."""
        with self._lock:
            return self._room < len(self._keys)

    @property
    def _room(self) -> int:
        wanted = self._wanted
        return self._most // (3 * wanted.width * wanted.height) if wanted else 0

    def next_from(self, frame: int) -> Spare | None:
        """The next missing picture at or after a frame, and then before it; None if none is."""
        with self._lock:
            wanted = self._wanted
            if wanted is None or len(self._kept) >= self._room:
                return None
            missing = [(f < frame, f) for f in self._keys if f not in self._kept]
            if not missing:
                return None
            at = min(missing)[1]
            row = int(np.searchsorted(wanted.frames, at))
            return Spare(wanted.request(row), partial(self._put, at, self._keys[at], self._shared))

    def _put(self, frame: int, key: bytes, shared: tuple[object, ...], pixels: NDArray[np.uint8]) -> None:
        with self._lock:
            fits = self._shared is shared and self._keys.get(frame) == key
            if fits:
                self._kept[frame] = pixels
                self.made += 1
        if fits:
            self._told()
