"""The scene files of the plan in work: adding, finding, noticing changes, reading again."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from kobrel.desk.background.jobs import Job
from kobrel.plan import edit
from kobrel.plan.model import Plan, SceneRef
from kobrel.plan.names import scene_name
from kobrel.plan.plates.pixels import plate_key
from kobrel.plan.staging import Library, source_of, stage_of
from kobrel.session import settings
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

_SETTLE_MS = 500


class SceneFiles(QObject):
    """Reads what the plan names, beside the window, and watches it on disk.

    Parameters
    ----------
    folder : where file choosers begin

    Signals
    -------
    job_wanted : long work to be run with progress
    told : what a person should know at leisure
    outdated : paths that are newer on disk than what is shown
    """

    job_wanted = Signal(object)
    told = Signal(str, list)
    outdated = Signal(list)

    def __init__(self, session: Session, folder: Callable[[], str], parent: QObject) -> None:
        super().__init__(parent)
        self._session, self.folder = session, folder
        self._watcher = QFileSystemWatcher(self)
        self._job: Job | None = None
        self._watched: list[str] = []
        self._times: dict[str, float] = {}
        self._settling = QTimer(self)
        self._settling.setSingleShot(True)
        self._settling.setInterval(_SETTLE_MS)
        self._settling.timeout.connect(self._look)
        self._watcher.fileChanged.connect(lambda _path: self._settling.start())
        session.wanted.connect(self._read_wanted)
        session.watch({Document.plan}, self._watch)

    def _read_wanted(self, what: str) -> None:
        if what == "files":
            self.read_missing()

    def add(self, path: Path) -> None:
        """Add a scene file to the plan."""
        settings.allow_chosen(self._session.settings, path)
        plan = self._session.plan
        name = scene_name(path, {scene.name for scene in plan.scenes})
        self._session.edit(
            f"Add scene {name}", edit.add_scene(plan, SceneRef(name=name, path=str(path.absolute())))
        )

    def read_missing(self) -> None:
        """Read what the plan names and is not here yet."""
        if self._job is None and self._session.library.missing(self._session.plan):
            self._read(set())

    def reload(self, paths: list[str]) -> None:
        """Read files again; what is tied to their parts stays tied."""
        self._read(set(paths))

    def _read(self, again: set[str]) -> None:
        session, plan, old = self._session, self._session.plan, self._session.library
        library = Library(dict(old.scenes), dict(old.surrounds), dict(old.problems), shelf=old.shelf.copy())
        for path in again:
            library.forget(path)
        like = session.stage

        def work(progress: Progress) -> Stage:
            library.read(plan, progress)
            stage = stage_of(plan, library, like)
            stage.prepare(progress)
            return stage

        job = self._job = Job(work, self)
        for ended in (job.done, job.failed, job.cancelled):
            ended.connect(lambda *_: self.drop(job))
        job.done.connect(lambda stage: self._take(old, library, stage, again))
        job.cancelled.connect(lambda: self._give_up(plan, old))
        self.job_wanted.emit(job)

    def drop(self, job: object) -> None:
        """A reading has ended, or could not begin."""
        if job is self._job:
            self._job = None

    def _take(self, old: Library, library: Library, stage: object, again: set[str]) -> None:
        """What was read becomes the stage; a file that cannot be read any more stays as it was."""
        assert isinstance(stage, Stage)
        session = self._session
        if session.library is not old:
            return  # another plan is in work
        for path in again & library.problems.keys():
            library.scenes |= {source: scene for source, scene in old.scenes.items() if source[0] == path}
        fresh = [text for path, text in library.problems.items() if old.problems.get(path) != text]
        known = {w for scene in old.scenes.values() for w in scene.warnings}
        fresh += [
            warning
            for source, scene in library.scenes.items()
            if old.scenes.get(source) is not scene
            for warning in scene.warnings
            if warning not in known
        ]
        self._times = {path: time for path, time in self._times.items() if path not in again}
        for path in again:
            library.problems.pop(path, None)
        before = session.stage
        session.restage(library, stage)
        if again:
            from kobrel.plan.check import findings
            from kobrel.plan.space.rebinding import rebound

            plan, found = rebound(session.plan, session.stage, before)
            if plan is not session.plan:
                session.edit("Relink objects", plan)
            fresh += found + findings(session.plan, session.stage)
            session.say(f"Read again: {', '.join(Path(path).name for path in sorted(again))}.")
            self._look()
        else:
            read = sorted({Path(path).name for path, *_ in library.scenes.keys() - old.scenes.keys()})
            session.say(f"Read {', '.join(read)}." if read else "")
        known_told = {text for told in old.shelf.told.values() for text in told}
        fresh += [text for told in library.shelf.told.values() for text in told if text not in known_told]
        self.read_missing()  # what was changed meanwhile
        if fresh:
            self.told.emit("Scene loaded with warnings", fresh)

    def _give_up(self, plan: Plan, library: Library) -> None:
        """Reading was cancelled: the files count as not readable until asked for again."""
        session = self._session
        unread = {
            scene.path: f"{scene.path}: reading was cancelled. Reload it in Block."
            for scene in plan.scenes
            if source_of(scene) not in library.scenes
        }
        unmade = {plate_key(plan, plate) for plate in plan.plates} - library.shelf.sources.keys()
        unread |= {
            key.source: f"{key.source}: making its plate was cancelled. Reload it in Block, Plates."
            for key in unmade
        }
        shelf = library.shelf.copy()
        shelf.failed |= unmade
        if session.library is library:
            marked = Library(library.scenes, library.surrounds, {**library.problems, **unread}, shelf=shelf)
            session.restage(marked, session.stage)

    # On disk

    def _paths(self) -> list[str]:
        plan = self._session.plan
        paths = [scene.path for scene in plan.scenes]
        paths += [plate.picture.path for plate in plan.plates if plate.picture.path]
        return paths + ([plan.light.surround.path] if plan.light.surround else [])

    def _watch(self) -> None:
        """Watch the files that the plan names now."""
        if (paths := self._paths()) != self._watched:
            self._watched = paths
            self._watch_again()

    def _watch_again(self) -> None:
        wanted = {path for path in self._watched if Path(path).is_file()}
        watched = set(self._watcher.files())
        if watched - wanted:
            self._watcher.removePaths(sorted(watched - wanted))
        if wanted - watched:
            self._watcher.addPaths(sorted(wanted - watched))
        for path in wanted:
            self._times.setdefault(path, Path(path).stat().st_mtime)

    def _look(self) -> None:
        """Tell which files are newer on disk; one that was exchanged is watched anew."""
        newer = []
        for path in self._paths():
            file = Path(path)
            if file.is_file() and file.stat().st_mtime > self._times.get(path, float("inf")):
                newer.append(path)
        self._watch_again()
        self.outdated.emit(newer)
