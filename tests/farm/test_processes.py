"""Jobs on real workers in processes of their own: killed, stopped, and without the files."""

import hashlib
import os
import signal
from pathlib import Path

import pytest

from kobrel.farm.cluster import Farm
from kobrel.farm.report import Report
from kobrel.farm.run import Run
from tests.farm.helpers import Processes, small_job


@pytest.fixture(scope="module")
def processes(tmp_path_factory):
    folder = tmp_path_factory.mktemp("processes")
    os.environ["KOBREL_FARM_CACHE"] = str(folder / "cache")
    made = Processes(folder)
    made.wait(2)
    yield made
    made.end()
    del os.environ["KOBREL_FARM_CACHE"]


def digests(folder: Path) -> dict[str, str]:
    """The files in a folder but for hidden ones, by their content."""
    return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in sorted(folder.glob("[!.]*"))}


def here(tmp_path: Path, **more) -> dict[str, str]:
    """The files of the same job, made by this process alone."""
    folder = tmp_path / "here"
    folder.mkdir()
    Run(small_job(folder, **more), Farm, folder=folder / "job").run()
    return digests(folder / "out")


def test_a_worker_that_is_killed_loses_nothing(processes, tmp_path):
    job = small_job(tmp_path, last=1016, samples=256)
    killed = []

    def kill(report: Report) -> None:
        if report.made >= 2 and not killed:
            killed.append(processes.workers.pop(0))
            killed[0].kill()
            killed[0].wait()

    report = Run(job, lambda: Farm(processes.address), kill, folder=tmp_path / "job").run()
    assert killed
    assert report.made == report.total == 16
    assert report.retried >= 1
    assert digests(tmp_path / "out") == here(tmp_path, last=1016, samples=256)
    processes.workers.append(processes.worker())
    processes.wait(2)


def test_a_slow_worker_is_helped(processes, tmp_path):
    job = small_job(tmp_path, last=1012, samples=64)
    stopped = []

    def stop(report: Report) -> None:
        if report.made >= 4 and not stopped:
            stopped.append(processes.workers[0])
            os.kill(stopped[0].pid, signal.SIGSTOP)

    try:
        report = Run(job, lambda: Farm(processes.address), stop, folder=tmp_path / "job").run()
    finally:
        os.kill(processes.workers[0].pid, signal.SIGCONT)
    assert stopped
    assert report.made == report.total == 12
    assert digests(tmp_path / "out") == here(tmp_path, last=1012, samples=64)


def test_a_scheduler_that_is_started_anew_is_waited_for(processes, tmp_path):
    job = small_job(tmp_path, last=1012, samples=128)
    restarted = []

    def restart(report: Report) -> None:
        if report.made >= 2 and not restarted:
            restarted.append(True)
            processes.restart_scheduler()

    report = Run(job, lambda: Farm(processes.address), restart, folder=tmp_path / "job").run()
    assert restarted
    assert report.made == report.total == 12
    assert any("scheduler" in line for line in report.told)
    assert digests(tmp_path / "out") == here(tmp_path, last=1012, samples=128)
    processes.wait(2)


def test_frames_in_bands_have_the_same_bits(processes, tmp_path):
    job = small_job(tmp_path, last=1003, samples=40, bands=3)
    report = Run(job, lambda: Farm(processes.address), folder=tmp_path / "job").run()
    assert report.made == 3
    assert digests(tmp_path / "out") == here(tmp_path, last=1003, samples=40)
