"""Playing a shot at its rate: frames are dropped rather than played late."""

from PySide6.QtCore import QElapsedTimer, QObject, Qt, QTimer, Signal

from kobrel.desk.session import Session


class Player(QObject):
    """Moves the session's frame by the clock, from the last frame on to the first.

    Signals
    -------
    toggled : whether it plays now
    """

    toggled = Signal(bool)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
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
        shot = self._session.shot
        if shot is None:
            return
        if self.playing:
            self._beat.stop()
        else:
            if self._session.frame >= shot.last:
                self._session.show_frame(shot.first)
            self._start_frame = self._session.frame
            self._clock.start()
            self._beat.start(max(8, round(500 / shot.fps)))
        self.toggled.emit(self.playing)

    def _go_on(self) -> None:
        shot = self._session.shot
        if shot is None:
            return
        frame = self._start_frame + int(self._clock.elapsed() / 1000 * shot.fps)
        length = shot.last - shot.first + 1
        self._session.show_frame(shot.first + (frame - shot.first) % length)
