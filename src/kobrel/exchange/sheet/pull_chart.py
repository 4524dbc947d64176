"""The chart of the pull on a sheet: the focus over the frames, even in dioptres."""

import math

import numpy as np

from kobrel.exchange.sheet.canvas import Canvas
from kobrel.exchange.sheet.content import ShotSheet
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import GONE, index_runs

_TICK_PT = 6.5


def draw_chart(canvas: Canvas, sheet: ShotSheet, x: float, y: float, width: float, height: float) -> None:
    """The focus over the frames, even in dioptres, with what is sharp, the subjects and the marks."""
    numbers, shot = sheet.numbers, sheet.shot
    left, right, top, foot = x + 11.0, x + width - 8.0, y + 4.0, y + height - 6.0
    canvas.box(left, top, right - left, foot - top, line=0.15, shade="quiet")
    scale = DioptreScale(numbers.nearest_of_interest_m, foot, top)
    span = max(len(numbers.frames) - 1, 1)

    def across(frame: float) -> float:
        return left + (frame - shot.first) / span * (right - left)

    frames = [across(float(frame)) for frame in numbers.frames]
    near, far, focus = (
        np.clip(np.nan_to_num(scale.px_of(values), nan=top), top, foot)
        for values in (numbers.near_m, numbers.far_m, numbers.camera.focus_m)
    )
    band = [*zip(frames, near.tolist(), strict=True), *reversed(list(zip(frames, far.tolist(), strict=True)))]
    canvas.area(band, "wash")
    for metres, label in scale.ticks(sheet.unit, 5.0):
        at = scale.px(metres)
        canvas.line([(left, at), (right, at)], 0.08, "faint")
        canvas.text(left - 1.0, at + 0.8, label, _TICK_PT, anchor="right")
    canvas.text(x + 1.8, top - 1.2, sheet.unit.symbol, _TICK_PT, shade="quiet")
    for frame in _frame_ticks(shot.first, shot.last):
        at = across(frame)
        canvas.line([(at, foot), (at, foot + 1.0)], 0.15)
        canvas.text(at, foot + 3.8, f"{frame}", _TICK_PT, anchor="centre")
    for row, number in enumerate(numbers.subjects):
        _draw_subject(canvas, sheet, scale, frames, row, number, (top, foot, right))
    canvas.line(list(zip(frames, focus.tolist(), strict=True)), 0.7)
    for mark in sheet.marks:
        at, level = across(mark.frame), float(focus[mark.row])
        canvas.ring(at, level, 1.9, "ink", 0.2)
        canvas.text(at, level + 0.85, str(mark.number), 6.0, bold=True, shade="paper", anchor="centre")


def _draw_subject(
    canvas: Canvas, sheet: ShotSheet, scale: DioptreScale, frames: list[float], row: int, number: int,
    room: tuple[float, float, float],
) -> None:  # fmt: skip
    numbers, (top, foot, right) = sheet.numbers, room
    levels = scale.px_of(numbers.focus_distance_m[row])
    seen = np.isfinite(levels) & (levels >= top) & (levels <= foot) & (numbers.state[row] != GONE)
    for first, last in index_runs(seen):
        points = [(frames[k], float(levels[k])) for k in range(first, last + 1)]
        canvas.line(points if len(points) > 1 else [points[0], points[0]], 0.18, "quiet", 1.0)
    rows = np.flatnonzero(seen)
    if len(rows):
        canvas.tag(right + 5.2, float(levels[rows[-1]]), number, 1.6)


def _frame_ticks(first: int, last: int) -> list[int]:
    rough = max((last - first) / 6.0, 1.0)
    power = 10.0 ** math.floor(math.log10(rough))
    step = max(1, round(next(s * power for s in (1, 2, 5, 10) if s * power >= rough)))
    inside = range(math.ceil(first / step) * step, last + 1, step)
    return list(inside) or [first]
