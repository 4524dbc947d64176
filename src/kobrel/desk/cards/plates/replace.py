"""The dialog that asks how another picture takes the place of a plate's."""

from pathlib import Path

from PySide6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from kobrel.desk.toolkit.words import Label, plain
from kobrel.plan.pictures.plates import Plate, PlatePicture
from kobrel.plan.plates.replacing import set_of, shapes_differ
from kobrel.session.commands.plates import replacing
from kobrel.session.session import Session


class ReplaceDialog(QDialog):
    """Which plates show the other picture, and what becomes of cut-outs where its shape differs."""

    def __init__(
        self, session: Session, plate: Plate, picture: PlatePicture, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._plate, self._picture = session, plate, picture
        self._set = set_of(session.plan.plates, plate)
        self.setWindowTitle("Replace picture")
        name, others = Path(picture.path).name, len(self._set) - 1
        column = QVBoxLayout(self)
        column.addWidget(Label(f"{plate.name} shows {name} instead of {plate.picture.label}."))
        which = "other plate" if others == 1 else f"{others} other plates"
        self.all = QCheckBox(f"In the {which} of that picture too")
        self.all.setChecked(others > 0)
        self.all.setVisible(others > 0)
        self.stretch = QCheckBox("Cut-outs are stretched with the picture")
        self.stretch.setToolTip(plain("Off: cut-outs keep their shape, about its centre"))
        self.stretch.setVisible(self._bends)
        column.addWidget(self.all)
        column.addWidget(self.stretch)
        buttons = QDialogButtonBox(
            QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel
        )
        buttons.button(QDialogButtonBox.StandardButton.Ok).setText("Replace")
        buttons.accepted.connect(self.take)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)

    @property
    def _bends(self) -> bool:
        return any(each.cut is not None for each in self._set) and shapes_differ(self._plate, self._picture)

    @property
    def is_needed(self) -> bool:
        """Whether there is anything to be asked."""
        return len(self._set) > 1 or self._bends

    def take(self) -> None:
        """Replace the picture, and close."""
        plates = self._set if self.all.isChecked() else [self._plate]
        replacing.replace(self._session, plates, self._picture, self.stretch.isChecked())
        self.accept()
