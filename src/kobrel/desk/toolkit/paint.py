"""What several views draw alike: tags, flags, the sharp band, text, lines."""

import math
from collections.abc import Callable
from functools import cache, lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QFontMetricsF, QImage, QPainter, QPainterPath, QPen, QPolygonF
from shiboken6 import Shiboken

from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.toolkit.theme import DARK, LIGHT, faded, font, theme
from kobrel.plan.measure.survey import GONE, SHARP, Survey, index_runs

TAG_RADIUS = 8.0
_FOOT_PX = 5.0
_TAG_PX = 20.0
"""Side of a tag's picture, pixels."""


def role_of(state: int, nearer: bool) -> str:
    """The colour role that a subject's state has: sharp, nearer, farther or gone."""
    if state == GONE:
        return "gone"
    if state == SHARP:
        return "sharp"
    return "nearer" if nearer else "farther"


def state_colour(state: int, nearer: bool) -> QColor:
    """Ivory for sharp, terracotta for nearer, slate blue for farther, quiet for gone."""
    role = role_of(state, nearer)
    return theme().quiet if role == "gone" else QColor(getattr(theme(), role))


def subject_colour(survey: Survey, row: int, column: int) -> QColor:
    """The colour of a subject at a frame."""
    return state_colour(int(survey.state[row, column]), bool(survey.nearer[row, column]))


def subject_colours(survey: Survey, column: int) -> list[QColor]:
    """The colours of all subjects at a frame, by rows of the survey."""
    states, nearer = survey.state[:, column].tolist(), survey.nearer[:, column].tolist()
    kinds = {kind: state_colour(*kind) for kind in set(zip(states, nearer, strict=True))}
    return [kinds[kind] for kind in zip(states, nearer, strict=True)]


def draw_tag(painter: QPainter, at: QPointF, number: int, colour: QColor, gone: bool = False) -> None:
    """A subject's marker: its number in a disc, an open one where it is out of the picture."""
    ratio = painter.device().devicePixelRatio()
    picture = _tag(number, colour.rgba(), gone, ratio, theme() is DARK)
    half = _TAG_PX / 2
    painter.drawImage(
        QPointF(round((at.x() - half) * ratio) / ratio, round((at.y() - half) * ratio) / ratio), picture
    )


@lru_cache(2048)
def _tag(number: int, colour: int, gone: bool, ratio: float, dark: bool) -> QImage:
    """A tag as a picture, which is painted many times as fast as its disc and number."""
    ink = QColor.fromRgba(colour)
    look = DARK if dark else LIGHT
    side = math.ceil(_TAG_PX * ratio)
    picture = QImage(side, side, QImage.Format.Format_ARGB32_Premultiplied)
    picture.setDevicePixelRatio(ratio)
    picture.fill(0)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(ink if gone else look.base, 1.4))
    painter.setBrush(look.panel if gone else ink)
    painter.drawEllipse(QPointF(_TAG_PX / 2, _TAG_PX / 2), TAG_RADIUS, TAG_RADIUS)
    painter.setPen(ink if gone else (look.base if dark else look.raised))
    painter.setFont(font(11, bold=True))
    painter.drawText(QRectF(0, 0, _TAG_PX, _TAG_PX), Qt.AlignmentFlag.AlignCenter, str(number))
    painter.end()
    return picture


