"""Typing a title where it stands in Picture."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFocusEvent, QFont, QKeyEvent, QTextCursor
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.picture.plates import PlateMarks
from kobrel.desk.toolkit.words import plain
from kobrel.plan.pictures.drawn import MOST_LETTERS, Title
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.drawing import letters_in_height
from kobrel.plan.plates.placing import axial_m
from kobrel.plan.space.plates import pivot_at
from kobrel.session.commands.plates import drawing, placing
from kobrel.session.document import Document
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session
from kobrel.session.tools import PLACING_TABS

_LEAST_PX, _MOST_PX = 13, 72
_LEAST_WIDE, _MARGIN = 160, 10


@guarded
class TitleEditor(QPlainTextEdit):
    """A title's text over the title itself. Enter takes it, as clicking elsewhere does; Shift+Enter begins a
    line, Esc leaves the old text.
    """

    def __init__(self, session: Session, plates: PlateMarks, parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._plates, self._picture = session, plates, parent
        self._of: int | None = None
        self.setAccessibleName("Text of the title")
        self.setToolTip(plain("Enter: apply. Shift+Enter: new line. Esc: keep the old text"))
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setFrameShape(QPlainTextEdit.Shape.NoFrame)
        self._middle = QPointF()
        for policy in (self.setHorizontalScrollBarPolicy, self.setVerticalScrollBarPolicy):
            policy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.textChanged.connect(self._fit)
        self.hide()
        session.wanted.connect(lambda what: self.begin() if what == "title" else None)
        session.watch({Document.plan, Selection.item}, self._leave_if_gone)

    def begin_at(self, at: QPointF) -> bool:
        """Begin with the nearest title at a place of the picture; whether there is one."""
        now = self._session.now
        if (
            now is None
            or self._session.view.card not in PLACING_TABS
            or self._session.selection.tool is not None
        ):
            return False
        found = [
            plate for plate in now.plan.plates
            if plate.shown and isinstance(plate.picture.drawn, Title) and self._plates.holds(plate, at)
        ]  # fmt: skip
        if not found:
            return False
        nearest = min(found, key=lambda p: axial_m(now.camera, pivot_at(p, now.plan.dials, [now.frame])[0]))
        self._session.selection.item = ChosenPlates(nearest.number)
        self.begin()
        return True

    def begin(self) -> None:
        """Begin with the chosen title."""
        plate = placing.chosen(self._session)
        title = plate.picture.drawn if plate is not None else None
        if plate is None or not isinstance(title, Title):
            return
        self._of = plate.number
        stands = self._stands(plate)
        self._middle = stands.center()
        letter = round(min(max(stands.height() / letters_in_height(title), _LEAST_PX), _MOST_PX))
        font = QFont(title.family)
        font.setPixelSize(letter)
        self.setFont(font)
        self.setStyleSheet(f"font-family: '{_quoted(title.family)}'; font-size: {letter}px;")
        self.setPlainText(title.text)
        self.show()
        self._fit()
        self.raise_()
        self.setFocus(Qt.FocusReason.OtherFocusReason)
        self.moveCursor(QTextCursor.MoveOperation.Start)
        self.selectAll()

    def _stands(self, plate: Plate) -> QRectF:
        """Where the title stands on the picture; the middle of that where it is out of the frame."""
        whole, stands = self._whole(), self._plates.room_of(plate)
        if stands is None or not stands.intersects(whole):
            return QRectF(whole.center(), whole.center())
        return stands

    def _whole(self) -> QRectF:
        return QRectF(self._picture.rect()).adjusted(_MARGIN, _MARGIN, -_MARGIN, -_MARGIN)

    def _fit(self) -> None:
        """Give the text the room that it needs, about the title's middle and within the picture."""
        if self._of is None:
            return
        lines, metrics, whole = self.toPlainText().split("\n"), self.fontMetrics(), self._whole()
        wide = max(metrics.horizontalAdvance(line) for line in lines) + 3 * _MARGIN
        tall = len(lines) * metrics.lineSpacing() + 2 * _MARGIN
        box = QRectF(0, 0, min(max(wide, _LEAST_WIDE), whole.width()), min(tall, whole.height()))
        box.moveCenter(self._middle)
        box.moveLeft(min(max(box.left(), whole.left()), whole.right() - box.width()))
        box.moveTop(min(max(box.top(), whole.top()), whole.bottom() - box.height()))
        self.setGeometry(box.toAlignedRect())

    def take(self) -> None:
        """Give the title this text."""
        plate = placing.chosen(self._session)
        number, self._of = self._of, None
        self.hide()
        if plate is not None and plate.number == number:
            drawing.set_text(self._session, self.toPlainText()[:MOST_LETTERS])

    def leave(self) -> None:
        """Keep the old text."""
        self._of = None
        self.hide()

    def _leave_if_gone(self) -> None:
        if self._of is not None and self._session.selection.plate != self._of:
            self.leave()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        enter = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        elif enter and not event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.take()
        elif enter:
            self.insertPlainText("\n")
        else:
            super().keyPressEvent(event)
            return
        if not self.isVisible():
            self._picture.setFocus()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if self._of is not None and event.reason() != Qt.FocusReason.PopupFocusReason:
            self.take()


def _quoted(family: str) -> str:
    """A family's name as style sheets have it."""
    return "".join(letter for letter in family if letter not in "'\"\\{};\n")
