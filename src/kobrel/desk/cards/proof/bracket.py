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
from kobrel.plan.variants.bracket import (
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
class BracketPage(ShotCard):
    """Ladders of the Proof card: the shot with one setting in steps, or with two as a grid."""

    name = "Bracket"
    purpose = "The shot in steps of one or two settings"
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
            ("Vary", "Setting that the bracket varies", kinds),
            ("And", "What the grid goes through besides", [("None", ""), *kinds]),
        ):
            box = choice(name, options, f"{name}; two settings make a grid", 196)
            self.row(label, box)
            field = QLineEdit()
            field.setFixedWidth(196)
            field.setAccessibleName(f"{name}: values")
            field.setToolTip("Values separated by spaces, e.g. 2 2.8 4")
            self.row("Values", field)
            box.activated.connect(lambda _i, b=box, f=field: self._propose(b, f))
            self.kinds.append(box)
            self.values.append(field)
        self.show_if(self.values[1], lambda _now: bool(self.kinds[1].currentData()))
        self.wide = choice("Width of the steps", [(f"{px} px wide", px) for px in _SIZES], "Pixels", 132)
        self.passes = choice(
            "Samples of the steps", [(f"{count} samples", count) for count in _PASSES],
            "Rays per pixel: more give less noise and take longer",
        )  # fmt: skip
        self._keep(self.wide, settings.LADDER_WIDTH, "Size")
        self._keep(self.passes, settings.LADDER_PASSES, "Quality")
        self.draw, self.keep = self.buttons(
            ("Render", "Render in the background", self._draw),
            ("Save selected", "Add the selected steps to the wall as proofs",
             lambda: proofing.keep_rungs(proofing.chosen())),
        )  # fmt: skip
        self.queued = self.tick(
            "Render in queue",
            "Render in the background into a folder of your choice; shown here when done",
            lambda _now: session.settings.get(settings.LADDER_QUEUED),
            lambda on: session.settings.put(settings.LADDER_QUEUED, on),
        )
        self.note("Double-click a step to apply its settings.")
        self.line()
        self.ends = self.buttons(
            ("First/mid/last of all shots", "First, middle and last frame of every shot", self._draw_ends)
        )[0]
        self.every = number_field(
            "Every so many frames", "fr", 1.0, 1.0, 10_000.0, about="Samples the shot at every nth frame"
        )
        self.every.show_value(12.0)
        self.row("Every nth frame", self.every)
        self.frames = self.buttons(("Sample this shot", "Every nth frame of the shot", self._draw_frames))[0]
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
            self, "Folder for the bracket", str(self.proofing.folder().parent)
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
