"""Rendered images of the Proof card: opened, understood, measured, and written with their blur."""

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QCheckBox, QFileDialog, QMessageBox, QWidget

from kobrel.desk.background.jobs import Job
from kobrel.desk.background.proofing import Proofing
from kobrel.desk.background.queueing import Queueing
from kobrel.desk.cards.base import ShotCard
from kobrel.desk.cards.widgets import choice, show_words, word_table
from kobrel.desk.toolkit.asking import ask_target, may_write_over
from kobrel.desk.toolkit.fields import length_field, number_field
from kobrel.desk.toolkit.words import plain
from kobrel.errors import KobrelError
from kobrel.exchange.render import PICTURES
from kobrel.memo import Changed
from kobrel.plan.model import Shot
from kobrel.plan.pictures.rendered import DEPTH_KINDS, RenderedImage, frame_of
from kobrel.plan.sequence.shots import shot_ends
from kobrel.session.commands import rendered_image
from kobrel.session.numbers import Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.settings import allow_chosen
from kobrel.session.tools import Tool
from kobrel.session.view import View
from kobrel.stage.read.rendered.frames import ENDINGS, frames_beside, gaps, layers
from kobrel.stage.scene import Progress

_KINDS = f"Pictures ({' '.join(f'*{ending}' for ending in ENDINGS)})"
_UNITS: list[tuple[str, object]] = [
    ("Metres", 1.0), ("Centimetres", 0.01), ("Millimetres", 0.001), ("Feet", 0.3048), ("Inches", 0.0254),
]  # fmt: skip
_TICKS = (
    (
        "straight",
        "Radial (straight-line) distance",
        "Depth holds straight-line distances from the lens instead of distances on axis",
    ),
    ("negative", "Negative values", "Depth is negative, as the camera looks along -Z"),
    ("flipped", "White is near", "White is near and black is far"),
    ("zero_is_nothing", "0 = no data", "Pixels of depth 0 are empty"),
)


