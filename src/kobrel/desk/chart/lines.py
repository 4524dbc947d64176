"""What the Pull chart draws beneath its marks: grid, band, lines of subjects, cues, speed and breathing."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from kobrel.desk.chart.requirements import paint_asked
from kobrel.desk.toolkit.paint import (
    across,
    columns,
    draw_label,
    draw_text,
    elided,
    polygon,
    polyline,
    state_colour,
    text_width,
)
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.pace import breathing_percent
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import GONE, SHARP, Survey
from kobrel.plan.measure.tapes import measure_with
from kobrel.plan.model import Shot
from kobrel.session.commands import taping
from kobrel.session.numbers import Now
from kobrel.session.session import Session

_NAMES_PX = 82.0
_LANE_STEP = 2
_STEPS = (1, 2, 4, 6, 12, 24, 48, 96, 240, 480, 10**6)


@dataclass(frozen=True)
class Plot:
    """Where the chart draws.

    Parameters
    ----------
    scale : distance to height
    x_of : frame to place across
    box : the plot itself
    lane : beneath it, for speed and breathing; None where there is no room
    rows : first and last index of the frames that are drawn; None is all
    """

    scale: DioptreScale
    x_of: Callable[[float], float]
    box: QRectF
    lane: QRectF | None
    rows: tuple[int, int] | None = None

    def columns(self, numbers: Survey) -> NDArray[np.intp]:
        """Indices of the frames that are drawn: no more than there are pixels across."""
        at = columns(len(numbers.frames), self.box.width())
        return at if self.rows is None else at[(at >= self.rows[0]) & (at <= self.rows[1])]

    def x(self, numbers: Survey) -> Numbers:
        """Their places across."""
        return across(numbers.frames[self.columns(numbers)], self.x_of)


def paint_ground(painter: QPainter, session: Session, plot: Plot, now: Now) -> None:
    """The grid, and the lines of subjects, which no focus changes."""
    numbers = now.survey
    _paint_grid(painter, session, plot, now.shot)
    painter.setClipRect(plot.box.adjusted(-1, -14, 1, 6))
    at, x = plot.columns(numbers), plot.x(numbers)
    for distance, state in zip(numbers.focus_distance_m, numbers.state, strict=True):
        y = plot.scale.px_of(distance[at])
        painter.setPen(QPen(faded(theme().quiet, 0.55), 1, Qt.PenStyle.DotLine))
        polyline(painter, x, np.where(state[at] == GONE, y, np.nan))
        painter.setPen(QPen(theme().quiet, 1.2))
        polyline(painter, x, np.where(state[at] != GONE, y, np.nan))


def paint_lines(painter: QPainter, session: Session, plot: Plot, now: Now) -> None:
    """All else that does not depend on the frame that is shown."""
    made, numbers = session.pace_of(now), now.survey
    at, x = plot.columns(numbers), plot.x(numbers)
    painter.setClipRect(plot.box.adjusted(-1, -14, 1, 6), Qt.ClipOperation.IntersectClip)
    _paint_band(painter, plot.scale, numbers, x, at)
    _paint_sharp(painter, plot.scale, now, x, at)
    paint_asked(painter, session, plot.scale, plot.x_of, plot.box.bottom())
    focus = plot.scale.px_of(numbers.camera.focus_m[at])
    for pen in (QPen(theme().wrong, 7), QPen(theme().panel, 4.5)):
        painter.setPen(pen)
        polyline(painter, x, np.where(made.too_fast[at], focus, np.nan))
    painter.setPen(QPen(theme().focus, 2))
    polyline(painter, x, focus)
    painter.setPen(QPen(theme().wrong, 2))
    jerks = np.flatnonzero(made.too_jerky)
    jerks = jerks[(jerks >= at[0]) & (jerks <= at[-1])]
    for place in {round(plot.x_of(frame)) for frame in numbers.frames[jerks].tolist()}:
        y = float(np.interp(place, x, focus))  # a jerk is a stroke across the line
        painter.drawLine(QPointF(place, y - 9), QPointF(place, y + 9))


def paint_lane(painter: QPainter, session: Session, plot: Plot, now: Now) -> None:
    """The speed of the ring filled in brass, its most dashed, and breathing as a thin line."""
    lane, made, numbers = plot.lane, session.pace_of(now), now.survey
    if lane is None:
        return
    most_deg_s = now.shot.ring.most_deg_s
    at, x = plot.columns(numbers)[::_LANE_STEP], plot.x(numbers)[::_LANE_STEP]
    painter.setPen(QPen(faded(theme().line, 0.8), 1))
    painter.drawLine(lane.bottomLeft(), lane.bottomRight())
    top = max(float(made.deg_s.max()), 1.0) * 1.1
    y = lane.bottom() - made.deg_s[at] / top * lane.height()
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(faded(theme().focus, 0.45))
    foot = [lane.bottom()]
    painter.drawPolygon(polygon(x[[0, *range(len(x)), -1]], np.concatenate([foot, y, foot])))
    if most_deg_s <= top:
        painter.setPen(QPen(theme().wrong, 1, Qt.PenStyle.DashLine))
        most = lane.bottom() - most_deg_s / top * lane.height()
        painter.drawLine(QPointF(lane.left(), most), QPointF(lane.right(), most))
    breath = breathing_percent(numbers)[at]
    span = max(float(np.ptp(breath)), 0.2)
    painter.setPen(QPen(theme().quiet, 1.2))
    polyline(painter, x, lane.bottom() - (breath - breath.min()) / span * (lane.height() - 4) - 2)
    draw_text(painter, QPointF(lane.left() - 8, lane.center().y() + 4), "ring", theme().quiet, 11, "right")


def paint_lane_now(painter: QPainter, session: Session, plot: Plot, now: Now) -> None:
    """Speed and breathing at the frame, in words beside their lane."""
    made, lane, row = session.pace_of(now), plot.lane, now.row
    if lane is None:
        return
    breath = breathing_percent(now.survey)
    wrong = bool(made.too_fast[row] or made.too_jerky[row])
    colour = theme().wrong if wrong else theme().focus
    left = lane.right() + 10
    draw_text(painter, QPointF(left, lane.top() + 12), f"{made.deg_s[row]:.0f}°/s", colour, 11)
    by = float(breath[row] - breath[0])
    draw_text(painter, QPointF(left, lane.top() + 27), f"breath. {by:+.1f} %", theme().quiet, 11)


def paint_unseen(painter: QPainter, session: Session, plot: Plot, now: Now) -> None:
    """At the foot of the plot, beneath each rack that shows nothing, the stop that would show it."""
    box = plot.box
    for k, rack in enumerate(session.unseen_racks_of(now)):
        words = f"rack too subtle to see; {rack.would}"
        wide = text_width(words, 12)
        middle = (plot.x_of(rack.before.leaves) + plot.x_of(rack.after.frame)) / 2
        left = min(max(middle - wide / 2, box.left() + 4), box.right() - wide - 4)
        draw_label(painter, QPointF(left, box.bottom() - 8 - 18 * (k % 2)), words, theme().wrong)


def paint_cues(painter: QPainter, plot: Plot, shot: Shot) -> None:
    """A dotted line at each cue, or a bracket over a range, with its name."""
    top, right = plot.box.top() - 2, -1e9
    for cue in shot.cues:
        first, last = plot.x_of(cue.first), plot.x_of(cue.end)
        if last < plot.box.left() - 1 or first > plot.box.right() + 1:
            continue
        painter.setPen(QPen(faded(theme().text, 0.55), 1, Qt.PenStyle.DotLine))
        for at in {first, last}:
            painter.drawLine(QPointF(at, top), QPointF(at, plot.box.bottom()))
        painter.setPen(QPen(theme().text, 1.4))
        painter.drawLine(QPointF(first, top), QPointF(max(last, first + 5), top))
        room = max(40.0, plot.box.right() - first)
        name = elided(cue.name, 11, room)
        down = 14.0 if first < right else 0.0
        right = draw_text(painter, QPointF(first + 4, top + 13 + down), name, theme().text, 11).right() + 4


def _paint_grid(painter: QPainter, session: Session, plot: Plot, shot: Shot) -> None:
    left, right = plot.box.left(), plot.box.right()
    for metres, label in plot.scale.ticks(session.unit, 19):
        y = plot.scale.px(metres)
        painter.setPen(QPen(faded(theme().line, 0.6), 1))
        painter.drawLine(QPointF(left, y), QPointF(right, y))
        draw_text(painter, QPointF(left - 8, y + 4), label, theme().quiet, 11, "right")
    span = max(1, shot.last - shot.first)
    step = next((s for s in _STEPS if s * (right - left) / span >= 58), _STEPS[-1])
    below = (plot.lane or plot.box).bottom() + (17 if plot.lane is not None else 21)
    for frame in range(shot.first, shot.last + 1, step):
        draw_text(painter, QPointF(plot.x_of(frame), below), str(frame), theme().quiet, 11, "centre")


def _paint_band(
    painter: QPainter, scale: DioptreScale, numbers: Survey, x: Numbers, at: NDArray[np.intp]
) -> None:
    near, far = scale.px_of(numbers.near_m[at]), scale.px_of(numbers.far_m[at])
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(faded(theme().sharp, 0.24))
    painter.drawPolygon(polygon(np.append(x, x[::-1]), np.append(near, far[::-1])))
    for edge, colour in ((near, theme().nearer), (far, theme().farther)):
        painter.setPen(QPen(colour, 1.2))
        polyline(painter, x, edge)


def _paint_sharp(painter: QPainter, scale: DioptreScale, now: Now, x: Numbers, at: NDArray[np.intp]) -> None:
    """Heavy lines where subjects are sharp."""
    numbers, brief = now.survey, now.shot.brief
    sharp = numbers.state[:, at] == SHARP
    rows = np.flatnonzero(sharp.any(axis=1))
    heights = np.where(sharp[rows], scale.px_of(numbers.focus_distance_m[np.ix_(rows, at)]), np.nan)
    for row, y in zip(rows, heights, strict=True):
        asked = any(requirement.subject == numbers.subjects[row] for requirement in brief)
        painter.setPen(QPen(theme().sharp, 1.6 if asked else 3.2))
        polyline(painter, x, y)


def paint_tape(painter: QPainter, session: Session, plot: Plot, now: Now) -> None:
    """How far the end of the chosen tape is over the frames, dashed."""
    tape, numbers = taping.chosen(session), now.survey
    if tape is None:
        return
    measured = measure_with(numbers.camera, now.plan, now.stage, tape, numbers.frames)
    sight = numbers.camera.see(measured.end)
    distances = sight.straight_m if numbers.camera.surface == "sphere" else sight.axial_m
    places = plot.scale.px_of(distances)
    painter.setPen(QPen(theme().focus, 1.4, Qt.PenStyle.DashLine))
    at = plot.columns(numbers)
    inside = (places >= plot.box.top() - 4) & (places <= plot.box.bottom())
    polyline(painter, plot.x(numbers), np.where(inside, places, np.nan)[at])


def paint_names(painter: QPainter, plot: Plot, now: Now) -> None:
    """Subjects' names at the right end, spread so that none covers another."""
    numbers, column, labels = now.survey, now.row, []
    seen, distances = (numbers.state != GONE).any(axis=1), numbers.focus_distance_m
    nearer = distances[:, column] < numbers.camera.focus_m[column]
    for row, number in enumerate(numbers.subjects):
        subject, distance = now.plan.subject(number), distances[row, -1]
        if seen[row] and subject and distance > 0:
            colour = state_colour(int(numbers.state[row, column]), bool(nearer[row]))
            labels.append((plot.scale.px(float(distance)), f"{number} {subject.name}", colour))
    last = -1e9
    for y, text, colour in sorted(labels, key=lambda label: label[0]):
        at = max(y + 4, last + 13)
        if at < plot.box.bottom() + 10:
            short = elided(text, 11, _NAMES_PX)
            draw_text(painter, QPointF(plot.box.right() + 10, at), short, colour, 11)
            last = at
