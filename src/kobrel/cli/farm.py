"""Commands for work of many frames, here or on many machines."""

import json
import os
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from kobrel.cli.shared import (
    Denoise,
    Force,
    PlanPath,
    app,
    frames_of,
    kept_settings,
    progress_bar,
    size_of,
    trust_opened,
    warn,
)
from kobrel.errors import KobrelError
from kobrel.files import make_folder

if TYPE_CHECKING:
    from kobrel.farm.report import Report
    from kobrel.farm.work import Work

_HERE = "here"
Scheduler = Annotated[
    str | None,
    typer.Option(
        "--scheduler", metavar="ADDRESS",
        help="Of a dask scheduler, tcp://HOST:8786; here for this machine; as in Preferences by default.",
    ),
]  # fmt: skip
SkipExisting = Annotated[
    bool,
    typer.Option(
        "--skip-existing", help="Frames whose files are there and whole count as made, whoever made them."
    ),
]
AsJson = Annotated[bool, typer.Option("--json", help="Tell the outcome as JSON.")]


@app.command()
def farm(
    plan: PlanPath,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="DIR", help="Folder to write to.")],
    kind: Annotated[
        Literal["exr", "png", "mp4", "mov", "passes", "layers"], typer.Option("--as", help="What is made.")
    ] = "exr",
    shots: Annotated[str, typer.Option("--shots", help="Names of shots with commas, or all.")] = "all",
    frames: Annotated[
        str | None, typer.Option("--frames", metavar="A-B", help="Only these; the shot's by default.")
    ] = None,
    size: Annotated[str | None, typer.Option(help="Width x height; as delivered by default.")] = None,
    samples: Annotated[int, typer.Option(min=1, max=65536, help="Lens samples a pixel.")] = 64,
    bands: Annotated[int, typer.Option(min=1, max=16, help="Split each frame's samples into N parts.")] = 1,
    denoise: Denoise = False,
    scheduler: Scheduler = None,
    as_json: AsJson = False,
    force: Force = False,
    skip_existing: SkipExisting = False,
) -> None:
    """Make the frames of shots on many machines, or all cores of this one; goes on where it was stopped."""
    from kobrel.farm.work import work_of
    from kobrel.plan.file import open_plan

    trust_opened(plan)
    document = open_plan(plan)
    wanted = [shot.name for shot in document.shots] if shots == "all" else shots.split(",")
    ends = frames_of(frames) or (None, None)
    pixels = size_of(size) if size else None
    made_of: dict[str, tuple[str, str]] = {
        "exr": ("pictures", ".exr"), "png": ("pictures", ".png"), "mp4": ("movie", ".mp4"),
        "mov": ("movie", ".mov"), "passes": ("passes", ".exr"), "layers": ("layers", ".ora"),
    }  # fmt: skip
    what, ending = made_of[kind]
    make_folder(output)
    works = [
        work_of(
            kind=what, plan=str(plan.absolute()), shot=name.strip(),
            output=str((output / f"{plan.stem}_{name.strip()}{ending}").absolute()),
            first=ends[0], last=ends[1],
            width=round(pixels.width) if pixels else None, height=round(pixels.height) if pixels else None,
            samples=samples, bands=bands, denoise=denoise,
        )
        for name in wanted
    ]  # fmt: skip
    _finish(_run_all(works, scheduler, force, skip_existing, stops=True), as_json)


@app.command()
def batch(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Jobs as JSON, see docs/farm.md.")],
    scheduler: Scheduler = None,
    as_json: AsJson = False,
    force: Force = False,
    skip_existing: SkipExisting = False,
) -> None:
    """Do a list of jobs, one after the other; exit with 1 if any failed."""
    from kobrel.farm.work import read_works

    works = read_works(file)
    for work in works:
        trust_opened(Path(work.plan))
    _finish(_run_all(works, scheduler, force, skip_existing, stops=False), as_json)


@app.command()
def worker(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Of the scheduler, tcp://HOST:8786.")],
    slots: Annotated[int, typer.Option(min=1, max=256, help="Frames that are made at once.")] = 1,
    threads: Annotated[
        int | None, typer.Option(min=1, max=1024, help="Threads that draw; one a core by default.")
    ] = None,
    host: Annotated[
        str,
        typer.Option(help="This machine's address for the scheduler; this machine alone by default."),
    ] = "",
    open_to_all: Annotated[
        bool,
        typer.Option(
            "--open-to-all",
            help="Listen at that address without TLS: whoever reaches it can run anything here.",
        ),
    ] = False,
) -> None:
    """Make frames for whoever gives work to a scheduler, until it is stopped."""
    from kobrel.farm.worker import serve

    def say(what: str) -> None:
        typer.echo(f"kobrel: {what}", err=True)

    serve(address, slots, threads, say, host=host, open_to_all=open_to_all)


def _run_all(
    works: "list[Work]", scheduler: str | None, force: bool, skip_existing: bool, stops: bool
) -> "list[tuple[Work, Report | None, str]]":
    """Do works one after the other: what came of each, or why it failed.

    Parameters
    ----------
    stops : whether the first that fails is the last
    """
    from kobrel.farm.bundle import packed
    from kobrel.farm.cluster import Farm
    from kobrel.farm.run import Run
    from kobrel.session.settings import SCHEDULER

    address = kept_settings().get(SCHEDULER) if scheduler is None else scheduler
    address = "" if address == _HERE else address
    outcomes: list[tuple[Work, Report | None, str]] = []
    for work in works:
        try:
            with progress_bar() as progress:
                bundle, told = packed(work, progress=progress)
                run = Run(
                    bundle,
                    lambda: Farm(address),
                    _shown(work, progress),
                    force=force,
                    skip_existing=skip_existing,
                )
                report = run.run()
            warn([*told, *report.told])
            outcomes.append((work, report, ""))
        except KobrelError as error:
            if stops:
                raise
            typer.echo(f"kobrel: {work.title}: {error}", err=True)
            outcomes.append((work, None, str(error)))
    return outcomes


def _shown(work: "Work", progress: Any) -> Any:
    """Progress of a run on the terminal."""

    def show(report: "Report") -> None:
        left = f", about {report.left_s:.0f} s left" if report.left_s else ""
        again = f", {report.retried} again" if report.retried else ""
        what = f"{work.title}: {report.made} of {report.total}{again}{left}"
        progress(what, report.made / max(1, report.total))

    return show


def _finish(outcomes: "list[tuple[Work, Report | None, str]]", as_json: bool) -> None:
    """Tell what came of works, and end with 1 where any failed."""
    if as_json:
        told = [
            {
                "title": work.title,
                "output": work.output,
                "why": why,
                **({} if not report else asdict(report)),
            }
            for work, report, why in outcomes
        ]
        typer.echo(json.dumps(told, indent=2))
    else:
        for work, report, _why in outcomes:
            if report is not None:
                found = f", {report.found} were there" if report.found else ""
                again = f", {report.retried} retried" if report.retried else ""
                typer.echo(
                    f"{work.title}: {report.made} of {report.total} made{found}{again}, "
                    f"{report.seconds:.1f} s, {os.path.relpath(work.output)}"
                )
    if any(why for *_work, why in outcomes):
        raise typer.Exit(1)
