"""Makes the items of a job: on a worker, in a folder of its own, as the exporters write them."""

import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from kobrel import notices
from kobrel.errors import KobrelError, SceneError
from kobrel.exchange.movie import Movie, Reel, frame_ends, picture_path, reel_of
from kobrel.exchange.render import write_rendered
from kobrel.farm import store
from kobrel.farm.bundle import Bundle, File, shot_of
from kobrel.farm.work import Work
from kobrel.picture.tracer import Block, block_sums, blocks, exposed, from_sums
from kobrel.plan.file import with_paths
from kobrel.plan.model import Plan, Shot
from kobrel.plan.staging import Library, stage_of, unit_of
from kobrel.plan.variants.bracket import Rung
from kobrel.stage.scene import Progress, no_progress
from kobrel.stage.stage import Stage

SOUND, NOTES = "sound", "notes"
"""Items that are no frames: what is heard in a movie; what says how layers are put together."""
_KEPT = 2
"""Jobs whose stages are kept in memory."""


@dataclass(frozen=True)
class Item:
    """A part of a job that is made at one go.

    Parameters
    ----------
    key : what it is called: a frame's number, a rung's, "sheet" or "sound"
    number : frame, or the rung's place in the ladder
    """

    key: str
    number: int = 0


@dataclass(frozen=True)
class Made:
    """What was made of an item.

    Parameters
    ----------
    files : their names below the job's folder, and their content
    told : what was left out or looks odd, in sentences
    seconds : how long it took
    worker : address of who made it
    """

    key: str
    files: tuple[tuple[str, bytes], ...]
    told: tuple[str, ...]
    seconds: float
    worker: str


