"""Kobrel for pipelines: what ``import kobrel`` gives.

These names, what :class:`Project` has, and what that returns are kept from one version to the next; all else
may change.

>>> import kobrel, kobrel.demo
>>> project = kobrel.open(kobrel.demo.PLAN)
>>> project.shots
['01', '02', '03', '04']
>>> numbers = project.survey("02")
>>> project.subjects
['Lantern', 'Ferryman', 'Booth', 'Compass', 'Passenger', 'Ferry']
>>> sight = numbers.sight  # arrays: subjects x frames
>>> print(f"the ferryman, at first: {sight.axial_m[1, 0]:.2f} m, {sight.blur_px[1, 0]:.1f} px")
the ferryman, at first: 6.68 m, 30.1 px
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel import trust
from kobrel.errors import KobrelError, PlanError, SceneError
from kobrel.exchange.export import Options
from kobrel.exchange.export import export as _export
from kobrel.exchange.movie import Movie, write_shot
from kobrel.exchange.render import render_frame
from kobrel.farm.work import Work
from kobrel.files import real_place
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.edit import with_shot
from kobrel.plan.export import ExportKind
from kobrel.plan.file import files_of, open_plan, save_plan
from kobrel.plan.measure.camera import Camera, camera_at
from kobrel.plan.measure.survey import Survey
from kobrel.plan.measure.survey import survey as _survey
from kobrel.plan.model import SUFFIX, Plan, Shot
from kobrel.plan.names import shot_named
from kobrel.plan.solve.candidates import Where, solved
from kobrel.plan.space.rebinding import rebound
from kobrel.plan.staging import load_stage
from kobrel.plan.start import plan_from_scene
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Progress, no_progress
from kobrel.stage.stage import Stage

_AS_USUAL = Options()


@dataclass(frozen=True)
class Project:
    """A plan with all that it draws in. It never changes: what changes it gives another.

    Parameters
    ----------
    plan : the document
    stage : what stands before the camera
    path : where the plan was read; none where it was made from a scene
    told : what was assumed or not found, in sentences
    """

    plan: Plan
    stage: Stage
    path: Path | None = None
    told: tuple[str, ...] = ()

    @property
    def shots(self) -> list[str]:
        """Names of the shots, in order."""
        return [shot.name for shot in self.plan.shots]

    @property
    def subjects(self) -> list[str]:
        """Names of the subjects, in the order of a survey's rows."""
        return [subject.name for subject in self.plan.subjects]

    def shot(self, name: str | None = None) -> Shot:
        """A shot by its name or title; the first if none is named.

        Raises
        ------
        KobrelError
            There is none of that name.
        """
        return shot_named(self.plan, name, self.path or "")

    def survey(self, shot: str | None = None, frames: Sequence[float] | None = None) -> Survey:
        """Camera, limits, and every subject's distance, blur and state, at all frames of a shot.

        Parameters
        ----------
        frames : at which; all of the shot's if none

        Returns
        -------
        Survey
            Arrays (F,) over the frames, (S, F) for the subjects; metres, pixels of the delivered picture.

        Raises
        ------
        KobrelError
            The shot or its camera is missing.
        """
        at = None if frames is None else np.asarray(frames, float)
        if at is not None and not (at.size and np.isfinite(at).all()):
            raise PlanError("a survey takes one frame or more, each a number.")
        return _survey(self.plan, self.shot(shot), self.stage, at)

    def camera(self, shot: str | None = None, frame: float | None = None) -> Camera:
        """The camera of a shot at a frame; at its first if none is given.

        Raises
        ------
        KobrelError
            The shot or its camera is missing.
        """
        found = self.shot(shot)
        return camera_at(self.plan, found, _frame(found, frame), self.stage)

    def solve(self, shot: str | None = None, frame: float | None = None) -> "Project | None":
        """The project with the stop and the focus that meet a shot's brief; None where nothing does.

        Parameters
        ----------
        frame : the only one that counts; all of the shot's if none

        Raises
        ------
        KobrelError
            The shot has no brief.
        """
        found = self.shot(shot)
        where = Where(self.plan, self.stage, None if frame is None else _frame(found, frame))
        if not where.terms(found).requirements:
            raise PlanError(
                f"shot {found.label} has no brief.", remedy="Say in it what must be sharp or soft."
            )
        taken = solved(where, found)
        return None if taken is None else self.with_shot(taken)

    def with_shot(self, shot: Shot) -> "Project":
        """The project with a shot in the place of that of the same name.

        Raises
        ------
        KobrelError
            There is none of that name.
        """
        index = self.plan.shots.index(self.shot(shot.name))
        return replace(self, plan=with_shot(self.plan, index, shot))

    def picture(
        self,
        shot: str | None = None,
        frame: float | None = None,
        size: tuple[int, int] | None = None,
        samples: int = 64,
        shown: bool = False,
        denoise: bool = False,
    ) -> NDArray[np.float32] | NDArray[np.uint8]:
        """A frame with its true depth of field, (H, W, 3).

        Parameters
        ----------
        size : width and height, pixels; as delivered if none
        samples : lens samples a pixel
        shown : as the plan shows it, sRGB bytes, instead of linear light
        denoise : whether noise is removed from what is traced

        Raises
        ------
        KobrelError
            The shot or its camera is missing.
        """
        found = self.shot(shot)
        at = _frame(found, frame)
        camera = camera_at(self.plan, found, at, self.stage)
        width, height = size or (camera.width_px, camera.height_px)
        stage = self.stage.of_shot(found.name)
        stage.prepare()
        view = View(stage.snapshot(at, eye=camera.eye), camera, self.plan.light, width, height)
        linear = exposed(view, samples, denoise=denoise)
        return as_shown(linear, view.light, camera) if shown else linear

    def render(
        self,
        path: Path | str,
        shot: str | None = None,
        frame: int | None = None,
        size: tuple[int, int] | None = None,
        samples: int = 64,
        progress: Progress = no_progress,
        denoise: bool = False,
    ) -> Path:
        """Write a frame as .png or as .exr, linear with depth and blur; the file.

        Raises
        ------
        KobrelError
            The camera is missing, or the file cannot be written.
        """
        found, target = self.shot(shot), Path(path)
        render_frame(
            self.plan, found, int(_frame(found, frame)), self.stage, size, samples, target, progress,
            denoise=denoise,
        )  # fmt: skip
        return target

    def movie(
        self, path: Path | str, shot: str | None = None, progress: Progress = no_progress, **choices: object
    ) -> Path:
        """Write a shot as a movie (.mp4, .mov) or as pictures (.png, .exr); the file.

        Parameters
        ----------
        choices : as :class:`kobrel.exchange.movie.Movie` has them: first, last, width, height, passes, ...

        Raises
        ------
        KobrelError
            The camera is missing, or a file cannot be written.
        """
        movie, target = Movie(**choices), Path(path)  # type: ignore[arg-type]
        write_shot(self.plan, self.shot(shot), self.stage, movie, target, progress)
        return target

    def export(
        self, kind: ExportKind, path: Path | str, shot: str | None = None, options: Options = _AS_USUAL
    ) -> Path:
        """Write a shot, or all, for others: usd, gltf, alembic, csv, json, otio, edl, sheet ...; the file.

        Raises
        ------
        KobrelError
            It cannot be written.
        """
        target = Path(path)
        _export(self.plan, self.shot(shot), self.stage, kind, target, options)
        return target

    def save(self, path: Path | str) -> "Project":
        """Save the plan, and give the project that is saved.

        Raises
        ------
        KobrelError
            It cannot be written.
        """
        target = Path(path)
        save_plan(self.plan, target)
        return replace(self, path=target)

    def __reduce__(self) -> tuple[object, ...]:
        """Pickled as its plan: whoever takes it up reads the scenes again, from the same places, and nothing
        that may not be read here.
        """
        allowed = [name for name in files_of(self.plan) if trust.is_allowed(name)]
        return _taken_up, (self.plan.model_dump_json(), self.path, self.told, allowed)


