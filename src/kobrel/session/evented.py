"""Values that are set together and told of once."""

import sys
import weakref
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from types import MethodType
from typing import Any, Generic, Self, TypeVar, overload

from psygnal import Signal

from kobrel.memo import same

T = TypeVar("T")
Changes = frozenset[str]
"""Names of the fields that changed."""


class Field(Generic[T]):
    """A value of an :class:`Evented` object: read like an attribute, set only by the object itself.

    Parameters
    ----------
    start : the value that it has at first
    """

    def __init__(self, start: T) -> None:
        self.start = start

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    @overload
    def __get__(self, instance: None, owner: type) -> Self: ...
    @overload
    def __get__(self, instance: object, owner: type) -> T: ...
    def __get__(self, instance: Any, owner: type) -> Any:
        return self if instance is None else instance._values[self.name]

    def __set__(self, instance: Any, value: T) -> None:
        raise AttributeError(f"{self.name} is changed by the session's own methods and commands")


class MadeField(Field[T]):
    """A field whose first value is made for each object, not while the module loads.

    Parameters
    ----------
    make : makes the value
    """

    def __init__(self, make: Callable[[], T]) -> None:
        self._make = make

    @property
    def start(self) -> T:  # type: ignore[override]
        """A new first value."""
        return self._make()


class Evented:
    """An object with fields. A change of any number of them is one event, after all of them are set.

    Events
    ------
    changed : names of the fields that changed. A change made by a listener is told after the one that
        it listens to has been told to everybody.
    """

    changed = Signal(frozenset, reemission="queued")

    def __init__(self) -> None:
        self._values = {
            name: field.start
            for owner in reversed(type(self).__mro__)
            for name, field in vars(owner).items()
            if isinstance(field, Field)
        }

    def _set(self, **values: object) -> None:
        """Set fields and tell which of them changed, if any did."""
        changes = frozenset(name for name, value in values.items() if not same(self._values[name], value))
        if changes:
            self._values.update(values)
            self.changed.emit(changes)

    @contextmanager
    def as_one(self) -> Iterator[None]:
        """All changes made meanwhile are one event."""
        with self.changed.paused(lambda one, other: (one[0] | other[0],)):
            yield

    def watch(self, fields: Iterable[str], told: Callable[[], object]) -> Callable[[], object]:
        """Call `told` after any of these fields changed; what is returned ends that.

        A bound method is held weakly: its object may go without being forgotten here.

        Raises
        ------
        KeyError
            There is no such field.
        """
        wanted = frozenset(fields)
        for name in wanted:
            self._values[name]
        find: Callable[[], Callable[[], object] | None] = (
            weakref.WeakMethod(told) if isinstance(told, MethodType) else lambda: told
        )

        def check(changes: Changes) -> None:
            if not changes & wanted or (call := find()) is None:
                return
            try:
                call()
            except Exception:  # one broken view must not keep the others from hearing of it
                sys.excepthook(*sys.exc_info())

        self.changed.connect(check)
        return lambda: self.changed.disconnect(check, missing_ok=True)
