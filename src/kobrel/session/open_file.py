"""Opening a plan or a scene: it is read, and what rays need is built, beside the window."""

from dataclasses import dataclass
from pathlib import Path

from kobrel.plan.model import SUFFIX, Plan
from kobrel.plan.staging import Library, source_of, stage_of
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage


@dataclass(frozen=True, eq=False)
class Opened:
    """A plan and its stage; `path` is None for a new plan on a scene."""

    plan: Plan
    stage: Stage
    library: Library
    path: Path | None
    warnings: list[str]


def open_file(path: Path, progress: Progress) -> Opened:
    """Open a plan, or make one on a scene, ready for rays.

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
    from kobrel.plan.check import findings, mask_faults
    from kobrel.plan.file import open_plan
    from kobrel.plan.space.rebinding import rebound

    if path.suffix.lower() != SUFFIX:
        return _new_plan(path, progress)
    plan = open_plan(path)
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

    scene = load_scene(path, progress)
    told: list[str] = []
    plan, stage = plan_from_scene(path, scene, told=told, progress=progress)
    library = Library({source_of(plan.scenes[0]): scene})
    library.read(plan, progress)  # a picture for light that the scene names
    stage = stage_of(plan, library, stage)
    if stage.triangle_count and plan.shots:
        plan = metered(plan, plan.shots[0], stage)
    return Opened(plan, stage, library, None, stage.warnings + told + library.problems_of(plan))
