"""The pages of a sheet on paper: a contact sheet, a page or more a shot, tables of depth of field."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from kobrel.exchange.proof.sheet import PAGES
from kobrel.exchange.sheet import plates
from kobrel.exchange.sheet.canvas import PdfCanvas, fitted, text_width
from kobrel.exchange.sheet.content import MARK_HEADS, ShotSheet
from kobrel.exchange.sheet.plan_view import draw_plan
from kobrel.exchange.sheet.pull_chart import draw_chart
from kobrel.exchange.sheet.strip import (
    RULER_TALL,
    STRIP_TALL,
    draw_ruler,
    draw_strip,
    off_strip,
    strip_length,
    strip_parts,
)
from kobrel.exchange.sheet.tables import cell_words, table_heads
from kobrel.exchange.writing.whole import new_pdf
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.depth_table import DepthTable
from kobrel.stage.stage import Stage

PageSize = Literal["A4", "Letter"]
_MARGIN, _GAP, _TABLE_PT, _ROW = 12.0, 4.0, 7.5, 4.4
_STRIP_MARGIN = 8.0
_DRAWING_TALL = 74.0
_MARK_WIDTHS = (5.0, 12.0, 20.0, 32.0, 17.0, 16.0, 11.0, 16.0, 16.0, 16.0, 12.0, 13.0)
_CONTACT_COLUMNS = 3


@dataclass
class Paper:
    """Pages as they are written: the canvas of the page in hand, and how far down it is filled."""

    pdf: Any
    size: tuple[float, float]
    name: str
    canvas: PdfCanvas = field(init=False)
    y: float = 0.0
    heading: str = ""

    def __post_init__(self) -> None:
        self.canvas = PdfCanvas(self.pdf)

    @property
    def width(self) -> float:
        """Room between the margins."""
        return self.size[0] - 2 * _MARGIN

    def begin(self, heading: str, beside: str = "") -> None:
        """A new page with its heading; what goes on from the page before says so beside it."""
        self.pdf.add_page()
        self.heading, self.y = heading, _MARGIN
        canvas, right = self.canvas, self.size[0] - _MARGIN
        canvas.text(_MARGIN, self.y + 1.0, self.name, 8.0, shade="quiet")
        canvas.text(right, self.y + 1.0, f"{self.pdf.page_no()}", 8.0, shade="quiet", anchor="right")
        self.y += 8.0
        room = self.width - (text_width(beside, 8.0) + 4.0 if beside else 0.0)
        canvas.text(_MARGIN, self.y, fitted(heading, 15.0, room, True), 15.0, bold=True)
        canvas.text(right, self.y, beside, 8.0, anchor="right")
        self.y += 2.2
        canvas.line([(_MARGIN, self.y), (right, self.y)], 0.5)
        self.y += 4.0

    def needs(self, tall: float) -> None:
        """Go to a new page where there is no room for so much."""
        if self.y + tall > self.size[1] - _MARGIN:
            self.begin(self.heading, "continued")

    def title(self, words: str) -> None:
        """A heading within a page."""
        self.needs(12.0)
        self.canvas.text(_MARGIN, self.y + 3.0, words, 9.5, bold=True)
        self.y += 5.5


def paper(name: str, page: PageSize) -> Paper:
    """Paper to write on."""
    size = PAGES[page]
    return Paper(new_pdf(name, size), size, name)


def put_contact(page: Paper, sheets: Sequence[ShotSheet]) -> None:
    """All shots by their first picture."""
    page.begin("Shots", f"{len(sheets)}")
    width = (page.width - (_CONTACT_COLUMNS - 1) * _GAP) / _CONTACT_COLUMNS
    height = width / max(sheet.aspect for sheet in sheets)
    for first in range(0, len(sheets), _CONTACT_COLUMNS):
        page.needs(height + 10.0)
        for column, sheet in enumerate(sheets[first : first + _CONTACT_COLUMNS]):
            x = _MARGIN + column * (width + _GAP)
            wide = height * sheet.aspect
            page.canvas.picture(x, page.y, wide, height, sheet.pictures[0][1])
            page.canvas.text(
                x, page.y + height + 3.6, fitted(sheet.shot.label, 8.0, width, True), 8.0, bold=True
            )
            told = f"{sheet.shot.first}–{sheet.shot.last}   {dict(sheet.facts)['Lens']}"
            page.canvas.text(x, page.y + height + 7.0, fitted(told, 7.0, width), 7.0, shade="quiet")
        page.y += height + 10.0


def put_shot(page: Paper, sheet: ShotSheet, stage: Stage) -> None:
    """A shot: pictures, plan and chart, marks, facts and brief."""
    page.begin(sheet.shot.label, sheet.heading)
    _put_pictures(page, sheet)
    half = (page.width - _GAP) / 2
    page.needs(_DRAWING_TALL)
    draw_plan(page.canvas, sheet, stage, _MARGIN, page.y, half, _DRAWING_TALL)
    draw_chart(page.canvas, sheet, _MARGIN + half + _GAP, page.y, half, _DRAWING_TALL)
    page.y += _DRAWING_TALL + 4.0
    _put_marks(page, sheet)
    _put_facts(page, sheet)


def _put_pictures(page: Paper, sheet: ShotSheet) -> None:
    columns = 4 if len(sheet.pictures) == 4 else 3
    width = (page.width - (columns - 1) * _GAP) / columns
    height = min(width / sheet.aspect, 40.0)
    for first in range(0, len(sheet.pictures), columns):
        for column, (caption, content) in enumerate(sheet.pictures[first : first + columns]):
            x = _MARGIN + column * (width + _GAP)
            page.canvas.picture(x, page.y, height * sheet.aspect, height, content)
            page.canvas.text(x, page.y + height + 3.4, caption, 7.5)
        page.y += height + 6.5


def _put_row(
    page: Paper, cells: Sequence[str], widths: Sequence[float], bold: bool = False, start: float = _MARGIN
) -> None:
    x = _MARGIN
    for number, (cell, width) in enumerate(zip(cells, widths, strict=True)):
        words = fitted(cell, _TABLE_PT, width - (2.5 if number == 3 else 0.5), bold)
        if number in (0, 3):
            page.canvas.text(x + (2.5 if number else 0.0), page.y + 3.0, words, _TABLE_PT, bold)
        else:
            page.canvas.text(x + width - 1.0, page.y + 3.0, words, _TABLE_PT, bold, anchor="right")
        x += width
    page.y += _ROW


def _put_marks(page: Paper, sheet: ShotSheet) -> None:
    page.title("Marks")
    widths = [width * page.width / sum(_MARK_WIDTHS) for width in _MARK_WIDTHS]
    _put_row(page, MARK_HEADS, widths, bold=True)
    for mark in sheet.marks:
        page.needs(_ROW)
        page.canvas.line([(_MARGIN, page.y - 0.6), (_MARGIN + page.width, page.y - 0.6)], 0.08, "faint")
        _put_row(page, mark.cells, widths)
    page.y += 3.0


def _put_facts(page: Paper, sheet: ShotSheet) -> None:
    """Lens and exposure at the left, the brief at the right."""
    half = (page.width - _GAP) / 2
    rows = max((len(sheet.facts) + 1) // 2 if not sheet.brief else len(sheet.facts), len(sheet.brief) + 1)
    page.needs(min(rows, 12) * _ROW + 6.0)
    page.canvas.text(_MARGIN, page.y + 3.0, "Lens and exposure", 9.5, bold=True)
    if sheet.brief:
        page.canvas.text(_MARGIN + half + _GAP, page.y + 3.0, "Brief", 9.5, bold=True)
    page.y += 5.5
    top = page.y
    columns = 1 if sheet.brief else 2
    per = -(-len(sheet.facts) // columns)
    for number, (name, words) in enumerate(sheet.facts):
        column, row = divmod(number, per)
        x, y = _MARGIN + column * (half + _GAP), top + row * _ROW + 3.0
        page.canvas.text(x, y, name, _TABLE_PT, shade="quiet")
        page.canvas.text(x + 26.0, y, fitted(words, _TABLE_PT, half - 26.0), _TABLE_PT)
    for number, (words, fares, met) in enumerate(sheet.brief):
        x, y = _MARGIN + half + _GAP, top + number * _ROW + 3.0
        page.canvas.text(x, y, fitted(words, _TABLE_PT, half - 34.0), _TABLE_PT)
        page.canvas.text(x + half, y, fares, _TABLE_PT, bold=not met, anchor="right")
    page.y = top + max(per, len(sheet.brief)) * _ROW + 3.0


def put_plates(page: Paper, sheets: Sequence[ShotSheet]) -> None:
    """The plates of each shot that shows any."""
    shown = [sheet for sheet in sheets if sheet.plates]
    if not shown:
        return
    page.begin("Plates", "the farthest first; first frame → last frame")
    widths = [width * page.width / sum(plates.WIDTHS) for width in plates.WIDTHS]
    for sheet in shown:
        page.title(sheet.shot.label)
        _put_words(page, plates.HEADS, widths, bold=True)
        for words in sheet.plates:
            page.needs(_ROW)
            page.canvas.line([(_MARGIN, page.y - 0.6), (_MARGIN + page.width, page.y - 0.6)], 0.08, "faint")
            _put_words(page, words, widths)
        page.y += 3.0


def _put_words(page: Paper, cells: Sequence[str], widths: Sequence[float], bold: bool = False) -> None:
    """A row of words, each at the left of its column."""
    x = _MARGIN
    for cell, width in zip(cells, widths, strict=True):
        page.canvas.text(x, page.y + 3.0, fitted(cell, _TABLE_PT, width - 1.0, bold), _TABLE_PT, bold)
        x += width
    page.y += _ROW


def put_strips(page: Paper, sheets: Sequence[ShotSheet], ring_mm: float) -> None:
    """The focus strips of all shots in true size, and the ruler."""
    page.begin("Focus strips", f"for a ring of {ring_mm:g} mm")
    room = page.size[0] - 2 * _STRIP_MARGIN
    for sheet in sheets:
        length = strip_length(sheet, ring_mm)
        parts = strip_parts(length, room)
        page.needs(6.0 + (STRIP_TALL + 3.0))
        told = f"{sheet.shot.label}: {length:.1f} mm long, {sheet.shot.ring.throw_deg:g}° focus throw"
        told += ", join at the dashed lines" if len(parts) > 1 else ""
        page.canvas.text(_MARGIN, page.y + 3.0, fitted(told, 8.0, page.width), 8.0, bold=True)
        page.y += 5.0
        for part in parts:
            page.needs(STRIP_TALL + 3.0)
            draw_strip(page.canvas, sheet, ring_mm, _STRIP_MARGIN, page.y, part)
            page.y += STRIP_TALL + 3.0
        if told := off_strip(sheet):
            page.canvas.text(_MARGIN, page.y + 1.0, fitted(told, 7.5, page.width), 7.5)
            page.y += 3.5
        page.y += 3.0
    page.needs(RULER_TALL + 2.0)
    draw_ruler(page.canvas, _MARGIN, page.y + 2.0)
    page.y += RULER_TALL + 4.0


def put_table(page: Paper, table: DepthTable, unit: Measure, about: str) -> None:
    """Depth of field of a lens: near and far above, the whole depth below, for each distance and stop."""
    wide = 14.0
    step = (page.width - wide) / len(table.stops)
    tall = 7.6
    if not page.y or page.y + 20.0 + tall * len(table.distances_m) > page.size[1] - _MARGIN:
        page.begin("Depth of field", about)
    page.title(f"{table.title}, {unit.symbol}")
    for number, words in enumerate(table_heads(table)):
        x = _MARGIN + wide + (number + 1) * step
        page.canvas.text(x - 1.0, page.y + 2.6, words, _TABLE_PT, bold=True, anchor="right")
    page.y += _ROW
    points = min(_TABLE_PT, 6.8 * 20.0 / max(20.0, 160.0 / step))
    for row, distance in enumerate(table.distances_m):
        page.canvas.line([(_MARGIN, page.y - 0.9), (_MARGIN + page.width, page.y - 0.9)], 0.08, "faint")
        label = format_length(float(distance), unit)
        page.canvas.text(_MARGIN, page.y + 2.6, label, _TABLE_PT, bold=True)
        for column in range(len(table.stops)):
            x = _MARGIN + wide + (column + 1) * step - 1.0
            limits, depth = cell_words(table, row, column, unit)
            page.canvas.text(x, page.y + 2.0, fitted(limits, points, step - 1.2), points, anchor="right")
            page.canvas.text(x, page.y + 5.0, depth, points, shade="quiet", anchor="right")
        page.y += tall
    words = "   ".join(
        f"f/{stop:.3g} {format_length(float(distance), unit)}"
        for stop, distance in zip(table.stops, table.hyperfocal_m, strict=True)
    )
    page.canvas.text(_MARGIN, page.y + 3.0, fitted(f"Hyperfocal: {words}", 7.0, page.width), 7.0)
    page.y += 9.0
