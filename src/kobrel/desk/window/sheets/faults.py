"""Whatever goes wrong inside is caught here: it is told, with details to copy, and the work goes on."""

import sys
import threading
import traceback
from collections.abc import Callable
from types import TracebackType

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QDialog, QHBoxLayout, QPlainTextEdit, QPushButton, QVBoxLayout, QWidget

from kobrel import __version__
from kobrel.desk.toolkit.words import Label

_MOST_DETAILS = 20


class Faults(QObject):
    """Hears of every exception that nothing else has caught, in any thread.

    Parameters
    ----------
    keep : called first, so that the work is on disk
    """

    _happened = Signal(str, str)

    def __init__(self, window: QWidget, keep: Callable[[], object]) -> None:
        super().__init__(window)
        self._window, self._keep = window, keep
        self.sheet: FaultSheet | None = None
        self._happened.connect(self._show)

    def install(self) -> None:
        """Take the place of what only prints exceptions; :meth:`remove` gives it back."""
        sys.excepthook = self._take
        threading.excepthook = lambda given: self._take(
            given.exc_type, given.exc_value or given.exc_type(), given.exc_traceback
        )
        sys.unraisablehook = lambda given: self._take(
            given.exc_type, given.exc_value or given.exc_type(), given.exc_traceback
        )

    def remove(self) -> None:
        """The window goes: exceptions are printed again."""
        sys.excepthook = sys.__excepthook__
        threading.excepthook = threading.__excepthook__
        sys.unraisablehook = sys.__unraisablehook__

    def _take(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if not issubclass(kind, Exception):
            sys.__excepthook__(kind, error, trace)
            return
        details = "".join(traceback.format_exception(kind, error, trace))
        release(trace)
        print(details, file=sys.stderr, flush=True)
        self._happened.emit(f"{kind.__name__}: {error}", details)

    def _show(self, what: str, details: str) -> None:
        self._keep()
        if self.sheet is None:
            self.sheet = FaultSheet(self._window)
            self.sheet.finished.connect(self._forget)
        self.sheet.add(what, details)
        self.sheet.show()

    def _forget(self) -> None:
        if self.sheet is not None:
            self.sheet.deleteLater()
        self.sheet = None


def release(trace: TracebackType | None) -> None:
    """Let go of what the frames of a fault hold: a painter that outlives its painting ends the program."""
    traceback.clear_frames(trace)
    sys.last_value = sys.last_traceback = None


class FaultSheet(QDialog):
    """What went wrong, how often, and its details."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Something went wrong in Kobrel")
        self.resize(560, 340)
        self._counts: dict[str, int] = {}
        self._first: dict[str, str] = {}
        column = QVBoxLayout(self)
        self.told = Label()
        self.told.setWordWrap(True)
        note = Label(
            "Your work is safe and you can continue. If this happens again, save, restart Kobrel and "
            "send the details to whoever maintains it."
        )
        note.setObjectName("quiet")
        note.setWordWrap(True)
        self.details = QPlainTextEdit()
        self.details.setReadOnly(True)
        self.details.setAccessibleName("Details")
        line = QHBoxLayout()
        copy, go_on = QPushButton("Copy details"), QPushButton("Continue")
        copy.setToolTip("Copy the details as text")
        copy.clicked.connect(self.copy)
        go_on.setDefault(True)
        go_on.clicked.connect(self.accept)
        line.addStretch(1)
        line.addWidget(copy)
        line.addWidget(go_on)
        column.addWidget(self.told)
        column.addWidget(note)
        column.addWidget(self.details, 1)
        column.addLayout(line)

    def add(self, what: str, details: str) -> None:
        """Tell another fault; the same one is counted."""
        self._counts[what] = self._counts.get(what, 0) + 1
        if self._counts[what] == 1 and len(self._first) < _MOST_DETAILS:
            self._first[what] = details
            self.details.setPlainText(f"Kobrel {__version__}\n\n" + "\n".join(self._first.values()))
        lines = [f"{fault[:200]}{f'  ({n} times)' if n > 1 else ''}" for fault, n in self._counts.items()]
        self.told.setText("\n".join(lines[-3:]))

    def copy(self) -> None:
        """Copy the details."""
        QGuiApplication.clipboard().setText(self.details.toPlainText())
