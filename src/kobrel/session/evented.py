"""Values in rooms: read and set like attributes, set together where they belong together, told of once."""

import sys
import weakref
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from types import MethodType
from typing import Any, Generic, NamedTuple, Never, Self, TypeVar, overload

from psygnal import Signal

from kobrel.memo import same

T = TypeVar("T")


class Field(Generic[T]):
    """A value of a room, which anybody may set.

    Parameters
    ----------
    start : the value that it has at first
    """

    def __init__(self, start: T) -> None:
        self._start = start

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    def __repr__(self) -> str:
        return self.name

    @property
    def start(self) -> T:
        """The value that it has at first."""
        return self._start

    def to(self, value: T) -> "Change":
        """The change to another value, for :meth:`Values.set`."""
        return Change(self, value)

    @overload
    def __get__(self, room: None, owner: type) -> Self: ...
    @overload
    def __get__(self, room: "Room", owner: type) -> T: ...
    def __get__(self, room: "Room | None", owner: type) -> Any:
        return self if room is None else room.values[self]

    def __set__(self, room: "Room", value: T) -> None:
        room.values.set(self.to(value))


class OwnField(Field[T]):
    """A value that only the methods of its room set."""

    def __set__(self, room: "Room", value: Never) -> None:  # type: ignore[override]  # that is the point
        raise AttributeError(f"{self.name} is changed by methods of the session and by commands")


class MadeField(OwnField[T]):
    """A value whose first one is made for each room, not while the module loads.

    Parameters
    ----------
    make : makes the value
    """

    def __init__(self, make: Callable[[], T]) -> None:
        self._make = make

    @property
    def start(self) -> T:
        """A new first value."""
        return self._make()


AnyField = Field[Any]


class Change(NamedTuple):
    """Another value of a field."""

    field: AnyField
    value: object


Fields = frozenset[AnyField]
"""Fields that changed."""


class Values:
    """The values of several rooms. A change of any number of them is one event, after all of them are set.

    Events
    ------
    changed : the fields that changed. A change made by a listener is told after the one that it listens to
        has been told to everybody.
    """

    changed = Signal(frozenset, reemission="queued")

    def __init__(self) -> None:
        self._values: dict[AnyField, Any] = {}

    def add(self, room: type) -> None:
        """Have the fields of a kind of room, with their first values."""
        for owner in reversed(room.__mro__):
            self._values |= {field: field.start for field in vars(owner).values() if isinstance(field, Field)}

    def __getitem__(self, field: Field[T]) -> T:
        value: T = self._values[field]
        return value

    def set(self, *changes: Change) -> None:
        """Set fields and tell which of them changed, if any did; the last change of a field counts."""
        last = dict(changes)
        made = {field: value for field, value in last.items() if not same(self._values[field], value)}
        if made:
            self._values.update(made)
            self.changed.emit(frozenset(made))

    @contextmanager
    def as_one(self) -> Iterator[None]:
        """All changes made meanwhile are one event."""
        with self.changed.paused(lambda one, other: (one[0] | other[0],)):
            yield

    def watch(self, fields: Iterable[AnyField], told: Callable[[], object]) -> Callable[[], object]:
        """Call `told` after any of these fields changed; what is returned ends that.

        A bound method is held weakly: its object may go without being forgotten here.

        Raises
        ------
        KeyError
            A field is of no room here.
        """
        wanted = frozenset(fields)
        for field in wanted:
            self._values[field]
        find: Callable[[], Callable[[], object] | None] = (
            weakref.WeakMethod(told) if isinstance(told, MethodType) else lambda: told
        )

        def check(changed: Fields) -> None:
            if not changed & wanted or (call := find()) is None:
                return
            try:
                call()
            except Exception:  # one broken view must not keep the others from hearing of it
                sys.excepthook(*sys.exc_info())

        self.changed.connect(check)
        return lambda: self.changed.disconnect(check, missing_ok=True)


class Room:
    """Values of one concern, among those of other rooms."""

    def __init__(self, values: Values) -> None:
        self.values = values
        values.add(type(self))
