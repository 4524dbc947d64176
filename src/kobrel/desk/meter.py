"""The simulated laser meter, started beside the window with the plan as it is."""

import tempfile
from pathlib import Path

from kobrel.desk.device import DeviceProcess
from kobrel.desk.session import Session
from kobrel.plan.model import SUFFIX


class SimulatedMeterProcess(DeviceProcess):
    """Measures in the session's stage at its frame."""

    def __init__(self, session: Session) -> None:
        super().__init__("The simulated meter", session)
        self._session = session
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self.listening.connect(lambda _port: session.changed.emit())
        self.ended.connect(self._clear)

    def start(self) -> None:
        """Switch it on."""
        from kobrel.plan.file import save_plan

        session, shot = self._session, self._session.shot
        if shot is None:
            return
        self._folder = tempfile.TemporaryDirectory(prefix="kobrel-meter-")
        path = Path(self._folder.name) / f"scene{SUFFIX}"
        save_plan(session.plan, path)
        self.run(["-m", "kobrel", "rangefinder", str(path), "--frame", str(session.frame)])

    def _clear(self) -> None:
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
        self._session.changed.emit()
