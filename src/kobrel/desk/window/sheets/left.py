"""Unsaved work that a crash left: to take up, to look at beside what is saved, or to leave."""

import time
from collections import Counter
from collections.abc import Callable
from datetime import datetime

from PySide6.QtCore import Qt
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import (
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.background.jobs import Job
from kobrel.desk.toolkit.images import to_image
from kobrel.desk.toolkit.words import Label, plain
from kobrel.errors import KobrelError
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan
from kobrel.plan.staging import Library, stage_of
from kobrel.session.journal.autosave import forget
from kobrel.session.journal.file import Left
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

_THUMB_PX = 180
_BESIDE_PX, _BESIDE_PASSES = 420, 24
_MOST_NAMES = 6


def when_text(seconds: float) -> str:
    """A time of the past in words: today's by its time alone."""
    at = datetime.fromtimestamp(seconds)
    return f"{at:%H:%M}" if at.date() == datetime.now().date() else f"{at.day} {at:%B, %H:%M}"


def edits_text(names: list[str]) -> str:
    """Edits by their names, those that came often with their count, the last ones first.

    >>> edits_text(["Focus", "Stop", "Focus"])
    'Focus (2), Stop'
    """
    counts = Counter(names)
    latest = list(dict.fromkeys(reversed(names)))
    told = [f"{name} ({counts[name]})" if counts[name] > 1 else name for name in latest[:_MOST_NAMES]]
    return ", ".join(told) + (f" and {len(latest) - _MOST_NAMES} more" if len(latest) > _MOST_NAMES else "")


class LeftSheet(QDialog):
    """A row for each piece of unsaved work.

    Parameters
    ----------
    take : works on one
    """

    def __init__(self, take: Callable[[Left], object], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._take = take
        self.rows: dict[str, QWidget] = {}
        self._left: dict[str, Left] = {}
        self.setWindowTitle("Recover unsaved work")
        self.resize(640, 260)
        column = QVBoxLayout(self)
        intro = Label("Kobrel closed before this was saved. Restore it, or discard it.")
        intro.setWordWrap(True)
        column.addWidget(intro)
        inner = QWidget()
        self._column = QVBoxLayout(inner)
        self._column.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(inner)
        column.addWidget(area, 1)
        line = QHBoxLayout()
        later = QPushButton("Not now")
        later.setToolTip("Ask again next time")
        later.clicked.connect(self.reject)
        line.addStretch(1)
        line.addWidget(later)
        column.addLayout(line)

    def add(self, left: list[Left]) -> None:
        """Offer more, unless it is offered already."""
        for one in left:
            key = f"{one.name} {one.time}"
            self._left[key] = one  # its journal may have been put elsewhere
            if key not in self.rows:
                self.rows[key] = row = self._row(key, one)
                self._column.insertWidget(self._column.count() - 1, row)

    def _row(self, key: str, left: Left) -> QWidget:
        row = QWidget()
        grid = QGridLayout(row)
        grid.setColumnStretch(1, 1)
        picture = Label()
        picture.setFixedSize(_THUMB_PX, _THUMB_PX * 9 // 16)
        picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        image = QImage.fromData(left.picture) if left.picture else QImage()
        if image.isNull():
            picture.setText("no picture yet")
            picture.setObjectName("quiet")
        else:
            picture.setPixmap(
                QPixmap.fromImage(image).scaled(
                    picture.size(),
                    Qt.AspectRatioMode.KeepAspectRatio,
                    Qt.TransformationMode.SmoothTransformation,
                )
            )
        count = len(left.unsaved)
        name = Label(left.name)
        name.setObjectName("title")
        said = Label(
            f"{count} {'edit' if count == 1 else 'edits'} not saved, the last at {when_text(left.time)}"
            + (f". {left.told}" if left.told else "")
        )
        said.setWordWrap(True)
        edits = Label(edits_text(left.unsaved))
        edits.setObjectName("quiet")
        edits.setWordWrap(True)
        row.setToolTip(plain(str(left.path or left.source or "It was never saved.")))
        grid.addWidget(picture, 0, 0, 4, 1, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(name, 0, 1)
        grid.addWidget(said, 1, 1)
        grid.addWidget(edits, 2, 1)
        grid.addLayout(self._buttons(key, left), 3, 1)
        return row

    def _buttons(self, key: str, left: Left) -> QHBoxLayout:
        line = QHBoxLayout()
        buttons: list[tuple[str, str, Callable[[], object]]] = [
            ("Restore", "Work on it; undo goes back to what was saved", lambda: self._take_up(key)),
            ("Discard", "This cannot be undone", lambda: self._throw_away(key)),
        ]
        if left.path is not None and left.path.is_file():
            buttons.insert(1, ("Compare", "This and what is saved, side by side", lambda: self._look(key)))
        for text, hint, work in buttons:
            button = QPushButton(text)
            button.setToolTip(plain(hint))
            button.setAutoDefault(False)
            button.clicked.connect(lambda _on=False, w=work: w())
            line.addWidget(button)
        line.addStretch(1)
        return line

    def _take_up(self, key: str) -> None:
        self._drop(key)
        self._take(self._left[key])

    def _throw_away(self, key: str) -> None:
        forget(self._left[key].journal)
        self._drop(key)

    def _drop(self, key: str) -> None:
        self.rows.pop(key).deleteLater()
        if not self.rows:
            self.accept()

    def _look(self, key: str) -> None:
        BothSheet(self._left[key], self).show()


class BothSheet(QDialog):
    """Unsaved work beside what is saved: the frame where it was left, drawn of each."""

    def __init__(self, left: Left, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"{left.name}: unsaved, and as saved")
        grid = QGridLayout(self)
        self.pictures: list[QLabel] = []
        saved_at = left.path.stat().st_mtime if left.path is not None and left.path.is_file() else time.time()
        for column, title in enumerate((f"Unsaved, {when_text(left.time)}", f"Saved, {when_text(saved_at)}")):
            label, picture = Label(title), Label("Drawing…")
            label.setObjectName("title")
            picture.setMinimumSize(_BESIDE_PX, _BESIDE_PX * 9 // 16)
            picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
            picture.setWordWrap(True)
            self.pictures.append(picture)
            grid.addWidget(label, 0, column)
            grid.addWidget(picture, 1, column)
        edits = Label(f"{len(left.unsaved)} edits: {edits_text(left.unsaved)}")
        edits.setWordWrap(True)
        edits.setObjectName("quiet")
        grid.addWidget(edits, 2, 0, 1, 2)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        grid.addWidget(close, 3, 1, Qt.AlignmentFlag.AlignRight)
        self._job = Job(lambda progress: both_pictures(left, progress), self)
        self._job.done.connect(self._show)
        self._job.failed.connect(lambda reason: self._show([reason, reason]))
        self.finished.connect(self._job.leave)
        self._job.start()

    def _show(self, found: object) -> None:
        assert isinstance(found, list)
        for label, picture in zip(self.pictures, found, strict=True):
            if isinstance(picture, str):
                label.setText(picture)
            else:
                label.setPixmap(QPixmap.fromImage(picture))


def both_pictures(left: Left, progress: Progress) -> list[QImage | str]:
    """Unsaved work and what is saved as pictures of the same frame, or why there is none."""
    from kobrel.plan.file import open_plan

    library = Library()
    found: list[QImage | str] = []
    like: Stage | None = None
    for load in (lambda: left.work.plan, lambda: open_plan(left.path) if left.path else left.work.first):
        try:
            plan = load()
            library.read(plan, progress)
            like = stage_of(plan, library, like)
            found.append(_picture(plan, like, left, progress))
        except KobrelError as error:
            found.append(str(error))
    return found


def _picture(plan: Plan, stage: Stage, left: Left, progress: Progress) -> QImage | str:
    from kobrel.picture.service import Request, finished

    work = left.work.plan
    name = work.shots[left.work.shot].name if left.work.shot < len(work.shots) else ""
    shot = next((shot for shot in plan.shots if shot.name == name), None)
    if shot is None:
        return f"no shot named {name}."
    frame = min(max(left.work.frame, shot.first), shot.last)
    camera = camera_at(plan, shot, frame, stage)
    size = _BESIDE_PX, max(1, round(_BESIDE_PX / camera.aspect))
    request = Request(stage, camera, frame, plan.light, *size, passes=_BESIDE_PASSES, finish=plan.finish)

    def stop() -> bool:
        progress("Drawing", 0.0)
        return False

    return to_image(finished(request, stop))
