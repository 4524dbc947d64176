"""Sequences and movies for plates: which of their frames is seen when, and its pixels."""

import re
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from kobrel import trust
from kobrel.errors import SceneError
from kobrel.files import require_file
from kobrel.stage.pictures.pixels import require_room, require_size
from kobrel.stage.plates import WHOLE, PlatePixels
from kobrel.stage.read.plates.stills import read_still
from kobrel.stage.read.rendered.frames import frames_beside, path_at

MOVIES = (".mov", ".mp4", ".mkv", ".webm", ".avi")
_KEPT = 4

_CONTAINERS = {
    "mov": re.compile(rb"....(ftyp|moov|mdat|wide|free|skip|pnot)", re.DOTALL),
    "matroska": re.compile(rb"\x1aE\xdf\xa3"),
    "avi": re.compile(rb"RIFF....AVI ", re.DOTALL),
}
"""Kinds of movies by the names of their readers, and how their files begin."""


@dataclass(frozen=True)
class Clock:
    """Which of a picture's own frames is seen at a frame of the plan.

    Parameters
    ----------
    at : frame of the plan at which it begins
    first, last : its own frames
    after : its end is held, it begins anew, or it goes back and forth
    speed : own frames for each of the plan's
    """

    at: float
    first: int
    last: int
    after: Literal["held", "looped", "turned"] = "held"
    speed: float = 1.0

    def own(self, frame: float) -> int:
        """Its own frame.

        >>> Clock(1001, 1, 4, "turned").own(1005)
        3
        """
        count = self.last - self.first + 1
        step = int(np.floor((frame - self.at) * self.speed + 1e-6))
        if self.after == "looped":
            return self.first + step % count
        if self.after == "turned" and count > 1:
            step %= 2 * count - 2
            return self.first + min(step, 2 * count - 2 - step)
        return self.first + min(max(step, 0), count - 1)


class PlayingSource:
    """Pixels that change; the last few are kept.

    Parameters
    ----------
    read : gives an own frame's pixels
    """

    plays, window = True, WHOLE

    def __init__(self, clock: Clock, read: Callable[[int], PlatePixels]) -> None:
        self._clock, self._read = clock, read
        self._kept: LRUCache[int, PlatePixels] = LRUCache(_KEPT)
        self._last = NO_PIXELS
        self._lock = threading.Lock()

    def at(self, frame: float) -> PlatePixels:
        """See :class:`kobrel.stage.plates.PlateSource`; the frame before where one cannot be read."""
        own = self._clock.own(frame)
        with self._lock:
            if own not in self._kept:
                try:
                    self._kept[own] = self._read(own)
                except SceneError:
                    return self._last
            self._last = self._kept[own]
            return self._last


NO_PIXELS = PlatePixels(np.zeros((1, 1, 4), np.uint8))


def is_movie(path: Path) -> bool:
    """Whether a file is a movie by its name."""
    return path.suffix.lower() in MOVIES


def sequence_reader(path: Path, layer: str) -> Callable[[int], PlatePixels]:
    """What reads frames of the sequence that a file is of; one that is missing is as the one before it."""
    there = frames_beside(path)

    def read(number: int) -> PlatePixels:
        before = [frame for frame in there if frame <= number] or there[:1]
        at = path_at(str(path), before[-1], True) if before else path
        return read_still(at, layer).pixels

    return read


def movie_reader(path: Path) -> Callable[[int], PlatePixels]:
    """What reads frames of a movie, counted from 0.

    Raises
    ------
    SceneError
        It cannot be read.
    """
    movie_frames(path)
    movie = _Movie(path)
    return movie.read


def movie_frames(path: Path) -> tuple[int, tuple[int, int]]:
    """How many frames a movie has, and their width and height.

    Raises
    ------
    SceneError
        It cannot be read.
    """
    import av

    try:
        with _opened(path) as container:
            stream = container.streams.video[0]
            size = int(stream.width), int(stream.height)
            require_size(*size, path)
            require_room(16.0 * size[0] * size[1], path)
            count = int(stream.frames) or sum(1 for _ in container.decode(stream))
    except (av.FFmpegError, IndexError, ValueError, OSError) as error:
        raise SceneError(
            f"the movie cannot be read ({type(error).__name__}).", file=path,
            remedy="Write it as H.264 or ProRes, or as a sequence of pictures.",
        ) from None  # fmt: skip
    return max(1, count), size


def _opened(path: Path) -> Any:
    """A movie that is open. Its kind is told by how it begins: lists of other files are none.

    Raises
    ------
    SceneError
        It may not be read, or is no movie.
    """
    import av

    if not trust.is_allowed(path):
        raise SceneError(trust.refusal(path), file=path)
    require_file(path, SceneError)
    with path.open("rb") as file:
        begins = file.read(16)
    kind = next((kind for kind, sign in _CONTAINERS.items() if sign.match(begins)), None)
    if kind is None:
        raise SceneError("not a movie.", file=path, remedy="Choose MP4, MOV, MKV or AVI.")
    return av.open(str(path), format=kind, options={"protocol_whitelist": "file"})


class _Movie:
    """Decodes onward from where it is; from the start for what lies before."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._next = 0
        self._frames: object = None
        self._container: object = None

    def read(self, number: int) -> PlatePixels:
        import av

        try:
            if self._frames is None or number < self._next:
                container = _opened(self._path)
                self._container, self._frames, self._next = container, iter(container.decode(video=0)), 0
            shown: Any = None
            while self._next <= number:
                shown = next(self._frames)  # type: ignore[call-overload]
                self._next += 1
            rgb: NDArray[np.uint8] = shown.to_ndarray(format="rgba")
        except (av.FFmpegError, StopIteration, AttributeError, ValueError, OSError):
            raise SceneError(f"frame {number} cannot be read.", file=self._path) from None
        return PlatePixels(np.ascontiguousarray(rgb))
