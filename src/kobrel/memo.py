"""Remembering what was worked out, by one rule of what counts as the same.

Plain values (numbers, text, None and tuples of them) are the same if they are equal. All else, such
as a plan, a stage or an array, is the same only if it is the very same object: an edit keeps every
value that it leaves alone, so identity tells at once what still holds.
"""

from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

from cachetools import LRUCache

T = TypeVar("T")
Parts = tuple[object, ...]

_PLAIN = (int, float, str, bytes, frozenset, type(None))


def same(one: object, other: object) -> bool:
    """Whether two values count as the same.

    >>> same((1, "a"), (1, "a")), same([], [])
    (True, False)
    """
    if one is other:
        return True
    if isinstance(one, tuple) and isinstance(other, tuple):
        return len(one) == len(other) and all(map(same, one, other))
    return isinstance(one, _PLAIN) and isinstance(other, _PLAIN) and one == other


class Memo(Generic[T]):
    """Keeps the last result, with the parts that it was made from.

    >>> memo = Memo[int]()
    >>> memo.get((2, 3), lambda: 2 * 3), memo.get((2, 3), lambda: 0)
    (6, 6)
    """

    def __init__(self) -> None:
        self._kept: tuple[Parts, T] | None = None

    def get(self, parts: Parts, make: Callable[[], T]) -> T:
        """The result for these parts: the kept one, or else a new one."""
        if self._kept is None or not same(self._kept[0], parts):
            self._kept = parts, make()
        return self._kept[1]

    def put(self, parts: Parts, result: T) -> None:
        """Keep a result that was made elsewhere."""
        self._kept = parts, result

    def holds(self, parts: Parts) -> bool:
        """Whether the kept result is of these parts."""
        return self._kept is not None and same(self._kept[0], parts)

    @property
    def last(self) -> T | None:
        """The last result, whatever it was made from."""
        return self._kept[1] if self._kept else None

    def forget(self) -> None:
        """Keep nothing."""
        self._kept = None


class Memos(Generic[T]):
    """A :class:`Memo` for each of several things, by name; the longest unused go first."""

    def __init__(self, most: int = 1000) -> None:
        self._memos: LRUCache[Hashable, Memo[T]] = LRUCache(most)

    def of(self, name: Hashable) -> Memo[T]:
        """The memo of one thing."""
        memo: Memo[T] = self._memos.setdefault(name, Memo())
        return memo

    def get(self, name: Hashable, parts: Parts, make: Callable[[], T]) -> T:
        """The result for one thing: see :meth:`Memo.get`."""
        return self.of(name).get(parts, make)

    def forget(self) -> None:
        """Keep nothing."""
        self._memos.clear()


class Changed:
    """Tells whether parts are others than when it was last asked.

    >>> changed = Changed()
    >>> changed(1, "a"), changed(1, "a"), changed(2, "a")
    (True, False, True)
    """

    def __init__(self) -> None:
        self._memo = Memo[Any]()

    def __call__(self, *parts: object) -> bool:
        """Whether they changed; from now on these count."""
        if self._memo.holds(parts):
            return False
        self._memo.put(parts, None)
        return True

    def forget(self) -> None:
        """The next parts count as others."""
        self._memo.forget()
