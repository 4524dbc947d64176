"""Single keys of the window, which work whatever was clicked last; and moving about by Tab.

Tab goes from field to field. From the first Tab on, Space and arrows belong to what has the keyboard; a
click, or Enter or Esc in a field, ends that. Text that is typed keeps all other keys.
"""

from typing import Protocol

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSlider,
    QApplication,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QTextEdit,
    QWidget,
)

from kobrel.desk.background.player import Player
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.fields import Field
from kobrel.desk.window.body import Body
from kobrel.session.commands import blocking, walking
from kobrel.session.session import Session

_TEXT = (QLineEdit, QPlainTextEdit, QTextEdit)
_SWALLOWS = (QAbstractButton, QComboBox, QAbstractItemView, QAbstractSlider, QAbstractScrollArea)
"""Widgets that use Space or arrows themselves; those that were clicked leave them to the window."""
_ARROWS = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
_WITH = Qt.KeyboardModifier
_TURNS = (_WITH.NoModifier, _WITH.ShiftModifier, _WITH.KeypadModifier)


class KeyHost(Protocol):
    """The window whose keys are taken."""

    session: Session
    body: Body
    player: Player

    def toggle_alone(self) -> None:
        """Show Picture alone, or everything again."""


@guarded
class WindowKeys(QObject):
    """Takes the keys of a window before its widgets do.

    Parameters
    ----------
    window : the window itself
    host : the same, by what keys need of it
    """

    def __init__(self, window: QWidget, host: KeyHost) -> None:
        super().__init__(window)
        self._window, self._host = window, host
        self._walks = False

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        # Every event of every widget comes by here: what is no key or click has to go on at once.
        if isinstance(event, QKeyEvent):
            return event.type() != QEvent.Type.ShortcutOverride and self._takes(watched, event)
        if isinstance(event, QMouseEvent) and event.type() == QEvent.Type.MouseButtonPress:
            self._walks = False
        return False

    def _takes(self, watched: QObject, event: QKeyEvent) -> bool:
        body, key = self._host.body, event.key()
        pressed, focused = event.type() == QEvent.Type.KeyPress, QApplication.focusWidget()
        ours = isinstance(watched, QWidget) and watched.window() is self._window
        if not ours or QApplication.activePopupWidget() is not None:
            return False
        on_view = self._is_view(watched)
        if pressed and key in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab):
            self._walks = True
        if isinstance(focused, _TEXT):
            if pressed and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape):
                return self._leave_field(watched, focused, event)
            return False
        if not event.isAutoRepeat():
            if key == Qt.Key.Key_D:
                body.picture.focus_key_held = pressed
            elif key == Qt.Key.Key_Z:
                body.hold_loupe(pressed)
        if self._walks and not on_view:
            return False
        painted = hasattr(focused, "spoken_value")
        takes_itself = (isinstance(focused, _SWALLOWS) and not painted) or focused is None
        return pressed and takes_itself and self._plays_or_steps(event)

    def _plays_or_steps(self, event: QKeyEvent) -> bool:
        """Space and the arrows: whether this was one of them."""
        host, key, held = self._host, event.key(), event.modifiers()
        if key == Qt.Key.Key_Space and held == Qt.KeyboardModifier.NoModifier:
            if not event.isAutoRepeat():
                host.player.toggle()
            return True
        if key in _ARROWS and held in _TURNS:
            frames = 10 if held & Qt.KeyboardModifier.ShiftModifier else 1
            host.session.show_frame(host.session.frame + frames * _ARROWS[Qt.Key(key)])
            return True
        return False

    def _leave_field(self, watched: QObject, field: QWidget, event: QKeyEvent) -> bool:
        """Enter in a field applies what was typed, Esc restores what was there; then Picture has the keyboard
        and single keys work again.
        """
        if watched is not field or not isinstance(field, QLineEdit) or _is_in_list(field):
            return False
        if event.key() == Qt.Key.Key_Escape and not isinstance(field, Field):
            while field.isUndoAvailable():
                field.undo()
            field.setModified(False)
        field.event(event)
        if not field.isModified():  # a value that is refused stays to be corrected
            self._walks = False
            self._host.body.picture.setFocus()
        return True

    def _is_view(self, watched: QObject) -> bool:
        body = self._host.body
        views = (body.picture, body.overhead, body.second, body.barrel, body.chart, body.shots)
        return watched in (*views, self._window)

    def press(self, event: QKeyEvent) -> bool:
        """Keys that no widget took: whether this one did something."""
        host, session = self._host, self._host.session
        key, tool = event.key(), session.selection.tool
        if key == Qt.Key.Key_Escape and host.body.alone:
            host.toggle_alone()
        elif key == Qt.Key.Key_Escape and tool is not None:
            session.selection.tool = None
        elif key == Qt.Key.Key_Escape and session.walk is not None:
            session.walk = None
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if tool is not None and tool.stand_in is not None:
                blocking.place_ahead(session, tool.stand_in)
            elif session.walk is not None:
                walking.take_walk(session)
        else:
            return self._plays_or_steps(event)
        return True


def _is_in_list(field: QWidget) -> bool:
    """Whether a field edits a row of a list or table, which applies or drops what is typed itself."""
    viewport = field.parentWidget()
    view = viewport.parentWidget() if viewport is not None else None
    return isinstance(view, QAbstractItemView) and view.viewport() is viewport
