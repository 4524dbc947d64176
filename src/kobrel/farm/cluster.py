"""The way to workers: threads of this process, or a scheduler of dask's anywhere."""

import logging
import tempfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from kobrel.errors import KobrelError
from kobrel.farm import remote
from kobrel.farm.bundle import Bundle, pieces_of
from kobrel.farm.versions import versions

LOCAL = ""
"""Address of the workers in this process."""
SLOTS = 2
"""Items that are made at once here: while one is written, the other draws with all cores."""
NO_PAGE = "127.0.0.1:0"
"""Where dask's own pages would be."""
_CONNECT_S = 10.0
_PIECE = 4 << 20


class Farm:
    """Workers that were reached.

    Parameters
    ----------
    address : of a scheduler, such as ``tcp://10.0.0.5:8786``; "" for threads of this process

    Raises
    ------
    KobrelError
        Nobody answers at the address, or a worker runs other versions.
    """

    def __init__(self, address: str = LOCAL, seconds: float = _CONNECT_S) -> None:
        import dask
        from distributed import Client, LocalCluster

        quiet()
        self.address = address
        self._cluster: Any = None
        if address == LOCAL:
            self._spare = tempfile.TemporaryDirectory(prefix="kobrel-farm-")
            # Nothing of it can be reached from elsewhere: no port but a page without any content.
            nothing: dict[str, Any] = {
                f"distributed.{who}.http.routes": [] for who in ("scheduler", "worker")
            }
            with dask.config.set(nothing):
                self._cluster = LocalCluster(
                    n_workers=1, threads_per_worker=SLOTS, processes=False, protocol="inproc://",
                    dashboard_address=NO_PAGE, worker_dashboard_address=NO_PAGE,
                    local_directory=self._spare.name, memory_limit=0,
                )  # fmt: skip
        try:
            self.client: Any = Client(
                self._cluster or address,
                timeout=seconds,
                set_as_default=False,
                name="kobrel",
                direct_to_workers=True,
            )
        except TypeError:  # of TLS without certificates
            raise KobrelError(
                f"{address} takes certificates, and none are set up here.",
                remedy="Name them in dask's configuration, see docs/farm.md.",
            ) from None
        except (OSError, TimeoutError, ValueError) as error:
            raise KobrelError(
                f"no scheduler answers at {address} ({' '.join(str(error).split())[:200]}).",
                remedy="Start a scheduler there with: dask scheduler.",
            ) from None

    def close(self) -> None:
        """Let go of the workers."""
        with suppress(Exception):  # whatever is gone already
            self.client.close(timeout=2)
        if self._cluster is not None:
            with suppress(Exception):
                self._cluster.close(timeout=5)
            self._spare.cleanup()

    def __enter__(self) -> "Farm":
        return self

    def __exit__(self, *_error: object) -> None:
        self.close()

    @property
    def is_alive(self) -> bool:
        """Whether the scheduler is still there."""
        return str(self.client.status) == "running"

    def slots(self) -> dict[str, int]:
        """Items that each worker makes at once, by address."""
        return dict(self.client.nthreads())

    def check(self) -> list[str]:
        """See that all workers run what this process runs; what else should be known, in sentences.

        Raises
        ------
        KobrelError
            One does not, or has no Kobrel at all.
        """
        own = versions()
        kinds = set()
        for worker, found in self._run(remote.greet, on_error="return").items():
            if isinstance(found, ModuleNotFoundError | ImportError):
                raise KobrelError(
                    f"the worker at {worker} has no Kobrel like this one ({found}).",
                    remedy="Start it with: kobrel worker ADDRESS.",
                )
            if isinstance(found, BaseException):
                raise KobrelError(f"the worker at {worker} does not answer ({found}).")
            if why := own.refusal(found, worker):
                raise KobrelError(why)
            kinds.add(found.processor)
        if len(kinds) > 1:
            return [
                f"The workers are of several kinds ({', '.join(sorted(kinds))}): the last bits of frames may "
                "depend on who makes them."
            ]
        return []

    def give(self, bundle: Bundle, told: Callable[[str], object], only: str | None = None) -> int:
        """Give workers what a job is made from; the bytes of files that had to be sent.

        Parameters
        ----------
        told : told of each file that is sent
        only : to this worker alone
        """
        where = None if only is None else [only]
        lacking: dict[str, list[str]] = {}
        for worker, digests in self._run(remote.take_bundle, bundle.to_json(), workers=where).items():
            for digest in digests:
                lacking.setdefault(digest, []).append(worker)
        sent = 0
        for file in {file.digest: file for file in bundle.files}.values():
            workers = lacking.get(file.digest, [])
            if workers:
                told(f"Sending {file.path.rpartition('/')[2]} to {len(workers)} workers")
                sent += self._send(file.path, file.digest, file.size, workers)
        return sent

    def _send(self, path: str, digest: str, size: int, workers: list[str]) -> int:
        start = 0
        for piece in pieces_of(Path(path), _PIECE):
            last = start + len(piece) >= size
            self._run(remote.keep_piece, digest, start, piece, last, workers=workers)
            start += len(piece)
        if not size:
            self._run(remote.keep_piece, digest, 0, b"", True, workers=workers)
        return size * len(workers)

    def _run(self, work: Callable[..., Any], *arguments: Any, **options: Any) -> dict[str, Any]:
        """Call a function on workers, outside their queues of work."""
        return dict(self.client.run(work, *arguments, **options))


def quiet() -> None:
    """Keep what dask would print; what matters is told."""
    for name in ("distributed", "tornado", "asyncio"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
