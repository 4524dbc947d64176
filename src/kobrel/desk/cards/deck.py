"""The cards behind their tabs. A card is made when it is first shown."""

import importlib
import threading
import time
from collections.abc import Iterator
from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QScrollArea, QStackedWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.background.scene_files import SceneFiles
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.paged import PagedCard
from kobrel.session.numbers import AT_FRAME
from kobrel.session.session import Session

_MODULES = (
    *(f"kobrel.desk.cards.{name}.{name}_card"
      for name in ("tape", "iris", "pull", "proof", "block", "export", "plates")),
    "kobrel.farm.work",
)  # fmt: skip
"""What cards and their buttons load, in this order."""
NAMES = {1: "Block", 2: "Tape", 3: "Glass", 4: "Iris", 5: "Pull", 6: "Proof", 7: "Export", 8: "Plates"}
_AHEAD_MS, _QUIET_S = 400, 1.0
"""How often a page is made ahead, and how long nothing may have changed then."""
BLOCK, PROOF, EXPORT, PLATES = 1, 6, 7, 8


def _load_modules() -> None:
    for module in _MODULES:
        importlib.import_module(module)


class Deck(QStackedWidget):
    """Cards by their numbers."""

    def __init__(
        self,
        session: Session,
        files: SceneFiles,
        proofing: Proofing,
        exports: Exports,
        queueing: Queueing,
    ) -> None:
        super().__init__()
        self._session, self._files, self._exports = session, files, exports
        self._proofing, self._queueing = proofing, queueing
        self._cards: dict[int, Card[Any]] = {}
        self._index: dict[int, int] = {}
        self.setObjectName("panel")
        self.setFixedWidth(322)
        self._loading = threading.Thread(target=_load_modules, name="kobrel-import", daemon=True)
        self._changed_at = 0.0
        self._ahead = QTimer(self)
        self._ahead.setInterval(_AHEAD_MS)
        self._ahead.timeout.connect(self._make_next)

    def load(self) -> None:
        """Load, beside the window, what all cards need."""
        if not self._loading.ident:
            self._loading.start()

    def make_ahead(self) -> None:
        """Make cards and pages while nothing else is done, one at a time, so that they come at once when they
        are turned to.
        """
        self._session.watch(AT_FRAME, self._note_change)
        self._ahead.start()

    def _note_change(self) -> None:
        self._changed_at = time.monotonic()

    def _make_next(self) -> None:
        """Make the next card or page that was not yet seen, unless a person is at work."""
        busy = QGuiApplication.mouseButtons() or time.monotonic() - self._changed_at < _QUIET_S
        if busy or not self._loading.ident or self._loading.is_alive():
            return
        for key in NAMES:
            if key not in self._cards:
                self[key]
                return
        if not any(isinstance(card, PagedCard) and card.make_next_page() for card in self._cards.values()):
            self._ahead.stop()

    def __getitem__(self, key: int) -> Card[Any]:
        if key not in self._cards:
            self._add(key, self._make(key))
        return self._cards[key]

    def __contains__(self, key: object) -> bool:
        return key in NAMES

    def values(self) -> Iterator[Card[Any]]:
        """All cards."""
        return (self[key] for key in NAMES)

    def made(self, key: int) -> Card[Any] | None:
        """A card if it was made."""
        return self._cards.get(key)

    def turn_to(self, key: int) -> None:
        """Show a card."""
        self[key]
        self.setCurrentIndex(self._index[key])

    def _make(self, key: int) -> Card[Any]:
        session = self._session
        if key == 1:
            from kobrel.desk.cards.block.block_card import BlockCard

            return BlockCard(session, self._files)
        if key == 2:
            from kobrel.desk.cards.tape.tape_card import TapeCard

            return TapeCard(session)
        if key == 3:
            from kobrel.desk.cards.glass.glass_card import GlassCard

            return GlassCard(session, self._exports)
        if key == 4:
            from kobrel.desk.cards.iris.iris_card import IrisCard

            return IrisCard(session)
        if key == 5:
            from kobrel.desk.cards.pull.pull_card import PullCard

            return PullCard(session)
        if key == EXPORT:
            from kobrel.desk.cards.export.export_card import ExportCard

            return ExportCard(session, self._exports)
        if key == PLATES:
            from kobrel.desk.cards.plates.plates_card import PlatesCard

            return PlatesCard(session, self._files)
        from kobrel.desk.cards.proof.proof_card import ProofCard

        return ProofCard(session, self._proofing, self._queueing)

    def _add(self, key: int, card: Card[Any]) -> None:
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(card)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._index[key] = self.addWidget(scroll)
        self._cards[key] = card
