"""Queue: what is made beside the work, what waits, and what is done."""

from pathlib import Path

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QRect, QRectF, QSize, Qt, QUrl
from PySide6.QtGui import QDesktopServices, QFontMetrics, QPainter, QPen
from PySide6.QtWidgets import (
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.background.queueing import Queueing
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import Card
from kobrel.desk.toolkit.theme import faded, font, theme
from kobrel.desk.toolkit.words import plain
from kobrel.farm.queue import Entry
from kobrel.session import settings
from kobrel.session.session import Session
from kobrel.session.view import View

_KEY, _ENTRY = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
_TALL, _BAR, _DRAWER_PX, _SIDE_PX = 58, 8, 186, 330
_EMPTY = (
    "No jobs. Movies, images, passes and brackets render here in the background, and resume after a "
    "crash or after closing Kobrel."
)


def told_left(seconds: float | None) -> str:
    """How long work still takes, in words.

    >>> told_left(12.0), told_left(400.0), told_left(None)
    ('about 12 s left', 'about 7 min left', '')
    """
    if seconds is None:
        return ""
    if seconds < 90:
        return f"about {seconds:.0f} s left"
    return f"about {seconds / 60:.0f} min left" if seconds < 5400 else f"about {seconds / 3600:.1f} h left"


def told_of(entry: Entry) -> str:
    """How far a job is, in a line."""
    report, where = entry.report, "" if not entry.job.address else f"on {entry.job.address}"
    count = f"{report.made} of {report.total}" if report.total else ""
    again = f"{report.retried} retried" if report.retried else ""
    if entry.state == "running":
        doing = "" if report.total else (report.told[-1] if report.told else "starting…")
        parts = [doing, count, again, told_left(report.left_s), where]
    elif entry.state == "failed":
        parts = ["failed", count]
    elif entry.state == "done":
        found = f"{report.found} already existed" if report.found else ""
        parts = ["done", count, found, again, f"{report.seconds:.0f} s", where]
    else:
        parts = [entry.state, count, where]
    return "  ·  ".join(filter(None, parts))


@guarded
class _JobRow(QStyledItemDelegate):
    """Paints a job: its name, a bar of its items, and how far it is."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(200, _TALL)

    def paint(
        self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex
    ) -> None:
        entry, colours = index.data(_ENTRY), theme()
        box: QRect = option.rect.adjusted(2, 2, -2, -2)  # type: ignore[attr-defined]
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)  # type: ignore[attr-defined]
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colours.focus if chosen else colours.line, 1))
        painter.setBrush(colours.raised)
        painter.drawRoundedRect(QRectF(box), 4, 4)
        inside = box.adjusted(8, 5, -8, -5)
        painter.setPen(colours.text)
        painter.setFont(font(13))
        line = QFontMetrics(font(13)).elidedText(
            entry.job.title, Qt.TextElideMode.ElideMiddle, inside.width()
        )
        painter.drawText(inside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, line)
        self._paint_bar(painter, QRectF(inside.left(), inside.top() + 19, inside.width(), _BAR), entry)
        painter.setPen(colours.wrong if entry.state == "failed" else colours.quiet)
        painter.setFont(font(11))
        line = QFontMetrics(font(11)).elidedText(told_of(entry), Qt.TextElideMode.ElideRight, inside.width())
        painter.drawText(inside, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, line)

    @staticmethod
    def _paint_bar(painter: QPainter, bar: QRectF, entry: Entry) -> None:
        """Made items filled, those in hand as outlines after them, failed ones outlined in red at the end."""
        colours, report = theme(), entry.report
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(colours.base)
        painter.drawRect(bar)
        step = bar.width() / max(1, report.total)
        made = colours.sharp if entry.state == "done" else colours.focus
        painter.setBrush(made if entry.is_open or entry.state == "done" else faded(made, 0.5))
        painter.drawRect(QRectF(bar.left(), bar.top(), step * report.made, bar.height()))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if entry.state == "running" and report.running:
            painter.setPen(QPen(colours.focus, 1))
            wide = min(step * len(report.running), bar.width() - step * report.made)
            painter.drawRect(QRectF(bar.left() + step * report.made, bar.top() + 0.5, wide, bar.height() - 1))
        if report.failed:
            painter.setPen(QPen(colours.wrong, 1))
            wide = max(3.0, step * report.failed)
            painter.drawRect(QRectF(bar.right() - wide, bar.top() + 0.5, wide - 0.5, bar.height() - 1))


class QueueDrawer(Card[Session]):
    """Queue: what is made beside the work, what waits, and what is done."""

    name = "Queue"
    is_page = True
    depends = (View.theme,)
    needs_subject = False

    def __init__(self, session: Session, queueing: Queueing, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        self._queueing = queueing
        self.list = QListWidget()
        self.list.setItemDelegate(_JobRow(self.list))
        self.list.setAccessibleName("Jobs in their order")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setToolTip("Jobs in their order; double-click opens the folder of one")
        self.list.itemSelectionChanged.connect(self._show_chosen)
        self.list.itemDoubleClicked.connect(lambda _item: self._show_folder())
        self.setFixedHeight(_DRAWER_PX)
        line, side = QHBoxLayout(), QWidget()
        line.addWidget(self.list, 1)
        line.addWidget(side)
        side.setFixedWidth(_SIDE_PX)
        self.column.setContentsMargins(12, 6, 8, 0)
        self.column.addLayout(line)
        self.column = QVBoxLayout(side)
        self.column.setContentsMargins(6, 0, 0, 0)
        self.about = self.note()
        self.column.addStretch(1)
        self.pause, self.cancel, self.folder = self.buttons(
            ("Pause", "Pause or resume the selected job; finished frames are kept", self._pause),
            ("Cancel", "Cancel the selected job; finished frames are kept", self._cancel),
            ("Show folder", "Open the folder that the selected job writes to", self._show_folder),
        )
        self.move_up, self.move_down, self.clear = self.buttons(
            ("Move up", "Run the selected job earlier", lambda: self._move(-1)),
            ("Move down", "Run the selected job later", lambda: self._move(1)),
            ("Clear finished", "Remove finished jobs from the list (files stay)", queueing.clear),
        )
        self.workers = self.note()
        queueing.changed.connect(self._refresh_if_seen)

    def subject(self) -> Session | None:
        """See :class:`Card`."""
        return self.session

    @property
    def chosen(self) -> Entry | None:
        """The chosen job."""
        item = self.list.currentItem()
        return self._queueing.entry(item.data(_KEY)) if item is not None and item.isSelected() else None

    def choose(self, key: str) -> None:
        """Choose a job."""
        for row in range(self.list.count()):
            if self.list.item(row).data(_KEY) == key:
                self.list.setCurrentRow(row)

    def show_more(self, subject: Session) -> None:
        """Show all jobs."""
        entries, chosen = self._queueing.entries, self.chosen
        while self.list.count() > len(entries):
            self.list.takeItem(self.list.count() - 1)
        while self.list.count() < len(entries):
            self.list.addItem(QListWidgetItem())
        for row, entry in enumerate(entries):
            item = self.list.item(row)
            item.setData(_KEY, entry.key)
            item.setData(_ENTRY, entry)
            item.setData(Qt.ItemDataRole.AccessibleTextRole, f"{entry.job.title}, {told_of(entry)}")
            item.setToolTip(plain("\n".join([entry.job.title, entry.job.output, *entry.report.told])))
        if chosen is not None:
            self.choose(chosen.key)
        self.list.viewport().update()
        address = subject.settings.get(settings.SCHEDULER)
        self.workers.setText(
            f"New jobs run on {address} (Preferences)." if address
            else "New jobs run on this machine; Preferences can name other workers."
        )  # fmt: skip
        self.clear.setEnabled(any(not entry.is_open for entry in entries))
        self._show_chosen()

    def _show_chosen(self) -> None:
        entry = self.chosen
        for button in (self.pause, self.cancel, self.move_up, self.move_down, self.folder):
            button.setEnabled(entry is not None)
        if entry is None:
            self.about.setText("Select a job to change it." if self._queueing.entries else _EMPTY)
            return
        self.about.setText(entry.why or " ".join(entry.report.told) or told_of(entry))
        self.pause.setText("Pause" if entry.state in ("waiting", "running") else "Resume")
        self.pause.setEnabled(entry.state != "done")
        self.cancel.setText("Cancel" if entry.is_open else "Remove")
        for button in (self.move_up, self.move_down):
            button.setEnabled(entry.is_open)

    def _pause(self) -> None:
        entry = self.chosen
        if entry is None:
            return
        if not entry.is_open:
            self._queueing.again(entry.key)
        else:
            self._queueing.want(entry.key, "go" if entry.state == "paused" else "pause")

    def _cancel(self) -> None:
        entry = self.chosen
        if entry is not None and entry.is_open:
            self._queueing.want(entry.key, "cancel")
        elif entry is not None:
            self._queueing.remove(entry.key)

    def _move(self, by: int) -> None:
        entry = self.chosen
        if entry is not None:
            self._queueing.move(entry.key, by)
            self.choose(entry.key)

    def _show_folder(self) -> None:
        entry = self.chosen
        if entry is not None:
            where = Path(entry.job.output)
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(where if where.is_dir() else where.parent)))
