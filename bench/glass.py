"""The solver against the survey of the same shot, and the window while the Barrel is dragged."""

import os
import time
from collections.abc import Callable

import numpy as np
from rich.table import Table

from kobrel.plan.instrument import Requirement
from kobrel.plan.keys import PlaceKey
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import MadeCamera, Plan, PointAnchor, Shot, Subject
from kobrel.plan.solve import brief as briefs
from kobrel.stage.stage import Stage

Paired = Callable[..., list[float]]
FRAMES, SUBJECTS = 500, 12


def a_long_shot() -> tuple[Plan, Shot]:
    """Twelve subjects that move about for 500 frames, and a requirement for each."""
    rng = np.random.default_rng(7)
    subjects, requirements = [], []
    for number in range(1, SUBJECTS + 1):
        far = rng.uniform(3, 4) if number <= 6 else rng.uniform(9, 20)
        keys = tuple(
            PlaceKey(frame=float(f), position_m=(rng.uniform(-0.5, 0.5), 0.0, -far + rng.uniform(-0.2, 0.2)))
            for f in np.linspace(1, FRAMES, 9).round()
        )
        anchor = PointAnchor(position_m=keys[0].position_m, keys=keys)
        subjects.append(Subject(number=number, name=f"S{number}", anchor=anchor, half_depth_m=0.05))
        soft = {"kind": "at_least", "px": 3.0} if number > 6 else {}
        requirements.append(Requirement(subject=number, **soft))
    camera = MadeCamera(position_m=(0.0, 0.0, 0.0), aim_m=(0.0, 0.0, -1.0))
    shot = Shot(name="1", first=1, last=FRAMES, camera=camera, brief=tuple(requirements))
    return Plan(subjects=tuple(subjects), shots=(shot,)), shot


def solving(table: Table, paired: Paired) -> None:
    """From a survey to the stops, the verdicts and the slowest pull."""
    plan, shot = a_long_shot()
    stage = Stage([])
    numbers = survey(plan, shot, stage)

    def judge() -> None:
        assert briefs.judge(plan, shot, numbers) is not None

    def pull() -> None:
        judged = briefs.judge(plan, shot, numbers)
        assert judged is not None
        stop = judged.answer.stops[0][0]
        briefs.slowest_focus(judged.brief, stop)

    surveyed, judged, solved = paired(lambda: survey(plan, shot, stage), judge, pull)
    for name, seconds in (("stops and verdicts", judged), ("with the slowest pull", solved)):
        table.add_row(
            f"brief, {FRAMES} frames x {SUBJECTS} subjects: {name}",
            f"{seconds * 1000:.1f} ms",
            f"{seconds / surveyed:.1f} × the survey ({surveyed * 1000:.1f} ms)",
            "< 50 ms",
        )


def dragging(table: Table, bare_pass: Callable[[Stage, Plan, Shot, tuple[int, int]], float]) -> None:
    """The Barrel's index dragged over the demo, offscreen: new pictures a second."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QPoint, QPointF, Qt
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication

    from kobrel.desk.toolkit.theme import apply
    from kobrel.desk.window.app import application
    from kobrel.desk.window.document import DEMO
    from kobrel.desk.window.window import Window

    qt = application()
    apply(qt)
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.drawing.start()
    window.document.open(DEMO)
    while not window.session.plan.shots:
        QApplication.processEvents()
    window.session.show_shot(1)
    QApplication.processEvents()
    while "exact" not in window.picture.status:
        QApplication.processEvents()
    barrel, session = window.barrel, window.session
    drawn: list[float] = []
    window.drawing.drawn.connect(lambda _one: drawn.append(time.perf_counter()))
    scale = barrel.scale()
    camera = session.camera
    assert scale is not None
    assert camera is not None
    at = QPointF(scale.px(float(camera.focus_m)), barrel.height() - 60.0)
    left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    QTest.mousePress(barrel, left, none, QPoint(round(at.x()), round(at.y())))
    slowest, begun, step = 0.0, time.perf_counter(), 0
    while time.perf_counter() - begun < 4.0:
        step += 1
        place = QPoint(round(at.x() + 150 * np.sin(step / 25)), round(at.y()))
        moved = time.perf_counter()
        QTest.mouseMove(barrel, place)
        QApplication.processEvents()
        slowest = max(slowest, time.perf_counter() - moved)
        time.sleep(0.008)
    spent = time.perf_counter() - begun
    QTest.mouseRelease(barrel, left, none, place)
    each = spent / max(1, len([t for t in drawn if t >= begun]))
    size = window.picture.picture_size()
    pass_s = bare_pass(session.stage, session.plan, session.plan.shots[1], size)
    table.add_row(
        f"Barrel dragged over the demo, picture {size[0]} x {size[1]}",
        f"{1 / each:.0f} pictures/s, numbers within {slowest * 1000:.0f} ms",
        f"{each / pass_s:.2f} × a bare pass",
        "≥ 15/s",
    )
    session.mark_saved()
    window.close()
