"""Runs the jobs of a queue one after the other, in a process of its own, and ends when nothing waits.

Run as a module: ``python -m kobrel.farm.runner [FOLDER]``.
"""

import contextlib
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

from kobrel import trust
from kobrel.errors import KobrelError
from kobrel.farm.bundle import packed
from kobrel.farm.cluster import Farm
from kobrel.farm.queue import Entry, Queue
from kobrel.farm.report import Report
from kobrel.farm.run import Run
from kobrel.farm.work import Work
from kobrel.plan.model import Plan
from kobrel.stage.scene import Cancelled

MOST_TRIES = 3
"""How often a job is begun that ends the runner before it got any farther."""
_TELL_S, _IDLE_S, _LOOK_S, _AGAIN_S = 0.25, 3.0, 0.25, 5.0
_NICE = 10


def work_off(queue: Queue, idle_s: float = _IDLE_S) -> None:
    """Run what waits, until nothing does for some seconds; does nothing where another runner is at work."""
    with queue.locked() as mine:
        if not mine:
            return
        since = time.monotonic()
        while not queue.is_held:
            entry = next((e for e in queue.entries() if e.state in ("waiting", "running")), None)
            if entry is not None:
                _do(queue, entry)
                since = time.monotonic()
            elif time.monotonic() - since >= idle_s:
                return
            else:
                time.sleep(_LOOK_S)


def _do(queue: Queue, entry: Entry) -> None:
    key = entry.key
    if entry.tries >= MOST_TRIES:
        _note(queue, key, state="failed", why=f"Kobrel ended {MOST_TRIES} times while it made this.")
        return
    wanted = queue.wanted(key)
    try:
        queue.note(key, state="running", tries=entry.tries + 1, why="")
        report = _run(queue, entry, wanted)
        _note(queue, key, state="done", report=report)
    except Cancelled:
        state = "cancelled" if wanted() == "cancel" else "waiting" if queue.is_held else "paused"
        _note(queue, key, state=state, tries=0)
    except KobrelError as error:
        _note(queue, key, state="failed", why=str(error))
    except Exception as error:
        why = f"something went wrong inside ({type(error).__name__}: {' '.join(str(error).split())[:300]})."
        _note(queue, key, state="failed", why=why)


def _note(queue: Queue, key: str, **changes: object) -> None:
    """Note how a job ended, as soon as there is room for it."""
    while True:
        try:
            queue.note(key, **changes)
            return
        except KobrelError as error:
            print(f"kobrel: {error}", file=sys.stderr, flush=True)
            if queue.is_held or not queue.place(key).is_dir():
                return
            time.sleep(_AGAIN_S)


def _run(queue: Queue, entry: Entry, wanted: Callable[[], str]) -> Report:
    job, key = entry.job, entry.key
    trust.allow(job.allowed)
    work, plan = Work.model_validate_json(job.work), Plan.model_validate_json(job.plan)

    def progress(what: str, _part: float) -> None:
        if wanted() != "go":
            raise Cancelled("Stopped.")
        queue.note(key, report=Report(told=(f"{what}…",)))

    bundle, told = packed(work, plan, progress)
    if entry.bundle not in ("", bundle.key):
        told.append("A source file has changed; the job restarts.")
        (queue.place(key) / "made.jsonl").unlink(missing_ok=True)
    queue.note(key, bundle=bundle.key)
    last = [0.0]

    def tell(report: Report) -> None:
        if time.monotonic() - last[0] > _TELL_S:
            last[0] = time.monotonic()
            farther = {"tries": 1} if report.made > report.found else {}
            queue.note(key, report=report, **farther)

    begun = entry.tries > 0 or bool(entry.bundle)  # what is there then is its own
    run = Run(
        bundle, lambda: Farm(job.address), tell, queue.wanted(key), job.force or begun, queue.place(key)
    )
    for line in told:
        run.note(line)
    return run.run()


if __name__ == "__main__":
    with contextlib.suppress(OSError):
        os.nice(_NICE)  # the window comes first
    work_off(Queue(Path(sys.argv[1]) if len(sys.argv) > 1 else None))
