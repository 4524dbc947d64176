"""Turns between the window and the work beside it.

Threads that draw want the processors that the window wants too. Between two pieces of work they ask the
window's loop for a turn: it comes at once where the loop waits for events, else when it has done what it is
at, or after a moment.
"""

import contextlib
import os
import threading
import time
from collections.abc import Callable

Post = Callable[[Callable[[], object]], object]
"""Has a loop call a function when it is free, without waiting for it."""

AT_MOST_S = 0.05
_EVERY_S = 0.008
_NICE = 10


class Turns:
    """Asks a loop for turns; without a loop nothing waits.

    >>> turns = Turns()
    >>> turns.needed()
    False
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._post: Post | None = None
        self._thread = 0
        self._turn, self._next = _given(), 0.0

    def ask(self, post: Post) -> None:
        """Ask the loop of the thread that calls this from now on."""
        with self._lock:
            self._post, self._thread = post, threading.get_ident()
            self._turn, self._next = _given(), 0.0

    def leave(self, post: Post) -> None:
        """Ask a loop no more, if it is the one that is asked."""
        if self._post == post:
            self._post = None

    def needed(self) -> bool:
        """Whether what this thread has done by others shall wait: not where the loop itself waits for it."""
        return self._post is not None and threading.get_ident() != self._thread

    def wait(self) -> None:
        """Wait for a turn, for :data:`AT_MOST_S` at the most; a turn lasts some milliseconds."""
        post = self._post
        if post is None or threading.get_ident() == self._thread:
            return
        with self._lock:
            asks = self._turn.is_set() and time.monotonic() >= self._next
            if asks:
                self._turn = threading.Event()
            turn = self._turn
        if asks:
            post(turn.set)
        if not turn.wait(AT_MOST_S):
            return
        with self._lock:
            self._next = time.monotonic() + _EVERY_S


def _given() -> threading.Event:
    turn = threading.Event()
    turn.set()
    return turn


TURNS = Turns()
"""The window's, if there is one."""


def give_way() -> None:
    """Let the window's own thread come before this one, and before those that it starts."""
    with contextlib.suppress(AttributeError, OSError):  # priorities of threads are Linux's own
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICE)
