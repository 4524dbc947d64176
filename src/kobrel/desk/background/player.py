"""Playing a shot at its rate, forward or backward: frames are dropped rather than played late."""

from collections.abc import Callable

from PySide6.QtCore import QElapsedTimer, QObject, Qt, QTimer, Signal

from kobrel.session.session import Session

MOST_SHUTTLE = 8
"""How many times faster than the selected speed J and L play at most."""


class Player(QObject):
    """Moves the session's frame by the clock; at the end of the range it loops or stops.

    Parameters
    ----------
    span : first and last frame that are to be played

    Signals
    -------
    changed : it plays, or how fast it plays
    """

    changed = Signal()

    def __init__(
        self, session: Session, span: Callable[[], tuple[int, int]], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._span = session, span
        self.dropped = self.shown = self._at = 0
        self.shuttle = 1
        self._start_frame = 0
        self._clock = QElapsedTimer()
        self._beat = QTimer(self)
        self._beat.setTimerType(Qt.TimerType.PreciseTimer)
        self._beat.timeout.connect(self._advance)

    @property
    def playing(self) -> bool:
        """Whether it plays."""
        return self._beat.isActive()

    @property
    def rate(self) -> float:
        """How many times the shot's own rate; negative while it plays backward."""
        return self.shuttle * self._session.view.play_speed

    def toggle(self) -> None:
        """Play forward, from the start if the end is reached, or pause."""
        if self.playing:
            self.pause()
        else:
            self._start(1)

    def pause(self) -> None:
        """Stop where it is."""
        self._beat.stop()
        self._session.view.playing = False
        self.changed.emit()

    def play(self, direction: int) -> None:
        """Play forward (1) or backward (-1); again in the same direction, twice as fast."""
        if self.playing and self.shuttle * direction > 0:
            self._start(direction * min(2 * abs(self.shuttle), MOST_SHUTTLE))
        else:
            self._start(direction)

    def restart_clock(self) -> None:
        """Count time and dropped frames from here on, as when the speed is changed."""
        shot = self._session.shot
        if shot is None or not self.playing:
            return
        self._start_frame = self._session.frame
        self.dropped = self.shown = self._at = 0
        self._clock.start()
        self._beat.start(max(4, round(200 / (shot.fps * abs(self.rate)))))
        self.changed.emit()

    def _start(self, shuttle: int) -> None:
        if self._session.shot is None:
            return
        self.shuttle = shuttle
        first, last = self._span()
        at_end = self._session.frame >= last if shuttle > 0 else self._session.frame <= first
        if at_end or not first <= self._session.frame <= last:
            self._session.show_frame(first if shuttle > 0 else last)
        self._beat.start()
        self._session.view.playing = True
        self.restart_clock()

    @property
    def told(self) -> str:
        """How it plays, in words: its rate, and how many frames were dropped to keep it."""
        shot, seconds = self._session.shot, self._clock.elapsed() / 1000
        if shot is None or seconds < 0.25:
            return "playing"
        wanted = shot.fps * abs(self.rate)
        rate = min(self.shown / seconds, wanted)
        lost = f"{self.dropped} frames dropped" if self.dropped else "no frames dropped"
        return f"{rate:.1f} / {wanted:g} fps, {lost}"

    def _advance(self) -> None:
        shot, (first, last) = self._session.shot, self._span()
        if shot is None:
            return
        passed = int(self._clock.elapsed() / 1000 * shot.fps * abs(self.rate))
        if passed == self._at:
            return
        self.dropped += passed - self._at - 1
        self.shown += 1
        self._at = passed
        frame = self._start_frame + (passed if self.shuttle > 0 else -passed)
        if first <= frame <= last:
            self._session.show_frame(frame)
        elif self._session.view.loops or self._session.dragging:  # a recording ends with its last frame
            self._session.show_frame(first + (frame - first) % (last - first + 1))
        else:
            self._session.show_frame(last if self.shuttle > 0 else first)
            self.pause()
