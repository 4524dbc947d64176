"""The file of the plan in work: opening, saving, and what was open last."""

import time
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from kobrel.demo import HARBOUR
from kobrel.demo import PLAN as DEMO
from kobrel.desk.background.jobs import Job
from kobrel.desk.background.on_disk import OnDisk
from kobrel.desk.background.other_windows import OtherWindows
from kobrel.desk.background.safekeeping import Safekeeping
from kobrel.desk.background.waiting import Waiting
from kobrel.desk.toolkit.asking import ask_target, asked
from kobrel.desk.toolkit.words import plain
from kobrel.desk.window.sheets.left import when_text
from kobrel.errors import KobrelError
from kobrel.files import is_file, reason, versions_of
from kobrel.optics.units import UNIT_NAMES
from kobrel.plan.model import SUFFIX, Plan
from kobrel.plan.staging import Library
from kobrel.session import settings
from kobrel.session.journal.autosave import done_with, put_aside
from kobrel.session.journal.file import Left
from kobrel.session.open_file import Opened, open_file, open_left
from kobrel.session.recent import note_recent
from kobrel.session.session import Session
from kobrel.stage.read.plates.playing import MOVIES
from kobrel.stage.read.rendered.frames import ENDINGS as PICTURE_SUFFIXES
from kobrel.stage.scene import SCENE_SUFFIXES
from kobrel.stage.stage import Stage

DEMO_PLACE = (1, 1049)
"""Shot, counted from 0, and frame at which the demo opens: a rack, with lights out of focus."""
DEMOS = {DEMO: DEMO_PLACE, HARBOUR: (0, 1031)}
"""The demos, which are saved under another name, and where they open."""
_RECENT_S = 7200.0
_MOST_RECENT, _MOST_NAME = 8, 120
_SHOW_THERE, _OPEN_HERE = "Show that window", "Open it here too"
_IN_JOURNAL = "\n\nYour work is autosaved meanwhile."


