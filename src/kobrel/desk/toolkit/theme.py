"""How Kobrel looks: colours by role, type, and the style sheet."""

import re
from dataclasses import dataclass, fields
from functools import cache
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PySide6.QtWidgets import QApplication, QWidget
from shiboken6 import isValid

import kobrel

DATA = Path(kobrel.__file__).parent / "data"
FAMILY = "B612"
_AT_ONCE = 60
"""Widgets that take a look before the window is asked whether there is something else to do."""


@dataclass(frozen=True)
class Theme:
    """Colours by role."""

    base: QColor
    panel: QColor
    raised: QColor
    line: QColor
    text: QColor
    quiet: QColor
    focus: QColor
    on_focus: QColor
    sharp: QColor
    nearer: QColor
    farther: QColor
    wrong: QColor
    surround: QColor


def _theme(**colours: str) -> Theme:
    return Theme(**{field.name: QColor(colours[field.name]) for field in fields(Theme)})


DARK = _theme(
    base="#12191B", panel="#1A2326", raised="#232F33", line="#34444A", text="#ECE7DA", quiet="#9FB0AE",
    focus="#E0B354", on_focus="#12191B", sharp="#F5EBCB", nearer="#E0765A", farther="#7FA6D6",
    wrong="#FF6464", surround="#1B1B1B",
)  # fmt: skip
LIGHT = _theme(
    base="#DDD9CE", panel="#F1EEE5", raised="#FFFFFF", line="#B9B5A8", text="#1C2426", quiet="#4B5A5C",
    focus="#75500A", on_focus="#FFFFFF", sharp="#554510", nearer="#983816", farther="#2A5488",
    wrong="#A81C1A", surround="#6E6E6E",
)  # fmt: skip
THEMES = {"dark": DARK, "light": LIGHT}
DESKTOP = "desktop"
"""Of the looks, the one that the desktop has."""
LOOKS = {"dark": "Dark", "light": "Light room", DESKTOP: "Follow system"}

_current = [DARK]


def theme() -> Theme:
    """The look in use."""
    return _current[0]


@cache
def font(pixels: int = 13, bold: bool = False) -> QFont:
    """Kobrel's type at a size in pixels, 11 at the least; not to be changed."""
    result = QFont(FAMILY)
    result.setPixelSize(max(11, pixels))
    result.setBold(bold)
    return result


def faded(colour: QColor, part: float) -> QColor:
    """A colour with some of its opacity."""
    result = QColor(colour)
    result.setAlphaF(part)
    return result


def apply(application: QApplication, name: str = "dark") -> None:
    """Put on a look: type, palette and style sheet for the whole application."""
    if name == DESKTOP:
        is_light = application.styleHints().colorScheme() == Qt.ColorScheme.Light
        name = "light" if is_light else "dark"
    _current[0] = THEMES.get(name, DARK)
    _load_fonts()
    application.setPalette(_palette(theme()))
    if not application.styleSheet():
        application.setStyle("Fusion")
        application.setFont(font())
        application.setStyleSheet(_sheet())
        return
    widgets = application.allWidgets()
    _polish([widget for widget in widgets if widget.isVisible()])
    _waiting[:] = [widget for widget in widgets if not widget.isVisible()]
    QTimer.singleShot(0, _go_on)


def _polish(widgets: list[QWidget]) -> None:
    """Let widgets take the palette that is in use: a style sheet looks at it once for each."""
    for widget in filter(isValid, widgets):
        style = widget.style()
        style.unpolish(widget)
        style.polish(widget)


_waiting: list[QWidget] = []
"""Widgets that cannot be seen now, and have the look before."""


def _go_on() -> None:
    """Give some of those that wait the look in use; there may be thousands."""
    some, _waiting[:] = _waiting[:_AT_ONCE], _waiting[_AT_ONCE:]
    _polish(some)
    if _waiting:
        QTimer.singleShot(0, _go_on)


@cache
def _load_fonts() -> None:
    for file in ("B612-Regular.otf", "B612-Bold.otf"):
        QFontDatabase.addApplicationFont(str(DATA / "fonts" / file))


_ROLES = {
    "base": "Window", "panel": "AlternateBase", "raised": "Base", "line": "Mid", "text": "Text",
    "quiet": "PlaceholderText", "focus": "Highlight", "on_focus": "HighlightedText", "sharp": "BrightText",
    "nearer": "Link", "farther": "LinkVisited", "wrong": "Shadow",
}  # fmt: skip
"""The role of Qt's palette by which the style sheet knows each colour, so that one sheet serves all looks."""


def _palette(c: Theme) -> QPalette:
    palette = QPalette()
    roles = QPalette.ColorRole
    for name, role in _ROLES.items():
        palette.setColor(roles[role], getattr(c, name))
    for each, colour in (
        (roles.WindowText, c.text), (roles.Button, c.raised), (roles.ButtonText, c.text),
        (roles.ToolTipBase, c.raised), (roles.ToolTipText, c.text),
    ):  # fmt: skip
        palette.setColor(each, colour)
    for each in (roles.Text, roles.ButtonText, roles.WindowText):
        palette.setColor(QPalette.ColorGroup.Disabled, each, c.quiet)
    return palette