class DefocusPage(ShotCard):
    """Rendered images of the Proof card: opened, understood, measured, and written with their blur."""

    name = "Defocus"
    purpose = "A rendered image with its depth pass, blurred as the shot is"
    is_page = True

    def __init__(
        self, session: Session, proofing: Proofing, queueing: Queueing, parent: QWidget | None = None
    ) -> None:
        super().__init__(session, parent)
        self._proofing, self._queueing = proofing, queueing
        self._read = Changed()
        self.buttons(
            (
                "Open…",
                "A rendered image with depth for this shot, or one frame of a sequence",
                self.ask_open,
            ),
            ("Depth pass…", "Open a depth pass in a file of its own", self.ask_depth),
            ("Remove", "Detach the rendered image from this shot", lambda: rendered_image.let_go(session)),
        )
        self.told = self.note()
        self.layer = choice("Layer of the picture", [], "Which of the file's layers is the picture", 186)
        self.layer.activated.connect(
            lambda _i: rendered_image.change(session, layer=self.layer.currentData())
        )
        self.row("Layer", self.layer)
        self.channel = choice("Channel of the depth", [], "Which of the file's channels is the depth", 186)
        self.channel.activated.connect(
            lambda _i: rendered_image.change(session, depth_channel=self.channel.currentData())
        )
        self.row("Depth", self.channel)
        kinds: list[tuple[str, object]] = [(text, kind) for kind, text in DEPTH_KINDS.items()]
        self.kind = choice("What its depth is", kinds, "What the values of the depth mean", 186)
        self._rule(self.kind, "kind", "Depth values")
        self.unit = choice("Unit of the depth", _UNITS, "Unit of its distances", 132)
        self._rule(self.unit, "unit_m", "Unit")
        self.show_if(self.unit, lambda _now: self._is_distance())
        self.near, self.far = (
            length_field(name, lambda: session.unit, 1e-3, 1e6, about=about)
            for name, about in (
                ("Distance at one end", "Distance of the depth value 0 (or 1 where white is near)"),
                ("Distance at the other end", "Distance of the other end of the depth values"),
            )
        )
        for field, name, label in ((self.near, "near_m", "Near end"), (self.far, "far_m", "Far end")):
            self._rule(field, name, label)
            self.show_if(field, lambda _now: not self._is_distance())
        self.ticks: dict[str, QCheckBox] = {}
        for name, text, hint in _TICKS:
            self.ticks[name] = self._tick_rule(name, text, hint)
        self.known = length_field(
            "Distance of selected subject",
            lambda: session.unit,
            1e-3,
            1e6,
            about="Known distance of the selected subject; calibrates the depth values",
        )
        self.known.taken.connect(lambda metres: rendered_image.calibrate(session, metres))
        self.row("Selected subject is at", self.known)
        self.lens = self.note()
        self.buttons(
            ("Rendered with this lens", "The picture was made with the lens and sensor that the shot has now",
             lambda: rendered_image.take_lens(session)),
            ("Measure", "Click either side of an edge or disc to measure the blur in the file",
             lambda: session.set(Selection.tool.to(Tool("measure")))),
        )  # fmt: skip
        self.plain = self.tick(
            "Show original file", "Without the shot's blur, to look at it and to measure it",
            lambda _now: session.view.file_as_it_is, session.setter(View.file_as_it_is),
        )  # fmt: skip
        self.line()
        self.grow = number_field(
            "Boost clipped highlights",
            "stops",
            0.5,
            0.0,
            10.0,
            about="Raises clipped highlights on export, so that discs stay bright",
        )
        self.grow.show_value(0.0)
        self.row("Boost clipped highlights", self.grow)
        self.write, self.compare = self.buttons(
            ("Export…", "The picture or sequence with this blur: EXR, PNG or a movie", self._ask_write),
            ("Compare", "Compare blur methods with a full render", self._compare),
        )
        self.enable_if(self.compare, lambda _now: self._has_scene())
        self.table = word_table("Ways to blur", ("Method", "Time", "Error", "99th percentile"), 24, wide=(0,))
        self.table.setToolTip(
            "Mean error and worst one percent of the pixels, of 255, against the exact picture"
        )
        self.column.addWidget(self.table)
        self.table.hide()
        self.column.addStretch(1)

    def _rule(self, widget: QWidget, name: str, label: str) -> None:
        """A row with a part of the depth's rule."""
        self.bind(
            widget, lambda _now: self._value(name, 1.0),  # type: ignore[type-var]
            lambda value: rendered_image.change_rule(self.session, **{name: value}),
        )  # fmt: skip
        self.row(label, widget)

    def _tick_rule(self, name: str, text: str, hint: str) -> QCheckBox:
        return self.tick(
            text, hint, lambda _now: bool(self._value(name, False)),
            lambda on: rendered_image.change_rule(self.session, **{name: on}),
        )  # fmt: skip

    def _value(self, name: str, otherwise: object) -> object:
        found = rendered_image.finished_of(self.session)
        return getattr(found.rule, name) if found is not None else otherwise

    def _is_distance(self) -> bool:
        found = rendered_image.finished_of(self.session)
        return found is None or found.rule.kind in ("distance", "inverse")

    def _has_scene(self) -> bool:
        found = rendered_image.finished_of(self.session)
        return found is not None and any(scene.finished is None for scene in self.session.plan.scenes)

    def show_more(self, subject: Now) -> None:
        found = rendered_image.finished_of(self.session)
        for widget in (
            self.layer,
            self.channel,
            self.kind,
            self.unit,
            self.known,
            self.write,
            *self.ticks.values(),
        ):
            widget.setEnabled(found is not None)
        if found is None:
            self.told.setText("Open a rendered image with depth to preview this shot's focus on it.")
            self.lens.setText("")
            return
        if self._read(found.path, found.depth_path, found.layer, found.depth_channel):
            self._show_channels(found)
        focal = subject.camera.sensor_width_mm * subject.camera.squeeze / 2 / found.half_width
        self.lens.setText(f"Angle of view matches {focal:.4g} mm on this sensor.")

    def _show_channels(self, found: RenderedImage) -> None:
        """What the files have to choose from."""
        try:
            known, depths = layers(Path(found.path))
            if found.depth_path is not None:
                depths = layers(Path(found.depth_path))[1]
        except KobrelError as error:
            self.told.setText(str(error))
            return
        apart = Path(found.depth_path).name if found.depth_path is not None else "the picture itself"
        for box, names, chosen, whole in (
            (self.layer, known, found.layer, "the picture itself"),
            (self.channel, depths, found.depth_channel, apart),
        ):
            box.clear()
            for name in names or [""]:
                box.addItem(name or whole, name)
            box.setCurrentIndex(max(0, box.findData(chosen)))
        frames = frames_beside(Path(found.path)) if found.sequence else []
        missing = gaps(frames)
        text = Path(found.path).name
        if frames:
            text += f", frames {frames[0]} to {frames[-1]}"
        elif self.session.shot is not None:
            single = frame_of(found, *shot_ends(self.session.shot))
            text += ", one picture: " + (
                "it is used for every frame" if single is None else f"it shows frame {single}"
            )
        self.told.setText(f"{text}; {missing} missing" if missing else text)

    # Work

    def ask_open(self) -> None:
        """Let the person choose a picture for the shot."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a rendered image", self._folder(), _KINDS)
        if name:
            self.open(Path(name))

    def open(self, path: Path, depth: Path | None = None) -> None:
        """Take a picture for the shot."""
        allow_chosen(self.session.settings, path)
        try:
            told = rendered_image.put(self.session, path, depth)
        except KobrelError as error:
            QMessageBox.warning(self, "Kobrel", plain(str(error)))
            return
        self.session.say("  ".join(told) or f"{path.name} opened. Check the depth settings below.")

    def ask_depth(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open its depth", self._folder(), _KINDS)
        found = rendered_image.finished_of(self.session)
        if not name:
            return
        if found is not None:
            allow_chosen(self.session.settings, Path(name))
            rendered_image.change(self.session, depth_path=str(Path(name).absolute()), depth_channel="")
            return
        picture, _ = QFileDialog.getOpenFileName(self, "Open its picture", self._folder(), _KINDS)
        if picture:
            self.open(Path(picture), Path(name))

    def _folder(self) -> str:
        found = rendered_image.finished_of(self.session)
        return str(Path(found.path).parent) if found is not None else str(Path.home())

    def _ask_write(self) -> None:
        found = rendered_image.finished_of(self.session)
        if found is None:
            return
        start = Path(found.path).with_name(f"{Path(found.path).stem.rsplit('.', 1)[0]}_blur.exr")
        kinds = "EXR, linear with blur and mask (*.exr);;PNG (*.png);;Movie (*.mp4 *.mov)"
        path = ask_target(self, "Write with this blur", start, kinds, [".exr", ".png", ".mp4", ".mov"])
        if path is not None:
            self.write_to(path)

    def write_to(self, path: Path) -> None:
        """Write the picture or the sequence with the shot's blur."""
        from kobrel.exchange.rendered.write import Choices, defocus

        session, found = self.session, rendered_image.finished_of(self.session)
        plan, shot, stage = session.plan, session.shot, session.stage
        if found is None or shot is None:
            return
        if found.sequence:
            self._queue(path, found, shot)
            return
        choices = Choices(grow_stops=self.grow.value, most_px=shot.most_px, again=True)
        single = frame_of(found, *shot_ends(shot))
        at = int(session.frame) if single is None else single
        self._run(
            lambda progress: defocus(plan, shot, stage, found, None, choices, path, progress, at),
            lambda told: session.say("  ".join([f"Written {path}, as frame {at}", *told])),
        )

    def _queue(self, path: Path, found: RenderedImage, shot: Shot) -> None:
        """Have the frames of a sequence written beside the work."""
        from kobrel.exchange.rendered.write import target_of
        from kobrel.farm.work import work_of

        frames = [frame for frame in frames_beside(Path(found.path)) if shot.first <= frame <= shot.last]
        is_movie = path.suffix.lower() not in PICTURES
        there = [] if is_movie else [t for frame in frames if (t := target_of(path, frame)).exists()]
        if there and not may_write_over(self, there):
            return
        try:
            work = work_of(
                kind="movie" if is_movie else "pictures", plan=self.session.plan.name, output=str(path),
                shot=shot.name, first=shot.first, last=shot.last, grow_stops=self.grow.value,
            )  # fmt: skip
        except KobrelError as error:
            self.session.say(str(error))
            return
        self._queueing.add(work, self.session.plan)

    def _run(self, work: Callable[[Progress], object], done: Callable[..., object]) -> None:
        job = Job(work, self._proofing)
        job.done.connect(done)
        self._proofing.job_wanted.emit(job)

    def _compare(self) -> None:
        from kobrel.exchange.rendered.compare import compared

        session, found, now = self.session, rendered_image.finished_of(self.session), self.session.now
        if found is None or now is None:
            return
        plan, stage, frame, camera = session.plan, session.stage, session.frame, now.camera
        self._run(lambda progress: compared(plan, stage, camera, found, frame, progress), self._show_compared)

    def _show_compared(self, found: object) -> None:
        from kobrel.exchange.rendered.compare import Comparison
        from kobrel.picture.defocus.simple import METHODS

        assert isinstance(found, Comparison)
        self.table.setRowCount(len(found.ways))
        for row, way in enumerate(found.ways):
            show_words(
                self.table, row,
                (METHODS[way.method], f"{way.seconds * 1000:.0f} ms", f"{way.mean:.2f}", f"{way.worst:.0f}"),
            )  # fmt: skip
        self.table.setFixedHeight(30 + 24 * len(found.ways))
        self.table.show()
        self.session.say(
            f"The file's depth is off the scene's by {found.off_percent:.2g} %, by more than 5 % in "
            f"{found.apart_percent:.2g} % of the picture."
        )
