"""Fields for numbers: typed with units, stepped by keys and wheel, never losing bad input."""

import re
from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QWheelEvent
from PySide6.QtWidgets import QLineEdit, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.words import plain
from kobrel.errors import KobrelError
from kobrel.optics.exposure import NARROWEST_STOP, WIDEST_STOP, StopSteps, step_stop
from kobrel.optics.units import Measure, format_length, parse_length, parse_place

_WIDE = 1e5
_NUMBER = re.compile(r"[-+−]?\s*(?:\d+(?:[.,]\d*)?|[.,]\d+)")

_LENGTH = "length, such as 3.2 m, 40 cm or 10' 6\""
_UNIT_WORDS = {"frame": "frame number", "fr": "frames", "count": "whole number", "ratio": "", "°": "degrees",
               "×": "times"}  # fmt: skip
_SUFFIXES = {"frame": "", "count": "", "ratio": "", "": "", "°": "°", "×": "×", "px or m": "",
             "px, mm or parts": "", "of the value": ""}  # fmt: skip


@guarded
class Field(QLineEdit):
    """A number with a unit.

    Enter or leaving it takes the value; Escape takes back what was typed. Input that makes
    no sense stays, outlined, and `refused` says why.

    Signals
    -------
    taken : a new value
    refused : why the text is no value
    """

    taken = Signal(float)
    refused = Signal(str)

    def __init__(
        self,
        name: str,
        read: Callable[[str], float],
        show: Callable[[float], str],
        step: Callable[[float, int], float],
        low: float,
        high: float,
        unit: str,
        about: str,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._read, self._show, self._step = read, show, step
        self._low, self._high = low, high
        self.value = low
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setAccessibleName(name)
        self.unit = unit
        self.describe(about)
        self.setFixedWidth(112)
        self.returnPressed.connect(self._take)

    def describe(self, about: str) -> None:
        """Set the tooltip: what the field does, its unit and range, its keys."""
        bounds = ", ".join(filter(None, (_UNIT_WORDS.get(self.unit, self.unit), self.range_words)))
        self.setToolTip(plain(f"{about} · {bounds} · Up and Down keys or the wheel step it"))

    @property
    def range_words(self) -> str:
        """From the least value to the greatest, where both are bounded so that a person would care."""
        if self._high - self._low > _WIDE:
            return ""
        return f"{self._show(self._low)} to {self._show(self._high)}"

    def show_value(self, value: float) -> None:
        """Show a value, unless something is just being typed."""
        self.value = value
        if not self.isModified():
            self.setText(self._show(value))

    def _take(self) -> None:
        if not self.isModified():
            return
        try:
            value = self._read(self.text())
            if not self._low <= value <= self._high:
                raise KobrelError(
                    f"{self.accessibleName()}: {self.text().strip()} is out of range, "
                    f"{self._show(self._low)} to {self._show(self._high)}."
                )
        except KobrelError as error:
            self._mark_wrong(True)
            self.refused.emit(str(error))
            return
        self._mark_wrong(False)
        self.setModified(False)
        self._emit(value)

    def _emit(self, value: float) -> None:
        self.value = value
        self.setText(self._show(value))
        self.taken.emit(value)

    def _mark_wrong(self, wrong: bool) -> None:
        self.setProperty("wrong", wrong)
        self.style().unpolish(self)
        self.style().polish(self)

    def step_by(self, steps: int) -> None:
        """Go so many steps up, or down."""
        self.setModified(False)
        self._mark_wrong(False)
        self._emit(min(max(self._step(self.value, steps), self._low), self._high))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self.step_by(1 if key == Qt.Key.Key_Up else -1)
        elif key == Qt.Key.Key_Escape and self.isModified():
            self.setModified(False)
            self._mark_wrong(False)
            self.setText(self._show(self.value))
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self._take()
        super().focusOutEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        if not self.hasFocus():
            event.ignore()  # a card that scrolls must not change what passes under the pointer
            return
        self.step_by(1 if event.angleDelta().y() > 0 else -1)


def read_number(text: str) -> float:
    """A number out of text such as "50 mm" or "f/2,8".

    Raises
    ------
    KobrelError
        There is none.
    """
    match = _NUMBER.search(text.lower().removeprefix("f/"))
    if match is None:
        raise KobrelError(f"“{text.strip()}” is not a number.")
    return float(match.group().replace(",", ".").replace("−", "-").replace(" ", ""))


def number_field(
    name: str, unit: str, step: float, low: float, high: float, digits: int = 4, *, about: str
) -> Field:
    """A plain number with its unit.

    Parameters
    ----------
    unit : shown behind the number, except for what the label says already, such as a frame or a count
    about : what the field does, for its tooltip
    """
    suffix = _SUFFIXES.get(unit, f" {unit}")
    return Field(
        name, read_number, lambda v: f"{v:.{digits}g}{suffix}", lambda v, n: round(v + n * step, 6), low,
        high, unit, about,
    )  # fmt: skip


def stop_field(name: str, steps: Callable[[], StopSteps] = lambda: "third", *, about: str) -> Field:
    """An f-number, stepped by full, half or third stops."""
    return Field(
        name,
        read_number,
        lambda v: f"f/{v:.3g}",
        lambda v, n: step_stop(v, n, steps()),
        WIDEST_STOP,
        NARROWEST_STOP,
        "f-number",
        about,
    )


def narrow(field: Field) -> Field:
    """A field that leaves room for two more beside it."""
    field.setFixedWidth(70)
    field.setStyleSheet("padding: 3px 4px; font-size: 12px;")
    return field


def place_field(name: str, unit: Callable[[], Measure], *, about: str) -> Field:
    """A length that may be negative, stepped by centimetres; narrow, as three stand in a row."""
    field = Field(
        name, lambda text: parse_place(text, unit()), lambda v: format_length(v, unit()),
        lambda v, n: round(v + 0.01 * n, 6), -1e6, 1e6, _LENGTH, about,
    )  # fmt: skip
    return narrow(field)


def length_field(name: str, unit: Callable[[], Measure], low: float, high: float, *, about: str) -> Field:
    """A length in any unit, such as 3.2 m, 320 cm or 10' 6"."""
    return Field(
        name, lambda text: parse_length(text, unit()), lambda v: format_length(v, unit()),
        lambda v, n: v * 1.01**n, low, high, _LENGTH, about,
    )  # fmt: skip
