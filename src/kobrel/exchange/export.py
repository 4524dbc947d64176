"""What a plan is exported as: each kind of file, and one way to write any of them."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from kobrel.errors import ExchangeError
from kobrel.optics.units import Measure
from kobrel.plan.export import ExportKind, UpdatedFile
from kobrel.plan.instrument import Lens
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.staging import unit_of
from kobrel.plan.values.blocks import blocks_for
from kobrel.plan.values.own import CustomValues, Family, family
from kobrel.stage.scene import Progress, no_progress
from kobrel.stage.stage import Stage


@dataclass(frozen=True)
class Kind:
    """A kind of file.

    Parameters
    ----------
    endings : of its files, the usual one first
    of : whether it is of a shot, or of several
    hint : what it is good for, a sentence
    """

    key: ExportKind
    title: str
    endings: tuple[str, ...]
    of: Literal["shot", "shots"]
    hint: str


KINDS: dict[ExportKind, Kind] = {
    kind.key: kind
    for kind in (
        Kind("usd", "Camera, USD", (".usda", ".usdc", ".usd"), "shot",
             "The camera at each frame as a layer that fits over its scene"),
        Kind("usd-changes", "Camera override, USD", (".usda", ".usdc", ".usd"), "shot",
             "Only the differences from the scene's camera, as an override layer"),
        Kind("gltf", "Camera, glTF", (".gltf", ".glb"), "shot",
             "The animated camera; focus and stop are in its extras"),
        Kind("alembic", "Camera, Alembic", (".abc",), "shot", "The moving camera, in centimetres"),
        Kind("csv", "Frames, CSV", (".csv",), "shot",
             "A line a frame: numbers and subjects, or values in selected values"),
        Kind("json", "Frames, JSON", (".json",), "shot", "All frames in selected values"),
        Kind("plates", "Plate data", (".csv", ".json"), "shot",
             "Each plate per frame: distance, blur, position, scale, opacity, order"),
        Kind("otio", "Shots, OpenTimelineIO", (".otio",), "shots",
             "All shots with cues, marks and lens, for the edit"),
        Kind("edl", "Shots, edit list", (".edl",), "shots", "All shots with cues and marks as locators"),
        Kind("sheet", "Sheet, PDF", (".pdf",), "shots", "What the crew needs on set, on paper"),
        Kind("html", "Sheet, one page", (".html",), "shots", "The same for a phone, without a network"),
    )
}  # fmt: skip
"""All kinds, in the order in which they are offered."""


@dataclass(frozen=True)
class SheetChoices:
    """What is on a sheet besides the shots: see :class:`kobrel.exchange.sheet.write.SheetOptions`."""

    ring_mm: float = 80.0
    strips: bool = True
    tables: bool = True
    kit: Sequence[Lens] = ()


@dataclass(frozen=True)
class Options:
    """How a file is written.

    Parameters
    ----------
    unit : of lengths; the plan's if none
    terms : families of CSV and JSON; CSV without any has the numbers and all subjects, JSON every block
    frames : first and last one of cameras, CSV and JSON; the shot's if none
    shots : of a list or a sheet; all if none
    page, sheet : of a sheet
    """

    unit: Measure | None = None
    terms: Sequence[Family] = ()
    frames: tuple[int, int] | None = None
    shots: Sequence[Shot] = field(default=())
    page: Literal["A4", "Letter"] = "A4"
    sheet: SheetChoices = SheetChoices()


_CAMERAS: tuple[ExportKind, ...] = ("usd", "usd-changes", "gltf", "alembic")


def require_ending(title: str, endings: Sequence[str], path: Path) -> None:
    """See that a file's name ends as its kind does.

    Raises
    ------
    ExchangeError
        It does not; says what it would end in.
    """
    if path.suffix.lower() not in endings:
        raise ExchangeError(f"{title} is written as {' or '.join(endings)}.", file=path)


def export(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    kind: ExportKind,
    path: Path,
    options: Options = Options(),
    progress: Progress = no_progress,
) -> None:
    """Write a shot, or all shots, as some kind of file.

    Raises
    ------
    KobrelError
        It cannot be written, its name has another kind's ending, the shot has no camera, or its kind has no
        such view.
    Cancelled
        `progress` said so.
    """
    require_ending(KINDS[kind].title, KINDS[kind].endings, path)
    if options.frames is not None and kind in _CAMERAS:
        first, last = options.frames
        shot = shot.replace(first=first, last=last, handles=0)
    if kind in ("usd", "usd-changes"):
        from kobrel.exchange.cameras.usd import write_usd

        write_usd(plan, shot, stage, path, only_changes=kind == "usd-changes")
    elif kind == "gltf":
        from kobrel.exchange.cameras.gltf import write_gltf

        write_gltf(plan, shot, stage, path)
    elif kind == "alembic":
        from kobrel.exchange.cameras.alembic import write_alembic

        write_alembic(plan, shot, stage, path)
    elif kind in ("csv", "json"):
        _write_frames(plan, shot, stage, kind, path, options)
    elif kind == "plates":
        from kobrel.exchange.plates.numbers import write_plates

        write_plates(plan, shot, stage, path, options.frames)
    elif kind in ("otio", "edl"):
        from kobrel.exchange.timeline import write_list

        write_list(plan.replace(shots=tuple(options.shots)) if options.shots else plan, stage, path)
    else:
        from kobrel.exchange.sheet.write import SheetOptions, write_sheet

        chosen = options.sheet
        made = SheetOptions(
            options.unit or unit_of(plan, stage),
            options.page,
            chosen.ring_mm,
            chosen.strips,
            chosen.tables,
            chosen.kit,
        )
        write_sheet(plan, options.shots or plan.shots, stage, path, made, progress)


def _write_frames(
    plan: Plan, shot: Shot, stage: Stage, kind: ExportKind, path: Path, options: Options
) -> None:
    import numpy as np

    first, last = options.frames or (shot.first, shot.last)
    if last < first:
        raise ExchangeError(f"frames {first} to {last}: the last comes before the first.", file=path)
    numbers = survey(plan, shot, stage, np.arange(first, last + 1.0))
    if kind == "csv" and not options.terms:
        from kobrel.exchange.table import write_csv

        write_csv(plan, shot, numbers, path)
        return
    from kobrel.exchange.values import write_values

    terms = options.terms or blocks_for(numbers.camera.projection)
    write_values(plan, shot, numbers, terms, options.unit or unit_of(plan, stage), path)


def shots_of(plan: Plan, out: UpdatedFile) -> list[Shot]:
    """The shots that a file is of, in the plan's order.

    Raises
    ------
    ExchangeError
        One of them is not there.
    """
    names = [shot.name for shot in plan.shots]
    gone = [name for name in out.shots if name not in names]
    if gone or (KINDS[out.kind].of == "shot" and len(out.shots) != 1):
        told = (
            f"shot {gone[0]} is not in the plan any more." if gone else "it is not said of which shot it is."
        )
        raise ExchangeError(told, file=out.path)
    return [shot for shot in plan.shots if not out.shots or shot.name in out.shots]


def options_of(
    plan: Plan,
    stage: Stage,
    out: UpdatedFile,
    owns: Sequence[CustomValues],
    sheet: SheetChoices = SheetChoices(),
) -> Options:
    """How a file of a plan is written.

    Raises
    ------
    PlanError
        Its values are not known.
    """
    return Options(
        unit_of(plan, stage, out.unit), [family(name, owns) for name in out.terms], shots=shots_of(plan, out),
        page=out.page, sheet=sheet,
    )  # fmt: skip
