"""Pulling by hand while the shot plays: the dial is recorded, frame by frame."""

from collections.abc import Sequence

from psygnal import Signal

from kobrel.errors import PlanError
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.model import DistanceTarget, Mark, Shot
from kobrel.plan.pull import marks as pulls
from kobrel.plan.pull.perform import metres_of, performed
from kobrel.plan.variants import alts
from kobrel.session import settings
from kobrel.session.commands.focusing import focus_at_m
from kobrel.session.session import Session
from kobrel.session.state import AT_FRAME


def _as_try(shot: Shot, marks: Sequence[Mark]) -> Shot:
    """The shot with performed marks, which an Alt keeps too."""
    made = pulls.with_marks(shot, marks)
    return alts.kept(made, alts.unused_name(made, "Try"))


class Performer:
    """Records a focus while the shot plays once, and makes marks of it.

    Events
    ------
    changed : the focus that the dial says, or whether it records
    """

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self._session = session
        self.tolerance_dpt = session.settings.get(settings.TOLERANCE_DPT)
        self.recording = False
        self.focus_dpt = 0.0
        self.wheel_dpt: float | None = None
        self._taken: dict[int, float] = {}
        self._of = ("", "")
        session.watch(AT_FRAME, self._go_on)
        session.watch({"playing"}, self._stopped)

    def set_tolerance(self, dpt: float) -> None:
        """How far the marks may be off what was performed."""
        self.tolerance_dpt = dpt
        self._session.settings.put(settings.TOLERANCE_DPT, dpt)

    def toggle(self) -> None:
        """Begin at the shot's first frame, or end."""
        session, now = self._session, self._session.now
        if self.recording:
            self._finish()
        elif now is not None and not session.playing:
            shot = now.shot
            if shot.last - shot.first < 2:
                session.say("A shot of one or two frames has no room for a pull.")
                return
            session.show_frame(shot.first)
            here = 1.0 / float(now.survey.camera.focus_m[0])
            self.focus_dpt = here if self.wheel_dpt is None else self.wheel_dpt
            self._taken = {}
            self._of = session.plan.name, shot.name
            self.recording = True
            session.begin_drag()
            self._go_on()
            session.want("play")
            self.changed.emit()

    def turn(self, by_dpt: float) -> None:
        """Turn the dial: nearer above 0. Without a recording the focus is put there at this frame."""
        session, now = self._session, self._session.now
        if now is None:
            return
        if not self.recording:
            self.focus_dpt = 1.0 / float(now.camera.focus_m)
        nearest = 1.0 / now.survey.nearest_of_interest_m
        self.focus_dpt = min(max(self.focus_dpt + by_dpt, 0.0), 2.0 * nearest)
        if self.recording:
            self._go_on()
        else:
            focus_at_m(session, metres_of(self.focus_dpt))
        self.changed.emit()

    def take_position(self, position: float) -> None:
        """What a hand-wheel says, 0 at the ring's near end and 1 at infinity; it counts while the shot
        is recorded.
        """
        shot = self._session.shot
        if shot is None:
            return
        self.wheel_dpt = (1.0 - position) / closest_m(shot)
        if self.recording:
            self.focus_dpt = self.wheel_dpt
        self.changed.emit()

    def forget_position(self) -> None:
        """There is no hand-wheel any more."""
        self.wheel_dpt = None
        self.changed.emit()

    def _go_on(self) -> None:
        """Take what the dial says at the frame that plays; the last frame is the end."""
        session, shot = self._session, self._session.shot
        if not self.recording:
            return
        if shot is None or (session.plan.name, shot.name) != self._of:
            self._leave("Another shot is shown: the recording has ended.")
            return
        frame = session.frame
        if self._taken and frame < max(self._taken):
            self._finish()
            return
        if self._taken.get(frame) == self.focus_dpt:
            return
        self._taken[frame] = self.focus_dpt
        self._show()
        if frame >= shot.last:
            self._finish()

    def _show(self) -> None:
        """The shot as performed so far."""
        raw = tuple(
            Mark(frame=float(frame), target=DistanceTarget(metres=metres_of(dpt)), ease="even")
            for frame, dpt in sorted(self._taken.items())
        )
        self._session.edit_shot("Perform a pull", lambda shot: pulls.with_marks(shot, raw))

    def _stopped(self) -> None:
        if not self._session.playing:
            self._finish()

    def _finish(self) -> None:
        """Make marks of what was taken."""
        if not self.recording:
            return
        session, taken = self._session, sorted(self._taken.items())
        self.recording = False
        try:
            marks = performed([f for f, _ in taken], [d for _, d in taken], self.tolerance_dpt)
            session.edit_shot("Perform a pull", lambda shot: _as_try(shot, marks))
            name = session.shot.alts[-1].name if session.shot else ""
            told = (
                f"Performed: {len(marks)} marks hold it within {self.tolerance_dpt:g} dioptres. "
                f"Kept as {name} among the Alts."
            )
        except PlanError as error:
            told = str(error)
        self._leave(told)

    def _leave(self, told: str) -> None:
        """Let go of the shot."""
        self.recording = False
        if self._session.playing:
            self._session.want("play")
        self._session.end_drag()
        self._session.say(told)
        self.changed.emit()
