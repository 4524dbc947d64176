"""The simulated laser meter as a program of its own, started beside the window."""

import sys
import tempfile
from pathlib import Path

from PySide6.QtCore import QObject, QProcess, Signal

from kobrel.desk.session import Session
from kobrel.plan.model import SUFFIX


class SimulatedMeterProcess(QObject):
    """Starts and stops it with the plan as it is now.

    Signals
    -------
    listening : the port where it answers
    ended : why it does not run any more
    """

    listening = Signal(int)
    ended = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self.process = QProcess(self)
        self.process.readyReadStandardOutput.connect(self._hear)
        self.process.finished.connect(lambda code, _status: self._end(code))

    def start(self) -> None:
        """Switch it on."""
        from kobrel.plan.file import save_plan

        session, shot = self._session, self._session.shot
        if shot is None:
            return
        self._folder = tempfile.TemporaryDirectory(prefix="kobrel-meter-")
        path = Path(self._folder.name) / f"scene{SUFFIX}"
        save_plan(session.plan, path)
        arguments = ["-m", "kobrel", "rangefinder", str(path), "--frame", str(session.frame)]
        self.process.start(sys.executable, arguments)

    def stop(self) -> None:
        """Switch it off."""
        if self.process.state() != QProcess.ProcessState.NotRunning:
            self.process.kill()
            self.process.waitForFinished(2000)

    def _hear(self) -> None:
        for line in (
            bytes(self.process.readAllStandardOutput().data()).decode("utf-8", "replace").splitlines()
        ):
            port = line.rpartition(":")[2].strip()
            if line.startswith("Listening") and port.isdigit():
                self.listening.emit(int(port))
                self._session.changed.emit()

    def _end(self, code: int) -> None:
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
        said = bytes(self.process.readAllStandardError().data()).decode("utf-8", "replace").strip()
        wrong = code not in (0, 9, 15) and said
        self.ended.emit(said.splitlines()[-1] if wrong else "The simulated meter is off.")
        self._session.changed.emit()
