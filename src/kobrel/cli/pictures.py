"""Commands that make pictures and sound."""

from typing import Annotated

import typer

from kobrel.cli.shared import (
    Denoise,
    Force,
    Output,
    PlanPath,
    ShotName,
    app,
    free_output,
    open_shot,
    progress_bar,
    size_of,
    told_outside,
    warn,
)


@app.command()
def render(
    plan: PlanPath,
    output: Output,
    shot: ShotName = None,
    frame: Annotated[int | None, typer.Option(help="Frame; the shot's first by default.")] = None,
    size: Annotated[str | None, typer.Option(help="Width x height; as delivered by default.")] = None,
    samples: Annotated[int, typer.Option(min=1, max=65536, help="Lens samples a pixel.")] = 64,
    sharp: Annotated[bool, typer.Option("--sharp", help="Without blur, for `kobrel defocus`.")] = False,
    denoise: Denoise = False,
    force: Force = False,
) -> None:
    """Render a frame with its true depth of field, to PNG or EXR."""
    from kobrel.exchange.render import check_target, render_frame

    check_target(output)
    free_output(output, force)
    wanted = size_of(size) if size else None
    document, chosen, stage = open_shot(plan, shot)
    at = chosen.first if frame is None else frame
    told_outside(chosen, at, at)
    pixels = (round(wanted.width), round(wanted.height)) if wanted else None
    if document.finished_of(chosen) is not None:
        from kobrel.exchange.rendered.write import write_frame

        warn(write_frame(document, chosen, at, stage, output))
        return
    with progress_bar() as progress:
        render_frame(document, chosen, at, stage, pixels, samples, output, progress, sharp, denoise)


@app.command()
def movie(
    plan: PlanPath,
    output: Output,
    shot: ShotName = None,
    first: Annotated[
        int | None, typer.Option(help="First frame; with the shot's handles by default.")
    ] = None,
    last: Annotated[int | None, typer.Option(help="Last frame; with the shot's handles by default.")] = None,
    size: Annotated[str | None, typer.Option(help="Width x height; as delivered by default.")] = None,
    samples: Annotated[int, typer.Option(min=1, max=65536, help="Lens samples a pixel.")] = 64,
    burn: Annotated[str, typer.Option(help="Burn-ins, comma-separated: frame,focus,stop,states.")] = "",
    sound: Annotated[bool, typer.Option("--sound", help="With the focus motor's sound.")] = False,
    clay: Annotated[bool, typer.Option("--clay", help="All surfaces in one grey.")] = False,
    denoise: Denoise = False,
    force: Force = False,
) -> None:
    """Write a shot as a movie (.mp4 H.264, .mov ProRes) or as pictures (.png, .exr)."""
    from kobrel.exchange.movie import Movie, check_ending, write_shot, written_over
    from kobrel.picture.burn import BURNS

    wanted = size_of(size) if size else None
    burns = frozenset(word.strip() for word in burn.split(",") if word.strip())
    if not burns <= set(BURNS):
        raise typer.BadParameter(f"--burn knows {', '.join(BURNS)}, not {', '.join(burns - set(BURNS))}.")
    check_ending(output)
    document, chosen, stage = open_shot(plan, shot)
    told_outside(chosen, chosen.first if first is None else first, chosen.last if last is None else last)
    made = Movie(
        first, last, round(wanted.width) if wanted else None,
        round(wanted.height) if wanted else None, samples, burns, sound, clay, denoise,
    )  # fmt: skip
    for there in written_over(chosen, made, output):
        free_output(there, force)
    if document.finished_of(chosen) is not None:
        from kobrel.exchange.rendered.write import write_range

        low, high = first if first is not None else chosen.first, last if last is not None else chosen.last
        with progress_bar() as progress:
            warn(write_range(document, chosen, stage, low, high, output, progress))
        return
    with progress_bar() as progress:
        write_shot(document, chosen, stage, made, output, progress)


@app.command()
def sound(plan: PlanPath, output: Output, shot: ShotName = None, force: Force = False) -> None:
    """Write the focus motor's sound over a shot, as WAV."""
    from kobrel.exchange.sound import write_sound
    from kobrel.plan.measure.survey import survey

    free_output(output, force)
    document, chosen, stage = open_shot(plan, shot)
    write_sound(document, chosen, survey(document, chosen, stage), output)
