"""The readings of the Tape card: from a laser meter, typed, or pasted; and subjects from them."""

from pathlib import Path

import numpy as np
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog, QHeaderView, QLineEdit, QTableView, QWidget

from kobrel.desk.background.devices.meter import SimulatedMeterProcess
from kobrel.desk.background.jobs import Job
from kobrel.desk.cards.base import SessionCard
from kobrel.desk.cards.tables import NamedRows
from kobrel.desk.cards.widgets import plain_table
from kobrel.desk.toolkit.asking import ask_target
from kobrel.desk.toolkit.fields import length_field, narrow, number_field
from kobrel.errors import KobrelError
from kobrel.files import text_of
from kobrel.plan import edit
from kobrel.plan.model import Reading
from kobrel.plan.space.moves import vector
from kobrel.session.commands import subject_list
from kobrel.session.document import Document
from kobrel.session.session import Session
from kobrel.session.tools import Tool
from kobrel.stage.scene import Progress


class ReadingsModel(NamedRows):
    """The plan's readings."""

    headings = ("Name", "Distance", "±", "Count")

    def things(self) -> tuple[Reading, ...]:
        return self.session.plan.readings

    def texts(self, row: int) -> tuple[str, ...]:
        reading = self.things()[row]
        spread = f"± {reading.spread_m * 1000:.1f} mm" if reading.count > 1 else "–"
        return self.session.length(reading.distance_m), spread, str(reading.count)

    def rename(self, row: int, name: str) -> None:
        readings = list(self.things())
        readings[row] = readings[row].replace(name=name)
        self.session.edit("Rename reading", self.session.plan.replace(readings=tuple(readings)))


