"""Pictures of proofs, read beside the window and kept while there is room."""

import contextlib
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from cachetools import LRUCache
from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal
from PySide6.QtGui import QImage

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.images import to_image
from kobrel.errors import KobrelError
from kobrel.plan.model import Proof

if TYPE_CHECKING:
    from kobrel.exchange.proof.files import Kept

_MOST_SMALL, _MOST_WHOLE = 400, 8


@dataclass(frozen=True, eq=False)
class Whole:
    """A proof's picture at its own size, and the pixels behind it."""

    image: QImage
    kept: "Kept"


@guarded
class _Read(QRunnable):
    """Reads one proof in a thread of the pool."""

    def __init__(self, pictures: "Pictures", proof: Proof, whole: bool) -> None:
        super().__init__()
        self._pictures, self._proof, self._whole = pictures, proof, whole

    def run(self) -> None:
        from kobrel.exchange.proof.files import allowed_path, read_proof, small_pixels

        result: object
        try:
            if self._whole:
                kept = read_proof(allowed_path(self._proof))[1]
                result = Whole(to_image(kept.shown(self._proof)), kept)
            else:
                result = to_image(small_pixels(self._proof))
        except KobrelError as error:
            result = str(error)
        except OSError as error:
            result = f"{self._proof.path}: {error.strerror or error}"
        with contextlib.suppress(RuntimeError):  # the window has gone meanwhile
            self._pictures.read.emit(self._proof.path, self._whole, result)


class Pictures(QObject):
    """Pictures of proofs, read beside the window and kept while there is room.

    Signals
    -------
    came : a picture is there that was not before
    """

    came = Signal()
    read = Signal(str, bool, object)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._small: LRUCache[str, QImage | str] = LRUCache(_MOST_SMALL)
        self._whole: LRUCache[str, Whole | str] = LRUCache(_MOST_WHOLE)
        self._wanted: set[tuple[str, bool]] = set()
        self.read.connect(self._take)

    def small(self, proof: Proof) -> QImage | str | None:
        """A proof's small copy, why there is none, or None while it is read."""
        found: QImage | str | None = self._get(self._small, proof, whole=False)
        return found

    def whole(self, proof: Proof) -> Whole | str | None:
        """A proof at its own size, why there is none, or None while it is read."""
        found: Whole | str | None = self._get(self._whole, proof, whole=True)
        return found

    def _get(self, held: LRUCache[str, Any], proof: Proof, whole: bool) -> Any:
        found = held.get(proof.path)
        if found is None and (proof.path, whole) not in self._wanted:
            self._wanted.add((proof.path, whole))
            self._pool.start(_Read(self, proof, whole))
        return found

    def _take(self, path: str, whole: bool, result: object) -> None:
        self._wanted.discard((path, whole))
        held: LRUCache[str, Any] = self._whole if whole else self._small
        held[path] = result
        self.came.emit()

    def forget(self) -> None:
        """Read everything anew when it is next wanted."""
        self._small.clear()
        self._whole.clear()

    def close(self) -> None:
        """Wait for what is just read, and read no more."""
        self._pool.clear()
        self._pool.waitForDone(2000)
