"""Playing the true blur from memory: which frames are wanted, how they are made, and what they are
seen beside.
"""

from dataclasses import astuple, dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from kobrel.desk.background.drawing import Drawing
from kobrel.desk.toolkit.images import to_image
from kobrel.errors import KobrelError
from kobrel.memo import Changed
from kobrel.memory import bytes_text, total_memory
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.staging import stage_of, staged_alike
from kobrel.plan.variants import alts, proofs
from kobrel.session import settings
from kobrel.session.document import Document
from kobrel.session.numbers import NUMBERS
from kobrel.session.session import Session
from kobrel.session.view import View
from kobrel.stage.stage import Stage

if TYPE_CHECKING:
    from kobrel.picture.frame_cache import FrameCache, Wanted
    from kobrel.picture.service import Spare

SIZES = (320, 640, 960)
BEFORE = "before last change"
_PROOF = "proof: "
_SETTLE_MS = 250
_KEPT = {
    "width": settings.MEMORY_WIDTH, "passes": settings.MEMORY_PASSES, "every": settings.MEMORY_EVERY,
}  # fmt: skip


@dataclass(frozen=True)
class Draft:
    """How the frames in memory are made.

    Parameters
    ----------
    width : of the pictures in pixels
    passes : exact passes for each
    every : 1 for all frames, 2 for every second
    clay : whether surfaces are drawn in one grey
    """

    width: int = 640
    passes: int = 16
    every: int = 1
    clay: bool = False


