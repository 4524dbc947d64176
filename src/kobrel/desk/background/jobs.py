"""Long work beside the window: it reports how far it is and can be cancelled."""

import contextlib
import sys
import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from kobrel.errors import KobrelError
from kobrel.stage.scene import Cancelled, Progress
from kobrel.turns import TURNS


class Job(QObject):
    """One piece of work in a thread of its own.

    Parameters
    ----------
    work : called with a progress function; its result is handed to `done`
    opens : it opens a file, so that opening another makes it needless

    Signals
    -------
    progressed : what is done, and the part done
    done : the result
    failed : why not, for a person; "" for a fault inside, which is told elsewhere
    cancelled : it stopped because it was asked to
    """

    progressed = Signal(str, float)
    done = Signal(object)
    failed = Signal(str)
    cancelled = Signal()

    def __init__(
        self, work: Callable[[Progress], Any], parent: QObject | None = None, opens: bool = False
    ) -> None:
        super().__init__(parent)
        self.opens = opens
        self._work = work
        self._stop = threading.Event()
        self._lock, self._ended = threading.Lock(), False
        self._thread = threading.Thread(target=self._run, name="kobrel-job", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def cancel(self) -> None:
        """Ask it to stop."""
        self._stop.set()

    def leave(self) -> None:
        """Wait for it no longer: it counts as cancelled, whatever its thread still does."""
        self._stop.set()
        self._end(self._tell_cancelled)

    def wait(self, seconds: float) -> None:
        """Wait until its thread has ended, but not for longer."""
        self._thread.join(seconds)

    def _progress(self, what: str, part: float) -> None:
        if self._stop.is_set():
            raise Cancelled("Stopped.")
        TURNS.wait()
        self.progressed.emit(what, part)

    def _end(self, tell: Callable[[], object]) -> None:
        """Tell how it ended, once. Signals are asked for only then: whoever left it may have deleted it."""
        with self._lock:
            ended, self._ended = self._ended, True
        if not ended:
            with contextlib.suppress(RuntimeError):  # deleted in this very moment
                tell()

    def _tell_cancelled(self) -> None:
        self.cancelled.emit()

    def _run(self) -> None:
        try:
            result = self._work(self._progress)
        except Cancelled:
            self._end(self._tell_cancelled)
        except KobrelError as error:
            why = str(error)
            self._end(lambda: self.failed.emit(why))
        except Exception:  # told where all such faults are; whoever waits for the work only hears of its end
            sys.excepthook(*sys.exc_info())
            self._end(lambda: self.failed.emit(""))
        else:
            self._end(lambda: self.cancelled.emit() if self._stop.is_set() else self.done.emit(result))
