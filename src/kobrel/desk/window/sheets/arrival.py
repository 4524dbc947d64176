"""First sight of a scene: its size, unit and axes, cameras, choices, and what was left out."""

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QGuiApplication, QImage, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from kobrel.desk.boundary import guarded
from kobrel.desk.cards.widgets import DiagnosticLabel, choice, choose
from kobrel.desk.toolkit.paint import draw_text
from kobrel.desk.toolkit.theme import faded, theme
from kobrel.desk.toolkit.words import Label, plain
from kobrel.optics.units import METRES, UNIT_NAMES, format_length
from kobrel.plan.check import unit_doubts
from kobrel.plan.model import FileCamera
from kobrel.session.commands import arrival
from kobrel.session.commands.visibility import reference_of
from kobrel.session.document import Document
from kobrel.session.numbers import ShotNumbers
from kobrel.session.session import Session
from kobrel.stage.people import standing
from kobrel.stage.scene import Choice, Scene

_PERSON_M = 1.75
_PANE = QSize(356, 200)
_MARGIN = 16.0
_MOST_BOXES = 2000
_LEAST_PX = 3.0
_ROOM = 1.25
"""How much more than the picture's height at the focus, or than a person, the view holds."""
_FARTHEST_M = 1e6


def worth_showing(session: Session, told: Sequence[str]) -> bool:
    """Whether there is something to ask or to tell of the plan's scenes at first sight."""
    scenes = [session.stage.scenes[r.name] for r in session.plan.scenes if r.name in session.stage.scenes]
    asks = any(not s.says_unit or s.choices or len(s.cameras) > 1 for s in scenes)
    return bool(told) or asks or any(unit_doubts(r.name, session.stage) for r in session.plan.scenes)


@guarded
class SizeView(QWidget):
    """A scene as the camera looks at it, level, boxes about its parts, beside a person of 1.75 m to scale."""

    def __init__(self, session: Session, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._name = session, name
        self.setFixedSize(_PANE)
        self.setAccessibleName("Scene size compared with a person")
        self.setToolTip(plain(f"The scene from the camera's direction, with a person of {_PERSON_M:g} m"))
        person = standing()
        corners = person.points[person.triangles][:, :, :2]
        self._person = corners / np.ptp(person.points[:, 1]) * _PERSON_M

    def size_m(self) -> tuple[float, float, float]:
        """Width, height and depth of the scene."""
        low, high = self._session.stage.bounds(float(self._session.frame))
        width, height, depth = (float(part) for part in high - low)
        return width, height, depth

    def _seen_m(self) -> tuple[float, float, float]:
        """Middle of what is shown, across and up, and how high it is: as much as the picture shows at the
        focus, or a person where that is less.
        """
        camera = self._session.camera
        low, high = self._session.stage.bounds(float(self._session.frame))
        across, up = _flat((low + high)[None] / 2, self._right())
        tall = float(max(high - low))
        if camera is not None and camera.focus_m < _FARTHEST_M:
            point = camera.pose[:3, 3] - camera.pose[:3, 2] * float(camera.focus_m)
            across, up = _flat(point[None], self._right())
            distance = 1.0 if camera.projection == "orthographic" else float(camera.focus_m)
            tall = 2.0 * float(camera.half_widths()[1]) * distance
        return float(across[0]), float(up[0]), max(_ROOM * tall, _ROOM * _PERSON_M)

    def _right(self) -> NDArray[np.float64]:
        """The level way to the right as the camera looks, (3,)."""
        camera = self._session.camera
        right = np.array([1.0, 0.0, 0.0]) if camera is None else camera.pose[:3, 0] * (1.0, 0.0, 1.0)
        return np.asarray(right / max(float(np.linalg.norm(right)), 1e-9))

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme().base)
        stage = self._session.stage
        if self._name not in stage.scenes:
            return
        boxes = stage.boxes(float(self._session.frame))
        boxes = boxes[np.isfinite(boxes[:, 0, 0])][:_MOST_BOXES]
        if not len(boxes):
            draw_text(painter, QPointF(12, 24), "Nothing visible.", theme().quiet, 12)
            return
        middle, height, tall = self._seen_m()
        scale = (self.height() - 2 * _MARGIN - 14) / tall
        across, up = _flat(boxes, self._right())
        left, right = across.min(axis=1), across.max(axis=1)
        low, high = up.min(axis=1), up.max(axis=1)
        wide = self.width() / scale
        there = (right > middle - wide / 2) & (left < middle + wide / 2) & (low > height - tall / 2)
        foot = float(low[there].min()) if there.any() else height - tall / 2
        if there.any():  # what stands there, if that is less
            ends = float(left[there].min()), float(right[there].max())
            room = (ends[1] - ends[0]) * self.height() / self.width() * 1.6
            needed = _ROOM * max(float(high[there].max()) - foot, room, _PERSON_M)
            if needed < tall:
                middle, scale = sum(ends) / 2, scale * tall / needed

        def place(x: float, y: float) -> QPointF:
            return QPointF(
                self.width() / 2 + (x - middle) * scale, self.height() - _MARGIN - 14 - (y - foot) * scale
            )

        painter.setPen(QPen(faded(theme().text, 0.5), 1))
        painter.setBrush(faded(theme().text, 0.05))
        frame = QRectF(self.rect())
        for x0, x1, y0, y1 in zip(left, right, low, high, strict=True):
            box = QRectF(place(float(x0), float(y1)), place(float(x1), float(y0)))
            if box.intersects(frame) and not box.contains(frame):
                painter.drawRect(box.intersected(frame.adjusted(-2, -2, 2, 2)))
        self._paint_person(painter, self.width() * 0.8, place(0.0, foot).y(), scale)
        width_m, height_m, depth_m = (format_length(metres) for metres in self.size_m())
        text = f"overall {width_m} wide, {height_m} high, {depth_m} deep"
        strip = QRectF(0, self.height() - 24.0, self.width(), 24.0)
        painter.fillRect(strip, faded(theme().base, 0.85))
        draw_text(painter, QPointF(self.width() / 2, self.height() - 8), text, theme().text, 12, "centre")

    def _paint_person(self, painter: QPainter, left: float, foot: float, scale: float) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme().focus)
        tall = _PERSON_M * scale
        if tall < _LEAST_PX * 3:  # too small to be told as a person: a mark with a word
            edge = self.width() - _MARGIN
            painter.drawRect(QRectF(edge - _LEAST_PX, foot - max(tall, 1.0), _LEAST_PX, max(tall, 1.0)))
            draw_text(painter, QPointF(edge, foot - 12), "1.75 m person", theme().focus, 11, "right")
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        middle = left + 0.2 * _PERSON_M * scale
        for corners in self._person:
            places = [QPointF(middle + float(x) * scale, foot - float(y) * scale) for x, y in corners]
            painter.drawPolygon(QPolygonF(places))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)


