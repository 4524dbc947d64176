"""The window's parts by themselves: jobs, player, fields, session."""

import itertools
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.background.jobs import Job
from kobrel.desk.background.player import Player
from kobrel.desk.toolkit.fields import length_field, number_field, read_number, stop_field
from kobrel.desk.window.progress import JobBar
from kobrel.errors import KobrelError, SceneError
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import DistanceTarget, PointAnchor, SubjectTarget
from kobrel.plan.variants import alts
from kobrel.session.commands.focusing import focus_at_m, set_mark
from kobrel.session.commands.subject_list import add_subject, remove_subject
from kobrel.session.session import Session
from tests.conftest import DEMO, library_of


def let(ready, seconds=20):
    end = time.monotonic() + seconds
    while not ready():
        QApplication.processEvents()
        time.sleep(0.002)
        assert time.monotonic() < end


@pytest.fixture
def session(qapp, settings, demo):
    made = Session()
    made.show_plan(*demo, library_of(*demo), shot_index=1)
    return made


class Heard(list):
    """What a job said, in order, and in which thread."""

    def __init__(self, job):
        super().__init__()
        self.threads = set()
        for name in ("progressed", "done", "failed", "cancelled"):
            getattr(job, name).connect(lambda *a, n=name: self.note(n, a))

    def note(self, name, arguments):
        self.append((name, *arguments))
        self.threads.add(threading.current_thread())

    def ended(self):
        return self and self[-1][0] != "progressed"


def test_a_job_reports_in_the_windows_thread(qapp):
    job = Job(lambda progress: progress("half", 0.5) or "result")
    heard = Heard(job)
    job.start()
    let(heard.ended)
    assert heard == [("progressed", "half", 0.5), ("done", "result")]
    assert heard.threads == {threading.main_thread()}


@pytest.mark.parametrize(
    ("error", "message"),
    [(SceneError("x.usd: broken."), "x.usd: broken."), (ZeroDivisionError("oh"), "")],
)
def test_a_job_that_fails_says_why_and_a_fault_inside_is_heard_where_all_are(
    qapp, error, message, monkeypatch
):
    faults = []
    monkeypatch.setattr(sys, "excepthook", lambda *fault: faults.append(fault[1]))

    def work(_progress):
        raise error

    job = Job(work)
    heard = Heard(job)
    job.start()
    let(heard.ended)
    assert heard[-1][0] == "failed"
    assert heard[-1][1] == message
    assert faults == ([] if message else [error])


def endless(progress):
    while True:
        progress("working", 0.1)
        time.sleep(0.002)


def test_a_job_stops_when_asked(qapp):
    job = Job(endless)
    heard = Heard(job)
    job.start()
    let(lambda: heard)
    job.cancel()
    let(heard.ended)
    assert heard[-1] == ("cancelled",)


def test_one_job_at_a_time_but_opening_gives_way_to_opening(qapp):
    bar = JobBar()
    said, failed = [], []
    bar.said.connect(said.append)
    bar.failed.connect(failed.append)
    first, second = Job(endless, opens=True), Job(endless)
    bar.run(first)
    bar.run(second)
    assert bar.job is first
    assert "Another task is running" in said[-1]
    third = Job(lambda _p: 3, opens=True)
    ended = Heard(first)
    bar.run(third)
    let(lambda: bar.job is None)
    let(ended.ended)
    assert ended[-1] == ("cancelled",)
    assert bar.isHidden()
    assert "Cancelled" not in said[-1], "the work that gave way is not news"

    def broken(_progress):
        raise KobrelError("no good")

    bar.run(Job(broken))
    let(lambda: bar.job is None)
    assert failed == ["no good"]


def test_the_player_keeps_time_and_goes_round(session):
    player = Player(session, lambda: (1001, 1012))
    session.edit_shot("short", lambda s: s.replace(first=1001, last=1020, fps=100))
    session.show_frame(1012)
    seen = []
    session.values.changed.connect(lambda: seen.append(session.frame))
    begun = time.monotonic()
    player.toggle()
    assert session.frame == 1001, "from the end it begins anew"
    let(lambda: time.monotonic() - begun > 0.3)
    player.toggle()
    assert not player.playing
    assert set(seen) <= set(range(1001, 1013))
    assert any(b < a for a, b in itertools.pairwise(seen)), "it went round"


@pytest.mark.parametrize(
    ("text", "value"), [("50 mm", 50), ("f/2,8", 2.8), ("-12°", -12), ("−3", -3), (".5", 0.5)]
)
def test_numbers_with_units_around_them(text, value):
    assert read_number(text) == value


def test_a_number_that_is_none():
    with pytest.raises(KobrelError, match="not a number"):
        read_number("wide")


