"""The index tabs on the window's right edge."""

from PySide6.QtCore import QPoint, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QButtonGroup, QSizePolicy, QVBoxLayout, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.theme import font, theme
from kobrel.desk.toolkit.words import plain

_WIDE, _HIGH, _LEAST_HIGH = 32, 82, 52


@guarded
class IndexTab(QAbstractButton):
    """One tab, its name running downward."""

    def __init__(self, name: str, key: int) -> None:
        super().__init__()
        self.setText(name)
        self.setCheckable(True)
        self.setAccessibleName(f"{name} card")
        self.setToolTip(plain(f"{name} ({key})"))
        self.setFixedWidth(_WIDE)
        self.setMinimumHeight(_LEAST_HIGH)
        self.setMaximumHeight(_HIGH)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Preferred)

    def sizeHint(self) -> QSize:
        return QSize(_WIDE, _HIGH)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        chosen = self.isChecked()
        hot = self.underMouse() or self.hasFocus()
        painter.setBrush(theme().focus if chosen else theme().raised if hot else theme().panel)
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0, 0, -2, 0), 4, 4)
        painter.translate(self.rect().center() + QPoint(0, 1))
        painter.rotate(90)
        painter.setFont(font(13, bold=chosen))
        painter.setPen(theme().on_focus if chosen else theme().quiet)
        long = float(self.height())
        painter.drawText(QRectF(-long / 2, -15, long, 30), Qt.AlignmentFlag.AlignCenter, self.text())


class TabEdge(QWidget):
    """The column of tabs; `group` tells which is chosen by its number."""

    def __init__(self, names: list[tuple[int, str]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        column = QVBoxLayout(self)
        column.setContentsMargins(2, 8, 0, 8)
        column.setSpacing(4)
        self.group = QButtonGroup(self)
        for key, name in names:
            tab = IndexTab(name, key)
            self.group.addButton(tab, key)
            column.addWidget(tab)
        column.addStretch(1)

    def show_tab(self, key: int, shown: bool) -> None:
        """Show or hide a tab."""
        self.group.button(key).setVisible(shown)

    def choose(self, key: int) -> None:
        """Mark a tab as chosen, or none."""
        self.group.setExclusive(False)
        for tab in self.group.buttons():
            tab.setChecked(self.group.id(tab) == key)
        self.group.setExclusive(True)
