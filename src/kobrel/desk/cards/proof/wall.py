"""The wall of the Proof card: how it is seen, and what becomes of the chosen proofs."""

from PySide6.QtWidgets import QLineEdit, QWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import SessionCard
from kobrel.desk.cards.widgets import choice
from kobrel.plan.variants.proofs import ORDERS, TAKES, facts
from kobrel.session.commands import proving
from kobrel.session.document import Document
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import WallMode
from kobrel.session.view import View

_MODES: list[tuple[str, WallMode]] = [
    ("All", "all"), ("Side by side", "side"), ("Wipe", "wipe"), ("Blink", "blink"),
    ("Exposure difference (stops)", "stops"), ("Blur difference (px)", "blur"),
]  # fmt: skip
_HUNG = [("Saved proofs", "wall"), ("Last bracket", "ladder")]


@guarded
class WallPage(SessionCard):
    """The wall of the Proof card: how it is seen, and what becomes of the chosen proofs."""

    name = "Wall"
    purpose = "Proofs side by side, to compare and restore"
    is_page = True
    depends = (Document.plan, View.wall, View.wall_mode, Selection.proofs, View.proof_order)

    def __init__(self, session: Session, proofing: Proofing, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.proofing = proofing
        self.buttons(
            ("Add proof", "Add the current picture with its settings to the wall", proofing.keep),
            ("Contact sheet…", "Export the proofs shown as PDF or PNG", lambda: session.want("sheet")),
        )
        self.hung = choice("Proofs shown on the wall", _HUNG, "Saved proofs or the last bracket", 186)
        self.bind(self.hung, lambda s: s.view.wall, session.show_wall)
        self.row("Show", self.hung)
        orders = [(text, order) for order, text in ORDERS.items()]
        self.order = choice("Order of the proofs", orders, "Sort order of the proofs", 186)
        self.bind(self.order, lambda s: s.view.proof_order, session.setter(View.proof_order))
        self.show_if(self.order, lambda s: s.view.wall == "wall")
        self.row("Order", self.order)
        self.mode = choice(
            "How they are seen", _MODES,
            "Grid, or compare the selected proofs (two for wipe and differences)", 186,
        )  # fmt: skip
        self.bind(self.mode, lambda s: s.view.wall_mode, session.setter(View.wall_mode))
        self.row("Compare", self.mode)
        self.line()
        self.title = QLineEdit()
        self.title.setFixedWidth(186)
        self.title.setAccessibleName("Name of the proof")
        self.title.setToolTip("Name of the first selected proof; Enter applies it")
        self.title.editingFinished.connect(self._rename)
        self.enable_if(self.title, lambda s: s.view.wall == "wall" and bool(proofing.chosen()))
        self.row("Name", self.title)
        ratings: list[tuple[str, object]] = [("Unrated", 0), *(("●" * k, k) for k in range(1, 6))]
        self.rating = choice("Rating", ratings, "Rating of the proof, 0 to 5", 132)
        self.bind(self.rating, lambda _s: self._first_rating(), self._rate)
        self.enable_if(self.rating, lambda s: s.view.wall == "wall" and bool(proofing.chosen()))
        self.row("Rating", self.rating)
        self.told = self.note()
        self.line()
        takes: list[tuple[str, object]] = [(text, what) for what, text in TAKES.items()]
        self.what = choice("What is taken back", takes, "Which of the proof's settings the shot takes", 186)
        self.row("Restore", self.what)
        self.take, self.alt = self.buttons(
            ("Apply", "Give the shot these settings of the first selected proof", self._take_back),
            ("Save as alt", "Save the proof's settings with the shot as an alt", self._take_as_alt),
        )
        self.keep, self.delete = self.buttons(
            ("Save selected", "Add selected steps to the wall permanently", self._keep_rungs),
            ("Delete", "Remove selected proofs from the wall (files stay on disk)",
             lambda: proving.remove(session)),
        )  # fmt: skip
        self.enable_if(self.keep, lambda s: s.view.wall == "ladder" and bool(proofing.chosen()))
        self.enable_if(self.delete, lambda s: s.view.wall == "wall" and bool(proofing.chosen()))
        for button in (self.take, self.alt):
            self.enable_if(button, lambda _s: bool(proofing.chosen()))
        self.column.addStretch(1)
        proofing.changed.connect(self._refresh_if_seen)

    def showEvent(self, event: object) -> None:
        self.session.view.seen = "wall"
        super().showEvent(event)

    def hideEvent(self, event: object) -> None:
        self.session.view.seen = ""
        super().hideEvent(event)

    def show_more(self, subject: Session) -> None:
        chosen = self.proofing.chosen()
        if not self.title.hasFocus():
            self.title.setText(chosen[0].name if chosen else "")
        self.told.setText(
            ", ".join(filter(None, facts(chosen[:1], subject.unit)[0].values()))
            if chosen
            else "Select a proof on the wall."
        )

    def _first_rating(self) -> int:
        chosen = self.proofing.chosen()
        return chosen[0].rating if chosen else 0

    def _rename(self) -> None:
        chosen, name = self.proofing.chosen(), self.title.text().strip()
        if chosen and self.session.view.wall == "wall" and name != chosen[0].name:
            proving.change(self.session, chosen[0].name, name=name)
            self.refresh()

    def _rate(self, rating: int) -> None:
        for proof in self.proofing.chosen():
            proving.change(self.session, proof.name, rating=rating)

    def _take_back(self) -> None:
        proving.take(self.session, self.proofing.chosen()[0], self.what.currentData())

    def _take_as_alt(self) -> None:
        proving.take_as_alt(self.session, self.proofing.chosen()[0])

    def _keep_rungs(self) -> None:
        self.proofing.keep_rungs(self.proofing.chosen())
