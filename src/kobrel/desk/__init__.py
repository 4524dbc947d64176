"""The window: Qt Widgets around the core."""

# Qt's import hook reads the source of every module that is imported after it: what needs no Qt comes before.
from kobrel.session import open_file, session, store
from kobrel.session.commands import blocking, briefing, lens_choice, pulling, shaping, shot_list, taping
from kobrel.session.recording import focus

__all__ = [
    "blocking",
    "briefing",
    "focus",
    "lens_choice",
    "open_file",
    "pulling",
    "session",
    "shaping",
    "shot_list",
    "store",
    "taping",
]
