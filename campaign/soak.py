"""A day of work, sped up: python -m campaign.soak --seconds 1800. Tells whether memory grows over it.

It opens plans and scenes, turns cards, edits, drags, undoes, plays, saves and draws, over and over.
"""

import argparse
import os
import random
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

DAY_S = 8 * 3600.0
EDITS_A_DAY = 4000
"""What a busy person does in eight hours, to tell how much of a day was done."""


def resident_mb() -> float:
    """Memory of this process, MB."""
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmRSS:")[1].split()[0]) / 1024


def work(seconds: float, folder: Path) -> list[tuple[float, int, float]]:
    """Work for so long; seconds, edits so far and memory after each round."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from campaign.seeds import DEMO, make_seeds
    from kobrel.desk.toolkit.theme import apply
    from kobrel.desk.window.app import application
    from kobrel.desk.window.window import Window
    from kobrel.session.settings import Settings
    from kobrel.session.store import FileStore

    qt = application()
    apply(qt)
    scenes = [s for s in make_seeds(folder / "seeds") if s.name in ("scene.usda", "walk.glb", "scene.abc")]
    window = Window(Settings(FileStore(folder / "settings.json"), folder, folder / "journals"))
    window.show()
    window.drawing.start()
    session, dice, edits = window.session, random.Random(1), 0

    def rest(span: float) -> None:
        until = time.monotonic() + span
        while time.monotonic() < until:
            qt.processEvents()
            time.sleep(0.002)

    begun, found = time.monotonic(), []
    while time.monotonic() - begun < seconds:
        for path in (DEMO, dice.choice(scenes)):
            before = session.plan
            window.document.open(path)
            while session.plan is before or window.jobs.job is not None:
                rest(0.01)
            if window.arrival is not None:
                window.arrival.accept()
            for card in dice.sample((1, 2, 3, 4, 5, 6), 3):
                session.view.card = card
                session.show_frame(dice.randint(session.shot.first, session.shot.last))
                session.begin_drag()
                for _ in range(10):
                    session.set_keyed("Stop", "f_number", dice.uniform(1.2, 16))
                    rest(0.02)
                session.end_drag()
                for _ in range(6):
                    session.set_keyed("Focal length", "focal_mm", dice.uniform(20, 90))
                    rest(0.05)
                edits += 7
                session.undo()
                rest(0.2)
            session.want("play")
            rest(0.5)
            session.want("play")
            window.document.save_to(folder / "day.kobrel")
        found.append((time.monotonic() - begun, edits, resident_mb()))
    session.mark_saved()
    window.close()
    return found


def main() -> int:
    """Work, and tell the slope; 1 if memory grows by more than a tenth over a day."""
    parser = argparse.ArgumentParser(prog="python -m campaign.soak", description=__doc__)
    parser.add_argument("--seconds", type=float, default=1800)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="kobrel-soak-") as folder:
        found = np.array(work(given.seconds, Path(folder)))
    settled = found[len(found) // 4 :]  # caches fill first
    slope = float(np.polyfit(settled[:, 1], settled[:, 2], 1)[0]) if len(settled) > 2 else 0.0
    grown = slope * EDITS_A_DAY
    print(
        f"{len(found)} rounds, {found[-1, 1]:.0f} edits; {found[0, 2]:.0f} MB after the first, "
        f"{found[-1, 2]:.0f} MB after the last; {1000 * slope:+.0f} KB an edit, "
        f"{grown:+.0f} MB over a day of {EDITS_A_DAY}"
    )
    sys.stdout.flush()
    os._exit(1 if grown > 0.1 * float(settled[:, 2].mean()) else 0)


if __name__ == "__main__":
    sys.exit(main())
