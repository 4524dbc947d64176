"""What a job is made from, wherever that is: its work, the plan as it is now, and files by their content."""

import hashlib
import json
import math
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass
from functools import cached_property, lru_cache
from pathlib import Path

from kobrel import trust
from kobrel.errors import SceneError
from kobrel.farm.work import Work
from kobrel.files import is_file, require_file
from kobrel.plan.file import files_of, open_plan
from kobrel.plan.model import Plan, Shot
from kobrel.plan.names import shot_named
from kobrel.plan.space.rebinding import rebound
from kobrel.plan.staging import load_stage
from kobrel.stage.read.plates.playing import is_movie
from kobrel.stage.read.rendered.frames import frames_beside, number_in, path_at
from kobrel.stage.scene import Progress, no_progress


@dataclass(frozen=True)
class File:
    """A file by its content: where it lies for whoever gave the job, its SHA-256 and its bytes."""

    path: str
    digest: str
    size: int


@dataclass(frozen=True)
class Bundle:
    """All that a job's items are made from.

    Parameters
    ----------
    work : what is made, as JSON
    plan : the plan it is made of, as JSON, with absolute paths
    files : what the plan draws in
    """

    work: str
    plan: str
    files: tuple[File, ...]

    @cached_property
    def key(self) -> str:
        """What tells it from all others: the SHA-256 of all that it says."""
        return hashlib.sha256(self.to_json().encode()).hexdigest()

    @cached_property
    def of_files(self) -> str:
        """What tells its files from others: the SHA-256 of their paths and contents."""
        return hashlib.sha256(repr(self.files).encode()).hexdigest()

    @cached_property
    def of_frames(self) -> str:
        """What tells a frame of it from others, whoever makes it, wherever the files lie there, and whichever
        frames a job is of: the SHA-256 of the plan, of its files by their content, and of how it is drawn. Of
        a rendered sequence see :attr:`sources`.
        """
        work, plan = self.made_of
        said = plan.replace(proofs=(), handed=()).model_dump_json()
        by_frame = {path for paths in self._rendered.values() for path in paths}
        for file in sorted(self.files, key=lambda each: -len(each.path)):
            means = Path(file.path).name if file.path in by_frame else file.digest
            said = said.replace(json.dumps(file.path)[1:-1], means)
        how = work.model_dump(mode="json", exclude={"plan", "first", "last", "output", "bands"})
        digests = sorted({file.digest for file in self.files if file.path not in by_frame})
        told = json.dumps([said, how, Path(work.output).name, digests], sort_keys=True)
        return hashlib.sha256(told.encode()).hexdigest()

    @cached_property
    def _rendered(self) -> dict[int, list[str]]:
        """The files of a rendered sequence, by their frames."""
        work, plan = self.made_of
        found = None if work.kind in ("ladder", "sheet") else plan.finished_of(shot_of(plan, work))
        if found is None or not found.sequence:
            return {}
        patterns = [path for path in (found.path, found.depth_path) if path]
        result: dict[int, list[str]] = {}
        for file in self.files:
            frame = number_in(file.path)
            if frame is not None and any(str(path_at(p, frame, True)) == file.path for p in patterns):
                result.setdefault(frame, []).append(file.path)
        return result

    @cached_property
    def sources(self) -> dict[str, str]:
        """What tells a frame of a rendered sequence from others, besides :attr:`of_frames`: the SHA-256 of
        its own files by their content, by its number.
        """
        digests = {file.path: file.digest for file in self.files}
        return {
            str(frame): hashlib.sha256(" ".join(digests[path] for path in sorted(paths)).encode()).hexdigest()
            for frame, paths in self._rendered.items()
        }

    def to_json(self) -> str:
        """The bundle as text."""
        return json.dumps(asdict(self), sort_keys=True)

    @staticmethod
    def from_json(text: str) -> "Bundle":
        """A bundle from its text."""
        found = json.loads(text)
        return Bundle(found["work"], found["plan"], tuple(File(**each) for each in found["files"]))

    @cached_property
    def made_of(self) -> tuple[Work, Plan]:
        """The work, and the plan it is made of."""
        return Work.model_validate_json(self.work), Plan.model_validate_json(self.plan)


