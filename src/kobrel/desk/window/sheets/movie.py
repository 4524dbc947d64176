"""What a movie shall have, and giving it to the queue."""

from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.background.exports import Exports
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import Field, number_field
from kobrel.desk.toolkit.words import Label, plain
from kobrel.picture.denoise import is_installed
from kobrel.session import settings
from kobrel.session.session import Session

_MOST_NAME = 120
_KINDS = (
    ("H.264 movie", ".mp4"),
    ("ProRes movie", ".mov"),
    ("PNG pictures", ".png"),
    ("EXR pictures, linear", ".exr"),
)
_QUALITIES: tuple[tuple[str, tuple[int, bool] | None], ...] = (
    ("Draft · 4 samples, denoised", (4, True)),
    ("Good · 16 samples, denoised", (16, True)),
    ("Exact · 64 samples", (64, False)),
    ("Custom", None),
)
"""Samples a pixel, and whether noise is removed."""
_BURNS = (
    ("frame", "Frame"),
    ("focus", "Focus distance"),
    ("stop", "Lens and stop"),
    ("states", "Focus state"),
)


class MovieDialog(QDialog):
    """Asks for kind, size, quality, range and what is burnt in; then for the file."""

    def __init__(
        self, session: Session, exports: Exports, frames: tuple[int, int], parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self._session, self._exports = session, exports
        self.setWindowTitle("Write a movie")
        self.said = Label()
        self.said.setWordWrap(True)
        column, grid = QVBoxLayout(self), QGridLayout()
        grid.setVerticalSpacing(8)
        shot = session.shot
        self.kind = choice("Kind", list(_KINDS), "Kind of file", 240)
        self.width_px = self._number(
            "Width", "px", 16, 16384, shot.width_px if shot else 1920, "Width of the movie"
        )
        self.quality = choice(
            "Quality", list(_QUALITIES), "How much noise is left; Exact is for measuring and comparing", 240
        )
        self.passes = self._number(
            "Samples", "samples", 1, 4096, 64, "Rays per pixel of each frame; more gives less noise"
        )
        self.denoise = self._tick("Denoise", "Remove noise; good to look at, not to measure")
        self.denoise.setEnabled(is_installed())
        self.first = self._number("First frame", "frame", -1e6, 1e6, frames[0], "First frame of the movie")
        self.last = self._number("Last frame", "frame", -1e6, 1e6, frames[1], "Last frame of the movie")
        for row, (label, widget) in enumerate(
            (("Kind", self.kind), ("Width", self.width_px), ("Quality", self.quality),
             ("Samples per pixel", self.passes), ("", self.denoise),
             ("First frame", self.first), ("Last frame", self.last))
        ):  # fmt: skip
            text = Label(label)
            text.setBuddy(widget)
            grid.addWidget(text, row, 0)
            grid.addWidget(widget, row, 1)
        column.addLayout(grid)
        self.handles = self._tick("With the shot's handles", "Frames before and after the cut, see Shots")
        self.handles.setEnabled(bool(shot and shot.handles))
        self.handles.toggled.connect(self._take_handles)
        self.burns = {key: self._tick(f"Burn in: {text.lower()}", text) for key, text in _BURNS}
        self.sound = self._tick("Focus-motor sound", "Its level and pitch follow the speed of the pull")
        self.clay = self._tick("Clay", "Draw all surfaces in one grey, to judge form alone")
        for box in (self.handles, *self.burns.values(), self.sound, self.clay):
            column.addWidget(box)
        column.addWidget(self.said)
        line = QHBoxLayout()
        line.addStretch(1)
        cancel, write = QPushButton("Cancel"), QPushButton("Write…")
        cancel.setAutoDefault(False)
        cancel.clicked.connect(self.reject)
        write.setAutoDefault(False)
        write.setToolTip("Choose a file; renders in the queue")
        write.clicked.connect(self._ask)
        line.addWidget(cancel)
        line.addWidget(write)
        column.addLayout(line)
        self._restore()
        self.quality.activated.connect(self._apply_quality)
        self.passes.taken.connect(lambda _value: self._show_quality())
        self.denoise.toggled.connect(lambda _on: self._show_quality())
        self.kind.currentIndexChanged.connect(self._show_kind)
        self._show_kind()

    def _number(self, name: str, unit: str, low: float, high: float, value: float, about: str) -> Field:
        field = number_field(name, unit, 1.0, low, high, digits=8, about=about)
        field.show_value(value)
        field.refused.connect(self.said.setText)
        return field

    def _tick(self, text: str, hint: str) -> QCheckBox:
        box = QCheckBox(text)
        box.setToolTip(plain(hint))
        return box

    def _boxes(self) -> dict[str, QCheckBox]:
        return {**self.burns, "sound": self.sound, "clay": self.clay}

    def _restore(self) -> None:
        kept = self._session.settings
        self.kind.setCurrentIndex(max(0, self.kind.findData(kept.get(settings.MOVIE_KIND))))
        for key, box in self._boxes().items():
            box.setChecked(key in kept.get(settings.MOVIE_CHOICES))
        self.passes.show_value(kept.get(settings.MOVIE_SAMPLES))
        self.denoise.setChecked(kept.get(settings.MOVIE_DENOISE) and is_installed())
        self._show_quality()

    def _apply_quality(self, _index: int) -> None:
        quality = self.quality.currentData()
        if quality is not None:
            samples, denoise = quality
            self.passes.show_value(samples)
            self.denoise.setChecked(denoise and is_installed())
        self._show_quality()

    def _show_quality(self) -> None:
        """Show which quality the samples and the denoising are."""
        now = round(self.passes.value), self.denoise.isChecked()
        found = [index for index, (_text, quality) in enumerate(_QUALITIES) if quality == now]
        self.quality.setCurrentIndex(found[0] if found else len(_QUALITIES) - 1)

    def _show_kind(self) -> None:
        ending = self.kind.currentData()
        self.sound.setEnabled(ending in (".mp4", ".mov"))
        for box in self.burns.values():
            box.setEnabled(ending != ".exr")

    def _take_handles(self, on: bool) -> None:
        shot = self._session.shot
        if shot is not None:
            by = shot.handles if on else 0
            self.first.show_value(shot.first - by)
            self.last.show_value(shot.last + by)

    def _ask(self) -> None:
        shot, ending = self._session.shot, str(self.kind.currentData())
        if shot is None:
            return
        name = f"{self._session.plan.name}_{shot.name}"[:_MOST_NAME].replace(" ", "_").replace("/", "-")
        folder = Path(self._session.settings.get(settings.MOVIE_FOLDER) or Path.home())
        kinds = f"{self.kind.currentText()} (*{ending})"
        path = ask_target(self, "Write a movie", folder / f"{name}{ending}", kinds, [ending])
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Have it made; the queue shows how far it is."""
        from kobrel.exchange.movie import Movie

        camera = self._session.camera
        if camera is None:
            return
        kept = self._session.settings
        kept.put(settings.MOVIE_KIND, str(self.kind.currentData()))
        kept.put(settings.MOVIE_FOLDER, str(path.parent))
        kept.put(settings.MOVIE_CHOICES, [key for key, box in self._boxes().items() if box.isChecked()])
        kept.put(settings.MOVIE_SAMPLES, round(self.passes.value))
        kept.put(settings.MOVIE_DENOISE, self.denoise.isChecked())
        width = round(self.width_px.value)
        movie = Movie(
            first=round(self.first.value), last=round(self.last.value),
            width=width, height=max(2, round(width / camera.aspect)), passes=round(self.passes.value),
            burns=frozenset(key for key, box in self.burns.items() if box.isChecked() and box.isEnabled()),
            sound=self.sound.isChecked() and self.sound.isEnabled(),
            clay=self.clay.isChecked(), denoise=self.denoise.isChecked(),
        )  # fmt: skip
        self._exports.write_movie(movie, path)
        self.accept()
