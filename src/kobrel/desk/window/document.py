"""The file of the plan in work: opening, saving, and what was open last."""

import time
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

import kobrel.demo
from kobrel.desk.background.jobs import Job
from kobrel.errors import KobrelError
from kobrel.plan.model import SUFFIX, Plan
from kobrel.plan.staging import Library
from kobrel.session import settings
from kobrel.session.open_file import Opened, open_file
from kobrel.session.session import Session
from kobrel.stage.scene import SCENE_SUFFIXES
from kobrel.stage.stage import Stage

DEMO = Path(kobrel.demo.__file__).parent / f"night_ferry{SUFFIX}"
_MOST_RECENT = 8


class Document(QObject):
    """The file behind the session.

    Signals
    -------
    opened : another plan is shown; what was left out or assumed
    titled : path or saved state changed
    job_wanted : long work to be run with progress
    said : a short message for the person
    """

    opened = Signal(list)
    titled = Signal()
    job_wanted = Signal(object)
    said = Signal(str)

    def __init__(self, session: Session, window: QWidget) -> None:
        super().__init__(window)
        self._session = session
        self._window = window
        self.path: Path | None = None
        self._source: Path | None = None
        self._saved_at = 0.0

    @property
    def is_new_scene(self) -> bool:
        """Whether what is open is a scene that no plan was saved of."""
        return self.path is None and self._source is not None and self._source.suffix.lower() != SUFFIX

    # Opening

    def open(self, path: Path) -> None:
        """Open a plan or a scene, after a question if something is unsaved."""
        if not self.may_leave():
            return
        self.remember_place()
        job = Job(lambda progress: open_file(path.absolute(), progress), self, opens=True)
        job.done.connect(lambda opened: self.show(opened, path.absolute()))
        self.job_wanted.emit(job)

    def show(self, opened: object, source: Path) -> None:
        """Work on what was opened, where it was left."""
        assert isinstance(opened, Opened)
        self.path = opened.path if opened.path != DEMO else None
        place = self._session.settings.get(settings.PLACE, str(source))
        shot, frame = place if len(place) == 2 else (0, None)
        self._session.show_plan(opened.plan, opened.stage, opened.library, shot, frame)
        self._saved_at = time.monotonic() if self.path else 0.0
        self._source = source
        self._remember_file(source)
        self.opened.emit(opened.warnings)

    def ask_open(self) -> None:
        """Let the person choose a file to open."""
        kinds = " ".join(f"*{suffix}" for suffix in (SUFFIX, *SCENE_SUFFIXES))
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Open a scene or plan", self.folder(), f"Scenes and plans ({kinds})"
        )
        if name:
            self.open(Path(name))

    def begin_empty(self) -> None:
        """Begin with an empty stage and one shot."""
        if not self.may_leave():
            return
        self.remember_place()
        from kobrel.plan.start import empty_plan

        self.path = self._source = None
        self._saved_at = 0.0
        self._session.show_plan(empty_plan(), Stage(), Library())
        self.opened.emit([])

    def open_demo(self) -> None:
        """Open the demo; it is saved under a name of the person's own."""
        self.open(DEMO)

    def open_last(self) -> bool:
        """Open what was open when the window was closed; False if there is nothing."""
        last = self._session.settings.get(settings.LAST_FILE)
        if last and Path(last).is_file():
            self.open(Path(last))
            return True
        return False

    def recent(self) -> list[Path]:
        """Files that were open lately and are still there."""
        names = self._session.settings.get(settings.RECENT_FILES)
        return [Path(name) for name in names if Path(name).is_file()]

    def _remember_file(self, path: Path) -> None:
        recent = [str(path), *(str(other) for other in self.recent() if other != path)]
        self._session.settings.put(settings.RECENT_FILES, recent[:_MOST_RECENT])
        self._session.settings.put(settings.LAST_FILE, str(path))

    def remember_place(self) -> None:
        """Keep shot and frame for the next time this file is opened."""
        source = self.path or self._source
        if source is not None and self._session.plan.shots:
            place = [self._session.shot_index, self._session.frame]
            self._session.settings.put(settings.PLACE, place, str(source))

    def folder(self) -> str:
        """Where file choosers begin."""
        source = self.path or self._source
        inside_demo = source is not None and source.parent == DEMO.parent
        return str(source.parent) if source is not None and not inside_demo else str(Path.home())

    # Saving

    def save(self) -> bool:
        """Save, asking for a name where there is none; False if it was not saved."""
        return self.save_to(self.path) if self.path else self.ask_save_as()

    def ask_save_as(self) -> bool:
        """Save under a name that the person chooses."""
        suggestion = str(Path(self.folder()) / f"{self._session.plan.name}{SUFFIX}")
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Save the plan as", suggestion, f"Kobrel plans (*{SUFFIX})"
        )
        if not name:
            return False
        path = Path(name)
        return self.save_to(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX))

    def save_to(self, path: Path) -> bool:
        """Save under a name; False if it was not saved."""
        from kobrel.plan.file import save_plan

        plan = self._session.plan
        if plan.name == Plan().name:
            self._session.edit("Name the plan", plan.but(name=path.stem))
        try:
            save_plan(self._session.plan, path)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", str(error))
            return False
        self.path = self._source = path
        self._saved_at = time.monotonic()
        self._session.mark_saved()
        self._remember_file(path)
        self.titled.emit()
        self.said.emit(f"Saved {path}")
        return True

    def may_leave(self) -> bool:
        """Whether the plan may be left: it is saved, or the person says so."""
        if self._session.history.is_saved:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self._window, "Kobrel", f"“{self._session.plan.name}” has changes that are not saved.",
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Save:
            return self.save()
        return answer == buttons.Discard

    def state_text(self, clean: bool) -> str:
        """How safe the work is."""
        if not self._session.plan.shots:
            return ""
        if not clean:
            return "not saved"
        if not self._saved_at:
            return "not saved yet"
        age = time.monotonic() - self._saved_at
        return f"saved {age:.0f} s ago" if age < 60 else f"saved {age / 60:.0f} min ago"
