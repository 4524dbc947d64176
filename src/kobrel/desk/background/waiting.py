"""Work that has to be over before what comes next, without the window standing still."""

import threading
from collections.abc import Callable

from PySide6.QtCore import QEventLoop, QObject, Signal


class Waiting(QObject):
    """Runs work in a thread; meanwhile the window paints, but takes no input.

    Attributes
    ----------
    error : what the work raised
    """

    _ended = Signal()

    def __init__(self, work: Callable[[], object]) -> None:
        super().__init__()
        self._work = work
        self.error: BaseException | None = None

    def run(self) -> None:
        """Work, and return when it is over."""
        loop = QEventLoop()
        self._ended.connect(loop.quit)
        thread = threading.Thread(target=self._run, name="kobrel-waiting", daemon=True)
        thread.start()
        loop.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)

    def _run(self) -> None:
        try:
            self._work()
        except Exception as error:  # raised again by whoever waits
            self.error = error
        self._ended.emit()
