"""The transport under Picture: play, frame, timeline, range, speed, loop, cache, compare."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from kobrel.desk.background.playback import Playback
from kobrel.desk.background.player import Player
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.popovers.cache import CachePanel
from kobrel.desk.cards.popovers.compare import ComparePanel
from kobrel.desk.cards.popovers.popover import PopOverButton
from kobrel.desk.cards.popovers.view_look import ViewLook
from kobrel.desk.cards.widgets import choice, choose, fill
from kobrel.desk.toolkit.fields import number_field
from kobrel.desk.toolkit.words import plain
from kobrel.desk.views.timeline import Timeline
from kobrel.plan.model import Shot
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.view import PLAY_SPEEDS, View

_PLAY, _PAUSE = "▶", "❚❚"
_NARROW_PX, _LEAST_PX = 640, 360


@guarded
class Transport(QWidget):
    """One thin line on every tab."""

    def __init__(
        self, session: Session, player: Player, playback: Playback, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._player, self._screening = session, player, playback
        self.setMinimumWidth(_LEAST_PX)
        self.play = QPushButton(_PLAY)
        self.play.setAccessibleName("Play or pause")
        self.play.setToolTip("Play or pause (Space or K). J: play backward, L: forward, again: faster")
        self.play.setFixedWidth(34)
        self.play.clicked.connect(lambda _on=False: player.toggle())
        self.frame = number_field(
            "Frame", "frame", 1.0, -1e6, 1e6, digits=8, about="Frame that is shown; Left and Right: a frame"
        )
        self.frame.setFixedWidth(62)
        self.frame.taken.connect(session.show_frame)
        self.timeline = Timeline(session, playback)
        self.range = choice("Played range", [], "Frames that are played: the shot, or one of its cues", 118)
        self.range.setPlaceholderText("Custom")
        self.range.activated.connect(lambda _i: playback.set_range(*self.range.currentData()))
        self.speed = choice(
            "Playback speed", [(f"{speed:g}×", speed) for speed in PLAY_SPEEDS],
            "Playback speed, times the shot's frame rate", 66,
        )  # fmt: skip
        self.speed.activated.connect(lambda _i: self._set_speed(self.speed.currentData()))
        self.loop = QPushButton("Loop")
        self.loop.setCheckable(True)
        self.loop.setToolTip("Start again at the end of the range; off: stop there")
        self.loop.toggled.connect(session.setter(View.loops))
        self.cache = PopOverButton(
            "Cache ▾", "Render frames with true blur to memory, to play them in real time",
            lambda: CachePanel(session, playback), 300,
        )  # fmt: skip
        self.compare = PopOverButton(
            "Compare ▾", "Show the shot beside an alt, a proof, or itself before the last change",
            lambda: ComparePanel(session, playback), 300,
        )  # fmt: skip
        self.look = PopOverButton(
            "View ▾", "How Picture is shown: exposure, highlight roll-off, glow, defocus everything",
            lambda: ViewLook(session), 300,
        )  # fmt: skip
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        line.addWidget(self.play)
        line.addWidget(self.frame)
        line.addWidget(self.timeline, 1)
        for widget in (self.range, self.speed, self.loop, self.cache, self.compare, self.look):
            line.addWidget(widget)
        for button in (self.play, self.loop, self.cache, self.compare, self.look):
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)  # a click leaves the keyboard with the view
            button.setStyleSheet("padding: 2px 6px;")
        self.frame.refused.connect(session.say)
        player.changed.connect(self._show_playing)
        playback.changed.connect(self._show_cache)
        session.watch((Document.plan, Document.shot_index, View.play_range), self._show_ranges)
        session.watch((Document.plan, Document.shot_index, Document.frame), self._show_frame)
        session.watch((View.play_speed, View.loops, View.playing), self._show_playing)
        self._show_ranges()
        self._show_frame()
        self._show_playing()
        self._show_cache()

    def resizeEvent(self, event: QResizeEvent) -> None:
        """In a narrow window the timeline needs the room; range, speed and loop are in the menu Play too."""
        super().resizeEvent(event)
        for widget in (self.range, self.speed, self.loop):
            widget.setVisible(self.width() >= _NARROW_PX)

    def _set_speed(self, speed: float) -> None:
        self._session.view.play_speed = speed
        self._player.restart_clock()

    def _show_frame(self) -> None:
        self.frame.show_value(self._session.frame)

    def _show_ranges(self) -> None:
        shot = self._session.shot
        self.setEnabled(shot is not None)
        if shot is not None:
            fill(self.range, _ranges(shot), self._session.played)

    def _show_playing(self) -> None:
        view, player = self._session.view, self._player
        self.play.setText(_PAUSE if view.playing else _PLAY)
        choose(self.speed, view.play_speed)
        shuttling = view.playing and player.shuttle != 1
        self.play.setAccessibleDescription(f"{player.rate:g} times" if shuttling else "")
        self.speed.setToolTip(
            plain(f"Now {player.rate:g}×" if shuttling else "Playback speed, times the shot's frame rate")
        )
        self.loop.setChecked(view.loops)

    def _show_cache(self) -> None:
        frames, there = self._screening.filled()
        on = self._screening.on and len(frames) > 0
        self.cache.setText(f"Cache {100 * int(there.sum()) // len(frames)} % ▾" if on else "Cache ▾")
        self.compare.setText("Comparing ▾" if self._screening.beside else "Compare ▾")


def _ranges(shot: Shot) -> list[tuple[str, object]]:
    cues = [(cue.name, (cue.first, cue.end)) for cue in shot.cues if cue.end > cue.first]
    return [("Whole shot", (shot.first, shot.last)), *cues]
