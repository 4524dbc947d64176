"""Which folders files may name others in: those that a person has opened something in, or allowed."""

import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

_OWN = Path(__file__).resolve().parent
_ALLOWED: set[Path] = {_OWN}
_REFUSED: dict[Path, None] = {}
_NOTED: list[dict[Path, None]] = []


def allow(folders: Iterable[Path | str]) -> None:
    """Let files name others in these folders and below, as long as this process runs."""
    _ALLOWED.update(Path(folder).resolve() for folder in folders)


def allowed() -> list[Path]:
    """The folders that files may name others in now."""
    return sorted(_ALLOWED)


def is_allowed(path: Path | str, beside: Path | None = None) -> bool:
    """Whether a file may be read that another names; links count as what they lead to.

    Parameters
    ----------
    beside : folder of the file that names it, which is allowed too

    >>> is_allowed("/a/b/c.png", Path("/a/b")), is_allowed("/a/b/../c.png", Path("/a/b"))
    (True, False)
    """
    try:
        found = Path(path).resolve()
    except (OSError, ValueError, RuntimeError):
        return False
    own = () if beside is None else (beside.resolve(),)
    if any(found.is_relative_to(folder) for folder in (*own, *_ALLOWED)):
        note(path)
        return True
    _REFUSED[found.parent] = None
    return False


def note(path: Path | str) -> None:
    """Count a file as one that another names, for whoever is :func:`noting`."""
    for noted in _NOTED:
        noted[Path(os.path.abspath(path))] = None


@contextmanager
def noting() -> Iterator[dict[Path, None]]:
    """All that is asked for and allowed meanwhile, by any thread: what files name, and they themselves."""
    noted: dict[Path, None] = {}
    _NOTED.append(noted)
    try:
        yield noted
    finally:
        _NOTED.remove(noted)


def refusal(path: Path | str) -> str:
    """What is said of a file that may not be read."""
    try:
        folder = Path(path).resolve().parent
    except (OSError, ValueError, RuntimeError):  # a link that leads to itself
        return "it leads nowhere."
    return f"it lies in another folder. Allow {folder} to read it."


def take_refused() -> list[Path]:
    """The folders that something was refused in since this was last asked."""
    folders = [folder for folder in _REFUSED if not is_allowed(folder / "x")]
    _REFUSED.clear()
    return folders