def digest_of(path: Path) -> str:
    """SHA-256 of a file; it is remembered until the file is another.

    Raises
    ------
    KobrelError
        The file is missing or cannot be read.
    """
    require_file(path)
    found = path.stat()
    return _digest(str(path), found.st_mtime_ns, found.st_size, found.st_ino)


@lru_cache(4096)
def _digest(path: str, _time: int, _size: int, _node: int) -> str:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def file_of(path: Path) -> File:
    """A file by its content.

    Raises
    ------
    KobrelError
        The file is missing or cannot be read.
    """
    digest = digest_of(path)
    return File(str(path), digest, path.stat().st_size)


def pieces_of(path: Path, size: int) -> Iterator[bytes]:
    """The content of a file, in pieces of so many bytes."""
    with path.open("rb") as file:
        while piece := file.read(size):
            yield piece


def shot_of(plan: Plan, work: Work) -> Shot:
    """The shot that a job is of.

    Raises
    ------
    PlanError
        There is none of that name.
    """
    return shot_named(plan, work.shot or None, work.plan)


def packed(
    work: Work, plan: Plan | None = None, progress: Progress = no_progress
) -> tuple[Bundle, list[str]]:
    """A job made ready to travel: its scenes are read once here, so that what is wrong is told before.

    Parameters
    ----------
    plan : as it is; none reads the file that the work names

    Returns
    -------
    The bundle, and what was assumed or not found, in sentences.

    Raises
    ------
    KobrelError
        The plan, the shot or a file is missing.
    """
    if plan is None:
        plan = open_plan(Path(work.plan))
    if work.kind != "sheet":
        shot_of(plan, work)
    with trust.noting() as noted:
        stage, problems = load_stage(plan, progress)
        if problems:
            raise SceneError(problems[0])
    plan, elsewhere = rebound(plan, stage)
    if work.kind == "sheet":
        named: Iterable[Path] = [Path(proof.path) for proof in work.proofs]
    else:
        named = [*noted, *(Path(name) for name in _kept_files(plan)), *_frames_of(plan, work)]
    files = []
    for number, path in enumerate(sorted({each for each in named if is_file(each)})):
        progress(f"Looking at {path.name}", number / (number + 10))
        files.append(file_of(path))
    bundle = Bundle(work.model_dump_json(), plan.model_dump_json(), tuple(files))
    return bundle, [*stage.warnings, *elsewhere]


def _kept_files(plan: Plan) -> list[str]:
    """Files that the plan names, but for proofs and for what is exported, which pictures do not need."""
    return files_of(plan.replace(proofs=(), handed=()))


def _frames_of(plan: Plan, work: Work) -> list[Path]:
    """Frames of sequences, which are read when they are needed: of rendered images the wanted ones."""
    shot = None if work.kind in ("ladder", "sheet") else shot_of(plan, work)
    found = plan.finished_of(shot) if shot is not None else None
    ends = (-math.inf, math.inf)
    paths: list[tuple[str, tuple[float, float]]] = []
    if shot is not None and found is not None and found.sequence:
        first, last = (shot.first if work.first is None else work.first), work.last
        wanted = first, (shot.last if last is None else last)
        paths += [(path, wanted) for path in (found.path, found.depth_path) if path]
    playing = [plate.picture for plate in plan.plates if plate.picture.playing is not None]
    paths += [(picture.path, ends) for picture in playing if not is_movie(Path(picture.path))]
    return [
        path_at(path, frame, True)
        for path, (low, high) in paths
        if trust.is_allowed(path)
        for frame in frames_beside(Path(path))
        if low <= frame <= high
    ]
