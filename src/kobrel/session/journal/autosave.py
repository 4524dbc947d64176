"""Keeps the session's work on disk: every edit is there within a second, whatever happens then."""

import contextlib
import sys
import threading
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial
from pathlib import Path

from kobrel.errors import KobrelError, PlanError
from kobrel.files import is_file, reason, write_whole
from kobrel.plan.file import open_plan
from kobrel.session.document import Document
from kobrel.session.journal.file import Journal, Left, Work, is_held
from kobrel.session.journal.places import (
    SUFFIX,
    fresh_journal,
    journal_apart,
    journal_aside,
    journal_beside,
    keep_unread,
)
from kobrel.session.journal.reading import read_journal
from kobrel.session.session import Session

GATHER_S = 0.2
"""How long edits are gathered, such as those of a drag, before they are written together."""
_AGAIN_S = 3.0
_MOST_GROWN = 8 << 20


def find_left(
    folder: Path, plans: Iterable[Path] = (), leaving_out: Path | None = None
) -> tuple[list[Left], list[str]]:
    """What was left by Kobrels that ended without closing it, the latest first.

    Parameters
    ----------
    folder : of journals that are beside no plan
    plans : whose own folders are looked at too
    but : a plan that is just being opened, and looked at there

    Returns
    -------
    Unsaved work, and which journals cannot be read, for a person.
    """
    places = sorted(folder.glob(f"*{SUFFIX}")) if folder.is_dir() else []
    places += [place for plan in plans if is_file(place := journal_beside(plan))]
    found: list[Left] = []
    told: list[str] = []
    passed = () if leaving_out is None else (journal_beside(leaving_out), journal_apart(leaving_out, folder))
    for place in dict.fromkeys(places):
        if place in passed or is_held(place):
            continue
        try:
            left = read_journal(place)
        except KobrelError as error:
            told.append(_kept_unread(place, error))
            continue
        if left is None:
            forget(place)  # nothing was done
        elif not left.unsaved:
            if left.path is None and not left.told:
                forget(place)
        elif not _is_saved(left):
            found.append(left)
    return sorted(found, key=lambda left: -left.time), told


def _kept_unread(journal: Path, error: KobrelError) -> str:
    """What is said of a journal that cannot be read; it makes room for the next one, and stays."""
    return f"{error} It stays as {keep_unread(journal).name}."


def _is_saved(left: Left) -> bool:
    """Whether the work is as its plan's file: it was saved just before the end."""
    try:
        return left.path is not None and open_plan(left.path) == left.work.plan
    except KobrelError:
        return False


def left_of(path: Path, folder: Path) -> Left | None:
    """What was left of a plan, saved or not; None too where a Kobrel has it open.

    Raises
    ------
    PlanError
        Its journal cannot be read.
    """
    for place in (journal_beside(path), journal_apart(path, folder)):
        if is_file(place) and not is_held(place):
            try:
                left = read_journal(place)
            except PlanError as error:
                raise PlanError(_kept_unread(place, error)) from None
            if left is not None and left.told and not left.unsaved:
                keep_unread(place)  # the next journal would take its place
            if left is not None:
                return left
    return None


def put_aside(left: Left, folder: Path) -> Left:
    """The same, with its journal out of the way of the plan's next one.

    Raises
    ------
    OSError
        The folder takes no files; the journal stays where it is.
    """
    if left.journal.parent == folder and left.journal != journal_apart(left.path or Path(), folder):
        return left
    folder.mkdir(parents=True, exist_ok=True)
    place = journal_aside(left.path, folder)
    write_whole(place, left.journal.read_bytes())
    forget(left.journal)
    return replace(left, journal=place)


def forget(journal: Path) -> None:
    """Remove a journal, unless a Kobrel has it open."""
    if not is_held(journal):
        with contextlib.suppress(OSError):
            journal.unlink(missing_ok=True)


def done_with(left: Left) -> None:
    """The work goes on elsewhere: its journal goes, unless something in it could not be read."""
    if left.told:
        keep_unread(left.journal)
    else:
        forget(left.journal)


