"""Files that a plan keeps up to date: which of them may be written, and writing those that changed.

A plan may come from anybody. What it names to be written is therefore held against what the person allowed:
folders, by plan, and files there that Kobrel did not write itself. Reading is another permission, see
:mod:`kobrel.trust`.
"""

import os
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import kobrel
from kobrel.errors import ExchangeError, KobrelError
from kobrel.exchange.export import KINDS, SheetChoices, export, options_of, shots_of
from kobrel.exchange.writing.whole import not_written, replaced_if_changed
from kobrel.files import real_place
from kobrel.plan.export import UpdatedFile
from kobrel.plan.model import Plan
from kobrel.plan.values.own import CustomValues
from kobrel.stage.scene import Cancelled, Progress, no_progress
from kobrel.stage.stage import Stage

_PLAIN_SHEET = SheetChoices()
_SYSTEM = tuple(map(Path, ("/etc", "/usr", "/bin", "/sbin", "/lib", "/boot", "/dev", "/proc", "/sys")))


@dataclass(frozen=True)
class Allowance:
    """What a plan may write.

    Parameters
    ----------
    folders : in which it may write files, as they really are (links followed)
    written : files that Kobrel wrote, with their :func:`state_of` then; these may be written over
    """

    folders: frozenset[Path] = frozenset()
    written: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Asked:
    """What a plan wants to write and may not yet.

    Parameters
    ----------
    new : files in folders where it may not write yet
    replaced : files that are there already, and were not written by Kobrel
    """

    new: tuple[Path, ...] = ()
    replaced: tuple[Path, ...] = ()

    @property
    def folders(self) -> frozenset[Path]:
        """The folders of all of them."""
        return frozenset(path.parent for path in (*self.new, *self.replaced))


@dataclass(frozen=True)
class Upkept:
    """What became of the files.

    Parameters
    ----------
    written : those that changed
    told : what went wrong, in sentences
    """

    written: tuple[Path, ...]
    told: tuple[str, ...]


def asked(plan: Plan, allowance: Allowance) -> Asked:
    """What has to be asked before a plan's files are written; those that are never written are left out."""
    new: list[Path] = []
    replaced: list[Path] = []
    for out in plan.handed:
        if fault_of(out):
            continue
        path = real_path(out)
        state = state_of(path)
        if state and state != allowance.written.get(str(path)):
            replaced.append(path)
        elif path.parent not in allowance.folders:
            new.append(path)
    return Asked(tuple(dict.fromkeys(new)), tuple(dict.fromkeys(replaced)))


def state_of(path: Path) -> str:
    """What tells one state of a file from another, its size and time; "" if it is not there."""
    try:
        found = path.stat()
    except (OSError, ValueError):
        return ""
    return f"{found.st_size} {found.st_mtime_ns}"


def real_path(out: UpdatedFile) -> Path:
    """Where a file really is written, links followed."""
    return real_place(Path(out.path))


def fault_of(out: UpdatedFile) -> str:
    """Why a file is never written, whoever asks for it; "" if it may be.

    >>> fault_of(UpdatedFile(kind="csv", path="/home/ada/.bashrc"))
    'its name must end in .csv.'
    >>> fault_of(UpdatedFile(kind="csv", path="/home/ada/.config/frames.csv"))
    'hidden files and folders are not written in.'
    """
    path = real_path(out)
    endings = KINDS[out.kind].endings
    if path.suffix.lower() not in endings:
        return f"its name must end in {' or '.join(endings)}."
    if any(part.startswith(".") for part in path.parts):
        return "hidden files and folders are not written in."
    if any(path.is_relative_to(folder) for folder in _kept_out()):
        return "folders of settings, of the system and of Kobrel are not written in."
    return ""


def _kept_out() -> tuple[Path, ...]:
    """Folders in which no plan writes anything."""
    from platformdirs import user_cache_path, user_config_path, user_data_path, user_state_path

    own = Path(kobrel.__file__).resolve().parent
    persons = (user_config_path(), user_data_path(), user_state_path(), user_cache_path())
    return (own, *_SYSTEM, *(real_place(folder) for folder in persons))


def keep_up(
    plan: Plan,
    stage: Stage,
    allowance: Allowance,
    owns: Sequence[CustomValues] = (),
    progress: Progress = no_progress,
    sheet: SheetChoices = _PLAIN_SHEET,
) -> Upkept:
    """Write the plan's files anew that are kept up to date, if they changed; an earlier version stays.

    Parameters
    ----------
    allowance : what it may write; all else is told and left alone
    owns : custom values that are known here
    sheet : what is on sheets besides the shots

    Raises
    ------
    Cancelled
        `progress` said so; files that were finished stay.
    """
    written: list[Path] = []
    told: list[str] = []
    waiting = asked(plan, allowance)
    for number, out in enumerate(plan.handed):

        def tell(_what: str, part: float, name: str = Path(out.path).name, before: int = number) -> None:
            progress(f"Handing over {name}", (before + part) / len(plan.handed))

        tell("", 0.0)
        try:
            _require_allowed(out, waiting)
            if _written(plan, stage, out, owns, sheet, tell):
                written.append(real_path(out))
        except Cancelled:
            raise
        except KobrelError as error:
            told.append(str(error) if out.path in str(error) else f"{out.path}: {error}")
    return Upkept(tuple(written), tuple(told))


def _require_allowed(out: UpdatedFile, waiting: Asked) -> None:
    """See that a file may be written.

    Raises
    ------
    ExchangeError
        It may not.
    """
    fault = fault_of(out)
    if fault:
        raise ExchangeError(fault, file=out.path, remedy="Choose another file in Export, Files.")
    path = real_path(out)
    if path in waiting.replaced:
        raise ExchangeError("Kobrel did not write what is there; it stays.", file=path)
    if path in waiting.new:
        raise ExchangeError("this plan was not allowed to write there.", file=path)


def _written(
    plan: Plan,
    stage: Stage,
    out: UpdatedFile,
    owns: Sequence[CustomValues],
    sheet: SheetChoices,
    progress: Progress,
) -> bool:
    """Write one file if it changed, and say whether it did."""
    target = real_path(out)
    shots = shots_of(plan, out)
    options = options_of(plan, stage, out, owns, sheet)
    if not os.path.isdir(target.parent):
        raise ExchangeError(f"cannot be written, no such folder: {target.parent}.", file=target)
    try:
        with tempfile.TemporaryDirectory(prefix=".kobrel", dir=target.parent) as folder:
            fresh = Path(folder) / target.name
            export(plan, shots[0], stage, out.kind, fresh, options, progress)
            return replaced_if_changed(fresh, target, versions=1)
    except OSError as error:
        raise not_written(error, target) from None
