"""All proofs on the wall, as large as fit, with captions that tell only what differs."""

import math
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PySide6.QtGui import (
    QAccessible,
    QContextMenuEvent,
    QGuiApplication,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QMenu

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.boundary import guarded
from kobrel.desk.toolkit.dragging import content, drag_out, is_begun
from kobrel.desk.toolkit.paint import draw_text, elided
from kobrel.desk.toolkit.theme import theme
from kobrel.desk.wall.pictures import Pictures
from kobrel.memo import Memo
from kobrel.plan.model import Proof
from kobrel.plan.variants.proofs import TAKES, differences
from kobrel.session.commands import proving
from kobrel.session.session import Session

_GAP, _CAPTION, _LEAST = 10, 38, 170
_EMPTY = (
    "No proofs yet.", "Add proof saves the current picture with its settings.",
    "The Bracket page draws the shot in steps of a setting.",
)  # fmt: skip


@guarded
class WallGrid(QAbstractScrollArea):
    """All proofs on the wall, as large as fit, with captions that tell only what differs.

    Parameters
    ----------
    opens : told when a proof is to be seen large
    """

    spoken_role = QAccessible.Role.List

    def __init__(
        self, session: Session, proofing: Proofing, pictures: Pictures, opens: Callable[[], None]
    ) -> None:
        super().__init__()
        self._session, self._proofing, self._pictures, self._opens = session, proofing, pictures, opens
        self._anchor = 0
        self._pressed_at: QPointF | None = None
        self._layout = (1, float(_LEAST), float(_LEAST))
        self._told = Memo[list[str]]()
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Wall")
        self.setStatusTip(
            "Click to select (Ctrl/Shift: more). Enter: compare. Double-click: apply settings. Delete: "
            "remove. Drag out as files"
        )

    def spoken_value(self) -> str:
        """How many hang there, and which are chosen."""
        hung, chosen = self._proofing.hung(), self._session.selection.proofs
        return f"{len(hung)} proofs; selected: {', '.join(chosen) or 'none'}"

    def sizeHint(self) -> QSize:
        return QSize(640, 420)

    # Layout

    def columns(self) -> int:
        """How many stand in a row."""
        return self._layout[0]

    def _laid_out(self) -> tuple[int, float, float]:
        """Columns, and width and height of a picture: as large as fit without scrolling, or legible."""
        hung, room = self._proofing.hung(), self.viewport().size()
        aspect = max((p.width_px / p.height_px for p in hung), default=16 / 9)
        count, best, largest = max(1, len(hung)), 1, 0.0
        fixed = self._proofing.across if self._session.view.wall == "ladder" else 0
        for columns in (fixed,) if fixed else range(1, count + 1):
            wide = (room.width() - _GAP) / columns - _GAP
            tall = (room.height() - _GAP) / math.ceil(count / columns) - _GAP - _CAPTION
            width = min(wide, max(tall * aspect, min(wide, _LEAST) if fixed else 0.0))
            if width > largest:
                best, largest = columns, width
        if largest < _LEAST and not fixed:
            best = max(1, (room.width() - _GAP) // (_LEAST + _GAP))
            largest = (room.width() - _GAP) / best - _GAP
        return best, largest, largest / aspect

    def box(self, index: int) -> QRectF:
        """Where a picture stands on the widget."""
        columns, width, height = self._layout
        row, column = divmod(index, columns)
        whole = columns * (width + _GAP) - _GAP
        left = (self.viewport().width() - whole) / 2 + column * (width + _GAP)
        top = _GAP + row * (height + _CAPTION + _GAP) - self.verticalScrollBar().value()
        return QRectF(left, top, width, height)

    def rebuild(self) -> None:
        """Others hang there, or there is other room."""
        self._layout = self._laid_out()
        columns, _width, height = self._layout
        rows = math.ceil(len(self._proofing.hung()) / columns)
        whole = round(_GAP + rows * (height + _CAPTION + _GAP))
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, whole - self.viewport().height()))
        bar.setPageStep(self.viewport().height())
        bar.setSingleStep(round((height + _CAPTION) / 3))
        self.viewport().update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.rebuild()

    # Painting

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.viewport().rect(), theme().surround)
        hung = self._proofing.hung()
        if not hung:
            middle = QPointF(self.viewport().rect().center())
            for line, text in enumerate(_EMPTY):
                colour = theme().text if line == 0 else theme().quiet
                at = middle + QPointF(0, -24 + 24 * line)
                draw_text(painter, at, text, colour, 14 if line == 0 else 13, "centre", bold=line == 0)
            return
        unit = self._session.unit
        told = self._told.get((tuple(hung), unit), lambda: differences(hung, unit))
        seen = QRectF(event.rect())
        for index, proof in enumerate(hung):
            box = self.box(index)
            if box.adjusted(-4, -4, 4, _CAPTION).intersects(seen):
                self._paint(painter, box, proof, told[index])

    def _paint(self, painter: QPainter, box: QRectF, proof: Proof, told: str) -> None:
        found = self._pictures.small(proof)
        painter.fillRect(box, theme().base)
        if isinstance(found, QImage):
            painter.drawImage(fitting(found, box), found)
        else:
            text = found or "reading…"
            draw_text(
                painter, box.center(), elided(text, 12, box.width() - 16),
                theme().wrong if found else theme().quiet, 12, "centre",
            )  # fmt: skip
        chosen = self._session.selection.proofs
        if proof.name in chosen:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(theme().focus, 2.4))
            painter.drawRect(box.adjusted(-2, -2, 2, 2))
        letter = f"{chr(65 + chosen.index(proof.name) % 26)}  " if proof.name in chosen[:26] else ""
        stars = f"  {'●' * proof.rating}" if proof.rating else ""
        name = elided(f"{letter}{proof.name}", 13, box.width() - 6 - 12 * proof.rating, True)
        colour = theme().focus if letter else theme().text
        end = draw_text(painter, QPointF(box.left(), box.bottom() + 17), name, colour, 13, bold=True)
        draw_text(painter, QPointF(end.right(), box.bottom() + 17), stars, theme().focus, 12)
        told = elided(told, 12, box.width())
        draw_text(painter, QPointF(box.left(), box.bottom() + 33), told, theme().quiet, 12)

    # Mouse and keys

    def index_at(self, at: QPointF) -> int | None:
        """Which proof stands at a place."""
        for index in range(len(self._proofing.hung())):
            if self.box(index).adjusted(-2, -2, 2, _CAPTION).contains(at):
                return index
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index, keys = self.index_at(event.position()), event.modifiers()
        self._pressed_at = event.position() if index is not None else None
        if event.button() == Qt.MouseButton.RightButton and index is not None:
            if self._proofing.hung()[index].name not in self._session.selection.proofs:
                self._choose(index, Qt.KeyboardModifier.NoModifier)
            return
        if index is None:
            self._session.selection.proofs = ()
        elif keys or self._proofing.hung()[index].name not in self._session.selection.proofs:
            self._choose(index, keys)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Of several that are chosen, a click leaves one; a drag takes them all along."""
        index = self.index_at(event.position())
        clicked = self._pressed_at is not None and event.button() == Qt.MouseButton.LeftButton
        self._pressed_at = None
        if clicked and index is not None and not event.modifiers():
            self._choose(index, event.modifiers())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if is_begun(event, self._pressed_at):
            self._pressed_at = None
            chosen = self._proofing.chosen()
            small = self._pictures.small(chosen[0]) if chosen else None
            image = small if isinstance(small, QImage) else None
            names = ", ".join(proof.name for proof in chosen)
            drag_out(self, content(names, [Path(proof.path) for proof in chosen], image), image)

    def _choose(self, index: int, keys: Qt.KeyboardModifier) -> None:
        names, chosen = [proof.name for proof in self._proofing.hung()], list(self._session.selection.proofs)
        name = names[index]
        if keys & Qt.KeyboardModifier.ControlModifier:
            chosen = [other for other in chosen if other != name] if name in chosen else [*chosen, name]
        elif keys & Qt.KeyboardModifier.ShiftModifier:
            low, high = sorted((min(self._anchor, len(names) - 1), index))
            span = names[low : high + 1]
            chosen = span if self._anchor <= index else span[::-1]
        else:
            chosen = [name]
        if not keys & Qt.KeyboardModifier.ShiftModifier:
            self._anchor = index
        self._session.selection.proofs = tuple(chosen)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        index = self.index_at(event.position())
        if index is not None:
            proving.take(self._session, self._proofing.hung()[index], "all")

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu().exec(event.globalPos())

    def menu(self) -> QMenu:
        """What can be done with the chosen proofs."""
        menu, session, chosen = QMenu(self), self._session, self._proofing.chosen()
        if not chosen:
            menu.addAction("Nothing selected").setEnabled(False)
            return menu
        for what, text in TAKES.items():
            menu.addAction(f"Restore {text.lower()}").triggered.connect(
                lambda _on=False, w=what: proving.take(session, chosen[0], w)
            )
        menu.addAction("As an alt").triggered.connect(lambda: proving.take_as_alt(session, chosen[0]))
        menu.addSeparator()
        menu.addAction("Copy picture").triggered.connect(lambda _on=False: self.copy())
        if session.view.wall == "wall":
            menu.addAction("Delete").triggered.connect(lambda: proving.remove(session))
        else:
            menu.addAction("Save as proof").triggered.connect(lambda: self._proofing.keep_rungs(chosen))
        return menu

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key, count = event.key(), len(self._proofing.hung())
        steps = {
            Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -self.columns(),
            Qt.Key.Key_Down: self.columns(),
        }  # fmt: skip
        if key in steps and count:
            chosen = self._session.selection.proofs
            names = [proof.name for proof in self._proofing.hung()]
            here = names.index(chosen[-1]) if chosen and chosen[-1] in names else -steps[Qt.Key(key)]
            index = min(max(here + steps[Qt.Key(key)], 0), count - 1)
            self._choose(index, event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._show(index)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._opens()
        elif key == Qt.Key.Key_Delete:
            proving.remove(self._session)
        else:
            super().keyPressEvent(event)

    def _show(self, index: int) -> None:
        """Scroll so that a proof is seen."""
        box, bar = self.box(index).adjusted(0, -_GAP, 0, _CAPTION), self.verticalScrollBar()
        if box.top() < 0:
            bar.setValue(bar.value() + math.floor(box.top()))
        elif box.bottom() > self.viewport().height():
            bar.setValue(bar.value() + math.ceil(box.bottom() - self.viewport().height()))

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        self.viewport().update()

    def selectAll(self) -> None:
        """Choose all proofs."""
        self._session.selection.proofs = tuple([proof.name for proof in self._proofing.hung()])

    def copy(self) -> None:
        """Put the first chosen proof on the clipboard, as a picture and in words."""
        chosen = self._proofing.chosen()
        image = self._pictures.small(chosen[0]) if chosen else None
        if isinstance(image, QImage):
            QGuiApplication.clipboard().setImage(image)
            self._session.say(f"Copied {chosen[0].name}.")


def fitting(image: QImage | QRect, box: QRectF) -> QRectF:
    """Where an image stands in a box, whole and in its middle."""
    part = min(box.width() / max(image.width(), 1), box.height() / max(image.height(), 1))
    size = image.width() * part, image.height() * part
    return QRectF(box.center().x() - size[0] / 2, box.center().y() - size[1] / 2, *size)
