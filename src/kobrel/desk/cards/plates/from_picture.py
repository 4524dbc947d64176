"""Dialogs that make sets of plates: by a depth picture, and with a ground from one picture."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import length_field, number_field
from kobrel.desk.toolkit.gesture import Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.paint import draw_label, draw_text
from kobrel.desk.toolkit.theme import theme
from kobrel.desk.toolkit.words import Label
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.from_depth import (
    BINS,
    MOST,
    DepthScale,
    Slices,
    best_slices,
    enough,
    histogram,
    sliced,
)
from kobrel.plan.plates.pixels import as_srgb
from kobrel.session.commands.plates import cutting, sets
from kobrel.session.session import Session
from kobrel.stage.plates import PlatePixels, Rgba

_GRAB_PX = 7.0
_LEAST_GAP = 1.5 / BINS


@guarded
class CutsView(GestureWidget):
    """The histogram of a depth picture with the cuts between the plates, which can be dragged.

    Parameters
    ----------
    moved : told new cuts
    """

    def __init__(self, moved: Callable[[tuple[float, ...]], object], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._moved = moved
        self.weights = np.zeros(BINS)
        self.slices: Slices | None = None
        self.words: list[str] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Histogram of depth, with the cuts")
        self.setToolTip("Depth histogram. Drag the slice lines.")

    def sizeHint(self) -> QSize:
        return QSize(520, 190)

    def show_slices(self, weights: np.ndarray, slices: Slices, words: list[str]) -> None:
        """Show a histogram and its cuts, with the plates' distances in words."""
        self.weights, self.slices, self.words = weights, slices, words
        self.update()

    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(10, 8, -10, -24)

    def x_of(self, value: float) -> float:
        """Where a value stands across."""
        return self._box().left() + value * self._box().width()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, box = QPainter(self), self._box()
        painter.fillRect(self.rect(), theme().raised)
        tall = np.sqrt(self.weights / max(float(self.weights.max()), 1e-12)) * box.height()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().quiet)
        wide = box.width() / BINS
        for k, high in enumerate(tall):
            painter.drawRect(QRectF(box.left() + k * wide, box.bottom() - high, wide + 0.5, high))
        if self.slices is None:
            return
        painter.setPen(QPen(theme().focus, 2))
        for cut in self.slices.cuts[1:-1]:
            painter.drawLine(QPointF(self.x_of(cut), box.top()), QPointF(self.x_of(cut), box.bottom()))
        last = -1e9
        for low, high, word in zip(self.slices.cuts, self.slices.cuts[1:], self.words, strict=False):
            x = self.x_of((low + high) / 2)
            if x - last > 48:
                draw_text(painter, QPointF(x, box.bottom() + 16), word, theme().text, 11, "centre")
                last = x

    def press(self, event: QMouseEvent) -> Gesture | None:
        if self.slices is None:
            return None
        x = event.position().x()
        near = [(abs(self.x_of(cut) - x), k) for k, cut in enumerate(self.slices.cuts[1:-1], 1)]
        away, index = min(near, default=(1e9, 0))
        return _DragCut(self, index) if away <= _GRAB_PX else None

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def drag(self, index: int, x: float) -> None:
        """Move a cut to a place across, between its neighbours."""
        assert self.slices is not None
        cuts = list(self.slices.cuts)
        low, high = cuts[index - 1] + _LEAST_GAP, cuts[index + 1] - _LEAST_GAP
        cuts[index] = min(max((x - self._box().left()) / self._box().width(), low), high)
        self._moved(tuple(cuts))


class _DragCut(Gesture):
    """Moves a cut."""

    def __init__(self, view: CutsView, index: int) -> None:
        self._view, self._index = view, index
        self._before = view.slices.cuts[index] if view.slices else 0.0

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.drag(self._index, at.x())

    def cancel(self) -> None:
        self._view.drag(self._index, self._view.x_of(self._before))


