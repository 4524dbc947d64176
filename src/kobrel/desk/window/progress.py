"""How far long work is, with a button to cancel it; one piece of work at a time."""

import time
from functools import partial

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from kobrel.desk.background.jobs import Job

_LEAVE_MS = 150
_KNOWN_S, _KNOWN_PART = 1.0, 0.02


class RestTime:
    """How long a step of work still takes, from how long it took so far."""

    def __init__(self) -> None:
        self._step, self._begun, self._from = "", 0.0, 0.0

    def told(self, what: str, part: float, now: float) -> str:
        """Words for what is left of a step at a time in seconds; nothing where that cannot be known yet.

        >>> rest = RestTime()
        >>> rest.told("Reading", 0.0, 10.0), rest.told("Reading", 0.2, 12.0)
        ('', '  about 8 s left')
        """
        if what != self._step or part < self._from:
            self._step, self._begun, self._from = what, now, part
        took, done = now - self._begun, part - self._from
        if took < _KNOWN_S or done < _KNOWN_PART:
            return ""
        left = took * (1.0 - part) / done
        return f"  about {left:.0f} s left" if left < 90 else f"  about {left / 60:.0f} min left"


class JobBar(QWidget):
    """Hidden while nothing runs.

    Signals
    -------
    said : a short message for the person
    failed : why the work failed
    ended : nothing runs any more
    refused : a piece of work that cannot start now
    """

    said = Signal(str)
    failed = Signal(str)
    ended = Signal()
    refused = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.job: Job | None = None
        self._rest = RestTime()
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self._bar.setFixedWidth(160)
        self._bar.setAccessibleName("Progress")
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.setToolTip("Cancel without changes")
        self.cancel_button.clicked.connect(self.cancel)
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self._bar)
        line.addWidget(self.cancel_button)
        self.hide()

    def run(self, job: Job) -> None:
        """Start work; opening a file gives way to opening another, nothing else does."""
        if self.job is not None:
            if not (self.job.opens and job.opens):
                self.said.emit("Another task is running. Wait or cancel it.")
                self.refused.emit(job)
                return
            self.job.cancel()
        self.job = job
        job.progressed.connect(partial(self._show, job))
        job.done.connect(partial(self._done, job))
        job.failed.connect(partial(self._failed, job))
        job.cancelled.connect(partial(self._cancelled, job))
        self._show(job, "Working", 0.0)
        self.show()
        job.start()

    def cancel(self) -> None:
        """Ask the work to stop."""
        job = self.job
        if job is not None:
            job.cancel()
            QTimer.singleShot(
                _LEAVE_MS, job, job.leave
            )  # a library that does not hear of it is left to itself

    def _show(self, job: Job, what: str, part: float) -> None:
        if job is self.job:
            self._bar.setRange(0, 100 if part > 0 else 0)
            self._bar.setValue(round(part * 100))
            self.said.emit(f"{what}… {self._rest.told(what, part, time.monotonic())}")

    def _end(self, job: Job) -> bool:
        """Hide, if this was the work shown; False for work that gave way to other."""
        job.deleteLater()  # with it goes all that its work held
        if job is not self.job:
            return False
        self.job = None
        self.hide()
        QTimer.singleShot(0, self, self.ended.emit)
        return True

    def _done(self, job: Job, _result: object) -> None:
        self._end(job)

    def _cancelled(self, job: Job) -> None:
        if self._end(job):
            self.said.emit("Cancelled; nothing has changed.")

    def _failed(self, job: Job, reason: str) -> None:
        if self._end(job):
            self.said.emit(reason or "The job failed.")
            if reason:
                self.failed.emit(reason)
