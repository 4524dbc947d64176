"""The window: Qt Widgets around the core."""

# Qt's import hook reads the source of every module that is imported after it: what needs no Qt comes before.
from kobrel.session import open_file, perform, session, store
from kobrel.session.commands import blocking, briefing, lens_choice, pulling, shaping, shot_list, taping

__all__ = [
    "blocking",
    "briefing",
    "lens_choice",
    "open_file",
    "perform",
    "pulling",
    "session",
    "shaping",
    "shot_list",
    "store",
    "taping",
]
