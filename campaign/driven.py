"""A window that edits by itself and tells each edit, to be killed at any moment.

python -m campaign.driven PLAN STATE_FOLDER SEED: after each edit it prints ``TIME COUNT FOCUS``, the
focus being what the edit has set; now and then it saves, and prints ``TIME saved COUNT``.
"""

import os
import random
import sys
import time
from pathlib import Path

from kobrel.desk.toolkit.theme import apply
from kobrel.desk.window.app import application
from kobrel.desk.window.window import Window
from kobrel.session.settings import Settings
from kobrel.session.store import FileStore


def main() -> None:
    """Edit until killed."""
    plan, state, seed = Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3])
    dice = random.Random(seed)
    qt = application()
    apply(qt)
    window = Window(Settings(FileStore(state / "settings.json"), state, state / "journals"))
    window.show()
    window.document.open(plan)
    session = window.session
    while not session.plan.shots or window.jobs.job is not None:
        qt.processEvents()
        time.sleep(0.002)
    print("ready", flush=True)
    count = 0
    while True:
        chance = dice.random()
        if chance < 0.02:
            window.document.save()
            print(f"{time.time():.6f} saved {count}", flush=True)
        elif chance < 0.12 and session.history.last is not None:
            session.undo()
            session.redo()
        elif chance < 0.2:
            session.begin_drag()
            for _ in range(dice.randint(2, 12)):
                count += 1
                _edit(session, count)
                qt.processEvents()
            session.end_drag()
            print(f"{time.time():.6f} {count}", flush=True)
        else:
            count += 1
            _edit(session, count)
            print(f"{time.time():.6f} {count}", flush=True)
        until = time.monotonic() + dice.choice((0.0, 0.003, 0.02, 0.1))
        while time.monotonic() < until or dice.random() < 0.3:
            qt.processEvents()
            time.sleep(0.001)


def _edit(session: "object", count: int) -> None:
    """An edit that can be told by its number: the title of the shot ends in it."""
    session.edit_shot("Title", lambda shot: shot.replace(title=f"edit {count}"))  # type: ignore[attr-defined]


if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    main()
