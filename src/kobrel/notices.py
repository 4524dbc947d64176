"""What goes wrong deep inside while other work goes on, to be told to the person soon, each thing once."""

import threading

_lock = threading.Lock()
_waiting: list[str] = []
_told: set[str] = set()


def tell(text: str) -> None:
    """Have a sentence told, unless it was already."""
    with _lock:
        if text not in _told:
            _told.add(text)
            _waiting.append(text)


def take() -> list[str]:
    """The sentences that wait to be told.

    >>> tell("One mesh stays as it was."), tell("One mesh stays as it was."), take(), take()
    (None, None, ['One mesh stays as it was.'], [])
    """
    with _lock:
        waiting = list(_waiting)
        _waiting.clear()
        return waiting
