"""Undo and redo: every edit as a step from one plan to another."""

from dataclasses import dataclass, replace

from kobrel.plan.model import Plan


@dataclass(frozen=True, eq=False)
class Step:
    """An edit.

    Parameters
    ----------
    name : as a menu tells it
    old, new : the plan before and after
    drag : number of the drag that it belongs to, 0 for none; the edits of one drag become one step
    """

    name: str
    old: Plan
    new: Plan
    drag: int = 0


@dataclass(frozen=True, eq=False)
class History:
    """Steps that were done, and those that were undone and can be done again.

    Parameters
    ----------
    steps : all of them, in order
    done : how many of them are done
    saved : how many were done when the plan was saved; None if that state cannot be reached any more
    """

    steps: tuple[Step, ...] = ()
    done: int = 0
    saved: int | None = 0

    @property
    def last(self) -> Step | None:
        """The step that undo takes back."""
        return self.steps[self.done - 1] if self.done else None

    @property
    def next(self) -> Step | None:
        """The step that redo does again."""
        return self.steps[self.done] if self.done < len(self.steps) else None

    @property
    def is_saved(self) -> bool:
        """Whether the plan is as it was saved."""
        return self.saved == self.done

    def with_step(self, step: Step) -> "History":
        """Another step done; what was undone is gone. A drag that ends where it began leaves no step."""
        kept = self.steps[: self.done]
        saved = self.saved if self.saved is not None and self.saved <= self.done else None
        last = self.last
        if step.drag and last is not None and last.drag == step.drag and self.done == len(self.steps):
            saved = saved if saved != self.done else None
            if last.old == step.new:
                return History(kept[:-1], self.done - 1, saved)
            return History((*kept[:-1], replace(step, old=last.old)), self.done, saved)
        return History((*kept, step), self.done + 1, saved)

    def undone(self) -> "History":
        """One step fewer done."""
        return replace(self, done=max(self.done - 1, 0))

    def redone(self) -> "History":
        """One step more done."""
        return replace(self, done=min(self.done + 1, len(self.steps)))

    def marked_saved(self) -> "History":
        """The plan as it is now counts as saved."""
        return replace(self, saved=self.done)
