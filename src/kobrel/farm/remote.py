"""What is called on a worker: small functions that travel by name."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from kobrel.errors import KobrelError
from kobrel.farm import store
from kobrel.farm.bundle import Bundle
from kobrel.farm.making import Item, Made, is_ready, made, maker_of
from kobrel.farm.versions import Versions, versions
from kobrel.picture.tracer import Block

TOPIC = "kobrel"
"""Events of the scheduler under which workers tell that they begin with an item."""
_MOST_BUNDLES = 16
_bundles: LRUCache[str, Bundle] = LRUCache(_MOST_BUNDLES)


class Lacking(KobrelError):
    """A worker has not got what a job is made from."""

    def __init__(self, worker: str) -> None:
        super().__init__(f"the worker at {worker} lacks files of the job.")
        self.worker = worker

    def __reduce__(self) -> tuple[type, tuple[str]]:
        return Lacking, (self.worker,)


class Unlike(KobrelError):
    """A worker runs other versions."""

    def __init__(self, worker: str, why: str) -> None:
        super().__init__(why)
        self.worker, self.why = worker, why

    def __reduce__(self) -> tuple[type, tuple[str, str]]:
        return Unlike, (self.worker, self.why)


@dataclass(frozen=True)
class Ticket:
    """With what an item's task travels: a few bytes.

    Parameters
    ----------
    bundle : key of the job's bundle
    versions : of whoever gave the job
    run : what tells this run of the job from others
    """

    bundle: str
    versions: Versions
    run: str


def greet() -> Versions:
    """What runs on this worker."""
    return versions()


def take_bundle(text: str) -> list[str]:
    """Take what a job is made from; the digests of files that are not here."""
    bundle = Bundle.from_json(text)
    _bundles[bundle.key] = bundle
    return store.missing(bundle.files)


def keep_piece(digest: str, start: int, piece: bytes, last: bool) -> None:
    """See :func:`kobrel.farm.store.keep_piece`."""
    store.keep_piece(digest, start, piece, last)


def _begin(ticket: Ticket, key: str) -> tuple[Bundle, str]:
    """Tell that an item is begun; what it is made from, and the address of this worker."""
    from distributed import get_worker

    worker = get_worker()
    why = ticket.versions.refusal(versions(), worker.address)
    if why:
        raise Unlike(worker.address, why)
    bundle = _bundles.get(ticket.bundle)
    if bundle is None or (not is_ready(bundle) and store.missing(bundle.files)):
        raise Lacking(worker.address)
    worker.log_event(TOPIC, {"run": ticket.run, "item": key, "worker": worker.address})
    return bundle, str(worker.address)


def make(ticket: Ticket, item: Item) -> Made:
    """Make an item."""
    bundle, here = _begin(ticket, item.key)
    return made(item.key, here, lambda folder: maker_of(bundle).write(item, folder))


def make_band(ticket: Ticket, item: Item, wanted: Sequence[Block]) -> list[NDArray[np.float32]]:
    """Make some of a frame's passes: the sums of their blocks."""
    bundle, _here = _begin(ticket, f"{item.key}+{wanted[0][0]}")
    return maker_of(bundle).sums(item, wanted)


def put_together(ticket: Ticket, item: Item, *bands: list[NDArray[np.float32]]) -> Made:
    """Make a frame from all its bands."""
    bundle, here = _begin(ticket, f"{item.key}+")
    maker = maker_of(bundle)
    sums = [each for band in bands for each in band]

    def write(folder: Path) -> list[str]:
        maker.write_summed(item, sums, folder)
        return []

    return made(item.key, here, write)
