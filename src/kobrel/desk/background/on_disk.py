"""Notices when somebody else changes the file of the plan."""

import os
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

_SETTLE_MS = 300
_LOOK_MS = 4000
State = tuple[int, int, int] | None


def state_of(path: Path) -> State:
    """What tells one state of a file from another; None where there is none."""
    try:
        found = os.stat(path)
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size, found.st_ino


class OnDisk(QObject):
    """Watches one file.

    Signals
    -------
    changed : it is not as it was when it was read or saved
    """

    changed = Signal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._path: Path | None = None
        self._known: State = None
        self._told: State = None
        self._watcher = QFileSystemWatcher(self)
        self._settling = QTimer(self)
        self._settling.setSingleShot(True)
        self._settling.setInterval(_SETTLE_MS)
        self._settling.timeout.connect(self._look)
        self._watcher.fileChanged.connect(lambda _path: self._settling.start())
        self._now_and_then = QTimer(self)  # for file systems that tell nothing
        self._now_and_then.setInterval(_LOOK_MS)
        self._now_and_then.timeout.connect(self._look)

    def follow(self, path: Path | None) -> None:
        """Watch a file as it is now, or none."""
        if watched := self._watcher.files():
            self._watcher.removePaths(watched)
        self._path = path
        self._known = self._told = None if path is None else state_of(path)
        if path is None:
            self._now_and_then.stop()
        else:
            self._watcher.addPath(str(path))
            self._now_and_then.start()

    @property
    def is_changed(self) -> bool:
        """Whether somebody else has saved the file since."""
        found = None if self._path is None else state_of(self._path)
        return found is not None and found != self._known

    def _look(self) -> None:
        if self._path is None:
            return
        found = state_of(self._path)
        if found not in (self._known, self._told):
            self._told = found
            self.changed.emit()
        if found is not None and not self._watcher.files():
            self._watcher.addPath(str(self._path))
