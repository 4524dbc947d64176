"""Dials: one value that drives several of plates and lens, made by setting two ends."""

from functools import partial

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QLineEdit, QSizePolicy, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card, SessionCard
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.toolkit.fields import narrow, number_field
from kobrel.desk.toolkit.gesture import Drag, Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import draw_text, polyline
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.plan.pictures.plates import Dial, Drive
from kobrel.session.commands.plates import dialling
from kobrel.session.document import Document
from kobrel.session.recording.dial import DialPerformer
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View

_ROW_PX, _STEP, _FINE = 24, 0.05, 0.01
_DEPENDS = (Document.plan, Document.frame, Document.shot_index, Selection.dial, Selection.dial_start)
_EASES = [("Even", "even"), ("Smooth", "smooth"), ("Fast start", "fast"), ("Late", "late")]


@guarded
class DialView(GestureWidget):
    """The chosen dial over the shot: a line of its value, its keys, and where it is now. Dragged up and down
    it turns.
    """

    def __init__(self, session: Session, performer: DialPerformer, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._performer = session, performer
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Dial over the shot")
        self.setToolTip("Drag up or down, scroll, or press Up or Down (Shift: fine). 0 to 1.")
        session.watch((*_DEPENDS, View.theme), self.update)
        performer.changed.connect(self._show)

    def _show(self) -> None:
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(260, 130)

    def spoken_value(self) -> str:
        """See :class:`kobrel.desk.toolkit.spoken.Spoken`."""
        dial = dialling.chosen(self._session)
        return "" if dial is None else f"{dial.name} at {dialling.value_now(self._session, dial):.2f}"

    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(8, 10, -60, -10)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, session = QPainter(self), self._session
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().raised)
        dial, shot, box = dialling.chosen(session), session.shot, self._box()
        if dial is None or shot is None:
            return
        survey = session.survey
        if survey is None:
            return
        frames = survey.frames
        span = max(shot.last - shot.first, 1)
        values = dial.level.at(frames)
        low, high = min(0.0, float(values.min())), max(1.0, float(values.max()))

        def y_of(value: float) -> float:
            return box.bottom() - (value - low) / (high - low) * box.height()

        def x_of(frame: float) -> float:
            return box.left() + (frame - shot.first) / span * box.width()

        painter.setPen(QPen(theme().line, 1))
        for value in (0.0, 1.0):
            painter.drawLine(QPointF(box.left(), y_of(value)), QPointF(box.right(), y_of(value)))
        painter.setPen(QPen(theme().text, 1.8))
        across = box.left() + (frames - shot.first) / span * box.width()
        polyline(painter, across, box.bottom() - (values - low) / (high - low) * box.height())
        painter.setBrush(theme().base)
        for key in dial.level.keys:
            if shot.first <= key.frame <= shot.last:
                painter.drawEllipse(QPointF(x_of(key.frame), y_of(key.value)), 4, 4)
        now = dialling.value_now(session, dial)
        x = x_of(session.frame)
        colour = theme().wrong if self._performer.recording else theme().focus
        painter.setPen(QPen(faded(colour, 0.6), 1))
        painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        painter.setPen(QPen(colour, 1.8))
        painter.setBrush(colour)
        painter.drawEllipse(QPointF(x, y_of(now)), 4, 4)
        draw_text(
            painter,
            QPointF(self.width() - 8, box.center().y() + 6),
            f"{now:.2f}",
            colour,
            19,
            "right",
            bold=True,
        )

    def value_at(self, y: float) -> float:
        """The dial's value at a height on the widget."""
        box = self._box()
        return (box.bottom() - y) / box.height()

    def step(self, steps: float, fine: bool) -> None:
        """Turn the dial by steps."""
        dial = dialling.chosen(self._session)
        if dial is not None:
            now = (
                self._performer.value
                if self._performer.recording
                else dialling.value_now(self._session, dial)
            )
            self._performer.turn(now + steps * (_FINE if fine else _STEP))

    def press(self, event: QMouseEvent) -> Gesture | None:
        if event.button() != Qt.MouseButton.LeftButton or dialling.chosen(self._session) is None:
            return None
        kind = _TurnWhileRecording if self._performer.recording else _Turn
        return kind(self._session, self, self._performer)

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def wheelEvent(self, event: QWheelEvent) -> None:
        fine = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.step(event.angleDelta().y() / 120.0, fine)
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        way = {Qt.Key.Key_Up: 1.0, Qt.Key.Key_Down: -1.0}.get(Qt.Key(event.key()))
        if way is None:
            super().keyPressEvent(event)
        else:
            self.step(way, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))


