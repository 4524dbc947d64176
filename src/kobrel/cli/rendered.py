"""Commands about rendered images: blurred as a shot has it, and what a kept proof tells of itself."""

import json
from pathlib import Path
from typing import Annotated, cast

import typer

from kobrel.cli.shared import (
    Force,
    Output,
    ShotName,
    app,
    free_output,
    open_shot,
    progress_bar,
    trust_opened,
    warn,
)

_RULES = {
    "straight": "Depth holds straight-line distances from the lens.", "negative": "Depth is below 0.",
    "flipped": "1 is near.", "zero": "Depth 0 is nothing.",
}  # fmt: skip


@app.command()
def defocus(
    picture: Annotated[Path, typer.Argument(help="Picture with depth; of a sequence any frame.")],
    plan: Annotated[Path, typer.Option("--plan", help="A .kobrel plan.")],
    output: Output,
    shot: ShotName = None,
    depth: Annotated[Path | None, typer.Option(help="Separate depth image.")] = None,
    layer: Annotated[str, typer.Option(help="Layer of the picture's channels.")] = "",
    channel: Annotated[str, typer.Option(help="Channel of the depth.")] = "",
    kind: Annotated[
        str | None, typer.Option(help="distance, inverse, even or dioptres; guessed by default.")
    ] = None,
    unit: Annotated[float | None, typer.Option(help="Metres in a unit of depth.")] = None,
    near: Annotated[float | None, typer.Option(help="Metres at one end of a depth from 0 to 1.")] = None,
    far: Annotated[float | None, typer.Option(help="Metres at the other end.")] = None,
    rules: Annotated[str, typer.Option(help=f"Comma-separated: {', '.join(_RULES)}.")] = "",
    method: Annotated[
        str, typer.Option(help="layered; or gather, gaussian, box, ramp to compare with.")
    ] = "layered",
    most: Annotated[float | None, typer.Option(min=0.0, help="Largest disc in pixels.")] = None,
    grow: Annotated[float, typer.Option(min=0.0, max=10.0, help="Stops added to clipped highlights.")] = 0.0,
    first: Annotated[int | None, typer.Option(help="First frame of a sequence.")] = None,
    last: Annotated[int | None, typer.Option(help="Last frame of a sequence.")] = None,
    frame: Annotated[
        int | None,
        typer.Option(
            help="Which frame of the shot a single picture is; by the number in its name by default."
        ),
    ] = None,
    force: Force = False,
) -> None:
    """Blur rendered images as a shot does, with occlusion; frames that are there already are kept."""
    from kobrel.errors import ExchangeError
    from kobrel.exchange.rendered.write import Choices
    from kobrel.exchange.rendered.write import defocus as blur
    from kobrel.picture.defocus.simple import METHODS, Method
    from kobrel.plan.pictures.rendered import DEPTH_KINDS, frame_of, opened
    from kobrel.plan.sequence.shots import shot_ends
    from kobrel.stage.read.rendered.frames import frames_beside, gaps

    if method not in METHODS:
        raise typer.BadParameter(f"--method is one of {', '.join(METHODS)}.")
    if kind is not None and kind not in DEPTH_KINDS:
        raise typer.BadParameter(f"--kind is one of {', '.join(DEPTH_KINDS)}.")
    said = {word.strip() for word in rules.split(",") if word.strip()}
    if not said <= set(_RULES):
        raise typer.BadParameter(f"--rules knows {', '.join(_RULES)}.")
    document, chosen, stage = open_shot(plan, shot)
    for path in filter(None, (picture, depth)):
        trust_opened(path)
    finished, pixels = opened(picture, depth)
    changes = {
        "kind": kind, "unit_m": unit, "near_m": near, "far_m": far, "straight": "straight" in said or None,
        "negative": "negative" in said or None, "flipped": "flipped" in said or None,
        "zero_is_nothing": "zero" in said or None,
    }  # fmt: skip
    rule = finished.rule.replace(**{name: value for name, value in changes.items() if value is not None})
    finished = finished.replace(rule=rule, layer=layer, depth_channel=channel)
    warn(list(pixels.told))
    frames = None
    if finished.sequence:
        there = frames_beside(picture)
        low, high = first if first is not None else there[0], last if last is not None else there[-1]
        frames = [frame for frame in there if low <= frame <= high]
        if not frames:
            raise ExchangeError(f"no frame from {low} to {high}.", file=picture)
        missing = gaps(frames)
        warn([f"These frames are missing: {missing}."] if missing else [])
    else:
        frame = frame if frame is not None else frame_of(finished, *shot_ends(chosen))
        if frame is None:
            raise ExchangeError(
                "which frame of the shot it shows is not known.", file=picture,
                remedy=f"Say --frame; shot {chosen.label} has {chosen.first} to {chosen.last}.",
            )  # fmt: skip
        typer.echo(f"kobrel: it is taken as frame {frame} of shot {chosen.label}", err=True)
        if output.suffix.lower() in (".exr", ".png"):
            free_output(output, force)
    typer.echo(
        f"kobrel: depth is taken as {DEPTH_KINDS[rule.kind].lower()}, {rule.unit_m:g} m a unit", err=True
    )
    choices = Choices(cast(Method, method), most, grow, force)
    with progress_bar() as progress:
        told = blur(document, chosen, stage, finished, frames, choices, output, progress, frame)
    warn([each for each in told if each not in pixels.told])


@app.command()
def proof(
    picture: Annotated[Path, typer.Argument(help="A saved proof, an EXR file.")],
    as_json: Annotated[bool, typer.Option("--json", help="All settings as JSON.")] = False,
) -> None:
    """Tell what a kept proof was made with, from its own header."""
    from kobrel.errors import ExchangeError
    from kobrel.exchange.proof.files import read_proof
    from kobrel.plan.variants.proofs import facts

    found = read_proof(picture)[0]
    if found is None:
        raise ExchangeError("its header has no settings of a proof.", file=picture)
    if as_json:
        typer.echo(json.dumps(found.model_dump(mode="json"), indent=2))
    else:
        for name, text in facts([found])[0].items():
            if text:
                typer.echo(f"{name:10} {text}")
