"""Runs a job on a farm: gives out its items, a few at a time, and writes what comes back, each once.

Only this process writes files. A worker that dies, a scheduler that is started anew or a slow worker change
when an item arrives, never what it is.
"""

import errno
import statistics
import time
import uuid
from collections import Counter, deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Any

from platformdirs import user_state_path

from kobrel.errors import ExchangeError, KobrelError
from kobrel.exchange.movie import picture_path
from kobrel.exchange.writing.checks import require_whole
from kobrel.farm import remote
from kobrel.farm.bundle import Bundle
from kobrel.farm.cluster import Farm
from kobrel.farm.finish import finish_movie
from kobrel.farm.making import Item, Made, bands_of, can_be_split, items_of
from kobrel.farm.record import Record
from kobrel.farm.report import Report, Want
from kobrel.farm.versions import versions
from kobrel.stage.scene import Cancelled

MOST_TRIES = 3
"""How often an item is tried that fails by a fault."""
PATIENCE_S = 600.0
"""How long a scheduler that is gone is waited for."""
WHOLE = "whole"
"""In the record: what was put together from all items."""
_MOST_LACKED = 8
_BROKEN = (OSError, RuntimeError, TimeoutError, ValueError)
"""What dask raises while the way to a scheduler breaks."""
_FETCH_S = 15.0
"""How long what a worker made may be on its way, before it is made elsewhere."""
_LOOK_S, _SLOTS_S = 0.25, 2.0
_SLOW, _SLOW_S = 4.0, 5.0
_ENOUGH_KNOWN = 3


@dataclass
class _Out:
    """An item that was given out."""

    item: Item
    futures: list[Any]
    since: float
    begun: bool = False
    again: bool = False


def job_folder(bundle: Bundle) -> Path:
    """Where the record of a job is kept, and what is put together in the end."""
    return user_state_path("kobrel") / "farm" / bundle.key[:32]


