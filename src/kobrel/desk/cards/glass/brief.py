"""The brief of the Glass card: what each subject must be, and the focus and stop for it."""

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QPushButton,
    QTableView,
    QWidget,
)

from kobrel.desk.background.jobs import Job
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.tables import NamedRows
from kobrel.desk.cards.widgets import choice, give_role, plain_table
from kobrel.desk.toolkit.fields import narrow, number_field
from kobrel.desk.toolkit.theme import font
from kobrel.desk.toolkit.words import plain
from kobrel.memo import same
from kobrel.plan.instrument import BACKGROUND, Requirement, RequirementKind
from kobrel.plan.model import Shot
from kobrel.plan.solve import brief as briefs
from kobrel.plan.solve.brief import MET, UNMET
from kobrel.plan.solve.candidates import Candidate
from kobrel.session.commands import briefing
from kobrel.session.commands.briefing import KINDS
from kobrel.session.document import Document
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.tools import Tool

_BRUSHES: tuple[tuple[str, RequirementKind | None, str], ...] = (
    ("Sharp", "sharp", "must be sharp"), ("At least", "at_least", "must be at least this soft"),
    ("At most", "at_most", "must be at most this soft"), ("Clear", None, "does not matter"),
)  # fmt: skip
_MOST_TRIALS = 8
_HERE, _WHOLE, _SPAN = "here", "whole", "span"


@guarded
class _Requirements(NamedRows):
    """The requirements of the shot: what, over which frames, and in how many of them it is not met."""

    headings = ("Must be", "Frames", "Missed")

    def things(self) -> Sequence["_Line"]:
        shot = self.session.shot
        return [_Line(self.session, requirement) for requirement in shot.brief] if shot else []

    def texts(self, row: int) -> tuple[str, ...]:
        session, shot = self.session, self.session.shot
        assert shot is not None
        requirement = shot.brief[row]
        first = shot.first if requirement.first is None else requirement.first
        last = shot.last if requirement.last is None else requirement.last
        frames = "all" if (first, last) == (shot.first, shot.last) else f"{first:g}–{last:g}"
        judged = session.judged
        if judged is None or requirement not in judged.brief.requirements:
            return frames, "–"
        states = judged.verdicts[judged.brief.requirements.index(requirement)]
        unmet, met = int((states == UNMET).sum()), int((states == MET).sum())
        return frames, f"{unmet}" if unmet else "none" if met else "unseen"

    def rename(self, row: int, name: str) -> None:
        """A requirement is called by what it says."""

    def flags(self, index: QModelIndex | QPersistentModelIndex) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable


class _Line:
    """A requirement with its words as a name."""

    def __init__(self, session: Session, requirement: Requirement) -> None:
        self.name = briefs.short_text(session.plan, requirement)


