"""Marks of the pull: where each stands and what it is on, and keys of stop and focal length."""

from typing import assert_never

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QSizePolicy, QWidget

from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.pull.timing import Timing
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.chart.keys import LINES, Line
from kobrel.desk.toolkit.fields import Field, length_field, number_field, stop_field
from kobrel.desk.toolkit.words import plain
from kobrel.plan.keys import Key, keys_around
from kobrel.plan.measure.survey import NEAREST_M
from kobrel.plan.model import (
    DistanceTarget,
    Mark,
    PointTarget,
    SubjectTarget,
)
from kobrel.plan.parts import Vector
from kobrel.session.commands import focusing, pulling
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session

_DISTANCE, _POINT = "distance", "point"


class MarksPage(ShotCard):
    """Marks and the timing of the selected move; stop and focal length over time."""

    name = "Marks"
    purpose = "Focus marks, the timing of each move, keys of stop and focal length"
    is_page = True
    depends = (*AT_FRAME, Selection.marks)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.focus = self.reading("Focus", 25, "focus", read=lambda now: session.length(now.camera.focus_m))
        self.speed = self.reading("Pull speed", read=_speed)
        self.on = self.reading("Focus on", read=self._on)
        self._add_buttons()
        self.table = word_table("Marks", ("Frame", "On", "Ease to next"), 24, wide=(0, 1, 2))
        self.table.itemSelectionChanged.connect(self._select)
        self.table.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        self.table.setMinimumHeight(132)
        self.column.addWidget(self.table, 1)
        self._add_mark()
        self._add_point()
        with self.fold("Timing"):
            self.timing = Timing(session)
            self.column.addWidget(self.timing)
        with self.fold("Stop and focal length"):
            self.key_eases = {line: self._key_ease(line) for line in LINES}
            self.stop, self.stop_key = self._keyed_row(
                LINES[0], stop_field("Stop", about="f-number at this frame")
            )
            self.focal, self.focal_key = self._keyed_row(
                LINES[1], number_field("Focal length", "mm", 1, 1, 2000, about="Focal length at this frame")
            )
            self.keys = self.bind(self.note(), _keys_text)

    def _add_buttons(self) -> None:
        session = self.session
        buttons = QHBoxLayout()
        self.set_mark = QPushButton("Set mark")
        self.set_mark.setToolTip("Set a mark at this frame on what is in focus (M)")
        self.set_mark.clicked.connect(lambda: focusing.set_mark(session))
        self.delete_mark = QPushButton("Delete mark")
        self.delete_mark.setToolTip("Delete the selected mark (Delete)")
        self.delete_mark.clicked.connect(lambda: pulling.delete_in_work(session))
        self.enable_if(self.delete_mark, lambda now: len(now.shot.marks) > 1)
        for button in (self.set_mark, self.delete_mark):
            buttons.addWidget(button)
        self.column.addSpacing(4)
        self.column.addLayout(buttons)
        hint = "Paste marks, one per line: 1040 Lantern or 1060 3.2 m"
        back = (
            "Pull back to where the pull came from, in as many frames: from this frame on, or when it arrives"
        )
        self.paste, self.back = self.buttons(
            ("Paste marks", hint, self._paste), ("And back", back, lambda: pulling.pull_back(session))
        )
        self.enable_if(self.back, lambda now: len(now.shot.marks) > 1)

    def _add_mark(self) -> None:
        session = self.session
        self.frame = number_field(
            "Frame of the mark", "frame", 1.0, -1e6, 1e6, digits=8, about="Moves the mark to another frame"
        )
        self.bind(self.frame, self._first_frame, lambda frame: pulling.put_at(session, frame))
        self.row("Mark at frame", self.frame)
        self.span = number_field(
            "Frames the selected marks span",
            "fr",
            1.0,
            1.0,
            1e6,
            digits=8,
            about="Stretches or shortens the selected marks to this length",
        )
        self.bind(
            self.span, lambda now: frames[-1] - frames[0] if (frames := self._frames()) else 0.0,
            lambda frames: pulling.span_over(session, frames),
        )  # fmt: skip
        self.row("Span (frames)", self.span)
        self.show_if(self.span, lambda now: len(self._frames()) > 1)
        self.target = choice("What the mark is on", [], "Subject to follow, or a fixed distance")
        self.bind(self.target, lambda now: _on_data(self._mark(now)), self._take_target, _targets)
        self.row("On", self.target)
        self.metres = length_field(
            "Distance of the mark",
            lambda: session.unit,
            NEAREST_M,
            float("inf"),
            about="Focus distance of the mark",
        )
        self.bind(
            self.metres, self._distance_of_mark,
            lambda metres: pulling.retarget(session, DistanceTarget(metres=metres)),
        )  # fmt: skip
        self.row("Distance", self.metres)
        self.show_if(self.metres, lambda now: not isinstance(self._mark(now).target, PointTarget))
        self.enable_if(self.metres, lambda now: not isinstance(self._mark(now).target, SubjectTarget))

    def _add_point(self) -> None:
        session = self.session

        def place(now: Now) -> Vector | None:
            target = self._mark(now).target
            return pulling.place_of(target, now.frame) if isinstance(target, PointTarget) else None

        def keyed(now: Now) -> bool:
            target = self._mark(now).target
            keys = target.keys if isinstance(target, PointTarget) else ()
            return any(key.frame == now.frame for key in keys)

        self.point = self.places(
            "Point", "Position of the mark's point", place, lambda to: pulling.place_point(session, to)
        )
        self.point_key = self.tick(
            "Key point here", "The point follows its keys; without keys it does not move",
            keyed, lambda on: pulling.key_point(session, on),
        )  # fmt: skip
        self.show_if(self.point[0], lambda now: place(now) is not None)
        self.show_if(self.point_key, lambda now: place(now) is not None, row=False)

    def _keyed_row(self, line: Line, field: Field) -> tuple[Field, QPushButton]:
        session = self.session
        field.setFixedWidth(90)
        self.bind(
            field, lambda now: float(getattr(now.camera, line.field)),
            lambda value: session.set_keyed(line.name, line.field, value),
        )  # fmt: skip
        button = QPushButton("Key")
        button.setCheckable(True)
        button.setToolTip(plain(f"Set or remove a key of the {line.name.lower()} at this frame"))
        button.setAccessibleName(f"{line.name} key")
        self.bind(
            button, lambda now: any(key.frame == now.frame for key in getattr(now.glass, line.field).keys),
            lambda _on: pulling.toggle_key(session, line.name, line.field),
        )  # fmt: skip
        self.row(line.name, field, button)
        self.row("Ease to next key", self.key_eases[line])
        self.show_if(self.key_eases[line], lambda now: _keys_about(now, line) is not None)
        return field, button

    def _key_ease(self, line: Line) -> QComboBox:
        name = line.name.lower()
        ease = choice(
            f"Ease of the {name}",
            [(text, kind) for kind, text in pulling.EASES.items()],
            f"How the {name} goes from the key before this frame to the next",
            150,
        )
        self.bind(
            ease, lambda now: pair[0].ease if (pair := _keys_about(now, line)) else "smooth",
            lambda kind: self._take_key_ease(line, kind),
        )  # fmt: skip
        return ease

    def _take_key_ease(self, line: Line, ease: str) -> None:
        now = self.session.now
        pair = _keys_about(now, line) if now else None
        if pair is not None:
            pulling.set_key_ease(self.session, line.name, line.field, pair[0].frame, ease)

    def _mark(self, now: Now) -> Mark:
        return pulling.mark_in_work(self.session) or now.shot.marks[0]

    def _frames(self) -> list[float]:
        return pulling.chosen_frames(self.session)

    def _first_frame(self, now: Now) -> float:
        several = self._frames()
        return several[0] if len(several) > 1 else self._mark(now).frame

    def _distance_of_mark(self, now: Now) -> float:
        at = min(max(round(self._mark(now).frame) - now.shot.first, 0), len(now.survey.frames) - 1)
        return float(now.survey.camera.focus_m[at])

    def _on(self, _now: Now) -> str:
        subject = self.session.subject_in_focus()
        return self.session.target_label(subject) if subject else "mid-pull"

    def _paste(self) -> None:
        pulling.take_list(self.session, QGuiApplication.clipboard().text())

    def _select(self) -> None:
        rows = self.table.selectionModel().selectedRows()
        shot = self.session.shot
        if rows and shot:
            mark = shot.marks[rows[0].row()]
            with self.session.as_one():
                self.session.selection.marks = (mark.frame,)
                self.session.show_frame(mark.frame)

    def _take_target(self, data: str | int) -> None:
        now = self.session.now
        if now is None:
            return
        if isinstance(data, int):
            pulling.retarget(self.session, SubjectTarget(number=data))
        elif data == _DISTANCE:
            pulling.retarget(self.session, DistanceTarget(metres=float(now.camera.focus_m)))
        elif (point := pulling.point_in_focus(self.session)) is not None:
            pulling.retarget(self.session, point)

    def show_more(self, subject: Now) -> None:
        self.name_row(self.frame, "First mark at" if len(self._frames()) > 1 else "Mark at frame")
        marks, chosen = subject.shot.marks, self._mark(subject)
        self.table.blockSignals(True)
        self.table.setRowCount(len(marks))
        for row, mark in enumerate(marks):
            then = "Hold" if row == len(marks) - 1 else pulling.EASES[mark.ease]
            show_words(self.table, row, (f"{mark.frame:g}", self.session.target_label(mark.target), then))
            if mark is chosen:
                self.table.selectRow(row)
        self.table.blockSignals(False)


