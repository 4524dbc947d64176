"""Commands about the list of shots."""

from pathlib import Path
from typing import Annotated

import typer

from kobrel.cli import reply
from kobrel.cli.shared import Force, PlanPath, app, free_output, open_shot, warn


@app.command()
def shots(
    plan: PlanPath,
    take: Annotated[
        Path | None, typer.Option(metavar="LIST", help="An .otio or .edl list whose shots the plan takes.")
    ] = None,
    fps: Annotated[
        float, typer.Option(min=1, max=1000, help="Frame rate of an .edl, frames per second.")
    ] = 24.0,
    output: Annotated[
        Path | None,
        typer.Option("-o", "--output", help="Write the list (.otio, .edl), or the plan (.kobrel)."),
    ] = None,
    force: Force = False,
) -> None:
    """Tell the shots of a plan and what their cuts do; take them from an edit list, or write one."""
    from kobrel.exchange.timeline import read_list, write_list
    from kobrel.plan.file import save_plan
    from kobrel.plan.measure.survey import survey
    from kobrel.plan.model import SUFFIX
    from kobrel.plan.sequence.cuts import cut_between
    from kobrel.plan.sequence.shots import with_list

    if output is not None:
        free_output(output, force)
    document, _chosen, stage = open_shot(plan, None)
    if take is not None:
        told_of_list: list[str] = []
        document = with_list(document, read_list(take, fps, told_of_list), 0, stage)
        warn(told_of_list)
    if output is not None:
        if output.suffix == SUFFIX:
            save_plan(document, output)
        else:
            write_list(document, stage, output)
        return
    before = None
    told: list[dict[str, object]] = []
    cuts: list[list[str]] = []
    for shot in document.shots:
        numbers = survey(document, shot, stage)
        if before is not None:
            cuts.append(list(cut_between(before, numbers).jumps))
            typer.echo(f"  cut: {', '.join(cuts[-1]) or 'smooth'}")
        told.append(
            {"name": shot.name, "title": shot.title, "first": shot.first, "last": shot.last, "fps": shot.fps}
        )
        typer.echo(f"{shot.label}: {shot.first}–{shot.last} at {shot.fps:g}, {len(shot.cues)} cues")
        before = numbers
    reply.add(shots=told, cuts=cuts)