def _taken_up(plan: str, path: Path | None, told: tuple[str, ...], allowed: list[str]) -> Project:
    document = Plan.model_validate_json(plan)
    trust.allow([Path(name).parent for name in allowed])
    stage, problems = load_stage(document)
    if problems:
        raise SceneError(problems[0])
    return Project(document, stage, path, told)


def _frame(shot: Shot, frame: float | None) -> float:
    """A frame as it is given, or the shot's first.

    Raises
    ------
    PlanError
        It is no number.
    """
    if frame is None:
        return shot.first
    if not np.isfinite(frame):
        raise PlanError(
            f"{frame} is not a frame.", remedy=f"Shot {shot.label} has {shot.first} to {shot.last}."
        )
    return frame


def open(path: Path | str, progress: Progress = no_progress) -> Project:
    """Open a plan, or make one of a scene (USD, glTF, Alembic, OBJ, PLY, STL). Files beside it may be named
    in it; others that :mod:`kobrel.trust` allows.

    Raises
    ------
    KobrelError
        It cannot be read, or a scene of the plan is missing.
    """
    source = Path(path).absolute()
    trust.allow([source.parent, real_place(source).parent])
    told: list[str] = []
    if source.suffix.lower() != SUFFIX:
        scene = load_scene(source, progress)
        plan, stage = plan_from_scene(source, scene, told=told, progress=progress)
        return Project(plan, stage, None, (*stage.warnings, *told))
    plan = open_plan(source)
    stage, problems = load_stage(plan, progress)
    if problems:
        raise SceneError(problems[0])
    plan, told = rebound(plan, stage)
    return Project(plan, stage, source, (*stage.warnings, *told))


def make(
    work: Work, scheduler: str = "", told: Callable[[int, int], object] = lambda _made, _total: None
) -> int:
    """Make a piece of work of many frames on this machine or on workers of a scheduler; goes on where it was.

    Parameters
    ----------
    work : what is made, see docs/farm.md
    scheduler : its address, such as ``tcp://10.0.0.5:8786``; "" is this machine
    told : told how many items are made, and of how many

    Returns
    -------
    How many items there are now.

    Raises
    ------
    KobrelError
        Items failed, nobody answers, or a file cannot be written; what was made stays.
    """
    from kobrel.farm.bundle import packed
    from kobrel.farm.cluster import Farm
    from kobrel.farm.run import Run

    bundle, _told = packed(work)
    return Run(bundle, lambda: Farm(scheduler), lambda report: told(report.made, report.total)).run().made


__all__ = ["KobrelError", "Project", "Work", "make", "open"]