class Autosave:
    """Follows a session and writes its journal, in a thread of its own: nobody waits for the disk.

    Parameters
    ----------
    folder : for journals of what was never saved, and of plans whose own folder takes none
    told : called from that thread with a sentence when the journal cannot be written, when it can be
        again, and when another window has the plan open
    """

    def __init__(self, session: Session, folder: Path, told: Callable[[str], object]) -> None:
        self._session, self._folder, self._told = session, folder, told
        self._wake = threading.Condition()
        self._orders: deque[Callable[[], None]] = deque()
        self._wanted: Work | None = None
        self._picture = b""
        self._busy = self._hurry = self._closing = False
        self.broken = False
        # Of the thread alone:
        self._journal: Journal | None = None
        self._place: tuple[Path | None, str] = (None, "")
        self._apart = False
        self._thread = threading.Thread(target=self._run, name="kobrel-journal", daemon=True)
        self._thread.start()
        session.watch({Document.history}, self._follow)

    def begin(self, path: Path | None, source: str = "") -> None:
        """Keep the work on a plan, or on one that has no file yet; the journal of the last one goes."""
        self._order(partial(self._begin, path, source), drop=True)
        self._follow()

    def move(self, path: Path) -> None:
        """Keep the work beside this file from now on: it was saved there."""
        self._order(partial(self._move, path))
        self._follow()

    def end(self) -> None:
        """The work is saved, or given up: its journal goes."""
        self._order(partial(self._close, keep=False), drop=True)

    def show_picture(self, picture: bytes) -> None:
        """Keep how the work looks now, a JPEG."""
        with self._wake:
            self._picture = picture
            self._wake.notify_all()

    def flush(self, seconds: float = 2.0) -> bool:
        """Wait until all is on disk, but not for longer; whether it is."""
        with self._wake:
            self._hurry = True
            self._wake.notify_all()
            idle = self._wake.wait_for(lambda: self._is_idle() and not self._busy, seconds)
            self._hurry = False
            return idle and not self.broken

    def close(self) -> None:
        """Stop; what was not ended stays on disk."""
        self.flush()
        with self._wake:
            self._closing = True
            self._wake.notify_all()

    # In the session's thread

    def _order(self, order: Callable[[], None], drop: bool = False) -> None:
        with self._wake:
            if drop:
                self._wanted, self._picture = None, b""
            self._orders.append(order)
            self._wake.notify_all()

    def _follow(self) -> None:
        session = self._session
        if not session.history.steps:
            return
        with self._wake:
            self._wanted = Work(session.plan, session.history, session.shot_index, session.frame)
            self._wake.notify_all()

    # In the autosave's

    def _is_idle(self) -> bool:
        return not self._orders and self._wanted is None and not self._picture

    def _run(self) -> None:
        while True:
            with self._wake:
                self._busy = False
                self._wake.notify_all()
                self._wake.wait_for(lambda: self._closing or not self._is_idle())
                if self._closing:
                    return
                self._busy = True
                if not self._orders:
                    self._wake.wait_for(lambda: self._hurry or self._closing or bool(self._orders), GATHER_S)
                order = self._orders.popleft() if self._orders else None
                work, picture = None, b""
                if order is None:
                    work, self._wanted, picture, self._picture = self._wanted, None, self._picture, b""
            try:
                order() if order is not None else self._write(work, picture)
            except OSError as error:
                self._fail(work, error)
            except Exception:  # the thread must outlive any fault: later edits are to be kept
                self.broken = True
                sys.excepthook(*sys.exc_info())

    def _begin(self, path: Path | None, source: str) -> None:
        self._close(keep=False)
        self._place, self._apart = (path, source), False
        if path is not None:
            try:
                self._journal = Journal(journal_beside(path))  # tells other windows that the plan is open
            except BlockingIOError:
                self._apart = True
                self._told(
                    f"{path.name} is open in another window. The last save wins: close one, or save "
                    "here under another name."
                )
            except OSError:
                return  # a folder that takes no files; tried again, elsewhere, with the first edit

    def _move(self, path: Path) -> None:
        if path != self._place[0]:
            self._begin(path, str(path))

    def _close(self, keep: bool) -> None:
        if self._journal is not None:
            with contextlib.suppress(OSError):
                self._journal.close(keep)
        self._journal = None

    def _write(self, work: Work | None, picture: bytes) -> None:
        if self._journal is None:
            self._journal = self._opened()
        journal = self._journal
        written = journal.written
        if work is not None:
            goes_on = written is not None and written.first is work.first
            saved = written is not None and written.history.saved != work.history.saved
            if not goes_on or saved or journal.size > _MOST_GROWN:
                journal.begin(work, *self._place)
            else:
                journal.add(work)
        if picture and journal.written is not None:
            journal.add_picture(picture)
        if self.broken:
            self.broken = False
            self._told("Autosave is working again.")

    def _opened(self) -> Journal:
        """A journal where it belongs, or else where one can be written."""
        path, _source = self._place
        if path is not None and not self._apart:
            with contextlib.suppress(OSError):
                return Journal(journal_beside(path))
        self._folder.mkdir(parents=True, exist_ok=True)
        if path is not None and not self._apart:
            with contextlib.suppress(BlockingIOError):
                return Journal(journal_apart(path, self._folder))
        return Journal(fresh_journal(self._folder) if path is None else journal_aside(path, self._folder))

    def _fail(self, work: Work | None, error: OSError) -> None:
        """Tell it once, and try again with the next edit or after a while, where it can be written then."""
        if isinstance(error, FileNotFoundError):
            self._journal = None  # its folder went away
        if not self.broken:
            self.broken = True
            self._told(f"Autosave failed ({reason(error)}). Save the plan elsewhere.")
        with self._wake:
            if self._wanted is None and not self._orders:
                self._wanted = work
            self._busy = False
            self._wake.notify_all()
            self._wake.wait_for(lambda: self._closing or bool(self._orders), _AGAIN_S)
