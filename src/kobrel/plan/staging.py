"""From a plan's scene references to a stage."""

from pathlib import Path

from kobrel.errors import KobrelError
from kobrel.plan.model import Plan
from kobrel.stage.load import load_scene
from kobrel.stage.scene import Cancelled, Progress, Scene, no_progress
from kobrel.stage.stage import Stage


def load_stage(plan: Plan, progress: Progress = no_progress) -> tuple[Stage, list[str]]:
    """Load every scene of a plan.

    Returns
    -------
    The stage with the scenes that could be loaded, and why the others could not.

    Raises
    ------
    Cancelled
        `progress` asked to stop.
    """
    scenes: list[tuple[str, Scene]] = []
    problems: list[str] = []
    for reference in plan.scenes:
        try:
            scenes.append((reference.name, load_scene(Path(reference.path), reference.unit_m, progress)))
        except Cancelled:
            raise
        except KobrelError as error:
            problems.append(str(error))
    return Stage(scenes), problems
