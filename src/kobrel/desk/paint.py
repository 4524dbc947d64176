"""What several views draw alike: pegs, flags, the sharp band, panels."""

from collections.abc import Callable
from functools import cache, lru_cache

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import SIGNAL, QEvent, QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QBrush, QColor, QFontMetricsF, QPainter, QPainterPath, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QWidget
from shiboken6 import Shiboken

from kobrel.desk.look import DARK, faded, font, look
from kobrel.desk.session import Session
from kobrel.plan.survey import GONE, SHARP, Survey, index_runs

PEG_RADIUS = 8.0
_LATER_MS, _APART_MS = 180, 17


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
    return look().quiet if role == "gone" else QColor(getattr(look(), role))


def subject_colour(survey: Survey, row: int, column: int) -> QColor:
    """The colour of a subject at a frame."""
    return state_colour(int(survey.state[row, column]), bool(survey.nearer[row, column]))


def draw_peg(painter: QPainter, at: QPointF, number: int, colour: QColor, gone: bool = False) -> None:
    """A subject's marker: its number in a disc, an open one where it is out of the picture."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour if gone else look().base, 1.4))
    painter.setBrush(look().panel if gone else colour)
    painter.drawEllipse(at, PEG_RADIUS, PEG_RADIUS)
    painter.setPen(colour if gone else (look().base if look() is DARK else look().raised))
    painter.setFont(font(11, bold=True))
    box = QRectF(at.x() - 10, at.y() - 10, 20, 20)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(number))


def draw_free_point(painter: QPainter, at: QPointF) -> None:
    """A point of a mark that no subject stands at: an open brass ring with a dot."""
    painter.setPen(QPen(look().focus, 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawEllipse(at, 7, 7)
    painter.setBrush(look().focus)
    painter.drawEllipse(at, 1.2, 1.2)


def draw_wedge(painter: QPainter, tip: QPointF, size: float = 7.0) -> None:
    """The brass index: a downward wedge whose tip is the focus."""
    path = QPainterPath(tip)
    path.lineTo(tip.x() - size, tip.y() - size * 1.4)
    path.lineTo(tip.x() + size, tip.y() - size * 1.4)
    path.closeSubpath()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.fillPath(path, look().focus)


def draw_limit(painter: QPainter, x: float, top: float, bottom: float, near: bool) -> None:
    """A limit of the sharp band: a line with a foot to the left (near) or the right (far)."""
    painter.setPen(QPen(look().nearer if near else look().farther, 2))
    painter.drawLine(QPointF(x, top), QPointF(x, bottom))
    painter.drawLine(QPointF(x, bottom), QPointF(x - 5 if near else x + 5, bottom))


def hatch(near: bool) -> QBrush:
    """Hatch leaning left for what is nearer than sharp, right for what is farther."""
    colour = QColor(look().nearer if near else look().farther)
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
    return np.unique(np.linspace(0, count - 1, min(count, int(width) + 1)).round().astype(int))


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


def draw_label(painter: QPainter, at: QPointF, text: str, colour: QColor, bold: bool = False) -> None:
    """Small text on a dark ground of its own, readable over anything."""
    painter.setFont(font(12, bold))
    measured = metrics(12, bold)
    box = QRectF(
        at.x() - 4, at.y() - measured.ascent() - 1, text_width(text, 12, bold) + 8, measured.height() + 2
    )
    painter.fillRect(box, faded(look().base, 0.82))
    draw_text(painter, at, text, colour, 12, bold=bold)


def follow(session: Session, widget: QWidget, in_hand: Callable[[], bool] = lambda: False) -> None:
    """Paint a view anew with every change: at once, or a little later while the shot plays or a hand
    is busy in another view, so that the view in hand and the picture come first.
    """
    later = QTimer(widget)
    later.setSingleShot(True)
    others = session.receivers(SIGNAL("changed()"))
    later.setInterval(_LATER_MS + _APART_MS * (others % 8))  # not all at once
    later.timeout.connect(widget.update)

    def changed() -> None:
        if not (session.dragging or session.playing) or in_hand():
            widget.update()
        elif not later.isActive():
            later.start()

    session.changed.connect(changed)


class Panel(QWidget):
    """A view of the session on a panel, painted anew with every change.

    Parameters
    ----------
    spoken : what it is, for assistive technology
    hint : what hands can do in it, for its tooltip
    """

    title = ""
    prompt = False
    """Whether it keeps up while the shot plays."""

    def __init__(self, session: Session, spoken: str, hint: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(spoken)
        self.setToolTip(hint)
        self._beneath_hand = False
        follow(session, self, lambda: self._beneath_hand or (self.prompt and session.playing))

    def event(self, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonRelease):
            self._beneath_hand = event.type() == QEvent.Type.MouseButtonPress
        return super().event(event)

    def begin(self, note: str = "", onto: QPixmap | None = None) -> QPainter:
        """A painter on the cleared panel, or on a picture of it, with the title written."""
        painter = QPainter(onto if onto is not None else self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().panel)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        box = draw_text(painter, QPointF(10, 18), self.title, look().text, 13, bold=True)
        if note:
            draw_text(painter, QPointF(box.right() + 14, 18), note, look().quiet, 12)
        return painter
