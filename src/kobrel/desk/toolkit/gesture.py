"""What a press of a button begins: one object that follows the pointer until the button is released."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QWidget

from kobrel.desk.boundary import guarded
from kobrel.session.session import Session

if TYPE_CHECKING:
    _Widget = QWidget
else:
    _Widget = object

Keys = Qt.KeyboardModifier


class Gesture:
    """Follows the pointer. It begins with a press, moves, and is finished or cancelled."""

    def begin(self, at: QPointF) -> None:
        """The button is pressed."""

    def move(self, at: QPointF, keys: Keys) -> None:
        """The pointer moves; `keys` are the modifiers that are held."""

    def finish(self, at: QPointF) -> None:
        """The button is released."""

    def cancel(self) -> None:
        """Put back what was before it began."""


class Drag(Gesture):
    """A gesture whose edits are one step to undo; cancelled, it leaves none."""

    def __init__(self, session: Session) -> None:
        self.session = session

    def begin(self, at: QPointF) -> None:
        """See :class:`Gesture`."""
        self.session.begin_drag()

    def finish(self, at: QPointF) -> None:
        """See :class:`Gesture`."""
        self.session.end_drag()

    def cancel(self) -> None:
        """See :class:`Gesture`."""
        self.session.cancel_drag()


class Scrub(Drag):
    """Shows the frame under the pointer.

    Parameters
    ----------
    frame_at : the frame at a place across
    """

    def __init__(self, session: Session, frame_at: Callable[[float], float]) -> None:
        super().__init__(session)
        self._frame_at = frame_at

    def begin(self, at: QPointF) -> None:
        super().begin(at)
        self.move(at, Keys.NoModifier)

    def move(self, at: QPointF, keys: Keys) -> None:
        self.session.show_frame(self._frame_at(at.x()))


@guarded
class Gestures(_Widget):
    """Makes presses on a widget begin gestures. Esc cancels the one that runs, whatever has the keyboard.

    It stands before the widget's class in the list of bases.
    """

    gesture: Gesture | None = None
    _button = Qt.MouseButton.NoButton

    def press(self, event: QMouseEvent) -> Gesture | None:
        """What a press begins; None where it begins nothing, or was a click that is done with."""
        raise NotImplementedError

    def hover(self, event: QMouseEvent) -> None:
        """The pointer moves without a gesture."""

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.gesture is not None:
            return
        self.gesture, self._button = self.press(event), event.button()
        if self.gesture is not None:
            self.grabKeyboard()
            self.gesture.begin(event.position())
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.gesture is None:
            self.hover(event)
        else:
            self.gesture.move(event.position(), event.modifiers())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if event.button() == self._button and (gesture := self._let_go()) is not None:
            gesture.finish(event.position())
            self.update()

    def cancel_gesture(self) -> None:
        """Put back what was before the gesture that runs."""
        if (gesture := self._let_go()) is not None:
            gesture.cancel()
            self.update()

    def drop_gesture(self) -> None:
        """End the gesture that runs without a trace: what it began on is no longer there."""
        if self._let_go() is not None:
            self.update()

    def _let_go(self) -> Gesture | None:
        gesture, self.gesture = self.gesture, None
        if gesture is not None:
            self.releaseKeyboard()
        return gesture

    def event(self, event: QEvent) -> bool:
        if self.gesture is not None:
            if event.type() == QEvent.Type.Hide:
                self.cancel_gesture()
            elif (
                event.type() == QEvent.Type.KeyPress
                and isinstance(event, QKeyEvent)
                and event.key() == Qt.Key.Key_Escape
            ):
                self.cancel_gesture()
                return True
        return super().event(event)


def drop_gestures(window: QWidget) -> None:
    """End all gestures that run in a window without a trace."""
    for widget in window.findChildren(QWidget):
        if isinstance(widget, Gestures):
            widget.drop_gesture()


class GestureWidget(Gestures, QWidget):
    """A plain widget on which presses begin gestures."""
