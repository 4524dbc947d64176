"""The picture for other programs: what is seen of it, and the handle by which it is dragged out."""

import tempfile
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QMimeData, QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.dragging import content, drag_out, is_begun
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.desk.toolkit.words import plain
from kobrel.files import plain_name
from kobrel.session.session import Session

_HINT = "Drag the picture into another program"
_WIDE, _TALL, _DOT = 18, 22, 1.4


def framed(image: QImage, whole: QRectF, frame: QRectF) -> QImage:
    """The delivered frame of an image, by where the whole of it and the frame stand."""
    part = image.width() / whole.width()
    box = QRectF(frame.topLeft() - whole.topLeft(), frame.size())
    return image.copy(QRectF(box.topLeft() * part, box.size() * part).toRect())


def grabbed(view: QWidget, frame: QRectF, handle: QWidget) -> QImage:
    """What a view shows of the frame, with all that is painted on it but the handle."""
    handle.hide()
    try:
        return view.grab(frame.toRect()).toImage()
    finally:
        handle.show()


@guarded
class DragHandle(QWidget):
    """Six dots at the picture's corner, by which it is dragged out as a PNG.

    Parameters
    ----------
    picture : what is dragged, None where there is none yet
    """

    def __init__(self, session: Session, picture: Callable[[], QImage | None], parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._picture = session, picture
        self._pressed_at: QPointF | None = None
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self.setFixedSize(_WIDE, _TALL)
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setToolTip(plain(_HINT))
        self.setAccessibleName(_HINT)

    def stand(self, frame: QRectF) -> None:
        """Stand in the upper right corner of the frame."""
        self.move(round(frame.right()) - _WIDE - 4, round(frame.top()) + 4)

    def content(self) -> QMimeData | None:
        """What is dragged: the picture, and a file of it."""
        image, shot = self._picture(), self._session.shot
        if image is None or shot is None:
            return None
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="kobrel-", ignore_cleanup_errors=True)
        stem = plain_name(f"{self._session.plan.name}_{shot.name}_{self._session.frame:g}", "picture")
        path = Path(self._folder.name) / f"{stem}.png"
        return content(paths=[path] if image.save(str(path)) else (), image=image)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), faded(theme().base, 0.62))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().text)
        middle = QRectF(self.rect()).center()
        for row in (-6, 0, 6):
            for side in (-3, 3):
                painter.drawEllipse(middle + QPointF(side, row), _DOT, _DOT)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed_at = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if is_begun(event, self._pressed_at):
            self._pressed_at = None
            what = self.content()
            if what is not None:
                drag_out(self, what, what.imageData())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pressed_at = None
