"""Commands that tell numbers: limits of a lens, a shot's survey, the answer to its brief."""

import json
import math
from pathlib import Path
from typing import Annotated, Any

import typer

from kobrel.cli import reply
from kobrel.cli.shared import (
    Force,
    PlanPath,
    ShotName,
    app,
    distance,
    free_output,
    open_shot,
    positive,
    size_of,
)
from kobrel.errors import PlanError
from kobrel.optics.lens import LensModel


@app.command()
def limits(
    focal: Annotated[float, typer.Option(help="Focal length, mm.", callback=positive)],
    stop: Annotated[float, typer.Option(help="f-number.", callback=positive)],
    focus: Annotated[float, typer.Option(help="Focus distance, m; inf for infinity.", callback=distance)],
    sensor: Annotated[str, typer.Option(help="Sensor width x height, mm.")],
    coc_mm: Annotated[
        float | None, typer.Option(help="Largest sharp blur on the sensor, mm.", callback=positive)
    ] = None,
    blur_px: Annotated[
        float | None, typer.Option(help="Largest sharp blur in pixels.", callback=positive)
    ] = None,
    width: Annotated[float | None, typer.Option(help="Picture width, pixels.", callback=positive)] = None,
    model: Annotated[LensModel, typer.Option(help="Lens model.")] = "render",
    at: Annotated[
        float | None, typer.Option(help="Distance at which to report the blur, m.", callback=distance)
    ] = None,
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
) -> None:
    """Near and far limit, hyperfocal and blur of a lens."""
    from kobrel.optics import lens as optics
    from kobrel.optics import sensor as sensors

    size = size_of(sensor)
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
    from kobrel.optics.units import format_length, format_lengths

    nearest, farthest = format_lengths([float(near), float(far)])
    typer.echo(f"Near limit       {nearest}")
    typer.echo(f"Far limit        {farthest}")
    typer.echo(f"Depth of field   {format_length(float(far - near))}")
    typer.echo(f"Hyperfocal       {format_length(float(result['hyperfocal_m']))}")
    typer.echo(f"Entrance pupil   {float(result['pupil_mm']):.2f} mm")
    if at is not None and blur is not None:
        extra = f", {float(pixels(blur)):.2f} px" if width else ""
        typer.echo(f"Blur at {format_length(at)}   {float(blur):.4f} mm{extra}")
    extra = f", {float(pixels(background)):.2f} px" if width else ""
    typer.echo(f"Blur at infinity {float(background):.4f} mm{extra}")
    typer.echo(f"View angle       {float(result['angle_h_deg']):.2f}° × {float(result['angle_v_deg']):.2f}°")
    typer.echo(f"Magnification    {float(result['magnification']):.4f}")


def _finite(value: Any) -> float | None:
    return None if value is None or not math.isfinite(float(value)) else float(value)


@app.command()
def survey(
    plan: PlanPath,
    shot: ShotName = None,
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="As CSV, a row a frame.")] = False,
) -> None:
    """Focus, limits, and every subject's distance and blur, for all frames."""
    from kobrel.exchange.table import csv_text, survey_data
    from kobrel.plan.measure.survey import survey as take_survey

    if as_json and as_csv:
        raise typer.BadParameter("Give either --json or --csv.")
    document, chosen, stage = open_shot(plan, shot)
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

    from kobrel.optics.units import format_length, format_lengths
    from kobrel.plan.check import plan_unit
    from kobrel.plan.measure.survey import STATES

    table = Table(title=f"{document.name}, shot {shot.label}, sharpness limit {result.camera.coc_px:.3g} px")
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
            *format_lengths([float(result.near_m[i]), float(result.far_m[i])], plan_unit(document)), *states,
        )  # fmt: skip
    Console().print(table)


@app.command()
def solve(
    plan: PlanPath,
    shot: ShotName = None,
    frame: Annotated[int | None, typer.Option(help="For one frame; else over the shot.")] = None,
    output: Annotated[Path | None, typer.Option("-o", "--output", help="Write the plan with it.")] = None,
    force: Force = False,
) -> None:
    """The stop and focus that meet a shot's brief, or why there are none; exit with 1 then."""
    from kobrel.plan.edit import with_shot
    from kobrel.plan.file import save_plan
    from kobrel.plan.solve import brief as briefs
    from kobrel.plan.solve.candidates import Where, candidates, solved

    if output is not None:
        free_output(output, force)
    document, chosen, stage = open_shot(plan, shot)
    where = Where(document, stage, frame)
    brief = where.terms(chosen)
    if not brief.requirements:
        raise PlanError(
            f"{plan}: shot {chosen.label} has no brief.", remedy="Say in it what must be sharp or soft."
        )
    found = briefs.answer(brief)
    taken = solved(where, chosen)
    if taken is None:
        for row in [i for i, fine in enumerate(found.possible) if not fine][:1]:
            clash = briefs.clash(brief, row)
            typer.echo(f"Frame {clash.frame:g}: {clash.text}" if clash else "It cannot be met.")
        if found.possible.all():
            typer.echo("Each frame can be met, but not all with one stop.")
        would_do = [candidate.text for candidate in candidates(where, chosen)]
        reply.add(would_do=would_do)
        for text in would_do:
            typer.echo(f"Suggestion: {text}")
        raise typer.Exit(1)
    reply.add(
        stops=[list(each) for each in found.stops], f_number=_stop_of(taken, frame),
        marks=[mark.model_dump(mode="json", exclude_defaults=True) for mark in taken.marks],
    )  # fmt: skip
    typer.echo("Stops: " + ", ".join(f"f/{low:.4g} to f/{high:.4g}" for low, high in found.stops))
    _print_marks(document, taken, frame)
    if output is not None:
        save_plan(with_shot(document, document.shots.index(chosen), taken), output)


def _print_marks(document: Any, shot: Any, frame: int | None) -> None:
    """Stop and marks of a solved shot."""
    from kobrel.optics.units import format_length
    from kobrel.plan.check import plan_unit

    typer.echo(f"Stop:  f/{_stop_of(shot, frame):.4g}")
    for mark in shot.marks:
        if frame is None or mark.frame == frame or len(shot.marks) == 1:
            name = document.name_of(mark.target)
            on = format_length(mark.target.metres, plan_unit(document)) if name is None else name
            typer.echo(f"Focus: {on} at {mark.frame:g}")


def _stop_of(shot: Any, frame: int | None) -> float:
    """The stop of a shot at a frame, or at its first."""
    return float(shot.glass.f_number.at(shot.first if frame is None else frame)[0])
