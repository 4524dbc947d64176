"""A mark edited in a long shot with many subjects, and a shot played from memory."""

import os
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from rich.table import Table

from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import MadeCamera, Mark, Plan, PointAnchor, Shot, Subject, SubjectTarget
from kobrel.stage.stage import Stage

Paired = Callable[..., list[float]]
FRAMES, SUBJECTS = 2000, 30


def a_long_pull() -> tuple[Plan, Shot]:
    """Thirty subjects that move about for 2,000 frames, and a mark on one of them every hundred."""
    rng = np.random.default_rng(11)
    subjects = []
    for number in range(1, SUBJECTS + 1):
        keys = tuple(
            PlaceKey(frame=float(f), position_m=(rng.uniform(-1, 1), 0.0, -rng.uniform(2, 20)))
            for f in np.linspace(1, FRAMES, 9).round()
        )
        anchor = PointAnchor(position_m=keys[0].position_m, keys=keys)
        subjects.append(Subject(number=number, name=f"S{number}", anchor=anchor))
    marks = tuple(
        Mark(frame=float(f), target=SubjectTarget(number=int(rng.integers(1, SUBJECTS + 1))))
        for f in range(1, FRAMES, 100)
    )
    camera = MadeCamera(position_m=(0.0, 0.0, 0.0), aim_m=(0.0, 0.0, -1.0))
    shot = Shot(name="1", first=1, last=FRAMES, camera=camera, marks=marks)
    return Plan(subjects=tuple(subjects), shots=(shot,)), shot


def editing(table: Table, paired: Paired) -> None:
    """One mark dragged: until the chart is painted anew, against a survey of everything."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QPoint, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication

    from kobrel.desk.chart.pull_chart import PullChart
    from kobrel.desk.toolkit.theme import apply
    from kobrel.desk.window.app import application
    from kobrel.plan.staging import Library
    from kobrel.session.session import Session

    apply(application())
    plan, shot = a_long_pull()
    session = Session()
    session.show_plan(plan, Stage(), Library())
    chart = PullChart(session)
    chart.resize(760, 400)
    chart.show()
    QApplication.processEvents()
    place = chart.mark_place(shot.marks[8])
    assert place is not None
    left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    QTest.mousePress(chart, left, none, place.toPoint())
    steps = [0]

    def slide() -> None:
        steps[0] += 1
        QTest.mouseMove(chart, place.toPoint() + QPoint(4 + 4 * (steps[0] % 3), 0))
        QApplication.processEvents()

    def fresh() -> None:
        survey(plan, shot, Stage())

    edited, whole = paired(slide, fresh)
    QTest.mouseRelease(chart, left, none, place.toPoint())
    table.add_row(
        f"a mark slid, {FRAMES} frames x {SUBJECTS} subjects, until the chart shows it",
        f"{edited * 1000:.1f} ms",
        f"{edited / whole:.2f} × one full survey ({whole * 1000:.1f} ms)",
        "< 17 ms",
    )
    chart.close()


def playing(table: Table) -> None:
    """The demo's rack from memory at 640 x 360, offscreen: how many frames are dropped."""
    from PySide6.QtWidgets import QApplication

    import kobrel.demo
    from kobrel.desk.window.window import Window

    window = Window()
    window.resize(1280, 800)
    window.show()
    window.session.view.card = 5
    window.drawing.start()
    window.document.open(Path(kobrel.demo.__file__).parent / "night_ferry.kobrel")
    while not (window.session.plan.shots and window.picture.ready):
        QApplication.processEvents()
    window.session.show_shot(1)
    window.playback.set_draft(width=640, passes=1, every=1)
    begun = time.perf_counter()
    window.playback.switch(True)
    while not len(window.playback.filled()[0]) or not window.playback.filled()[1].all():
        QApplication.processEvents()
        time.sleep(0.002)
    made = time.perf_counter() - begun
    window.session.want("play")
    begun = time.perf_counter()
    while time.perf_counter() - begun < 4.0:
        QApplication.processEvents()
        time.sleep(0.001)
    player, fps = window.player, window.session.shot.fps if window.session.shot else 24.0
    shown, dropped = player.shown, player.dropped
    window.session.want("play")
    table.add_row(
        f"played from memory, 640 x 360, {len(window.playback.filled()[0])} frames made in {made:.0f} s",
        f"{shown / 4.0:.1f} frames/s, {dropped} dropped in 4 s",
        f"{shown / 4.0 / fps:.2f} × the shot's rate",
        "1",
    )
    window.session.mark_saved()
    window.close()
