"""Proofs against each other: side by side, wiped, in turn, or by what they differ in; one zoom for all."""

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import (
    QAccessible,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QWheelEvent,
)

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.gesture import Gesture, GestureWidget, Keys
from kobrel.desk.toolkit.images import to_image
from kobrel.desk.toolkit.paint import draw_label, draw_text, text_width
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.desk.wall.pictures import Pictures, Whole
from kobrel.memo import Memo
from kobrel.picture.judging.compare import LUMINANCE, blur_apart, in_colours, stops_apart
from kobrel.plan.model import Proof
from kobrel.plan.variants.proofs import differences
from kobrel.session.session import Session

_BLINK_MS, _GAP, _GRAB_PX, _MOST_ZOOM = 700, 6.0, 12.0, 32.0
_LOUPE_RADIUS, _LOUPE = 90.0, 2.0
_MOST_STOPS, _MOST_BLUR = 3.0, 20.0
_PAIRS = ("wipe", "stops", "blur")


class _Pan(Gesture):
    """Moves what is seen of all pictures."""

    def __init__(self, view: "CompareView", at: QPointF) -> None:
        self._view, self._at = view, at

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.pan(at - self._at)
        self._at = at


class _Wipe(Gesture):
    """Drags the line between two pictures."""

    def __init__(self, view: "CompareView") -> None:
        self._view = view

    def move(self, at: QPointF, keys: Keys) -> None:
        self._view.wipe_to(at.x())


