"""The sheet as one page of HTML that needs nothing else: for a phone on set, dark in the dark."""

import html
from collections.abc import Sequence

from kobrel.exchange.sheet.canvas import SvgCanvas, data_url
from kobrel.exchange.sheet.content import MARK_HEADS, ShotSheet
from kobrel.exchange.sheet.plan_view import draw_plan
from kobrel.exchange.sheet.plates import HEADS
from kobrel.exchange.sheet.pull_chart import draw_chart
from kobrel.exchange.sheet.strip import (
    RULER_TALL,
    STRIP_TALL,
    draw_ruler,
    draw_strip,
    off_strip,
    strip_length,
)
from kobrel.exchange.sheet.tables import cell_words, table_heads
from kobrel.exchange.writing.whole import FONTS
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.depth_table import DepthTable
from kobrel.stage.stage import Stage

_WIDE, _TALL = 90.0, 74.0
_EDGE = 4.0
_STYLE = """
@font-face{font-family:B612;src:url(%s)}
@font-face{font-family:B612;font-weight:bold;src:url(%s)}
:root{--ink:#ece7da;--quiet:#9fb0ae;--faint:#4a5a5f;--wash:#2b383c;--paper:#12191b}
@media (prefers-color-scheme:light){
:root{--ink:#000;--quiet:#464646;--faint:#aaa;--wash:#e2e2e2;--paper:#fff}}
@media print{:root{--ink:#000;--quiet:#464646;--faint:#aaa;--wash:#e2e2e2;--paper:#fff}
section{break-before:page}}
body{font:15px/1.45 B612,sans-serif;background:var(--paper);color:var(--ink);
margin:0 auto;padding:12px;max-width:1000px}
h1{font-size:22px}h3{font-size:15px;margin:20px 0 6px}
h2{font-size:19px;border-bottom:2px solid;padding-bottom:4px;margin-top:36px}
a{color:inherit}.quiet{color:var(--quiet)}nav a{display:inline-block;padding:8px 12px 8px 0}
.row{display:flex;flex-wrap:wrap;gap:10px}.row>*{flex:1 1 280px;min-width:0}
figure{margin:0}figure img{width:100%%;display:block}
figcaption{font-size:13px}.wide{overflow-x:auto}
table{border-collapse:collapse;font-size:13px;white-space:nowrap}
td,th{padding:4px 8px;border-top:1px solid var(--faint);text-align:right}
td:first-child,th:first-child,td.l,th.l{text-align:left}
dl{display:grid;grid-template-columns:max-content 1fr;gap:2px 14px;margin:0}
dt{color:var(--quiet)}dd{margin:0}
svg{width:100%%;height:auto;font-family:B612,sans-serif}polyline,.f-none{fill:none}
"""
_SHADES = ("ink", "quiet", "faint", "wash", "paper")


def page_html(
    name: str,
    sheets: Sequence[ShotSheet],
    tables: Sequence[DepthTable],
    stage: Stage,
    unit: Measure,
    ring_mm: float,
) -> str:
    """The whole page."""
    links = "".join(f'<a href="#s{k}">{_words(s.shot.label)}</a>' for k, s in enumerate(sheets))
    parts = [f"<h1>{_words(name)}</h1><nav>{links}</nav>"]
    parts += [_shot(k, sheet, stage, ring_mm) for k, sheet in enumerate(sheets)]
    if tables:
        parts.append("<section><h2>Depth of field</h2>")
        parts += [_table(table, unit) for table in tables]
        parts.append("</section>")
    return (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{_words(name)}</title><style>{_style()}</style></head><body>\n"
        + "\n".join(parts)
        + "\n</body></html>\n"
    )


def _style() -> str:
    fonts = [data_url((FONTS / f"B612-{kind}.otf").read_bytes(), "font/otf") for kind in ("Regular", "Bold")]
    shades = "".join(f".l-{s},.s-{s}{{stroke:var(--{s})}}.f-{s},.t-{s}{{fill:var(--{s})}}" for s in _SHADES)
    return _STYLE % tuple(fonts) + shades


def _words(text: str) -> str:
    return html.escape(text)


