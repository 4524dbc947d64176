"""Ladders of the Proof card: the shot with one setting in steps, or with two as a grid."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QWidget

from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.boundary import guarded
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice
from kobrel.desk.toolkit.fields import number_field, read_number
from kobrel.errors import KobrelError
from kobrel.optics.units import parse_length
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.variants.ladder import (
    KINDS,
    Kind,
    Rung,
    distinct,
    ends_of_shots,
    every_nth,
    first_values,
    ladder,
)
from kobrel.session import settings
from kobrel.session.session import Session
from kobrel.session.settings import Setting

_SIZES, _PASSES = (320, 480, 640, 960, 1280, 1920), (8, 16, 32, 64, 128, 256)


@guarded
class LadderPage(ShotCard):
    """See the module."""

    name = "Ladder"
    is_page = True

    def __init__(
        self, session: Session, proofing: Proofing, queueing: Queueing, parent: QWidget | None = None
    ) -> None:
        super().__init__(session, parent)
        self.proofing, self._queueing = proofing, queueing
        kinds: list[tuple[str, object]] = [(text, kind) for kind, (text, _unit) in KINDS.items()]
        self.kinds: list[QComboBox] = []
        self.values: list[QLineEdit] = []
        for label, name, options in (
            ("Go through", "What the ladder goes through", kinds),
            ("and", "What the grid goes through besides", [("nothing else", ""), *kinds]),
        ):
            box = choice(name, options, f"{name}; with two, each of the first with each of the second", 196)
            self.row(label, box)
            field = QLineEdit()
            field.setFixedWidth(196)
            field.setAccessibleName(f"{name}: values")
            field.setToolTip("Values with blanks between, such as 2 2.8 4; distances may have a unit")
            self.row("Values", field)
            box.activated.connect(lambda _i, b=box, f=field: self._propose(b, f))
            self.kinds.append(box)
            self.values.append(field)
        self.show_if(self.values[1], lambda _now: bool(self.kinds[1].currentData()))
        self.wide = choice("Width of the rungs", [(f"{px} px wide", px) for px in _SIZES], "Pixels", 132)
        self.passes = choice(
            "Passes of the rungs", [(f"{count} passes", count) for count in _PASSES],
            "Exact passes for each: more are cleaner and take longer",
        )  # fmt: skip
        self._keep(self.wide, settings.LADDER_WIDTH, "Size")
        self._keep(self.passes, settings.LADDER_PASSES, "Quality")
        self.draw, self.keep = self.buttons(
            ("Draw", "Draw the ladder beside the work", self._draw),
            ("Keep the chosen", "Hang the chosen rungs on the wall for good",
             lambda: proofing.keep_rungs(proofing.chosen())),
        )  # fmt: skip
        self.queued = self.tick(
            "In the queue",
            "Drawn beside the other work, into a folder that is asked for; shown here when it is done",
            lambda _now: session.settings.get(settings.LADDER_QUEUED),
            lambda on: session.settings.put(settings.LADDER_QUEUED, on),
        )
        self.note("Double-click a rung to take its settings.")
        self.line()
        self.ends = self.buttons(
            ("Ends of all shots", "First, middle and last frame of every shot", self._draw_ends)
        )[0]
        self.every = number_field("Every so many frames", "frames", 1.0, 1.0, 10_000.0)
        self.every.show_value(12.0)
        self.row("Every", self.every)
        self.frames = self.buttons(("Frames of the shot", "Every nth frame of the shot", self._draw_frames))[
            0
        ]
        self.column.addStretch(1)

    def _keep(self, box: QComboBox, setting: Setting[int], label: str) -> None:
        """A row with a choice that is remembered."""
        kept = self.session.settings
        self.bind(box, lambda _now: kept.get(setting), lambda value: kept.put(setting, value))
        self.row(label, box)

    def showEvent(self, event: object) -> None:
        self.session.view.seen = "wall"
        super().showEvent(event)
        if not self.values[0].text():
            self._propose(self.kinds[0], self.values[0])

    def hideEvent(self, event: object) -> None:
        self.session.view.seen = ""
        super().hideEvent(event)

    def _propose(self, box: QComboBox, field: QLineEdit) -> None:
        """Begin with values about those of the shot."""
        camera, kind = self.session.camera, box.currentData()
        if camera is not None:
            field.setText(" ".join(f"{v:g}" for v in first_values(kind, camera)) if kind else "")
        self.refresh()

    def steps(self) -> list[tuple[Kind, list[float]]]:
        """What is gone through, as it is typed.

        Raises
        ------
        KobrelError
            A value is no number.
        """
        chosen = [
            (box.currentData(), field.text()) for box, field in zip(self.kinds, self.values, strict=True)
        ]
        return [(kind, [self._value(kind, word) for word in text.split()]) for kind, text in chosen if kind]

    def _value(self, kind: Kind, word: str) -> float:
        return (
            parse_length(word, self.session.unit) if kind == "focus" else read_number(word.removeprefix("f/"))
        )

    def _draw(self) -> None:
        now = self.session.now
        if now is None:
            return
        frame, session = float(self.session.frame), self.session

        def rungs() -> tuple[list[Rung], int]:
            steps = self.steps()
            made = ladder(
                now.shot, frame, lambda shot: camera_at(session.plan, shot, frame, session.stage), steps
            )
            return made, len(steps[1][1]) if len(steps) > 1 else 0

        self._start(rungs)

    def _draw_ends(self) -> None:
        self._start(lambda: (ends_of_shots(self.session.plan), 3))

    def _draw_frames(self) -> None:
        shot = self.session.shot
        if shot is not None:
            self._start(lambda: (every_nth(shot, int(self.every.value)), 0))

    def _start(self, make: Callable[[], tuple[list[Rung], int]]) -> None:
        try:
            rungs, across = make()
        except KobrelError as error:
            self.session.say(str(error))
            return
        if self.queued.isChecked():
            self._queue(rungs)
            return
        self.proofing.draw(rungs, self.wide.currentData(), self.passes.currentData(), across)

    def _queue(self, rungs: list[Rung]) -> None:
        """Have rungs drawn beside the work, into a folder."""
        name = QFileDialog.getExistingDirectory(
            self, "Folder for the ladder", str(self.proofing.folder().parent)
        )
        if name:
            self.queue_to(rungs, Path(name))

    def queue_to(self, rungs: list[Rung], folder: Path) -> None:
        """Have rungs drawn into a folder."""
        from kobrel.farm.work import work_of

        listed = [
            {"name": name, "shot": rung.shot, "frame": rung.frame}
            for name, rung in zip(distinct([rung.name for rung in rungs]), rungs, strict=True)
        ]
        try:
            work = work_of(
                kind="ladder", plan=self.session.plan.name, output=str(folder), rungs=listed,
                width=self.wide.currentData(), samples=self.passes.currentData(),
            )  # fmt: skip
        except KobrelError as error:
            self.session.say(str(error))
            return
        self._queueing.add(work, self.session.plan)
