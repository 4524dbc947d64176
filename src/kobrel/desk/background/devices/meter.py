"""The simulated laser meter, started beside the window with the plan as it is."""

import tempfile
from pathlib import Path

from PySide6.QtCore import QObject

from kobrel.desk.background.devices.device import DeviceProcess
from kobrel.plan.model import SUFFIX
from kobrel.session.session import Session


class SimulatedMeterProcess(DeviceProcess):
    """Measures in the session's stage at its frame."""

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__("The simulated meter", parent)
        self._session = session
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self.ended.connect(self._clear)

    def start(self) -> None:
        """Switch it on."""
        from kobrel.plan.file import files_of, save_plan

        session = self._session
        if session.shot is None:
            return
        self._folder = tempfile.TemporaryDirectory(prefix="kobrel-meter-")
        path = Path(self._folder.name) / f"scene{SUFFIX}"
        save_plan(session.plan, path)
        also = [part for name in files_of(session.plan) for part in ("--also", str(Path(name).parent))]
        self.run(["-m", "kobrel", "rangefinder", str(path), "--frame", str(session.frame), *also])

    def _clear(self) -> None:
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