class Playback(QObject):
    """Holds the frames of the shot in memory, and those of what it is compared with.

    Signals
    -------
    changed : more frames are there, or others are wanted
    """

    changed = Signal()
    _came = Signal()

    def __init__(self, session: Session, drawing: Drawing, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session, self._drawing = session, drawing
        width, passes, every = (session.settings.get(setting) for setting in _KEPT.values())
        self.draft = Draft(width, passes, every)
        self.on = False
        self.beside = self.left = ""
        self._caches: tuple[FrameCache, FrameCache] | None = None
        self._changed = Changed()
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_SETTLE_MS)
        self._later.timeout.connect(self._want)
        self._came.connect(self.changed)
        session.watch((*NUMBERS, Document.dragging), self._soon)
        session.watch({View.play_range}, self._take_range)
        session.watch({View.denoises}, self._soon)
        drawing.ready.connect(self._soon)

    # What a person chooses

    def switch(self, on: bool) -> None:
        """Hold frames in memory from now on, or let them go."""
        self.on = on
        if not on:
            self.beside = self.left = ""
            self._drawing.fill(None)
            self._forget()
        self._want()
        self.changed.emit()

    def set_draft(self, **changes: object) -> None:
        """Make the frames otherwise."""
        self.draft = replace(self.draft, **changes)  # type: ignore[arg-type]
        for name, setting in _KEPT.items():
            self._session.settings.put(setting, getattr(self.draft, name))
        self._want()
        self.changed.emit()

    def set_range(self, first: int, last: int) -> None:
        """Hold and play only these frames; the shot's own are all."""
        self._session.play_only(first, last)

    def _take_range(self) -> None:
        self._want()
        self.changed.emit()

    def compare(self, beside: str, left: str = "") -> None:
        """Show it beside one of :meth:`ways`, or beside itself :data:`BEFORE`; "" alone.

        First, on the left or above, stands the shot as it is, or one of its Alts too.
        """
        self.beside, self.left = beside, left if beside else ""
        if beside:
            self._session.view.seen = ""  # the wall makes room for the two pictures
        if beside and not self.on:
            self.switch(True)
        self._want()
        self.changed.emit()

    # What is there

    @property
    def frames(self) -> tuple[int, int]:
        """First and last frame of the range that was chosen."""
        return self._session.played

    @property
    def span(self) -> tuple[int, int]:
        """First and last frame that are played: the whole shot while a pull is performed."""
        shot = self._session.shot
        return (shot.first, shot.last) if shot is not None and self._session.dragging else self.frames

    def image(self, frame: int, which: int = 0) -> QImage | None:
        """The picture of a frame: the shot's (0), or that of what it is compared with (1)."""
        pixels = self._caches[which].picture(frame) if self._caches else None
        return None if pixels is None else to_image(pixels)

    def filled(self, which: int = 0) -> tuple[np.ndarray, np.ndarray]:
        """The frames that are wanted, and which are there."""
        if self._caches is None:
            return np.zeros(0, int), np.zeros(0, bool)
        return self._caches[which].filled

    @property
    def made(self) -> int:
        """How many pictures were made so far, of the shot alone."""
        return self._caches[0].made if self._caches else 0

    @property
    def told(self) -> str:
        """How far it is, in words."""
        frames, there = self.filled()
        if not self.on or not len(frames):
            return ""
        text = f"{int(there.sum())} of {len(frames)} frames in memory"
        short = self._caches is not None and self._caches[0].short
        return f"{text}; memory full. Choose a smaller size" if short else text

    # Memory

    def limit_memory(self) -> None:
        """Hold no more than the settings allow; two ways that are compared share it."""
        if self._caches is not None:
            part = self._session.settings.get(settings.MEMORY_PERCENT) / 100
            shared = 2 if self.beside else 1
            for cache in self._caches:
                cache.limit(int(total_memory() * part / shared))

    @property
    def memory_told(self) -> str:
        """How much is held of how much may be, in words."""
        part = self._session.settings.get(settings.MEMORY_PERCENT) / 100
        held = sum(cache.size for cache in self._caches) if self._caches else 0
        return f"Frames in memory take {bytes_text(held)} of {bytes_text(total_memory() * part)}."

    # Making

    def _soon(self) -> None:
        if self.on and not self._later.isActive():
            self._later.start()

    def _want(self) -> None:
        """Tell the caches what they are to hold, and have what is missing made."""
        session, numbers, shot = self._session, self._session.survey, self._session.shot
        if not self.on or session.dragging or session.walk is not None:
            return
        if shot is None or numbers is None:
            self._forget()
            return
        looks = astuple(self.draft), session.view.denoises
        parts = session.parts, numbers, self.frames, looks, self.beside, self.left
        if not self._changed(*parts):
            self._drawing.fill(self._next)
            return
        from kobrel.picture.frame_cache import FrameCache

        there = {"", BEFORE, *self.ways(shot)}
        if self.beside not in there:
            self.beside = ""
        self.left = self.left if self.left in there and self.beside else ""
        if self._caches is None:
            self._caches = FrameCache(self._came.emit), FrameCache(self._came.emit)
        self.limit_memory()
        first = (self._other(self.left) if self.left else None) or (session.plan, session.stage, numbers)
        self._caches[0].want(self._wanted(*first))
        other = self._other(self.beside) if self.beside else None
        if other is None:
            self._caches[1].forget()
        else:
            self._caches[1].want(self._wanted(*other))
        self._drawing.fill(self._next)
        self.changed.emit()

    def _forget(self) -> None:
        for cache in self._caches or ():
            cache.forget()
        self._changed.forget()

    def _wanted(self, plan: Plan, stage: Stage, numbers: Survey) -> "Wanted":
        from kobrel.picture.frame_cache import Wanted

        session, (first, last) = self._session, self.frames
        rows = [
            row for row, frame in enumerate(numbers.frames)
            if first <= frame <= last and (int(frame) - first) % self.draft.every == 0
        ]  # fmt: skip
        camera = numbers.camera.rows(rows).whole
        light = plan.light.replace(surfaces="clay") if self.draft.clay else plan.light
        height = max(2, round(self.draft.width / camera.aspect))
        frames = numbers.frames[rows].astype(np.int64)
        return Wanted(
            stage, camera, frames, light, self.draft.width, height, self.draft.passes, plan.finish,
            self._drawing.finished_of(self._session.shot), session.view.denoises,
        )  # fmt: skip

    def _other(self, name: str) -> tuple[Plan, Stage, Survey] | None:
        """An Alt of the shot, or the shot before the last change; None where that is not there."""
        session, shot = self._session, self._session.shot
        if shot is None:
            return None
        plan, stage = session.plan, session.stage
        try:
            if name == BEFORE:
                change = session.history.last
                other = next((s for s in change.old.shots if s.name == shot.name), None) if change else None
                if change is None or other is None:
                    return None
                plan = change.old
                stage = stage if staged_alike(plan, session.plan) else stage_of(plan, session.library, stage)
            else:
                other = self._way(shot, name)
            numbers = survey(plan, other, stage, np.arange(shot.first, shot.last + 1.0))
        except KobrelError as error:
            session.say(str(error))
            return None
        return plan, stage, numbers

    def ways(self, shot: Shot) -> list[str]:
        """What a shot can be seen beside in motion: its Alts, and the proofs of it."""
        kept = [f"{_PROOF}{proof.name}" for proof in self._session.plan.proofs if proof.shot == shot.name]
        return [*(alt.name for alt in shot.alts), *kept]

    def _way(self, shot: Shot, name: str) -> Shot:
        """The shot with the settings of an Alt or of a proof."""
        plan = self._session.plan
        proof = plan.proof(name.removeprefix(_PROOF)) if name.startswith(_PROOF) else None
        if proof is None:
            return alts.taken(shot, name)
        return proofs.taken(plan, plan.shots.index(shot), proof, "all").shots[plan.shots.index(shot)]

    def _next(self) -> "Spare | None":
        """The next picture to make, of whichever side has fewer; called from the drawing's thread."""
        caches, frame = self._caches, self._session.frame
        if caches is None:
            return None
        spares = (cache.next_from(frame) for cache in sorted(caches, key=lambda cache: cache.count))
        return next((spare for spare in spares if spare is not None), None)
