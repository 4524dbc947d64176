"""Recording a value by hand while the shot plays once, frame by frame."""

from collections.abc import Hashable

from psygnal import Signal

from kobrel.session.numbers import AT_FRAME
from kobrel.session.session import Session
from kobrel.session.view import View

_LEAST_FRAMES = 3


class Recorder:
    """Recording a value by hand while the shot plays once, frame by frame.

    What is recorded, and what becomes of it, is a subclass's.

    Events
    ------
    changed : the value that is turned to, or whether it records
    """

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self._session = session
        self.recording = False
        self.value = 0.0
        self._taken: dict[int, float] = {}
        self._of: Hashable = None
        session.watch(AT_FRAME, self._go_on)
        session.watch({View.playing}, self._stopped)

    # What a subclass says

    def of(self) -> Hashable:
        """What is recorded upon, which must stay the same; None where there is nothing."""
        raise NotImplementedError

    def first_value(self) -> float:
        """The value that a recording begins with."""
        raise NotImplementedError

    def show(self, taken: list[tuple[int, float]]) -> None:
        """Show what was recorded so far: frames and values."""
        raise NotImplementedError

    def make(self, taken: list[tuple[int, float]]) -> str:
        """Make what the recording was for; returns what is said of it."""
        raise NotImplementedError

    # Recording

    def toggle(self) -> None:
        """Begin at the shot's first frame, or end."""
        session, shot = self._session, self._session.shot
        if self.recording:
            self._finish()
        elif shot is not None and self.of() is not None and not session.view.playing:
            if shot.length < _LEAST_FRAMES:
                session.say("Shot too short to record.")
                return
            session.show_frame(shot.first)
            self.value = self.first_value()
            self._taken, self._of, self.recording = {}, self.of(), True
            session.begin_drag()
            self._go_on()
            session.want("play")
            self.changed.emit()

    def _go_on(self) -> None:
        """Take the value at the frame that plays; the last frame is the end."""
        session, shot = self._session, self._session.shot
        if not self.recording:
            return
        if shot is None or self.of() != self._of:
            self._leave("Recording stopped: view changed.")
            return
        frame = session.frame
        if self._taken and frame < max(self._taken):
            self._finish()
            return
        if self._taken.get(frame) == self.value:
            return
        self._taken[frame] = self.value
        self.show(sorted(self._taken.items()))
        if frame >= shot.last:
            self._finish()

    def _stopped(self) -> None:
        if not self._session.view.playing:
            self._finish()

    def _finish(self) -> None:
        """Make what the recording was for."""
        if self.recording:
            self.recording = False
            self._leave(self.make(sorted(self._taken.items())))

    def _leave(self, told: str) -> None:
        """Let go of the shot."""
        self.recording = False
        if self._session.view.playing:
            self._session.want("play")
        self._session.end_drag()
        self._session.say(told)
        self.changed.emit()