class Run:
    """One run of a job.

    Parameters
    ----------
    bundle : what it is made from
    reach : gives a farm; called again where a scheduler was lost
    told : told how far it is, some times a second
    wanted : whether to go on
    force : whether files that are there from elsewhere are written over
    skip_existing : whether frames whose files are there and whole count as made, whoever made them
    """

    def __init__(
        self,
        bundle: Bundle,
        reach: Callable[[], Farm],
        told: Callable[[Report], object] = lambda _report: None,
        wanted: Callable[[], Want] = lambda: "go",
        force: bool = False,
        folder: Path | None = None,
        skip_existing: bool = False,
    ) -> None:
        self.bundle, self._reach, self._tell, self._wanted = bundle, reach, told, wanted
        self.work, self.plan = bundle.made_of
        self.items = items_of(self.work, self.plan)
        self._folder = folder or job_folder(bundle)
        self._places = self._folder / "frames" if self.work.kind == "movie" else self.work.folder
        shared = "" if self.work.kind in ("movie", "sheet") else bundle.of_frames
        self._record = Record(self._folder / "made.jsonl", self._places, shared, bundle.sources)
        self._force, self._skips = force, skip_existing
        self._ticket = remote.Ticket(bundle.key, versions(), uuid.uuid4().hex)
        self._arrived: SimpleQueue[tuple[str, Any]] = SimpleQueue()
        self._started: set[str] = set()
        self._retried = 0
        self._out: dict[str, _Out] = {}
        self._tries: Counter[str] = Counter()
        self._lacked: Counter[str] = Counter()
        self._why: dict[str, str] = {}
        self._took: deque[float] = deque(maxlen=200)
        self._by_worker: Counter[str] = Counter()
        self._farm: Farm | None = None
        self._slots: dict[str, int] = {}
        self._slots_at = 0.0
        self.report = Report(total=len(self.items))

    # The whole

    def run(self) -> Report:
        """Make everything that is missing.

        Raises
        ------
        KobrelError
            Items failed for good, files are in the way, nobody answers, or a file cannot be written; what was
            made stays.
        Cancelled
            `wanted` said so; what was made stays.
        """
        there = self._record.there()
        if WHOLE in there:
            there = {item.key for item in self.items}
        if self._skips:
            there |= self._found_whole(there)
        self._check_free()
        waiting = deque(item for item in self.items if item.key not in there)
        found = len(self.items) - len(waiting)
        self._say(made=found, found=found)
        begun = time.monotonic()
        try:
            while waiting or self._out:
                if self._farm is None:
                    self._farm = self._reached()
                try:
                    self._give_out(waiting)
                    self._take(waiting)
                    self._help_slow()
                except _BROKEN:
                    time.sleep(_SLOTS_S)  # until dask knows it too
                    if self._farm is None or self._farm.is_alive:
                        raise
                    self._lose(waiting)
                seconds = time.monotonic() - begun
                self._say(
                    seconds=seconds, left_s=self._left(len(waiting) + len(self._out), seconds),
                    running=tuple(key for key, out in self._out.items() if out.begun),
                    retried=self._retried,
                    workers=dict(self._by_worker),
                )  # fmt: skip
        finally:
            self._drop()
        if self._why:
            raise self._failure()
        self._check_kept()
        if self.work.kind == "movie" and WHOLE not in self._record.there():
            finish_movie(self.work, self.plan, self.items, self._places)
            self._record.note(WHOLE, [self.work.target])
        return self.report

    def _found_whole(self, there: set[str]) -> set[str]:
        """Frames besides whose files are there and whole; they are noted."""
        found = set()
        for item in self.items if self.work.kind in ("pictures", "passes") else ():
            path = picture_path(self.work.target, item.number)
            if item.key in there or not path.is_file():
                continue
            with suppress(ExchangeError):
                require_whole(path, path)
                self._record.note(item.key, [path])
                found.add(item.key)
        return found

    def _check_kept(self) -> None:
        """See that all that was written is still there: somebody may have taken the folder away meanwhile.

        Raises
        ------
        ExchangeError
            Something is gone.
        """
        if WHOLE in self._record.there():
            return
        gone = self._record.gone({item.key for item in self.items})
        if gone:
            raise ExchangeError(
                f"{len(gone)} of its files are not there any more.", file=gone[0],
                remedy="Run it again: the others are kept.",
            )  # fmt: skip

    def _check_free(self) -> None:
        """See that nothing of somebody else's is written over."""
        if self._force:
            return
        target, mine = self.work.target, {Path(name).name for name in self._record.names()}
        if self.work.kind in ("movie", "sheet"):
            wanted = [target]
        elif self.work.kind in ("pictures", "passes"):
            wanted = [picture_path(target, item.number) for item in self.items]
        else:
            wanted = sorted(self._places.iterdir()) if self.work.kind == "ladder" else []
        for path in wanted:
            if path.exists() and path.name not in mine and not path.name.startswith("."):
                raise ExchangeError(
                    "there is such a file already.", file=path, remedy="--force writes over it."
                )

    def _say(self, **changes: Any) -> None:
        self.report = replace(self.report, **changes)
        self._tell(self.report)

    def note(self, sentence: str) -> None:
        """Tell something once."""
        if sentence not in self.report.told:
            self._say(told=(*self.report.told, sentence))

    def _left(self, items: int, seconds: float) -> float | None:
        made = self.report.made - self.report.found
        return seconds / made * items if made >= _ENOUGH_KNOWN else None

    def _failure(self) -> KobrelError:
        first = next(iter(self._why))
        count = len(self._why)
        more = f" {count} of {len(self.items)} failed." if count > 1 else ""
        return ExchangeError(
            f"{first}: {self._why[first]}{more}", remedy="Run it again: finished frames are kept."
        )

    # The farm

    def _reached(self) -> Farm:
        """The farm, as soon as somebody answers there and has what is needed."""
        until = time.monotonic() + PATIENCE_S
        first = self.report.made == self.report.found and not self._started
        while True:
            self._obey()
            farm = None
            try:
                farm = self._reach()
                for line in farm.check():
                    self.note(line)
                sent = farm.give(self.bundle, self.note)
                self._say(bytes_sent=self.report.bytes_sent + sent)
                farm.client.subscribe_topic(remote.TOPIC, self._hear)
                self._slots_at = 0.0
                return farm
            except (KobrelError, OSError, TimeoutError) as error:
                if farm is not None:
                    farm.close()
                if first or time.monotonic() > until:
                    if isinstance(error, KobrelError):
                        raise
                    raise KobrelError(f"connection to the workers lost ({error}).") from None
                self.note(f"The scheduler is gone; waiting for it ({error}).")
                time.sleep(1.0)

    def _hear(self, event: tuple[float, dict[str, str]]) -> None:
        """A worker begins with an item."""
        _when, what = event
        if isinstance(what, dict) and what.get("run") == self._ticket.run:
            self._arrived.put((what["item"], None))

    def _drop(self) -> None:
        if self._farm is not None:
            for out in self._out.values():
                for future in out.futures:
                    future.release()
            self._farm.close()
        self._farm = None
        self._out.clear()

    def _obey(self) -> None:
        if self._wanted() != "go":
            raise Cancelled("Stopped.")

    # Items

    def _room(self) -> int:
        """How many more items may be given out: twice as many as can be made at once are out."""
        assert self._farm is not None
        now = time.monotonic()
        if now - self._slots_at > _SLOTS_S:
            self._slots, self._slots_at = self._farm.slots(), now
            if not self._slots:
                self.note("No worker is there yet; waiting for one.")
        return max(0, 2 * sum(self._slots.values()) + 1 - len(self._out))

    def _give_out(self, waiting: deque[Item]) -> None:
        self._obey()
        if self._farm is None or not self._farm.is_alive:
            self._lose(waiting)
            return
        for _ in range(min(self._room(), len(waiting))):
            item = waiting[0]
            self._out[item.key] = _Out(item, [self._submitted(item)], time.monotonic())
            waiting.popleft()

    def _submitted(self, item: Item, workers: list[str] | None = None) -> Any:
        """An item that is given out, to these workers alone if any are named."""
        assert self._farm is not None
        client, run = self._farm.client, self._ticket.run[:8]
        name = f"{run}-{item.key}-{uuid.uuid4().hex[:6]}"
        if can_be_split(self.work, self.plan, item):
            bands = [
                client.submit(
                    remote.make_band, self._ticket, item, band, key=f"{name}-{k}", pure=False, workers=workers
                )
                for k, band in enumerate(bands_of(self.work))
            ]
            future = client.submit(
                remote.put_together,
                self._ticket,
                item,
                *bands,
                key=f"{name}-whole",
                pure=False,
                workers=workers,
            )
        else:
            future = client.submit(remote.make, self._ticket, item, key=name, pure=False, workers=workers)
        future.add_done_callback(partial(self._note_done, item.key))
        return future

    def _note_done(self, key: str, future: Any) -> None:
        self._arrived.put((key, future))

    def _take(self, waiting: deque[Item]) -> None:
        """Take what has arrived; waits a moment for the first."""
        wait = _LOOK_S
        while True:
            try:
                key, future = self._arrived.get(timeout=wait)
            except Empty:
                return
            wait = 0.0
            out = self._out.get(key.partition("+")[0])
            if future is None:
                self._retried += key in self._started and not (out is not None and out.again)
                self._started.add(key)
                if out is not None and not out.again:
                    out.since, out.begun = time.monotonic(), True
            elif out is not None and future in out.futures:
                self._take_one(out, future, waiting)

    def _drop_one(self, out: _Out, future: Any, waiting: deque[Item]) -> None:
        """Count on a future no more; where nobody else makes its item, that waits again."""
        out.futures.remove(future)
        if not out.futures:
            del self._out[out.item.key]
            waiting.appendleft(out.item)

    def _take_one(self, out: _Out, future: Any, waiting: deque[Item]) -> None:
        if future.status == "cancelled" or self._farm is None:
            self._drop_one(out, future, waiting)
            return
        try:
            made = future.result(timeout=_FETCH_S)
        except TimeoutError:  # whoever made it stands still, and gives nothing away
            self._retried += 1
            self._drop_one(out, future, waiting)
            return
        except Exception as error:
            self._take_fault(out, future, error, waiting)
            return
        del self._out[out.item.key]
        for each in out.futures:
            each.release()
        self._keep(made)
        self._took.append(made.seconds)
        self._by_worker[made.worker] += 1
        for line in made.told:
            self.note(line)

    def _take_fault(self, out: _Out, future: Any, error: Exception, waiting: deque[Item]) -> None:
        """An item did not come: try again, or count it as failed."""
        key = out.item.key
        out.futures.remove(future)
        if isinstance(error, remote.Lacking) and self._farm is not None and self._lacked[key] < _MOST_LACKED:
            self._lacked[key] += 1
            with suppress(OSError, ValueError, KeyError):  # that worker may be gone by now
                sent = self._farm.give(self.bundle, self.note, error.worker)
                self._say(bytes_sent=self.report.bytes_sent + sent)
        elif isinstance(error, remote.Unlike) and self._farm is not None:
            self.note(f"Worker rejected: {error.why}")
            self._farm.client.retire_workers([error.worker], close_workers=True)
        else:
            self._tries[key] += 1
        if out.futures:
            return  # somebody else still works on it
        del self._out[key]
        for_good = isinstance(error, KobrelError) and not isinstance(error, remote.Lacking | remote.Unlike)
        if for_good or self._tries[key] >= MOST_TRIES:
            self._why[key] = _reason(error)
            self._say(failed=len(self._why))
            if len(self._why) >= _ENOUGH_KNOWN and self.report.made == self.report.found:
                raise self._failure()
        else:
            waiting.appendleft(out.item)

    def _keep(self, made: Made) -> None:
        try:
            self._record.write(made)
        except OSError as error:
            full = error.errno in (errno.ENOSPC, errno.EDQUOT)
            raise ExchangeError(
                f"cannot be written ({error.strerror}).", file=self._places,
                remedy=("Make room there" if full else "See to the folder")
                + " and run it again: finished frames are kept.",
            ) from None  # fmt: skip
        self._say(made=self.report.made + 1)

    def _help_slow(self) -> None:
        """Give an item that takes much longer than the others to somebody idle as well; the first counts."""
        if len(self._took) < _ENOUGH_KNOWN or self._farm is None:
            return
        now = time.monotonic()
        slow = max(_SLOW * statistics.median(self._took), _SLOW_S)
        late = [out for out in self._out.values() if not out.again and now - out.since > slow]
        if not late:
            return
        idle = [worker for worker, keys in self._farm.client.processing().items() if not keys]
        for out in late if idle else ():
            out.again = True
            self._retried += 1
            out.futures.append(self._submitted(out.item, idle))

    def _lose(self, waiting: deque[Item]) -> None:
        """The scheduler is gone: what was given out waits again."""
        self.note("The scheduler was lost; what it had is given out again.")
        waiting.extendleft(out.item for out in reversed(list(self._out.values())))
        self._drop()


def _reason(error: Exception) -> str:
    if isinstance(error, KobrelError):
        return str(error)
    name = type(error).__name__
    if name == "KilledWorker":
        return "all workers that tried it failed."
    return f"something went wrong inside ({name}: {' '.join(str(error).split())[:300]})."
