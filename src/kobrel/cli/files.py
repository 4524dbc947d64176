"""Commands about files: plans made, checked and handed on; the simulated meter."""

import contextlib
import json
from pathlib import Path
from typing import Annotated, Literal

import typer

from kobrel import trust
from kobrel.cli import reply
from kobrel.cli.shared import (
    Force,
    Output,
    PlanPath,
    app,
    free_output,
    hint_refused,
    kept_settings,
    open_shot,
    progress_bar,
    trust_opened,
    warn,
)
from kobrel.errors import KobrelError, PlanError
from kobrel.optics.units import METRES, LengthUnit


@app.command()
def new(
    scene: Annotated[Path, typer.Argument(metavar="SCENE", help="USD, glTF, Alembic, OBJ, PLY or STL.")],
    output: Output,
    camera: Annotated[str | None, typer.Option(help="Path of the camera in the scene.")] = None,
    unit: Annotated[LengthUnit | None, typer.Option(help="Unit of the scene, if the file is wrong.")] = None,
    up: Annotated[Literal["Y", "Z"] | None, typer.Option(help="Its up axis, if the file is wrong.")] = None,
    force: Force = False,
) -> None:
    """Make a plan from a scene: its camera, lens, frames and the point in focus."""
    from kobrel.picture.metering import metered
    from kobrel.plan.file import save_plan
    from kobrel.plan.start import plan_from_scene
    from kobrel.session.settings import allow_chosen
    from kobrel.stage.read.load import load_scene

    free_output(output, force)
    trust_opened(scene)
    with progress_bar() as progress:
        loaded = load_scene(scene, progress)
    allow_chosen(kept_settings(), scene)
    hint_refused()
    unit_m = METRES[unit] if unit else None
    told: list[str] = []
    in_unit = loaded.read_as(unit_m or loaded.unit_m, up or loaded.up)
    plan, stage = plan_from_scene(scene, in_unit, camera, unit_m, up, told)
    if stage.triangle_count:
        plan = metered(plan, plan.shots[0], stage)
    save_plan(plan, output)
    reply.add(
        cameras=[each.path for each in in_unit.cameras],
        shots=[
            {"name": each.name, "label": each.label, "first": each.first, "last": each.last, "fps": each.fps,
             "camera": each.camera.model_dump(mode="json")}
            for each in plan.shots
        ],
    )  # fmt: skip
    warn(stage.warnings + told)


@app.command()
def replace(
    plan: PlanPath,
    picture: Annotated[Path, typer.Argument(metavar="PICTURE", help="The image that replaces it.")],
    plate: Annotated[str, typer.Option("--plate", help="Name of the plate.")],
    output: Output,
    alone: Annotated[
        bool, typer.Option("--alone", help="Leave the other plates of the same image alone.")
    ] = False,
    stretch: Annotated[
        bool, typer.Option("--stretch", help="Stretch cut-outs to an image of another aspect ratio.")
    ] = False,
    force: Force = False,
) -> None:
    """Put another picture in a plate's place: position, keys, dials, fades and cut-out stay."""
    from kobrel.plan.file import open_plan, save_plan
    from kobrel.plan.plates.replacing import picture_for, set_of, with_picture
    from kobrel.session.settings import allow_chosen

    free_output(output, force)
    trust_opened(plan)
    document = open_plan(plan)
    found = next((each for each in document.plates if each.name == plate), None)
    if found is None:
        known = ", ".join(each.name for each in document.plates) or "none"
        raise PlanError(f"no plate named “{plate}”.", file=plan, remedy=f"There are: {known}.")
    allow_chosen(kept_settings(), picture)
    plates = [found] if alone else set_of(document.plates, found)
    save_plan(with_picture(document, plates, picture_for(found, picture), stretch), output)
    reply.add(plates=[each.name for each in plates])
    typer.echo(f"{', '.join(each.name for each in plates)}: {picture.name}")


