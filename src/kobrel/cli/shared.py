"""What the commands share: the plan, its shot and stage, progress, and numbers as they are typed."""

import math
import re
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import typer

from kobrel.cli import reply
from kobrel.errors import KobrelError

app = typer.Typer(add_completion=False, no_args_is_help=False, pretty_exceptions_enable=False)


@dataclass(frozen=True)
class Size:
    """Width and height."""

    width: float
    height: float


def size_of(text: str) -> Size:
    """A size out of text such as 36x24."""
    parts = text.lower().replace("×", "x").split("x")
    try:
        width, height = (float(part) for part in parts)
    except ValueError:
        raise typer.BadParameter(f"“{text}” is not a size. Write it like 36x24.") from None
    if not (math.isfinite(width) and math.isfinite(height) and width > 0 and height > 0):
        raise typer.BadParameter(f"“{text}” is not a size. Both numbers must be above 0.")
    return Size(width, height)


def positive(value: float | None) -> float | None:
    """Refuse what is not above 0, or not finite."""
    if value is not None and not 0 < value < math.inf:
        raise typer.BadParameter(f"{value:g} must be above 0 and finite.")
    return value


def distance(value: float | None) -> float | None:
    """Refuse what is no distance."""
    if value is not None and not value > 0:
        raise typer.BadParameter(f"{value:g} must be above 0, or inf.")
    return value


PlanPath = Annotated[Path, typer.Argument(metavar="PLAN", help="A .kobrel plan.")]
ShotName = Annotated[
    str | None, typer.Option("--shot", help="Name or title of a shot; the first by default.")
]
Denoise = Annotated[
    bool, typer.Option("--denoise", help="Remove noise: good to look at after 4 to 16 samples.")
]
Force = Annotated[bool, typer.Option("--force", help="Write over what is there.")]
Output = Annotated[Path, typer.Option("-o", "--output", help="File to write.")]


def frames_of(text: str | None) -> tuple[int, int] | None:
    """First and last frame out of text such as 1001-1096."""
    if text is None:
        return None
    match = re.fullmatch(r"\s*(-?\d+)\s*(?:[-–:]\s*(-?\d+))?\s*", text)
    if match is None:
        raise typer.BadParameter(f"“{text}” is not a frame range. Write it like 1001-1096.")
    first = int(match[1])
    last = first if match[2] is None else int(match[2])
    if last < first:
        raise typer.BadParameter(f"“{text}”: the last frame comes before the first.")
    return first, last


def told_outside(shot: Any, first: int, last: int) -> None:
    """Tell where frames lie outside a shot and its handles."""
    low, high = shot.first - shot.handles, shot.last + shot.handles
    if first < low or last > high:
        which = f"frame {first} lies" if first == last else f"frames {first} to {last} lie"
        warn([f"{which} outside shot {shot.label}, which has {low} to {high}."])


def unit_named(name: str | None) -> Any:
    """The measure of a unit, which may be a number of metres; none for none."""
    from kobrel.optics.units import METRES, Measure, scene_measure

    if name is None or name in METRES:
        return None if name is None else Measure(name, METRES[name])
    try:
        metres = float(name)
    except ValueError:
        metres = math.nan
    if not 1e-6 <= metres <= 1e6:
        known = ", ".join(METRES)
        raise typer.BadParameter(f"“{name}” is not a unit. Write {known}, or the metres in one such as 0.1.")
    return scene_measure(metres)


def custom_values() -> list[Any]:
    """The custom values of this person; what is wrong with others is told."""
    from kobrel.plan.values.own import read_folder

    found, told = read_folder(kept_settings().folder / "terms")
    warn(told)
    return found


def open_shot(path: Path, shot_name: str | None) -> tuple[Any, Any, Any]:
    """The plan, the wanted shot and the loaded stage.

    Raises
    ------
    KobrelError
        The plan, the shot or a scene is missing.
    """
    from kobrel.errors import SceneError
    from kobrel.plan.file import open_plan
    from kobrel.plan.names import shot_named
    from kobrel.plan.space.rebinding import rebound
    from kobrel.plan.staging import load_stage

    trust_opened(path)
    plan = open_plan(path)
    shot = shot_named(plan, shot_name, path)
    with progress_bar() as progress:
        stage, problems = load_stage(plan, progress)
    hint_refused()
    if problems:
        raise SceneError(problems[0])
    index = plan.shots.index(shot)
    plan, found = rebound(plan, stage)
    warn(stage.warnings + found)
    return plan, plan.shots[index], stage


def kept_settings() -> Any:
    """What is remembered for this person, by the window too."""
    from platformdirs import user_config_path

    from kobrel.session.settings import Settings
    from kobrel.session.store import FileStore

    folder = user_config_path("kobrel")
    return Settings(FileStore(folder / "settings.json"), folder)


def trust_opened(path: Path) -> None:
    """Let files be named beside one that is opened, and where it was allowed before."""
    from kobrel import trust
    from kobrel.files import real_place
    from kobrel.session.settings import ALLOWED

    trust.allow([path.absolute().parent, real_place(path).parent, *kept_settings().get(ALLOWED)])
    trust.take_refused()


def hint_refused() -> None:
    """Tell how files in other folders are let in."""
    from kobrel import trust

    for folder in trust.take_refused():
        typer.echo(f"kobrel: hint: kobrel allow {folder}", err=True)


def free_output(path: Path, force: bool) -> None:
    """See that nothing is written over unasked.

    Raises
    ------
    KobrelError
        Something is there.
    """
    if path.exists() and not force:
        raise KobrelError("file already exists.", file=path, remedy="Use --force to overwrite.")


class progress_bar:  # noqa: N801  a context manager used as a verb
    """A progress bar on a terminal, nothing in a pipe."""

    def __enter__(self) -> Any:
        if not sys.stderr.isatty():
            return lambda _what, _part: None
        from rich.console import Console
        from rich.progress import Progress

        self._bar = Progress(console=Console(stderr=True), transient=True).__enter__()
        task = self._bar.add_task("", total=1.0)
        return lambda what, part: self._bar.update(task, description=what, completed=part)

    def __exit__(self, *error: Any) -> None:
        if sys.stderr.isatty():
            self._bar.__exit__(*error)


def warn(warnings: list[str]) -> None:
    """Tell warnings beside what a command says."""
    for warning in warnings:
        reply.note(warning)
        typer.echo(f"kobrel: warning: {warning}", err=True)
