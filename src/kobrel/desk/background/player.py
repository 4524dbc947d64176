"""Playing a shot at its rate: frames are dropped rather than played late."""

from collections.abc import Callable

from PySide6.QtCore import QElapsedTimer, QObject, Qt, QTimer

from kobrel.session.session import Session


class Player(QObject):
    """Moves the session's frame by the clock, from the last frame on to the first.

    Parameters
    ----------
    span : first and last frame that are to be played
    """

    def __init__(
        self, session: Session, span: Callable[[], tuple[int, int]], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._span = session, span
        self.dropped = self.shown = self._at = 0
        self._start_frame = 0
        self._clock = QElapsedTimer()
        self._beat = QTimer(self)
        self._beat.setTimerType(Qt.TimerType.PreciseTimer)
        self._beat.timeout.connect(self._go_on)

    @property
    def playing(self) -> bool:
        """Whether it plays."""
        return self._beat.isActive()

    def toggle(self) -> None:
        """Play, from the beginning if the end is reached, or pause."""
        shot, span = self._session.shot, self._span()
        if shot is None:
            return
        if self.playing:
            self._beat.stop()
        else:
            if not span[0] <= self._session.frame < span[1]:
                self._session.show_frame(span[0])
            self._start_frame = self._session.frame
            self.dropped = self.shown = self._at = 0
            self._clock.start()
            self._beat.start(max(4, round(200 / shot.fps)))
        self._session.view.playing = self.playing

    @property
    def told(self) -> str:
        """How it plays, in words: its rate, and how many frames were dropped to keep it."""
        shot, seconds = self._session.shot, self._clock.elapsed() / 1000
        if shot is None or seconds < 0.25:
            return "playing"
        rate = min(self.shown / seconds, shot.fps)
        lost = f"{self.dropped} frames dropped" if self.dropped else "no frame dropped"
        return f"{rate:.1f} of {shot.fps:g} frames a second, {lost}"

    def _go_on(self) -> None:
        shot, span = self._session.shot, self._span()
        if shot is None:
            return
        passed = int(self._clock.elapsed() / 1000 * shot.fps)
        if passed == self._at:
            return
        self.dropped += passed - self._at - 1
        self.shown += 1
        self._at = passed
        length = span[1] - span[0] + 1
        self._session.show_frame(span[0] + (self._start_frame + passed - span[0]) % length)
