"""Splitters of which a click on a handle folds a view away, and a second one brings it back."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSplitter, QSplitterHandle, QWidget

from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.theme import theme

_WIDTH = 8
_LONG, _DEEP = 7.0, 2.0
_LEAST_PX = 120


@guarded
class _Handle(QSplitterHandle):
    """Dragged it shares the room, clicked it folds."""

    def __init__(self, splitter: "FoldSplitter", index: int) -> None:
        super().__init__(splitter.orientation(), splitter)
        self._splitter, self._index = splitter, index
        self._pressed: QPointF | None = None
        self.setToolTip("Drag to resize, click to collapse or expand")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed = event.position()
        super().mousePressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        super().mouseReleaseEvent(event)
        pressed, self._pressed = self._pressed, None
        if pressed is not None and (event.position() - pressed).manhattanLength() < 3:
            self._splitter.toggle(self._splitter.folds[self._index])

    def paintEvent(self, event: QPaintEvent) -> None:
        """A flat arrow: the way in which the view goes."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme().text if self.underMouse() else theme().line, 1.6))
        folds = self._splitter.folds[self._index]
        away = folds >= self._index  # the view lies behind the handle
        way = _DEEP if away != self._splitter.is_folded(folds) else -_DEEP
        upright = self.orientation() == Qt.Orientation.Horizontal
        middle = QPointF(self.rect().center()) + QPointF(0.5, 0.5)
        corners = [(-_LONG, -way), (0.0, way), (_LONG, -way)]
        points = [middle + (QPointF(y, x) if upright else QPointF(x, y)) for x, y in corners]
        painter.drawPolyline(points)


@guarded
class FoldSplitter(QSplitter):
    """Splitters of which a click on a handle folds a view away, and a second one brings it back.

    `folds` tells for each handle, by its number from 1, which view it folds; the one
    behind it unless it is set otherwise.
    """

    def __init__(self, orientation: Qt.Orientation, parent: QWidget | None = None) -> None:
        super().__init__(orientation, parent)
        self.setHandleWidth(_WIDTH)
        self.folds: dict[int, int] = {index: index for index in range(9)}
        self._open: dict[int, int] = {}

    def createHandle(self) -> QSplitterHandle:
        return _Handle(self, self.count())

    def is_folded(self, index: int) -> bool:
        """Whether a view has no room."""
        return self.widget(index) is not None and self.sizes()[index] == 0

    def toggle(self, index: int) -> None:
        """Fold a view away, or give it the room back that it had."""
        sizes = self.sizes()
        seen = [i for i in range(self.count()) if (view := self.widget(i)) and not view.isHidden()]
        others = [i for i in seen if i != index]
        if index not in seen or not others:
            return
        largest = max(others, key=lambda i: sizes[i])
        if sizes[index]:
            self._open[index] = sizes[index]
            sizes[largest] += sizes[index]
            sizes[index] = 0
        else:
            wanted = self._open.get(index, max(_LEAST_PX, sum(sizes) // 3))
            sizes[index] = min(wanted, max(sizes[largest] - _LEAST_PX, 0))
            sizes[largest] -= sizes[index]
        self.setSizes(sizes)
        self.splitterMoved.emit(sizes[index], index)
        self.update()
        for number in range(1, self.count()):
            self.handle(number).update()
