"""What a contact sheet shall be like, and writing it beside the work."""

from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.background.jobs import Job
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import number_field
from kobrel.desk.toolkit.words import Label
from kobrel.errors import KobrelError
from kobrel.plan.model import Proof
from kobrel.session import settings
from kobrel.session.session import Session

_PAGES = [("A4", "A4"), ("A3", "A3"), ("Letter", "Letter")]
_MOST_NAME = 120


class ContactDialog(QDialog):
    """Asks for page, columns and captions; then for the file.

    Parameters
    ----------
    proofs : what stands on it
    folder : where file choosers begin

    Signals
    -------
    job_wanted : long work to be run with progress
    """

    job_wanted = Signal(object)

    def __init__(
        self,
        session: Session,
        proofs: Sequence[Proof],
        folder: Callable[[], str],
        queueing: Queueing,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self._proofs, self._folder = session, list(proofs), folder
        self._queueing = queueing
        self.setWindowTitle("Contact sheet")
        column, grid = QVBoxLayout(self), QGridLayout()
        count = len(self._proofs)
        column.addWidget(Label(f"{count} images in the order of the wall." if count > 1 else "One image."))
        self.page = choice("Page", list(_PAGES), "Size of the pages", 132)
        self.columns = number_field("Columns", "count", 1.0, 1.0, 12.0, about="Images per row")
        for row, (label, widget) in enumerate((("Page", self.page), ("In a row", self.columns))):
            text = Label(label)
            text.setBuddy(widget)
            grid.addWidget(text, row, 0)
            grid.addWidget(widget, row, 1)
        column.addLayout(grid)
        self.wide = QCheckBox("Landscape")
        self.wide.setToolTip("Wider than high")
        self.captions = QCheckBox("Captions")
        self.captions.setToolTip("Names, and what the pictures differ in")
        self.queued = QCheckBox("In the queue")
        self.queued.setToolTip("Added to the end of the queue")
        for box in (self.wide, self.captions, self.queued):
            column.addWidget(box)
        kept = session.settings
        self.page.setCurrentIndex(max(0, self.page.findData(kept.get(settings.SHEET_PAGE))))
        self.columns.show_value(float(kept.get(settings.SHEET_COLUMNS)))
        self.wide.setChecked(kept.get(settings.SHEET_WIDE))
        self.captions.setChecked(kept.get(settings.SHEET_CAPTIONS))
        line = QHBoxLayout()
        line.addStretch(1)
        cancel, write = QPushButton("Cancel"), QPushButton("Write…")
        cancel.clicked.connect(self.reject)
        write.setToolTip("Choose a file, PDF or PNG; progress and Cancel are in the status bar")
        write.clicked.connect(self._ask)
        for button in (cancel, write):
            button.setAutoDefault(False)
            line.addWidget(button)
        column.addLayout(line)

    def _ask(self) -> None:
        name = f"{self._session.plan.name}_contact"[:_MOST_NAME].replace(" ", "_").replace("/", "-")
        start = Path(self._folder()) / f"{name}.pdf"
        kinds = "PDF (*.pdf);;PNG, a file a page (*.png)"
        path = ask_target(self, "Write a contact sheet", start, kinds, [".pdf", ".png"])
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the sheet, and remember what was chosen."""
        from kobrel.exchange.proof.sheet import Sheet, write_sheet

        kept, session, proofs = self._session.settings, self._session, self._proofs
        kept.put(settings.SHEET_PAGE, self.page.currentData())
        kept.put(settings.SHEET_COLUMNS, int(self.columns.value))
        kept.put(settings.SHEET_WIDE, self.wide.isChecked())
        kept.put(settings.SHEET_CAPTIONS, self.captions.isChecked())
        if self.queued.isChecked():
            self._queue(path)
            self.accept()
            return
        sheet = Sheet(
            session.plan.name, self.page.currentData(), self.wide.isChecked(), int(self.columns.value),
            self.captions.isChecked(), session.unit,
        )  # fmt: skip
        job = Job(lambda progress: write_sheet(path, proofs, sheet, progress), self.parentWidget())
        job.done.connect(lambda paths: session.say(f"Written {', '.join(str(each) for each in paths)}"))
        self.job_wanted.emit(job)
        self.accept()

    def _queue(self, path: Path) -> None:
        from kobrel.farm.work import work_of

        session, plan = self._session, self._session.plan
        sheet = {
            "title": plan.name, "page": self.page.currentData(), "columns": int(self.columns.value),
            "wide": self.wide.isChecked(), "captions": self.captions.isChecked(),
        }  # fmt: skip
        try:
            work = work_of(
                kind="sheet",
                plan=plan.name,
                output=str(path),
                proofs=self._proofs,
                unit=plan.unit,
                sheet=sheet,
            )
        except KobrelError as error:
            session.say(str(error))
            return
        self._queueing.add(work, session.plan)


def ask_sheet(
    session: Session,
    proofs: Sequence[Proof],
    folder: Callable[[], str],
    queueing: Queueing,
    window: QWidget,
    run: Callable[[Job], None],
) -> ContactDialog | None:
    """Ask for a contact sheet of proofs, and have it written by `run`; None where there are no proofs."""
    if not proofs:
        session.say("No proofs yet. Add proof saves the current picture.")
        return None
    dialog = ContactDialog(session, proofs, folder, queueing, window)
    dialog.job_wanted.connect(run)
    dialog.open()
    return dialog