@guarded
class CompareView(GestureWidget):
    """Proofs against each other. The wheel zooms, dragging pans, a double click shows all."""

    spoken_role = QAccessible.Role.Graphic

    def __init__(self, session: Session, proofing: Proofing, pictures: Pictures) -> None:
        super().__init__()
        self._session, self._proofing, self._pictures = session, proofing, pictures
        self.zoom, self._middle, self.wiped = 1.0, QPointF(0.5, 0.5), 0.5
        self._turn = 0
        self._pointer: QPointF | None = None
        self.loupe_held = False
        self._difference = Memo[QImage]()
        self._blinking = QTimer(self)
        self._blinking.setInterval(_BLINK_MS)
        self._blinking.timeout.connect(self.turn)
        self.setMinimumSize(240, 150)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Proofs against each other")
        self.setStatusTip(
            "Wheel zooms all at once, drag pans, double-click shows all of it; L holds a loupe, Esc goes "
            "back to the wall."
        )

    def spoken_value(self) -> str:
        """What is compared, and how."""
        names = ", ".join(proof.name for proof in self._proofing.chosen())
        return f"{self._session.view.wall_mode}: {names or 'none'}"

    def sizeHint(self) -> QSize:
        return QSize(640, 420)

    def show_mode(self) -> None:
        """Another way of comparing, or others are compared."""
        if self._session.view.wall_mode == "blink" and len(self._proofing.chosen()) > 1:
            self._blinking.start()
        else:
            self._blinking.stop()
        self.update()

    def hideEvent(self, event: object) -> None:
        self._blinking.stop()

    def hold_loupe(self, on: bool) -> None:
        """Take up the loupe, or put it down."""
        self.loupe_held = on
        self.update()

    def turn(self) -> None:
        """Show the next of the chosen."""
        self._turn += 1
        self.update()

    # Zoom and pan, shared: `_middle` is the place in a picture, 0 to 1, in the panels' middles.

    def pan(self, by: QPointF) -> None:
        """Move what is seen, by pixels."""
        boxes = self._boxes()
        if boxes:
            size = self._full(boxes[0])
            self._look_at(
                QPointF(self._middle.x() - by.x() / size.width(), self._middle.y() - by.y() / size.height())
            )

    def _look_at(self, middle: QPointF) -> None:
        half = 0.5 / self.zoom
        self._middle = QPointF(min(max(middle.x(), half), 1 - half), min(max(middle.y(), half), 1 - half))
        self.update()

    def zoom_by(self, steps: float, at: QPointF) -> None:
        """Enlarge, about a place of the widget."""
        box = next((box for box in self._boxes() if box.contains(at)), None)
        if box is None:
            return
        before = self._place(box, at)
        self.zoom = min(max(self.zoom * 2.0 ** (steps / 2), 1.0), _MOST_ZOOM)
        after = self._place(box, at)
        self._look_at(self._middle + before - after)

    def _full(self, box: QRectF) -> QRectF:
        """Where the whole picture would stand whose visible part fills a panel's box."""
        wide, tall = box.width() * self.zoom, box.height() * self.zoom
        return QRectF(
            box.center().x() - self._middle.x() * wide, box.center().y() - self._middle.y() * tall, wide, tall
        )

    def _place(self, box: QRectF, at: QPointF) -> QPointF:
        """The place in a picture, 0 to 1, at a place of its panel."""
        full = self._full(box)
        return QPointF((at.x() - full.left()) / full.width(), (at.y() - full.top()) / full.height())

    # What is shown

    def _shown(self) -> list[Proof]:
        """The proofs that are compared: in turn only one of them is."""
        chosen, mode = self._proofing.chosen(), self._session.view.wall_mode
        if mode in _PAIRS:
            return chosen[:2]
        if mode == "blink" and chosen:
            return [chosen[self._turn % len(chosen)]]
        return chosen[:9]

    def _boxes(self) -> list[QRectF]:
        """The panels: one, or as many as stand side by side."""
        shown, room = self._shown(), QRectF(self.rect()).adjusted(8, 8, -8, -8)
        count = len(shown) if self._session.view.wall_mode == "side" else min(len(shown), 1)
        if not count:
            return []
        aspect = shown[0].width_px / shown[0].height_px
        best: list[QRectF] = []
        for columns in range(1, count + 1):
            rows = math.ceil(count / columns)
            cell = (
                (room.width() - _GAP * (columns - 1)) / columns,
                (room.height() - _GAP * (rows - 1)) / rows - 42,
            )
            wide = min(cell[0], cell[1] * aspect)
            if wide < 16 or (best and wide <= best[0].width()):
                continue
            whole = columns * (wide + _GAP) - _GAP, rows * (wide / aspect + 42 + _GAP) - _GAP
            left, top = room.center().x() - whole[0] / 2, room.center().y() - whole[1] / 2
            best = [
                QRectF(
                    left + (k % columns) * (wide + _GAP), top + (k // columns) * (wide / aspect + 42 + _GAP),
                    wide, wide / aspect,
                )
                for k in range(count)
            ]  # fmt: skip
        return best

    def wipe_to(self, x: float) -> None:
        """Put the line between two pictures somewhere."""
        boxes = self._boxes()
        if boxes:
            self.wiped = min(max((x - boxes[0].left()) / boxes[0].width(), 0.0), 1.0)
            self.update()

    def _image(self, proof: Proof) -> QImage | None:
        whole = self._pictures.whole(proof)
        if isinstance(whole, Whole):
            return whole.image
        small = self._pictures.small(proof)
        return small if isinstance(small, QImage) else None

    def difference(self) -> NDArray[np.float32] | None:
        """What the two chosen differ in, (H, W) of the first; None until both are read."""
        wholes = [self._pictures.whole(proof) for proof in self._shown()]
        if len(wholes) != 2 or not all(isinstance(whole, Whole) for whole in wholes):
            return None
        one, other = (whole.kept for whole in wholes if isinstance(whole, Whole))
        if self._session.view.wall_mode == "stops":
            shown = self._shown()
            gains = [np.float32(2.0**proof.shown_ev) for proof in shown]
            return stops_apart(one.colour * gains[0], other.colour * gains[1])
        return blur_apart(one.blur_px, other.blur_px)

    def _difference_image(self) -> QImage | None:
        values = tuple(self._pictures.whole(proof) for proof in self._shown())
        if len(values) != 2 or not all(isinstance(value, Whole) for value in values):
            return None
        most = _MOST_STOPS if self._session.view.wall_mode == "stops" else _MOST_BLUR

        def make() -> QImage:
            found = self.difference()
            assert found is not None
            return to_image(in_colours(found, most))

        return self._difference.get((*values, self._session.view.wall_mode), make)

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, self.zoom < 3)
        painter.fillRect(self.rect(), theme().surround)
        shown, boxes = self._shown(), self._boxes()
        if not boxes:
            text = "Select two proofs or more on the wall."
            draw_text(painter, QPointF(self.rect().center()), text, theme().quiet, 13, "centre")
            return
        mode = self._session.view.wall_mode
        chosen = self._proofing.chosen()
        told = dict(zip([p.name for p in chosen], differences(chosen, self._session.unit), strict=True))
        if mode in ("stops", "blur"):
            self._paint_difference(painter, boxes[0], shown)
        else:
            for box, proof in zip(boxes, shown, strict=False):
                self._paint_one(painter, box, self._image(proof))
                self._caption(painter, box, proof, told[proof.name])
        if mode == "wipe" and len(shown) == 2:
            self._paint_wipe(painter, boxes[0], shown, told)
        self._paint_loupe(painter, boxes)

    def _paint_one(
        self, painter: QPainter, box: QRectF, image: QImage | None, seen: QRectF | None = None
    ) -> None:
        """A picture in its panel, or the part of it that is seen."""
        part = box if seen is None else seen
        painter.fillRect(part, theme().base)
        if image is not None:
            painter.save()
            painter.setClipRect(part)
            painter.drawImage(self._full(box), image)
            painter.restore()

    def _caption(self, painter: QPainter, box: QRectF, proof: Proof, told: str) -> None:
        at = QPointF(box.left(), box.bottom() + 17)
        draw_text(painter, at, proof.name, theme().text, 13, bold=True)
        draw_text(painter, at + QPointF(0, 16), told, theme().quiet, 12)

    def _paint_wipe(self, painter: QPainter, box: QRectF, shown: list[Proof], told: dict[str, str]) -> None:
        line = box.left() + self.wiped * box.width()
        right = QRectF(line, box.top(), box.right() - line, box.height())
        self._paint_one(painter, box, self._image(shown[1]), right)
        painter.setPen(QPen(theme().focus, 2))
        painter.drawLine(QPointF(line, box.top()), QPointF(line, box.bottom()))
        painter.setBrush(theme().focus)
        painter.drawEllipse(QPointF(line, box.bottom()), 5, 5)
        at = QPointF(box.right(), box.bottom() + 17)
        draw_text(painter, at, shown[1].name, theme().text, 13, "right", bold=True)
        draw_text(painter, at + QPointF(0, 16), told[shown[1].name], theme().quiet, 12, "right")

    def _paint_difference(self, painter: QPainter, box: QRectF, shown: list[Proof]) -> None:
        image = self._difference_image() if len(shown) == 2 else None
        if image is None:
            painter.fillRect(box, theme().base)
            text = "Select two proofs." if len(shown) < 2 else "reading…"
            draw_text(painter, box.center(), text, theme().quiet, 13, "centre")
            return
        self._paint_one(painter, box, image)
        stops = self._session.view.wall_mode == "stops"
        what = "brighter" if stops else "more blurred"
        most = f"{_MOST_STOPS:g} stops" if stops else f"{_MOST_BLUR:g} px"
        at = QPointF(box.left(), box.bottom() + 17)
        first, second = (proof.name for proof in shown)
        text = f"{first} against {second}"
        draw_text(painter, at, text, theme().text, 13, bold=True)
        x = box.left()
        for colour, words in (
            (theme().farther, f"{first} is {what}"),
            (theme().focus, f"{second} is {what}, full colour from {most}"),
        ):  # fmt: skip
            painter.fillRect(QRectF(x, box.bottom() + 24, 10, 10), colour)
            draw_text(painter, QPointF(x + 16, box.bottom() + 33), words, theme().quiet, 12)
            x += 34 + text_width(words, 12)

    def _paint_loupe(self, painter: QPainter, boxes: list[QRectF]) -> None:
        """A round glass at the pointer, in every panel at the same place: two pixels for one of the proof."""
        at = self._pointer
        under = next((box for box in boxes if at is not None and box.contains(at)), None)
        if not self.loupe_held or at is None or under is None:
            return
        place = self._place(under, at)
        for box, proof in zip(boxes, self._shown(), strict=False):
            image = self._image(proof)
            if image is None:
                continue
            middle = box.topLeft() + (at - under.topLeft())
            glass = QPainterPath()
            glass.addEllipse(middle, _LOUPE_RADIUS, _LOUPE_RADIUS)
            painter.save()
            painter.setClipPath(glass)
            painter.fillPath(glass, theme().surround)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
            wide, tall = proof.width_px * _LOUPE, proof.height_px * _LOUPE
            corner = QPointF(middle.x() - place.x() * wide, middle.y() - place.y() * tall)
            painter.drawImage(QRectF(corner.x(), corner.y(), wide, tall), image)
            painter.restore()
            painter.setPen(QPen(theme().text, 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPath(glass)
        label = QPointF(at.x() - 18, at.y() + _LOUPE_RADIUS - 12)
        draw_label(painter, label, f"{_LOUPE:g} : 1", faded(theme().text, 0.9))

    # Mouse and keys

    def press(self, event: QMouseEvent) -> Gesture | None:
        boxes = self._boxes()
        if event.button() != Qt.MouseButton.LeftButton or not boxes:
            return None
        line = boxes[0].left() + self.wiped * boxes[0].width()
        if self._session.view.wall_mode == "wipe" and abs(event.position().x() - line) < _GRAB_PX:
            return _Wipe(self)
        return _Pan(self, event.position())

    def hover(self, event: QMouseEvent) -> None:
        self._pointer = event.position()
        self._tell(event.position())
        if self.loupe_held:
            self.update()

    def _tell(self, at: QPointF) -> None:
        """Say what the proofs have under the pointer."""
        box = next((box for box in self._boxes() if box.contains(at)), None)
        shown = self._proofing.chosen()[:2]
        wholes = [self._pictures.whole(proof) for proof in shown]
        if box is None or not all(isinstance(whole, Whole) for whole in wholes):
            return
        place, words = self._place(box, at), []
        lights = []
        for proof, whole in zip(shown, wholes, strict=True):
            assert isinstance(whole, Whole)
            tall, wide = whole.kept.blur_px.shape
            y, x = min(int(place.y() * tall), tall - 1), min(int(place.x() * wide), wide - 1)
            light = float(whole.kept.colour[y, x] @ LUMINANCE) * 2.0**proof.shown_ev
            lights.append(max(light, 1e-6))
            words.append(f"{proof.name}: {whole.kept.blur_px[y, x]:.1f} px blur, light {light:.3f}")
        if len(lights) == 2:
            words.append(f"{math.log2(lights[1] / lights[0]):+.2f} stops")
        self._session.say("   ".join(words))

    def leaveEvent(self, event: object) -> None:
        self._pointer = None
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.zoom = 1.0
        self._look_at(QPointF(0.5, 0.5))

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom_by(event.angleDelta().y() / 120.0, event.position())
        event.accept()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        middle = QPointF(self.rect().center())
        if event.key() == Qt.Key.Key_Escape:
            self._session.view.wall_mode = "all"
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            self.zoom_by(1 if event.key() == Qt.Key.Key_Plus else -1, middle)
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and self._session.view.wall_mode == "wipe":
            boxes = self._boxes()
            step = 0.02 if event.key() == Qt.Key.Key_Right else -0.02
            if boxes:
                self.wipe_to(boxes[0].left() + (self.wiped + step) * boxes[0].width())
        else:
            super().keyPressEvent(event)