@dataclass(frozen=True, eq=False)
class Maker:
    """Makes the items of one job from its stage."""

    work: Work
    plan: Plan
    stage: Stage
    _making_reel: threading.Lock = field(default_factory=threading.Lock)

    @cached_property
    def shot(self) -> Shot:
        """The shot that is made."""
        return shot_of(self.plan, self.work)

    @property
    def _is_rendered(self) -> bool:
        return self.plan.finished_of(self.shot) is not None

    @cached_property
    def reel(self) -> Reel:
        """The shot with its numbers, from which frames are drawn."""
        work = self.work
        movie = Movie(
            work.first, work.last, work.width, work.height, work.samples, frozenset(work.burn), work.sound,
            work.clay, work.denoise,
        )  # fmt: skip
        return reel_of(self.plan, self.shot, self.stage, movie, even=work.kind == "movie")

    def _ready_reel(self) -> Reel:
        """The same, made by one thread."""
        with self._making_reel:
            return self.reel

    @property
    def _name(self) -> str:
        """Name of the files: a movie's frames are pictures without loss until they are put together."""
        target = self.work.target
        return f"{target.stem}.png" if self.work.kind == "movie" else target.name

    def write(self, item: Item, folder: Path, progress: Progress = no_progress) -> list[str]:
        """Write an item's files into a folder; what looked odd, in sentences."""
        kind = self.work.kind
        if item.key == SOUND:
            self._write_sound(folder)
        elif kind == "ladder":
            self._write_rung(item.number, folder, progress)
        elif kind == "sheet":
            self._write_sheet(folder, progress)
        elif kind == "passes":
            self._write_passes(item.number, folder, progress)
        elif kind == "layers":
            self._write_layers(item, folder, progress)
        elif self._is_rendered:
            return self._write_rendered(item.number, folder, progress)
        else:
            reel = self._ready_reel()
            row = self._row(item)
            what, passes = f"Frame {item.number}", self.work.samples
            view = reel.view(row)
            linear = exposed(
                view, passes, before=lambda done: progress(what, done / passes), denoise=self.work.denoise
            )
            self._write_frame(row, item, linear, folder)
        return []

    def _row(self, item: Item) -> int:
        return item.number - int(self._ready_reel().numbers.frames[0])

    def _write_frame(self, row: int, item: Item, linear: NDArray[np.float32], folder: Path) -> None:
        reel = self._ready_reel()
        target = picture_path(folder / self._name, item.number)
        write_rendered(target, reel.view(row), linear, reel.slate(row), reel.words(row))

    # A frame in bands of passes

    def sums(self, item: Item, wanted: Sequence[Block]) -> list[NDArray[np.float32]]:
        """The sums of some blocks of a frame's passes."""
        return list(block_sums(self._ready_reel().view(self._row(item)), wanted))

    def write_summed(self, item: Item, sums: Sequence[NDArray[np.float32]], folder: Path) -> None:
        """Write a frame from the sums of all its blocks."""
        row = self._row(item)
        linear = from_sums(self._ready_reel().view(row), sums, self.work.samples, self.work.denoise)
        self._write_frame(row, item, linear, folder)

    # Other kinds

    def _write_sound(self, folder: Path) -> None:
        from kobrel.exchange.sound import sound_of

        np.save(folder / f"{SOUND}.npy", sound_of(self.plan, self.shot, self._ready_reel().numbers))

    def _write_rendered(self, frame: int, folder: Path, progress: Progress) -> list[str]:
        from kobrel.exchange.rendered.write import Choices, defocus

        found = self.plan.finished_of(self.shot)
        assert found is not None
        choices = Choices(grow_stops=self.work.grow_stops, most_px=self.shot.most_px, again=True)
        frames = [frame] if found.sequence else None
        return defocus(
            self.plan, self.shot, self.stage, found, frames, choices, folder / self._name, progress
        )

    def _write_passes(self, frame: int, folder: Path, progress: Progress) -> None:
        from kobrel.exchange.passes import write_passes

        work, target = self.work, folder / self._name
        unit = unit_of(self.plan, self.stage, work.unit)
        write_passes(
            self.plan, self.shot, self.stage, [frame], work.passes, target, progress, unit, self._size()
        )
        if frame != items_of(work, self.plan)[0].number:  # all have the same note
            target.with_suffix(".txt").unlink()

    def _write_layers(self, item: Item, folder: Path, progress: Progress) -> None:
        from kobrel.exchange.plates.layers import require_layers, write_layer_notes, write_layers_at

        target, frames = folder / self._name, items_of(self.work, self.plan)[:-1]
        require_layers(self.plan, target)
        if item.key == NOTES:
            ends = frames[0].number, frames[-1].number
            write_layer_notes(self.plan, self.shot, self.stage, target, ends)
            return
        write_layers_at(
            self.plan, self.shot, self.stage, item.number, target, len(frames) > 1, self._size(),
            self.work.samples, progress,
        )  # fmt: skip

    def _size(self) -> tuple[int, int] | None:
        work = self.work
        return (work.width, work.height) if work.width and work.height else None

    def _write_rung(self, number: int, folder: Path, progress: Progress) -> None:
        from kobrel.exchange.proof.files import drawn_rung, write_proof

        of, work = self.work.rungs[number], self.work
        rung = Rung(of.name, of.shot, of.frame)
        proof, kept = drawn_rung(self.plan, rung, self.stage, work.width or 640, work.samples, progress)
        write_proof(folder, proof, kept)

    def _write_sheet(self, folder: Path, progress: Progress) -> None:
        from kobrel.exchange.proof.sheet import Sheet, write_sheet

        work, of = self.work, self.work.sheet
        unit = unit_of(self.plan, self.stage, work.unit)
        sheet = Sheet(of.title or self.plan.name, of.page, of.wide, of.columns, of.captions, unit)
        write_sheet(folder / self._name, work.proofs, sheet, progress)


_makers: LRUCache[str, Maker] = LRUCache(_KEPT)
_libraries: LRUCache[tuple[File, ...], tuple[Library, Stage]] = LRUCache(_KEPT)
"""What was read, by its files: jobs of the same scenes share it."""
_reading = threading.Lock()


