"""Commands that hand a plan over, in any renderer's convention and format, and import values."""

import json
from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from kobrel.cli import reply
from kobrel.cli.shared import (
    Force,
    Output,
    PlanPath,
    ShotName,
    app,
    custom_values,
    frames_of,
    free_output,
    open_shot,
    progress_bar,
    told_outside,
    trust_opened,
    unit_named,
    warn,
)
from kobrel.errors import ExchangeError, PlanError

_AS = Literal[
    "usd",
    "usd-changes",
    "gltf",
    "alembic",
    "csv",
    "json",
    "plates",
    "layers",
    "otio",
    "edl",
    "sheet",
    "html",
    "passes",
    "tables",
]
Unit = Annotated[
    str | None, typer.Option("--unit", help="m, cm, mm, in, ft, or metres in one; the plan's by default.")
]
Terms = Annotated[
    str, typer.Option("--terms", "--values", help="Comma-separated conventions; see `kobrel values`.")
]
Frames = Annotated[
    str | None, typer.Option("--frames", metavar="A-B", help="Only these frames; the shot's by default.")
]


def _families(names: str) -> list[Any]:
    """The conventions that are named, with commas between."""
    from kobrel.plan.values.own import family, read_own

    found: list[Any] = []
    for name in filter(None, (part.strip() for part in names.split(","))):
        found.append(read_own(Path(name)) if name.endswith(".json") else family(name, custom_values()))
    return found


@app.command()
def export(
    plan: PlanPath,
    output: Output,
    kind: Annotated[_AS, typer.Option("--as", help="What it is written as.")],
    shot: ShotName = None,
    frames: Frames = None,
    unit: Unit = None,
    terms: Terms = "",
    passes: Annotated[str, typer.Option("--passes", help="Which passes, with commas; all by default.")] = "",
    size: Annotated[
        str | None, typer.Option("--size", metavar="WxH", help="Size of passes and layers.")
    ] = None,
    samples: Annotated[int, typer.Option("--samples", min=1, max=4096, help="Rays a pixel of layers.")] = 64,
    page: Annotated[Literal["A4", "Letter"], typer.Option("--page", help="Of a sheet.")] = "A4",
    ring: Annotated[
        float, typer.Option("--ring", min=5.0, max=1000.0, help="Diameter of the focus ring, mm.")
    ] = 80.0,
    kit: Annotated[
        str,
        typer.Option(
            "--kit",
            "--lens-set",
            help="Lens set, by name or file, that tables are of; the shot's lens if none.",
        ),
    ] = "",
    force: Force = False,
) -> None:
    """Write a shot's camera, frames, plates, passes or tables, the list of shots, or the crew's sheet."""
    from kobrel.cli.shared import size_of
    from kobrel.exchange.export import KINDS, require_ending

    free_output(output, force)
    chosen_values, chosen_frames, measure = _families(terms), frames_of(frames), unit_named(unit)
    if kind in KINDS:
        require_ending(KINDS[kind].title, KINDS[kind].endings, output)
    if kind == "tables":
        require_ending("A table", (".csv",), output)
    document, chosen, stage = open_shot(plan, shot)
    of_all = shot is None and (kind in ("sheet", "html") or (kind in KINDS and KINDS[kind].of != "shot"))
    reply.add(kind=kind, shots=[each.name for each in (document.shots if of_all else (chosen,))])
    if chosen_frames is not None:
        told_outside(chosen, *chosen_frames)
    if kind == "passes":
        wanted = size_of(size) if size else None
        _write_passes(document, chosen, stage, output, passes, chosen_frames, measure, wanted)
        return
    if kind == "layers":
        wanted = size_of(size) if size else None
        _write_layers(document, chosen, stage, output, chosen_frames, wanted, samples)
        return
    if kind == "tables":
        _write_tables(document, chosen, stage, output, measure, _lenses(kit))
        return
    with progress_bar() as progress:
        if kind in ("sheet", "html"):
            from kobrel.exchange.sheet.write import SheetOptions, write_sheet
            from kobrel.plan.staging import unit_of

            shots = document.shots if shot is None else (chosen,)
            unit_shown = measure or unit_of(document, stage)
            options = SheetOptions(unit_shown, page, ring, kit=_lenses(kit))
            write_sheet(document, shots, stage, output, options, progress)
            return
        from kobrel.exchange.export import Options
        from kobrel.exchange.export import export as write

        options_ = Options(measure, chosen_values, chosen_frames, page=page)
        write(document, chosen, stage, kind, output, options_, progress)


