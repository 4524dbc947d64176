"""Kills a driven window at random moments and looks at what it left: python -m campaign.kill --kills 200.

Whatever was edited a second before the kill has to be in the journal or in the plan, and the plan whole.
"""

import argparse
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

from campaign.seeds import DEMO
from kobrel.errors import KobrelError
from kobrel.plan.file import open_plan
from kobrel.session.journal.autosave import find_left, left_of

ALLOWED_S = 1.0


class Killed(NamedTuple):
    """What one kill left: how old the newest lost edit was when the kill came, seconds, and what is wrong."""

    lost_s: float
    edits: int
    saves: int
    wrong: str


def kill_once(folder: Path, seed: int) -> Killed:
    """Drive a window, kill it after a while, and look at what is left."""
    dice = random.Random(seed)
    folder.mkdir(parents=True, exist_ok=True)
    plan = folder / "plan.kobrel"
    _copy_of_demo(plan)
    log = folder / "log"
    with log.open("wb") as told:
        process = subprocess.Popen(
            [sys.executable, "-m", "campaign.driven", str(plan), str(folder / "state"), str(seed)],
            stdout=told, stderr=subprocess.DEVNULL,
            env={**os.environ, "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": os.getcwd()},
        )  # fmt: skip
        until = time.monotonic() + 120
        while b"ready" not in log.read_bytes() and time.monotonic() < until and process.poll() is None:
            time.sleep(0.02)
        time.sleep(dice.uniform(0.05, 2.5))
        killed = time.time()
        process.send_signal(signal.SIGKILL)
        process.wait()
    return _judged(plan, folder, log, killed)


def _copy_of_demo(plan: Path) -> None:
    content = json.loads(DEMO.read_text())
    for scene in content["scenes"]:
        scene["path"] = str(DEMO.parent / scene["path"])
    plan.write_text(json.dumps(content))


def _judged(plan: Path, folder: Path, log: Path, killed: float) -> Killed:
    lines = [line.split() for line in log.read_text().splitlines()[1:]]
    whole = [line for line in lines if len(line) >= 2 and line[0].replace(".", "").isdigit()]
    edits = [(float(line[0]), int(line[1])) for line in whole if line[1] != "saved"]
    saves = sum(line[1] == "saved" for line in whole)
    try:
        saved = _number(open_plan(plan))
        left = left_of(plan, folder / "state" / "journals")
        found, told = find_left(folder / "state" / "journals", [plan])
    except KobrelError as error:
        return Killed(99.0, len(edits), saves, str(error))
    kept = max(saved, _number(left.work.plan) if left is not None else 0)
    lost = [when for when, number in edits if number > kept]
    wrong = "; ".join(told)
    if left is not None and left.unsaved and kept > saved and not found:
        wrong = "what is unsaved is not offered"
    return Killed(max((killed - when for when in lost), default=0.0), len(edits), saves, wrong)


def _number(plan: "object") -> int:
    """The number of the last edit of a plan."""
    title = plan.shots[0].title  # type: ignore[attr-defined]
    return int(title.split()[1]) if title.startswith("edit ") else 0


def main() -> int:
    """Kill and tell; 1 if anything older than a second was lost."""
    parser = argparse.ArgumentParser(prog="python -m campaign.kill", description=__doc__)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--first", type=int, default=0)
    given = parser.parse_args()
    worst, edits, saves, bad = 0.0, 0, 0, 0
    for seed in range(given.first, given.first + given.kills):
        with tempfile.TemporaryDirectory(prefix="kobrel-kill-") as folder:
            found = kill_once(Path(folder), seed)
            worst, edits, saves = max(worst, found.lost_s), edits + found.edits, saves + found.saves
            if found.wrong or found.lost_s > ALLOWED_S:
                bad += 1
                print(f"kill {seed}: lost {found.lost_s:.2f} s, {found.wrong}", flush=True)
                shutil.copytree(folder, Path("campaign/finds") / f"kill{seed}", dirs_exist_ok=True)
    print(
        f"{given.kills} kills, {edits} edits, {saves} saves: {bad} bad, the oldest lost was {worst:.2f} s old"
    )
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