class FromDepthDialog(QDialog):
    """Makes plates of a picture by its depth."""

    def __init__(
        self, session: Session, path: Path, values: np.ndarray, ends: tuple[float, float], whole: bool,
        parent: QWidget | None = None,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._session, self._path = session, path
        self._weights = histogram(values)
        self.setWindowTitle("Plates by depth")
        column = QVBoxLayout(self)
        self.view = CutsView(self._take_cuts)
        column.addWidget(self.view, 1)
        form = QFormLayout()
        metres = not whole and ends[1] > 1.5
        near, far = (max(ends[0], 0.05), max(ends[1], 0.1)) if metres else (1.0, 30.0)
        unit = lambda: session.unit  # noqa: E731
        self.near = length_field(
            "Nearest depth", unit, 0.01, 1e5, about="Distance of the nearest depth value"
        )
        self.far = length_field(
            "Farthest depth", unit, 0.02, 1e6, about="Distance of the farthest depth value"
        )
        self.near.show_value(near)
        self.far.show_value(far)
        self.white = QCheckBox("White is near")
        self.white.setToolTip("Ticked: white (1) is near; else white is far")
        self.white.setChecked(not metres)
        self.even = choice(
            "Depth spacing", [("Dioptres", True), ("Metres", False)], "How its steps are spaced", 110
        )
        self.even.setCurrentIndex(1 if metres else 0)
        self.count = number_field(
            "Plates", "count", 1, 2, MOST, about="How many plates the image is sliced into"
        )
        form.addRow("Nearest", self.near)
        form.addRow("Farthest", self.far)
        form.addRow("Even in", self.even)
        form.addRow("", self.white)
        form.addRow("Plates", self.count)
        column.addLayout(form)
        self.told = Label()
        self.told.setWordWrap(True)
        column.addWidget(self.told)
        column.addWidget(_buttons(self, "Make plates", self._make))
        self.slices = best_slices(self._weights, self.scale, 2)
        for field in (self.near, self.far):
            field.taken.connect(self._taken)
            field.taken.connect(lambda _v: self._begin())
        self.count.taken.connect(lambda value: self.count.show_value(round(value)))
        self.count.taken.connect(lambda value: self._slice(round(value)))
        self.white.toggled.connect(lambda _on: self._begin())
        self.even.activated.connect(lambda _index: self._begin())
        self._begin()

    def _taken(self, metres: float) -> None:
        field = self.sender()
        if field in (self.near, self.far):
            field.show_value(metres)  # type: ignore[union-attr]

    @property
    def scale(self) -> DepthScale:
        """What the depth picture means, as it is set."""
        near, far = sorted((self.near.value, self.far.value))
        far = max(far, near * 1.001)
        return DepthScale(near, far, self.white.isChecked(), bool(self.even.currentData()))

    def _px_per_dpt(self) -> float:
        camera = self._session.camera
        return camera.eye.px_per_dpt if camera is not None else 100.0

    def _begin(self) -> None:
        """As many plates as are enough."""
        count = enough(self._weights, self.scale, self._px_per_dpt())
        self.count.show_value(count)
        self._slice(count)

    def _slice(self, count: int) -> None:
        self.slices = best_slices(self._weights, self.scale, count)
        self._show()

    def _take_cuts(self, cuts: tuple[float, ...]) -> None:
        self.slices = sliced(self._weights, self.scale, cuts)
        self._show()

    def _show(self) -> None:
        words = [self._session.length(metres) for metres in self.slices.distances_m]
        self.view.show_slices(self._weights, self.slices, words)
        off = self.slices.error_dpt * self._px_per_dpt()
        self.told.setText(f"{len(words)} plates, mean blur error {off:.1f} px at this lens and stop")

    def _make(self) -> None:
        sets.from_depth(self._session, self._path, self.slices, self.scale)
        self.accept()


@guarded
class HorizonView(GestureWidget):
    """A picture with its horizon, which can be dragged."""

    def __init__(self, pixels: PlatePixels, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        step = max(1, pixels.width // 900)
        part: Rgba = pixels.rgba[::step, ::step].copy()
        shown = np.clip(as_srgb(PlatePixels(part)) * 255, 0, 255).astype(np.uint8)
        self._bytes = shown.tobytes()
        tall, wide = shown.shape[:2]
        self._image = QImage(self._bytes, wide, tall, 3 * wide, QImage.Format.Format_RGB888)
        self.horizon = 0.5
        self.setMinimumSize(480, 280)
        self.setAccessibleName("Picture with its horizon")
        self.setToolTip("Drag to the horizon line")

    def _box(self) -> QRectF:
        size = self._image.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
        return QRectF(
            (self.width() - size.width()) / 2,
            (self.height() - size.height()) / 2,
            size.width(),
            size.height(),
        )

    def y_of(self, part: float) -> float:
        """Where a height of the picture stands on the widget."""
        return self._box().top() + part * self._box().height()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter, box = QPainter(self), self._box()
        painter.drawImage(box, self._image)
        y = self.y_of(self.horizon)
        painter.setPen(QPen(theme().focus, 2))
        painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        draw_label(painter, QPointF(box.left() + 8, y - 8), "horizon", theme().focus, bold=True)

    def press(self, event: QMouseEvent) -> Gesture | None:
        return _DragHorizon(self)

    def hover(self, event: QMouseEvent) -> None:
        """Nothing to show."""

    def put(self, y: float) -> None:
        """Move the horizon to a height of the widget."""
        self.horizon = min(max((y - self._box().top()) / self._box().height(), 0.0), 0.98)
        self.update()


class _DragHorizon(Gesture):
    """Moves the horizon."""

    def __init__(self, view: HorizonView) -> None:
        self._view = view

    def begin(self, at: QPointF) -> None:
        self._view.put(at.y())

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.put(at.y())


class GroundDialog(QDialog):
    """Makes a ground of a picture by its horizon and the camera's height."""

    def __init__(self, session: Session, pixels: PlatePixels, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("A ground from this picture")
        column = QVBoxLayout(self)
        self.view = HorizonView(pixels)
        column.addWidget(self.view, 1)
        form = QFormLayout()
        self.height_m = length_field(
            "Height of the camera",
            lambda: session.unit,
            0.01,
            10_000.0,
            about="Height above the ground at which the photo was taken",
        )
        self.height_m.show_value(1.6)
        self.height_m.taken.connect(self.height_m.show_value)
        form.addRow("Camera height", self.height_m)
        column.addLayout(form)
        told = Label(
            "Moves the shot camera to match the photo, lays everything below the horizon flat as "
            "ground, and keeps the photo as backdrop."
        )
        told.setWordWrap(True)
        column.addWidget(told)
        column.addWidget(_buttons(self, "Make the ground", self._make))

    def _make(self) -> None:
        sets.make_ground(self._session, self.view.horizon, self.height_m.value)
        self.accept()


def picture_for(session: Session, plate: Plate | None) -> PlatePixels | None:
    """The picture of a plate for a dialog; says why there is none."""
    if plate is None:
        session.say("Select a plate first.")
        return None
    pixels = cutting.pixels_of(session, plate)
    if pixels is None:
        session.say("This needs a still picture that can be read.")
    return pixels


def _buttons(dialog: QDialog, word: str, work: Callable[[], object]) -> QDialogButtonBox:
    """A button that does the work, and one that does not; Enter in a field presses neither."""
    box = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
    made = box.addButton(word, QDialogButtonBox.ButtonRole.ActionRole)
    for button in box.buttons():
        if isinstance(button, QPushButton):
            button.setAutoDefault(False)
    made.clicked.connect(lambda _on=False: work())
    box.rejected.connect(dialog.reject)
    return box
