"""A hand-wheel at a socket: the simulated one, started beside the window, or another."""

import re

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtNetwork import QAbstractSocket, QTcpSocket

from kobrel.desk.background.devices.device import DeviceProcess
from kobrel.session.session import Session

_MOST_WAITING, _MOST_SAID, _MOST_LINE = 1 << 16, 100, 256
_MOST_LINES, _PAUSE_MS = 200, 4
"""How many lines are taken at once, and how long the window has for itself between."""
_POSITION = re.compile(r"POS ([01](?:\.\d+)?)$")


class HandWheel(QObject):
    """Listens to a hand-wheel.

    Signals
    -------
    turned : where it stands, 0 at the ring's near end and 1 at infinity
    told : how it goes, in words
    """

    turned = Signal(float)
    told = Signal(str)

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._stand_in = DeviceProcess("The hand unit", self)
        self._stand_in.listening.connect(
            lambda port: self.connect_to("127.0.0.1", port, self._stand_in.token)
        )
        self._stand_in.ended.connect(self.told)
        self._socket = QTcpSocket(self)
        self._token = ""
        self._socket.setReadBufferSize(_MOST_WAITING)
        self._socket.connected.connect(self._greet)
        self._socket.readyRead.connect(self._hear_later)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_PAUSE_MS)
        self._later.timeout.connect(self._hear)
        self._socket.errorOccurred.connect(self._fail)
        session.closing.connect(self.stop)

    @property
    def connected(self) -> bool:
        """Whether a wheel is there."""
        return self._socket.state() == QAbstractSocket.SocketState.ConnectedState

    @property
    def running(self) -> bool:
        """Whether the simulated one runs."""
        return self._stand_in.running

    def start(self) -> None:
        """Switch the simulated one on."""
        if not self._stand_in.running:
            self.told.emit("Starting hand unit…")
            self._stand_in.run(["-m", "kobrel.devices.handwheel"])

    def connect_to(self, host: str, port: int, token: str = "") -> None:
        """Listen to the wheel at an address; a simulated one asks for a token."""
        self._token = token
        self._socket.abort()
        self._socket.connectToHost(host, port)

    def stop(self) -> None:
        """Disconnect, and switch the simulated one off."""
        self._socket.abort()
        self._stand_in.stop()

    def _greet(self) -> None:
        self._socket.write(f"HELLO {self._token}".strip().encode() + b"\n")

    def _hear_later(self) -> None:
        if not self._later.isActive():
            self._later.start()

    def _hear(self) -> None:
        """Take what it has said so far; what is left waits for the next turn of the loop.

        Of many positions at once the last one counts.
        """
        position: float | None = None
        for _ in range(_MOST_LINES):
            if not self._socket.canReadLine():
                break
            line = bytes(self._socket.readLine(_MOST_LINE).data()).decode("utf-8", "replace").strip()
            found = _POSITION.match(line)
            if found and float(found[1]) <= 1.0:
                position = float(found[1])
            elif line.startswith("WHEEL"):
                self.told.emit(f"{line.removeprefix('WHEEL ')[:_MOST_SAID]} connected.")
        if position is not None:
            self.turned.emit(position)
        if self._socket.canReadLine():
            self._later.start()
        elif self._socket.bytesAvailable() >= _MOST_WAITING:
            self._socket.abort()
            self.told.emit("The device is not a hand unit.")

    def _fail(self, _error: QAbstractSocket.SocketError) -> None:
        self.told.emit(f"The hand unit does not answer ({self._socket.errorString()}).")
