"""The focus strip in true size, to be stuck about a ring, and the ruler that checks the print."""

import math

from kobrel.exchange.sheet.canvas import Anchor, Canvas
from kobrel.exchange.sheet.content import ShotSheet
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.measure.scales import DioptreScale

STRIP_TALL, RULER_TALL = 17.0, 11.0
_OVERLAP, _LINE = 6.0, 9.0


def strip_length(sheet: ShotSheet, ring_mm: float) -> float:
    """Length of a strip about a ring of a diameter, as far as it turns, mm."""
    return math.pi * ring_mm * sheet.shot.ring.throw_deg / 360.0


def strip_scale(sheet: ShotSheet, ring_mm: float) -> DioptreScale:
    """Where distances stand on the strip, mm from its near end."""
    return DioptreScale(closest_m(sheet.shot), 0.0, strip_length(sheet, ring_mm))


def strip_parts(length: float, room: float) -> list[tuple[float, float]]:
    """The parts that a strip is printed in, each from where to where, alike in length; they overlap to be
    stuck together.

    >>> strip_parts(150.0, 190.0), strip_parts(294.0, 190.0)
    ([(0.0, 150.0)], [(0.0, 150.0), (144.0, 294.0)])
    """
    count = 1 if length <= room else math.ceil((length - _OVERLAP) / (room - _OVERLAP))
    step = (length - _OVERLAP) / count
    return [(k * step, (k + 1) * step + _OVERLAP) for k in range(count)] if count > 1 else [(0.0, length)]


def off_strip(sheet: ShotSheet) -> str:
    """Which marks are nearer than the ring turns, in a sentence; nothing where none are."""
    near = closest_m(sheet.shot) * (1 - 1e-6)
    marks = [mark for mark in sheet.marks if sheet.numbers.camera.focus_m[mark.row] < near]
    if not marks:
        return ""
    words = ", ".join(f"{mark.number} at {mark.along}" for mark in marks)
    return f"Closer than the minimum focus: mark {words}."


def draw_strip(
    canvas: Canvas, sheet: ShotSheet, ring_mm: float, x: float, y: float, part: tuple[float, float]
) -> None:
    """A part of the focus strip in true size: distances engraved below, marks numbered above."""
    scale = strip_scale(sheet, ring_mm)
    low, high = part
    line = y + _LINE
    canvas.box(x, y, high - low, STRIP_TALL, line=0.2)
    canvas.line([(x, line), (x + high - low, line)], 0.35)
    for metres, label in scale.ticks(sheet.unit, 7.5):
        at = scale.px(metres)
        if low - 0.01 <= at <= high + 0.01:
            canvas.line([(x + at - low, line), (x + at - low, line + 2.4)], 0.3)
            anchor: Anchor = "left" if at - low < 3.0 else "right" if high - at < 3.0 else "centre"
            aside = {"left": 0.7, "right": -0.7, "centre": 0.0}[anchor]
            canvas.text(x + at - low + aside, line + 5.8, label, 8.0, bold=True, anchor=anchor)
    canvas.text(x + 1.0, y + 2.8, sheet.unit.symbol, 6.0, shade="quiet")
    rows: list[list[float]] = [[], []]
    placed: list[tuple[float, float, int]] = []
    for mark in sheet.marks:
        at = scale.px(float(sheet.numbers.camera.focus_m[mark.row]))
        if not low - 0.01 <= at <= high + 0.01:
            continue
        free = (k for k, taken in enumerate(rows) if all(abs(at - other) > 4.4 for other in taken))
        level = next(free, 1)
        rows[level].append(at)
        placed.append((x + at - low, y + (2.3 if level else 6.2), mark.number))
    for at, top, _number in placed:
        canvas.line([(at, line), (at, top)], 0.3)
    for at, top, number in placed:
        canvas.tag(at, top, number)
    for end, joins in ((low, low > 0), (high, high < strip_length(sheet, ring_mm) - 0.01)):
        if joins:
            inner = x + (_OVERLAP if end == low else high - low - _OVERLAP)
            canvas.line([(inner, y), (inner, y + STRIP_TALL)], 0.15, "quiet", 0.8)


def draw_ruler(canvas: Canvas, x: float, y: float, length_mm: int = 100) -> None:
    """A ruler that shows whether the page was printed in true size."""
    canvas.line([(x, y), (x + length_mm, y)], 0.2)
    for k in range(length_mm + 1):
        tall = 3.0 if k % 10 == 0 else 2.2 if k % 5 == 0 else 1.3
        canvas.line([(x + k, y), (x + k, y + tall)], 0.12)
        if k % 10 == 0:
            canvas.text(x + k, y + 5.8, f"{k}", 5.5, anchor="centre")
    words = f"This ruler is {length_mm} mm long on a page printed in true size (100 %)."
    canvas.text(x, y + 9.4, words, 6.5, shade="quiet")
