"""Flags of the subjects over the Barrel: where they stand, so that none covers another."""

from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF

from kobrel.desk.toolkit.paint import PEG_RADIUS, text_width
from kobrel.desk.toolkit.scales import DioptreScale
from kobrel.desk.toolkit.spread import rows_of, spread
from kobrel.session.session import Session
from kobrel.session.state import Now

MARGIN = 26
_TWO_ROWS_Y, _ONE_ROW_Y = (32.0, 50.0), (42.0,)


class Flag(NamedTuple):
    """A subject's flag: its row in the survey, the middle of its peg, its box, where it points."""

    row: int
    peg: QPointF
    box: QRectF
    text: str
    distance_m: float


def flags_of(session: Session, now: Now, scale: DioptreScale, width: float) -> list[Flag]:
    """Flags of the subjects before the camera, in a Barrel so wide. Where there is no room for their
    words they are pegs alone.
    """
    found = []
    for row, number in enumerate(now.survey.subjects):
        distance = float(now.survey.focus_distance_m[row, now.row])
        subject = now.plan.subject(number)
        ahead = now.survey.sight.axial_m[row, now.row] > 0
        if ahead and subject and MARGIN - 12 <= scale.px(distance) <= width - MARGIN + 12:
            found.append((distance, row, subject.name))
    found.sort()
    left, right = MARGIN - 16.0, width - MARGIN + 16.0
    for words in (lambda name, d: f"{name} {session.length(d)}", lambda name, d: name, lambda name, d: ""):
        texts = [words(name, distance) for distance, _row, name in found]
        widths = [2 * PEG_RADIUS + (text_width(text, 11) + 16 if text else 2) for text in texts]
        rows = rows_of(widths, right - left, len(_TWO_ROWS_Y))
        if rows is not None:
            break
    else:
        rows = [list(range(first, len(found), 2)) for first in range(2)]
    flags: list[Flag] = []
    for y, members in zip(_ONE_ROW_Y if len(rows) == 1 else _TWO_ROWS_Y, rows, strict=False):
        middles = spread(
            [scale.px(found[i][0]) - PEG_RADIUS + widths[i] / 2 for i in members],
            [widths[i] for i in members], left, right,
        )  # fmt: skip
        for i, middle in zip(members, middles, strict=True):
            box = QRectF(middle - widths[i] / 2, y - PEG_RADIUS, widths[i] - 4, 2 * PEG_RADIUS)
            flags.append(Flag(found[i][1], QPointF(box.left() + PEG_RADIUS, y), box, texts[i], found[i][0]))
    return flags
