"""Which plan is open in which window of this person's: each window answers for its own."""

import hashlib
import os
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtNetwork import QLocalServer, QLocalSocket

_WAIT_MS = 300
_SHOW = b"show"


def _name(path: Path) -> str:
    """What a window listens to that has a plan open."""
    text = f"{os.getuid()} {path.resolve()}"
    return f"kobrel-{hashlib.sha256(text.encode()).hexdigest()[:24]}"


class OtherWindows(QObject):
    """Which plan is open in which window of this person's: each window answers for its own.

    Signals
    -------
    wanted : somebody asks for this window
    """

    wanted = Signal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._server: QLocalServer | None = None

    def follow(self, path: Path | None) -> None:
        """Answer for a plan from now on, or for none."""
        if self._server is not None:
            self._server.close()
            self._server.deleteLater()
        self._server = None
        if path is None or self.has(path):
            return
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        QLocalServer.removeServer(_name(path))  # a crash may have left it
        self._server.newConnection.connect(self._answer)
        self._server.listen(_name(path))

    def _answer(self) -> None:
        socket = self._server.nextPendingConnection() if self._server is not None else None
        if socket is not None:
            socket.readyRead.connect(lambda: self._hear(socket))
            socket.disconnected.connect(socket.deleteLater)

    def _hear(self, socket: QLocalSocket) -> None:
        if bytes(socket.readAll().data()) == _SHOW:
            self.wanted.emit()

    def has(self, path: Path) -> bool:
        """Whether another window has a plan open."""
        return self._say(path, b"")

    def show(self, path: Path) -> bool:
        """Ask the window that has a plan open to come to the front; whether there is one."""
        return self._say(path, _SHOW)

    @staticmethod
    def _say(path: Path, what: bytes) -> bool:
        socket = QLocalSocket()
        socket.connectToServer(_name(path))
        if not socket.waitForConnected(_WAIT_MS):
            return False
        if what:
            socket.write(what)
            socket.waitForBytesWritten(_WAIT_MS)
        socket.disconnectFromServer()
        return True
