"""Farms: two workers against one, what a frame costs beside its making, memory, and many workers."""

import heapq
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from statistics import median

import psutil
from rich.console import Console
from rich.table import Table

import kobrel.demo
from kobrel.farm.bundle import Bundle, packed
from kobrel.farm.cluster import Farm
from kobrel.farm.making import items_of, made, maker_of
from kobrel.farm.report import Report
from kobrel.farm.run import Run
from kobrel.farm.work import work_of

DEMO = Path(kobrel.demo.__file__).parent / "night_ferry.kobrel"
_WARM = 4
ROUNDS = 3
"""How often one worker and two take turns: the machine is not as fast at all times."""
SLEEP_S, BYTES = "KOBREL_BENCH_SLEEP_S", "KOBREL_BENCH_BYTES"
"""Variables of the environment: how long a pretended frame takes, and how large it is."""


def farming(table: Table) -> None:
    """Rows about farms."""
    with tempfile.TemporaryDirectory() as folder, _Processes(Path(folder)) as processes:
        rates: dict[str, list[float]] = {"one": [], "two": [], "here": []}
        for turn in range(ROUNDS):
            for count, name in ((1, "one"), (2, "two")):
                processes.want(count)
                rates[name].append(_frames_a_second(processes.address, Path(folder) / f"{name}{turn}"))
            rates["here"].append(_frames_a_second("", Path(folder) / f"here{turn}"))
        one, two, alone = (median(each) for each in rates.values())
        table.add_row(
            "demo at 320 x 180, 16 samples: workers of one thread",
            f"{one:.2f} frames/s by one, {two:.2f} by two, {alone:.2f} by threads of this process",
            f"{two / one:.2f} × one", "≥ 1.8",
        )  # fmt: skip
        processes.want(1)
        over, direct = _overhead(processes.address, Path(folder) / "tiny")
        table.add_row(
            "tiny frames: besides their making",
            f"{over * 1000:.1f} ms a frame",
            f"{direct * 1000:.1f} ms made",
            "≤ 15",
        )
    grown, rate = _memory_over(10_000)
    table.add_row(
        "10,000 tiny frames, this process",
        f"{grown / 1e6:+.0f} MB after the first 1,000",
        f"{rate:.0f}/s",
        "flat",
    )


def _job(out: Path, size: tuple[int, int], samples: int, last: int) -> Bundle:
    out.mkdir(parents=True, exist_ok=True)
    work = work_of(
        kind="pictures", plan=str(DEMO), output=str(out / "a.png"), shot="02", first=1001, last=last,
        width=size[0], height=size[1], samples=samples,
    )  # fmt: skip
    return packed(work)[0]


def _frames_a_second(address: str, out: Path) -> float:
    """Frames of the demo a second, once everybody is warm."""
    _run(_job(out / "warm", (64, 36), 2, 1008), address, out / "warm-job")
    seen: list[tuple[int, float]] = []
    job = _job(out, (320, 180), 16, 1032)
    Run(
        job, lambda: Farm(address), lambda r: seen.append((r.made, time.perf_counter())), folder=out / "job"
    ).run()
    first = next(each for each in seen if each[0] >= _WARM)  # by then everybody has begun
    last = next(each for each in seen if each[0] == len(items_of(*job.made_of)))
    return (last[0] - first[0]) / (last[1] - first[1])


def _run(job: Bundle, address: str, folder: Path) -> Report:
    return Run(job, lambda: Farm(address), folder=folder).run()


def _overhead(address: str, out: Path) -> tuple[float, float]:
    """Seconds that a tiny frame takes on a farm of one beyond those that it takes here, and these."""
    job = _job(out, (32, 18), 1, 1096)
    _run(job, address, out / "warm-job")
    for path in out.glob("*.png"):
        path.unlink()
    report = _run(job, address, out / "job")
    maker, items = maker_of(job), items_of(*job.made_of)
    made("warm", "", lambda folder: maker.write(items[0], folder))
    start = time.perf_counter()
    for item in items:
        made(item.key, "", lambda folder, item=item: maker.write(item, folder))
    direct = (time.perf_counter() - start) / len(items)
    return report.seconds / report.total - direct, direct


def _memory_over(count: int) -> tuple[float, float]:
    """By how many bytes this process grows from the thousandth frame to the last, and frames a second."""
    with tempfile.TemporaryDirectory() as name, _Processes(Path(name), pretends=(0.0, 1000)) as processes:
        processes.want(2)
        folder, seen = Path(name), dict[int, float]()

        def look(report: Report) -> None:
            if report.made in (1000, count):
                seen[report.made] = _memory()

        job = _job(folder / "out", (32, 18), 1, 1000 + count)
        report = Run(job, lambda: Farm(processes.address), look, folder=folder / "job").run()
        return seen[count] - seen[1000], report.total / report.seconds


def _memory() -> float:
    pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[1])
    return float(pages * resource.getpagesize())


# Many workers, by a model


@dataclass(frozen=True)
class Farmed:
    """What decides how fast a farm is.

    Parameters
    ----------
    making_s : a frame takes on a worker
    way_s : a frame keeps its worker besides: until it is sent and the next has begun
    client_s : a frame keeps the one process that gives out and writes
    scheduler_s : a frame keeps the scheduler
    """

    making_s: float
    way_s: float
    client_s: float
    scheduler_s: float


