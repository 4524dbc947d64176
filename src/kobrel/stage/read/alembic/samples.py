"""Alembic's library in a process of its own: on a damaged file it ends the process that it runs in."""

import pickle
import subprocess
import sys
import threading
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.scene import Progress, Scene

_MOST_PROCESSES = 4


class LibraryProcess:
    """Answers questions about one archive, one at a time.

    A question is a name with arguments; answers are ("progress", what, part) and at last ("done", value)
    or ("failed", why).
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = threading.Lock()
        command = [sys.executable, "-m", "kobrel.stage.read.alembic.serve", str(path)]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)

    def ask(self, question: tuple[Any, ...], progress: Progress) -> Any:
        """The answer to a question.

        Raises
        ------
        SceneError
            The file is damaged.
        """
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        with self._lock:
            try:
                pickle.dump(question, self._process.stdin)
                self._process.stdin.flush()
                while True:
                    kind, *values = pickle.load(self._process.stdout)
                    if kind == "done":
                        return values[0]
                    if kind == "failed":
                        raise SceneError(values[0], file=self._path, remedy="Export the scene again.")
                    progress(*values)
            except (EOFError, OSError, pickle.UnpicklingError):
                self.end()
                raise SceneError(
                    "not readable as Alembic, it is damaged.",
                    file=self._path,
                    remedy="Export the scene again.",
                ) from None
            except BaseException:
                self.end()  # it may still be answering
                raise

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
    scene = process_of(path).ask(("scene",), progress)
    assert isinstance(scene, Scene)
    return scene


@dataclass(frozen=True)
class Points:
    """The points of a mesh at its samples; what cannot be read any more stays as at first.

    Parameters
    ----------
    part : full name of the mesh in the archive
    seconds : of each sample
    """

    path: Path
    part: str
    seconds: tuple[float, ...]
    first: NDArray[np.float32]

    def __call__(self, number: int) -> NDArray[np.float32]:
        """(V, 3) points of a sample."""
        question = "points", self.part, self.seconds[number]
        try:
            found = process_of(self.path).ask(question, lambda _what, _part: None)
        except (SceneError, OSError):
            return self.first
        whole = isinstance(found, np.ndarray) and found.shape == self.first.shape
        return found if whole and np.isfinite(found).all() else self.first
