"""Playing from memory: what is held, how it is made, what it is seen beside, and the movie of it."""

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from kobrel.desk.cards.base import Card, choice, choose, fill
from kobrel.desk.fields import number_field
from kobrel.desk.look import look
from kobrel.desk.screening import BEFORE, SIZES, Screening
from kobrel.desk.session import Session
from kobrel.plan.survey import index_runs

_PASSES = (4, 8, 16, 32, 64)


class FilledBar(QWidget):
    """Which frames are in memory: the bar fills as they come."""

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._screening = session, screening
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Frames in memory")
        self.setToolTip("The frames of the range from left to right; those in memory are filled.")
        screening.changed.connect(self.update)
        session.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(230, 22)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(Qt.PenStyle.NoPen)
        rows = 2 if self._screening.beside else 1
        tall = (self.height() - 2 * (rows - 1)) / rows
        for which in range(rows):
            top = which * (tall + 2)
            painter.setBrush(look().base)
            painter.drawRect(QRectF(0, top, self.width(), tall))
            frames, there = self._screening.filled(which)
            step = self.width() / max(1, len(frames))
            painter.setBrush(look().focus if which == 0 else look().quiet)
            for begin, end in index_runs(there):
                painter.drawRect(QRectF(begin * step, top, (end + 1 - begin) * step, tall))
        first, last = self._screening.frames
        if self._screening.on and last > first:
            x = (self._session.frame - first + 0.5) / (last - first + 1) * self.width()
            painter.setBrush(look().text)
            painter.drawRect(QRectF(x - 1, 0, 2, self.height()))


class PlayPage(Card):
    """See the module."""

    name = "Play"
    is_page = True
    room = "picture"

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.screening = screening
        self.play = self.buttons(("Play", "Play at the shot's rate (Space)", session.play_wanted.emit))[0]
        session.played.connect(lambda playing: self.play.setText("Pause" if playing else "Play"))
        self.memory = self.tick(
            "True blur, from memory",
            "Render the frames in the background, keep them, and play them at the shot's rate",
            screening.switch,
        )
        self.bar = FilledBar(session, screening)
        self.column.addWidget(self.bar)
        self.told = self.note()
        self.wide = choice(
            "Size of the frames",
            [(f"{px} px wide", px) for px in SIZES],
            "Width of the frames in memory, pixels",
        )
        self.wide.activated.connect(lambda _i: screening.set_draft(width=self.wide.currentData()))
        self.row("Size", self.wide)
        self.passes = choice(
            "Passes", [(f"{count} passes", count) for count in _PASSES],
            "Exact passes for each frame: more are cleaner and take longer",
        )  # fmt: skip
        self.passes.activated.connect(lambda _i: screening.set_draft(passes=self.passes.currentData()))
        self.row("Quality", self.passes)
        self.every = choice(
            "Which frames",
            [("Every frame", 1), ("Every second", 2), ("Every fourth", 4)],
            "Frames that are made",
        )
        self.every.activated.connect(lambda _i: screening.set_draft(every=self.every.currentData()))
        self.row("Frames", self.every)
        self.clay = self.tick(
            "Clay",
            "Draw all surfaces in one grey, to judge form alone",
            lambda on: screening.set_draft(clay=on),
        )
        self.first = number_field("First frame that is played", "", 1.0, -1e6, 1e6, digits=8)
        self.last = number_field("Last frame that is played", "", 1.0, -1e6, 1e6, digits=8)
        for field in (self.first, self.last):
            field.setFixedWidth(80)
            field.taken.connect(self._take_range)
        self.row("From, to", self.first, self.last)
        self.cue = choice("Range of a cue", [], "Play the shot, or the range of one of its cues", 160)
        self.cue.setPlaceholderText("these frames")
        self.cue.activated.connect(self._take_cue)
        self.row("Range", self.cue)
        self.line()
        self.left = choice("Compare", [], "Which of two stands first, on the left or above", 186)
        self.left.activated.connect(self._compare)
        self.row("Compare", self.left)
        self.beside = choice("Compare with", [], "What it is seen side by side with", 186)
        self.beside.activated.connect(self._compare)
        self.row("with", self.beside)
        self.line()
        self.movie = self.buttons(
            ("Write a movie …", "H.264 or ProRes, with words burnt in and sound", session.movie_wanted.emit)
        )[0]
        self.column.addStretch(1)
        screening.changed.connect(self._refresh_if_seen)

    def _take_range(self, _value: float) -> None:
        self.screening.set_range(round(self.first.value), round(self.last.value))

    def _compare(self, _index: int) -> None:
        self.screening.compare(self.beside.currentData() or "", self.left.currentData() or "")

    def _take_cue(self) -> None:
        span = self.cue.currentData()
        if span is not None:
            self.screening.set_range(*span)

    def refresh(self) -> None:
        shot, screening = self.session.shot, self.screening
        self.setEnabled(shot is not None)
        if shot is None:
            return
        self.memory.setChecked(screening.on)
        self.told.setText(
            screening.told or "Off: while it plays, a smooth stand-in for the blur is shown, frame by frame."
        )
        draft = screening.draft
        for box, value in ((self.wide, draft.width), (self.passes, draft.passes), (self.every, draft.every)):
            choose(box, value)
        self.clay.setChecked(draft.clay)
        first, last = screening.frames
        self.first.show_value(first)
        self.last.show_value(last)
        spans = [("The whole shot", (shot.first, shot.last))]
        spans += [(cue.name, (cue.first, cue.end)) for cue in shot.cues if cue.end > cue.first]
        fill(self.cue, spans, (first, last))
        kept = [(alt.name, alt.name) for alt in shot.alts]
        others = [("nothing", ""), (BEFORE, BEFORE), *kept]
        fill(self.beside, others, screening.beside)
        fill(self.left, [("as it is now", ""), *kept], screening.left)
        self.left.setEnabled(bool(screening.beside))
