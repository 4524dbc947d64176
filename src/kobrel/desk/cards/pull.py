"""Pull: focus over time, and keys of stop and focal length."""

from PySide6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QWidget,
)

from kobrel.desk import pulling
from kobrel.desk.cards.alts import AltsPage
from kobrel.desk.cards.base import Card, PagedCard, choice, choose, fill, show_words, word_table
from kobrel.desk.cards.cues import CuesPage
from kobrel.desk.cards.move import MovePage
from kobrel.desk.cards.perform import PerformPage
from kobrel.desk.cards.play import PlayPage
from kobrel.desk.cards.shots import ShotsPage
from kobrel.desk.fields import Field, length_field, number_field, stop_field
from kobrel.desk.keys import LINES, Line, set_ease
from kobrel.desk.scales import NEAREST_M
from kobrel.desk.screening import Screening
from kobrel.desk.session import Session
from kobrel.plan import edit, pulls
from kobrel.plan.model import DistanceTarget, Mark, PointTarget, SubjectTarget, Target
from kobrel.plan.parts import Key

_DISTANCE, _POINT = "distance", "point"


class MarksPage(Card):
    """See the module."""

    name = "Marks"
    is_page = True

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self.focus = self.reading("Focus", 25, "focus")
        self.speed = self.reading("Speed of the pull")
        self.on = self.reading("On")
        buttons = QHBoxLayout()
        self.play = QPushButton("Play")
        self.play.setToolTip("Play the shot at its rate (Space)")
        self.play.clicked.connect(session.play_wanted)
        session.played.connect(lambda playing: self.play.setText("Pause" if playing else "Play"))
        self.set_mark = QPushButton("Set mark")
        self.set_mark.setToolTip("Set a mark at this frame on what is in focus (M)")
        self.set_mark.clicked.connect(session.set_mark)
        self.delete_mark = QPushButton("Delete mark")
        self.delete_mark.setToolTip("Delete the chosen mark (Delete)")
        self.delete_mark.clicked.connect(self._delete)
        for button in (self.play, self.set_mark, self.delete_mark):
            buttons.addWidget(button)
        self.column.addSpacing(4)
        self.column.addLayout(buttons)
        hint = "Set the marks that the clipboard lists: a line each, such as 1040 Lantern or 1060 3.2 m"
        self.paste = self.buttons(("Paste a list", hint, lambda: pulling.paste_list(session)))[0]
        self.table = word_table("Marks", ("Frame", "On", "Then"), 24, wide=(0, 1, 2))
        self.table.itemSelectionChanged.connect(self._select)
        self.table.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Ignored)
        self.table.setMinimumHeight(112)
        self.column.addWidget(self.table, 1)
        self.frame = number_field("Frame of the mark", "", 1.0, -1e6, 1e6, digits=8)
        self.frame.taken.connect(self._move)
        self.row("Mark at frame", self.frame)
        self.span = number_field("Frames that the chosen marks reach over", "", 1.0, 1.0, 1e6, digits=8)
        self.span.taken.connect(self._take_span)
        self.row("Reach over", self.span)
        self.target = choice(
            "What the mark is on", [], "What the mark is on: a subject, followed, or a distance"
        )
        self.target.activated.connect(self._take_target)
        self.row("On", self.target)
        self.metres = length_field("Distance of the mark", lambda: session.unit, NEAREST_M, float("inf"))
        self.metres.taken.connect(lambda m: self._retarget(DistanceTarget(metres=m)))
        self.row("Distance", self.metres)
        self.point = self.places("Point", "Place of the mark's point", self._take_place)
        self.point_key = self.tick(
            "A key of the point at this frame", "The point follows its keys; without any it stands still",
            lambda on: pulling.key_point(session, on),
        )  # fmt: skip
        self.ease = choice(
            "Ease", [(text, kind) for kind, text in pulling.EASES.items()], "The way to the next mark", 150
        )
        self.ease.activated.connect(self._take_ease)
        self.row("Move to next", self.ease)
        self.line()
        self.key_eases: dict[Line, QComboBox] = {}
        self.stop, self.stop_key = self._keyed_row("Stop", stop_field("Stop"), "f_number")
        self.focal, self.focal_key = self._keyed_row(
            "Focal length", number_field("Focal length", "mm", 1, 1, 2000), "focal_mm"
        )
        self.keys = QLabel()
        self.keys.setObjectName("quiet")
        self.keys.setWordWrap(True)
        self.column.addWidget(self.keys)

    def _keyed_row(self, label: str, field: Field, name: str) -> tuple[Field, QPushButton]:
        field.setFixedWidth(90)
        field.taken.connect(lambda value: self.session.set_keyed(label, name, value))
        button = QPushButton("Key")
        button.setCheckable(True)
        button.setToolTip(f"A key of the {label.lower()} at this frame: press to set it, again to remove it")
        button.setAccessibleName(f"{label} key")
        button.clicked.connect(lambda on: self._toggle_key(label, name, on))
        self.row(label, field, button)
        line = next(line for line in LINES if line.field == name)
        ease = choice(
            f"Ease of the {label.lower()}",
            [(text, kind) for kind, text in pulling.EASES.items()],
            f"How the {label.lower()} goes from the key before this frame to the next",
            150,
        )
        ease.activated.connect(lambda _i: self._take_key_ease(line, ease.currentData()))
        self.row("Then, to the next key", ease)
        self.key_eases[line] = ease
        return field, button

    def _take_key_ease(self, line: Line, ease: str) -> None:
        pair = self._keys_about(line)
        if pair is not None:
            set_ease(self.session, line, pair[0].frame, ease)

    def _keys_about(self, line: Line) -> tuple[Key, Key] | None:
        glass = self.session.glass
        return edit.key_under_way(getattr(glass, line.field), self.session.frame) if glass else None

    def _toggle_key(self, label: str, name: str, on: bool) -> None:
        camera, frame = self.session.camera, self.session.frame
        if camera is None:
            return
        value = float(getattr(camera, name))
        if on:
            self.session.edit_keyed(f"{label} key at {frame}", name, lambda k: edit.set_key(k, frame, value))
        else:
            self.session.edit_keyed(
                f"Remove {label.lower()} key at {frame}", name, lambda k: edit.remove_key(k, frame)
            )

    def _mark(self) -> Mark | None:
        return pulling.mark_in_work(self.session)

    def _select(self) -> None:
        rows = self.table.selectionModel().selectedRows()
        shot = self.session.shot
        if rows and shot:
            mark = shot.marks[rows[0].row()]
            self.session.select_mark(mark.frame)
            self.session.show_frame(mark.frame)

    def _delete(self) -> None:
        mark, shot = self._mark(), self.session.shot
        if mark is None or shot is None:
            return
        if len(shot.marks) == 1:
            self.session.said.emit("A shot keeps at least one mark: it says where the focus is.")
            return
        self.session.edit_shot(f"Delete mark at {mark.frame:g}", lambda s: pulls.remove_mark(s, mark.frame))

    def _move(self, frame: float) -> None:
        mark, several = self._mark(), pulling.chosen_frames(self.session)
        if len(several) > 1:
            pulling.move_by(self.session, round(frame) - several[0])
        elif mark is not None:
            self.session.selected_mark = None
            self.session.edit_shot("Move mark", lambda s: pulls.move_mark(s, mark.frame, float(round(frame))))

    def _take_span(self, frames: float) -> None:
        several = pulling.chosen_frames(self.session)
        if several:
            pulling.span_marks(self.session, several[0], several[0] + round(frames))

    def _take_place(self, axis: int, metres: float) -> None:
        pulling.place_point(self.session, axis, metres)

    def _take_target(self) -> None:
        data = self.target.currentData()
        if data == _DISTANCE:
            camera = self.session.camera
            if camera is not None:
                self._retarget(DistanceTarget(metres=float(camera.focus_m)))
        elif data == _POINT:
            point = pulling.point_in_focus(self.session)
            if point is not None:
                self._retarget(point)
        else:
            self._retarget(SubjectTarget(number=data))

    def _retarget(self, target: Target) -> None:
        mark = self._mark()
        if mark is not None:
            name = f"Mark at {mark.frame:g} on {self.session.target_label(target)}"
            self.session.edit_shot(name, lambda s: pulls.set_mark(s, mark.frame, target))

    def _take_ease(self) -> None:
        mark = self._mark()
        if mark is not None:
            pulling.set_ease(self.session, mark, self.ease.currentData())

    def refresh(self) -> None:
        session, shot, camera, mark = self.session, self.session.shot, self.session.camera, self._mark()
        numbers = session.survey
        self.setEnabled(shot is not None)
        if shot is None or camera is None or mark is None or numbers is None:
            return
        self.focus.setText(session.length(float(camera.focus_m)))
        speeds = (1 / numbers.camera.focus_m[1:] - 1 / numbers.camera.focus_m[:-1]) * shot.fps
        speed = float(speeds[min(session.row, len(speeds) - 1)]) if len(speeds) else 0.0
        self.speed.setText(f"{abs(speed):.2f} dioptres/s")
        subject = session.subject_in_focus()
        self.on.setText(session.target_label(subject) if subject else "between subjects")
        self.table.blockSignals(True)
        self.table.setRowCount(len(shot.marks))
        for row, each in enumerate(shot.marks):
            last = row == len(shot.marks) - 1
            then = "hold" if last else each.ease
            show_words(self.table, row, (f"{each.frame:g}", session.target_label(each.target), then))
            if each is mark:
                self.table.selectRow(row)
        self.table.blockSignals(False)
        self.delete_mark.setEnabled(len(shot.marks) > 1)
        several = pulling.chosen_frames(session)
        self.frame.show_value(several[0] if len(several) > 1 else mark.frame)
        self.name_row(self.frame, "First mark at" if len(several) > 1 else "Mark at frame")
        self.show_row(self.span, len(several) > 1)
        if len(several) > 1:
            self.span.show_value(several[-1] - several[0])
        options: list[tuple[str, object]] = [
            (f"{s.number} {s.name}", s.number) for s in session.plan.subjects
        ]
        options += [("A distance", _DISTANCE), ("A free point", _POINT)]
        on_subject = isinstance(mark.target, SubjectTarget)
        on_point = isinstance(mark.target, PointTarget)
        plain = _POINT if on_point else _DISTANCE
        fill(self.target, options, mark.target.number if isinstance(mark.target, SubjectTarget) else plain)
        self.show_row(self.metres, not on_point)
        self.show_row(self.point[0], on_point)
        self.point_key.setVisible(on_point)
        if isinstance(mark.target, PointTarget):
            for field, value in zip(self.point, pulling.place_of(mark.target, session.frame), strict=True):
                field.show_value(value)
            self.point_key.setChecked(any(key.frame == session.frame for key in mark.target.keys))
        at = min(max(round(mark.frame) - shot.first, 0), len(numbers.frames) - 1)
        self.metres.show_value(float(numbers.camera.focus_m[at]))
        self.metres.setEnabled(not on_subject)
        choose(self.ease, mark.ease)
        self.stop.show_value(float(camera.f_number))
        self.focal.show_value(float(camera.focal_mm))
        for button, keyed in ((self.stop_key, shot.glass.f_number), (self.focal_key, shot.glass.focal_mm)):
            button.setChecked(any(key.frame == session.frame for key in keyed.keys))
        for line, ease in self.key_eases.items():
            pair = self._keys_about(line)
            self.show_row(ease, pair is not None)
            if pair is not None:
                choose(ease, pair[0].ease)
        self.keys.setText(_keys_text(session))


class PullCard(PagedCard):
    """Marks, how the focus moves between them, pulling by hand, cues, Alts, playing, and the shots."""

    name = "Pull"

    def __init__(self, session: Session, screening: Screening, parent: QWidget | None = None) -> None:
        self.marks, self.moves = MarksPage(session), MovePage(session)
        self.perform, self.cues = PerformPage(session), CuesPage(session)
        self.alts, self.play = AltsPage(session, screening), PlayPage(session, screening)
        self.shots = ShotsPage(session)
        pages: list[Card] = [
            self.marks, self.moves, self.perform, self.cues, self.alts, self.play, self.shots,
        ]  # fmt: skip
        super().__init__(session, pages, parent)


def _keys_text(session: Session) -> str:
    glass = session.glass
    if glass is None or not (glass.f_number.keys or glass.focal_mm.keys):
        return "No keys: stop and focal length stand still."
    stops = ", ".join(f"{k.frame:g}: f/{k.value:.3g}" for k in glass.f_number.keys)
    focals = ", ".join(f"{k.frame:g}: {k.value:.4g} mm" for k in glass.focal_mm.keys)
    return "Keys " + "; ".join(part for part in (stops, focals) if part)
