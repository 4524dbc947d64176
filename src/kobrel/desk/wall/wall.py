"""The wall in Picture's room: all proofs, or the chosen ones against each other."""

from PySide6.QtWidgets import QStackedWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.wall.compare import CompareView
from kobrel.desk.wall.grid import WallGrid
from kobrel.desk.wall.pictures import Pictures
from kobrel.memo import Changed
from kobrel.session.document import Document
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View


class WallView(QStackedWidget):
    """The wall in Picture's room: all proofs, or the chosen ones against each other."""

    def __init__(self, session: Session, proofing: Proofing) -> None:
        super().__init__()
        self._session, self._proofing = session, proofing
        self.pictures = Pictures(self)
        self.grid = WallGrid(session, proofing, self.pictures, self.compare)
        self.compared = CompareView(session, proofing, self.pictures)
        self.addWidget(self.grid)
        self.addWidget(self.compared)
        self._hung = Changed()
        proofing.changed.connect(self.show_proofs)
        self.pictures.came.connect(self.grid.viewport().update)
        self.pictures.came.connect(self.compared.update)
        session.watch(
            {
                Document.plan,
                View.wall,
                View.wall_mode,
                Selection.proofs,
                View.proof_order,
                View.theme,
                View.seen,
            },
            self.show_proofs,
        )
        session.closing.connect(self.pictures.close)

    def show_proofs(self) -> None:
        """Show what hangs there, as it is to be seen."""
        if self._session.view.seen != "wall":
            return
        large = self._session.view.wall_mode != "all"
        self.setCurrentWidget(self.compared if large else self.grid)
        if self._hung(tuple(self._proofing.hung()), self._session.view.wall):
            self.grid.rebuild()
        self.grid.viewport().update()
        self.compared.show_mode()

    def compare(self) -> None:
        """See the chosen proofs large, side by side if there are several."""
        if self._proofing.chosen():
            self._session.view.wall_mode = "side"
            self.compared.setFocus()