class BriefPage(ShotCard):
    """The brief of the Glass card: what each subject must be, and the focus and stop for it."""

    name = "Brief"
    purpose = "What must be sharp or soft, and the stop and pull that meet it"
    is_page = True
    depends = (*AT_FRAME, Document.dragging, Selection.tool, Selection.subject)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._job: Job | None = None
        self._trials: list[Candidate] = []
        self._tried: tuple[object, ...] = ()
        self._build_brushes()
        self._build_list()
        self.line()
        self._build_answer()
        self.column.addStretch(1)

    def _build_brushes(self) -> None:
        line = QHBoxLayout()
        line.setSpacing(4)
        self.brushes: dict[RequirementKind | None, QPushButton] = {}
        for text, kind, meaning in _BRUSHES:
            button = QPushButton(text)
            button.setCheckable(True)
            button.setStyleSheet("padding: 3px 5px;")
            button.setToolTip(plain(f"Drag along a subject's line in the chart: it {meaning}. Esc: stop."))
            self.bind(button, partial(self._holds, kind), partial(self._hold, kind))
            line.addWidget(button)
            self.brushes[kind] = button
        self.px = narrow(
            number_field("Blur", "px", 1.0, 0.1, 5000.0, about="Blur that the requirement allows or asks for")
        )
        self.px.setFixedWidth(58)
        self.px.show_value(8.0)
        self.px.taken.connect(lambda _v: self._hold_again())
        line.addWidget(self.px)
        self.column.addLayout(line)
        self.hint = self.note("Pick one, then drag along a subject's line in the chart.")

    def _build_list(self) -> None:
        session = self.session
        self.model = _Requirements(session)
        self.list = QTableView()
        plain_table(self.list, "Requirements", 22)
        self.list.setFont(font(12))
        self.list.setModel(self.model)
        self.list.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.list.setFixedHeight(134)
        header = self.list.horizontalHeader()
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for column in (1, 2):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        self.list.selectionModel().currentRowChanged.connect(lambda *_: self.refresh())
        self.column.addWidget(self.list)
        self.about = choice("Subject of the requirement", [], "Subject", 110)
        self.kind = choice(
            "Requirement",
            [(text.capitalize(), kind) for kind, text in KINDS.items()],
            "Must be sharp, or at least or at most this soft",
            84,
        )
        self.requirement_px = narrow(
            number_field(
                "Blur of the requirement",
                "px",
                1.0,
                0.1,
                5000.0,
                about="Blur that the requirement allows or asks for",
            )
        )
        self.bind(
            self.about, lambda now: requirement.subject if (requirement := self._requirement(now)) else None,
            lambda number: self._change(subject=number), _wishable,
        )  # fmt: skip
        self.bind(
            self.kind, lambda now: requirement.kind if (requirement := self._requirement(now)) else None,
            lambda kind: self._change(kind=kind),
        )  # fmt: skip
        self.requirement_px.taken.connect(lambda px: self._change(px=px))
        line = QHBoxLayout()
        line.setSpacing(4)
        for each in (self.about, self.kind, self.requirement_px):
            line.addWidget(each)
        line.addStretch(1)
        self.column.addLayout(line)
        self.first = narrow(
            number_field(
                "First frame of the requirement",
                "frame",
                1.0,
                -1e6,
                1e7,
                digits=7,
                about="First frame that the requirement holds for",
            )
        )
        self.last = narrow(
            number_field(
                "Last frame of the requirement",
                "frame",
                1.0,
                -1e6,
                1e7,
                digits=7,
                about="Last frame that the requirement holds for",
            )
        )
        self.first.taken.connect(lambda f: self._change(first=float(round(f))))
        self.last.taken.connect(lambda f: self._change(last=float(round(f))))
        self.row("Frames", self.first, self.last)
        self.add, self.delete = self.buttons(
            ("Add", "Require the selected subject sharp for the whole shot", self._add),
            ("Delete", "Delete selected requirement", self._delete),
        )
        of_requirement: list[QWidget] = [
            self.about,
            self.kind,
            self.requirement_px,
            self.first,
            self.last,
            self.delete,
        ]
        for widget in of_requirement:
            self.enable_if(widget, lambda now: self._requirement(now) is not None)

    def _build_answer(self) -> None:
        self.over = choice(
            "Solve for",
            [("This frame", _HERE), ("Whole shot", _WHOLE), ("Range", _SPAN)],
            "Solve for this frame, the shot, or a range",
            140,
        )
        self.over.activated.connect(lambda _i: self.refresh())
        self.row("Solve for", self.over)
        self.begin = narrow(
            number_field(
                "First frame of the answer",
                "frame",
                1.0,
                -1e6,
                1e7,
                digits=7,
                about="First frame to solve for",
            )
        )
        self.end = narrow(
            number_field(
                "Last frame of the answer", "frame", 1.0, -1e6, 1e7, digits=7, about="Last frame to solve for"
            )
        )
        for field in (self.begin, self.end):
            field.taken.connect(lambda _f: self.refresh())
        self.row("From, to", self.begin, self.end)
        self.stops = self.reading("Stops", 21, "sharp", "Stops that meet the brief at a suitable focus")
        self.focus = self.reading("Focus", 15, "focus", "Focus that allows the widest range of stops")
        self.says = self.note()
        self.fails = self.note()
        self.take, self.keyed = self.buttons(
            ("Apply", "Apply the stop and focus that meet the brief", self._take_answer),
            ("Also key the stop", "Allow an iris pull where no single stop works", self._key),
        )
        self.ask = self.buttons(
            (
                "Suggest fixes",
                "Find stops, sensors, lenses or camera positions that meet the brief",
                self._search,
            )
        )[0]
        self.candidates = [self._trial_button(i) for i in range(_MOST_TRIALS)]

    def _trial_button(self, index: int) -> QPushButton:
        button = QPushButton("Suggestion")
        button.setToolTip("A change that meets the brief")
        button.setStyleSheet("text-align: left; padding: 4px 6px; font-size: 12px;")
        button.clicked.connect(lambda _on=False: self._try(index))
        button.hide()
        self.column.addWidget(button)
        return button

    # Requirements

    def _holds(self, kind: RequirementKind | None, now: Now) -> bool:
        tool = self.session.selection.tool
        return tool is not None and tool.does == "wish" and tool.requirement == kind

    def _hold(self, kind: RequirementKind | None, on: bool) -> None:
        self.session.selection.tool = Tool("wish", requirement=kind, px=self.px.value) if on else None

    def _hold_again(self) -> None:
        tool = self.session.selection.tool
        if tool is not None and tool.does == "wish":
            self.session.selection.tool = Tool("wish", requirement=tool.requirement, px=self.px.value)

    def _requirement(self, now: Now) -> Requirement | None:
        """The chosen requirement."""
        index = self._index()
        return now.shot.brief[index] if 0 <= index < len(now.shot.brief) else None

    def _index(self) -> int:
        return self.list.currentIndex().row()

    def _change(self, **changes: object) -> None:
        briefing.change(self.session, self._index(), **changes)

    def _add(self) -> None:
        briefing.add(self.session, self._new_requirement())
        self.list.setCurrentIndex(self.model.index(len(self.model.things()) - 1, 0))

    def _new_requirement(self) -> Requirement:
        """That a subject be sharp of which nothing is asked yet, the chosen one first; or else that the
        background be soft. It takes no other requirement away.
        """
        session, shot = self.session, self.session.shot
        asked = {requirement.subject for requirement in shot.brief} if shot else set()
        free = [s.number for s in session.plan.subjects if s.number not in asked]
        if not free:
            return Requirement(subject=BACKGROUND, kind="at_least", px=self.px.value)
        return Requirement(
            subject=session.selection.subject if session.selection.subject in free else free[0]
        )

    def _delete(self) -> None:
        briefing.remove(self.session, self._index())

    # Answers

    def _take_answer(self) -> None:
        span = self._span()
        if span is None:
            briefing.take_here(self.session)
        else:
            briefing.take_over(self.session, span)

    def _span(self) -> tuple[float, float] | None:
        """The frames that the answer is for; None for the one that is shown."""
        shot, over = self.session.shot, self.over.currentData()
        if shot is None or over == _HERE:
            return None
        if over == _WHOLE:
            return float(shot.first), float(shot.last)
        low, high = sorted((round(self.begin.value), round(self.end.value)))
        low = min(max(low, shot.first), shot.last)
        return float(low), float(min(max(high, low), shot.last))

    def _key(self) -> None:
        span = self._span()
        if span is not None:
            briefing.take_keyed(self.session, span)

    def _search(self) -> None:
        work = briefing.search(self.session, self._span())
        if work is None or self._job is not None:
            return
        key = self._key_of_trials()
        job = self._job = Job(work, self)
        self.session.closing.connect(job.cancel)
        job.done.connect(lambda found: self._show_trials(key, found))
        job.failed.connect(self.session.say)
        for ended in (job.done, job.failed, job.cancelled):
            ended.connect(self._end_search)
        self.ask.setEnabled(False)
        self.ask.setText("Looking…")
        job.start()

    def _end_search(self) -> None:
        if self._job is not None:
            self._job.deleteLater()
            self._job = None
        self.ask.setEnabled(True)
        self.ask.setText("Suggest fixes")

    def _key_of_trials(self) -> tuple[object, ...]:
        span = self._span()
        return (self.session.shot, span, self.session.frame if span is None else 0)

    def _show_trials(self, key: tuple[object, ...], found: object) -> None:
        assert isinstance(found, list)
        self._tried, self._trials = key, found
        if not found:
            self.session.say("No lens, sensor or camera position meets it. Delete a requirement.")
        self.refresh()

    def _try(self, index: int) -> None:
        candidate = self._trials[index]
        self.session.edit_shot(f"Try: {candidate.text}", lambda _s: candidate.shot)
        self.session.say(f"{candidate.text}. Ctrl+Z restores what was there.")

    # Showing

    def refresh(self) -> None:
        now = self.subject()
        if now is not None:
            self.model.layoutChanged.emit()
            if now.shot.brief and self._index() < 0:
                self.list.setCurrentIndex(self.model.index(0, 0))
        super().refresh()

    def show_more(self, subject: Now) -> None:
        self._show_requirement(subject.shot, self._requirement(subject))
        self._show_answer(subject)

    def _show_requirement(self, shot: Shot, requirement: Requirement | None) -> None:
        if requirement is not None:
            self.requirement_px.show_value(requirement.px)
            self.requirement_px.setVisible(requirement.kind != "sharp")
            self.first.show_value(shot.first if requirement.first is None else requirement.first)
            self.last.show_value(shot.last if requirement.last is None else requirement.last)

    def _show_answer(self, now: Now) -> None:
        session, judged = self.session, self.session.judged
        if self.begin.value < now.shot.first:
            self.begin.show_value(now.shot.first)
            self.end.show_value(now.shot.last)
        self.show_row(self.begin, self.over.currentData() == _SPAN)
        span = self._span()
        self.fails.setText(briefing.fails_text(session))
        found = briefing.answer_over(session, span or (now.frame, now.frame))
        here = briefing.stop_range(session) if span is None else None
        possible = bool(found and found.stops)
        stops = ((here.least, here.greatest),) if here else found.stops if found and span else ()
        self.stops.setText(_ranges(stops) if found else "–")
        focus = session.length(1 / here.x if here.x > 1e-9 else float("inf")) if here else ""
        self.focus.setText(focus or ("slowest possible pull" if possible and span else "–"))
        failing = briefing.clash(found) if found is not None and not possible else None
        if judged is None or found is None:
            said = _why_nothing(now)
        elif failing is not None:
            said = f"At {failing.frame:g}: {failing.text}" if span else failing.text
        elif span is not None:
            said = _whole_text(found)
        elif here is not None:
            said = f"{_ranges(stops, ' to f/')} at focus {focus} meets the brief."
        else:
            said = "No requirement at this frame."
        self.says.setText(said)
        give_role(self.says, "wrong" if failing is not None else "")
        self.take.setEnabled(possible and (span is not None or here is not None))
        self.keyed.setVisible(span is not None and judged is not None)
        self.ask.setVisible(judged is not None and not possible)
        self._show_tried(possible)

    def _show_tried(self, possible: bool) -> None:
        fresh = same(self._tried, self._key_of_trials())
        for button, candidate in zip(self.candidates, [*self._trials, *[None] * _MOST_TRIALS], strict=False):
            button.setVisible(fresh and candidate is not None and not possible)
            if candidate is not None:
                button.setText(_in_lines(candidate.text, button.fontMetrics(), 262))
                button.setToolTip(plain(f"{candidate.text}. A click tries it; undo restores what was there."))


