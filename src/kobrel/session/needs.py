"""What commands need: without it they do nothing, so that an empty plan is no case of its own."""

from collections.abc import Callable
from functools import wraps
from typing import Concatenate, ParamSpec, TypeVar

from kobrel.plan.model import Shot
from kobrel.session.numbers import Now
from kobrel.session.session import Session

P = ParamSpec("P")
T = TypeVar("T")
N = TypeVar("N")


def needs(
    find: Callable[[Session], N | None],
) -> Callable[[Callable[Concatenate[Session, N, P], T]], Callable[Concatenate[Session, P], T | None]]:
    """Make a command of a function whose second argument is found by itself.

    The command is called without it. Where there is none it does nothing and returns None.
    """

    def made(command: Callable[Concatenate[Session, N, P], T]) -> Callable[Concatenate[Session, P], T | None]:
        @wraps(command)
        def call(session: Session, /, *args: P.args, **kwargs: P.kwargs) -> T | None:
            found = find(session)
            return None if found is None else command(session, found, *args, **kwargs)

        return call

    return made


def _shot(session: Session) -> Shot | None:
    return session.shot


needs_shot = needs(_shot)
"""A command on the shot in work, which is its second argument."""


def _now(session: Session) -> Now | None:
    return session.now


needs_now = needs(_now)
"""A command on the shot in work at its frame: its second argument is a :class:`Now`."""
