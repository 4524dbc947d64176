"""Random hands at the window: python -m campaign.hands --seconds 7200.

Mouse, wheel, keys, menus, buttons, fields, pages, dialogs, drops of good and damaged files, undo, saving;
every third time two windows on one plan. Told are exceptions, whatever kind, how long the loop stood still,
and the memory; after some minutes it begins with a new window.
"""

import argparse
import contextlib
import faulthandler
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import traceback
from collections import Counter
from pathlib import Path
from typing import Any

STALL_S = 0.25
"""How long the loop may stand still."""
_TWIN = 100_000
"""Seed of the second window on the same plan, beyond the first's."""
_TEXTS = (
    "0", "-1", "1e9", "nan", "inf", "", "3.2 m", "10' 6\"", "x" * 400, "f/2.8", "∞", "-0", "1e-9", "50", "2",
    "1001", "99999999", "ü§$%", "12,5", "1 2 3",
)  # fmt: skip


class Hands:
    """Does one random thing after the other to a window."""

    def __init__(self, window: Any, files: list[Path], plan: Path, dice: random.Random) -> None:
        self.window, self.files, self.plan, self.dice = window, files, plan, dice
        self.done: list[str] = []

    def act(self) -> None:
        """Do something."""
        dice = self.dice
        do = dice.choices(
            (self._press, self._drag, self._wheel, self._key, self._menu, self._button, self._type, self._choose,
             self._frame, self._undo, self._drop, self._play, self._page, self._save),
            (6, 8, 3, 8, 3, 6, 6, 4, 3, 4, 0.4, 0.5, 3, 0.3),
        )[0]  # fmt: skip
        do()

    def _widgets(self, kind: Any) -> list[Any]:
        from PySide6.QtWidgets import QApplication

        top = [w for w in QApplication.topLevelWidgets() if w.isVisible()]
        chosen = top[-1] if top and self.dice.random() < 0.5 else self.window
        return [w for w in chosen.findChildren(kind) if w.isVisible() and w.isEnabled()]

    def _place(self, widget: Any) -> Any:
        from PySide6.QtCore import QPoint

        return QPoint(
            self.dice.randrange(max(1, widget.width())), self.dice.randrange(max(1, widget.height()))
        )

    def _views(self) -> list[Any]:
        window = self.window
        wall = vars(window.body).get("wall")
        hung = (wall.grid.viewport(), wall.compared) if wall is not None else ()
        return [w for w in (window.picture, window.overhead, window.second, window.barrel, window.chart, window.shots, *hung)
                if w.isVisible()]  # fmt: skip

    def _modifier(self) -> Any:
        from PySide6.QtCore import Qt

        kinds = Qt.KeyboardModifier
        return self.dice.choice(
            (
                kinds.NoModifier,
                kinds.NoModifier,
                kinds.ShiftModifier,
                kinds.ControlModifier,
                kinds.AltModifier,
            )
        )

    def _mouse_button(self) -> Any:
        from PySide6.QtCore import Qt

        kinds = Qt.MouseButton
        return self.dice.choice((kinds.LeftButton, kinds.LeftButton, kinds.RightButton, kinds.MiddleButton))

    def _press(self) -> None:
        from PySide6.QtCore import Qt
        from PySide6.QtTest import QTest

        widget = self.dice.choice(self._views() or [self.window])
        if self.dice.random() < 0.15:
            QTest.mouseDClick(widget, Qt.MouseButton.LeftButton, self._modifier(), self._place(widget))
        else:
            QTest.mouseClick(widget, Qt.MouseButton.LeftButton, self._modifier(), self._place(widget))

    def _drag(self) -> None:
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QApplication

        widget, button, keys = (
            self.dice.choice(self._views() or [self.window]),
            self._mouse_button(),
            self._modifier(),
        )
        QTest.mousePress(widget, button, keys, self._place(widget))
        for _ in range(self.dice.randint(1, 8)):
            QTest.mouseMove(widget, self._place(widget))
            QApplication.processEvents()
        if self.dice.random() < 0.2:
            self._key()
        QTest.mouseRelease(widget, button, keys, self._place(widget))

    def _wheel(self) -> None:
        from PySide6.QtCore import QPoint, QPointF, Qt
        from PySide6.QtGui import QWheelEvent
        from PySide6.QtWidgets import QApplication, QWidget

        widget = self.dice.choice(self._views() + self._widgets(QWidget)[:30])
        place, steps = QPointF(self._place(widget)), self.dice.choice((-240, -120, 120, 240))
        event = QWheelEvent(
            place, widget.mapToGlobal(place), QPoint(), QPoint(0, steps), Qt.MouseButton.NoButton,
            self._modifier(), Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(widget, event)

    def _key(self) -> None:
        from PySide6.QtCore import Qt
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QApplication

        keys = [getattr(Qt.Key, f"Key_{name}") for name in (
            *"ABCDFMOPTV12345", "Left", "Right", "Up", "Down", "Home", "End", "PageUp", "PageDown", "Escape", "Tab",
            "Delete", "Backspace", "Return", "Space", "Plus", "Minus", "F2", "BracketLeft", "BracketRight",
        )]  # fmt: skip
        widget = QApplication.focusWidget() or self.window
        QTest.keyClick(widget, self.dice.choice(keys), self._modifier())

    def _menu(self) -> None:
        from PySide6.QtGui import QAction

        actions = [
            a
            for a in self.window.findChildren(QAction)
            if a.isEnabled() and a.text() and "Quit" not in a.text()
        ]
        if actions:
            self.dice.choice(actions).trigger()

    def _button(self) -> None:
        from PySide6.QtWidgets import QAbstractButton

        found = self._widgets(QAbstractButton)
        if found:
            self.dice.choice(found).click()

    def _type(self) -> None:
        from PySide6.QtCore import Qt
        from PySide6.QtTest import QTest
        from PySide6.QtWidgets import QLineEdit

        found = self._widgets(QLineEdit)
        if found:
            field = self.dice.choice(found)
            field.setFocus()
            field.selectAll()
            field.setText(self.dice.choice(_TEXTS))
            QTest.keyClick(field, Qt.Key.Key_Return)

    def _choose(self) -> None:
        from PySide6.QtWidgets import QComboBox

        found = [box for box in self._widgets(QComboBox) if box.count()]
        if found:
            box = self.dice.choice(found)
            box.setCurrentIndex(self.dice.randrange(box.count()))
            box.activated.emit(box.currentIndex())

    def _frame(self) -> None:
        session = self.window.session
        if session.shot is not None:
            session.show_frame(self.dice.randint(session.shot.first, session.shot.last))
        if self.dice.random() < 0.2:
            session.show_shot(self.dice.randrange(max(1, len(session.plan.shots))))

    def _undo(self) -> None:
        for _ in range(self.dice.choice((1, 1, 3, 20))):
            self.dice.choice((self.window.session.undo, self.window.session.redo))()

    def _drop(self) -> None:
        from campaign.mutate_files import damaged

        seed = self.dice.choice(self.files)
        path = seed
        if self.dice.random() < 0.4:
            path = self.files[-1].with_name(f"hurt{seed.suffix}")  # never beside the demo
            path.write_bytes(damaged(seed.read_bytes(), seed.suffix, self.dice))
        self.done.append(f"open {path.name}")
        self.window.document.open(path)

    def _play(self) -> None:
        self.window.session.want("play")

    def _page(self) -> None:
        from kobrel.desk.cards.deck import NAMES
        from kobrel.desk.cards.paged import PagedCard

        number = self.dice.choice(list(NAMES))
        card = self.window.cards[number]
        if isinstance(card, PagedCard):
            self.window.show_page(number, self.dice.choice(list(card.pages)))

    def _save(self) -> None:
        self.window.document.save_to(self.plan)


def quiet_dialogs(dice: random.Random, folder: Path, files: list[Path]) -> None:
    """Let dialogs that wait for a person answer by themselves."""
    from PySide6.QtGui import QAction, QColor, QDesktopServices
    from PySide6.QtWidgets import QColorDialog, QDialog, QFileDialog, QInputDialog, QMenu, QMessageBox

    buttons = QMessageBox.StandardButton
    target = folder / "written"
    target.mkdir(exist_ok=True)
    endings = (".png", ".exr", ".csv", ".usda", ".kobrel", ".mp4", ".wav", ".otio", ".iris.json", ".json", ".ora",
               ".gltf", ".abc", ".edl", ".pdf", "")  # fmt: skip

    def save_name(*_a: Any, **_k: Any) -> tuple[str, str]:
        return (
            ("", "")
            if dice.random() < 0.4
            else (str(target / f"x{dice.randrange(5)}{dice.choice(endings)}"), "")
        )

    def open_name(*_a: Any, **_k: Any) -> tuple[str, str]:
        return str(dice.choice(files)) if dice.random() < 0.6 else "", ""

    def open_names(*_a: Any, **_k: Any) -> tuple[list[str], str]:
        return [str(path) for path in dice.sample(files, dice.choice((0, 1, 1, 3)))], ""

    def choose(menu: QMenu, *_a: Any) -> QAction | None:
        actions = [a for a in menu.actions() if a.isEnabled() and a.text() and "Quit" not in a.text()]
        if not actions or dice.random() < 0.3:
            return None
        chosen = dice.choice(actions)
        chosen.trigger()
        return chosen

    def answer(dialog: QDialog, *_a: Any) -> int:
        if isinstance(dialog, QMessageBox) and dialog.buttons():
            dice.choice(dialog.buttons()).click()
        else:
            dialog.reject()
        return 0

    QFileDialog.getSaveFileName = save_name  # type: ignore[method-assign,assignment]
    QFileDialog.getOpenFileName = open_name  # type: ignore[method-assign,assignment]
    QFileDialog.getOpenFileNames = open_names  # type: ignore[method-assign,assignment]
    QFileDialog.getExistingDirectory = lambda *_a, **_k: dice.choice(("", str(target)))  # type: ignore[method-assign,assignment]
    QMessageBox.question = lambda *_a, **_k: dice.choice((buttons.Discard, buttons.Cancel, buttons.Ok))  # type: ignore[method-assign,assignment]
    QMessageBox.warning = QMessageBox.about = QMessageBox.information = lambda *_a, **_k: buttons.Ok  # type: ignore[method-assign,assignment]
    QInputDialog.getText = lambda *_a, **_k: (dice.choice(_TEXTS), True)  # type: ignore[method-assign,assignment]
    QColorDialog.getColor = lambda *_a, **_k: dice.choice((QColor(), QColor("#a04020")))  # type: ignore[method-assign,assignment]
    QMenu.exec = choose  # type: ignore[method-assign,assignment]
    QDialog.exec = answer  # type: ignore[method-assign,assignment]
    QDesktopServices.openUrl = lambda *_a: True  # type: ignore[method-assign,assignment]


def _copies(folder: Path) -> list[Path]:
    """Plans of their own to work on and to save: one of the demo, one of plates."""
    from campaign.seeds import DEMO

    made = []
    for name in (DEMO.name, "paper_harbour.kobrel"):
        content = json.loads(DEMO.with_name(name).read_text())
        for scene in content["scenes"]:
            scene["path"] = str(DEMO.parent / scene["path"])
        for plate in content.get("plates", ()):
            if plate.get("picture"):
                plate["picture"]["path"] = str(DEMO.parent / plate["picture"]["path"])
        path = folder / name
        if not path.exists():
            path.write_text(json.dumps(content))
        made.append(path)
    return made


def play(seconds: float, seed: int, folder: Path) -> int:
    """Use a window for so long; returns how many exceptions there were, told on the terminal."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QApplication

    from campaign.seeds import make_seeds
    from campaign.soak import resident_mb
    from kobrel.desk.background.watchdog import Watchdog
    from kobrel.desk.toolkit.theme import apply
    from kobrel.desk.window.app import application
    from kobrel.desk.window.sheets.faults import release
    from kobrel.desk.window.window import Window
    from kobrel.session.settings import Settings
    from kobrel.session.store import FileStore

    faulthandler.enable()
    dice = random.Random(seed)
    faults: Counter[str] = Counter()
    hands: Hands | None = None

    def fault(kind: type[BaseException], error: BaseException, trace: Any) -> None:
        text = "".join(traceback.format_exception(kind, error, trace))
        release(trace)
        key = text.splitlines()[-1] + text.splitlines()[-3][:120]
        faults[key] += 1
        if faults[key] == 1:
            print(f"seed {seed}: {text}\nlast: {hands.done[-4:] if hands else ''}", flush=True)

    import threading

    sys.excepthook = fault
    threading.excepthook = lambda given: fault(
        given.exc_type, given.exc_value or given.exc_type(), given.exc_traceback
    )
    sys.unraisablehook = lambda given: fault(
        given.exc_type, given.exc_value or given.exc_type(), given.exc_traceback
    )
    qt = application()
    apply(qt)
    files = make_seeds(folder / f"seeds{seed}")
    quiet_dialogs(dice, folder, files)
    not_opened = (".csv", ".txt", ".json", ".journal", ".otio", ".otioz", ".edl")
    seeds = [path for path in files if path.suffix not in not_opened]
    plans = _copies(folder)
    window = Window(Settings(FileStore(folder / "settings.json"), folder, folder / "journals"))
    window.resize(1280, 800)
    window.show()
    window.drawing.start()
    window.queueing.start()
    window.cards.make_ahead()
    watchdog = Watchdog(window, STALL_S)
    hands = Hands(window, [*plans, *plans, *seeds], plans[0], dice)
    window.document.open(plans[0])
    until, acts, used = time.monotonic() + seconds, 0, [0.0]
    while time.monotonic() < until:
        begun = time.thread_time()
        if window.session.plan.shots and window.jobs.job is None:
            hands.act()
            acts += 1
        if acts % 50 == 0:
            window.grab(window.rect().adjusted(0, 0, 0, 0))
            for widget in QApplication.topLevelWidgets():
                if widget is not window and widget.isVisible() and widget.windowFlags() & Qt.WindowType.Popup:
                    widget.close()
        pause = time.monotonic() + dice.choice((0, 0, 0.01, 0.05))
        while True:
            qt.processEvents()
            used.append(time.thread_time() - begun)
            if time.monotonic() >= pause:
                break
            time.sleep(0.002)
            begun = time.thread_time()
    watchdog.end()
    window.session.mark_saved()
    window.close()
    worst = max((b.seconds for b in watchdog.blocks), default=0.0)
    print(f"seed {seed}: {acts} acts, {sum(faults.values())} exceptions of {len(faults)} kinds, the loop stood "
          f"still over {STALL_S:g} s {len(watchdog.blocks)} times, {worst:.1f} s at most, took more of a "
          f"processor itself {sum(each > STALL_S for each in used)} times, {max(used):.2f} s at most, "
          f"{resident_mb():.0f} MB", flush=True)  # fmt: skip
    if os.environ.get("KOBREL_DEBUG"):
        for block in sorted(watchdog.blocks, key=lambda b: -b.seconds)[:20]:
            own = [line for line in block.where.splitlines() if "kobrel" in line]
            print(f"{block.seconds:.2f} s:\n" + "\n".join(own[-12:]), flush=True)
    os._exit(min(100, len(faults)))


def main() -> int:
    """Play in children of some minutes each; 1 if anything went wrong."""
    parser = argparse.ArgumentParser(prog="python -m campaign.hands", description=__doc__)
    parser.add_argument("--seconds", type=float, default=600)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--each", type=float, default=120, help="seconds with one window")
    parser.add_argument("--play", type=int, help=argparse.SUPPRESS)
    parser.add_argument("--folder", type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.play is not None:
        return play(given.seconds, given.play, given.folder)
    until, seed, windows, bad = time.monotonic() + given.seconds, given.first, 0, 0
    while time.monotonic() < until:
        seeds = [seed, seed + _TWIN] if seed % 3 == 2 else [seed]
        with tempfile.TemporaryDirectory(prefix="kobrel-hands-", ignore_cleanup_errors=True) as folder:
            bad += sum(_played(Path(folder), seeds, given.each))
            _end_runners(folder)
        seed, windows = seed + 1, windows + len(seeds)
    print(f"{windows} windows, {bad} of them with something wrong")
    return 1 if bad else 0


def _end_runners(folder: str) -> None:
    """End the runners of queues in a folder: they outlive their window, and would take the next one's time."""
    for words in Path("/proc").glob("[0-9]*/cmdline"):
        with contextlib.suppress(OSError):  # it ended by itself
            said = words.read_bytes().decode(errors="replace")
            if "kobrel.farm.runner" in said and folder in said:
                os.kill(int(words.parent.name), signal.SIGKILL)


def _played(folder: Path, seeds: list[int], seconds: float) -> list[bool]:
    """Play in a window for each seed, at the same time and on one plan; whether each went wrong."""
    environment = {**os.environ} | {
        f"XDG_{kind}_HOME": str(folder / kind.lower()) for kind in ("CONFIG", "STATE", "DATA", "CACHE")
    }
    playing, bad = [], []
    for seed in seeds:
        command = [sys.executable, "-m", "campaign.hands", "--play", str(seed), "--seconds", str(seconds),
                   "--folder", str(folder)]  # fmt: skip
        said = (folder / f"said{seed}").open("w+", errors="replace")
        playing.append((seed, said, subprocess.Popen(command, stderr=said, env=environment)))
    for seed, said, process in playing:
        try:
            status = process.wait(seconds + 120)
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGABRT)  # tells where it stands
            status = process.wait()
            print(f"seed {seed}: hang", flush=True)
        said.seek(0)
        lines = [line for line in said.read().splitlines() if "plugin" not in line]
        said.close()
        bad.append(status != 0)
        if status:
            print(f"seed {seed}: status {status}\n" + "\n".join(lines[-60:]), flush=True)
    return bad


if __name__ == "__main__":
    sys.exit(main())