def _sheet() -> str:
    words = {name: re.sub("(?<!^)(?=[A-Z])", "-", role).lower() for name, role in _ROLES.items()}
    n = {name: f"palette({word})" for name, word in words.items()}
    arrow = (DATA / "icons" / "down.svg").as_posix()
    return f"""
    QMainWindow {{ background: {n["base"]}; }}
    QDialog, QFrame#popover {{ background: {n["panel"]}; }}
    QFrame#popover {{ border: 1px solid {n["line"]}; border-radius: 4px; }}
    QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
    QWidget#panel {{ background: {n["panel"]}; border-radius: 4px; }}
    QLabel#quiet, QLabel#unit {{ color: {n["quiet"]}; }}
    QLabel[role="nearer"] {{ color: {n["nearer"]}; }}
    QLabel[role="farther"] {{ color: {n["farther"]}; }}
    QLabel[role="sharp"] {{ color: {n["sharp"]}; }}
    QLabel[role="focus"] {{ color: {n["focus"]}; }}
    QLabel#quiet[role="wrong"], QLabel[role="wrong"] {{ color: {n["wrong"]}; }}
    QLabel[role="gone"] {{ color: {n["quiet"]}; }}
    QFrame#rule {{ background: {n["line"]}; border: none; }}
    QLabel#title {{ font-weight: bold; font-size: 16px; }}
    QLabel#brand {{ color: {n["focus"]}; font-weight: bold; font-size: 16px; }}
    QMenuBar {{ background: transparent; padding: 2px; }}
    QMenuBar::item {{ padding: 5px 9px; border-radius: 3px; }}
    QMenuBar::item:selected {{ background: {n["raised"]}; }}
    QMenu {{ background: {n["raised"]}; border: 1px solid {n["line"]}; padding: 4px; }}
    QMenu::item {{ padding: 5px 26px 5px 12px; border-radius: 3px; }}
    QMenu::item:selected {{ background: {n["line"]}; }}
    QMenu::item:disabled {{ color: {n["quiet"]}; }}
    QMenu::separator {{ height: 1px; background: {n["line"]}; margin: 4px 8px; }}
    QToolTip {{ background: {n["raised"]}; color: {n["text"]}; border: 1px solid {n["line"]}; padding: 5px; }}
    QLineEdit, QSpinBox, QComboBox {{
        background: {n["raised"]}; border: 1px solid {n["raised"]}; border-radius: 3px;
        padding: 3px 8px; min-height: 20px; selection-background-color: {n["focus"]};
        selection-color: {n["on_focus"]}; }}
    QLineEdit:focus, QSpinBox:focus, QComboBox:focus {{ border: 1px solid {n["focus"]}; }}
    QLineEdit[wrong="true"] {{ border: 1px solid {n["wrong"]}; }}
    QComboBox::drop-down {{ border: none; width: 20px; }}
    QComboBox::down-arrow {{ image: url({arrow}); width: 10px; height: 10px; }}
    QComboBox QAbstractItemView {{ background: {n["raised"]}; border: 1px solid {n["line"]};
        selection-background-color: {n["line"]}; selection-color: {n["text"]}; outline: none; }}
    QPushButton {{ background: {n["raised"]}; border: 1px solid {n["line"]}; border-radius: 3px;
        padding: 4px 10px; min-height: 18px; }}
    QPushButton:hover {{ border-color: {n["quiet"]}; }}
    QPushButton:focus {{ border-color: {n["focus"]}; }}
    QPushButton:pressed {{ background: {n["line"]}; }}
    QPushButton:checked {{ background: {n["focus"]}; color: {n["on_focus"]}; border-color: {n["focus"]}; }}
    QPushButton#term {{ background: transparent; border: 1px solid transparent; padding: 0; }}
    QPushButton#term:hover, QPushButton#term:focus {{
        background: {n["raised"]}; border-color: {n["focus"]}; }}
    QToolButton#tile {{ background: {n["panel"]}; border: 1px solid {n["line"]};
        border-radius: 4px; padding: 6px; }}
    QToolButton#tile:hover, QToolButton#tile:focus {{ border-color: {n["focus"]}; }}
    QToolButton#tile:disabled {{ color: {n["quiet"]}; }}
    QToolButton#head {{ background: transparent; border: 1px solid transparent; padding: 3px 4px; }}
    QToolButton#head:hover, QToolButton#head:focus {{ border-color: {n["focus"]}; }}
    QPushButton:disabled {{ color: {n["quiet"]}; background: {n["panel"]}; }}
    QTableView, QListView, QTreeView {{ background: {n["panel"]}; border: none; gridline-color: {n["line"]};
        selection-background-color: {n["raised"]}; selection-color: {n["text"]}; outline: none; }}
    QTableView:focus, QListView:focus, QTreeView:focus {{ border: 1px solid {n["line"]}; }}
    QTableView::item {{ padding: 0 5px; }}
    QTreeView::item {{ padding: 2px; }}
    QTreeView::item:selected {{ background: {n["raised"]}; color: {n["text"]}; }}
    QCheckBox::indicator, QTreeView::indicator, QTableView::indicator {{
      width: 11px; height: 11px; border: 1px solid {n["quiet"]};
        border-radius: 2px; background: {n["base"]}; }}
    QCheckBox::indicator:checked, QTreeView::indicator:checked, QTableView::indicator:checked {{
      background: {n["focus"]};
        border-color: {n["focus"]}; }}
    QCheckBox:focus {{ color: {n["focus"]}; }}
    QHeaderView::section {{ background: {n["panel"]}; color: {n["quiet"]}; border: none;
        border-bottom: 1px solid {n["line"]}; padding: 3px 6px; }}
    QSlider::groove:horizontal {{ height: 4px; background: {n["line"]}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ width: 12px; margin: -5px 0; border-radius: 6px;
        background: {n["focus"]}; }}
    QSlider:focus {{ border: 1px solid {n["line"]}; border-radius: 3px; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar::handle:vertical {{ background: {n["line"]}; border-radius: 5px; min-height: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; width: 0; }}
    QSplitter::handle {{ background: transparent; }}
    QProgressBar {{ background: {n["raised"]}; border: none; border-radius: 2px; max-height: 5px; }}
    QProgressBar::chunk {{ background: {n["focus"]}; border-radius: 2px; }}
    """
