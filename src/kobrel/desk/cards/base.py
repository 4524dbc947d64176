"""What all cards have: a title, rows of fields, large and small readings."""

from collections.abc import Callable, Collection, Iterable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QPushButton,
    QStyleOptionComboBox,
    QTableView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.fields import Field, place_field
from kobrel.desk.look import font
from kobrel.desk.session import Below, Room, Session

_STEP_PX, _FINE_PX = 5.0, 20.0
_PAGES_A_ROW = 5


class Card(QWidget):
    """A card: fields change the plan through the session, readings show it.

    Subclasses build themselves in ``__init__`` and show the session in :meth:`refresh`. A page
    of a card is a card without a title.
    """

    name = ""
    is_page = False
    below: Below = ""
    """What stands in the chart's room while the card is seen."""
    room: Room = ""
    """What is given more room while the card is seen."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.column = QVBoxLayout(self)
        self.column.setSpacing(6)
        session.changed.connect(self._refresh_if_seen)
        if self.is_page:
            self.column.setContentsMargins(0, 4, 0, 0)
            return
        self.column.setContentsMargins(14, 12, 14, 12)
        title = QLabel(self.name)
        title.setObjectName("title")
        self.column.addWidget(title)
        self.column.addSpacing(4)

    def _refresh_if_seen(self) -> None:
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: object) -> None:
        if self.below:
            self.session.show_below(self.below)
        if self.room:
            self.session.give_room(self.room)
        self.refresh()

    def hideEvent(self, event: object) -> None:
        if self.below:
            self.session.show_below("")
        if self.room:
            self.session.give_room("")

    def refresh(self) -> None:
        """Show the session's values."""
        raise NotImplementedError

    def row(self, label: str, *widgets: QWidget) -> None:
        """A labelled row; the label belongs to the first widget for keys and assistive technology."""
        whole = QWidget()
        line = QHBoxLayout(whole)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(6)
        first = widgets[0]
        text = _Handle(label, first, self.session) if isinstance(first, Field) else QLabel(label)
        text.setObjectName("quiet")
        text.setBuddy(first)
        line.addWidget(text)
        line.addStretch(1)
        for widget in widgets:
            line.addWidget(widget)
            if isinstance(widget, Field):
                widget.refused.connect(self.session.said)
        self.column.addWidget(whole)

    @staticmethod
    def show_row(widget: QWidget, shown: bool) -> None:
        """Show or hide the whole row that a widget stands in."""
        row = widget.parentWidget()
        if row is not None:
            row.setVisible(shown)

    @staticmethod
    def name_row(widget: QWidget, label: str) -> None:
        """Call a row otherwise."""
        row = widget.parentWidget()
        text = row.findChild(QLabel) if row is not None else None
        if text is not None:
            text.setText(label)

    def reading(self, label: str, pixels: int = 13, role: str = "", hint: str = "") -> QLabel:
        """A labelled number to look at, with a sentence behind it for those who want to know."""
        line = QHBoxLayout()
        text = _Told(label, hint, self.session) if hint else QLabel(label)
        text.setObjectName("quiet")
        value = QLabel("–")
        value.setFont(font(pixels, bold=pixels > 13))
        value.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        value.setAccessibleName(label)
        value.setToolTip(hint)
        value.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        give_role(value, role)
        line.addWidget(text)
        line.addStretch(1)
        line.addWidget(value)
        self.column.addLayout(line)
        return value

    def line(self) -> None:
        """A quiet line between groups."""
        rule = QFrame()
        rule.setObjectName("rule")
        rule.setFixedHeight(1)
        self.column.addSpacing(4)
        self.column.addWidget(rule)
        self.column.addSpacing(4)

    def note(self, text: str = "") -> QLabel:
        """A quiet sentence."""
        label = QLabel(text)
        label.setObjectName("quiet")
        label.setWordWrap(True)
        label.setFont(font(12))
        self.column.addWidget(label)
        return label

    def buttons(self, *made: tuple[str, str, Callable[[], object]]) -> list[QPushButton]:
        """A row of buttons: what each says, what it does in a few words, and the doing."""
        line = QHBoxLayout()
        line.setSpacing(6)
        result = []
        for text, hint, work in made:
            button = QPushButton(text)
            button.setToolTip(hint)
            button.clicked.connect(lambda _on=False, do=work: do())
            line.addWidget(button)
            result.append(button)
        line.addStretch(1)
        self.column.addLayout(line)
        return result

    def places(self, label: str, what: str, taken: Callable[[int, float], object]) -> list[Field]:
        """A row of three lengths, X, Y and Z; `taken` is told which and the metres."""
        fields = []
        for axis, letter in enumerate("XYZ"):
            field = place_field(f"{what} {letter}", lambda: self.session.unit)
            field.taken.connect(lambda metres, a=axis: taken(a, metres))
            fields.append(field)
        self.row(label, *fields)
        return fields

    def tick(self, text: str, hint: str, taken: Callable[[bool], object]) -> QCheckBox:
        """A box to tick."""
        box = QCheckBox(text)
        box.setToolTip(hint)
        box.clicked.connect(lambda on: taken(bool(on)))
        self.column.addWidget(box)
        return box


