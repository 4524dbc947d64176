"""Pulling by hand while the shot plays: the dial is recorded, frame by frame."""

from collections.abc import Hashable, Sequence

from kobrel.errors import PlanError
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.model import DistanceTarget, Mark, Shot
from kobrel.plan.pull import marks as pulls
from kobrel.plan.pull.live_pull import metres_of, performed
from kobrel.plan.variants import alts
from kobrel.session import settings
from kobrel.session.commands.focusing import focus_at_m
from kobrel.session.recording.recorder import Recorder
from kobrel.session.session import Session


def _as_try(shot: Shot, marks: Sequence[Mark]) -> Shot:
    """The shot with performed marks, which an Alt keeps too."""
    made = pulls.with_marks(shot, marks)
    return alts.kept(made, alts.unused_name(made, "Take"))


class Performer(Recorder):
    """Records a focus in dioptres while the shot plays once, and makes marks of it."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.tolerance_dpt = session.settings.get(settings.TOLERANCE_DPT)
        self.wheel_dpt: float | None = None

    def set_tolerance(self, dpt: float) -> None:
        """How far the marks may be off what was performed."""
        self.tolerance_dpt = dpt
        self._session.settings.put(settings.TOLERANCE_DPT, dpt)

    def of(self) -> Hashable:
        """See :class:`Recorder`."""
        now = self._session.now
        return (now.plan.name, now.shot.name) if now is not None else None

    def first_value(self) -> float:
        """See :class:`Recorder`."""
        now = self._session.now
        here = 1.0 / float(now.survey.camera.focus_m[0]) if now is not None else 0.0
        return here if self.wheel_dpt is None else self.wheel_dpt

    def turn(self, by_dpt: float) -> None:
        """Turn the dial: nearer above 0. Without a recording the focus is put there at this frame."""
        session, now = self._session, self._session.now
        if now is None:
            return
        if not self.recording:
            self.value = 1.0 / float(now.camera.focus_m)
        nearest = 1.0 / now.survey.nearest_of_interest_m
        self.value = min(max(self.value + by_dpt, 0.0), 2.0 * nearest)
        if self.recording:
            self._go_on()
        else:
            focus_at_m(session, metres_of(self.value))
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
            self.value = self.wheel_dpt
        self.changed.emit()

    def forget_position(self) -> None:
        """There is no hand-wheel any more."""
        self.wheel_dpt = None
        self.changed.emit()

    def show(self, taken: list[tuple[int, float]]) -> None:
        """See :class:`Recorder`."""
        raw = tuple(
            Mark(frame=float(frame), target=DistanceTarget(metres=metres_of(dpt)), ease="even")
            for frame, dpt in taken
        )
        self._session.edit_shot("Record pull", lambda shot: pulls.with_marks(shot, raw))

    def make(self, taken: list[tuple[int, float]]) -> str:
        """See :class:`Recorder`."""
        session = self._session
        try:
            marks = performed([f for f, _ in taken], [d for _, d in taken], self.tolerance_dpt)
        except PlanError as error:
            return str(error)
        session.edit_shot("Record pull", lambda shot: _as_try(shot, marks))
        name = session.shot.alts[-1].name if session.shot else ""
        return (
            f"Take recorded: {len(marks)} marks within {self.tolerance_dpt:g} dioptres. Saved as the "
            f"alt {name}."
        )
