"""Tells what keeps the window's loop from turning, in debug runs and tests."""

import sys
import threading
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QObject, QTimer

LIMIT_S = 0.1
"""How long the loop may stand still."""
_TICK_MS, _LOOK_S = 5, 0.01


@dataclass(frozen=True)
class Block:
    """The loop stood still: for how long, and where it was then, as a traceback tells it."""

    seconds: float
    where: str


class Watchdog(QObject):
    """Watches the loop of the thread that it is made in.

    Parameters
    ----------
    limit_s : what is shorter is not told
    told : called with each block, from a thread of its own

    Attributes
    ----------
    blocks : all of them, and `turns`, how often the loop turned
    """

    def __init__(
        self, parent: QObject, limit_s: float = LIMIT_S, told: Callable[[Block], object] | None = None
    ) -> None:
        super().__init__(parent)
        self._limit, self._told = limit_s, told
        self.blocks: list[Block] = []
        self.turns = 0
        self._turned = time.monotonic()
        self._watched = threading.get_ident()
        self._ended = threading.Event()
        self._ticks = QTimer(self)
        self._ticks.setInterval(_TICK_MS)
        self._ticks.timeout.connect(self._turn)
        self._ticks.start()
        self._thread = threading.Thread(target=self._watch, name="kobrel-watchdog", daemon=True)
        self._thread.start()

    def _turn(self) -> None:
        self._turned = time.monotonic()
        self.turns += 1

    def _watch(self) -> None:
        while not self._ended.wait(_LOOK_S):
            since = self._turned
            if time.monotonic() - since <= self._limit:
                continue
            where = _told(_places(self._watched))
            while self._turned == since and not self._ended.wait(_LOOK_S / 2):
                pass
            block = Block(self._turned - since, where)
            self.blocks.append(block)
            if self._told is not None:
                self._told(block)

    def end(self) -> None:
        """Watch no more."""
        self._ended.set()
        self._ticks.stop()


def _places(thread: int) -> list[tuple[str, int, str]]:
    """Where a thread is: file, line and function, the innermost last.

    No frame is held on to: a painter in one would outlive its painting, and that ends the program.
    """
    frame, found = sys._current_frames().get(thread), []
    while frame is not None:
        found.append((frame.f_code.co_filename, frame.f_lineno, frame.f_code.co_name))
        frame = frame.f_back
    return found[::-1]


def _told(places: list[tuple[str, int, str]]) -> str:
    summary = [traceback.FrameSummary(*place) for place in places]
    return "".join(traceback.format_list(summary))


def print_block(block: Block) -> None:
    """Tell a block on the terminal."""
    print(f"kobrel: the window stood still for {block.seconds:.2f} s at\n{block.where}", file=sys.stderr)
