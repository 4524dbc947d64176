"""The command line: the same work without a window."""

import contextlib
import json
import math
import os
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Literal

import typer
from typer.exceptions import Exit, TyperException

from kobrel import __version__
from kobrel.errors import KobrelError, PlanError
from kobrel.optics.lens import LensModel
from kobrel.optics.units import METRES, LengthUnit

app = typer.Typer(add_completion=False, no_args_is_help=False, pretty_exceptions_enable=False)
COMMANDS = ("limits", "new", "survey", "solve", "render", "export", "iris", "check", "rangefinder", "schema")


@dataclass(frozen=True)
class _Size:
    width: float
    height: float


def _size(text: str) -> _Size:
    parts = text.lower().replace("×", "x").split("x")
    try:
        width, height = (float(part) for part in parts)
    except ValueError:
        raise typer.BadParameter(f"“{text}” is not a size. Write it like 36x24.") from None
    if not (math.isfinite(width) and math.isfinite(height) and width > 0 and height > 0):
        raise typer.BadParameter(f"“{text}” is not a size. Both numbers must be above 0.")
    return _Size(width, height)


def _positive(value: float | None) -> float | None:
    if value is not None and not 0 < value < math.inf:
        raise typer.BadParameter(f"{value:g} must be above 0 and finite.")
    return value


def _distance(value: float | None) -> float | None:
    if value is not None and not value > 0:
        raise typer.BadParameter(f"{value:g} must be above 0, or inf.")
    return value


PlanPath = Annotated[Path, typer.Argument(metavar="PLAN", help="A .kobrel plan.")]
ShotName = Annotated[
    str | None, typer.Option("--shot", help="Name or title of a shot; the first if left out.")
]
Output = Annotated[Path, typer.Option("-o", "--output", help="File to write.")]


@app.command()
def limits(
    focal: Annotated[float, typer.Option(help="Focal length, mm.", callback=_positive)],
    stop: Annotated[float, typer.Option(help="f-number.", callback=_positive)],
    focus: Annotated[float, typer.Option(help="Focus distance, m; inf for infinity.", callback=_distance)],
    sensor: Annotated[str, typer.Option(help="Sensor width x height, mm.")],
    coc_mm: Annotated[
        float | None, typer.Option(help="Largest sharp blur on the sensor, mm.", callback=_positive)
    ] = None,
    blur_px: Annotated[
        float | None, typer.Option(help="Largest sharp blur in pixels.", callback=_positive)
    ] = None,
    width: Annotated[float | None, typer.Option(help="Picture width, pixels.", callback=_positive)] = None,
    model: Annotated[LensModel, typer.Option(help="Lens model.")] = "render",
    at: Annotated[
        float | None, typer.Option(help="A distance to tell the blur at, m.", callback=_distance)
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
) -> None:
    """Near and far limit, hyperfocal and blur of a lens."""
    from kobrel.optics import lens as optics
    from kobrel.optics import sensor as sensors

    size = _size(sensor)
    if (coc_mm is None) == (blur_px is None):
        raise typer.BadParameter("Give either --coc-mm, or --blur-px with --width.")
    if blur_px is not None and width is None:
        raise typer.BadParameter("--blur-px counts pixels of a picture: give its --width too.")
    coc = (
        coc_mm
        if coc_mm is not None
        else sensors.coc_mm("pixels", blur_px or 0, size.width, size.height, width or 1)
    )
    lens = (focal, stop, focus)
    near, far = optics.limits_m(*lens, coc, model)
    v = optics.image_distance_mm(focal, focus, model)
    background = optics.background_blur_mm(*lens, model)
    blur = None if at is None else optics.blur_mm(*lens, at, model)

    def pixels(mm: Any) -> Any:
        return None if mm is None or width is None else sensors.blur_px(mm, size.width, width)

    result = {
        "near_m": near,
        "far_m": far,
        "depth_m": far - near,
        "hyperfocal_m": optics.hyperfocal_m(focal, stop, coc, model),
        "pupil_mm": optics.pupil_mm(focal, stop),
        "blur_mm": blur,
        "blur_px": pixels(blur),
        "background_blur_mm": background,
        "background_blur_px": pixels(background),
        "angle_h_deg": sensors.view_angle_deg(size.width, v),
        "angle_v_deg": sensors.view_angle_deg(size.height, v),
        "magnification": optics.magnification(focal, focus, model),
    }
    plain = {key: _finite(value) for key, value in result.items()} | {"model": model}
    if as_json:
        typer.echo(json.dumps(plain, indent=2))
        return
    from kobrel.optics.units import format_length

    typer.echo(f"Sharp from       {format_length(float(near))}")
    typer.echo(f"Sharp to         {format_length(float(far))}")
    typer.echo(f"Sharp depth      {format_length(float(far - near))}")
    typer.echo(f"Hyperfocal       {format_length(float(result['hyperfocal_m']))}")
    typer.echo(f"Pupil            {float(result['pupil_mm']):.2f} mm")
    if at is not None and blur is not None:
        extra = f", {float(pixels(blur)):.2f} px" if width else ""
        typer.echo(f"Blur at {format_length(at)}   {float(blur):.4f} mm{extra}")
    extra = f", {float(pixels(background)):.2f} px" if width else ""
    typer.echo(f"Far background   {float(background):.4f} mm{extra}")
    typer.echo(f"View angle       {float(result['angle_h_deg']):.2f}° × {float(result['angle_v_deg']):.2f}°")
    typer.echo(f"Magnification    {float(result['magnification']):.4f}")


def _finite(value: Any) -> float | None:
    return None if value is None or not math.isfinite(float(value)) else float(value)


@app.command()
def new(
    scene: Annotated[Path, typer.Argument(metavar="SCENE", help="USD, glTF, OBJ, PLY or STL.")],
    output: Output,
    camera: Annotated[str | None, typer.Option(help="Path of the camera in the scene.")] = None,
    unit: Annotated[LengthUnit | None, typer.Option(help="Unit of the scene, if the file is wrong.")] = None,
) -> None:
    """Make a plan from a scene: its camera, lens, frames and the point in focus."""
    from kobrel.plan.file import save_plan
    from kobrel.plan.start import plan_from_scene
    from kobrel.stage.load import load_scene

    unit_m = METRES[unit] if unit else None
    with _progress() as progress:
        loaded = load_scene(scene, unit_m, progress)
    plan, stage = plan_from_scene(scene, loaded, camera, unit_m)
    save_plan(plan, output)
    _warn(stage.warnings)


@app.command()
def survey(
    plan: PlanPath,
    shot: ShotName = None,
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="As CSV, a row a frame.")] = False,
) -> None:
    """Focus, limits, and every subject's distance and blur, for all frames."""
    from kobrel.exchange.table import csv_text, survey_data
    from kobrel.plan.survey import survey as take_survey

    if as_json and as_csv:
        raise typer.BadParameter("Give either --json or --csv.")
    document, chosen, stage = _open(plan, shot)
    result = take_survey(document, chosen, stage)
    if as_json:
        typer.echo(json.dumps(survey_data(document, chosen, result), indent=1))
    elif as_csv:
        typer.echo(csv_text(document, chosen, result), nl=False)
    else:
        _print_survey(document, chosen, result)