def simulated(farm: Farmed, workers: int, frames: int) -> float:
    """Frames a second of so many workers: each frame is made, passes the scheduler, and then the client."""
    free_at = [0.0] * workers
    scheduler = client = 0.0
    for _ in range(frames):
        done = heapq.heappop(free_at) + farm.making_s + farm.way_s
        scheduler = max(scheduler, done) + farm.scheduler_s
        client = max(client, scheduler) + farm.client_s
        heapq.heappush(free_at, max(done, scheduler))
    return frames / client


def many(table: Table, size: int = 1_500_000, making: float = 0.5) -> None:
    """Rows about a hundred and a thousand workers, by a model that a run with one worker is the measure of,
    and that runs with two and four are held against.
    """
    rates, costs = {}, (0.0, 0.0)
    for workers in (1, 2, 4):
        with (
            tempfile.TemporaryDirectory() as name,
            _Processes(Path(name), pretends=(making, size)) as processes,
        ):
            processes.want(workers)
            job = _job(Path(name) / "out", (32, 18), 1, 1000 + 60 * workers)
            before = time.process_time(), processes.scheduler_s
            report = Run(job, lambda p=processes: Farm(p.address), folder=Path(name) / "job").run()
            rates[workers] = report.total / report.seconds
            costs = tuple(
                (now - then) / report.total
                for now, then in zip((time.process_time(), processes.scheduler_s), before, strict=True)
            )  # of the last run: what is done once counts least
    model = Farmed(making, 1.0 / rates[1] - making, *costs)
    for workers in (1, 2, 4):
        table.add_row(
            f"{workers} pretended workers, frames of {making} s and {size / 1e6:.1f} MB",
            f"{rates[workers]:.2f} frames/s", f"model {simulated(model, workers, 60 * workers):.2f}", "",
        )  # fmt: skip
    for seconds in (2.0, 10.0, 60.0):
        as_many = [
            simulated(Farmed(seconds, model.way_s, *costs), count, 50 * count) * seconds
            for count in (100, 1000)
        ]
        table.add_row(
            f"frames of {seconds:g} s: 100 and 1,000 workers do the work of",
            f"{as_many[0]:.0f} and {as_many[1]:.0f}",
            f"client {costs[0] * 1000:.1f} ms, scheduler {costs[1] * 1000:.1f} ms a frame", "",
        )  # fmt: skip


# Processes


class _Processes:
    """A scheduler and workers of one thread each, in processes of their own."""

    def __init__(self, folder: Path, pretends: tuple[float, int] | None = None) -> None:
        import socket

        with socket.socket() as one:
            one.bind(("127.0.0.1", 0))
            port = one.getsockname()[1]
        self.address, self._pretends = f"tcp://127.0.0.1:{port}", pretends
        self._log = (folder / "log").open("ab")
        self._scheduler = self._started(
            "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", str(port),
            "--no-dashboard", "--no-show",
        )  # fmt: skip
        self._workers: list[subprocess.Popen] = []

    def __enter__(self) -> "_Processes":
        return self

    def __exit__(self, *_error: object) -> None:
        for process in (*self._workers, self._scheduler):
            process.kill()
            process.wait()

    def _started(self, *command: str) -> subprocess.Popen:
        more = {}
        if self._pretends is not None:
            more = {SLEEP_S: str(self._pretends[0]), BYTES: str(self._pretends[1])}
        return subprocess.Popen(
            [sys.executable, *command], env={**os.environ, **more}, stdout=self._log, stderr=self._log
        )

    def want(self, count: int) -> None:
        """Have so many workers, and wait until they are there."""
        while len(self._workers) > count:
            worker = self._workers.pop()
            worker.terminate()
            worker.wait()
        while len(self._workers) < count:
            self._workers.append(self._started(__file__, "worker", self.address))
        while self._there() != count:
            time.sleep(0.3)

    @property
    def scheduler_s(self) -> float:
        """Time of the processor that the scheduler has taken."""
        times = psutil.Process(self._scheduler.pid).cpu_times()
        return float(times.user + times.system)

    def _there(self) -> int:
        try:
            with Farm(self.address, 2.0) as farm:
                return len(farm.slots())
        except Exception:
            return -1


def _work(address: str) -> None:
    """Be a worker; one that pretends where the environment says so."""
    from kobrel.farm import making
    from kobrel.farm.worker import serve

    if SLEEP_S in os.environ:
        content = os.urandom(int(os.environ[BYTES]))

        def write(_self: object, item: making.Item, folder: Path, *_more: object) -> list[str]:
            time.sleep(float(os.environ[SLEEP_S]))
            (folder / f"a.{item.number}.bin").write_bytes(content)
            return []

        making.Maker.write = write  # type: ignore[method-assign, assignment]
    serve(address, 1, 1, print)


def main(arguments: Sequence[str]) -> None:
    if arguments[:1] == ["worker"]:
        _work(arguments[1])
        return
    table = Table(title="Farms")
    for heading in ("what", "measured", "ratio", "aim"):
        table.add_column(heading)
    farming(table)
    many(table)
    Console(width=150).print(table)


if __name__ == "__main__":
    main(sys.argv[1:])
