"""Walks from a tape or a character's eye to a focus that holds."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog

from kobrel.plan.file import open_plan
from kobrel.plan.model import CameraEnd, SubjectEnd, SubjectTarget, SurfaceAnchor
from kobrel.session.commands import taping
from kobrel.stage.stage import Place
from tests.desk.test_pull import SHIFT, drag, line_place
from tests.desk.test_taping import click_button, in_picture
from tests.desk.walks.material import table_top, walker


def opened(make_window, path):
    """A person at a window that shows a scene which came as a file."""
    user = make_window()
    user.window.document.open(path)
    user.opened()
    user.wait(lambda: user.window.session.stage.built)
    return user


def saved_and_opened(user, path, monkeypatch):
    """Save under a name by keyboard, and open it again."""
    window, session = user.window, user.window.session
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    user.key(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    user.wait(lambda: path.exists() and session.history.is_saved)
    kept = session.plan
    assert open_plan(path) == kept
    window.document.open(path)
    user.wait(lambda: window.jobs.job is None and session.plan is not kept)
    assert session.plan == kept


def test_measure_and_focus(make_window, tmp_path, monkeypatch):
    """A table-top in millimetres: a tape to the middle piece, both ends mended, its length is the focus."""
    user = opened(make_window, table_top(tmp_path / "chess.usda"))
    window, session = user.window, user.window.session
    knight = np.array([0.0, 0.04, -0.6])
    for place in ((-0.11, 0.04, -0.38), knight, (0.13, 0.04, -0.95)):
        user.click(window.picture, in_picture(window, place))
    words = ("Pawn", "Knight", "Rook")
    numbered = {word: s.number for word in words for s in session.plan.subjects if word in s.name}
    assert len(numbered) == 3

    user.key(Qt.Key.Key_2)
    tapes = window.show_page(2, "Tapes")
    click_button(user, tapes.new)
    user.click(window.picture, in_picture(window, (0.05, 0.0, -0.5)))  # the table, by mistake
    user.click(window.picture, in_picture(window, (0.13, 0.06, -0.95)))
    (tape,) = session.plan.tapes
    # Its begin goes to the pawn in Overhead, its end to the knight in Side.
    numbers = taping.numbers_of(session, tape)
    tags = {session.survey.subjects[row]: at for row, at, _point in window.overhead.tags()}
    user.drag(window.overhead, window.overhead.where(numbers.start[0]), tags[numbered["Pawn"]])
    assert session.plan.tapes[0].start == SubjectEnd(number=numbered["Pawn"])
    end = taping.numbers_of(session, session.plan.tapes[0]).end[0]
    tags = {session.survey.subjects[row]: at for row, at, _point in window.second.tags()}
    user.drag(window.second, window.second.where(end), tags[numbered["Knight"]])
    assert session.plan.tapes[0].end == SubjectEnd(number=numbered["Knight"])
    between = float(taping.numbers_of(session, session.plan.tapes[0]).straight_m[0])
    assert between == pytest.approx(np.hypot(0.11, 0.22), abs=0.05)

    # Another one from the camera to the knight is the focus.
    user.key(Qt.Key.Key_T)
    user.click(window.overhead, window.overhead.place(0, 0))
    tags = {session.survey.subjects[row]: at for row, at, _point in window.overhead.tags()}
    user.click(window.overhead, tags[numbered["Knight"]])
    assert session.plan.tapes[1].start == CameraEnd()
    numbers = taping.numbers_of(session, session.plan.tapes[1])
    assert float(numbers.axial_m[0]) == pytest.approx(0.56, abs=0.05)
    click_button(user, tapes.focus)
    assert float(session.camera.focus_m) == pytest.approx(float(numbers.axial_m[0]), rel=1e-6)
    pawn, middle, rook = (session.survey.subjects.index(numbered[word]) for word in words)
    blur = session.survey.sight.blur_px[:, session.row]
    assert blur[middle] < blur[pawn] / 2
    assert blur[middle] < blur[rook] / 2
    saved_and_opened(user, tmp_path / "chess.kobrel", monkeypatch)
    assert float(session.camera.focus_m) == pytest.approx(float(numbers.axial_m[0]), rel=1e-6)


def test_a_point_that_moves(make_window, tmp_path, monkeypatch):
    """Subjects on a walker's eye and on a lamp, a pull between them on a cue; the file comes anew with other
    names, and all stays tied.
    """
    path = walker(tmp_path / "walk.usda")
    user = opened(make_window, path)
    window, session = user.window, user.window.session
    stage = session.stage
    eye = stage.world(Place("walk", "/Body/Head/Eye"), [1001.0])[0, :3, 3] + (0, 0, 0.03)
    lamp = stage.world(Place("walk", "/Lamp"), [1001.0])[0, :3, 3]
    user.click(window.picture, in_picture(window, eye))
    user.click(window.picture, in_picture(window, lamp))
    on_eye, on_lamp = session.plan.subjects[-2:]
    assert isinstance(on_eye.anchor, SurfaceAnchor)
    assert "Eye" in on_eye.name
    assert "Lamp" in on_lamp.name

    user.key(Qt.Key.Key_5)
    cues = window.show_page(5, "Cues")
    session.show_frame(1014)
    cues.add()
    user.type(cues.title, "Looks up")
    assert [cue.name for cue in session.shot.cues] == ["Looks up"]
    session.show_frame(1001)
    window.barrel.setFocus()
    row = session.survey.subjects.index(on_eye.number)
    user.click(window.picture, dict(window.picture.tag_places())[row])
    chart = window.chart
    drag(chart, line_place(chart, on_eye.number, 1014), line_place(chart, on_lamp.number, 1021), SHIFT)
    marks = session.shot.marks
    assert {mark.target for mark in marks} == {
        SubjectTarget(number=on_eye.number), SubjectTarget(number=on_lamp.number),
    }  # fmt: skip
    assert 1014 in [mark.frame for mark in marks], "the pull begins on the cue"
    user.key(Qt.Key.Key_Space)
    user.wait(lambda: session.frame > 1004)
    user.key(Qt.Key.Key_Space)
    blur = session.survey.sight.blur_px
    assert float(blur[row, :14].max()) < 0.01, "the eye stays sharp at every frame before the cue"
    assert float(blur[session.survey.subjects.index(on_lamp.number), -1]) < 0.01

    before = session.survey.points.copy()
    walker(path, ("Figure", "LeftEye", "Lantern"))
    told = []
    monkeypatch.setattr(window, "show_warning", lambda _title, lines: told.extend(lines))
    window.files.told.connect(lambda _title, lines: told.extend(lines))
    window.files.reload([str(path)])
    user.wait(lambda: window.jobs.job is None and "/Figure/Head/LeftEye" in str(session.plan.subjects))
    user.wait(lambda: session.stage.built)
    np.testing.assert_allclose(session.survey.points, before, atol=1e-6)
    assert float(session.survey.sight.blur_px[row, :14].max()) < 0.01
