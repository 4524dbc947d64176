"""Alembic's library in a process of its own: on a damaged file it ends the process that it runs in."""

import json
import os
import select
import subprocess
import sys
import threading
from dataclasses import dataclass, replace
from functools import cache, partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel import notices
from kobrel.errors import SceneError
from kobrel.stage.deform import Deformation, Sampled
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.read.alembic.wire import unpacked
from kobrel.stage.scene import CameraSource, Mesh, Node, Progress, Scene

_MOST_PROCESSES = 4
_SILENT_S, _LOOK_S = 60.0, 0.1
_MOST_BYTES = 8 << 30
CENTIMETRE = 0.01
"""What a unit of an archive is taken for, in metres."""


@dataclass(frozen=True)
class Found:
    """What an archive holds, in centimetres."""

    nodes: tuple[Node, ...]
    cameras: tuple[CameraSource, ...]
    fps: float
    first_frame: int | None
    last_frame: int | None
    warnings: tuple[str, ...]


class LibraryProcess:
    """Answers questions about one archive, one at a time.

    A question is a line of JSON, a list of a name and arguments. Answers are messages of
    :mod:`kobrel.stage.read.alembic.wire`: ("progress", what, part), then ("done", value) or ("failed", why).
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._parts = {kind.__name__: kind for kind in _PARTS} | {"Points": partial(Points, path=path)}
        self._lock = threading.Lock()
        command = [sys.executable, "-m", "kobrel.stage.read.alembic.serve", str(path)]
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )

    def ask(self, question: tuple[Any, ...], progress: Progress) -> Any:
        """The answer to a question.

        Raises
        ------
        SceneError
            The file is damaged: the process ended, or said nothing for long.
        Cancelled
            `progress` asked to stop.
        """
        assert self._process.stdin is not None
        with self._lock:
            try:
                self._process.stdin.write(json.dumps(question).encode() + b"\n")
                self._process.stdin.flush()
                while True:
                    kind, *values = self._answer(progress)
                    if kind == "done":
                        return values[0]
                    if kind == "failed":
                        raise SceneError(str(values[0]), file=self._path, remedy="Export the scene again.")
                    what, part = values
                    progress(str(what), float(part))
            except (EOFError, OSError, ValueError, TypeError, LookupError, AttributeError):
                self.end()
                raise SceneError(
                    "not readable as Alembic, it is damaged.",
                    file=self._path,
                    remedy="Export the scene again.",
                ) from None
            except BaseException:
                self.end()  # it may still be answering
                raise

    def _answer(self, progress: Progress) -> Any:
        return unpacked(lambda count: self._bytes(count, progress), self._parts, _MOST_BYTES)

    def _bytes(self, count: int, progress: Progress) -> bytes:
        """So many bytes of what it says; meanwhile `progress` may ask to stop."""
        assert self._process.stdout is not None
        handle, heard, silent = self._process.stdout.fileno(), bytearray(), 0.0
        while len(heard) < count:
            if select.select([handle], [], [], _LOOK_S)[0]:
                more = os.read(handle, min(count - len(heard), 1 << 20))
                if not more:
                    raise EOFError
                heard += more
                silent = 0.0
            else:
                silent += _LOOK_S
                progress(f"Reading {self._path.name}", 0.0)
                if silent > _SILENT_S:
                    raise EOFError
        return bytes(heard)

    def end(self) -> None:
        """End the process."""
        self._process.kill()
        self._process.wait()
        _process_of.cache_clear()

    def __del__(self) -> None:
        self._process.kill()
        self._process.wait()


@cache
def _process_of(path: Path, _changed: float) -> LibraryProcess:
    return LibraryProcess(path)


def process_of(path: Path) -> LibraryProcess:
    """The process that reads a file as it is now; those of older ones end with their last answer."""
    if _process_of.cache_info().currsize >= _MOST_PROCESSES:
        _process_of.cache_clear()
    return _process_of(path, path.stat().st_mtime)


def load_alembic(path: Path, progress: Progress) -> Scene:
    """Read an Alembic scene, its unit taken as a centimetre.

    Parameters
    ----------
    path : the file
    progress : told how far it is; may raise to cancel

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    progress(f"Opening {path.name}", 0.0)
    found = process_of(path).ask(("scene",), progress)
    if not isinstance(found, Found):
        raise SceneError(
            "not readable as Alembic, it is damaged.", file=path, remedy="Export the scene again."
        )
    return Scene(
        path,
        found.nodes,
        found.cameras,
        unit_m=CENTIMETRE,
        fps=found.fps,
        first_frame=found.first_frame,
        last_frame=found.last_frame,
        warnings=found.warnings,
        cameras_in=partial(_in_unit, found.cameras),
        says_unit=False,
        says_up=False,
    )


def _in_unit(cameras: tuple[CameraSource, ...], unit_m: float) -> tuple[tuple[CameraSource, ...], list[str]]:
    """Cameras that were read in centimetres, with metres in one unit."""
    by = unit_m / CENTIMETRE

    def scaled(camera: CameraSource) -> CameraSource:
        focus = camera.focus_m
        focus = None if focus is None else replace(focus, values=focus.values * by)
        return replace(camera, focus_m=focus, near_clip_m=camera.near_clip_m * by)

    return tuple(map(scaled, cameras)), []


@dataclass(frozen=True)
class Points:
    """The points of a mesh at its samples; what cannot be read any more stays as at first.

    Parameters
    ----------
    part : full name of the mesh in the archive
    seconds : of each sample
    path : of the archive
    """

    part: str
    seconds: tuple[float, ...]
    first: NDArray[np.float32]
    path: Path = Path()

    def __call__(self, number: int) -> NDArray[np.float32]:
        """(V, 3) points of a sample."""
        question = "points", self.part, self.seconds[number]
        try:
            found = process_of(self.path).ask(question, lambda _what, _part: None)
        except (SceneError, OSError) as error:
            notices.tell(f"{self.part}: some of its points cannot be read; it stays as at first. {error}")
            return self.first
        whole = isinstance(found, np.ndarray) and found.shape == self.first.shape
        return found if whole and np.isfinite(found).all() else self.first


_PARTS = (Found, Node, Mesh, Motion, TransformOp, Track, CameraSource, Deformation, Sampled)