def typed(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def test_a_field_takes_steps_refuses_and_takes_back(qapp):
    field = number_field("Focal length", "mm", 1.0, 10.0, 100.0, about="Of the lens")
    field.show()
    taken, refused = [], []
    field.taken.connect(taken.append)
    field.refused.connect(refused.append)
    field.show_value(50)
    assert field.text() == "50 mm"
    typed(field, "65")
    QTest.keyClick(field, Qt.Key.Key_Up)
    QTest.keyClick(field, Qt.Key.Key_Down)
    assert taken == [65, 66, 65]
    typed(field, "500")
    assert "out of range, 10 mm to 100 mm" in refused[-1]
    field.show_value(70)
    assert field.text() == "500", "what was typed is not overwritten"
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "70 mm"
    assert field.property("wrong") is not True or not field.isModified()
    typed(field, "99.5")
    QTest.keyClick(field, Qt.Key.Key_Up)
    assert taken[-1] == 100
    typed(field, "100")
    assert len(refused) == 1


def test_stops_and_lengths_step_as_the_trade_does(qapp):
    stop = stop_field("Stop", about="Of the lens")
    stop.show_value(2.8)
    QTest.keyClick(stop, Qt.Key.Key_Up)
    assert stop.text() == "f/3.2"
    focus = length_field("Focus", lambda: "cm", 0.02, float("inf"), about="Of a thing")
    focus.show_value(2.0)
    assert focus.text() == "200 cm"
    QTest.keyClick(focus, Qt.Key.Key_Up)
    assert focus.value == pytest.approx(2.02)


def test_a_drag_is_one_step_and_two_drags_are_two(session):
    start = session.plan
    for end in (3.0, 5.0):
        session.begin_drag()
        for metres in (end - 0.2, end - 0.1, end):
            focus_at_m(session, metres)
        session.end_drag()
    assert len(session.history.steps) == 2
    session.undo()
    assert session.shot.marks[0].target == DistanceTarget(metres=3.0) or float(
        session.camera.focus_m
    ) == pytest.approx(3.0)
    session.undo()
    assert session.plan == start


def test_an_edit_that_changes_nothing_leaves_no_trace(session):
    session.edit("nothing", session.plan.replace())
    session.edit_glass("same", squeeze=session.glass.squeeze)
    assert len(session.history.steps) == 0
    assert session.history.is_saved


def test_frames_and_shots_stay_within_their_ends(session):
    session.show_frame(5)
    assert session.frame == session.shot.first
    session.show_frame(9999)
    assert session.frame == session.shot.last
    session.show_shot(99)
    assert session.shot_index == 1
    session.show_shot(0)
    assert session.frame == session.shot.first


def test_a_mark_is_set_on_the_subject_in_focus_or_at_its_distance(session):
    session.show_frame(1010)
    set_mark(session)
    assert session.shot.marks[1].target == SubjectTarget(number=1)
    session.show_frame(1050)
    focus = float(session.camera.focus_m)
    set_mark(session)
    mark = next(m for m in session.shot.marks if m.frame == 1050)
    assert mark.target.metres == pytest.approx(focus)
    assert session.selection.mark == 1050


def test_deleting_a_subject_keeps_the_focus_where_it_was(session):
    before = [float(f) for f in session.survey.camera.focus_m[[0, 36, 60, 95]]]
    remove_subject(session, 1)
    after = [float(f) for f in session.survey.camera.focus_m[[0, 36, 60, 95]]]
    assert after == pytest.approx(before, rel=1e-9)
    assert session.plan.subject(1) is None
    session.undo()
    assert session.plan.subject(1).name == "Lantern"


def test_deleting_a_subject_keeps_the_focus_of_alts_too(session):
    def focus_of_the_alt():
        shot = alts.taken(session.plan.shots[1], "Later, f/4")
        return survey(session.plan, shot, session.stage).camera.focus_m[[0, 51, 71, 95]]

    session.show_shot(1)
    before = focus_of_the_alt()
    remove_subject(session, 2)
    assert [mark.target.kind for mark in session.shot.alts[0].marks] == ["subject"] * 2 + ["distance"] * 2
    np.testing.assert_allclose(focus_of_the_alt(), before, rtol=1e-9)


def test_undo_brings_frame_and_selection_into_range(session):
    session.edit_shot("longer", lambda s: s.replace(last=1200))
    session.show_frame(1200)
    set_mark(session)
    session.undo()
    assert session.selection.mark is None
    session.undo()
    assert session.frame == 1096


def test_an_empty_session_bears_everything(qapp, settings):
    empty = Session()
    assert empty.camera is None
    assert empty.survey is None
    set_mark(empty)
    focus_at_m(empty, 3)
    empty.show_frame(3)
    remove_subject(empty, 1)
    empty.set_keyed("x", "f_number", 4)
    assert len(empty.history.steps) == 0
    add_subject(empty, "Point", PointAnchor(position_m=(0, 0, 0)))
    assert len(empty.plan.subjects) == 1


def test_a_file_dropped_on_the_window_opens(make_window):
    user = make_window()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(DEMO))])
    event = QDropEvent(
        QPointF(400, 400),
        Qt.DropAction.CopyAction,
        data,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
    )
    user.window.dropEvent(event)
    user.opened()
    assert user.window.session.plan.name == "Night Ferry"


