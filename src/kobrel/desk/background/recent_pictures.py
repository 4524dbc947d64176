"""Small pictures of the files that were open lately, for the start page."""

import hashlib
import time
from contextlib import suppress
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QImage

from kobrel.session.settings import Settings

SIZE = (208, 117)
_AGAIN_S, _MOST = 20.0, 24


class RecentPictures:
    """Keeps a picture a file, in the folder of states; without one it keeps none."""

    def __init__(self, settings: Settings) -> None:
        self._folder = settings.state / "recent" if settings.state is not None else None
        self._kept_at = (Path(), 0.0)

    def _place(self, file: Path) -> Path | None:
        name = hashlib.sha1(str(file.absolute()).encode(), usedforsecurity=False).hexdigest()
        return self._folder / f"{name}.jpg" if self._folder is not None else None

    def keep(self, file: Path, image: QImage) -> None:
        """Keep a picture of a file, now and then."""
        place, (last, at) = self._place(file), self._kept_at
        if place is None or (last == file and time.monotonic() - at < _AGAIN_S):
            return
        self._kept_at = (file, time.monotonic())
        small = image.scaled(
            2 * SIZE[0], 2 * SIZE[1], Qt.AspectRatioMode.KeepAspectRatio,
            Qt.TransformationMode.SmoothTransformation,
        )  # fmt: skip
        with suppress(OSError):  # the start page then shows the name alone
            place.parent.mkdir(parents=True, exist_ok=True)
            small.save(str(place), "JPG", 85)  # type: ignore[call-overload]
            for old in sorted(place.parent.glob("*.jpg"), key=lambda file: -file.stat().st_mtime)[_MOST:]:
                old.unlink(missing_ok=True)

    def of(self, file: Path) -> QImage | None:
        """The picture of a file, if one was kept."""
        place = self._place(file)
        image = QImage(str(place)) if place is not None and place.exists() else QImage()
        return None if image.isNull() else image
