"""Playing from memory: what is held, how it is made, what it is seen beside, and the movie of it."""

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.background.screening import BEFORE, SIZES, Screening
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import number_field
from kobrel.desk.toolkit.theme import theme
from kobrel.plan.measure.survey import index_runs
from kobrel.plan.model import Shot
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.view import View

_PASSES = (4, 8, 16, 32, 64)
_OFF = "Off: while it plays, a smooth stand-in for the blur is shown, frame by frame."


@guarded
class FilledBar(QWidget):
    """Which frames are in memory: the bar fills as they come."""

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._screening = session, screening
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Frames in memory")
        self.setToolTip("The frames of the range from left to right; those in memory are filled.")
        screening.changed.connect(self.update)
        session.watch((Document.plan, Document.shot_index, Document.frame), self.update)

    def sizeHint(self) -> QSize:
        return QSize(230, 22)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        rows = 2 if self._screening.beside else 1
        tall = (self.height() - 2 * (rows - 1)) / rows
        for which in range(rows):
            top = which * (tall + 2)
            painter.setBrush(theme().base)
            painter.drawRect(QRectF(0, top, self.width(), tall))
            frames, there = self._screening.filled(which)
            step = self.width() / max(1, len(frames))
            painter.setBrush(theme().focus if which == 0 else theme().quiet)
            for begin, end in index_runs(there):
                painter.drawRect(QRectF(begin * step, top, (end + 1 - begin) * step, tall))
        first, last = self._screening.frames
        if self._screening.on and last > first:
            x = (self._session.frame - first + 0.5) / (last - first + 1) * self.width()
            painter.setBrush(theme().text)
            painter.drawRect(QRectF(x - 1, 0, 2, self.height()))


class PlayPage(Card[Shot]):
    """See the module."""

    name = "Play"
    is_page = True
    depends = (Document.plan, Document.shot_index, View.playing)

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.screening = screening
        self.play = self.buttons(("Play", "Play at the shot's rate (Space)", lambda: session.want("play")))[0]
        self.memory = self.tick(
            "True blur, from memory",
            "Render the frames in the background, keep them, and play them at the shot's rate",
            lambda _shot: screening.on,
            screening.switch,
        )
        self.bar = FilledBar(session, screening)
        self.column.addWidget(self.bar)
        self.told = self.bind(self.note(), lambda _shot: screening.told or _OFF)
        self.wide = choice(
            "Size of the frames",
            [(f"{px} px wide", px) for px in SIZES],
            "Width of the frames in memory, pixels",
        )
        self.bind(
            self.wide, lambda _shot: screening.draft.width, lambda width: screening.set_draft(width=width)
        )
        self.row("Size", self.wide)
        self.passes = choice(
            "Passes", [(f"{count} passes", count) for count in _PASSES],
            "Exact passes for each frame: more are cleaner and take longer",
        )  # fmt: skip
        self.bind(
            self.passes,
            lambda _shot: screening.draft.passes,
            lambda passes: screening.set_draft(passes=passes),
        )
        self.row("Quality", self.passes)
        self.every = choice(
            "Which frames",
            [("Every frame", 1), ("Every second", 2), ("Every fourth", 4)],
            "Frames that are made",
        )
        self.bind(
            self.every, lambda _shot: screening.draft.every, lambda every: screening.set_draft(every=every)
        )
        self.row("Frames", self.every)
        self.clay = self.tick(
            "Clay",
            "Draw all surfaces in one grey, to judge form alone",
            lambda _shot: screening.draft.clay,
            lambda on: screening.set_draft(clay=on),
        )
        self.first = number_field("First frame that is played", "", 1.0, -1e6, 1e6, digits=8)
        self.last = number_field("Last frame that is played", "", 1.0, -1e6, 1e6, digits=8)
        self.bind(self.first, lambda _shot: screening.frames[0], self._take_range)
        self.bind(self.last, lambda _shot: screening.frames[1], self._take_range)
        for field in (self.first, self.last):
            field.setFixedWidth(80)
        self.row("From, to", self.first, self.last)
        self.cue = choice("Range of a cue", [], "Play the shot, or the range of one of its cues", 160)
        self.cue.setPlaceholderText("these frames")
        self.bind(self.cue, lambda _shot: screening.frames, lambda span: screening.set_range(*span), _spans)
        self.row("Range", self.cue)
        self.line()
        self.left = choice("Compare", [], "Which of two stands first, on the left or above", 186)
        self.bind(self.left, lambda _shot: screening.left, self._compare, self._firsts)
        self.enable_if(self.left, lambda _shot: bool(screening.beside))
        self.row("Compare", self.left)
        self.beside = choice("Compare with", [], "What it is seen side by side with", 186)
        self.bind(self.beside, lambda _shot: screening.beside, self._compare, self._seconds)
        self.row("with", self.beside)
        self.line()
        self.movie = self.buttons(
            (
                "Write a movie …",
                "H.264 or ProRes, with words burnt in and sound",
                lambda: session.want("movie"),
            )
        )[0]
        self.column.addStretch(1)
        screening.changed.connect(self._refresh_if_seen)

    def _firsts(self, shot: Shot) -> list[tuple[str, object]]:
        return [("as it is now", ""), *((name, name) for name in self.screening.ways(shot))]

    def _seconds(self, shot: Shot) -> list[tuple[str, object]]:
        return [("nothing", ""), (BEFORE, BEFORE), *((name, name) for name in self.screening.ways(shot))]

    def _take_range(self, _value: float) -> None:
        self.screening.set_range(round(self.first.value), round(self.last.value))

    def _compare(self, _name: str) -> None:
        self.screening.compare(self.beside.currentData() or "", self.left.currentData() or "")

    def subject(self) -> Shot | None:
        """See :class:`Card`."""
        return self.session.shot

    def show_more(self, subject: Shot) -> None:
        self.play.setText("Pause" if self.session.view.playing else "Play")


def _spans(shot: Shot) -> list[tuple[str, object]]:
    cues = [(cue.name, (cue.first, cue.end)) for cue in shot.cues if cue.end > cue.first]
    return [("The whole shot", (shot.first, shot.last)), *cues]