def is_ready(bundle: Bundle) -> bool:
    """Whether a job's scenes are in memory here."""
    return bundle.key in _makers


def maker_of(bundle: Bundle) -> Maker:
    """What makes the items of a job here; its scenes are read once.

    Raises
    ------
    KobrelError
        A scene cannot be read here.
    """
    with _reading:
        maker = _makers.get(bundle.key)
        if maker is None:
            maker = _makers[bundle.key] = _made_ready(bundle)
        return maker


def _made_ready(bundle: Bundle) -> Maker:
    root = store.laid_out(bundle)
    work, plan = bundle.made_of
    if root is not None:
        here = str(root)
        plan = with_paths(plan, lambda path: f"{here}{path}" if Path(path).is_absolute() else path)
        work = work.replace(proofs=tuple(proof.replace(path=f"{here}{proof.path}") for proof in work.proofs))
    library, like = _libraries.pop(bundle.files, None) or (Library(), None)
    library.read(plan)
    problems = library.problems_of(plan)
    if problems:
        raise SceneError(problems[0])
    stage = stage_of(plan, library, like)
    stage.prepare(no_progress)
    _libraries[bundle.files] = library, stage
    return Maker(work, plan, stage)


def made(key: str, worker: str, write: Callable[[Path], Sequence[str]]) -> Made:
    """What a function writes into a folder of its own."""
    begun = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="kobrel-item-") as name:
        folder = Path(name)
        told = [*write(folder), *notices.take()]
        files = tuple(
            (str(path.relative_to(folder)), path.read_bytes())
            for path in sorted(folder.rglob("*"))
            if path.is_file()
        )
    return Made(key, files, tuple(told), time.monotonic() - begun, worker)


def items_of(work: Work, plan: Plan) -> list[Item]:
    """The items of a job, in the order in which they are wanted.

    Raises
    ------
    KobrelError
        There are none, or the shot is missing.
    """
    if work.kind == "sheet":
        return [Item("sheet")]
    if work.kind == "ladder":
        return [Item(f"step {number + 1}", number) for number in range(len(work.rungs))]
    shot = shot_of(plan, work)
    found = plan.finished_of(shot)
    with_handles = work.kind in ("pictures", "movie") and found is None
    first, last = frame_ends(shot if with_handles else shot.replace(handles=0), Movie(work.first, work.last))
    frames = list(range(first, last + 1))
    if found is not None and work.kind in ("pictures", "movie"):
        frames = _rendered_frames(found.path, found.sequence, frames)
    if not frames:
        raise KobrelError(f"no frame from {first} to {last}.", file=work.plan)
    items = [Item(str(frame), frame) for frame in frames]
    if work.kind == "layers":
        return [*items, Item(NOTES)]
    return [*items, Item(SOUND)] if work.kind == "movie" and work.sound and found is None else items


def _rendered_frames(path: str, sequence: bool, wanted: list[int]) -> list[int]:
    from kobrel.stage.read.rendered.frames import frames_beside

    if not sequence:
        return wanted[:1]
    there = set(frames_beside(Path(path)))
    return [frame for frame in wanted if frame in there]


def bands_of(work: Work) -> list[list[Block]]:
    """The blocks of a frame's passes, shared out in as many bands as are wanted.

    >>> from kobrel.farm.work import work_of
    >>> work = work_of(kind="pictures", plan="a.kobrel", output="a.exr", samples=20, bands=2)
    >>> bands_of(work)
    [[(0, 8), (8, 16)], [(16, 20)]]
    """
    whole = blocks(work.samples)
    count = min(work.bands, len(whole))
    return [list(map(tuple, part.tolist())) for part in np.array_split(np.array(whole), count)]


def can_be_split(work: Work, plan: Plan, item: Item) -> bool:
    """Whether an item's passes can be shared out."""
    drawn = work.kind in ("pictures", "movie") and item.key != SOUND
    return drawn and work.bands > 1 and plan.finished_of(shot_of(plan, work)) is None
