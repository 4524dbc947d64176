"""How far long work is, with a button to cancel it; one piece of work at a time."""

from functools import partial

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from kobrel.desk.background.jobs import Job


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
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self._bar.setFixedWidth(160)
        self._bar.setAccessibleName("Progress")
        self.cancel_button = QPushButton("Cancel")
        self.cancel_button.setToolTip("Stop this work; nothing changes")
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
                self.said.emit("Something is still being written or opened. Wait for it, or cancel it first.")
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
        if self.job is not None:
            self.job.cancel()

    def _show(self, job: Job, what: str, part: float) -> None:
        if job is self.job:
            self._bar.setRange(0, 100 if part > 0 else 0)
            self._bar.setValue(round(part * 100))
            self.said.emit(f"{what} …")

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
            self.said.emit(reason or "That did not work.")
            if reason:
                self.failed.emit(reason)
