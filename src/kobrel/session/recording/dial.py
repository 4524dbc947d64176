"""Turning a dial while the shot plays: it is recorded, frame by frame, and becomes keys."""

from collections.abc import Hashable

import numpy as np

from kobrel.optics.path import fewest_corners, taut
from kobrel.plan.keys import Level, LevelKey
from kobrel.session.commands.plates import dialling
from kobrel.session.recording.recorder import Recorder

_TOLERANCE = 0.02


class DialPerformer(Recorder):
    """Records the chosen dial while the shot plays once, and makes keys of it."""

    def of(self) -> Hashable:
        """See :class:`Recorder`."""
        dial, shot = dialling.chosen(self._session), self._session.shot
        return (shot.name, dial.name) if shot is not None and dial is not None else None

    def first_value(self) -> float:
        """See :class:`Recorder`."""
        dial = dialling.chosen(self._session)
        return dialling.value_now(self._session, dial) if dial is not None else 0.0

    def turn(self, value: float) -> None:
        """Turn the dial, while it is recorded or not."""
        self.value = min(max(value, 0.0), 1.0)
        if self.recording:
            self._go_on()
        else:
            dialling.turn(self._session, self.value)

    def show(self, taken: list[tuple[int, float]]) -> None:
        """See :class:`Recorder`."""
        keys = tuple(LevelKey(frame=frame, value=value, ease="even") for frame, value in taken)
        dialling.change(self._session, "Perform", level=Level(value=self.value, keys=keys))

    def make(self, taken: list[tuple[int, float]]) -> str:
        """See :class:`Recorder`."""
        keys = keys_of(dict(taken))
        dialling.change(self._session, "Perform", level=Level(value=self.value, keys=keys))
        return f"Performed: {len(keys)} keys hold it."


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