def _print_survey(document: Any, shot: Any, result: Any) -> None:
    from rich.console import Console
    from rich.table import Table

    from kobrel.optics.units import format_length
    from kobrel.plan.check import plan_unit
    from kobrel.plan.survey import STATES

    table = Table(title=f"{document.name}, shot {shot.label}, sharp up to {result.camera.coc_px:.3g} px")
    for heading in (
        "frame",
        "focus",
        "stop",
        "from",
        "to",
        *(f"{s.number} {s.name}" for s in document.subjects),
    ):
        table.add_column(heading, justify="right")

    def length(value: float) -> str:
        return format_length(float(value), plan_unit(document))

    for i, frame in enumerate(result.frames):
        states = [
            f"{length(result.sight.axial_m[s, i])} {result.sight.blur_px[s, i]:.1f} px "
            f"{STATES[result.state[s, i]]}"
            for s in range(len(document.subjects))
        ]
        table.add_row(
            f"{frame:g}", length(result.camera.focus_m[i]), f"f/{result.camera.f_number[i]:.3g}",
            length(result.near_m[i]), length(result.far_m[i]), *states,
        )  # fmt: skip
    Console().print(table)


@app.command()
def solve(
    plan: PlanPath,
    shot: ShotName = None,
    frame: Annotated[int | None, typer.Option(help="For one frame; else over the shot.")] = None,
    output: Annotated[Path | None, typer.Option("-o", "--output", help="Write the plan with it.")] = None,
) -> None:
    """The stop and focus that meet a shot's brief, or why there are none; exit with 1 then."""
    from kobrel.plan import brief as briefs
    from kobrel.plan.edit import with_shot
    from kobrel.plan.file import save_plan
    from kobrel.plan.trials import Where, solved, trials

    document, chosen, stage = _open(plan, shot)
    where = Where(document, stage, frame)
    brief = where.terms(chosen)
    if not brief.wishes:
        raise PlanError(f"{plan}: shot {chosen.label} has no brief. Say in it what shall be sharp or soft.")
    found = briefs.answer(brief)
    taken = solved(where, chosen)
    if taken is None:
        for row in [i for i, fine in enumerate(found.possible) if not fine][:1]:
            clash = briefs.clash(brief, row)
            typer.echo(f"Frame {clash.frame:g}: {clash.text}" if clash else "It cannot be met.")
        if found.possible.all():
            typer.echo("Each frame can be met, but not all with one stop.")
        for trial in trials(where, chosen):
            typer.echo(f"This would do: {trial.text}")
        raise typer.Exit(1)
    typer.echo("Stops: " + ", ".join(f"f/{low:.4g} to f/{high:.4g}" for low, high in found.stops))
    _print_marks(document, taken, frame)
    if output is not None:
        save_plan(with_shot(document, document.shots.index(chosen), taken), output)


