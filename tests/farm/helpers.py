"""Small jobs, and real workers in processes of their own."""

import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

from kobrel.farm.bundle import Bundle, packed
from kobrel.farm.cluster import Farm
from kobrel.farm.work import work_of
from kobrel.plan.file import save_plan
from kobrel.plan.model import FixedCamera, Plan, Shot, StandIn

SMALL = {"width": 64, "height": 36, "samples": 8}


def small_plan(folder: Path, last: int = 1008) -> Path:
    """A plan of a few things on an empty stage, saved."""
    pose = (1.0, 0, 0, 0, 0, 1.0, 0, 1.0, 0, 0, 1.0, 4.0, 0, 0, 0, 1.0)
    things = tuple(
        StandIn(
            number=k + 1,
            name=f"Box {k + 1}",
            kind="box",
            size_m=(0.6, 0.6, 0.6),
            position_m=(k - 1.0, 0.0, -float(k)),
        )
        for k in range(3)
    )
    shot = Shot(name="01", first=1001, last=last, camera=FixedCamera(pose=pose))
    path = folder / "small.kobrel"
    save_plan(Plan(name="small", stand_ins=things, shots=(shot,)), path)
    return path


def small_job(folder: Path, kind: str = "pictures", name: str = "a.exr", last: int = 1008, **more) -> Bundle:
    """A job of a small plan."""
    plan = small_plan(folder, last)
    out = folder / "out"
    out.mkdir(exist_ok=True)
    return packed(work_of(kind=kind, plan=str(plan), output=str(out / name), **{**SMALL, **more}))[0]


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


class Processes:
    """A scheduler and workers, each a process."""

    def __init__(self, folder: Path, workers: int = 2) -> None:
        self.folder, self.port = folder, free_port()
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.scheduler = self._scheduler()
        self.workers = [self.worker() for _ in range(workers)]

    def _scheduler(self) -> subprocess.Popen:
        command = [
            sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1",
            "--port", str(self.port), "--no-dashboard", "--no-show",
        ]  # fmt: skip
        return self._started(command, {})

    def worker(self, **more: str) -> subprocess.Popen:
        return self._started([sys.executable, "-m", "kobrel", "worker", self.address, "--threads", "1"], more)

    def _started(self, command: list[str], more: dict[str, str]) -> subprocess.Popen:
        log = (self.folder / "processes.log").open("ab")
        return subprocess.Popen(command, stdout=log, stderr=log, env={**os.environ, **more}, cwd=self.folder)

    def restart_scheduler(self) -> None:
        self.scheduler.kill()
        self.scheduler.wait()
        self.scheduler = self._scheduler()

    def wait(self, count: int, seconds: float = 60.0) -> None:
        """Wait until so many workers are there."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            try:
                with Farm(self.address, 2.0) as farm:
                    if len(farm.slots()) >= count:
                        return
            except Exception:
                pass
            time.sleep(0.2)
        raise AssertionError((self.folder / "processes.log").read_text())

    def end(self) -> None:
        for process in (*self.workers, self.scheduler):
            process.send_signal(signal.SIGCONT)
            process.kill()
            process.wait()
