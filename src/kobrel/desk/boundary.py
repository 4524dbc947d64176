"""The boundary to Qt: no exception of Python goes through it.

Qt calls methods that Kobrel's widgets override. An exception that leaves one of them stays set while Qt goes
on and calls the next, which may end the program with a signal. So every class with such methods is
:func:`guarded` (a test holds it): what they raise is told, and Qt's own method does the work in their place.
"""

import functools
import inspect
import sys
from collections.abc import Callable
from typing import Any, TypeVar

from PySide6.QtWidgets import QWidget
from shiboken6 import Shiboken

T = TypeVar("T", bound=type)


def guarded(cls: T) -> T:
    """Let no method of a class that Qt calls raise."""
    for name in overridden(cls):
        setattr(cls, name, _guarded(cls, name, vars(cls)[name]))
    return cls


def overridden(cls: type) -> list[str]:
    """The methods of a class that take the place of Qt's own; of a class beside Qt's, its events.

    >>> from PySide6.QtWidgets import QLabel
    >>> class Words(QLabel):
    ...     def paintEvent(self, event): ...
    ...     def paint_words(self): ...
    >>> overridden(Words)
    ['paintEvent']
    """
    kinds = [base for base in cls.__mro__ if base.__module__.startswith("PySide6")]
    names = [
        name for name, made in vars(cls).items() if inspect.isfunction(made) and not hasattr(object, name)
    ]
    if not kinds:
        return [name for name in names if name.endswith(("Event", "eventFilter")) and hasattr(QWidget, name)]
    return [name for name in names if any(hasattr(kind, name) for kind in kinds)]


def is_guarded(cls: type, name: str) -> bool:
    """Whether a method of a class is guarded."""
    return getattr(vars(cls)[name], "is_guarded", False)


def _guarded(cls: type, name: str, method: Callable[..., Any]) -> Callable[..., Any]:
    code = method.__code__
    most = None if code.co_flags & inspect.CO_VARARGS else code.co_argcount - 1

    @functools.wraps(method)
    def call(self: Any, *arguments: Any, **named: Any) -> Any:
        arguments = arguments[:most]  # a signal may have more to say than its slot takes
        try:
            return method(self, *arguments, **named)
        except Exception:
            sys.excepthook(*sys.exc_info())
        if not Shiboken.isValid(self):
            return None
        try:
            return getattr(super(cls, self), name)(*arguments, **named)
        except (AttributeError, NotImplementedError):  # Qt has nothing to fall back on
            return None

    call.is_guarded = True  # type: ignore[attr-defined]
    return call