def _flat(
    points: NDArray[np.float64], right: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Points (..., 3) seen level from the front: across and up, (...) each."""
    return points @ right, points[..., 1]


@guarded
class _Pane(QWidget):
    """The picture as it is drawn in the window, small."""

    def __init__(self, picture: Callable[[], QImage | None], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._picture = picture
        self.setFixedSize(_PANE)
        self.setAccessibleName("The picture")

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), theme().surround)
        image = self._picture()
        if image is None or image.isNull():
            draw_text(painter, QPointF(12, 24), "The picture is being drawn…", theme().quiet, 12)
            return
        size = image.size().scaled(self.size(), Qt.AspectRatioMode.KeepAspectRatio)
        at = QPointF((self.width() - size.width()) / 2, (self.height() - size.height()) / 2)
        painter.drawImage(QRectF(at, size.toSizeF()), image)


class ArrivalSheet(QDialog):
    """The scene report: size, unit and axes, cameras, choices, and what was left out.

    Parameters
    ----------
    name : the scene of the plan
    told : what was left out or assumed
    picture : what is drawn in the window
    """

    def __init__(
        self,
        session: Session,
        name: str,
        told: Sequence[str],
        picture: Callable[[], QImage | None],
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self._session, self.name, self.told = session, name, list(told)
        self.setWindowTitle(f"Scene report: {name}")
        self.setModal(False)
        self.pane, self.size_view = _Pane(picture), SizeView(session, name)
        column = QVBoxLayout(self)
        column.setSpacing(10)
        heading = Label(f"Scene report: {name}")
        heading.setObjectName("title")
        column.addWidget(heading)
        panes = QHBoxLayout()
        panes.addWidget(self.pane)
        panes.addWidget(self.size_view)
        column.addLayout(panes)
        self._form = QGridLayout()
        self._form.setVerticalSpacing(6)
        self._form.setColumnStretch(2, 1)
        column.addLayout(self._form)
        self.doubts = DiagnosticLabel(session)
        column.addWidget(self.doubts)
        self._add_fields()
        self.left_out = QPlainTextEdit("\n".join(self.told))
        self.left_out.setReadOnly(True)
        self.left_out.setAccessibleName("Skipped or assumed")
        self.left_out.setFixedHeight(92)
        self.left_out.setTabChangesFocus(True)
        if self.told:
            heading = Label("Skipped or assumed")
            heading.setObjectName("quiet")
            column.addWidget(heading)
            column.addWidget(self.left_out)
        column.addLayout(self._buttons())
        end = session.watch(
            (Document.plan, Document.stage, Document.shot_index, Document.library, ShotNumbers.sight),
            self.refresh,
        )
        self.finished.connect(lambda _result: end())
        self.refresh()

    def _buttons(self) -> QHBoxLayout:
        line = QHBoxLayout()
        self.copy_button = QPushButton("Copy the list")
        self.copy_button.setToolTip("Copy what was skipped or assumed")
        self.copy_button.setVisible(bool(self.told))
        self.copy_button.setAutoDefault(False)
        self.copy_button.clicked.connect(lambda: QGuiApplication.clipboard().setText("\n".join(self.told)))
        again = Label("It opens again from Block, Scene files, Scene report.")
        again.setObjectName("quiet")
        self.take = QPushButton("Use this scene")
        self.take.setToolTip("Continue with these settings (Enter)")
        self.take.setDefault(True)
        self.take.clicked.connect(self.accept)
        line.addWidget(self.copy_button)
        line.addStretch(1)
        line.addWidget(again)
        line.addSpacing(12)
        line.addWidget(self.take)
        return line

    @property
    def _scene(self) -> Scene | None:
        return self._session.stage.scenes.get(self.name)

    def _row(self, label: str, widget: QWidget, note: QWidget | None = None, wide: int = 1) -> None:
        row = self._form.rowCount()
        text = Label(label)
        text.setBuddy(widget)
        self._form.addWidget(text, row, 0)
        self._form.addWidget(widget, row, 1, 1, wide, Qt.AlignmentFlag.AlignLeft)
        if note is not None:
            self._form.addWidget(note, row, 2)

    def _add_fields(self) -> None:
        units: list[tuple[str, object]] = [(UNIT_NAMES[unit], METRES[unit]) for unit in METRES]
        self.unit = choice("Scene units", units, "The unit that the file's numbers are in", 170)
        self.unit.activated.connect(lambda _i: self._change("Unit", unit_m=self.unit.currentData()))
        self.unit_note = Label()
        self.unit_note.setObjectName("quiet")
        self._row("Scene units", self.unit, self.unit_note)
        self.up = choice("Up", [("Y", "Y"), ("Z", "Z")], "Which of the file's axes points up", 170)
        self.up.activated.connect(lambda _i: self._change("Up axis", up=self.up.currentData()))
        self.up_note = Label()
        self.up_note.setObjectName("quiet")
        self._row("Up axis", self.up, self.up_note)
        self.choices: dict[str, QComboBox] = {}
        scene = self._scene
        for offered in scene.choices if scene else ():
            self._add_choice(offered)
        self.cameras: dict[str, QCheckBox] = {}
        if scene is not None and len(scene.cameras) > 1:
            self._row("Cameras", self._camera_list(scene), wide=2)

    def _add_choice(self, offered: Choice) -> None:
        box = choice(offered.label, [(option, option) for option in offered.options], offered.label, 170)
        box.activated.connect(
            lambda _i: arrival.choose(self._session, self.name, offered.key, str(box.currentData()))
        )
        self.choices[offered.key] = box
        self._row(offered.label, box)

    def _camera_list(self, scene: Scene) -> QWidget:
        """A box to tick for each camera."""
        inside = QWidget()
        lines = QVBoxLayout(inside)
        lines.setContentsMargins(6, 4, 6, 4)
        lines.setSpacing(2)
        for camera in scene.cameras:
            box = QCheckBox(camera.path)
            box.setToolTip("Make a shot from this camera")
            box.clicked.connect(self._take_cameras)
            lines.addWidget(box)
            self.cameras[camera.path] = box
        area = QScrollArea()
        area.setWidget(inside)
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setFixedSize(430, min(24 * len(scene.cameras) + 12, 100))
        return area

    def refresh(self) -> None:
        """Show how the scene is read now."""
        scene, reference = self._scene, reference_of(self._session.plan, self.name)
        if scene is None or reference is None:
            return
        choose(self.unit, next((m for m in METRES.values() if abs(m / scene.unit_m - 1) < 1e-6), None))
        for note, own, says in (
            (self.unit_note, reference.unit_m, scene.says_unit), (self.up_note, reference.up, scene.says_up),
        ):  # fmt: skip
            told = "from file" if says else "not stored in file"
            note.setText("selected here" if own is not None else told)
        choose(self.up, scene.up)
        for offered in scene.choices:
            if offered.key in self.choices:
                choose(self.choices[offered.key], offered.chosen)
        shots = {
            shot.camera.path
            for shot in self._session.plan.shots
            if isinstance(shot.camera, FileCamera) and shot.camera.scene == self.name
        }
        for path, box in self.cameras.items():
            box.setChecked(path in shots)
        self._show_doubts()
        self.size_view.update()
        self.pane.update()

    def _show_doubts(self) -> None:
        own = unit_doubts(self.name, self._session.stage)
        self.doubts.show_doubts([*own, *(d for d in self._session.doubts if d.mend != "unit")])

    def _change(self, what: str, **changes: object) -> None:
        arrival.change_scene(self._session, self.name, f"{what} of scene {self.name}", **changes)

    def _take_cameras(self) -> None:
        chosen = [path for path, box in self.cameras.items() if box.isChecked()]
        arrival.take_cameras(self._session, self.name, chosen)
        self.refresh()
