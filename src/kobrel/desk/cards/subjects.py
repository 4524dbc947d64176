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

from kobrel.desk.cards.base import Card, choice, choose, give_role
from kobrel.desk.fields import length_field
from kobrel.desk.look import font, look
from kobrel.desk.paint import draw_peg, role_of, subject_colour
from kobrel.desk.session import Session
from kobrel.plan import edit
from kobrel.plan.model import (
    Anchor,
    BoundsAnchor,
    NearestAnchor,
    OriginAnchor,
    PointAnchor,
    StandInAnchor,
    Subject,
    SubjectTarget,
    SurfaceAnchor,
)
from kobrel.plan.moves import vector
from kobrel.plan.names import thing_name
from kobrel.plan.parts import PlaceKey
from kobrel.plan.stand_ins import place_track
from kobrel.plan.survey import GONE, STATES, spans
from kobrel.stage.stage import Place

_Index = QModelIndex | QPersistentModelIndex
_ROW_PX = 42
_KINDS: dict[str, type] = {"bounds": BoundsAnchor, "origin": OriginAnchor, "nearest": NearestAnchor}
_KIND_NAMES = {
    "surface": "Point on the surface", "bounds": "Middle of its bounds", "origin": "Its origin",
    "nearest": "Nearest to the camera", "point": "Free point", "stand-in": "Stand-in",
}  # fmt: skip


class SubjectsModel(QAbstractListModel):
    """The session's subjects at the frame, in the order of the list; names can be typed."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session

    @property
    def by_distance(self) -> bool:
        """Whether the list is sorted by distance, rather than by hand."""
        return str(self._session.settings.value("subjects/sorted", "")) == "distance"

    def order(self) -> list[int]:
        """Rows of the plan's subjects, in the order of the list."""
        session, numbers = self._session, self._session.survey
        rows = list(range(len(session.plan.subjects)))
        if self.by_distance and numbers is not None:
            distances = numbers.focus_distance_m[:, session.row]
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
        session, numbers = self._session, self._session.survey
        if numbers is None:
            return ["–"]
        sight, at = numbers.sight, session.row
        blur = float(sight.blur_px[row, at])
        state = STATES[numbers.state[row, at]]
        looked = session.found
        if looked is not None and state != "gone" and looked.sight.hidden[row, at]:
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
            return (
                f"{subject.name}: {axial} along the axis, {straight}\nblur {pixels}, {part} of the width\n"
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


class _Lines(QStyledItemDelegate):
    """Paints a subject: peg, name and distance; beneath, the numbers behind it."""

    def __init__(self, session: Session, model: SubjectsModel) -> None:
        super().__init__(session)
        self._session, self._model = session, model

    def sizeHint(self, option: QStyleOptionViewItem, index: _Index) -> QSize:
        return QSize(200, _ROW_PX)

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: _Index) -> None:
        editor.setGeometry(option.rect.adjusted(24, 2, -80, -14))  # type: ignore[attr-defined]

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: _Index) -> None:
        row = self._model.order()[index.row()]
        subject, numbers = self._session.plan.subjects[row], self._session.survey
        box = QRectF(option.rect)  # type: ignore[attr-defined]
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if option.state & QStyle.StateFlag.State_Selected:  # type: ignore[attr-defined]
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(look().raised)
            painter.drawRoundedRect(box.adjusted(0, 1, 0, -1), 3, 3)
        colour = subject_colour(numbers, row, self._session.row) if numbers else look().quiet
        gone = numbers is None or numbers.state[row, self._session.row] == GONE
        draw_peg(painter, box.topLeft() + QRectF(0, 0, 24, 28).center(), subject.number, colour, gone)
        words = self._model.words(row)
        first, second = box.adjusted(26, 4, -6, -22), box.adjusted(26, 22, -6, -3)
        painter.setPen(colour)
        painter.setFont(font(13, bold=True))
        painter.drawText(first, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words[0])
        room = first.width() - QFontMetricsF(painter.font()).horizontalAdvance(words[0]) - 8
        painter.setPen(look().text)
        painter.setFont(font(13))
        name = QFontMetricsF(painter.font()).elidedText(subject.name, Qt.TextElideMode.ElideRight, room)
        painter.drawText(first, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, name)
        if len(words) > 1:
            painter.setFont(font(11))
            painter.setPen(look().quiet)
            text = "  ".join([words[1].removeprefix("straight "), *words[2:5]])
            painter.drawText(second, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, text)
            short = words[5].removesuffix(" frames")
            left = second.width() - QFontMetricsF(painter.font()).horizontalAdvance(text) - 10
            short = QFontMetricsF(painter.font()).elidedText(short, Qt.TextElideMode.ElideRight, left)
            painter.drawText(second, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, short)
        painter.restore()