@app.command()
def iris(
    plan: PlanPath,
    output: Annotated[
        Path | None,
        typer.Option("-o", "--output", help=".png or .exr picture, .csv outline, .json outline and numbers."),
    ] = None,
    shot: Annotated[str | None, typer.Option(help="Which shot; the first by default.")] = None,
    frame: Annotated[float | None, typer.Option(help="At which frame; the shot's first by default.")] = None,
    size: Annotated[int, typer.Option(help="Width of a picture, pixels.")] = 1024,
    force: Force = False,
) -> None:
    """Write the iris of a shot for a renderer; without a file, tell its numbers and what they mean."""
    if output is not None:
        free_output(output, force)
    from kobrel.exchange.iris import numbers_of, write_iris
    from kobrel.plan.measure.camera import camera_at

    document, chosen, stage = open_shot(plan, shot)
    camera = camera_at(document, chosen, chosen.first if frame is None else frame, stage)
    if output is not None:
        write_iris(output, camera, size)
        return
    reply.add(numbers={number.name: number.value for number in numbers_of(camera)})
    for number in numbers_of(camera):
        typer.echo(f"{number.name:30} {number.value:<12g} {number.meaning}")


@app.command()
def check(plan: PlanPath) -> None:
    """Say what is wrong with a plan and its scenes; exit with 1 if anything is."""
    from kobrel.plan.check import findings, shot_warnings
    from kobrel.plan.file import open_plan
    from kobrel.plan.space.rebinding import rebound
    from kobrel.plan.staging import load_stage

    trust_opened(plan)
    document = open_plan(plan)
    with progress_bar() as progress:
        stage, problems = load_stage(document, progress)
        document, elsewhere = rebound(document, stage)
        found = problems + stage.warnings + elsewhere + findings(document, stage)
        for shot in document.shots:
            with contextlib.suppress(PlanError):  # told by the findings
                found += [
                    f"Shot {shot.label}: {line}" for line in shot_warnings(document, shot, stage, progress)
                ]
    hint_refused()
    reply.add(findings=found)
    for line in found:
        typer.echo(line)
    if found:
        raise typer.Exit(1)
    typer.echo(f"{plan}: OK")


@app.command()
def rangefinder(
    plan: PlanPath,
    shot: Annotated[str | None, typer.Option(help="Which shot; the first by default.")] = None,
    frame: Annotated[float | None, typer.Option(help="At which frame; the shot's first by default.")] = None,
    port: Annotated[int, typer.Option(min=0, max=65535, help="Port to listen on; 0 picks a free one.")] = 0,
    number: Annotated[int, typer.Option(min=0, help="Seed of the simulated errors.")] = 1,
    also: Annotated[
        list[Path] | None, typer.Option(help="Folders that the plan may name files in besides.")
    ] = None,
) -> None:
    """Simulate a laser meter on a plan's scene, over a local socket (docs/rangefinder.md)."""
    from kobrel.devices.rangefinder import SimulatedMeter, make_server
    from kobrel.devices.serving import own_token

    trust.allow(also or ())

    _document, chosen, stage = open_shot(plan, shot)
    stage.prepare()
    meter = SimulatedMeter(stage, chosen.first if frame is None else frame, number)
    try:
        server = make_server(meter, port, own_token())
    except OSError as error:
        raise KobrelError(
            f"Port {port} cannot be used ({error.strerror}).", remedy="Choose another, or 0."
        ) from None
    server.announce()
    with contextlib.suppress(KeyboardInterrupt):
        server.serve_until_end()


@app.command()
def allow(
    folders: Annotated[
        list[Path] | None,
        typer.Argument(metavar="FOLDER ...", help="Folders to allow; without any, list them."),
    ] = None,
    forget: Annotated[bool, typer.Option("--forget", "--revoke", help="Revoke.")] = False,
) -> None:
    """Let scenes and plans name files in folders other than their own; remembered for the window too."""
    from kobrel.session.settings import ALLOWED

    settings = kept_settings()
    kept = settings.get(ALLOWED)
    named = [str(folder.absolute()) for folder in folders or ()]
    if named:
        left = [folder for folder in kept if folder not in named]
        settings.put(ALLOWED, left if forget else [*left, *named])
    reply.add(folders=settings.get(ALLOWED))
    for folder in settings.get(ALLOWED):
        typer.echo(folder)


@app.command()
def schema(
    of: Annotated[Literal["plan", "job", "reply"], typer.Option("--of", help="Of what.")] = "plan",
) -> None:
    """Print the JSON Schema of a plan, of a job for `kobrel batch`, or of the answers with --json."""
    from pydantic import TypeAdapter

    from kobrel.farm.work import Work
    from kobrel.plan.model import Plan

    kinds: dict[str, type] = {"plan": Plan, "job": Work, "reply": reply.Reply}
    typer.echo(json.dumps(TypeAdapter(kinds[of]).json_schema(), indent=2))
