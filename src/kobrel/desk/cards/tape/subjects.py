"""The subjects of the Tape card: a list in two lines each, and what the chosen one is tied to."""

import math

from PySide6.QtCore import QAbstractListModel, QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetricsF, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QListView,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.cards.widgets import choice, choose, give_role
from kobrel.desk.toolkit.fields import length_field
from kobrel.desk.toolkit.paint import draw_tag, role_of, subject_colour
from kobrel.desk.toolkit.theme import font, theme
from kobrel.desk.toolkit.words import plain
from kobrel.plan import edit
from kobrel.plan.measure.survey import GONE, STATES, spans
from kobrel.plan.model import (
    AnchorKind,
    PointAnchor,
    Subject,
)
from kobrel.plan.names import thing_name
from kobrel.session.commands import subject_list
from kobrel.session.numbers import AT_FRAME, Now, ShotNumbers
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View

_Index = QModelIndex | QPersistentModelIndex
_ROW_PX = 42
_KIND_NAMES: dict[AnchorKind, str] = {
    "surface": "Point on the surface", "bounds": "Bounding-box centre", "origin": "Pivot",
    "nearest": "Nearest point", "point": "Free point", "stand-in": "Stand-in",
    "plate": "Plate",
}  # fmt: skip


@guarded
class SubjectsModel(QAbstractListModel):
    """The session's subjects at the frame, in the order of the list; names can be typed."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session

    @property
    def by_distance(self) -> bool:
        """Whether the list is sorted by distance, rather than by hand."""
        return self._session.view.subject_order == "distance"

    def order(self) -> list[int]:
        """Rows of the plan's subjects, in the order of the list."""
        rows, now = list(range(len(self._session.plan.subjects))), self._session.now
        if self.by_distance and now is not None:
            distances = now.survey.focus_distance_m[:, now.row]
            rows.sort(key=lambda row: (not distances[row] > 0, abs(float(distances[row]))))
        return rows

    def subject(self, index: _Index) -> Subject:
        """The subject in a line of the list."""
        return self._session.plan.subjects[self.order()[index.row()]]

    def rowCount(self, parent: _Index = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self._session.plan.subjects)

    def flags(self, index: _Index) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsEditable

    def words(self, row: int) -> list[str]:
        """Distance, then straight distance, blur, its part of the width, state, frames in view."""
        session, now = self._session, self._session.now
        if now is None:
            return ["–"]
        numbers, at, sight = now.survey, now.row, now.survey.sight
        blur = float(sight.blur_px[row, at])
        state = STATES[numbers.state[row, at]]
        report = session.sight_report
        if report is not None and state != "gone" and report.lines.hidden[row, at]:
            state = f"{state}, hidden"
        behind = sight.axial_m[row, at] <= 0
        axial = "behind the camera" if behind else session.length(float(sight.axial_m[row, at]))
        seen = spans(numbers.frames, numbers.state[row] != GONE, "all frames", "no frame")
        return [
            axial, f"straight {session.length(float(sight.straight_m[row, at]))}",
            "–" if math.isnan(blur) else f"{blur:.1f} px",
            "–" if math.isnan(blur) else f"{blur / numbers.camera.width_px:.2%}", state, seen,
        ]  # fmt: skip

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        row = self.order()[index.row()]
        subject = self._session.plan.subjects[row]
        if role == Qt.ItemDataRole.EditRole:
            return subject.name
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return f"{subject.number} {subject.name}, {', '.join(self.words(row))}"
        if role == Qt.ItemDataRole.ToolTipRole:
            axial, straight, pixels, part, state, seen = (*self.words(row), *[""] * 5)[:6]
            return plain(
                f"{subject.name}: {axial} on axis, {straight}\nblur {pixels}, {part} of the width\n"
                f"{state}; in the picture: {seen}\nDouble-click to rename."
            )
        return None

    def setData(self, index: _Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        name, subject = str(value).strip(), self.subject(index)
        if not name or name == subject.name:
            return False
        plan = edit.with_subject(self._session.plan, subject.number, name=name)
        self._session.edit(f"Rename {subject.name}", plan)
        return True


@guarded
class _Lines(QStyledItemDelegate):
    """Paints a subject: tag, name and distance; beneath, the numbers behind it."""

    def __init__(self, session: Session, model: SubjectsModel) -> None:
        super().__init__()
        self._session, self._model = session, model

    def sizeHint(self, option: QStyleOptionViewItem, index: _Index) -> QSize:
        return QSize(200, _ROW_PX)

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: _Index) -> None:
        editor.setGeometry(option.rect.adjusted(24, 2, -80, -14))  # type: ignore[attr-defined]

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        row = self._model.order()[index.row()]
        subject, now = self._session.plan.subjects[row], self._session.now
        box = QRectF(option.rect)  # type: ignore[attr-defined]
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme().raised)
            painter.drawRoundedRect(box.adjusted(0, 1, 0, -1), 3, 3)
        colour = subject_colour(now.survey, row, now.row) if now else theme().quiet
        gone = now is None or now.survey.state[row, now.row] == GONE
        draw_tag(painter, box.topLeft() + QRectF(0, 0, 24, 28).center(), subject.number, colour, gone)
        words = self._model.words(row)
        first, second = box.adjusted(26, 4, -6, -22), box.adjusted(26, 22, -6, -3)
        painter.setPen(colour)
        painter.setFont(font(13, bold=True))
        painter.drawText(first, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words[0])
        room = first.width() - QFontMetricsF(painter.font()).horizontalAdvance(words[0]) - 8
        painter.setPen(theme().text)
        painter.setFont(font(13))
        name = QFontMetricsF(painter.font()).elidedText(subject.name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(first, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        if len(words) > 1:
            painter.setFont(font(11))
            painter.setPen(theme().quiet)
            text = "  ".join([words[1].removeprefix("straight "), *words[2:5]])
            painter.drawText(second, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
            short = words[5].removesuffix(" frames")
            left = second.width() - QFontMetricsF(painter.font()).horizontalAdvance(text) - 10
            short = QFontMetricsF(painter.font()).elidedText(short, Qt.TextElideMode.ElideRight, left)
            painter.drawText(second, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, short)
        painter.restore()


class SubjectsPage(Card[Subject]):
    """The subjects of the Tape card: a list in two lines each, and what the chosen one is tied to."""

    name = "Subjects"
    purpose = "What the focus can be on, with distances and blur"
    is_page = True
    depends = (*AT_FRAME, ShotNumbers.sight, Selection.subject, View.subject_order)
    needs_subject = False

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.distance = self.reading("Distance", 25, "sharp")
        self.axial = self.reading("On axis")
        self.straight = self.reading("Straight-line (tape)")
        self.off = self.reading("Off focus by")
        self.blur = self.reading("Blur")
        self.line()
        self.sorting = choice(
            "Order of the list",
            [("Manual", ""), ("By distance", "distance")],
            "Sort subjects by number, or by distance",
            112,
        )
        self.sorting.activated.connect(
            lambda _i: session.set(View.subject_order.to(self.sorting.currentData()))
        )
        self.row("Subjects", self.sorting)
        self.model = SubjectsModel(session)
        self.list = QListView()
        self.list.setModel(self.model)
        self.list.setItemDelegate(_Lines(session, self.model))
        self.list.setAccessibleName("Subjects")
        self.list.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.list.setMinimumHeight(3 * _ROW_PX)
        self.list.selectionModel().currentRowChanged.connect(self._select)
        self.column.addWidget(self.list, 1)
        self.empty = self.note("No subjects yet. Click a thing in Picture to make it one.")
        self.focus_button, self.up, self.down, self.merge, self.delete_button = self.buttons(
            ("Focus", "Put the focus on the selected subject at this frame",
             lambda: subject_list.focus_on_chosen(session)),
            ("▴", "Move it up the list", lambda: subject_list.move(session, -1)),
            ("▾", "Move it down the list", lambda: subject_list.move(session, 1)),
            ("Merge", "Merge into another subject", self._ask_merge),
            ("Delete", "Delete; its marks become fixed distances",
             lambda: subject_list.remove_chosen(session)),
        )  # fmt: skip
        for button in (self.up, self.down):
            button.setFixedWidth(26)
            button.setStyleSheet("padding: 4px 2px;")
        self._add_anchor()

    def _add_anchor(self) -> None:
        session = self.session
        self.kind = choice("Attached to", [], "What the subject is attached to", 168)
        self.bind(
            self.kind, lambda subject: subject.anchor.kind, lambda kind: subject_list.tie(session, kind),
            lambda subject: [(_KIND_NAMES[kind], kind) for kind in subject_list.ties(subject)],
        )  # fmt: skip
        self.row("Tied to", self.kind)
        self.point = self.places(
            "Point", "Point", lambda subject: subject_list.place_of(session, subject),
            lambda place: subject_list.put(session, place),
        )  # fmt: skip
        self.key = self.buttons(
            (
                "Key",
                "Set or remove a key",
                lambda: subject_list.toggle_key(session),
            )
        )[0]
        self.show_if(self.point[0], lambda subject: isinstance(subject.anchor, PointAnchor))
        self.show_if(self.key, lambda subject: isinstance(subject.anchor, PointAnchor), row=False)
        self.half_depth = length_field(
            "Depth ±",
            lambda: session.unit,
            0.0,
            100.0,
            about="This much in front of and behind the point must be in focus too: a head, not just a nose",
        )
        self.bind(
            self.half_depth, lambda subject: subject.half_depth_m,
            lambda metres: subject_list.change(session, "Depth", half_depth_m=metres),
        )  # fmt: skip
        self.row("Depth ±", self.half_depth)

    def subject(self) -> Subject | None:
        """See :class:`Card`."""
        return subject_list.chosen(self.session)

    def _select(self, current: QModelIndex) -> None:
        if 0 <= current.row() < len(self.session.plan.subjects):
            self.session.selection.subject = self.model.subject(current).number

    def _ask_merge(self) -> None:
        subject = self.subject()
        if subject is None:
            return
        menu = QMenu(self)
        for other in self.session.plan.subjects:
            if other is not subject:
                action = menu.addAction(f"Merge into {other.number} {other.name}")
                action.triggered.connect(
                    lambda _on=False, into=other.number: subject_list.merge_chosen(self.session, into)
                )
        menu.popup(self.merge.mapToGlobal(self.merge.rect().bottomLeft()))

    def show_nothing(self) -> None:
        self._show_list(None)
        for label in (self.distance, self.axial, self.straight, self.off, self.blur):
            label.setText("–")
        self.show_row(self.point[0], False)
        self.key.setVisible(False)

    def _show_list(self, subject: Subject | None) -> None:
        choose(self.sorting, self.session.view.subject_order)
        self.model.layoutChanged.emit()
        self.empty.setVisible(subject is None)
        for widget in (self.focus_button, self.merge, self.delete_button, self.kind, self.half_depth):
            widget.setEnabled(subject is not None)
        for button in (self.up, self.down):
            button.setEnabled(subject is not None and not self.model.by_distance)

    def show_more(self, subject: Subject) -> None:
        self._show_list(subject)
        row = self.session.plan.subjects.index(subject)
        line = self.model.order().index(row)
        if self.list.currentIndex().row() != line:
            self.list.selectionModel().blockSignals(True)
            self.list.setCurrentIndex(self.model.index(line))
            self.list.selectionModel().blockSignals(False)
            self.list.viewport().update()
        node = subject_list.node_of(subject)
        self.kind.setToolTip(plain(f"Tied to {thing_name(self.session.plan, node)}" if node else "Tied to"))
        anchor = subject.anchor
        keys = anchor.keys if isinstance(anchor, PointAnchor) else ()
        self.key.setText("Remove key" if any(key.frame == self.session.frame for key in keys) else "Key")
        now = self.session.now
        if now is not None:
            self._show_numbers(now, row)

    def _show_numbers(self, now: Now, row: int) -> None:
        session, numbers, at = self.session, now.survey, now.row
        distance = float(numbers.focus_distance_m[row, at])
        focus = float(numbers.camera.focus_m[at])
        self.distance.setText(session.length(distance))
        give_role(self.distance, role_of(int(numbers.state[row, at]), bool(numbers.nearer[row, at])))
        sphere = numbers.camera.surface == "sphere"
        for label, metres, counts in (
            (self.axial, numbers.sight.axial_m[row, at], not sphere),
            (self.straight, numbers.sight.straight_m[row, at], sphere),
        ):
            label.setText(session.length(float(metres)))
            give_role(label, "focus" if counts else "")
            label.setToolTip("Used for focus" if counts else "Not used for focus")
        self.off.setText(_off_focus(session, distance, focus))
        blur = float(numbers.sight.blur_px[row, at])
        self.blur.setText(
            "–" if math.isnan(blur) else f"{blur:.1f} px, {blur / numbers.camera.width_px:.2%} of width"
        )


def _off_focus(session: Session, distance: float, focus: float) -> str:
    if distance <= 0:
        return "behind the camera"
    off = distance - focus
    if abs(off) < 5e-4 * distance:
        return "in focus"
    return f"{session.length(abs(off))} {'farther' if off > 0 else 'nearer'}"