def _on_data(mark: Mark) -> str | int:
    match mark.target:
        case SubjectTarget(number=number):
            return number
        case PointTarget():
            return _POINT
        case DistanceTarget():
            return _DISTANCE
        case _:
            assert_never(mark.target)


def _targets(now: Now) -> list[tuple[str, object]]:
    subjects = [(f"{s.number} {s.name}", s.number) for s in now.plan.subjects]
    return [*subjects, ("A distance", _DISTANCE), ("A free point", _POINT)]


def _keys_about(now: Now, line: Line) -> tuple[Key, Key] | None:
    return keys_around(getattr(now.glass, line.field).keys, now.frame)


def _speed(now: Now) -> str:
    focus = now.survey.camera.focus_m
    row = min(now.row, len(focus) - 2)
    speed = (1 / focus[row + 1] - 1 / focus[row]) * now.shot.fps if len(focus) > 1 else 0.0
    return f"{abs(float(speed)):.2f} dioptres/s"


def _keys_text(now: Now) -> str:
    glass = now.glass
    if not (glass.f_number.keys or glass.focal_mm.keys):
        return "No keys: stop and focal length are constant."
    stops = ", ".join(f"{k.frame:g}: f/{k.value:.3g}" for k in glass.f_number.keys)
    focals = ", ".join(f"{k.frame:g}: {k.value:.4g} mm" for k in glass.focal_mm.keys)
    return "Keys " + "; ".join(part for part in (stops, focals) if part)
