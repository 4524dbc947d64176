"""Files: what leaves for the renderer and the edit, passes, and files that are kept up to date."""

from pathlib import Path

from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QWidget

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.toolkit.theme import font
from kobrel.desk.toolkit.words import plain
from kobrel.exchange.export import KINDS
from kobrel.plan.export import PASSES, ExportKind, Pass, UpdatedFile
from kobrel.plan.values.own import as_block
from kobrel.session import settings
from kobrel.session.commands import exporting
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session
from kobrel.session.view import View

_SHEETS = ("sheet", "html")


class FilesPage(ShotCard):
    """Files: what leaves for the renderer and the edit, passes, and files that are kept up to date."""

    name = "Files"
    purpose = "Cameras, tables, passes and layers as files"
    is_page = True
    depends = (*AT_FRAME, View.custom_values)

    def __init__(self, session: Session, exports: Exports, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._exports = exports
        kept = session.settings
        kinds: list[tuple[str, object]] = [(k.title, k.key) for k in KINDS.values() if k.key not in _SHEETS]
        self.kind = choice("Kind of file", kinds, "File format", 190)
        self.bind(
            self.kind, lambda _now: kept.get(settings.HAND_KIND),
            lambda value: kept.put(settings.HAND_KIND, value),
        )  # fmt: skip
        self.row("Format", self.kind)
        self.hint = self.note()
        self.terms = choice("Values of the frames", [], "Which renderer's values the file has", 190)
        self.bind(self.terms, lambda _now: self._chosen_values(), self._choose_values, self._value_options)
        self.row("Values", self.terms)
        self.show_if(self.terms, lambda _now: self.kind.currentData() in ("csv", "json"))
        self.keeps = QCheckBox("Update on save")
        self.keeps.setToolTip("Export again on every save of the plan if it has changed")
        self.column.addWidget(self.keeps)
        (self.write,) = self.buttons(
            ("Export…", "Choose a file; progress shows in the status bar", self._write)
        )
        self.line()
        self.handed = word_table("Linked exports", ("Updated on save", "Format"), 24, (0,))
        self.handed.setFixedHeight(112)
        self.column.addWidget(self.handed)
        self.now, self.stop = self.buttons(
            ("Update now", "Update all that changed", exports.hand_over),
            ("Stop updating", "Stop updating the selected file (file stays)", self._stop),
        )
        self.line()
        self.passes = self._add_passes()
        self.write_passes, self.write_frame = self.buttons(
            ("Write passes…", "All frames as EXR, plus a readme", self._ask_passes),
            ("This frame…", "Passes of this frame alone", lambda: self._ask_passes(one=True)),
        )
        self.line()
        self.layer_kind = choice(
            "Layers as",
            [("OpenRaster", ".ora"), ("EXR, one part per plate", ".exr"), ("PNG, a file a plate", ".png")],
            "One blurred layer per plate with alpha, plus comp notes", 190,
        )  # fmt: skip
        self.row("Plates as layers", self.layer_kind)
        self.layers, self.layers_frame = self.buttons(
            ("Write layers…", "All frames of the shot", lambda: self._ask_layers(one=False)),
            ("This frame…", "Layers of this frame alone", lambda: self._ask_layers(one=True)),
        )
        for widget in (self.layers, self.layers_frame, self.layer_kind):
            self.enable_if(widget, lambda now: bool(now.plan.plates))
        self.column.addStretch(1)

    def _ask_layers(self, one: bool) -> None:
        self._exports.ask_layers(self.layer_kind.currentData(), one)

    def _add_passes(self) -> dict[Pass, QCheckBox]:
        self.note("Passes for comp")
        chosen = self.session.settings.get(settings.PASSES_CHOSEN)
        boxes: dict[Pass, QCheckBox] = {}
        for key, text in PASSES.items():
            box = boxes[key] = QCheckBox(text)
            box.setFont(font(12))
            box.setToolTip(plain(f"Pass: {text.lower()}"))
            box.setChecked(key in chosen)
            box.toggled.connect(lambda _on: self._keep_passes())
        names = list(boxes)
        for first, second in zip(names[::2], [*names[1::2], None], strict=False):
            line = QHBoxLayout()
            line.addWidget(boxes[first], 1)
            if second is not None:
                line.addWidget(boxes[second], 1)
            self.column.addLayout(line)
        return boxes

    def _keep_passes(self) -> None:
        chosen: list[str] = [key for key, box in self.passes.items() if box.isChecked()]
        self.session.settings.put(settings.PASSES_CHOSEN, chosen)

    # Values

    def _value_options(self, now: Now) -> list[tuple[str, object]]:
        first: tuple[str, object] = ("Numbers and subjects", "")
        if self.kind.currentData() == "json":
            first = ("Everything", "")
        names = [
            (as_block(family).title, as_block(family).key) for family in exporting.families(self.session, now)
        ]
        return [first, *names]

    def _chosen_values(self) -> str:
        kept: list[str] = self.session.settings.get(settings.EXPORT_VALUES)
        return kept[0] if kept else ""

    def _choose_values(self, key: str) -> None:
        self.session.settings.put(settings.EXPORT_VALUES, [key] if key else [])

    # Showing and writing

    def show_more(self, subject: Now) -> None:
        kind = KINDS[self.kind.currentData() or "usd"]
        self.hint.setText(f"{kind.hint}.")
        handed = subject.plan.handed
        self.handed.setRowCount(len(handed))
        for row, out in enumerate(handed):
            items = show_words(self.handed, row, (Path(out.path).name, KINDS[out.kind].title))
            items[0].setToolTip(plain(out.path))
        self.now.setEnabled(bool(handed))
        self.stop.setEnabled(bool(handed))

    def out(self, path: Path) -> UpdatedFile | None:
        """What is chosen, as a file at a path."""
        shot = self.session.shot
        kind: ExportKind = self.kind.currentData()
        if shot is None:
            return None
        terms = tuple(filter(None, [self._chosen_values()])) if kind in ("csv", "json") else ()
        shots = (shot.name,) if KINDS[kind].of == "shot" else ()
        unit = exporting.unit_chosen(self.session)
        return UpdatedFile(kind=kind, path=str(path), shots=shots, unit=unit, terms=terms)

    def _write(self) -> None:
        kind = KINDS[self.kind.currentData()]
        path = self._exports.ask_kind(kind.key)
        if path is not None:
            self.write_to(path)

    def write_to(self, path: Path) -> None:
        """Write what is chosen, and keep it up to date if that is ticked."""
        out = self.out(path)
        if out is None:
            return
        self._exports.write(out)
        if self.keeps.isChecked():
            self._exports.keep(out)

    def _stop(self) -> None:
        row = max(self.handed.currentRow(), 0)
        if row < len(self.session.plan.handed):
            exporting.stop_handing(self.session, self.session.plan.handed[row].path)

    def _ask_passes(self, one: bool = False) -> None:
        chosen = [key for key, box in self.passes.items() if box.isChecked()]
        self._exports.ask_passes(chosen, one)
