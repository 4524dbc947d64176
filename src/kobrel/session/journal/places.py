"""Where journals lie, and which plan each belongs to: what a journal says of that itself is not believed."""

import contextlib
import hashlib
import time
from pathlib import Path

from kobrel.files import beside_name
from kobrel.plan.model import SUFFIX as PLAN

SUFFIX = ".journal"


def journal_beside(path: Path) -> Path:
    """Where the journal of a plan is kept.

    >>> journal_beside(Path("ferry.kobrel")).name
    '.ferry.kobrel.journal'
    """
    return beside_name(path, ".", SUFFIX)


def journal_apart(path: Path, folder: Path) -> Path:
    """Where the journal of a plan is kept whose own folder takes none."""
    return folder / f"{_digest(path)}{SUFFIX}"


def fresh_journal(folder: Path) -> Path:
    """A place for the journal of a plan that has no file."""
    return folder / f"{time.time_ns():x}{SUFFIX}"


def journal_aside(path: Path | None, folder: Path) -> Path:
    """A place for a journal of a plan that has another one; its name says which plan it is of."""
    return folder / f"{time.time_ns():x}-{'' if path is None else _digest(path)}{SUFFIX}"


def owner_of(journal: Path, said: Path | None) -> Path | None:
    """The plan that a journal belongs to: the one beside it, or one whose digest is in its name, or none.

    Parameters
    ----------
    said : the plan's path as the journal has it; None if it could not be read

    >>> owner_of(Path("/in/.a.kobrel.journal"), Path("/home/ada/b.kobrel"))
    PosixPath('/in/a.kobrel')
    """
    if journal.name.startswith("."):
        named = [journal.name[1 : -len(SUFFIX)], *([] if said is None else [said.name])]
        for name in named:
            plan = journal.with_name(name)
            if name.endswith(PLAN) and journal_beside(plan) == journal:
                return plan
        return None
    return said if said is not None and journal.stem.rpartition("-")[2] == _digest(said) else None


def source_of(journal: Path, owner: Path | None, said: str) -> str:
    """What was opened: the plan itself, or what the journal of a plan without a file says."""
    if owner is not None:
        return str(owner)
    return "" if journal.name.startswith(".") or "-" in journal.stem else said


def keep_unread(journal: Path) -> Path:
    """Rename a journal that cannot be read, so that no other is written over it; where it lies then."""
    kept = beside_name(journal, "", f".unread-{time.time_ns():x}")
    with contextlib.suppress(OSError):
        journal.rename(kept)
        return kept
    return journal


def _digest(path: Path) -> str:
    return hashlib.sha256(str(path).encode("utf-8", "replace")).hexdigest()[:24]
