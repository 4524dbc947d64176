"""The brief in the Pull chart: heavy lines for what is asked, and where it is not met."""

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen

from kobrel.desk.toolkit.paint import across, draw_text, polygon
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.instrument import BACKGROUND, Requirement
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import index_runs
from kobrel.plan.solve.brief import MET, UNASKED, UNMET, UNSEEN
from kobrel.session.session import Session

_HEAVY, _GRAB_PX = 5.0, 10.0


def line_of(session: Session, subject: int, scale: DioptreScale) -> np.ndarray | None:
    """Heights of a subject's line at all frames, (F,); the far background lies at infinity."""
    numbers = session.survey
    if numbers is None or (subject != BACKGROUND and subject not in numbers.subjects):
        return None
    if subject == BACKGROUND:
        return np.full(len(numbers.frames), scale.px(math.inf))
    return scale.px_of(numbers.focus_distance_m[numbers.subjects.index(subject)])


def subject_at(session: Session, scale: DioptreScale, column: int, y: float) -> int | None:
    """The subject whose line passes close to a height at a frame, or the far background."""
    numbers = session.survey
    if numbers is None:
        return None
    near = {BACKGROUND: abs(scale.px(math.inf) - y)}
    for row, number in enumerate(numbers.subjects):
        off = abs(float(scale.px_of(numbers.focus_distance_m[row, column])) - y)
        if math.isfinite(off):
            near[number] = off
    best = min(near, key=lambda number: near[number])
    return best if near[best] <= _GRAB_PX else None


def paint_asked(
    painter: QPainter, session: Session, scale: DioptreScale, x_of: Callable[[float], float], bottom: float
) -> None:
    """Heavy lines for what is asked: ivory for sharp, open for soft, red outlines where it is not
    so; beneath the frames a red bar where anything is not so, and a red lattice over those that no
    focus and stop can grant.
    """
    judged = session.judged
    if judged is None:
        return
    x = across(judged.brief.frames, x_of)
    step = x[1] - x[0] if len(x) > 1 else 6.0
    for requirement, states in zip(judged.brief.requirements, judged.verdicts, strict=True):
        y = line_of(session, requirement.subject, scale)
        if y is None:
            continue
        for first, _last in index_runs(states != UNASKED):
            _label(painter, requirement, QPointF(x[first], y[first]))
        for state, pens in ((UNSEEN, _unseen_pens()), (MET, _met_pens(requirement)), (UNMET, _unmet_pens())):
            for first, last in index_runs(states == state):
                _stroke(painter, x[first : last + 1], y[first : last + 1], step, pens)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(QBrush(faded(theme().wrong, 0.22), Qt.BrushStyle.DiagCrossPattern))
    top = scale.px(math.inf)
    for first, last in index_runs(~judged.answer.possible):
        painter.drawRect(QRectF(x[first] - step / 2, top, x[last] - x[first] + step, bottom - top))
    painter.setBrush(theme().wrong)
    for first, last in index_runs(judged.unmet):
        painter.drawRect(QRectF(x[first] - step / 2, bottom + 1, x[last] - x[first] + step, 4))


def _met_pens(requirement: Requirement) -> tuple[QPen, ...]:
    if requirement.kind == "at_least":
        return (QPen(theme().quiet, _HEAVY), QPen(theme().panel, _HEAVY - 2.4))
    style = Qt.PenStyle.SolidLine if requirement.kind == "sharp" else Qt.PenStyle.DashLine
    return (QPen(theme().sharp, _HEAVY, style),)


def _unseen_pens() -> tuple[QPen, ...]:
    return (QPen(faded(theme().quiet, 0.6), 3.0, Qt.PenStyle.DotLine),)


def _unmet_pens() -> tuple[QPen, ...]:
    return (QPen(theme().wrong, _HEAVY + 1.4), QPen(theme().panel, _HEAVY - 1.4))


def _stroke(painter: QPainter, x: np.ndarray, y: np.ndarray, step: float, pens: tuple[QPen, ...]) -> None:
    there = np.isfinite(y)
    x, y = x[there], y[there]
    if len(x) == 1:  # a single frame is a dash of its own width
        x, y = x[0] + np.array([-0.5, 0.5]) * step, y[[0, 0]]
    line = polygon(x, y)
    for pen in pens:
        pen.setCapStyle(Qt.PenCapStyle.FlatCap)
        painter.setPen(pen)
        painter.drawPolyline(line)


def _label(painter: QPainter, requirement: Requirement, at: QPointF) -> None:
    if requirement.kind != "sharp" and math.isfinite(at.y()):
        sign = "≥" if requirement.kind == "at_least" else "≤"
        draw_text(painter, at + QPointF(3, -6), f"{sign} {requirement.px:.3g} px", theme().quiet, 11)


def paint_stroke(
    painter: QPainter, session: Session, scale: DioptreScale, x_of: Callable[[float], float],
    subject: int, first: float, last: float,
) -> None:  # fmt: skip
    """What is just being painted, before the button is released."""
    numbers, y = session.survey, line_of(session, subject, scale)
    if numbers is None or y is None:
        return
    low, high = min(first, last), max(first, last)
    inside = np.flatnonzero((numbers.frames >= low) & (numbers.frames <= high))
    if not len(inside):
        return
    x = across(numbers.frames[inside], x_of)
    colour = QColor(faded(theme().focus, 0.8))
    _stroke(painter, x, y[inside], 6.0, (QPen(colour, _HEAVY + 2),))
