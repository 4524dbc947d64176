"""Tags in Picture with their flags: short ones, whole ones, or none."""

from collections.abc import Callable
from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen

from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.paint import draw_text, subject_colours, text_width
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.model import Subject
from kobrel.session import settings
from kobrel.session.numbers import Now
from kobrel.session.session import Session

WAYS = ("short", "whole", "none")
TAG = 4.0
_MOST = 30
"""Subjects with a flag; those beyond have their tag alone."""
_LINE, _PAD = 15.0, 6.0


class _Flag(NamedTuple):
    row: int
    subject: Subject
    at: QPointF
    colour: QColor
    hidden: bool
    whole: bool


class Flags:
    """Paints the tags of the subjects in the picture and, as far as there is room, their flags.

    Parameters
    ----------
    told : called when another kind of flags was chosen
    """

    def __init__(self, session: Session, told: Callable[[], None]) -> None:
        self._session, self._told = session, told
        kept = session.settings.get(settings.FLAGS)
        self.way = kept if kept in WAYS else WAYS[0]
        self.pointed: int | None = None
        self.shown: list[tuple[int, QRectF]] = []

    def turn(self) -> None:
        """Go from short flags to whole ones, to none, and to short ones again."""
        self.way = WAYS[(WAYS.index(self.way) + 1) % len(WAYS)]
        self._session.settings.put(settings.FLAGS, self.way)
        what = {"short": "Tags: number and blur", "whole": "Whole flags.", "none": "Tags: numbers only."}
        self._session.say(f"{what[self.way]}  N: next.")
        self._told()

    def paint(self, painter: QPainter, now: Now, places: list[tuple[int, QPointF]], labels: Labels) -> None:
        """Stems and tags first, then all flags, so that no stem runs through a flag.

        Parameters
        ----------
        places : row of the survey and place on the widget of each tag
        labels : what is already written in the picture
        """
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        report = self._session.sight_report if self._session.walk is None else None
        hidden = None if report is None else report.lines.hidden[:, now.row].tolist()
        subjects = {subject.number: subject for subject in now.plan.subjects}
        numbered = ((row, at, subjects.get(now.survey.subjects[row])) for row, at in places)
        colours, chosen = (
            subject_colours(now.survey, now.row),
            (self._session.selection.subject, self.pointed),
        )
        flags = [
            _Flag(row, subject, at, colours[row], bool(hidden and hidden[row]), subject.number in chosen)
            for row, at, subject in numbered
            if subject is not None
        ]
        labels.take_points((flag.at for flag in flags), TAG + 2)
        flags.sort(key=lambda flag: (not flag.whole, flag.at.y()))
        room: list[tuple[_Flag, tuple[str, ...], QRectF]] = []
        for flag in flags[:_MOST]:
            lines = self._lines(now, flag)
            if lines:
                wide = max(text_width(line, 12, number == 0) for number, line in enumerate(lines))
                box = labels.put(flag.at, wide + 2 * _PAD, len(lines) * _LINE + 5)
                if box is not None:
                    room.append((flag, lines, box))
        for flag, _lines, box in room:
            _paint_stem(painter, flag.at, box, flag.colour)
        for flag in flags:
            painter.setBrush(theme().base if flag.hidden else flag.colour)
            painter.setPen(QPen(flag.colour if flag.hidden else theme().base, 1.2))
            painter.drawEllipse(flag.at, TAG, TAG)
        for flag, lines, box in room:
            painter.setPen(QPen(flag.colour, 2.0 if flag.whole else 1.0))
            painter.setBrush(faded(theme().base, 0.82))
            painter.drawRoundedRect(box, 3, 3)
            for number, line in enumerate(lines):
                at = box.topLeft() + QPointF(_PAD, 14 + number * _LINE)
                draw_text(painter, at, line, flag.colour, 12, bold=number == 0)
        self.shown = [(flag.subject.number, box) for flag, _lines, box in room]

    def _lines(self, now: Now, flag: _Flag) -> tuple[str, ...]:
        """What a flag says."""
        subject, numbers, cell = flag.subject, now.survey, (flag.row, now.row)
        blur = f"{float(numbers.sight.blur_px[cell]):.1f} px"
        if flag.whole or self.way == "whole":
            distance = self._session.length(float(numbers.focus_distance_m[cell]))
            hidden = "   hidden" if flag.hidden else ""
            return f"{subject.number} {subject.name}", f"{distance}   {blur}{hidden}"
        return (f"{subject.number}  {blur}",) if self.way == "short" else ()


def _paint_stem(painter: QPainter, at: QPointF, box: QRectF, colour: QColor) -> None:
    foot = QPointF(
        min(max(at.x(), box.left() + 4), box.right() - 4), min(max(at.y(), box.top()), box.bottom())
    )
    for pen in (QPen(faded(theme().base, 0.8), 3.2), QPen(colour, 1.4)):
        painter.setPen(pen)
        painter.drawLine(at, foot)
