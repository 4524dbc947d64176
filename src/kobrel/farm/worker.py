"""A worker: makes items for whoever gives work to its scheduler; where that is gone, it waits for it."""

import asyncio
import ipaddress
import os
import signal
import tempfile
from collections.abc import Callable

from kobrel.errors import KobrelError
from kobrel.farm import store
from kobrel.farm.cluster import NO_PAGE, quiet
from kobrel.picture import ready
from kobrel.picture.tracer import THREADS

_AGAIN_S, _CONNECT_S = 2.0, 10.0
_HERE = "127.0.0.1"


_TLS = "tls://"


def serve(
    address: str,
    slots: int,
    threads: int | None,
    told: Callable[[str], object],
    patience_s: float = 3600.0,
    host: str = "",
    open_to_all: bool = False,
) -> None:
    """Work until a signal ends it.

    Whoever reaches a worker's port can have anything run there. So it listens on this machine alone, unless a
    host is named, and then asks for certificates (TLS) or for consent.

    Parameters
    ----------
    address : of the scheduler
    host : of this machine, under which the scheduler reaches it; "" is this machine alone
    open_to_all : whether it may listen there without TLS
    slots : items that are made at once
    threads : that draw, for all of them; a core each if none
    told : told what happens, in sentences
    patience_s : how long a scheduler that does not answer is waited for

    Raises
    ------
    KobrelError
        The address makes no sense, or nobody answers there for that long.
    """
    host = listening_host(address, host, open_to_all)
    quiet()
    if threads is not None:
        os.environ[THREADS] = str(threads)
    told("compiling the picture's kernels, unless they are kept")
    ready.prepare()
    store.clear_old()
    try:
        asyncio.run(_serve(address, host, slots, told, patience_s))
    except ValueError as error:
        raise KobrelError(f"“{address}” is not a scheduler address ({error}).") from None


def listening_host(address: str, host: str, open_to_all: bool) -> str:
    """Where a worker listens.

    >>> listening_host("tcp://127.0.0.1:8786", "", False)
    '127.0.0.1'

    Raises
    ------
    KobrelError
        Its scheduler is elsewhere and no host is named, or it would be open to a whole network unasked.
    """
    if not host:
        if _is_here(address):
            return _HERE
        raise KobrelError(
            f"the scheduler at {address} could not reach this worker, which listens on this machine alone.",
            remedy="Name this machine's own address: --host ADDRESS.",
        )
    if not _is_here(f"tcp://{host}:0") and not address.startswith(_TLS) and not open_to_all:
        raise KobrelError(
            f"whoever reaches {host} could run anything here.",
            remedy="Use a scheduler at tls:// (docs/farm.md), or say --open-to-all in a network of your own.",
        )
    return host


def _is_here(address: str) -> bool:
    """Whether an address is of this machine alone."""
    host = address.partition("://")[2].rpartition(":")[0].strip("[]")
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost" or address.startswith("inproc://")


async def _serve(
    address: str, host: str, slots: int, told: Callable[[str], object], patience_s: float
) -> None:
    ended = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, ended.set)
    lost_at = loop.time()
    with tempfile.TemporaryDirectory(prefix="kobrel-worker-") as folder:
        while not ended.is_set():
            begun = loop.time()
            try:
                await _until_lost(address, host, slots, folder, told, ended)
                lost_at = loop.time()
            except (OSError, TimeoutError) as error:
                if loop.time() - lost_at > patience_s:
                    raise KobrelError(f"nobody answers at {address} ({error}).") from None
                told(f"nobody answers at {address}; trying again")
            if not ended.is_set() and loop.time() - begun < _AGAIN_S:
                await asyncio.sleep(_AGAIN_S)


async def _until_lost(
    address: str, host: str, slots: int, folder: str, told: Callable[[str], object], ended: asyncio.Event
) -> None:
    """Work for a scheduler until it is lost, or the end is asked for."""
    import dask
    from distributed import Worker

    with dask.config.set({"distributed.worker.http.routes": []}):  # a page without any content
        worker = Worker(
            address, nthreads=slots, local_directory=folder, memory_limit=0, dashboard=False,
            dashboard_address=NO_PAGE, death_timeout=_CONNECT_S, host=host,
        )  # fmt: skip
    async with worker:
        told(f"working for {address}, at {worker.address}")
        waits = [asyncio.ensure_future(each) for each in (worker.finished(), ended.wait())]
        await asyncio.wait(waits, return_when=asyncio.FIRST_COMPLETED)
        for each in waits:
            each.cancel()
    if not ended.is_set():
        told(f"lost {address}")