def _shot(number: int, sheet: ShotSheet, stage: Stage, ring_mm: float) -> str:
    pictures = "".join(
        f'<figure><img alt="Frame {_words(caption)}" src="{data_url(content)}">'
        f"<figcaption>{_words(caption)}</figcaption></figure>"
        for caption, content in sheet.pictures
    )
    plan, chart = SvgCanvas(_WIDE, _TALL), SvgCanvas(_WIDE, _TALL)
    draw_plan(plan, sheet, stage, 0.2, 0.2, _WIDE - 0.4, _TALL - 0.4)
    draw_chart(chart, sheet, 0.0, 0.0, _WIDE, _TALL)
    heads = "".join(f"<th{_left(k)}>{_words(head)}</th>" for k, head in enumerate(MARK_HEADS))
    rows = "".join(
        "<tr>" + "".join(f"<td{_left(k)}>{_words(cell)}</td>" for k, cell in enumerate(mark.cells)) + "</tr>"
        for mark in sheet.marks
    )
    facts = "".join(f"<dt>{_words(name)}</dt><dd>{_words(words)}</dd>" for name, words in sheet.facts)
    brief = "".join(
        f"<dt>{_words(words)}</dt><dd>{_words(fares) if met else f'<b>{_words(fares)}</b>'}</dd>"
        for words, fares, met in sheet.brief
    )
    return (
        f'<section id="s{number}"><h2>{_words(sheet.shot.label)}</h2>'
        f'<p class="quiet">{_words(sheet.heading)}</p>'
        f'<div class="row">{pictures}</div>'
        f'<div class="row">{plan.svg("Plan from above")}{chart.svg("Chart of the pull")}</div>'
        f'<h3>Marks</h3><div class="wide"><table><tr>{heads}</tr>{rows}</table></div>'
        f"<h3>Lens and exposure</h3><dl>{facts}</dl>"
        + (f"<h3>Brief</h3><dl>{brief}</dl>" if brief else "")
        + (f"<h3>Plates</h3>{_plates(sheet)}" if sheet.plates else "")
        + f"<h3>Focus strip for a ring of {ring_mm:g} mm, in true size on paper</h3>"
        + f"{_strip(sheet, ring_mm)}</section>"
    )


def _plates(sheet: ShotSheet) -> str:
    heads = "".join(f'<th class="l">{_words(head)}</th>' for head in HEADS)
    rows = "".join(
        "<tr>" + "".join(f'<td class="l">{_words(cell)}</td>' for cell in row) + "</tr>"
        for row in sheet.plates
    )
    return f'<div class="wide"><table><tr>{heads}</tr>{rows}</table></div>'


def _left(column: int) -> str:
    return ' class="l"' if column == 3 else ""


def _strip(sheet: ShotSheet, ring_mm: float) -> str:
    length = strip_length(sheet, ring_mm)
    strip = SvgCanvas(length + 2 * _EDGE, STRIP_TALL + 0.4)
    draw_strip(strip, sheet, ring_mm, _EDGE, 0.2, (0.0, length))
    ruler = SvgCanvas(100.0 + 2 * _EDGE, RULER_TALL)
    draw_ruler(ruler, _EDGE, 0.5)
    told = f"<p>{_words(off)}</p>" if (off := off_strip(sheet)) else ""
    return (
        f'{told}<div class="wide">{strip.svg("Focus strip", length + 2 * _EDGE)}</div>'
        f'<div class="wide">{ruler.svg("Ruler", 100.0 + 2 * _EDGE)}</div>'
    )


def _table(table: DepthTable, unit: Measure) -> str:
    heads = "".join(f"<th>{_words(words)}</th>" for words in table_heads(table))
    rows = []
    for row, distance in enumerate(table.distances_m):
        cells = "".join(
            f"<td>{limits}<br><span class=quiet>{depth}</span></td>"
            for limits, depth in (cell_words(table, row, k, unit) for k in range(len(table.stops)))
        )
        rows.append(f"<tr><td>{format_length(float(distance), unit)}</td>{cells}</tr>")
    hyperfocal = "".join(f"<td>{format_length(float(d), unit)}</td>" for d in table.hyperfocal_m)
    return (
        f'<h3>{_words(table.title)}, {unit.symbol}</h3><div class="wide"><table><tr><th></th>{heads}</tr>'
        f"{''.join(rows)}<tr><td>Hyperfocal</td>{hyperfocal}</tr></table></div>"
    )