def _print_marks(document: Any, shot: Any, frame: int | None) -> None:
    """Stop and marks of a solved shot."""
    from kobrel.optics.units import format_length
    from kobrel.plan.check import plan_unit
    from kobrel.plan.marks import keyed_at

    stop = float(keyed_at(shot.glass.f_number, shot.first if frame is None else frame)[0])
    typer.echo(f"Stop:  f/{stop:.4g}")
    for mark in shot.marks:
        if frame is None or mark.frame == frame or len(shot.marks) == 1:
            subject = document.subject(mark.target.number) if mark.target.kind == "subject" else None
            on = subject.name if subject else format_length(mark.target.metres, plan_unit(document))
            typer.echo(f"Focus: {on} at {mark.frame:g}")


@app.command()
def render(
    plan: PlanPath,
    output: Output,
    shot: ShotName = None,
    frame: Annotated[int | None, typer.Option(help="Frame; the shot's first if left out.")] = None,
    size: Annotated[str | None, typer.Option(help="Width x height; as delivered if left out.")] = None,
    samples: Annotated[int, typer.Option(min=1, max=65536, help="Lens samples a pixel.")] = 64,
) -> None:
    """Render a frame with its true depth of field, to PNG or EXR."""
    from kobrel.exchange.render import check_target, render_frame

    check_target(output)
    wanted = _size(size) if size else None
    document, chosen, stage = _open(plan, shot)
    at = chosen.first if frame is None else frame
    pixels = (round(wanted.width), round(wanted.height)) if wanted else None
    with _progress() as progress:
        render_frame(document, chosen, at, stage, pixels, samples, output, progress)


@app.command()
def export(
    plan: PlanPath,
    output: Output,
    kind: Annotated[Literal["usd", "csv"], typer.Option("--as", help="Format.")],
    shot: ShotName = None,
) -> None:
    """Write a shot's camera for a renderer (USD), or its numbers (CSV)."""
    document, chosen, stage = _open(plan, shot)
    if kind == "usd":
        from kobrel.exchange.usd import write_usd

        write_usd(document, chosen, stage, output)
    else:
        from kobrel.exchange.table import write_csv
        from kobrel.plan.survey import survey as take_survey

        write_csv(document, chosen, take_survey(document, chosen, stage), output)


@app.command()
def iris(
    plan: PlanPath,
    output: Annotated[
        Path | None,
        typer.Option("-o", "--output", help=".png or .exr picture, .csv outline, .json outline and numbers."),
    ] = None,
    shot: Annotated[str | None, typer.Option(help="Which shot; the first if left out.")] = None,
    frame: Annotated[float | None, typer.Option(help="At which frame; the shot's first if left out.")] = None,
    size: Annotated[int, typer.Option(help="Width of a picture, pixels.")] = 1024,
) -> None:
    """Write the iris of a shot for a renderer; without a file, tell its numbers and what they mean."""
    from kobrel.exchange.iris import numbers_of, write_iris
    from kobrel.plan.camera import camera_at

    document, chosen, stage = _open(plan, shot)
    camera = camera_at(document, chosen, chosen.first if frame is None else frame, stage)
    if output is not None:
        write_iris(output, camera, size)
        return
    for number in numbers_of(camera):
        typer.echo(f"{number.name:30} {number.value:<12g} {number.meaning}")


@app.command()
def check(plan: PlanPath) -> None:
    """Say what is wrong with a plan and its scenes; exit with 1 if anything is."""
    from kobrel.plan.check import findings, shot_warnings
    from kobrel.plan.file import open_plan
    from kobrel.plan.staging import load_stage

    document = open_plan(plan)
    with _progress() as progress:
        stage, problems = load_stage(document, progress)
        found = problems + stage.warnings + findings(document, stage)
        for shot in document.shots:
            with contextlib.suppress(PlanError):  # told by the findings
                found += [
                    f"Shot {shot.label}: {line}" for line in shot_warnings(document, shot, stage, progress)
                ]
    for line in found:
        typer.echo(line)
    if found:
        raise typer.Exit(1)
    typer.echo(f"{plan}: nothing to complain about.")


