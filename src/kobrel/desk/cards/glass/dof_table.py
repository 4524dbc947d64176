"""Tables: depth of field by distance and stop, for the shot's lens or a lens set, as a map and as a table."""

from pathlib import Path

from PySide6.QtWidgets import QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.toolkit.theme import font
from kobrel.exchange.sheet.tables import cell_words
from kobrel.plan.lens_sets.lenses import LensSet
from kobrel.plan.measure.depth_table import DepthTable, lens_set_tables, shot_table
from kobrel.session.commands import lens_choice
from kobrel.session.numbers import Now
from kobrel.session.session import Session


class DofTable(ShotCard):
    """Tables."""

    name = "DoF table"
    is_page = True
    below = "depths"

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._exports = exports
        self._lens_sets: dict[str, LensSet] = {}
        self.lenses = choice("Lens", [], "Lens of the table", 190)
        self.bind(self.lenses, lambda _now: self.lenses.currentData() or "", lambda _key: None, self._options)
        self.row("Lens", self.lenses)
        self.stop = choice("Stop", [], "Which stop of the table is shown", 96)
        self.bind(self.stop, lambda _now: self._stop_shown, self._show_stop, self._stops)
        self.row("Stop", self.stop)
        self._stop_shown: float | None = None
        self.table = word_table("Depth of field", ("Distance", "Near – far", "Depth"), 22, (1,))
        self.table.setFont(font(12))
        self.table.setMinimumHeight(330)
        self.column.addWidget(self.table, 1)
        self.hyperfocal = self.note()
        (self.write,) = self.buttons(
            ("Export CSV…", "All stops and distances for this lens or lens set", self._ask)
        )

    def _options(self, _now: Now) -> list[tuple[str, object]]:
        self._lens_sets = self._lens_sets or {kit.kit: kit for kit in lens_choice.lens_sets(self.session)[0]}
        return [("The shot's", ""), *((kit, kit) for kit in self._lens_sets)]

    def _stops(self, now: Now) -> list[tuple[str, object]]:
        made = self.tables(now)
        return [(f"f/{stop:.3g}", float(stop)) for stop in made[0].stops] if made else []

    def _show_stop(self, stop: object) -> None:
        self._stop_shown = stop if isinstance(stop, float) else None

    def tables(self, now: Now) -> list[DepthTable]:
        """The table of the shot's lens, or one for each lens of the chosen lens set."""
        if now.camera.projection == "orthographic":
            return []
        kit = self._lens_sets.get(self.lenses.currentData() or "")
        if kit is not None:
            return lens_set_tables(kit.lenses, now.camera, self.session.unit)
        made = shot_table(now.shot, now.camera, self.session.unit)
        return [] if made is None else [made]

    def show_more(self, subject: Now) -> None:
        made, unit = self.tables(subject), self.session.unit
        self.write.setEnabled(bool(made))
        if not made:
            self.table.setRowCount(0)
            self.hyperfocal.setText("An orthographic view has no stop.")
            return
        stops, first = made[0].stops, f"{made[0].title}  " if len(made) == 1 else ""
        wanted = float(subject.camera.f_number) if self._stop_shown is None else self._stop_shown
        column = int(abs(stops - wanted).argmin())
        self.stop.setCurrentIndex(column)
        rows = [
            (
                f"{each.title}  {self.session.length(distance)}".removeprefix(first),
                *cell_words(each, row, min(column, len(each.stops) - 1), unit),
            )
            for each in made
            for row, distance in enumerate(each.distances_m)
        ]
        self.table.setRowCount(len(rows))
        for row, words in enumerate(rows):
            show_words(self.table, row, words)
        hyperfocal = self.session.length(made[0].hyperfocal_m[column])
        self.hyperfocal.setText(
            f"Hyperfocal at f/{stops[column]:.3g}: {hyperfocal}. Sharpness limit "
            f"{subject.camera.coc_px:.3g} px."
        )

    def _ask(self) -> None:
        path = self._exports.ask_table()
        if path is not None:
            self.write_to(path)

    def write_to(self, path: Path) -> None:
        """Write the tables as CSV."""
        now = self.session.now
        if now is not None:
            self._exports.write_tables(self.tables(now), path)
