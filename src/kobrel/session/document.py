"""The document: plan, stage and files, the shot and frame in work, edits and the way back."""

from collections.abc import Callable
from dataclasses import replace
from typing import ClassVar

from psygnal import Signal

from kobrel.plan import edit
from kobrel.plan import glass as glasses
from kobrel.plan.instrument import Glass
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.model import MadeCamera, Plan, Shot
from kobrel.plan.staging import Library, stage_of, staged_alike
from kobrel.session.evented import AnyField, Change, Field, MadeField, OwnField, Room, Values
from kobrel.session.tools import Wanted
from kobrel.session.undo import History, Step
from kobrel.stage.stage import Stage

_STAGES_KEPT = 12
"""How many stages of plans that were in work are kept, so that undo finds them."""


class Document(Room):
    """What is worked on. Nothing outside sets its fields, but the view camera.

    Events
    ------
    wanted : something is asked of the window

    Fields
    ------
    history : what was done, and can be undone
    dragging : whether something is dragged
    walk : the view camera while it looks from elsewhere; None looks through the shot's camera
    """

    plan = MadeField(Plan)
    stage = MadeField(Stage)
    library = MadeField(Library)
    shot_index = OwnField(0)
    frame = OwnField(1001)
    walk: Field[MadeCamera | None] = Field(None)
    history = OwnField(History())
    dragging = OwnField(False)

    kept_by_a_drag: ClassVar[tuple[AnyField, ...]] = (history, shot_index, frame, walk)
    """What is put back, with the plan, where a drag is given up."""

    wanted = Signal(str)

    def __init__(self, values: Values) -> None:
        super().__init__(values)
        self._drags = 0
        self._before_drag: list[Change] = []
        self._stages: list[tuple[Plan, Library, Stage]] = []

    def want(self, what: Wanted) -> None:
        """Ask something of the window."""
        self.wanted.emit(what)

    @property
    def shot(self) -> Shot | None:
        """The shot in work, or None in an empty plan."""
        return self.plan.shots[self.shot_index] if self.plan.shots else None

    @property
    def glass(self) -> Glass | None:
        """The glass of the shot in work."""
        return self.shot.glass if self.shot else None

    # What is worked on

    def show_plan(
        self,
        plan: Plan,
        stage: Stage,
        library: Library,
        shot_index: int = 0,
        frame: int | None = None,
        history: History | None = None,
    ) -> None:
        """Work on another plan; what could be undone is forgotten, unless its own history comes with it."""
        index = min(max(0, shot_index), max(0, len(plan.shots) - 1))
        shot = plan.shots[index] if plan.shots else None
        first = shot.first if shot else 1001
        at = first if shot is None or frame is None else min(max(frame, shot.first), shot.last)
        self.values.set(
            Document.plan.to(plan),
            Document.stage.to(stage if shot is None else stage.of_shot(shot.name)),
            Document.library.to(library),
            Document.shot_index.to(index),
            Document.frame.to(at),
            Document.walk.to(None),
            Document.history.to(history or History()),
            Document.dragging.to(False),
            *self.of_another_plan(),
        )

    def of_another_plan(self) -> list[Change]:
        """What else changes with another plan."""
        return []

    def of_an_edit(self, shot: Shot) -> list[Change]:
        """What else changes with an edit, after which a shot is in work."""
        return []

    def of_another_shot(self) -> list[Change]:
        """What else changes with the shot."""
        return []

    def show_shot(self, index: int) -> None:
        """Turn to another shot, at its first frame."""
        if index != self.shot_index and 0 <= index < len(self.plan.shots):
            shot = self.plan.shots[index]
            self.values.set(
                Document.shot_index.to(index),
                Document.frame.to(shot.first),
                Document.stage.to(self.stage.of_shot(shot.name)),
                Document.walk.to(None),
                *self.of_another_shot(),
            )

    def show_frame(self, frame: float) -> None:
        """Go to a frame of the shot; beyond its ends counts as the end."""
        shot = self.shot
        if shot is not None:
            self.values.set(Document.frame.to(min(max(round(frame), shot.first), shot.last)))

    # Edits

    def edit(self, name: str, plan: Plan, *changes: Change) -> None:
        """Replace the plan, with a way back; edits of one drag become one step.

        Parameters
        ----------
        changes : of other fields, that go with the edit, such as the mark that it makes; they are made even
            where the plan stays the same
        """
        made: list[Change] = []
        if plan != self.plan:
            step = Step(name, self.plan, plan, self._drags if self.dragging else 0)
            made = [*self._to_plan(plan), Document.history.to(self.history.with_step(step))]
        self.values.set(*made, *changes)
        self._want_missing()

    def edit_shot(self, name: str, change: Callable[[Shot], Shot], *changes: Change) -> None:
        """Replace the shot in work."""
        if self.shot is not None:
            self.edit(name, edit.with_shot(self.plan, self.shot_index, change(self.shot)), *changes)

    def edit_glass(self, name: str, **changes: object) -> None:
        """Change some fields of the shot's glass."""
        self.edit_shot(name, lambda shot: shot.replace(glass=shot.glass.replace(**changes)))

    def edit_keyed(self, name: str, field: str, change: Callable[[Keyed], Keyed]) -> None:
        """Change a keyed value of the glass, ``f_number`` or ``focal_mm``."""

        def changed(shot: Shot) -> Shot:
            keyed = change(getattr(shot.glass, field))
            glass = shot.glass
            made = (
                glasses.with_focal(glass, keyed) if field == "focal_mm" else glass.replace(**{field: keyed})
            )
            return shot.replace(glass=made)

        self.edit_shot(name, changed)

    def set_keyed(self, name: str, field: str, value: float) -> None:
        """Change stop or focal length: its key at this frame, or the value where it has none."""
        self.edit_keyed(name, field, lambda keyed: keyed.set(Key(frame=self.frame, value=value)))

    def undo(self) -> None:
        """Take the last edit back."""
        step = self.history.last
        if step is not None:
            self.values.set(*self._to_plan(step.old), Document.history.to(self.history.undone()))
            self._want_missing()

    def redo(self) -> None:
        """Do again what was undone last."""
        step = self.history.next
        if step is not None:
            self.values.set(*self._to_plan(step.new), Document.history.to(self.history.redone()))
            self._want_missing()

    def mark_saved(self) -> None:
        """The plan as it is now counts as saved."""
        self.values.set(Document.history.to(self.history.marked_saved()))

    def mark_unsaved(self) -> None:
        """The plan's file is gone: no state of it counts as saved."""
        self.values.set(Document.history.to(replace(self.history, saved=None)))

    def restage(self, library: Library, like: Stage) -> None:
        """Files were read: set the stage with them; `like` has what was built already."""
        stage = stage_of(self.plan, library, like)
        self.values.set(
            Document.library.to(library),
            Document.stage.to(stage if self.shot is None else stage.of_shot(self.shot.name)),
        )

    def _to_plan(self, plan: Plan) -> list[Change]:
        """The changes that go with another plan: its stage, and shot and frame within it."""
        stage = self._stage_for(plan)
        names = [shot.name for shot in plan.shots]
        index = min(self.shot_index, max(0, len(names) - 1))
        if self.shot is not None and self.shot.name in names:
            index = names.index(self.shot.name)
        made = [Document.plan.to(plan), Document.stage.to(stage), Document.shot_index.to(index)]
        if plan.shots:
            shot = plan.shots[index]
            made += [
                Document.stage.to(stage.of_shot(shot.name)),
                Document.frame.to(min(max(self.frame, shot.first), shot.last)),
                *self.of_an_edit(shot),
            ]
        return made

    def _stage_for(self, plan: Plan) -> Stage:
        """The stage of another plan: one of the last few where it had it before, as when edits are undone.

        Pixels of plates may have been made since, so a stage with plates is always set anew.
        """
        if staged_alike(self.plan, plan):
            return self.stage
        kept = [each for each in self._stages if each[2] is not self.stage.whole]
        self._stages = [*kept, (self.plan, self.library, self.stage.whole)][-_STAGES_KEPT:]
        for before, library, stage in reversed(self._stages):
            if library is self.library and not plan.plates and staged_alike(before, plan):
                return stage
        return stage_of(plan, self.library, self.stage)

    def _want_missing(self) -> None:
        if self.library.missing(self.plan):
            self.want("files")

    # Drags

    def begin_drag(self) -> None:
        """Something starts to be dragged: edits become one step until the drag ends."""
        if not self.dragging:
            self._drags += 1
            kept = (Document.plan, *self.kept_by_a_drag)
            self._before_drag = [field.to(self.values[field]) for field in kept]
            self.values.set(Document.dragging.to(True))

    def end_drag(self) -> None:
        """The drag is over."""
        self.values.set(Document.dragging.to(False))

    def cancel_drag(self) -> None:
        """The drag is over, and all is as it was before it."""
        if self.dragging:
            before, *kept = self._before_drag
            plan = before.value
            assert isinstance(plan, Plan)
            self.values.set(*self._to_plan(plan), *kept, Document.dragging.to(False))