@app.command()
def rangefinder(
    plan: PlanPath,
    shot: Annotated[str | None, typer.Option(help="Which shot; the first if left out.")] = None,
    frame: Annotated[float | None, typer.Option(help="At which frame; the shot's first if left out.")] = None,
    port: Annotated[int, typer.Option(min=0, max=65535, help="Port to listen on; 0 chooses one.")] = 0,
    number: Annotated[int, typer.Option(min=0, help="What its errors grow from.")] = 1,
) -> None:
    """Simulate a laser meter on a plan's scene, over a local socket (docs/rangefinder.md)."""
    from kobrel.devices.rangefinder import SimulatedMeter, serve

    _document, chosen, stage = _open(plan, shot)
    stage.prepare()
    meter = SimulatedMeter(stage, chosen.first if frame is None else frame, number)
    try:
        serve(meter, port, lambda at: print(f"Listening on 127.0.0.1:{at}", flush=True))
    except KeyboardInterrupt:
        return
    except OSError as error:
        raise KobrelError(f"Port {port} cannot be used ({error.strerror}). Choose another, or 0.") from None


@app.command()
def schema() -> None:
    """Print the JSON Schema of a plan."""
    from kobrel.plan.model import Plan

    typer.echo(json.dumps(Plan.model_json_schema(), indent=2))


def _open(path: Path, shot_name: str | None) -> tuple[Any, Any, Any]:
    """The plan, the wanted shot and the loaded stage.

    Raises
    ------
    KobrelError
        The plan, the shot or a scene is missing.
    """
    from kobrel.errors import PlanError, SceneError
    from kobrel.plan.file import open_plan
    from kobrel.plan.staging import load_stage

    plan = open_plan(path)
    if not plan.shots:
        raise PlanError(f"{path}: the plan has no shots.")
    shot = next((s for s in plan.shots if shot_name in (None, s.name, s.title, s.label)), None)
    if shot is None:
        known = ", ".join(s.label for s in plan.shots)
        raise PlanError(f"{path}: no shot “{shot_name}”. Its shots: {known}.")
    with _progress() as progress:
        stage, problems = load_stage(plan, progress)
    if problems:
        raise SceneError(problems[0])
    _warn(stage.warnings)
    return plan, shot, stage


class _progress:  # noqa: N801  a context manager used as a verb
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


def _warn(warnings: list[str]) -> None:
    for warning in warnings:
        typer.echo(f"kobrel: warning: {warning}", err=True)


def _window(arguments: list[str]) -> int:
    """Open the window: ``kobrel [PLAN|SCENE]``, ``kobrel --demo``, with ``--pictures FOLDER``."""
    import argparse

    parser = argparse.ArgumentParser(
        prog="kobrel",
        description="Plan depth of field. Without a command this opens the window.",
        epilog=f"Commands: {', '.join(COMMANDS)}. Each explains itself with --help.",
    )
    parser.add_argument("file", nargs="?", type=Path, metavar="PLAN|SCENE")
    parser.add_argument("--demo", action="store_true", help="open the demo, Night Ferry")
    parser.add_argument(
        "--pictures", type=Path, metavar="FOLDER", help="write a PNG of each main view and end"
    )
    parser.add_argument("--version", action="version", version=f"kobrel {__version__}")
    chosen = parser.parse_args(arguments)
    if chosen.file is not None and not chosen.file.exists():
        raise KobrelError(f"{chosen.file}: no such file, and no command of Kobrel's ({', '.join(COMMANDS)}).")
    if not chosen.pictures and not _has_display():
        raise KobrelError(
            "there is no display to open the window on. The commands work without: kobrel --help."
        )
    from kobrel.desk.app import run

    return run(chosen.file, demo=chosen.demo, pictures=chosen.pictures)


def _has_display() -> bool:
    names = ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")
    return any(os.environ.get(name) for name in names)


def main() -> None:
    """Entry point; ends the process with 0, or 2 and one line on stderr for bad input."""
    sys.exit(run_command(sys.argv[1:]))


def run_command(arguments: list[str]) -> int:
    """Run one command and return its exit status."""
    try:
        if not arguments or arguments[0] not in COMMANDS:
            return _window(arguments)
        return int(app(arguments, prog_name="kobrel", standalone_mode=False) or 0)
    except Exit as end:
        return end.exit_code
    except TyperException as error:
        typer.echo(f"kobrel: {error.format_message()}", err=True)
    except KobrelError as error:
        typer.echo(f"kobrel: {error}", err=True)
    except KeyboardInterrupt:
        typer.echo("kobrel: stopped.", err=True)
        return 130
    return 2
