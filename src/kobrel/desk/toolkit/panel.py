"""A view of the session: painted anew with the changes that it depends on, and empty without a shot."""

from collections.abc import Callable, Iterable

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QAccessible, QMouseEvent, QPainter, QPaintEvent, QPixmap
from PySide6.QtWidgets import QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Gesture, GestureWidget
from kobrel.desk.toolkit.paint import draw_text
from kobrel.desk.toolkit.spoken import announce, focus_in_words, subjects_in_words
from kobrel.desk.toolkit.theme import theme
from kobrel.session.document import Document
from kobrel.session.evented import AnyField
from kobrel.session.numbers import AT_FRAME, Now
from kobrel.session.session import Session

_LATER_MS, _APART_MS = 180, 17
_LEAST_PX = 40


def follow(
    session: Session,
    widget: QWidget,
    depends: Iterable[AnyField],
    order: int = 0,
    first: Callable[[], bool] = lambda: False,
) -> None:
    """Paint a view anew after changes that it depends on.

    While something is dragged or the shot plays, it waits a little, so that Picture and the view that is
    dragged in come first.

    Parameters
    ----------
    depends : fields of the session
    order : which of the waiting views are painted first
    first : whether the view is one that does not wait
    """
    later = QTimer(widget)
    later.setSingleShot(True)
    later.setInterval(_LATER_MS + _APART_MS * order)
    later.timeout.connect(widget.update)

    def changed() -> None:
        if not (session.dragging or session.view.playing) or first():
            widget.update()
        elif not later.isActive():
            later.start()

    session.watch(depends, changed)


@guarded
class Panel(GestureWidget):
    """A view with a title on a panel. Without a shot and its numbers it is empty and takes no presses.

    Subclasses say what they depend on, and paint, and take presses, with what is in work.

    Parameters
    ----------
    spoken : what it is, for assistive technology
    hint : what can be done in it, for the bottom line
    """

    title = ""
    depends: Iterable[AnyField] = (*AT_FRAME, Document.dragging)
    order = 0
    """Which of several waiting views are painted first."""
    keeps_up = False
    """Whether it keeps up while the shot plays."""
    spoken_role = QAccessible.Role.Chart

    def __init__(self, session: Session, spoken: str, hint: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(spoken)
        self.setStatusTip(hint)
        self.setAccessibleDescription(hint)
        follow(session, self, self.depends, self.order, self._comes_first)
        session.watch(self.depends, lambda: announce(self))

    def spoken_value(self) -> str:
        """See :class:`kobrel.desk.toolkit.spoken.Spoken`."""
        return f"{focus_in_words(self._session)}; {subjects_in_words(self._session)}"

    def _comes_first(self) -> bool:
        return self.gesture is not None or (self.keeps_up and self._session.view.playing)

    def paint(self, now: Now) -> None:
        """Paint the shot at its frame."""
        raise NotImplementedError

    def take_press(self, now: Now, event: QMouseEvent) -> Gesture | None:
        """As :meth:`GestureWidget.press`, with what is in work."""
        return None

    def take_hover(self, now: Now, event: QMouseEvent) -> None:
        """As :meth:`GestureWidget.hover`, with what is in work."""

    def paintEvent(self, event: QPaintEvent) -> None:
        now = self._session.now
        if min(self.width(), self.height()) < _LEAST_PX:
            return  # folded away
        if now is not None:
            self.paint(now)
            return
        painter = self.begin()
        draw_text(painter, QPointF(100, 18), self._session.problem, theme().wrong, 12)

    def press(self, event: QMouseEvent) -> Gesture | None:
        now = self._session.now
        return self.take_press(now, event) if now is not None else None

    def hover(self, event: QMouseEvent) -> None:
        now = self._session.now
        if now is not None:
            self.take_hover(now, event)

    def begin(self, note: str = "", onto: QPixmap | None = None) -> QPainter:
        """A painter on the cleared panel, or on a picture of it, with the title written."""
        painter = QPainter(onto if onto is not None else self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().panel)
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        box = draw_text(painter, QPointF(10, 18), self.title, theme().text, 13, bold=True)
        if note:
            draw_text(painter, QPointF(box.right() + 14, 18), note, theme().quiet, 12)
        return painter
