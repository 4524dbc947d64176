"""The session: what is worked on, chosen and seen, in rooms; and what is told.

Views are functions of it and keep no copy of any value. They are told by one event for each change, and
change the document by its methods and by the commands in :mod:`kobrel.session.commands`; what is chosen and
what is seen they set.
"""

from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import ClassVar, TypeVar

from numpy.typing import ArrayLike
from psygnal import Signal

from kobrel.plan.model import Shot
from kobrel.session.document import Document
from kobrel.session.evented import AnyField, Change, Field, OwnField, Values
from kobrel.session.numbers import ShotNumbers
from kobrel.session.selection import OF_A_PLAN, Selection, nothing_chosen
from kobrel.session.settings import Settings
from kobrel.session.tools import WallSource
from kobrel.session.view import View
from kobrel.stage.stage import Pick

T = TypeVar("T")


@dataclass(frozen=True, eq=False)
class _Message:
    """Something said; the same words said again are another message."""

    text: str


class Session(ShotNumbers):
    """The document with its numbers, and two further rooms: `selection` and `view`.

    Events
    ------
    said : a short message for the person
    aimed : a meter was aimed at a point, (3,) metres on the stage
    closing : the window goes
    """

    _message = OwnField(_Message(""))

    said = Signal(str)
    aimed = Signal(object)
    closing = Signal()

    def __init__(self, settings: Settings | None = None) -> None:
        super().__init__(Values())
        self.settings = settings or Settings()
        self.settings.tell_with(self.say)
        self.selection = Selection(self.values)
        self.view = View(self.values, self.settings)
        self.watch({Session._message}, self._tell_message)

    def watch(self, fields: Iterable[AnyField], told: Callable[[], object]) -> Callable[[], object]:
        """Call `told` after any of these fields changed, see :meth:`Values.watch`."""
        return self.values.watch(fields, told)

    def set(self, *changes: Change) -> None:
        """Set fields of any rooms, as one event."""
        self.values.set(*changes)

    def setter(self, field: Field[T]) -> Callable[[T], None]:
        """What sets a field, for a control that is changed."""
        return lambda value: self.values.set(field.to(value))

    def as_one(self) -> AbstractContextManager[None]:
        """All changes made meanwhile are one event."""
        return self.values.as_one()

    def say(self, text: str) -> None:
        """Tell the person something in a line, after all changes that were made before."""
        self.values.set(Session._message.to(_Message(text)))

    def _tell_message(self) -> None:
        self.said.emit(self._message.text)

    def aim(self, point: ArrayLike) -> None:
        """Aim the meter at a point on the stage, (3,) metres."""
        self.aimed.emit(point)

    def close(self) -> None:
        """Tell that the window goes."""
        self.closing.emit()

    # What goes with the document

    kept_by_a_drag: ClassVar[tuple[AnyField, ...]] = (
        *Document.kept_by_a_drag,
        *OF_A_PLAN,
        View.wall_mode,
    )

    def of_another_plan(self) -> list[Change]:
        """See :class:`Document`."""
        return [*nothing_chosen(), View.wall_mode.to("all"), View.play_range.to(None)]

    def of_an_edit(self, shot: Shot) -> list[Change]:
        """See :class:`Document`."""
        there = {mark.frame for mark in shot.marks}
        return [Selection.marks.to(tuple(frame for frame in self.selection.marks if frame in there))]

    def of_another_shot(self) -> list[Change]:
        """See :class:`Document`."""
        return [Selection.marks.to(())]

    # What is played and seen

    @property
    def played(self) -> tuple[int, int]:
        """First and last frame of the shot that are played."""
        shot = self.shot
        if shot is None:
            return 0, 0
        name, first, last = self.view.play_range or ("", 0, -1)
        first, last = (max(first, shot.first), min(last, shot.last)) if name == shot.name else (0, -1)
        return (first, last) if first <= last else (shot.first, shot.last)

    def play_only(self, first: float, last: float) -> None:
        """Play only these frames of the shot; its own are all."""
        shot = self.shot
        if shot is not None:
            low, high = sorted((round(first), round(last)))
            whole = low <= shot.first and high >= shot.last
            self.view.play_range = None if whole else (shot.name, low, high)

    def show_wall(self, source: WallSource) -> None:
        """Hang the plan's proofs on the wall, or the rungs of the last ladder."""
        if source != self.view.wall:
            self.set(View.wall.to(source), View.wall_mode.to("all"), Selection.proofs.to(()))

    def throw(self, on: bool, px: float | None = None) -> None:
        """Show everything out of focus by as many pixels (below 0 as before the focus), or as it is."""
        throw_px = self.view.throw_px if px is None else px
        self.values.set(View.defocus_everything.to(on), View.throw_px.to(throw_px))
        if on and self.defocus_everything_px == 0.0:
            self.say("Not available for orthographic cameras.")

    @property
    def defocus_everything_px(self) -> float:
        """By how much everything is shown out of focus; 0 where it is shown as it is."""
        camera = self.camera
        able = camera is not None and camera.projection != "orthographic"
        return self.view.throw_px if self.view.defocus_everything and able else 0.0

    # Rays

    def pick(self, origin: ArrayLike, direction: ArrayLike) -> Pick | None:
        """What a ray meets at the frame; None too while the stage is still being built."""
        if not self.stage.built:
            return None
        return self.stage.pick(self.frame, origin, direction, self.camera.eye if self.camera else None)
