"""Files of the window: opening, saving, exporting, and what was open last."""

import time
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

import kobrel.demo
from kobrel.desk.jobs import Job
from kobrel.desk.opening import Opened, open_file
from kobrel.desk.session import Session
from kobrel.errors import KobrelError
from kobrel.plan.model import SUFFIX, Plan
from kobrel.plan.staging import Library
from kobrel.stage.scene import SCENE_SUFFIXES, Progress
from kobrel.stage.stage import Stage

if TYPE_CHECKING:
    from kobrel.exchange.movie import Movie

DEMO = Path(kobrel.demo.__file__).parent / f"night_ferry{SUFFIX}"
RENDER_PASSES = 256
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

    # Opening

    def open(self, path: Path) -> None:
        """Open a plan or a scene, after a question if something is unsaved."""
        if not self.may_leave():
            return
        self.remember_place()
        job = Job(lambda progress: open_file(path.absolute(), progress), self, opens=True)
        job.done.connect(lambda opened: self._show(opened, path.absolute()))
        self.job_wanted.emit(job)

    def _show(self, opened: object, source: Path) -> None:
        assert isinstance(opened, Opened)
        self.path = opened.path if opened.path != DEMO else None
        settings = self._session.settings
        place = settings.value(f"place/{_key(source)}")
        shot, frame = (int(part) for part in str(place).split()) if place else (0, None)
        self._session.show_plan(opened.plan, opened.stage, opened.library, shot, frame)
        self._saved_at = time.monotonic() if self.path else 0.0
        self._source = source
        recent = [str(source), *(str(p) for p in self.recent() if p != source)]
        settings.setValue("recent", recent[:_MOST_RECENT])
        settings.setValue("last", str(source))
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
        last = self._session.settings.value("last")
        if last and Path(str(last)).is_file():
            self.open(Path(str(last)))
            return True
        return False

    def recent(self) -> list[Path]:
        """Files that were open lately and are still there."""
        value = self._session.settings.value("recent", [])
        names = [value] if isinstance(value, str) else list(value or [])  # type: ignore[call-overload]
        return [Path(name) for name in names if Path(name).is_file()]

    def remember_place(self) -> None:
        """Keep shot and frame for the next time this file is opened."""
        source = self.path or self._source
        if source is not None and self._session.plan.shots:
            place = f"{self._session.shot_index} {self._session.frame}"
            self._session.settings.setValue(f"place/{_key(source)}", place)

    def folder(self) -> str:
        """Where file choosers begin."""
        source = self.path or self._source
        inside_demo = source is not None and source.parent == DEMO.parent
        return str(source.parent) if source is not None and not inside_demo else str(Path.home())

    # Saving

    def save(self) -> bool:
        """Save, asking for a name where there is none; False if it was not saved."""
        return self._save_to(self.path) if self.path else self.ask_save_as()

    def ask_save_as(self) -> bool:
        """Save under a name that the person chooses."""
        suggestion = str(Path(self.folder()) / f"{self._session.plan.name}{SUFFIX}")
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Save the plan as", suggestion, f"Kobrel plans (*{SUFFIX})"
        )
        if not name:
            return False
        path = Path(name)
        return self._save_to(path if path.suffix == SUFFIX else path.with_name(path.name + SUFFIX))

    def _save_to(self, path: Path) -> bool:
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
        self._session.undo.setClean()
        settings = self._session.settings
        recent = [str(path), *(str(p) for p in self.recent() if p != path)]
        settings.setValue("recent", recent[:_MOST_RECENT])
        settings.setValue("last", str(path))
        self.titled.emit()
        self.said.emit(f"Saved {path}")
        return True

    def may_leave(self) -> bool:
        """Whether the plan may be left: it is saved, or the person says so."""
        if self._session.undo.isClean():
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

    # Exporting

    def _ask_target(self, title: str, ending: str, kinds: str) -> Path | None:
        shot = self._session.shot
        if shot is None:
            self.said.emit("There is no shot to export.")
            return None
        name = f"{self._session.plan.name}_{shot.name}{ending}".replace(" ", "_").replace("/", "-")
        chosen, _ = QFileDialog.getSaveFileName(self._window, title, str(Path(self.folder()) / name), kinds)
        if not chosen:
            return None
        path = Path(chosen)
        return path if path.suffix else path.with_name(path.name + ending)

    def ask_export_usd(self) -> None:
        """Export the shot's camera as a USD layer."""
        path = self._ask_target("Export the camera", ".usda", "USD layers (*.usda *.usdc *.usd)")
        if path:
            self.export(path, "usd")

    def ask_export_csv(self) -> None:
        """Export the shot's numbers as CSV."""
        path = self._ask_target("Export the numbers", ".csv", "CSV (*.csv)")
        if path:
            self.export(path, "csv")

    def export(self, path: Path, kind: str) -> None:
        """Write the shot's camera (usd) or numbers (csv), beside the window."""
        plan, shot, stage = self._session.plan, self._session.shot, self._session.stage
        if shot is None:
            return

        def work(_progress: Progress) -> None:
            if kind == "usd":
                from kobrel.exchange.usd import write_usd

                write_usd(plan, shot, stage, path)
            else:
                from kobrel.exchange.table import write_csv
                from kobrel.plan.survey import survey

                write_csv(plan, shot, survey(plan, shot, stage), path)

        self._run(Job(work, self), path)

    def ask_render(self) -> None:
        """Render the frame at delivery size."""
        path = self._ask_target("Render this frame", ".exr", "Pictures (*.exr *.png)")
        if path:
            self.render(path)

    def render(self, path: Path, samples: int = RENDER_PASSES) -> None:
        """Render the frame at delivery size to a file, beside the window."""
        plan, shot = self._session.plan, self._session.shot
        stage, frame = self._session.stage, self._session.frame
        if shot is None:
            return

        def work(progress: Progress) -> None:
            from kobrel.exchange.render import render_frame

            render_frame(plan, shot, frame, stage, None, samples, path, progress)

        self._run(Job(work, self), path)

    def write_movie(self, movie: "Movie", path: Path) -> None:
        """Write the shot as a movie, or as pictures, beside the window."""
        plan, shot, stage = self._session.plan, self._session.shot, self._session.stage
        if shot is None:
            return

        def work(progress: Progress) -> None:
            from kobrel.exchange.movie import write_shot

            write_shot(plan, shot, stage, movie, path, progress)

        self._run(Job(work, self), path)

    def ask_sound(self) -> None:
        """Write the focus motor's sound over the shot as WAV."""
        path = self._ask_target("Write the focus motor's sound", ".wav", "Sound (*.wav)")
        plan, shot, stage = self._session.plan, self._session.shot, self._session.stage
        if path is None or shot is None:
            return

        def work(_progress: Progress) -> None:
            from kobrel.exchange.sound import write_sound
            from kobrel.plan.survey import survey

            write_sound(shot, survey(plan, shot, stage), path)

        self._run(Job(work, self), path)

    def ask_list(self) -> None:
        """Read shots from an edit list."""
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Read a list of shots", self.folder(), "Lists of shots (*.otio *.otioz *.edl)"
        )
        if name:
            self.read_list(Path(name))

    def read_list(self, path: Path) -> None:
        """Take the shots of an edit list into the plan."""
        from kobrel.exchange.timeline import read_list
        from kobrel.plan.shots import with_list

        session, shot = self._session, self._session.shot
        if shot is None:
            return
        try:
            listed = read_list(path, shot.fps)
            plan = with_list(session.plan, listed, session.shot_index, session.stage)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", str(error))
            return
        session.edit(f"Shots of {path.name}", plan)
        session.said.emit(f"{len(listed)} shots of {path.name}. Undo brings back what there was.")

    def ask_write_list(self) -> None:
        """Write the plan's shots for the edit."""
        path = self._ask_target("Write the list of shots", ".otio", "OpenTimelineIO (*.otio)")
        if path is not None:
            plan = self._session.plan

            def work(_progress: Progress) -> None:
                from kobrel.exchange.timeline import write_list

                write_list(plan, path)

            self._run(Job(work, self), path)

    def _run(self, job: Job, path: Path) -> None:
        job.done.connect(lambda _none: self.said.emit(f"Written {path}"))
        self.job_wanted.emit(job)


def _key(path: Path) -> str:
    """A settings key for a file."""
    return str(path).replace("/", "|")
