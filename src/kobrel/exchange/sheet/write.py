"""Writing the crew's sheet: PDF for paper, or one page of HTML."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kobrel.errors import ExchangeError
from kobrel.exchange.sheet.content import ShotSheet, passes_for, shot_sheet
from kobrel.exchange.writing.whole import whole_file, write_text
from kobrel.optics.units import METRE, Measure
from kobrel.plan.instrument import Lens
from kobrel.plan.measure.depth_table import DepthTable, lens_set_tables, shot_table
from kobrel.plan.model import Plan, Shot
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

ENDINGS = (".pdf", ".html")
RING_MM = 80.0


@dataclass(frozen=True)
class SheetOptions:
    """What a sheet is like.

    Parameters
    ----------
    unit : of distances
    page : size of its pages
    ring_mm : diameter of the focus ring that the strips go about
    strips, tables : whether they are in it
    kit : lenses whose tables are in it instead of the shots' own
    """

    unit: Measure = METRE
    page: str = "A4"
    ring_mm: float = RING_MM
    strips: bool = True
    tables: bool = True
    kit: Sequence[Lens] = ()


def write_sheet(
    plan: Plan, shots: Sequence[Shot], stage: Stage, path: Path, options: SheetOptions, progress: Progress
) -> None:
    """Write the sheet of some shots: .pdf or .html.

    Raises
    ------
    KobrelError
        A shot has no camera, or the file cannot be written.
    Cancelled
        `progress` said so; nothing was written then.
    """
    if path.suffix.lower() not in ENDINGS:
        raise ExchangeError(f"sheets are written as {' or '.join(ENDINGS)}.", file=path)
    if not shots:
        raise ExchangeError("no shot selected.", file=path)
    stage.prepare(progress)
    sheets, passes = [], passes_for(shots)
    for number, shot in enumerate(shots):
        part = number / (len(shots) + 1)

        def tell(what: str, done: float = part) -> None:
            progress(what, done)

        tell(f"Shot {shot.label}")
        sheets.append(shot_sheet(plan, shot, stage, options.unit, tell, passes))
    progress(f"Writing {path.name}", len(shots) / (len(shots) + 1))
    tables = _tables(sheets, options) if options.tables else []
    if path.suffix.lower() == ".html":
        from kobrel.exchange.sheet.page_html import page_html

        write_text(path, page_html(plan.name, sheets, tables, stage, options.unit, options.ring_mm))
    else:
        _write_pdf(plan, sheets, tables, stage, path, options)


def _tables(sheets: Sequence[ShotSheet], options: SheetOptions) -> list[DepthTable]:
    """The tables of a lens set, or of each lens that the shots have, once."""
    if options.kit:
        return lens_set_tables(options.kit, sheets[0].numbers.camera.frame(0), options.unit)
    found: dict[tuple[object, ...], DepthTable] = {}
    for sheet in sheets:
        camera = sheet.numbers.camera.frame(0)
        table = shot_table(sheet.shot, camera, options.unit)
        if table is not None:
            found.setdefault((table.title, round(camera.coc_mm, 6), camera.model), table)
    return list(found.values())


def _write_pdf(
    plan: Plan,
    sheets: Sequence[ShotSheet],
    tables: Sequence[DepthTable],
    stage: Stage,
    path: Path,
    options: SheetOptions,
) -> None:
    from kobrel.exchange.sheet.pages import (
        paper,
        put_contact,
        put_plates,
        put_shot,
        put_strips,
        put_table,
    )

    page = paper(plan.name, "Letter" if options.page == "Letter" else "A4")
    if len(sheets) > 1:
        put_contact(page, sheets)
    for sheet in sheets:
        put_shot(page, sheet, stage)
    put_plates(page, sheets)
    if options.strips:
        put_strips(page, sheets, options.ring_mm)
    page.y = 0.0
    sharp = sheets[0].numbers.camera
    about = f"sharpness limit {sharp.coc_px:.3g} px, {sharp.coc_mm:.3g} mm on the sensor"
    for table in tables:
        put_table(page, table, options.unit, about)
    with whole_file(path) as beside:
        page.pdf.output(str(beside))