def draw_free_point(painter: QPainter, at: QPointF) -> None:
    """A point of a mark that no subject stands at: an open brass ring with a dot."""
    painter.setPen(QPen(theme().focus, 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawEllipse(at, 7, 7)
    painter.setBrush(theme().focus)
    painter.drawEllipse(at, 1.2, 1.2)


def draw_wedge(painter: QPainter, tip: QPointF, size: float = 7.0) -> None:
    """The brass index: a downward wedge whose tip is the focus."""
    path = QPainterPath(tip)
    path.lineTo(tip.x() - size, tip.y() - size * 1.4)
    path.lineTo(tip.x() + size, tip.y() - size * 1.4)
    path.closeSubpath()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.fillPath(path, theme().focus)


def draw_limit(painter: QPainter, x: float, top: float, bottom: float, near: bool) -> None:
    """A limit of the sharp band: a line with a foot to the left (near) or the right (far)."""
    painter.setPen(QPen(theme().nearer if near else theme().farther, 2))
    painter.drawLine(QPointF(x, top), QPointF(x, bottom))
    painter.drawLine(QPointF(x, bottom), QPointF(x - 5 if near else x + 5, bottom))


def hatch(near: bool) -> QBrush:
    """Hatch leaning left for what is nearer than sharp, right for what is farther."""
    colour = QColor(theme().nearer if near else theme().farther)
    colour.setAlphaF(0.22)
    return QBrush(colour, Qt.BrushStyle.BDiagPattern if not near else Qt.BrushStyle.FDiagPattern)


@cache
def metrics(pixels: int, bold: bool = False) -> QFontMetricsF:
    """Measures of Kobrel's type at a size."""
    return QFontMetricsF(font(pixels, bold))


@lru_cache(4096)
def text_width(text: str, pixels: int, bold: bool = False) -> float:
    """How wide a text is drawn."""
    return metrics(pixels, bold).horizontalAdvance(text)


@lru_cache(1024)
def elided(text: str, pixels: int, room: float, bold: bool = False) -> str:
    """As much of a text as there is room for."""
    return metrics(pixels, bold).elidedText(text, Qt.TextElideMode.ElideRight, room)


def draw_text(
    painter: QPainter,
    at: QPointF,
    text: str,
    colour: QColor,
    pixels: int = 11,
    align: str = "left",
    bold: bool = False,
) -> QRectF:
    """Text whose base line passes through a point; returns the box it covers."""
    painter.setFont(font(pixels, bold))
    measured, width = metrics(pixels, bold), text_width(text, pixels, bold)
    left = at.x() - {"left": 0.0, "centre": width / 2, "right": width}[align]
    painter.setPen(colour)
    painter.drawText(QPointF(left, at.y()), text)
    return QRectF(left, at.y() - measured.ascent(), width, measured.height())


def xy(point: QPointF) -> tuple[float, float]:
    """A point as a pair of numbers."""
    return point.x(), point.y()


def hull(places: NDArray[np.float64]) -> QPolygonF:
    """Convex outline of a few points, (n, 2) pixels (Andrew's monotone chain)."""
    ordered = sorted(map(tuple, places.tolist()))

    def half(source: list[tuple[float, ...]]) -> list[tuple[float, ...]]:
        chain: list[tuple[float, ...]] = []
        for p in source:
            while len(chain) > 1 and (
                (chain[-1][0] - chain[-2][0]) * (p[1] - chain[-2][1])
                <= (chain[-1][1] - chain[-2][1]) * (p[0] - chain[-2][0])
            ):
                chain.pop()
            chain.append(p)
        return chain[:-1]

    return QPolygonF([QPointF(x, y) for x, y in half(ordered) + half(ordered[::-1])])


def columns(count: int, width: float) -> NDArray[np.intp]:
    """Indices of the samples that are drawn: no more than there are pixels across."""
    return np.unique(np.linspace(0, count - 1, min(count, max(int(width), 0) + 1)).round().astype(int))


def across(frames: NDArray[np.float64], x_of: Callable[[float], float]) -> NDArray[np.float64]:
    """Where frames, in order, stand in a chart that spaces them evenly."""
    ends = frames[[0, -1]]
    return np.interp(frames, ends, [x_of(float(frame)) for frame in ends])


def polygon(x: NDArray[np.float64], y: NDArray[np.float64]) -> QPolygonF:
    """Places, without those that are not finite; written into Qt's own memory, thirty times as fast as
    a list of points.
    """
    there = np.isfinite(y)
    made, count = QPolygonF(), int(there.sum())
    if count:
        made.resize(count)
        address = Shiboken.getCppPointer(made.data())[0]
        places = np.frombuffer(Shiboken.VoidPtr(address, 16 * count, True), float).reshape(count, 2)  # type: ignore[call-arg, call-overload]
        places[:, 0], places[:, 1] = x[there], y[there]
    return made


def polyline(painter: QPainter, x: NDArray[np.float64], y: NDArray[np.float64]) -> None:
    """Lines through points, broken where a value is missing."""
    for first, last in index_runs(np.isfinite(y)):
        run = polygon(x[first : last + 1], y[first : last + 1])
        if run.size() == 1:
            painter.drawPoint(run.at(0))
        painter.drawPolyline(run)


def label_at(
    painter: QPainter, labels: Labels, at: QPointF, text: str, colour: QColor, bold: bool = False
) -> None:
    """A small text near a point, if there is room for it."""
    box = labels.put(at, text_width(text, 12, bold) + 8, 18)
    if box is not None:
        draw_label(painter, box.bottomLeft() + QPointF(4, -4), text, colour, bold)


def draw_label(painter: QPainter, at: QPointF, text: str, colour: QColor, bold: bool = False) -> None:
    """Small text on a dark ground of its own, readable over anything."""
    painter.setFont(font(12, bold))
    measured = metrics(12, bold)
    box = QRectF(
        at.x() - 4, at.y() - measured.ascent() - 1, text_width(text, 12, bold) + 8, measured.height() + 2
    )
    painter.fillRect(box, faded(theme().base, 0.82))
    draw_text(painter, at, text, colour, 12, bold=bold)


def paint_range(painter: QPainter, left: float, right: float, top: float, bottom: float) -> None:
    """Marks of the frames that are played: a bracket at the first and one at the last."""
    painter.setPen(QPen(theme().text, 1.6))
    for x, inward in ((left, _FOOT_PX), (right, -_FOOT_PX)):
        foot = QPointF(x + inward, 0.0)
        for y in (top, bottom):
            painter.drawLine(QPointF(x, y), QPointF(foot.x(), y))
        painter.drawLine(QPointF(x, top), QPointF(x, bottom))