def _why_nothing(now: Now) -> str:
    if now.camera.projection == "orthographic":
        return "Not available for orthographic cameras."
    return "No requirements yet. What must be sharp, what soft?"


def _wishable(now: Now) -> list[tuple[str, object]]:
    subjects = [(f"{s.number} {s.name}", s.number) for s in now.plan.subjects]
    return [*subjects, ("Background", BACKGROUND)]


def _in_lines(text: str, metrics: QFontMetrics, wide: int) -> str:
    """A text broken between words where it is wider than there is room."""
    lines = [""]
    for word in text.split(" "):
        longer = f"{lines[-1]} {word}".strip()
        if lines[-1] and metrics.horizontalAdvance(longer) > wide:
            lines.append(word)
        else:
            lines[-1] = longer
    return "\n".join(lines)


def _ranges(stops: Sequence[tuple[float, float]], to: str = " – ") -> str:
    if not stops:
        return "none"
    return ", ".join(f"f/{a:.3g}" if b / a < 1.005 else f"f/{a:.3g}{to}{b:.3g}" for a, b in stops[:2])


def _whole_text(answer: briefs.Solution) -> str:
    """The stops over the shot, in a sentence."""
    if not answer.possible.all():
        return "Some frames cannot be met."
    if not answer.stops:
        return "No single stop works for all frames: key the stop."
    return f"{_ranges(answer.stops, ' to f/')} meets all frames."
