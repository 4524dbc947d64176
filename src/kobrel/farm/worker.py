"""A worker: makes items for whoever gives work to its scheduler; where that is gone, it waits for it."""

import asyncio
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


def serve(
    address: str, slots: int, threads: int | None, told: Callable[[str], object], patience_s: float = 3600.0
) -> None:
    """Work until a signal ends it.

    Parameters
    ----------
    address : of the scheduler
    slots : items that are made at once
    threads : that draw, for all of them; a core each if none
    told : told what happens, in sentences
    patience_s : how long a scheduler that does not answer is waited for

    Raises
    ------
    KobrelError
        The address makes no sense, or nobody answers there for that long.
    """
    quiet()
    if threads is not None:
        os.environ[THREADS] = str(threads)
    told("compiling the picture's kernels, unless they are kept")
    ready.prepare()
    store.clear_old()
    try:
        asyncio.run(_serve(address, slots, told, patience_s))
    except ValueError as error:
        raise KobrelError(f"“{address}” is no address of a scheduler ({error}).") from None


async def _serve(address: str, slots: int, told: Callable[[str], object], patience_s: float) -> None:
    ended = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, ended.set)
    lost_at = loop.time()
    with tempfile.TemporaryDirectory(prefix="kobrel-worker-") as folder:
        while not ended.is_set():
            begun = loop.time()
            try:
                await _until_lost(address, slots, folder, told, ended)
                lost_at = loop.time()
            except (OSError, TimeoutError) as error:
                if loop.time() - lost_at > patience_s:
                    raise KobrelError(f"nobody answers at {address} ({error}).") from None
                told(f"nobody answers at {address}; trying again")
            if not ended.is_set() and loop.time() - begun < _AGAIN_S:
                await asyncio.sleep(_AGAIN_S)


async def _until_lost(
    address: str, slots: int, folder: str, told: Callable[[str], object], ended: asyncio.Event
) -> None:
    """Work for a scheduler until it is lost, or the end is asked for."""
    from distributed import Worker

    worker = Worker(
        address, nthreads=slots, local_directory=folder, memory_limit=0, dashboard=False,
        dashboard_address=NO_PAGE, death_timeout=_CONNECT_S,
    )  # fmt: skip
    async with worker:
        told(f"working for {address}, at {worker.address}")
        waits = [asyncio.ensure_future(each) for each in (worker.finished(), ended.wait())]
        await asyncio.wait(waits, return_when=asyncio.FIRST_COMPLETED)
        for each in waits:
            each.cancel()
    if not ended.is_set():
        told(f"lost {address}")
