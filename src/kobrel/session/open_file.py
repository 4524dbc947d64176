"""Opening a plan or a scene: it is read, and what rays need is built, beside the window."""

from dataclasses import dataclass, replace
from pathlib import Path

from kobrel import trust
from kobrel.errors import KobrelError, PlanError
from kobrel.files import real_place
from kobrel.plan.model import SUFFIX, Plan
from kobrel.plan.staging import Library, source_of, stage_of
from kobrel.session.journal.autosave import left_of
from kobrel.session.journal.file import Left
from kobrel.session.undo import History
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage


@dataclass(frozen=True, eq=False)
class Opened:
    """A plan and its stage; `path` is None for a new plan on a scene.

    Parameters
    ----------
    history : what was done on it before a crash, and can be undone
    left : unsaved work on it that a crash left
    """

    plan: Plan
    stage: Stage
    library: Library
    path: Path | None
    warnings: list[str]
    history: History | None = None
    left: Left | None = None


def open_file(path: Path, progress: Progress, state: Path | None = None) -> Opened:
    """Open a plan, or make one on a scene, ready for rays.

    Parameters
    ----------
    state : folder of journals that are beside no plan; without it no journal is looked for

    Raises
    ------
    KobrelError
        It cannot be opened; the message says why.
    """
    # One thing after the other: two threads that import and compile would leave the window
    # too little of the interpreter's time.
    progress("Preparing the picture", 0.0)
    from kobrel.picture.ready import prepare

    prepare()
    from kobrel.plan.file import open_plan

    trust.allow([path.absolute().parent, real_place(path).parent])
    if path.suffix.lower() != SUFFIX:
        return _new_plan(path, progress)
    plan = open_plan(path)
    opened = _staged(plan, path, progress)
    if state is None:
        return opened
    try:
        left = left_of(path, state)
    except PlanError as error:
        return replace(opened, warnings=[*opened.warnings, str(error)])
    if left is not None and left.work.plan == plan:
        return replace(opened, history=_saved_as(left.work.history, plan))
    return replace(opened, left=left)


def open_left(left: Left, progress: Progress) -> Opened:
    """Take up unsaved work, with what can be undone of it."""
    from kobrel.plan.file import open_plan

    opened = _staged(left.work.plan, left.path, progress)
    try:
        saved = open_plan(left.path) if left.path is not None else None
    except KobrelError:
        saved = None
    return replace(opened, history=_saved_as(left.work.history, saved))


def _saved_as(history: History, saved: Plan | None) -> History:
    """The history, with the step marked saved that is as the file."""
    plans = [step.new for step in history.steps]
    plans = [history.steps[0].old, *plans] if history.steps else plans
    found = [index for index, plan in enumerate(plans) if saved is not None and plan == saved]
    return replace(history, saved=max(found, default=None))


def _staged(plan: Plan, path: Path | None, progress: Progress) -> Opened:
    """A plan with its stage, ready for rays."""
    from kobrel.plan.check import findings, mask_faults
    from kobrel.plan.space.rebinding import rebound

    library = Library()
    library.read(plan, progress)
    stage, problems = stage_of(plan, library), library.problems_of(plan)
    plan, found = rebound(plan, stage)
    stage.prepare(progress)
    findings(plan, stage)  # works out what the window is about to ask
    return Opened(plan, stage, library, path, problems + stage.warnings + found + mask_faults(plan))


def _new_plan(path: Path, progress: Progress) -> Opened:
    """A plan on a scene, as bright as it is metered."""
    from kobrel.picture.metering import metered
    from kobrel.plan.start import plan_from_scene
    from kobrel.stage.read.load import load_scene
    from kobrel.stage.read.rendered.frames import ENDINGS

    if path.suffix.lower() in ENDINGS:
        return _on_picture(path, progress)
    scene = load_scene(path, progress)
    told: list[str] = []
    plan, stage = plan_from_scene(path, scene, told=told, progress=progress)
    library = Library({source_of(plan.scenes[0]): scene})
    library.read(plan, progress)  # a picture for light that the scene names
    stage = stage_of(plan, library, stage)
    if stage.triangle_count and plan.shots:
        plan = metered(plan, plan.shots[0], stage)
    return Opened(plan, stage, library, None, stage.warnings + told + library.problems_of(plan))


def _on_picture(path: Path, progress: Progress) -> Opened:
    """A plan on a rendered image with depth, or on a sequence of them; it is shown as bright as it is."""
    from kobrel.plan.pictures.rendered import opened
    from kobrel.plan.start import plan_from_scene
    from kobrel.stage.read.rendered.relief import load_relief

    finished, _pixels = opened(path.absolute())
    scene = load_relief(finished, progress)
    told: list[str] = []
    plan, stage = plan_from_scene(path, scene, told=told, progress=progress, finished=finished)
    library = Library({source_of(plan.scenes[0]): scene})
    return Opened(plan, stage, library, None, stage.warnings + told)