class DocumentFile(QObject):
    """The file behind the session.

    Signals
    -------
    opened : another plan is shown; what was left out or assumed
    titled : path or saved state changed
    saved : the plan was saved, in this folder
    chosen : files that a person wants to open, a list
    job_wanted : long work to be run with progress
    said : a short message for the person
    left : a list of unsaved work that a crash left
    outdated : whether somebody else has changed the plan's file
    """

    opened = Signal(list)
    titled = Signal()
    saved = Signal(object)
    job_wanted = Signal(object)
    chosen = Signal(object)
    said = Signal(str)
    left = Signal(list)
    outdated = Signal(bool)

    def __init__(self, session: Session, safe: Safekeeping, window: QWidget) -> None:
        super().__init__(window)
        self._session, self._safe = session, safe
        self._window = window
        self.path: Path | None = None
        self._source: Path | None = None
        self._opening: Path | None = None
        self._saved_at = 0.0
        self.others = OtherWindows(self)
        self._on_disk = OnDisk(self)
        self._on_disk.changed.connect(self._tell_changed)

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
        if path.suffix.lower() != SUFFIX:
            settings.allow_chosen(self._session.settings, path)
        if self._is_elsewhere(path):
            return
        state, self._opening = self._safe.folder, path.absolute()
        job = Job(lambda progress: open_file(path.absolute(), progress, state), self, opens=True)
        job.done.connect(lambda opened: self.show(opened, path.absolute()))
        self.job_wanted.emit(job)

    def _is_elsewhere(self, path: Path) -> bool:
        """Whether a plan is left to another window that has it open, as the person chooses."""
        if path.suffix.lower() != SUFFIX or path.absolute() == self.path or not self.others.has(path):
            return False
        way = asked(
            self._window, f"{path.name} is open in another window.",
            "Each window's save overwrites the other's.", _SHOW_THERE, _OPEN_HERE,
        )  # fmt: skip
        if way == _SHOW_THERE:
            self.others.show(path)
            if not self._session.plan.shots:  # there is nothing else to do here
                self._window.close()
        return way != _OPEN_HERE

    def take_up(self, left: Left) -> None:
        """Work on what was left unsaved, after a question if something else is."""
        if not self.may_leave():
            return
        self.remember_place()
        source = Path(left.source) if left.source else None
        place = (left.work.shot, left.work.frame)
        job = Job(lambda progress: open_left(left, progress), self, opens=True)
        job.done.connect(lambda opened: self.show(opened, source, place))
        job.done.connect(lambda _opened: self._forget_when_kept(left))
        self.job_wanted.emit(job)

    def _forget_when_kept(self, left: Left) -> None:
        """The journal of what is taken up goes when the new one is on disk."""
        if self._safe.flush():
            done_with(left)

    def show(self, opened: object, source: Path | None, place: tuple[int, int] | None = None) -> None:
        """Work on what was opened, where it was left."""
        assert isinstance(opened, Opened)
        self.path = opened.path if opened.path not in DEMOS else None
        kept = place or self._session.settings.get(settings.PLACE, str(source))
        first = DEMOS.get(opened.path, (0, None)) if opened.path is not None else (0, None)
        shot, frame = kept if len(kept) == 2 else first
        left = self._put_aside(opened.left)
        fresh = opened.path is None and opened.history is None
        plan = self._in_own_unit(opened.plan) if fresh else opened.plan
        self._session.show_plan(plan, opened.stage, opened.library, shot, frame, opened.history)
        self._safe.begin(self.path, "" if source is None else str(source))
        self._saved_at = _changed_at(self.path) if self.path else 0.0
        self._source = source
        self._on_disk.follow(self.path)
        self.others.follow(self.path)
        if source is not None:
            self._remember_file(source)
        self.opened.emit(opened.warnings)
        if left is not None:
            self.left.emit([left])

    def _put_aside(self, left: Left | None) -> Left | None:
        """Keep unsaved work that was left of the plan, out of the way of what is done now."""
        if left is None or self._safe.folder is None:
            return None
        try:
            return put_aside(left, self._safe.folder) if left.unsaved else None
        except OSError as error:
            self.said.emit(f"{left.journal}: unsaved work is in it, it cannot be moved ({reason(error)}).")
            return None

    def ask_open(self) -> None:
        """Let the person choose a file to open."""
        endings = (SUFFIX, *SCENE_SUFFIXES, *PICTURE_SUFFIXES, *MOVIES, ".ora", ".otio", ".otioz", ".edl")
        kinds = " ".join(f"*{suffix}" for suffix in endings)
        name, _ = QFileDialog.getOpenFileName(
            self._window,
            "Open",
            self.folder(),
            f"Plans, scenes, images, movies, shot lists ({kinds})",
        )
        if name:
            self.chosen.emit([Path(name)])

    def begin_empty(self) -> bool:
        """Begin with an empty scene and one shot; whether it did, as what is unsaved may be kept instead."""
        if not self.may_leave():
            return False
        self.remember_place()
        from kobrel.plan.start import empty_plan

        self.path = self._source = None
        self._saved_at = 0.0
        self._on_disk.follow(None)
        self.others.follow(None)
        kept = self._session.settings
        shot = empty_plan().shots[0].replace(fps=float(kept.get(settings.NEW_FPS)))
        self._session.show_plan(self._in_own_unit(empty_plan().replace(shots=(shot,))), Stage(), Library())
        self._safe.begin(None, "")
        self.opened.emit([])
        return True

    def _in_own_unit(self, plan: Plan) -> Plan:
        """A new plan, in the unit that is preferred."""
        unit = self._session.settings.get(settings.NEW_UNIT)
        return plan.replace(unit=unit) if unit in UNIT_NAMES else plan

    def open_demo(self) -> None:
        """Open the demo; it is saved under a name of the person's own."""
        self.open(DEMO)

    def open_harbour(self) -> None:
        """Open the demo of plates; it is saved under a name of the person's own."""
        self.open(HARBOUR)

    def open_last(self) -> bool:
        """Open what was open when the window was closed; False if there is nothing."""
        last = self._session.settings.get(settings.LAST_FILE)
        if last and is_file(Path(last)):
            self.open(Path(last))
            return True
        return False

    def look_for_left(self) -> None:
        """Look for unsaved work that a crash left, beside recent plans and where there is no plan."""
        self._safe.look_for([path for path in self.recent() if path.suffix.lower() == SUFFIX], self._opening)

    def recent(self) -> list[Path]:
        """Files that were open lately and are still there."""
        names = self._session.settings.get(settings.RECENT_FILES)
        return [Path(name) for name in names if is_file(Path(name))]

    def recent_files(self) -> list[Path]:
        """Files that were open lately, whether they are still there or not; no demos."""
        names = self._session.settings.get(settings.RECENT_FILES)
        return [path for path in map(Path, names) if path not in DEMOS]

    @property
    def file(self) -> Path | None:
        """The plan's file, or the scene that it was begun on."""
        return self.path or self._source

    def _remember_file(self, path: Path) -> None:
        recent = [str(path), *(str(other) for other in self.recent() if other != path)]
        self._session.settings.put(settings.RECENT_FILES, recent[:_MOST_RECENT])
        self._session.settings.put(settings.LAST_FILE, str(path))
        if path.suffix.lower() == SUFFIX and path not in DEMOS:
            note_recent(path)

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
        start = Path(self.folder()) / f"{self._session.plan.name[:_MOST_NAME]}{SUFFIX}"
        path = ask_target(self._window, "Save the plan as", start, f"Kobrel plans (*{SUFFIX})", [SUFFIX])
        return path is not None and self.save_to(path)

    def save_to(self, path: Path) -> bool:
        """Save under a name; False if it was not saved."""
        from kobrel.plan.file import save_plan

        if path == self.path and self._on_disk.is_changed and not self._may_save_over():
            return False
        plan = self._session.plan
        if plan.name == Plan().name:
            self._session.edit("Name the plan", plan.replace(name=path.stem))
        plan, versions = self._session.plan, self._session.settings.get(settings.VERSIONS_KEPT)
        plan = self._with_proofs(plan, path)
        saving = Waiting(lambda: save_plan(plan, path, versions))
        saving.run()
        if isinstance(saving.error, KobrelError):
            QMessageBox.warning(
                self._window, "Kobrel", plain(f"{saving.error}{_IN_JOURNAL if self._safe.keeps else ''}")
            )
            return False
        if saving.error is not None:
            raise saving.error
        self.path = self._source = path
        self._on_disk.follow(path)
        self.others.follow(path)
        self._saved_at = time.time()
        self._session.mark_saved()
        self._safe.move(path)
        self._remember_file(path)
        self.titled.emit()
        self.said.emit(f"Saved {path}")
        self.saved.emit(path.absolute().parent)
        return True

    def _with_proofs(self, plan: Plan, path: Path) -> Plan:
        """The plan with its proofs beside the file it is saved to."""
        from kobrel.exchange.proof.files import brought
        from kobrel.plan.variants.proofs import folder_of

        folder = folder_of(path.absolute())
        if all(Path(proof.path).parent == folder for proof in plan.proofs):
            return plan
        try:
            placed = brought(plan, folder)
        except KobrelError as error:
            self.said.emit(str(error))
            return plan
        self._session.edit("Copy proofs with plan", placed)
        return placed

    def may_leave(self) -> bool:
        """Whether the plan may be left: it is saved, or the person says so."""
        if self._session.history.is_saved:
            return True
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self._window, "Kobrel", plain(f"“{self._session.plan.name}” has changes that are not saved."),
            buttons.Save | buttons.Discard | buttons.Cancel, buttons.Save,
        )  # fmt: skip
        if answer == buttons.Save:
            return self.save()
        return answer == buttons.Discard

    # Earlier versions, and other people's

    def versions(self) -> list[tuple[Path, str]]:
        """Earlier versions of the plan beside its file, and when each was saved."""
        found = [] if self.path is None else versions_of(self.path)
        return [(path, when_text(path.stat().st_mtime)) for path in found]

    def show_version(self, path: Path, when: str) -> None:
        """Go back to an earlier version; undo comes forth again."""
        from kobrel.plan.file import open_plan

        try:
            plan = open_plan(path)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", plain(str(error)))
            return
        self._session.edit(f"Back to the version of {when}", plan)
        self.said.emit(f"Restored the version of {when}. Undo returns to the current version.")

    def reload(self) -> None:
        """Read the plan again, as somebody else has changed it; undo brings back what was here."""
        from kobrel.plan.file import open_plan

        if self.path is None:
            return
        try:
            plan = open_plan(self.path)
        except KobrelError as error:
            QMessageBox.warning(self._window, "Kobrel", plain(str(error)))
            return
        self._session.edit(f"Read {self.path.name} again", plan)
        self._session.mark_saved()
        self._on_disk.follow(self.path)
        self.outdated.emit(False)

    def _tell_changed(self) -> None:
        assert self.path is not None
        if self.path.is_file():
            self.said.emit(f"{self.path.name} was changed on disk by somebody else.")
            self.outdated.emit(True)
        else:
            self.said.emit(f"{self.path} no longer exists. Save it again, or elsewhere.")
            self._session.mark_unsaved()

    def _may_save_over(self) -> bool:
        """Whether what somebody else saved may be written over."""
        assert self.path is not None
        buttons = QMessageBox.StandardButton
        answer = QMessageBox.question(
            self._window, "Kobrel",
            plain(f"{self.path.name} changed on disk. Saving overwrites it; the other version is kept "
                  f"as {self.path.name}~."),
            buttons.Save | buttons.Cancel, buttons.Cancel,
        )  # fmt: skip
        return answer == buttons.Save

    def state_text(self, clean: bool) -> str:
        """How safe the work is."""
        if not self._session.plan.shots:
            return ""
        if not clean:
            return "unsaved (autosaved)" if self._safe.keeps else "not saved"
        if not self._saved_at:
            return "not saved yet"
        age = time.time() - self._saved_at
        if not 0.0 <= age < _RECENT_S:
            return f"saved {when_text(self._saved_at)}"
        return f"saved {age:.0f} s ago" if age < 60 else f"saved {age / 60:.0f} min ago"


def _changed_at(path: Path) -> float:
    """When a file was written, seconds since 1970; 0 where that cannot be known."""
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0
