"""Keeping pictures as proofs, drawing ladders, and reading proofs again, all beside the window."""

import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from kobrel import trust
from kobrel.desk.background.drawing import Drawing
from kobrel.desk.background.jobs import Job
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import Plan, Proof, Shot
from kobrel.plan.variants import proofs
from kobrel.plan.variants.bracket import Rung, distinct
from kobrel.session.session import Session
from kobrel.stage.scene import Progress

if TYPE_CHECKING:
    from kobrel.picture.service import Taken

_AGAIN_MS, _MOST_TRIES = 40, 50


class Proofing(QObject):
    """Keeping pictures as proofs, drawing ladders, and reading proofs again, all beside the window.

    Parameters
    ----------
    plan_path : where the plan is saved, if it is

    Signals
    -------
    job_wanted : long work to be run with progress
    changed : the ladder has other rungs
    """

    job_wanted = Signal(object)
    changed = Signal()
    _drawn = Signal(object)

    def __init__(
        self, session: Session, drawing: Drawing, plan_path: Callable[[], Path | None], parent: QObject
    ) -> None:
        super().__init__(parent)
        self._session, self._drawing, self._plan_path = session, drawing, plan_path
        self._wanted: tuple[Plan, Shot, float, Camera] | None = None
        self._tries = 0
        self._spare: tempfile.TemporaryDirectory[str] | None = None
        self.rungs: list[Proof] = []
        self.across = 0
        """Steps in a row of the bracket's grid; 0 for as many as fit."""
        if session.settings.state is not None:  # proofs of plans that were never saved lie there
            trust.allow([session.settings.state])
        drawing.taken.connect(self._write)
        self._drawn.connect(self._add_rung)
        session.closing.connect(self._clear)
        session.wanted.connect(lambda what: self.keep() if what == "keep" else None)

    # Keeping

    def folder(self) -> Path:
        """Where proofs are written: beside the plan, or for a while elsewhere where it was never saved."""
        path = self._plan_path()
        return proofs.folder_of(path) if path is not None else self._spare_folder() / "kept"

    def _spare_folder(self) -> Path:
        if self._spare is None:
            state = self._session.settings.state
            if state is not None:
                state.mkdir(parents=True, exist_ok=True)
            self._spare = tempfile.TemporaryDirectory(prefix="proofs-", dir=state)
            trust.allow([self._spare.name])
        return Path(self._spare.name)

    def _clear(self) -> None:
        """What was never kept goes; proofs of a plan that was never saved stay for its journal."""
        if self._spare is not None and not any(
            Path(proof.path).is_relative_to(self._spare.name) for proof in self._session.plan.proofs
        ):
            self._spare.cleanup()
        elif self._spare is not None:
            self._spare._finalizer.detach()  # type: ignore[attr-defined]

    def keep(self) -> None:
        """Keep the picture in hand."""
        session = self._session
        if session.shot is None or session.camera is None:
            session.say("No picture yet.")
        elif session.walk is not None or session.defocus_everything_px:
            session.say("Return to the shot camera to add a proof.")
        elif self._drawing.take():
            self._wanted = (session.plan, session.shot, float(session.frame), session.camera.whole)
            self._tries = 0
        else:
            session.say("No picture yet.")

    def _write(self, taken: "Taken") -> None:
        """Write the picture in hand beside the window, and then note it in the plan."""
        from kobrel.exchange.proof.files import Kept, write_proof
        from kobrel.exchange.writing.slate import Slate

        if self._wanted is None:
            return
        plan, shot, frame, wanted = self._wanted
        camera, light = taken.request.camera, plan.light
        if taken.request.frame != frame or not _alike(camera, wanted):
            self._wait_for_it()
            return
        self._wanted = None
        size = (taken.colour.shape[1], taken.colour.shape[0])
        proof = proofs.proof_of(
            shot, camera, frame, size, taken.passes, name=self._next_name(),
            shown_ev=light.exposure_ev + float(camera.shown_ev), shoulder=light.shoulder,
        )  # fmt: skip
        kept, folder = (
            Kept(taken.colour, taken.depth_m, taken.blur_px, Slate(camera, frame, shot.fps)),
            self.folder(),
        )
        job = Job(lambda _progress: write_proof(folder, proof, kept), self)
        job.done.connect(self._note)
        job.failed.connect(self._session.say)
        job.done.connect(job.deleteLater)
        job.start()

    def _wait_for_it(self) -> None:
        """The picture in hand is still that from before: ask again soon, but not for ever."""
        self._tries += 1
        if self._tries > _MOST_TRIES:
            self._wanted = None
            self._session.say("The picture changed while saving. Add the proof again.")
        else:
            QTimer.singleShot(_AGAIN_MS, self, self._drawing.take)

    def _next_name(self) -> str:
        taken = {proof.name for proof in self._session.plan.proofs}
        count = len(taken) + 1
        return next(name for k in range(count, 2 * count + 1) if (name := f"Proof {k}") not in taken)

    def _note(self, proof: object) -> None:
        assert isinstance(proof, Proof)
        self.add([proof])

    def add(self, fresh: Sequence[Proof]) -> None:
        """Hang proofs on the wall of the plan."""
        session = self._session
        plan = proofs.added(session.plan, fresh)
        names = [proof.name for proof in plan.proofs[len(session.plan.proofs) :]]
        what = names[0] if len(names) == 1 else f"{len(names)} proofs"
        session.edit(f"Add {what}", plan)
        session.say(f"Saved as {what}. See Proof, Wall.")

    def keep_rungs(self, rungs: Sequence[Proof]) -> None:
        """Hang rungs of the ladder on the plan's wall; their files are copied there."""
        from kobrel.exchange.proof.files import brought

        folder, fresh = self.folder(), list(rungs)
        job = Job(lambda _progress: brought(Plan(proofs=tuple(fresh)), folder).proofs, self)
        job.done.connect(self.add)
        job.failed.connect(self._session.say)
        job.done.connect(job.deleteLater)
        job.start()

    # Ladders

    def draw(self, rungs: Sequence[Rung], width: int, passes: int, across: int = 0) -> None:
        """Draw a ladder in place of the last one.

        Parameters
        ----------
        across : rungs in a row; 0 for as many as fit
        """
        session = self._session
        plan, stage = session.plan, session.stage
        folder = Path(tempfile.mkdtemp(prefix="ladder-", dir=self._spare_folder()))
        self.rungs, self.across = [], across
        self.changed.emit()
        session.show_wall("ladder")
        session.view.wall_mode = "all"
        total = len(rungs)

        def work(progress: Progress) -> int:
            from kobrel.exchange.proof.files import drawn_rung, write_proof

            for number, rung in enumerate(rungs):

                def tell(what: str, part: float, number: int = number) -> None:
                    progress(f"{what}, {number + 1} of {total}", (number + part) / total)

                proof, kept = drawn_rung(plan, rung, stage, width, passes, tell)
                self._drawn.emit((folder, write_proof(folder, proof, kept)))
            return total

        self._folder = folder
        job = Job(work, self)
        job.done.connect(lambda count: session.say(f"Bracket of {count}. Double-click to apply one."))
        self.job_wanted.emit(job)

    def _add_rung(self, made: tuple[Path, Proof]) -> None:
        folder, proof = made
        if folder == self._folder:
            name = distinct([*(rung.name for rung in self.rungs), proof.name])[-1]
            self.rungs.append(proof.replace(name=name))
            self.changed.emit()

    def show_rungs(self, folder: Path, names: Sequence[str]) -> None:
        """Show rungs that were drawn into a folder as the ladder, in the order of their names.

        Raises
        ------
        KobrelError
            A file is no proof.
        """
        from kobrel.exchange.proof.files import read_proof

        found = [proof for path in folder.glob("*.exr") if (proof := read_proof(path)[0]) is not None]
        trust.allow([folder])
        mine = [proof for proof in found if proof.name in names]
        self.rungs, self.across = sorted(mine, key=lambda proof: names.index(proof.name)), 0
        self.changed.emit()
        self._session.show_wall("ladder")

    # What hangs on the wall

    def hung(self) -> list[Proof]:
        """What hangs on the wall now."""
        session = self._session
        if session.view.wall == "ladder":
            return list(self.rungs)
        return proofs.ordered(session.plan.proofs, session.view.proof_order)

    def chosen(self) -> list[Proof]:
        """The chosen ones of these, the first chosen first."""
        by_name = {proof.name: proof for proof in self.hung()}
        return [by_name[name] for name in self._session.selection.proofs if name in by_name]


def _alike(one: Camera, other: Camera) -> bool:
    """Whether two cameras at one frame take the same picture."""
    a, b = ((c.focal_mm, c.f_number, c.focus_m, c.squeeze, *c.pose.ravel()) for c in (one, other))
    return np.array_equal(a, b) and (one.iris, one.flaws, one.exposure) == (
        other.iris, other.flaws, other.exposure,
    )  # fmt: skip