class SubjectsPage(Card):
    """See the module."""

    name = "Subjects"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.distance = self.reading("Distance", 25, "sharp")
        self.axial = self.reading("Along the axis")
        self.straight = self.reading("Straight, as a tape gives it")
        self.off = self.reading("From the focus")
        self.blur = self.reading("Blur")
        self.line()
        self.sorting = choice(
            "Order of the list", [("By hand", ""), ("By distance", "distance")], "Order of the list", 112
        )
        self.sorting.activated.connect(lambda _i: self._sort())
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
            ("Focus", "Put the focus on the chosen subject at this frame", self._focus),
            ("▴", "Move it up the list", lambda: self._move(-1)),
            ("▾", "Move it down the list", lambda: self._move(1)),
            ("Merge", "Put its marks and tapes onto another subject, and delete it", self._ask_merge),
            ("Delete", "Delete it; marks on it keep its distance", self._delete),
        )
        for button in (self.up, self.down):
            button.setFixedWidth(26)
            button.setStyleSheet("padding: 4px 2px;")
        self.kind = choice("Tied to", [], "What the subject is tied to", 168)
        self.kind.activated.connect(lambda _i: self._tie())
        self.row("Tied to", self.kind)
        self.point = self.places("Point", "Point", self._place)
        self.key = self.buttons(
            ("Key", "Key the point's place at this frame; again takes the key away", self._toggle_key)
        )[0]
        self.half_depth = length_field("Half depth", lambda: session.unit, 0.0, 100.0)
        self.half_depth.taken.connect(self._set_depth)
        self.row("Depth to each side", self.half_depth)
        self.half_depth.setToolTip(
            "Sharp then means from so far before the point to so far behind it: a whole head, not its nose"
        )

    def chosen(self) -> Subject | None:
        """The chosen subject, or else the first."""
        subjects, number = self.session.plan.subjects, self.session.selected_subject
        return next((s for s in subjects if s.number == number), subjects[0] if subjects else None)

    def _select(self, current: QModelIndex) -> None:
        if 0 <= current.row() < len(self.session.plan.subjects):
            self.session.selected_subject = self.model.subject(current).number
            self.session.changed.emit()

    def _sort(self) -> None:
        self.session.settings.setValue("subjects/sorted", self.sorting.currentData())
        self.session.changed.emit()

    def _focus(self) -> None:
        subject = self.chosen()
        if subject is not None:
            self.session.focus_on(SubjectTarget(number=subject.number))

    def _move(self, by: int) -> None:
        subject = self.chosen()
        if subject is not None:
            plan = edit.move_subject(self.session.plan, subject.number, by)
            self.session.edit(f"Move {subject.name}", plan)

    def _ask_merge(self) -> None:
        subject = self.chosen()
        if subject is None:
            return
        menu = QMenu(self)
        for other in self.session.plan.subjects:
            if other is not subject:
                action = menu.addAction(f"Into {other.number} {other.name}")
                action.triggered.connect(lambda _on=False, n=other.number: self.merge_into(n))
        menu.popup(self.merge.mapToGlobal(self.merge.rect().bottomLeft()))

    def merge_into(self, number: int) -> None:
        """Merge the chosen subject into another."""
        subject, other = self.chosen(), self.session.plan.subject(number)
        if subject is not None and other is not None and other is not subject:
            plan = edit.merge_subjects(self.session.plan, subject.number, number)
            self.session.selected_subject = number
            self.session.edit(f"Merge {subject.name} into {other.name}", plan)

    def _delete(self) -> None:
        subject = self.chosen()
        if subject is not None:
            self.session.remove_subject(subject.number)

    def _change(self, name: str, **changes: object) -> None:
        subject = self.chosen()
        if subject is not None:
            plan = edit.with_subject(self.session.plan, subject.number, **changes)
            self.session.edit(f"{name} of {subject.name}", plan)

    def _here(self, subject: Subject) -> tuple[float, float, float]:
        """Where a subject is at the frame."""
        numbers = self.session.survey
        rows = [s.number for s in self.session.plan.subjects]
        if numbers is None:
            return (0.0, 0.0, 0.0)
        return vector(numbers.points[rows.index(subject.number), self.session.row])

    def _tie(self) -> None:
        subject, kind = self.chosen(), self.kind.currentData()
        if subject is None or kind == subject.anchor.kind:
            return
        node, anchor = _node_of(subject.anchor), subject.anchor
        if kind == "point":
            anchor = PointAnchor(position_m=self._here(subject))
        elif node is not None and kind in _KINDS:
            anchor = _KINDS[kind](scene=node.scene, node=node.path)
        elif node is not None and kind == "surface":
            world = self.session.stage.world(node, [self.session.frame])
            if world is not None:
                import numpy as np

                local = np.linalg.solve(world[0], np.append(self._here(subject), 1.0))[:3]
                anchor = SurfaceAnchor(scene=node.scene, node=node.path, local=vector(local))
        self._change("Tie", anchor=anchor)

    def _place(self, axis: int, metres: float) -> None:
        subject = self.chosen()
        if subject is not None and isinstance(subject.anchor, PointAnchor):
            spot = list(self._here(subject))
            spot[axis] = metres
            self._change("Place", anchor=edit.moved_to(subject.anchor, self.session.frame, vector(spot)))

    def _toggle_key(self) -> None:
        subject, frame = self.chosen(), float(self.session.frame)
        if subject is None or not isinstance(subject.anchor, PointAnchor):
            return
        anchor = subject.anchor
        if any(key.frame == frame for key in anchor.keys):
            anchor = edit.without_place_key(anchor, frame)
        else:
            here = vector(place_track(anchor).at([frame])[0])
            anchor = edit.with_place_key(anchor, PlaceKey(frame=frame, position_m=here))
        self._change("Key", anchor=anchor)

    def _set_depth(self, metres: float) -> None:
        self._change("Depth", half_depth_m=metres)

    def refresh(self) -> None:
        session, subject = self.session, self.chosen()
        choose(self.sorting, "distance" if self.model.by_distance else "")
        self.model.layoutChanged.emit()
        self.empty.setVisible(subject is None)
        for widget in (self.focus_button, self.merge, self.delete_button, self.kind, self.half_depth):
            widget.setEnabled(subject is not None)
        for button in (self.up, self.down):
            button.setEnabled(subject is not None and not self.model.by_distance)
        self._show_anchor(subject)
        if subject is None:
            self._clear()
            return
        row = session.plan.subjects.index(subject)
        line = self.model.order().index(row)
        if self.list.currentIndex().row() != line:
            self.list.selectionModel().blockSignals(True)
            self.list.setCurrentIndex(self.model.index(line))
            self.list.selectionModel().blockSignals(False)
            self.list.viewport().update()
        self._show_numbers(row)

    def _clear(self) -> None:
        for label in (self.distance, self.axial, self.straight, self.off, self.blur):
            label.setText("–")

    def _show_anchor(self, subject: Subject | None) -> None:
        kinds = ["point"]
        if subject is not None and _node_of(subject.anchor) is not None:
            kinds = ["surface", *_KINDS, "point"]
        elif subject is not None and isinstance(subject.anchor, StandInAnchor):
            kinds = ["stand-in", "point"]
        if [self.kind.itemData(i) for i in range(self.kind.count())] != kinds:
            self.kind.clear()
            for kind in kinds:
                self.kind.addItem(_KIND_NAMES[kind], kind)
        choose(self.kind, subject.anchor.kind if subject else "point")
        free = subject is not None and isinstance(subject.anchor, PointAnchor)
        self.show_row(self.point[0], free)
        self.key.setVisible(free)
        if subject is None:
            return
        self.half_depth.show_value(subject.half_depth_m)
        node = _node_of(subject.anchor)
        self.kind.setToolTip(f"Tied to {thing_name(self.session.plan, node)}" if node else "Tied to")
        if isinstance(subject.anchor, PointAnchor):
            for field, metres in zip(self.point, self._here(subject), strict=True):
                field.show_value(metres)
            keyed = any(key.frame == self.session.frame for key in subject.anchor.keys)
            self.key.setText("Unkey" if keyed else "Key")

    def _show_numbers(self, row: int) -> None:
        session, numbers = self.session, self.session.survey
        if numbers is None:
            self._clear()
            return
        at = session.row
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
            label.setToolTip(
                "This distance counts for the focus" if counts else "Does not count for the focus"
            )
        self.off.setText(_off_focus(session, distance, focus))
        blur = float(numbers.sight.blur_px[row, at])
        self.blur.setText(
            "–" if math.isnan(blur) else f"{blur:.1f} px, {blur / numbers.camera.width_px:.2%} of width"
        )


def _node_of(anchor: Anchor) -> Place | None:
    """The node that an anchor is tied to."""
    if isinstance(anchor, PointAnchor | StandInAnchor):
        return None
    return Place(anchor.scene, anchor.node)


def _off_focus(session: Session, distance: float, focus: float) -> str:
    if distance <= 0:
        return "behind the camera"
    off = distance - focus
    if abs(off) < 5e-4 * distance:
        return "in it"
    return f"{session.length(abs(off))} {'farther' if off > 0 else 'nearer'}"