def _write_passes(
    document: Any, shot: Any, stage: Any, output: Path, names: str, frames: Any, unit: Any, size: Any
) -> None:
    from kobrel.exchange.passes import write_passes
    from kobrel.plan.export import PASSES
    from kobrel.plan.staging import unit_of

    wanted: list[Any] = [name.strip() for name in names.split(",") if name.strip()] or list(PASSES)
    unknown = [name for name in wanted if name not in PASSES]
    if unknown:
        raise typer.BadParameter(f"no pass named “{unknown[0]}”. There are: {', '.join(PASSES)}.")
    first, last = frames or (shot.first, shot.last)
    with progress_bar() as progress:
        write_passes(
            document, shot, stage, range(first, last + 1), wanted, output, progress,
            unit or unit_of(document, stage), size and (round(size.width), round(size.height)),
        )  # fmt: skip


def _write_layers(
    document: Any, shot: Any, stage: Any, output: Path, frames: Any, size: Any, samples: int
) -> None:
    from kobrel.exchange.plates.layers import write_layers

    first, last = frames or (shot.first, shot.last)
    with progress_bar() as progress:
        write_layers(
            document, shot, stage, range(first, last + 1), output, progress,
            size and (round(size.width), round(size.height)), samples,
        )  # fmt: skip


def _lenses(kit: str) -> Any:
    """The lenses of a lens set, by its name or its file; none for none."""
    from kobrel.plan.lens_sets.lenses import read_lens_set, shipped_lens_sets

    if not kit:
        return ()
    if kit.endswith((".json", ".csv")):
        return read_lens_set(Path(kit)).lenses
    found = next((each for each in shipped_lens_sets() if each.kit.lower() == kit.lower()), None)
    if found is None:
        known = ", ".join(each.kit for each in shipped_lens_sets())
        raise PlanError(f"no lens set named “{kit}”.", remedy=f"There are: {known}; or name a file of one.")
    return found.lenses


def _write_tables(document: Any, shot: Any, stage: Any, output: Path, unit: Any, lenses: Any) -> None:
    from kobrel.exchange.sheet.tables import write_tables
    from kobrel.plan.measure.camera import camera_at
    from kobrel.plan.measure.depth_table import lens_set_tables, shot_table
    from kobrel.plan.staging import unit_of

    measure = unit or unit_of(document, stage)
    camera = camera_at(document, shot, shot.first, stage)
    table = shot_table(shot, camera, measure)
    if table is None:
        raise ExchangeError(f"Shot {shot.label}: an orthographic view has no table of stops.")
    write_tables(lens_set_tables(lenses, camera, measure) if lenses else [table], measure, output)


@app.command(name="terms", hidden=True)
@app.command(name="values")
def values(
    plan: PlanPath,
    shot: ShotName = None,
    frame: Annotated[float | None, typer.Option(help="At which frame; the shot's first by default.")] = None,
    unit: Unit = None,
    only: Terms = "",
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
) -> None:
    """A shot's values in each renderer's convention, and what each cannot say."""
    from kobrel.plan.measure.survey import survey
    from kobrel.plan.staging import unit_of
    from kobrel.plan.values.blocks import blocks_for
    from kobrel.plan.values.lost import losses
    from kobrel.plan.values.own import as_block, values_of
    from kobrel.plan.values.render_camera import render_camera

    families = _families(only)
    measure = unit_named(unit)
    document, chosen, stage = open_shot(plan, shot)
    at = chosen.first if frame is None else frame
    numbers = survey(document, chosen, stage)
    if at not in numbers.frames:
        numbers = survey(document, chosen, stage, [at])
    row = numbers.index_of(at)
    camera = render_camera(chosen, numbers).at(row)
    measure = measure or unit_of(document, stage)
    families = families or [*blocks_for(camera.projection), *custom_values()]
    told: dict[str, Any] = {}
    for each in families:
        which = as_block(each)
        values = values_of(each, camera, measure, numbers.focus_distance_m[:, row])
        lost = losses(which, document, chosen, numbers, row)
        told[which.key] = {
            "title": which.title,
            "values": {term.label: {"value": term.text, "unit": term.symbol} for term in values},
            "lost": {loss.text: loss.px for loss in lost},
        }
        if not as_json:
            typer.echo(f"{which.title}  ({which.key})")
            for term in values:
                typer.echo(f"  {term.label:28} {term.shown}")
            for loss in lost:
                typer.echo(f"  lost: {loss.told}")
    if as_json:
        typer.echo(json.dumps(told, indent=1, ensure_ascii=False))