def test_recent_files_and_cameras_are_in_the_menus(make_window):
    from kobrel.desk.window.window import menus

    user = make_window()
    user.window.document.open(DEMO)
    user.opened()
    assert user.window.document.recent() == [DEMO]
    from PySide6.QtWidgets import QMenu

    menu = QMenu()
    menus.fill_recent(user.window, menu)
    assert [action.text() for action in menu.actions()] == [str(DEMO)]
    menus.fill_cameras(user.window, menu)
    texts = [action.text() for action in menu.actions()]
    assert "/NightFerry/Cameras/Rack" in texts
    assert [a.isChecked() for a in menu.actions()].count(True) == 1


def test_a_plan_whose_scene_is_gone_opens_with_a_word_about_it(make_window, tmp_path):
    lost = tmp_path / "lost.kobrel"
    lost.write_text(DEMO.read_text())
    user = make_window()
    user.window.document.open(lost)
    user.wait(lambda: user.window.jobs.job is None and user.window.session.plan.shots)
    user.rest(0.2)
    assert "Cameras/Wide is not in scene ferry" in user.window.says.text()
    assert user.window.session.camera is None
    user.window.session.edit("rename", user.window.session.plan.replace(name="Still mine"))
    assert Path(user.window.document.path) == lost


def test_thumbnails_follow_edits(make_window):
    user = make_window()
    user.window.document.open(DEMO)
    user.opened()
    user.wait(lambda: len(user.window.shots.thumbnails) == 4)
    before = user.window.shots.thumbnails["01"].copy()
    user.window.session.edit(
        "brighter",
        user.window.session.plan.replace(light=user.window.session.plan.light.replace(exposure_ev=3)),
    )
    user.wait(lambda: user.window.shots.thumbnails["01"] != before)


def test_while_a_hand_moves_the_picture_is_quick_and_then_exact(make_window):
    user = make_window()
    user.window.document.open(DEMO)
    user.opened()
    session = user.window.session
    user.wait(lambda: "exact" in user.window.picture.status)
    session.begin_drag()
    for i in range(5):
        focus_at_m(session, 3 + 0.1 * i)
        user.rest(0.05)
    user.wait(lambda: user.window.picture.status == "quick")
    user.rest(0.3)
    assert user.window.picture.status == "quick"
    session.end_drag()
    user.wait(lambda: "exact" in user.window.picture.status)


def test_the_pull_card_puts_a_mark_on_another_subject_or_a_distance(make_window):
    user = make_window()
    user.window.document.open(DEMO)
    user.opened()
    session, pull = user.window.session, user.window.cards[5].marks
    session.show_shot(1)
    user.key(Qt.Key.Key_5)
    pull.table.selectRow(2)
    assert session.selection.mark == 1061
    assert session.frame == 1061
    assert not pull.metres.isEnabled()
    row = pull.target.findData(6)
    pull.target.setCurrentIndex(row)
    pull.target.activated.emit(row)
    assert session.shot.marks[2].target == SubjectTarget(number=6)
    assert "Ferry" in session.history.last.name
    row = pull.target.findData("distance")
    pull.target.setCurrentIndex(row)
    pull.target.activated.emit(row)
    assert pull.metres.isEnabled()
    user.type(pull.metres, "4 m")
    assert session.shot.marks[2].target == DistanceTarget(metres=4)
    pull.delete_mark.click()
    assert [m.frame for m in session.shot.marks] == [1001, 1037, 1096]
    assert pull.speed.text().endswith("dioptres/s")


def test_criterion_and_formats_in_the_glass_card(make_window):
    user = make_window()
    user.window.document.open(DEMO)
    user.opened()
    session, card = user.window.session, user.window.cards[3]
    card.show_page("Depth of field")
    glass, lens = card.depth_of_field, card.lens
    glass.criterion.setCurrentIndex(glass.criterion.findData("diagonal"))
    glass.criterion.activated.emit(0)
    assert (session.glass.criterion.kind, session.glass.criterion.value) == ("diagonal", 1500)
    user.type(glass.criterion_value, "1000")
    assert session.glass.criterion.value == 1000
    near = glass.near.text()
    user.type(glass.criterion_value, "4000")
    assert glass.near.text() != near
    card.show_page("Lens")
    user.type(lens.sensor_height, "10.5")
    assert lens.format.currentText() == "Custom"
    user.type(lens.squeeze, "1.5")
    assert session.glass.squeeze == 1.5