class LaserPage(SessionCard):
    """The readings of the Tape card: from a laser meter, typed, or pasted; and subjects from them."""

    name = "Laser"
    purpose = "Distances from a laser meter, typed or pasted"
    is_page = True
    depends = (Document.plan, Document.stage)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent)
        from kobrel.exchange.rangefinder import DEFAULT_PORT

        self.address = QLineEdit(f"127.0.0.1:{DEFAULT_PORT}")
        self.address.setAccessibleName("Address of the laser meter")
        self.address.setToolTip("Where the laser meter answers, host:port")
        self.address.setFixedWidth(150)
        self.row("Laser meter", self.address)
        self.count = number_field(
            "Readings to average", "count", 1, 1, 50, about="How many readings are averaged into one distance"
        )
        narrow(self.count)
        self.count.show_value(5)
        self.row("Average of", self.count)
        self.aim, self.read, self.start = self.buttons(
            ("Aim…", "Click in Picture where it aims, then it reads", self._begin_aim),
            ("Read", "Read what it is aimed at", lambda: self._read(None)),
            ("Simulate", "Start the simulated meter that ships with Kobrel", self._simulate),
        )
        self.state = self.note("Aim a real meter by hand; click to aim the simulated one.")
        self.line()
        self._model = ReadingsModel(session)
        self.table = QTableView()
        self.table.setModel(self._model)
        plain_table(self.table, "Readings", 24)
        header = self.table.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.setMinimumHeight(110)
        self.column.addWidget(self.table, 1)
        self.title = QLineEdit()
        self.title.setPlaceholderText("Name")
        self.title.setAccessibleName("Name of a reading")
        self.title.setToolTip("Name of a reading that you type")
        self.distance = length_field(
            "Distance of a reading",
            lambda: session.unit,
            0.001,
            1e5,
            about="Straight-line distance that was read from a meter",
        )
        self.distance.setFixedWidth(90)
        self.distance.taken.connect(self._add_typed)
        self.row("Manual entry", self.title, self.distance)
        self.subjects, self.delete = self.buttons(
            ("Make subjects", "Make every reading a subject", self._make_subjects),
            ("Delete", "Delete the selected reading", self._delete),
        )
        self.paste, self.open, self.save = self.buttons(
            ("Paste", "Paste lines of name, distance, unit", self._paste),
            ("Open…", "Import readings from a CSV file", self.ask_open),
            ("Save…", "Write all readings to a CSV file", self._ask_save),
        )
        self.note(
            "Readings are straight-line distances from the lens. Without a direction the subject "
            "is placed straight ahead."
        )
        for button in (self.subjects, self.delete, self.save):
            self.enable_if(button, lambda session: bool(session.plan.readings))
        self.meter = SimulatedMeterProcess(session, self)
        self.meter.listening.connect(self._listen)
        self.meter.ended.connect(self._end)
        self._simulated = ""
        self._job: Job | None = None
        session.aimed.connect(self._aimed)
        session.closing.connect(self.meter.stop)

    def _say(self, text: str) -> None:
        self.state.setText(text)
        self.session.say(text)

    # The meter

    def _simulate(self) -> None:
        if self.meter.running:
            self.meter.stop()
            return
        self._say("The simulated meter is being switched on…")
        self.meter.start()

    def _listen(self, port: int) -> None:
        self._simulated = f"127.0.0.1:{port}"
        self.address.setText(self._simulated)
        self._say("The simulated meter is on. Press Aim, then click an object in Picture.")
        self.refresh()

    def _end(self, reason: str) -> None:
        self._say(reason)
        self.refresh()

    def _begin_aim(self) -> None:
        self.session.selection.tool = Tool("aim")
        self.session.say("Click in Picture where the meter aims. Esc stops.")

    def _aimed(self, point: object) -> None:
        self.session.selection.tool = None
        self._read(np.asarray(point, dtype=float))

    def _read(self, point: np.ndarray | None) -> None:
        camera = self.session.camera
        written, _, token = self.address.text().strip().partition(" ")
        host, _, port = written.rpartition(":")
        if not host or not port.isdecimal() or int(port) > 65535:
            self._say("The meter's address is written host:port, such as 127.0.0.1:7150.")
            return
        if not token and written == self._simulated:
            token = self.meter.token
        if camera is None or self._job is not None:
            return
        lens, count = np.array(camera.pose[:3, 3]), round(self.count.value)

        def work(progress: Progress) -> object:
            from kobrel.exchange.rangefinder import meter

            with meter(host, int(port), token.strip()) as connected:
                if point is not None:
                    connected.aim(lens, point - lens)
                return connected.average(count, progress)

        self._job = Job(work, self)
        self._job.done.connect(lambda found: self._take_measured(found, lens, point))
        self._job.failed.connect(self._fail)
        self._say("Reading the meter…")
        self._job.start()

    def _done(self) -> None:
        if self._job is not None:
            self._job.deleteLater()
            self._job = None

    def _fail(self, reason: str) -> None:
        self._done()
        self._say(reason)

    def _take_measured(self, found: object, lens: np.ndarray, point: np.ndarray | None) -> None:
        from kobrel.exchange.rangefinder import Measured

        self._done()
        assert isinstance(found, Measured)
        there = None
        if point is not None:
            way = (point - lens) / np.linalg.norm(point - lens)
            there = vector(lens + way * found.distance_m)
        name = f"Reading {len(self.session.plan.readings) + 1}"
        self._add(
            [
                Reading(
                    name=name, distance_m=found.distance_m, spread_m=found.spread_m, count=found.count,
                    point_m=there,
                )
            ]
        )  # fmt: skip
        lost = f", {len(found.failed)} gave none ({found.failed[0]})" if found.failed else ""
        self._say(
            f"{self.session.length(found.distance_m)} ± {found.spread_m * 1000:.1f} mm ({found.count} "
            f"readings{lost})."
        )

    # The list

    def _add(self, readings: list[Reading]) -> None:
        plan = self.session.plan
        taken = {reading.name for reading in plan.readings}
        fresh: list[Reading] = []
        for reading in readings:
            fresh.append(reading.replace(name=edit.unused(reading.name, taken)))
            taken.add(fresh[-1].name)
        plan = plan.replace(readings=(*plan.readings, *fresh))
        self.session.edit("Add readings" if len(readings) > 1 else f"Add {readings[0].name}", plan)

    def _add_typed(self, metres: float) -> None:
        name = self.title.text().strip() or f"Reading {len(self.session.plan.readings) + 1}"
        self._add([Reading(name=name, distance_m=metres)])
        self.title.clear()

    def take_text(self, text: str, source: str) -> None:
        """Take readings out of text, or say what is wrong with it."""
        from kobrel.exchange.readings import read_readings

        try:
            readings = read_readings(text, self.session.unit)
        except KobrelError as error:
            self._say(f"{source}: {error}")
            return
        self._add(readings)
        self._say(f"{len(readings)} readings from {source}.")

    def _paste(self) -> None:
        self.take_text(QGuiApplication.clipboard().text(), "the clipboard")

    def ask_open(self) -> None:
        kinds = "Readings (*.csv *.txt *.tsv)"
        name, _ = QFileDialog.getOpenFileName(self, "Open readings", str(Path.home()), kinds)
        if name:
            try:
                self.take_text(text_of(Path(name)), name)
            except KobrelError as error:
                self._say(str(error))

    def _ask_save(self) -> None:
        from kobrel.exchange.readings import write_readings

        start = Path.home() / f"{self.session.plan.name} readings.csv"
        path = ask_target(self, "Save readings", start, "Readings (*.csv)", [".csv"])
        if path is not None:
            try:
                write_readings(self.session.plan.readings, path)
            except KobrelError as error:
                self._say(str(error))
            else:
                self._say(f"Written {path}")

    def _make_subjects(self) -> None:
        made = subject_list.make_of_readings(self.session)
        if made:
            self._say(f"{made} subjects made.")

    def _delete(self) -> None:
        row, readings = self.table.currentIndex().row(), list(self.session.plan.readings)
        if 0 <= row < len(readings):
            gone = readings.pop(row)
            self.session.edit(f"Delete {gone.name}", self.session.plan.replace(readings=tuple(readings)))

    def show_more(self, subject: Session) -> None:
        self._model.layoutChanged.emit()
        self.start.setText("Switch off" if self.meter.running else "Simulate")
