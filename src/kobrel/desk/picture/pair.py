"""Two ways of a shot side by side, from memory, at the same frame."""

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from kobrel.desk.background.playback import Playback
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.paint import draw_label, draw_text
from kobrel.desk.toolkit.theme import theme
from kobrel.session.document import Document
from kobrel.session.numbers import NUMBERS
from kobrel.session.session import Session

_GAP = 8.0


@guarded
class PairView(QWidget):
    """Two ways of a shot side by side, from memory, at the same frame: above each other in a tall room."""

    def __init__(self, session: Session, playback: Playback, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._screening = session, playback
        self.setMinimumSize(240, 150)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Two ways of the shot, side by side")
        self.setStatusTip("The shot and what it is compared with. Space plays both.")
        self.status = ""
        session.watch((Document.frame, *NUMBERS, Document.dragging), self.update)
        playback.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(640, 380)

    def show_status(self, status: str) -> None:
        """Say how it plays."""
        self.status = status
        self.update()

    def boxes(self) -> tuple[QRectF, QRectF]:
        """Where the two pictures stand."""
        camera = self._session.camera
        aspect = camera.whole.aspect if camera else 16 / 9
        room = QRectF(self.rect()).adjusted(6, 6, -6, -6)
        beside = QRectF(0, 0, (room.width() - _GAP) / 2, room.height())
        above = QRectF(0, 0, room.width(), (room.height() - _GAP) / 2)

        def fitting(cell: QRectF) -> tuple[float, float]:
            width = min(cell.width(), cell.height() * aspect)
            return width, width / aspect

        wide, tall = fitting(beside), fitting(above)
        if wide[0] >= tall[0]:
            top = room.center().y() - wide[1] / 2
            left = room.center().x() - _GAP / 2 - wide[0]
            return QRectF(left, top, *wide), QRectF(left + wide[0] + _GAP, top, *wide)
        left = room.center().x() - tall[0] / 2
        top = room.center().y() - _GAP / 2 - tall[1]
        return QRectF(left, top, *tall), QRectF(left, top + tall[1] + _GAP, *tall)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), theme().surround)
        frame = self._session.frame
        for which, (box, name) in enumerate(
            zip(self.boxes(), (self._screening.left or "as it is now", self._screening.beside), strict=True)
        ):
            image = self._screening.image(frame, which)
            if image is not None:
                painter.drawImage(box, image)
            else:
                painter.setPen(QPen(theme().line, 1))
                painter.drawRect(box)
                frames, there = self._screening.filled(which)
                text = (
                    f"{int(there.sum())} of {len(frames)} frames"
                    if len(frames)
                    else ("nothing selected to compare")
                )
                draw_text(painter, box.center(), text, theme().quiet, 12, "centre")
            draw_label(
                painter, box.topLeft() + QPointF(10, 20), name, theme().focus if which == 0 else theme().text
            )
        if self.status:
            foot = self.boxes()[0].bottomLeft() + QPointF(10, -10)
            draw_label(painter, foot, self.status, theme().text)
