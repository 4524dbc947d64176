"""Keeps unsaved work in a journal, with a picture of it, beside the window."""

import time
from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, QObject, Qt, Signal
from PySide6.QtGui import QImage

from kobrel.desk.background.jobs import Job
from kobrel.session.journal.autosave import Autosave, find_left
from kobrel.session.journal.file import Left
from kobrel.session.session import Session
from kobrel.stage.scene import Progress

PICTURE_PX = 320
_PICTURE_EVERY_S = 8.0


class Safekeeping(QObject):
    """The journal of the session, where its settings have a folder for it.

    Signals
    -------
    told : a sentence when the journal cannot be written, or the plan is open elsewhere too
    found : unsaved work that was left, and which journals cannot be read
    """

    told = Signal(str)
    found = Signal(list, list)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.folder = session.settings.state
        self._autosave = None if self.folder is None else Autosave(session, self.folder, self.told.emit)
        self._pictured_at = 0.0
        session.closing.connect(self.close)

    def look_for(self, plans: list[Path], leaving_out: Path | None) -> None:
        """Look for unsaved work that was left, also beside some plans, but not that of one."""
        folder = self.folder
        if folder is None:
            return

        def look(_progress: Progress) -> tuple[list[Left], list[str]]:
            return find_left(folder, plans, leaving_out)

        job = Job(look, self)
        job.done.connect(lambda result: self.found.emit(*result))
        job.start()

    def begin(self, path: Path | None, source: str) -> None:
        """Another plan is in work."""
        self._pictured_at = 0.0
        if self._autosave is not None:
            self._autosave.begin(path, source)

    def move(self, path: Path) -> None:
        """The plan was saved there."""
        if self._autosave is not None:
            self._autosave.move(path)

    def end(self) -> None:
        """The plan is left, saved or given up."""
        if self._autosave is not None:
            self._autosave.end()

    def flush(self) -> bool:
        """See that all is on disk, within a moment; whether it is."""
        return self._autosave is not None and self._autosave.flush(1.0)

    def show_picture(self, image: QImage) -> None:
        """Keep a picture of unsaved work, now and then."""
        if self._autosave is None or self._session.history.is_saved or image.isNull():
            return
        now = time.monotonic()
        if now - self._pictured_at > _PICTURE_EVERY_S:
            self._pictured_at = now
            self._autosave.show_picture(as_jpeg(image))

    @property
    def keeps(self) -> bool:
        """Whether unsaved work is on disk within a moment."""
        return self._autosave is not None and not self._autosave.broken

    def close(self) -> None:
        """The window goes."""
        if self._autosave is not None:
            self._autosave.close()


def as_jpeg(image: QImage) -> bytes:
    """A small picture as bytes."""
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    small = image.scaledToWidth(PICTURE_PX, Qt.TransformationMode.SmoothTransformation)
    small.save(buffer, "JPG", 85)  # type: ignore[call-overload]
    return bytes(buffer.data().data())
