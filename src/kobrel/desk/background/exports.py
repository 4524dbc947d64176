"""What the window writes and reads besides the plan: cameras, numbers, pictures, movies, lists of shots."""

import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QGuiApplication, QImage
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from kobrel.desk.background.jobs import Job
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.toolkit.asking import ask_target, ask_writing, may_write_over
from kobrel.desk.toolkit.words import plain
from kobrel.errors import KobrelError
from kobrel.exchange.export import KINDS, SheetChoices, export, options_of, shots_of
from kobrel.exchange.upkeep import Asked, Upkept, asked, keep_up, real_path
from kobrel.plan.export import ExportKind, Pass, UpdatedFile
from kobrel.session import settings
from kobrel.session.commands import exporting, lens_choice
from kobrel.session.session import Session
from kobrel.stage.scene import Progress

if TYPE_CHECKING:
    from kobrel.exchange.movie import Movie
    from kobrel.plan.measure.depth_table import DepthTable
    from kobrel.plan.sequence.shots import Listed

RENDER_PASSES = 256
_MOST_NAME, _MOST_TOLD = 120, 20


class Exports(QObject):
    """Asks where to, and writes beside the window.

    Parameters
    ----------
    folder : where file choosers begin
    plan_path : where the plan was saved, None where it never was

    Signals
    -------
    job_wanted : long work to be run with progress
    """

    job_wanted = Signal(object)

    def __init__(
        self,
        session: Session,
        queueing: Queueing,
        folder: Callable[[], str],
        plan_path: Callable[[], Path | None],
        window: QWidget,
    ) -> None:
        super().__init__(window)
        self._session, self._queueing, self._folder, self._window = session, queueing, folder, window
        self._plan_path = plan_path
        self._handing: Job | None = None
        self._put_off = False

    def _ask_target(self, title: str, ending: str, kinds: str) -> Path | None:
        shot = self._session.shot
        if shot is None:
            self._session.say("No shot to export.")
            return None
        name = f"{self._session.plan.name}_{shot.name}"[:_MOST_NAME].replace(" ", "_").replace("/", "-")
        start = Path(self._folder()) / f"{name}{ending}"
        endings = [ending, *re.findall(r"\*(\.\w+)", kinds)]
        return ask_target(self._window, title, start, kinds, endings)

    def ask_kind(self, kind: ExportKind) -> Path | None:
        """Ask where to write a kind of file to."""
        about = KINDS[kind]
        kinds = f"{about.title} ({' '.join(f'*{ending}' for ending in about.endings)})"
        return self._ask_target(about.title, about.endings[0], kinds)

    def ask_and_write(self, kind: ExportKind) -> None:
        """Ask where to, and write the shot or the shots as a kind of file."""
        path, shot = self.ask_kind(kind), self._session.shot
        if path is not None and shot is not None:
            self.write(
                UpdatedFile(kind=kind, path=str(path), shots=(shot.name,) if KINDS[kind].of == "shot" else ())
            )

    def write(self, out: UpdatedFile) -> None:
        """Write one file."""
        session, shot = self._session, self._session.shot
        if shot is None:
            return
        plan, stage = session.plan, session.stage
        owns, sheet = session.view.custom_values, self._sheet_choices()

        def work(progress: Progress) -> None:
            options = options_of(plan, stage, out, owns, sheet)
            export(plan, shots_of(plan, out)[0], stage, out.kind, Path(out.path), options, progress)

        self._run(work, Path(out.path), lambda: exporting.note_written(session, [real_path(out)]))

    def _sheet_choices(self) -> SheetChoices:
        """What is on the crew's sheets, as it was last chosen."""
        kept = self._session.settings
        has, wanted = kept.get(settings.CREW_HAS), kept.get(settings.CREW_LENS_SET)
        kit = next((kit for kit in lens_choice.lens_sets(self._session)[0] if kit.kit == wanted), None)
        lenses = kit.lenses if kit else ()
        return SheetChoices(kept.get(settings.CREW_RING), "strips" in has, "tables" in has, lenses)

    def keep(self, out: UpdatedFile) -> None:
        """Write a file anew at each save from now on."""
        exporting.keep_handing(self._session, out, self._plan_path())

    def hand_over(self, _folder: Path | None = None) -> None:
        """Write the files anew that the plan keeps up to date; what it may not write yet is asked for."""
        session, path = self._session, self._plan_path()
        if not session.plan.handed:
            return
        if path is None:
            session.say("Save the plan first: linked exports are updated at each save.")
            return
        wanted = asked(session.plan, exporting.allowance(session, path))
        if wanted.folders:
            ask_writing(self._window, path, wanted, lambda: self._write_asked(path, wanted), self._keep_up)
        else:
            self._keep_up()

    def _write_asked(self, path: Path, wanted: Asked) -> None:
        exporting.allow_writing(self._session, path, wanted)
        self._keep_up()

    def _keep_up(self) -> None:
        session, path = self._session, self._plan_path()
        if path is None:
            return
        if not session.view.custom_values:
            exporting.load_custom_values(session)
        plan, stage, owns = session.plan, session.stage, session.view.custom_values
        allowance, sheet = exporting.allowance(session, path), self._sheet_choices()

        def work(progress: Progress) -> Upkept:
            return keep_up(plan, stage, allowance, owns, progress, sheet)

        self._handing = job = Job(work, self)
        job.done.connect(self._tell_handed)
        self.job_wanted.emit(job)

    def put_off(self, job: Job) -> None:
        """Work could not start while other work goes on; a hand-over is made up for afterwards."""
        self._put_off = self._put_off or job is self._handing

    def hand_over_again(self) -> None:
        """Hand over now, if that had to wait."""
        again, self._put_off = self._put_off, False
        if again:
            self.hand_over()

    def _tell_handed(self, result: Upkept) -> None:
        exporting.note_written(self._session, result.written)
        names = ", ".join(path.name for path in result.written)
        self._session.say(" ".join([*result.told, f"Exported: {names}" if names else "Nothing has changed"]))

    def ask_passes(self, passes: Sequence[Pass], one: bool) -> None:
        """Ask where to, and write passes of the shot, or of the frame alone."""
        if not passes:
            self._session.say("Tick at least one pass.")
            return
        path = self._ask_target("Write passes", ".exr", "OpenEXR (*.exr)")
        if path is not None:
            self.write_passes(passes, one, path)

    def write_passes(self, passes: Sequence[Pass], one: bool, path: Path) -> None:
        """Write passes of the frame, or have those of the whole shot written beside the work."""
        session, shot = self._session, self._session.shot
        if shot is None:
            return
        plan, stage, unit, frame = session.plan, session.stage, session.unit, session.frame
        if not one:
            self._queue(path, kind="passes", passes=tuple(passes), first=shot.first, last=shot.last)
            return

        def work(progress: Progress) -> None:
            from kobrel.exchange.passes import write_passes

            write_passes(plan, shot, stage, [frame], passes, path, progress, unit)

        self._run(work, path)

    def ask_layers(self, ending: str, one: bool) -> None:
        """Ask where to, and write the plates blurred alone, of the shot or of the frame alone."""
        if not any(plate.shown for plate in self._session.plan.plates):
            self._session.say("No plates to export.")
            return
        path = self._ask_target("Write plates as layers", ending, f"Layers (*{ending})")
        if path is not None:
            self.write_layers(one, path)

    def write_layers(self, one: bool, path: Path) -> None:
        """Write the plates of the frame blurred alone, or have the whole shot written beside the work."""
        session, shot = self._session, self._session.shot
        if shot is None:
            return
        plan, stage, frame = session.plan, session.stage, session.frame
        if not one:
            self._queue(path, kind="layers")
            return

        def work(progress: Progress) -> None:
            from kobrel.exchange.plates.layers import write_layers

            write_layers(plan, shot, stage, [frame], path, progress)

        self._run(work, path)

    def _queue(self, path: Path, **fields: object) -> None:
        """Have something of the shot made beside the work."""
        from kobrel.farm.work import work_of

        session, shot = self._session, self._session.shot
        if shot is None:
            return
        try:
            work = work_of(plan=session.plan.name, shot=shot.name, output=str(path), **fields)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", plain(str(error)))
            return
        self._queueing.add(work, session.plan)

    def ask_table(self) -> Path | None:
        """Ask where to write tables of depth of field to."""
        return self._ask_target("Write tables of depth of field", ".csv", "CSV (*.csv)")

    def write_tables(self, tables: Sequence["DepthTable"], path: Path) -> None:
        """Write tables of depth of field as CSV."""
        unit = self._session.unit

        def work(_progress: Progress) -> None:
            from kobrel.exchange.sheet.tables import write_tables

            write_tables(tables, unit, path)

        self._run(work, path)

    def ask_render(self) -> None:
        """Render the frame at delivery size."""
        path = self._ask_target("Render this frame", ".exr", "Pictures (*.exr *.png)")
        if path:
            self.render(path)

    def render(
        self, path: Path, samples: int = RENDER_PASSES, done: Callable[[], None] | None = None
    ) -> None:
        """Render the frame at delivery size to a file, and do something then instead of telling it."""
        plan, shot = self._session.plan, self._session.shot
        stage, frame = self._session.stage, self._session.frame
        if shot is None:
            return

        def work(progress: Progress) -> None:
            if plan.finished_of(shot) is not None:
                from kobrel.exchange.rendered.write import write_frame

                write_frame(plan, shot, frame, stage, path)
                return
            from kobrel.exchange.render import render_frame

            render_frame(plan, shot, frame, stage, None, samples, path, progress)

        job = Job(work, self)
        job.done.connect(lambda _none: done() if done else self._session.say(f"Written {path}"))
        self.job_wanted.emit(job)

    def copy_frame(self, samples: int = RENDER_PASSES) -> None:
        """Render the frame at delivery size onto the clipboard."""
        from tempfile import TemporaryDirectory

        folder = TemporaryDirectory(prefix="kobrel-", ignore_cleanup_errors=True)
        path = Path(folder.name) / "frame.png"

        def copied() -> None:
            image = QImage(str(path))
            folder.cleanup()
            QGuiApplication.clipboard().setImage(image)
            self._session.say(f"Copied the frame, {image.width()} × {image.height()} px.")

        self.render(path, samples, copied)

    def write_movie(self, movie: "Movie", path: Path) -> None:
        """Have the shot made as a movie or as pictures, beside the work."""
        shot = self._session.shot
        if shot is None:
            return
        from kobrel.exchange.movie import written_over
        from kobrel.exchange.render import PICTURES

        try:
            there = written_over(shot, movie, path)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", plain(str(error)))
            return
        if len(there) > (there == [path]) and not may_write_over(self._window, there):
            return

        self._queue(
            path, kind="pictures" if path.suffix.lower() in PICTURES else "movie", first=movie.first,
            last=movie.last, width=movie.width, height=movie.height, samples=movie.passes,
            burn=tuple(sorted(movie.burns)), sound=movie.sound, clay=movie.clay, denoise=movie.denoise,
        )  # fmt: skip

    def ask_sound(self) -> None:
        """Write the focus motor's sound over the shot as WAV."""
        path = self._ask_target("Write the focus motor's sound", ".wav", "Sound (*.wav)")
        plan, shot, stage = self._session.plan, self._session.shot, self._session.stage
        if path is None or shot is None:
            return

        def work(_progress: Progress) -> None:
            from kobrel.exchange.sound import write_sound
            from kobrel.plan.measure.survey import survey

            write_sound(plan, shot, survey(plan, shot, stage), path)

        self._run(work, path)

    def ask_list(self) -> None:
        """Read shots from an edit list."""
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Read a list of shots", self._folder(), "Lists of shots (*.otio *.otioz *.edl)"
        )
        if name:
            self.read_list(Path(name))

    def read_list(self, path: Path) -> None:
        """Take the shots of an edit list into the plan."""
        shot = self._session.shot
        if shot is None:
            return
        fps = shot.fps

        def work(progress: Progress) -> object:
            from kobrel.exchange.timeline import read_list

            progress(f"Reading {path.name}", 0.0)
            warnings: list[str] = []
            return read_list(path, fps, warnings), warnings

        job = Job(work, self)
        job.done.connect(lambda read: self._take_list(path, *read))
        self.job_wanted.emit(job)

    def _take_list(self, path: Path, listed: "list[Listed]", warnings: list[str]) -> None:
        from kobrel.plan.sequence.shots import with_list

        session = self._session
        try:
            plan = with_list(session.plan, listed, session.shot_index, session.stage)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", plain(str(error)))
            return
        session.edit(f"Shots of {path.name}", plan)
        session.say(f"{len(listed)} shots imported from {path.name}.")
        if warnings:
            told = f"{path.name}:\n" + "\n".join(warnings[:_MOST_TOLD])
            more = len(warnings) - _MOST_TOLD
            told += f"\nand {more} more of the kind." if more > 0 else ""
            QMessageBox.information(self._window, "Kobrel", plain(told))

    def _run(
        self, work: Callable[[Progress], None], path: Path, after: Callable[[], None] | None = None
    ) -> None:
        def done(_none: object) -> None:
            if after is not None:
                after()
            self._session.say(f"Written {path}")

        job = Job(work, self)
        job.done.connect(done)
        self.job_wanted.emit(job)
