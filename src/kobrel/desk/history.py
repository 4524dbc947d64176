"""The way back: an edit as a step that can be undone."""

from typing import TYPE_CHECKING

from PySide6.QtGui import QUndoCommand, QUndoStack

from kobrel.plan.model import Plan

if TYPE_CHECKING:
    from kobrel.desk.session import Session


class Change(QUndoCommand):
    """From one plan to another; those of one drag merge."""

    def __init__(self, session: "Session", name: str, old: Plan, new: Plan, drag: int) -> None:
        super().__init__(name)
        self._session, self._old, self._new, self._drag = session, old, new, drag

    @property
    def old(self) -> Plan:
        """The plan before it."""
        return self._old

    def redo(self) -> None:
        self._session.put(self._new)

    def undo(self) -> None:
        self._session.put(self._old)

    def id(self) -> int:
        return self._drag or -1

    def mergeWith(self, other: QUndoCommand) -> bool:
        if not isinstance(other, Change) or other._drag != self._drag:
            return False
        self._new = other._new
        self.setText(other.text())
        return True


def last_change(stack: QUndoStack) -> Change | None:
    """The step that undo would take back."""
    command = stack.command(stack.index() - 1) if stack.index() > 0 else None
    return command if isinstance(command, Change) else None


def same(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    """Whether two keys hold the very same things."""
    plain = (int, float, str)
    return all(a is b or (isinstance(a, plain) and a == b) for a, b in zip(one, other, strict=True))
