"""Turning a dial while the shot plays: it is recorded, frame by frame, and becomes keys."""

import numpy as np
from psygnal import Signal

from kobrel.optics.path import fewest_corners, taut
from kobrel.plan.parts import Level, LevelKey
from kobrel.session.commands.plates import dialling
from kobrel.session.session import Session
from kobrel.session.state import AT_FRAME

_TOLERANCE = 0.02


class DialPerformer:
    """Records the chosen dial while the shot plays once.

    Events
    ------
    changed : whether it records
    """

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self._session = session
        self.recording = False
        self.value = 0.0
        self._of = ""
        self._taken: dict[int, float] = {}
        session.watch(AT_FRAME, self._go_on)
        session.watch({"playing"}, self._stopped)

    def toggle(self) -> None:
        """Begin at the shot's first frame, or end."""
        session, dial, shot = self._session, dialling.chosen(self._session), self._session.shot
        if self.recording:
            self._finish()
        elif dial is not None and shot is not None and not session.playing:
            session.show_frame(shot.first)
            self.value = dialling.value_now(session, dial)
            self._of, self._taken, self.recording = dial.name, {}, True
            session.begin_drag()
            self._go_on()
            session.want("play")
            self.changed.emit()

    def turn(self, value: float) -> None:
        """Turn the dial, while it is recorded or not."""
        self.value = min(max(value, 0.0), 1.0)
        if self.recording:
            self._go_on()
        else:
            dialling.turn(self._session, self.value)

    def _go_on(self) -> None:
        session, shot = self._session, self._session.shot
        if not self.recording:
            return
        dial = dialling.chosen(session)
        if shot is None or dial is None or dial.name != self._of:
            self._leave("Another dial is chosen: the recording has ended.")
            return
        frame = session.frame
        if self._taken and frame < max(self._taken):
            self._finish()
            return
        if self._taken.get(frame) == self.value:
            return
        self._taken[frame] = self.value
        keys = tuple(LevelKey(frame=f, value=v, ease="even") for f, v in sorted(self._taken.items()))
        dialling.change(session, "Perform", level=Level(value=self.value, keys=keys))
        if frame >= shot.last:
            self._finish()

    def _stopped(self) -> None:
        if not self._session.playing:
            self._finish()

    def _finish(self) -> None:
        """Make as few keys as hold what was performed."""
        if not self.recording:
            return
        self.recording = False
        keys = keys_of(self._taken)
        dialling.change(self._session, "Perform", level=Level(value=self.value, keys=keys))
        self._leave(f"Performed: {len(keys)} keys hold it.")

    def _leave(self, told: str) -> None:
        self.recording = False
        if self._session.playing:
            self._session.want("play")
        self._session.end_drag()
        self._session.say(told)
        self.changed.emit()


def keys_of(taken: dict[int, float]) -> tuple[LevelKey, ...]:
    """Even keys that follow recorded values, by frame, within a fiftieth of the dial; its tremor goes."""
    if not taken:
        return ()
    frames = np.arange(min(taken), max(taken) + 1)
    at = sorted(taken)
    whole = np.interp(frames, at, [taken[frame] for frame in at])
    path = np.asarray(taut(whole - _TOLERANCE / 2, whole + _TOLERANCE / 2))
    corners = fewest_corners(path, whole - _TOLERANCE, whole + _TOLERANCE)
    return tuple(LevelKey(frame=float(frames[k]), value=float(path[k]), ease="even") for k in corners)