@app.command(name="import")
def import_values(
    plan: PlanPath,
    source: Annotated[
        Path, typer.Argument(metavar="FILE", help="Values (.csv, .json, .txt) or a camera (USD, glTF, .abc).")
    ],
    output: Annotated[
        Path | None,
        typer.Option("-o", "--output", help="Plan to write; otherwise only lists the changes."),
    ] = None,
    shot: ShotName = None,
    frame: Annotated[float | None, typer.Option(help="Of values; the shot's first by default.")] = None,
    unit: Unit = None,
    camera: Annotated[str | None, typer.Option(help="Which camera of the file.")] = None,
    take: Annotated[str, typer.Option(help="Parts of a camera, with commas; all by default.")] = "",
    force: Force = False,
) -> None:
    """Take values or a camera that came back into a shot; tell first what that changes."""
    from kobrel.plan.edit import with_shot
    from kobrel.plan.file import save_plan
    from kobrel.plan.staging import unit_of
    from kobrel.stage.scene import SCENE_SUFFIXES

    if output is not None:
        free_output(output, force)
    given = unit_named(unit)
    document, chosen, stage = open_shot(plan, shot)
    measure = given or unit_of(document, stage)
    trust_opened(source)
    if source.suffix.lower() in SCENE_SUFFIXES:
        file_unit_m = given.metres if given else None
        changed = _camera_taken(document, chosen, stage, source, camera, measure, file_unit_m, take)
    else:
        changed = _values_taken(document, chosen, stage, source, frame, measure)
    if output is not None:
        save_plan(with_shot(document, document.shots.index(chosen), changed), output)


def _camera_taken(
    document: Any,
    shot: Any,
    stage: Any,
    source: Path,
    camera: str | None,
    unit: Any,
    file_unit_m: float | None,
    take: str,
) -> Any:
    from kobrel.exchange.cameras.back import PARTS, compare, read_camera

    wanted = [part.strip() for part in take.split(",") if part.strip()] or list(PARTS)
    unknown = [part for part in wanted if part not in PARTS]
    if unknown:
        raise typer.BadParameter(f"no part named “{unknown[0]}”. There are: {', '.join(PARTS)}.")
    found = compare(document, shot, stage, read_camera(source, camera, file_unit_m), unit)
    warn(list(found.told))
    for each in found.differences:
        typer.echo(f"{each.title:14} {each.before} → {each.after}  at {each.frame:g}: {each.told}")
    if not found.differences:
        typer.echo("It is the shot's own camera; nothing differs.")
    return found.taken([part for part in wanted if part in PARTS])


def _values_taken(document: Any, shot: Any, stage: Any, source: Path, frame: float | None, unit: Any) -> Any:
    from kobrel.exchange.values import read_values_file
    from kobrel.plan.values.changes import taken_values

    values = read_values_file(source, unit, custom_values())
    try:
        found = taken_values(
            document,
            shot,
            stage,
            values,
            shot.first if frame is None else frame,
            unit,
            tuple(custom_values()),
        )
    except PlanError as error:
        raise ExchangeError(error.what, file=source, place=error.place, remedy=error.remedy) from None
    warn([f"{', '.join(values.unknown[:8])}: unknown, ignored."] if values.unknown else [])
    for change in found.changes:
        typer.echo(f"{change.label:28} {change.before} → {change.after}")
    if not found.changes:
        typer.echo("The shot has these values already.")
    return found.shot