class _TurnWhileRecording(Gesture):
    """Turns the dial to the height of the pointer, while it is recorded."""

    def __init__(self, session: Session, view: DialView, performer: DialPerformer) -> None:
        self._view, self._performer = view, performer

    def begin(self, at: QPointF) -> None:
        self.move(at, Keys.NoModifier)

    def move(self, at: QPointF, keys: Keys) -> None:
        self._performer.turn(self._view.value_at(at.y()))


class _Turn(_TurnWhileRecording, Drag):
    """Turns the dial; one step to undo."""

    def __init__(self, session: Session, view: DialView, performer: DialPerformer) -> None:
        super().__init__(session, view, performer)
        self.session = session

    def begin(self, at: QPointF) -> None:
        Drag.begin(self, at)
        self.move(at, Keys.NoModifier)


class DialsPage(SessionCard):
    """Dials: one value that drives several of plates and lens, made by setting two ends."""

    name = "Dials"
    purpose = "One value that drives several values of plates and lens"
    is_page = True
    depends = _DEPENDS

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.note(
            "A dial drives several values at once. Set start, change plates or lens, set end; whatever "
            "changed is driven."
        )
        self.low_end, self.high_end = self.buttons(
            ("Set 0", "Start of the dial: all values as they are now", lambda: dialling.begin(session)),
            ("Set 1", "Make a dial of all that differs now", lambda: dialling.finish(session)),
        )
        self.enable_if(self.high_end, lambda session: session.selection.dial_start is not None)
        self.chosen = choice("Dial", [], "The dial that is shown", 190)
        self.bind(
            self.chosen, self._chosen_name, session.setter(Selection.dial),
            lambda session: [(dial.name, dial.name) for dial in session.plan.dials],
        )  # fmt: skip
        self.row("Dial", self.chosen)
        self.show_if(self.chosen, lambda session: bool(session.plan.dials))
        self.details = _Details(session)
        self.show_if(self.details, lambda session: bool(session.plan.dials), row=False)
        self.column.addWidget(self.details)
        self.column.addStretch(1)

    @staticmethod
    def _chosen_name(session: Session) -> str | None:
        dial = dialling.chosen(session)
        return dial.name if dial is not None else None


