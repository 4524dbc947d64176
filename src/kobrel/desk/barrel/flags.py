"""Flags of the subjects over the Barrel: where they stand, so that none covers another."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QPointF, QRectF

from kobrel.desk.toolkit.paint import TAG_RADIUS, text_width
from kobrel.desk.toolkit.spread import spread
from kobrel.plan.measure.scales import DioptreScale
from kobrel.session.numbers import Now
from kobrel.session.session import Session

MARGIN = 26


class Flag(NamedTuple):
    """A subject's flag: its row in the survey, the middle of its tag, its box, where it points."""

    row: int
    tag: QPointF
    box: QRectF
    text: str
    distance_m: float


def flags_of(
    session: Session,
    now: Now,
    scale: DioptreScale,
    ends: tuple[float, float],
    y: float,
    worded: bool,
) -> list[Flag]:
    """Flags of the subjects before the camera, in one row.

    Where there is no room for their words they are tags alone; where there is none for all tags, those
    nearest to the focus are left.

    Parameters
    ----------
    ends : where the scale begins and ends, pixels
    y : middle of the row
    worded : with names and distances where there is room
    """
    found = []
    names = {subject.number: subject.name for subject in now.plan.subjects}
    for row in np.flatnonzero(now.survey.sight.axial_m[:, now.row] > 0).tolist():
        distance, number = float(now.survey.focus_distance_m[row, now.row]), now.survey.subjects[row]
        if number in names and ends[0] - 12 <= scale.px(distance) <= ends[1] + 12:
            found.append((distance, row, names[number]))
    left, right = ends[0] - 16.0, ends[1] + 16.0
    most = int((right - left) / (2 * TAG_RADIUS + 2))
    if len(found) > most:
        focus = scale.px(float(now.camera.focus_m))
        found = sorted(found, key=lambda each: abs(scale.px(each[0]) - focus))[:most]
    found.sort()
    kinds: list[Callable[[str, float], str]] = [lambda name, d: ""]
    if worded:
        kinds = [lambda name, d: f"{name} {session.length(d)}", lambda name, d: name, *kinds]
    for words in kinds:
        texts = [words(name, distance) for distance, _row, name in found]
        widths = [2 * TAG_RADIUS + (text_width(text, 11) + 16 if text else 2) for text in texts]
        if sum(widths) <= right - left:
            break
    wanted = [
        scale.px(d) - TAG_RADIUS + width / 2 for (d, _row, _name), width in zip(found, widths, strict=True)
    ]
    flags: list[Flag] = []
    for (distance, row, _name), text, width, middle in zip(
        found, texts, widths, spread(wanted, widths, left, right), strict=True
    ):
        box = QRectF(middle - width / 2, y - TAG_RADIUS, width - 4, 2 * TAG_RADIUS)
        flags.append(Flag(row, QPointF(box.left() + TAG_RADIUS, y), box, text, distance))
    return flags
