"""Sheet: what the crew needs on set, as PDF or as one page for a phone."""

import math
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QListWidget, QListWidgetItem, QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import number_field
from kobrel.exchange.sheet.content import brief_lines
from kobrel.plan.export import ExportKind, UpdatedFile
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.model import Plan, Shot
from kobrel.session import settings
from kobrel.session.commands import lens_choice
from kobrel.session.numbers import Now
from kobrel.session.session import Session

_TICKS = {True: Qt.CheckState.Checked, False: Qt.CheckState.Unchecked}
_HAS = (
    ("strips", "Focus strips", "True size, to wrap around the lens ring"),
    ("tables", "Tables of depth of field", "For each lens used"),
)


class CameraSheetPage(ShotCard):
    """Sheet: what the crew needs on set, as PDF or as one page for a phone."""

    name = "Camera sheet"
    purpose = "A PDF with frames, plan, marks and focus strips for the crew"
    is_page = True

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._exports = exports
        kept = session.settings
        self.note("One page per shot: frames, scale plan, pull, marks, lens, brief.")
        self.shots = QListWidget()
        self.shots.setAccessibleName("Shots on the sheet")
        self.shots.setToolTip("Which shots are on the sheet")
        self.shots.setFixedHeight(96)
        self.column.addWidget(self.shots)
        self.all, self.one = self.buttons(
            ("All", "All shots on the sheet", lambda: self._tick(None)),
            ("This shot alone", "Current shot only", lambda: self._tick(self.session.shot)),
        )
        self.page = choice("Page", [("A4", "A4"), ("Letter", "Letter")], "Size of the pages")
        self.bind(
            self.page, lambda _now: kept.get(settings.CREW_PAGE), lambda v: kept.put(settings.CREW_PAGE, v)
        )
        self.row("Page", self.page)
        self.ring = number_field(
            "Diameter of the focus ring",
            "mm",
            1.0,
            5.0,
            1000.0,
            about="Diameter of the lens's focus ring; scales the focus strip",
        )
        self.bind(
            self.ring, lambda _now: kept.get(settings.CREW_RING), lambda v: kept.put(settings.CREW_RING, v)
        )
        self.row("Ring diameter", self.ring)
        self.strip = self.reading(
            "Strip", hint="Strip length for that ring and this shot's focus throw",
            read=self._strip_length,
        )  # fmt: skip
        self.has: dict[str, QCheckBox] = {}
        for key, text, hint in _HAS:
            self.has[key] = self.tick(text, hint, partial(self._is_on, key), partial(self._keep, key))
        self.kit = choice("Lenses of the tables", [], "Lenses in the tables", 190)
        self.bind(
            self.kit, lambda _now: kept.get(settings.CREW_LENS_SET), self._add_lens_set, self._lens_sets
        )
        self.row("Tables of", self.kit)
        self.show_if(self.kit, partial(self._is_on, "tables"))
        self.keeps = QCheckBox("Update on save")
        self.keeps.setToolTip("Write it again whenever the plan is saved, if it has changed")
        self.column.addWidget(self.keeps)
        self.write_pdf, self.write_page = self.buttons(
            (
                "Write PDF…",
                "For paper; progress and Cancel are in the status bar",
                lambda: self._ask("sheet"),
            ),
            ("For a phone…", "One page of HTML that needs no network", lambda: self._ask("html")),
        )
        self.line()
        self.brief = self.note()
        self.column.addStretch(1)

    def _strip_length(self, now: Now) -> str:
        length = math.pi * self.session.settings.get(settings.CREW_RING) * now.shot.ring.throw_deg / 360.0
        return f"{length:.1f} mm, {self.session.length(closest_m(now.shot))} to ∞"

    def _is_on(self, key: str, _now: Now) -> bool:
        return key in self.session.settings.get(settings.CREW_HAS)

    def _keep(self, key: str, on: bool) -> None:
        kept = self.session.settings
        chosen = [k for k in kept.get(settings.CREW_HAS) if k != key]
        kept.put(settings.CREW_HAS, [*chosen, key] if on else chosen)

    def _lens_sets(self, _now: Now) -> list[tuple[str, object]]:
        lens_sets = lens_choice.lens_sets(self.session)[0]
        return [("the shots’ lenses", ""), *((kit.kit, kit.kit) for kit in lens_sets)]

    def _add_lens_set(self, name: str) -> None:
        self.session.settings.put(settings.CREW_LENS_SET, name)

    def _tick(self, only: Shot | None) -> None:
        """Tick all shots, or one alone."""
        for row, shot in enumerate(self.session.plan.shots):
            ticked = only is None or shot.name == only.name
            self.shots.item(row).setCheckState(_TICKS[ticked])

    def ticked(self) -> list[str]:
        """Names of the shots that are on the sheet."""
        names = [shot.name for shot in self.session.plan.shots]
        return [n for row, n in enumerate(names) if self.shots.item(row).checkState() == _TICKS[True]]

    def _show_shots(self, plan: Plan) -> None:
        """List the plan's shots; a shot that is new is ticked."""
        if [self.shots.item(row).text() for row in range(self.shots.count())] == [
            s.label for s in plan.shots
        ]:
            return
        off = {self.shots.item(row).text() for row in range(self.shots.count())
               if self.shots.item(row).checkState() == _TICKS[False]}  # fmt: skip
        self.shots.clear()
        for shot in plan.shots:
            item = QListWidgetItem(shot.label, self.shots)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(_TICKS[shot.label not in off])

    def show_more(self, subject: Now) -> None:
        self._show_shots(subject.plan)
        lines = brief_lines(self.session.judged)
        told = [f"{words}: {fares}" for words, fares, _met in lines]
        self.brief.setText("\n".join(["Brief of this shot", *told]) if told else "This shot has no brief.")

    def _ask(self, kind: ExportKind) -> None:
        path = self._exports.ask_kind(kind)
        if path is not None:
            self.write_to(path)

    def write_to(self, path: Path) -> None:
        """Write the sheet, and keep it up to date if that is ticked."""
        names = self.ticked()
        if not names:
            self.session.say("Tick at least one shot.")
            return
        kind: ExportKind = "html" if path.suffix.lower() == ".html" else "sheet"
        every = len(names) == len(self.session.plan.shots)
        shots = () if every else tuple(names)
        out = UpdatedFile(kind=kind, path=str(path), shots=shots, page=self.page.currentData())
        self._exports.write(out)
        if self.keeps.isChecked():
            self._exports.keep(out)