class _Details(Card[Dial]):
    """The chosen dial."""

    is_page = True
    depends = _DEPENDS

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.performer = DialPerformer(session)
        self.title = QLineEdit()
        self.title.setAccessibleName("Name of the dial")
        self.title.setToolTip("Renames the dial; Enter applies")
        self.title.setFixedWidth(160)
        self.title.editingFinished.connect(self._rename)
        self.row("Name", self.title)
        self.view = DialView(session, self.performer)
        self.column.addWidget(self.view)
        self.key, self.record, self.remove = self.buttons(
            ("Key", "Key it at this frame, or take the key away", lambda: dialling.toggle_key(session)),
            ("Record", "Play the shot once and record it", self._record),
            ("Delete", "Delete the dial; plates keep their current values", lambda: dialling.remove(session)),
        )
        self.ease = choice("Ease", _EASES, "From the last key on", 86)
        self.bind(self.ease, self._ease, partial(dialling.set_ease, session))
        self.settle = narrow(
            number_field(
                "Overshoot",
                "ratio",
                0.02,
                0.0,
                1.0,
                about="Overshoot past the next key, as a part of the move",
            )
        )
        self.bind(self.settle, self._settle, partial(dialling.set_settle, session))
        self.row("Ease · overshoot", self.ease, self.settle)
        self.show_if(self.ease, lambda dial: dialling.key_under_way(session, dial) is not None)
        self.table = word_table("Values that the dial drives", ("Value", "Low", "High"), _ROW_PX, {0})
        self.table.setFixedHeight(150)
        self.table.itemSelectionChanged.connect(self.refresh)
        self.column.addWidget(self.table)
        self.low, self.high = (
            narrow(
                number_field(
                    name, "of the value", 0.05, -1e9, 1e9, about=f"Value at the dial's {name.lower()} end"
                )
            )
            for name in ("Low", "High")
        )
        self.own_ease = choice("Ease of the value", _EASES, "How the value follows the dial", 86)
        self.bind(self.low, lambda dial: self._drive(dial).low, partial(self._change, "low"))
        self.bind(self.high, lambda dial: self._drive(dial).high, partial(self._change, "high"))
        self.bind(self.own_ease, lambda dial: self._drive(dial).ease, partial(self._change, "ease"))
        self.row("Range", self.low, self.high, self.own_ease)
        self.turn_round, self.drop = self.buttons(
            ("Reverse", "Swap low and high", self._turn_round),
            ("Remove", "Remove selected value from the dial", self._drop),
        )
        for widget in (self.turn_round, self.drop):
            self.enable_if(widget, lambda dial: bool(dial.drives))

    def subject(self) -> Dial | None:
        """See :class:`Card`."""
        return dialling.chosen(self.session)

    def _row_chosen(self) -> int:
        rows = self.table.selectionModel().selectedRows()
        return rows[0].row() if rows else 0

    def _drive(self, dial: Dial) -> Drive:
        row = self._row_chosen()
        empty = Drive(what="focus", low=0.0, high=0.0)
        return dial.drives[row] if row < len(dial.drives) else empty

    def _change(self, name: str, value: object) -> None:
        dialling.change_drive(self.session, self._row_chosen(), **{name: value})

    def _turn_round(self) -> None:
        dialling.turn_round(self.session, self._row_chosen())

    def _drop(self) -> None:
        dialling.drop_drive(self.session, self._row_chosen())

    def _ease(self, dial: Dial) -> str:
        key = dialling.key_under_way(self.session, dial)
        return key.ease if key is not None else "smooth"

    def _settle(self, dial: Dial) -> float:
        key = dialling.key_under_way(self.session, dial)
        return key.settle.part if key is not None and key.settle is not None else 0.0

    def _rename(self) -> None:
        dial, name = self.subject(), self.title.text().strip()
        if dial is not None and name != dial.name:
            dialling.rename(self.session, name)

    def _record(self) -> None:
        self.view.setFocus()
        self.performer.toggle()

    def show_more(self, subject: Dial) -> None:
        if not self.title.hasFocus():
            self.title.setText(subject.name)
        keyed = any(key.frame == self.session.frame for key in subject.level.keys)
        self.key.setText("Remove key" if keyed else "Key")
        self.record.setText("End" if self.performer.recording else "Record")
        plan = self.session.plan
        self.table.setRowCount(len(subject.drives))
        for row, drive in enumerate(subject.drives):
            low, high = (self._words(drive, value) for value in (drive.low, drive.high))
            show_words(self.table, row, (dialling.drive_name(plan, drive), low, high))

    def _words(self, drive: Drive, value: float) -> str:
        if drive.what in ("distance", "focus"):
            return self.session.length(value)
        unit = {"f_number": "f/", "focal_mm": ""}.get(drive.what, "")
        return f"{unit}{value:.3g}{'°' if drive.what.endswith('_deg') else ''}"
