"""A stand-in for an outside device, as a program of its own beside the window."""

import secrets
import sys

from PySide6.QtCore import QObject, QProcess, QProcessEnvironment, Signal

from kobrel.devices.serving import ENDS_NAME, TOKEN_NAME


class DeviceProcess(QObject):
    """Starts and stops it.

    Parameters
    ----------
    name : what it is called when it goes

    Attributes
    ----------
    token : that it asks of whoever connects

    Signals
    -------
    listening : the port where it answers
    ended : why it does not run any more
    """

    listening = Signal(int)
    ended = Signal(str)

    def __init__(self, name: str, parent: QObject) -> None:
        super().__init__(parent)
        self._name = name
        self.token = secrets.token_hex(8)
        self.process = QProcess(self)
        environment = QProcessEnvironment.systemEnvironment()
        environment.insert(
            TOKEN_NAME, self.token
        )  # not among the arguments, which anybody on the machine sees
        environment.insert(ENDS_NAME, "1")  # the window may end abruptly
        self.process.setProcessEnvironment(environment)
        self.process.readyReadStandardOutput.connect(self._hear)
        self.process.finished.connect(lambda code, _status: self._end(code))

    @property
    def running(self) -> bool:
        """Whether it runs."""
        return self.process.state() != QProcess.ProcessState.NotRunning

    def run(self, arguments: list[str]) -> None:
        """Start it: arguments for Python."""
        self.process.start(sys.executable, arguments)

    def stop(self) -> None:
        """Switch it off."""
        if self.running:
            self.process.kill()
            self.process.waitForFinished(2000)

    def _hear(self) -> None:
        for line in (
            bytes(self.process.readAllStandardOutput().data()).decode("utf-8", "replace").splitlines()
        ):
            port = line.rpartition(":")[2].strip()
            if line.startswith("Listening") and port.isdigit():
                self.listening.emit(int(port))

    def _end(self, code: int) -> None:
        said = bytes(self.process.readAllStandardError().data()).decode("utf-8", "replace").strip()
        wrong = code not in (0, 9, 15) and said
        self.ended.emit(said.splitlines()[-1] if wrong else f"{self._name} stopped.")