class _Handle(QLabel):
    """The label of a number: drag it sideways to step the number."""

    def __init__(self, text: str, field: Field, session: Session) -> None:
        super().__init__(text)
        self._field, self._session = field, session
        self._from: float | None = None
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setToolTip(f"Drag sideways to step it, with Shift finely. {field.toolTip()}")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton and self._field.isEnabled():
            self._from = event.position().x()
            self._session.begin_drag()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is None:
            return
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        steps = int((event.position().x() - self._from) / (_FINE_PX if fine else _STEP_PX))
        if steps:
            self._from = event.position().x()
            self._field.step_by(steps)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._from is not None:
            self._from = None
            self._session.end_drag()


class _Told(QLabel):
    """A label that says what its number means when it is clicked."""

    def __init__(self, text: str, hint: str, session: Session) -> None:
        super().__init__(text)
        self._hint, self._session = hint, session
        self.setToolTip(hint)
        self.setCursor(Qt.CursorShape.WhatsThisCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._session.said.emit(f"{self.text()}: {self._hint}")


class PagedCard(Card):
    """A card whose work is divided: one page is seen at a time."""

    def __init__(self, session: Session, pages: list[Card], parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.pages = {page.name: page for page in pages}
        self._choice = QButtonGroup(self)
        rows = QGridLayout()
        rows.setSpacing(2)
        for number, page in enumerate(pages):
            button = QPushButton(page.name)
            button.setCheckable(True)
            button.setChecked(number == 0)
            button.setToolTip(f"The {page.name.lower()} of this card")
            self._choice.addButton(button, number)
            rows.addWidget(button, *divmod(number, _PAGES_A_ROW))
        rows.setColumnStretch(_PAGES_A_ROW, 1)
        self._choice.idClicked.connect(self._turn)
        self.column.addLayout(rows)
        for number, page in enumerate(pages):
            self.column.addWidget(page, 1)
            page.setVisible(number == 0)
        kept = str(session.settings.value(f"page/{self.name}", ""))
        if kept in self.pages:
            self.show_page(kept)

    def _turn(self, number: int) -> None:
        wanted = list(self.pages.values())[number]
        for page in self.pages.values():
            if page is not wanted:
                page.hide()
        wanted.show()
        self.session.settings.setValue(f"page/{self.name}", list(self.pages)[number])

    def show_page(self, name: str) -> None:
        """Turn to a page."""
        number = list(self.pages).index(name)
        self._choice.button(number).setChecked(True)
        self._turn(number)

    def refresh(self) -> None:
        """Its pages show themselves."""


class Choice(QComboBox):
    """A drop-down that, closed, shows a choice's text up to its first double space."""

    def initStyleOption(self, option: QStyleOptionComboBox) -> None:
        super().initStyleOption(option)
        option.currentText = option.currentText.split("  ")[0]  # type: ignore[attr-defined]


def plain_table(table: QTableView, name: str, row_px: int) -> None:
    """Give a table whole rows to choose from, one at a time, and no grid."""
    table.setAccessibleName(name)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    table.setShowGrid(False)
    table.setTabKeyNavigation(False)
    table.verticalHeader().hide()
    table.verticalHeader().setDefaultSectionSize(row_px)
    table.horizontalHeader().setHighlightSections(False)


def word_table(name: str, headings: Sequence[str], row_px: int, wide: Collection[int]) -> QTableWidget:
    """A plain table of words that are changed elsewhere; some columns take what room there is."""
    table = QTableWidget(0, len(headings))
    table.setHorizontalHeaderLabels(headings)
    plain_table(table, name, row_px)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    modes = QHeaderView.ResizeMode
    for column in range(len(headings)):
        mode = modes.Stretch if column in wide else modes.ResizeToContents
        table.horizontalHeader().setSectionResizeMode(column, mode)
    return table


def show_words(table: QTableWidget, row: int, words: Iterable[str]) -> list[QTableWidgetItem]:
    """Fill a row; tooltips tell what is cut off for want of room, before the table's own."""
    items = [QTableWidgetItem(text) for text in words]
    for column, item in enumerate(items):
        text = item.text()
        item.setToolTip("\n".join(filter(None, (text, table.toolTip()))))
        table.setItem(row, column, item)
    return items


def choice(name: str, options: list[tuple[str, object]], hint: str = "", width: int = 132) -> QComboBox:
    """A drop-down of (text, data); what follows a double space shows in the list alone."""
    box = Choice()
    box.setAccessibleName(name)
    box.setToolTip(hint or name)
    box.setFixedWidth(width)
    for text, data in options:
        box.addItem(text, data)
    box.view().setMinimumWidth(max(width, box.sizeHint().width() + 20))
    return box


def choose(box: QComboBox, data: object) -> None:
    """Show a choice without telling it as the person's."""
    box.blockSignals(True)
    box.setCurrentIndex(box.findData(data))
    box.blockSignals(False)


def fill(box: QComboBox, options: Sequence[tuple[str, object]], chosen: object) -> None:
    """Give a drop-down other choices, (text, data), and show one; none of it is told as the person's."""
    box.blockSignals(True)
    if [(box.itemText(k), box.itemData(k)) for k in range(box.count())] != list(options):
        box.clear()
        for text, data in options:
            box.addItem(text, data)
    box.setCurrentIndex(next((k for k, (_, data) in enumerate(options) if data == chosen), -1))
    box.blockSignals(False)


def give_role(label: QLabel, role: str) -> None:
    """Colour a label by what it tells: nearer, farther, sharp, focus, gone, or nothing of these."""
    if label.property("role") != role:
        label.setProperty("role", role)
        label.style().unpolish(label)
        label.style().polish(label)
