"""The list of shots, cues and marks on free points in the window."""

from itertools import pairwise

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.chart import layers
from kobrel.desk.chart.pull_chart import PullChart
from kobrel.exchange.timeline import write_list
from kobrel.plan.measure.pace import pace, unseen_racks
from kobrel.plan.model import Cue, DistanceTarget, Mark, PointTarget
from kobrel.plan.pull import marks as pulls
from kobrel.session.commands import pulling
from tests.desk.test_pull import CTRL
from tests.desk.test_pull import drag as drag_with

ALT = Qt.KeyboardModifier.AltModifier


@pytest.fixture
def user(demo_user):
    demo_user.key(Qt.Key.Key_5)
    return demo_user


def page_of(user, name):
    if name == "Shots":
        user.key(Qt.Key.Key_F2)
        return user.window.show_page(1, "Shots")
    user.window.session.view.card = 5
    card = user.window.cards[5]
    card.show_page(name)
    return card.pages[name]


def names(session):
    return [shot.name for shot in session.plan.shots]


def place_in_column(index):
    return QPointF(50, 10 + 96 * index + 20)


def test_shots_are_doubled_dragged_renamed_and_deleted(user):
    window, session, column = user.window, user.window.session, user.window.shots
    user.key(Qt.Key.Key_D, CTRL)
    assert names(session) == ["01", "02", "02 2", "03", "04"]
    assert session.shot.name == "02 2"
    user.drag(column, place_in_column(2), place_in_column(0))
    assert names(session) == ["02 2", "01", "02", "03", "04"]
    assert session.shot.name == "02 2"
    assert session.history.last.name == "Move shot 02 2"
    user.key(Qt.Key.Key_Down, ALT, column)
    assert names(session) == ["01", "02 2", "02", "03", "04"]
    user.key(Qt.Key.Key_F2)
    page = window.show_page(1, "Shots")
    assert page.isVisible()
    user.type(page.title, "insert")
    assert session.shot.name == "insert"
    user.type(page.words, "The rope")
    assert session.shot.label == "insert The rope"
    user.type(page.title, "03")
    assert "called 03 already" in window.says.text()
    assert session.shot.name == "insert"
    assert page.title.text() == "insert"
    for action in column.menu().actions():
        if action.text() == "Delete":
            action.trigger()
    assert names(session) == ["01", "02", "03", "04"]
    session.undo()
    assert "insert" in names(session)
    while session.history.last:
        session.undo()
    assert names(session) == ["01", "02", "03", "04"]


def test_frames_rate_and_handles_are_typed(user):
    window, session = user.window, user.window.session
    page = page_of(user, "Shots")
    user.type(page.last, "1080")
    user.type(page.fps, "25")
    user.type(page.handles, "12")
    shot = session.shot
    assert (shot.first, shot.last, shot.fps, shot.handles) == (1001, 1080, 25.0, 12)
    assert len(session.survey.frames) == 80
    user.type(page.first, "1090")
    assert "cannot end at 1080" in window.says.text()
    assert session.shot.first == 1001
    assert page.first.value == 1001


def test_a_lens_is_given_and_a_shot_matched_from_the_page(user):
    window, session = user.window, user.window.session
    page = page_of(user, "Shots")
    page.give_lens()
    assert "Tick the shots" in window.says.text()
    page.table.item(0, 0).setCheckState(Qt.CheckState.Checked)
    page.table.item(3, 0).setCheckState(Qt.CheckState.Checked)
    page.give_lens()
    shots = session.plan.shots
    assert shots[0].glass == shots[1].glass == shots[3].glass != shots[2].glass
    assert session.history.last.name == "Lens of 02 to 2 shots"
    session.undo()
    strip = window.body.strip
    assert strip.isVisible()
    assert any("blur" in jump for jump in strip.cuts()[0].jumps)
    session.show_shot(0)
    page.match_before.click()
    assert "no shot on that side" in window.says.text() or not page.match_before.isEnabled()
    session.show_shot(3)
    page.match_before.click()
    told = window.says.text()
    assert "has the background of 03" in told or "would need" in told


def test_the_strip_shows_all_shots_and_goes_where_one_clicks(user):
    window, session = user.window, user.window.session
    page_of(user, "Shots")
    strip = window.body.strip
    QApplication.processEvents()
    boxes = strip.boxes()
    assert len(boxes) == 4
    assert all(a.right() < b.left() for a, b in pairwise(boxes))
    user.click(strip, boxes[3].center())
    assert session.shot_index == 3
    assert abs(session.frame - 1060) <= 2
    user.click(strip, QPointF(boxes[1].left(), boxes[1].center().y()))
    assert (session.shot_index, session.frame) == (1, 1001)
    user.key(Qt.Key.Key_Down, widget=strip)
    assert session.shot_index == 2
    before = strip.grab().toImage()
    session.set_keyed("Stop", "f_number", 2.0)
    QApplication.processEvents()
    assert strip.grab().toImage() != before
    many = session.plan.shots * 4
    plan = session.plan.replace(shots=tuple(s.replace(name=f"s{k}") for k, s in enumerate(many)))
    session.edit("Many", plan)
    assert strip.boxes()[-1].right() > strip.width()
    user.wheel(strip, QPointF(100, 100), -100)
    assert strip.boxes()[-1].right() <= strip.width()
    page_of(user, "Marks")
    assert window.chart.isVisible()


def test_shots_come_from_cameras_and_from_a_list(user, tmp_path, monkeypatch):
    window, session = user.window, user.window.session
    plan = session.plan
    write_list(plan.replace(shots=plan.shots[::-1]), session.stage, tmp_path / "edit.otio")
    window.exports.read_list(tmp_path / "edit.otio")
    user.wait(lambda: session.plan is not plan)
    assert names(session) == ["04", "03", "02", "01"]
    assert session.shot.name == "02"
    assert session.history.last.name == "Shots of edit.otio"
    boxes = []
    monkeypatch.setattr(window, "show_warning", lambda _title, lines: boxes.extend(lines))
    (tmp_path / "bad.edl").write_text("nothing")
    user.wait(lambda: window.jobs.job is None)
    window.exports.read_list(tmp_path / "bad.edl")
    user.wait(lambda: boxes)
    assert "bad.edl" in boxes[0]
    assert names(session) == ["04", "03", "02", "01"]
    session.edit("One", plan.replace(shots=plan.shots[:1]))
    from kobrel.session.commands import shot_list

    shot_list.add_from_cameras(session)
    assert len(session.plan.shots) == 4
    shot_list.add_from_cameras(session)
    assert "already have shots" in window.says.text()
    out = tmp_path / "out.otio"
    monkeypatch.setattr("PySide6.QtWidgets.QFileDialog.getSaveFileName", lambda *_a: (str(out), ""))
    window.exports.ask_and_write("otio")
    user.wait(out.exists)


def test_cues_are_made_named_stretched_read_and_written(user, tmp_path):
    window, session = user.window, user.window.session
    page = page_of(user, "Cues")
    session.show_frame(1020)
    before = window.chart.grab().toImage()
    page.add()
    user.type(page.title, "Looks up")
    assert Cue(name="Looks up", first=1020) in session.shot.cues
    assert session.history.last.name == "Cue Looks up"
    session.show_frame(1028)
    page.end_here()
    assert Cue(name="Looks up", first=1020, last=1028) in session.shot.cues
    user.type(page.first, "1024")
    user.type(page.last, "1022")
    assert Cue(name="Looks up", first=1022) in session.shot.cues
    QApplication.processEvents()
    assert window.chart.grab().toImage() != before
    page.write(tmp_path / "cues.csv")
    page.remove()
    assert [cue.name for cue in session.shot.cues] == ["He turns", "First word"]
    page.read(tmp_path / "cues.csv")
    assert [cue.name for cue in session.shot.cues] == ["Looks up", "He turns", "First word"]
    (tmp_path / "bad.csv").write_text("name,first\nx,y\n")
    page.read(tmp_path / "bad.csv")
    assert "line 2" in window.says.text()
    page.table.selectRow(1)
    assert session.frame == 1037
    page.table.selectRow(2)
    assert page.title.text() == "First word"  # not what was typed for another cue
    user.type(page.title, "Second word")
    page.table.selectRow(0)
    assert page.title.text() == "Looks up"
    assert [cue.name for cue in session.shot.cues] == ["Looks up", "He turns", "Second word"]
    page.write(tmp_path / "missing" / "cues.csv")
    assert "cannot be written" in window.says.text()


def test_a_dragged_mark_snaps_to_cues_and_to_other_marks_unless_alt_is_held(user):
    session, chart = user.window.session, user.window.chart
    marks = tuple(Mark(frame=f, target=DistanceTarget(metres=d)) for f, d in ((1010, 3.1), (1060, 5.2)))
    session.edit_shot("Two", lambda shot: shot.replace(marks=marks))
    session.show_frame(1090)
    start = chart.mark_place(marks[1])
    high = chart.mark_place(marks[0]).y()
    off = chart.x_of(1067) - chart.x_of(1066)
    goal = QPointF(chart.x_of(1066) + min(off * 0.9, 6), high + 4)
    user.drag(chart, start, goal)
    assert session.shot.marks[1].frame == 1066
    assert session.shot.marks[1].target == marks[0].target
    session.undo()
    drag_with(chart, start, goal + QPointF(0, 2), ALT)
    free = session.shot.marks[1]
    assert free.frame == chart.frame_at(goal.x())
    assert free.target != marks[0].target


def test_several_marks_are_drawn_apart_and_changed_by_numbers(user):
    session, chart = user.window.session, user.window.chart
    marks = tuple(
        Mark(frame=f, target=DistanceTarget(metres=d)) for f, d in ((1010, 2), (1020, 4), (1030, 8))
    )
    session.edit_shot("Three", lambda shot: shot.replace(marks=marks))
    page = page_of(user, "Marks")
    session.selection.marks = (1010,)
    for frame in (1020, 1030):
        session.selection.toggle_mark(frame)
    drag_with(
        chart,
        chart.mark_place(marks[2]),
        chart.mark_place(marks[2]) + QPointF(chart.x_of(1050) - chart.x_of(1030), 0),
        ALT,
    )
    assert [m.frame for m in session.shot.marks] == [1010, 1030, 1050]
    assert session.history.last.name == "Scale marks"
    pulling.stretch_to(session, 1010, 1030)
    assert [m.frame for m in session.shot.marks] == [1030, 1040, 1050]
    user.type(page.span, "40")
    assert [m.frame for m in session.shot.marks] == [1030, 1050, 1070]
    user.type(page.frame, "1005")
    assert [m.frame for m in session.shot.marks] == [1005, 1025, 1045]
    page.span.taken.emit(40.0)  # as when it is left after the marks were let go of
    pulling.set_ease(session, session.shot.marks[0], "even")
    assert [m.ease for m in session.shot.marks] == ["even"] * 3
    assert session.history.last.name == "Ease of 3 marks"


def test_a_mark_on_a_free_point_with_a_path_of_its_own(user):
    window, session = user.window, user.window.session
    page = page_of(user, "Marks")
    session.edit_shot("One", lambda shot: shot.replace(marks=shot.marks[:1]))
    session.selection.marks = (1001.0,)
    before = float(session.survey.camera.focus_m[0])
    page.target.setCurrentIndex(page.target.findData("point"))
    page.target.activated.emit(page.target.currentIndex())
    assert isinstance(session.shot.marks[0].target, PointTarget)
    assert float(session.survey.camera.focus_m[0]) == pytest.approx(before)
    assert page.point[0].isVisible()
    assert not page.metres.isVisible()
    page.point_key.click()
    session.show_frame(1080)
    pose = session.camera.pose
    away = pose[:3, 3] - 7.0 * pose[:3, 2]
    for field, metres in zip(page.point, away, strict=True):
        user.type(field, f"{metres:.6f} m")
    assert [key.frame for key in session.shot.marks[0].target.keys] == [1001, 1080]
    assert float(session.camera.focus_m) == pytest.approx(7.0, abs=0.02)
    assert float(session.survey.camera.focus_m[0]) == pytest.approx(before)
    # D and a click put the point where the pointer is
    window.picture.focus_key_held = True
    user.wait(lambda: session.stage.built)
    user.click(window.picture, window.picture.frame_rect().center() + QPointF(0, 20))
    window.picture.focus_key_held = False
    assert len(session.shot.marks) == 1
    assert session.shot.marks[0].target.keys[-1].position_m != tuple(away)
    page.point_key.click()
    assert len(session.shot.marks[0].target.keys) == 1
    # dragged in the chart it keeps its point
    chart, mark = window.chart, session.shot.marks[0]
    QTest.mouseMove(chart, QPointF(5, 5).toPoint())
    user.drag(chart, chart.mark_place(mark), chart.mark_place(mark) + QPointF(60, 40))
    assert session.shot.marks[0].target == mark.target
    assert session.shot.marks[0].frame > 1001


def test_the_lane_tells_speed_and_jerks_are_struck_through(user):
    window, session, chart = user.window, user.window.session, user.window.chart
    before = chart.grab().toImage()
    session.edit_shot("Tame", lambda shot: shot.replace(ring=shot.ring.replace(most_deg_s2=50.0)))
    QApplication.processEvents()
    assert pace(session.shot, session.survey).too_jerky.any()
    assert chart.grab().toImage() != before
    user.wait(
        lambda: any(
            "Ring acceleration" in w for w in (session.sight_report.warnings if session.sight_report else ())
        )
    )
    page = page_of(user, "Marks").timing
    user.type(page.hardest, "20000")
    assert session.shot.ring.most_deg_s2 == 20000
    assert not pace(session.shot, session.survey).too_jerky.any()
    assert chart.lane > 0
    window.resize(1280, 620)
    QApplication.processEvents()


def test_handles_of_an_own_ease_are_dragged_in_the_chart(user):
    session, chart = user.window.session, user.window.chart
    session.selection.marks = (1037.0,)
    pulling.set_ease(session, pulling.mark_in_work(session), "own")
    QApplication.processEvents()
    first, second = chart.own_eases()[0].places
    assert first.x() == pytest.approx(chart.x_of(1037) + 0.4 * (chart.x_of(1061) - chart.x_of(1037)))
    before = session.survey.camera.focus_m.copy()
    user.drag(chart, second, QPointF(chart.x_of(1043), second.y()))
    mark = pulling.mark_in_work(session)
    assert mark.handles[2] == pytest.approx(0.25, abs=0.02)
    assert mark.handles[:2] == (0.4, 0.0)
    assert session.history.last.name == "Handles of the ease"
    changed = session.survey.frames[session.survey.camera.focus_m != before]
    assert changed.min() > 1037
    assert changed.max() < 1061
    session.selection.marks = (1001.0,)
    assert chart.own_eases() == []


def test_marks_go_to_a_table_and_come_back_as_a_list(user):
    window, session, chart = user.window, user.window.session, user.window.chart
    clipboard = QApplication.clipboard()
    chart.setFocus()
    user.key(Qt.Key.Key_A, CTRL, chart)
    user.key(Qt.Key.Key_C, CTRL, chart)
    assert clipboard.text().splitlines() == [
        "1001\tLantern",
        "1037\tLantern",
        "1061\tFerryman",
        "1096\tFerryman",
    ]
    page = page_of(user, "Marks")
    clipboard.setText("1020 ferryman\n\n1037; 3.2 m\n1050,#4\n")
    page.paste.click()
    targets = {m.frame: m.target for m in session.shot.marks}
    assert sorted(targets) == [1001, 1020, 1037, 1050, 1061, 1096]
    assert targets[1037] == DistanceTarget(metres=3.2)
    assert (targets[1020].number, targets[1050].number) == (2, 4)
    assert session.history.last.name == "3 marks of a list"
    for text, why in (
        ("1001 lighthouse", "neither a distance nor a subject. Subjects: Lantern, "),
        ("soon", "Line 1, “soon”"),
        ("5 2 m\n5 3 m", "another mark at frame 5"),
        ("", "no marks"),
    ):
        clipboard.setText(text)
        page.paste.click()
        assert why in window.says.text()
    assert len(session.shot.marks) == 6


def test_only_the_frames_that_an_edit_changed_are_painted_anew_and_look_as_if_all_were(user, monkeypatch):
    session, chart = user.window.session, user.window.chart
    session.edit_shot("Brief", lambda shot: shot.replace(brief=()))
    chart.grab()
    again = []
    paint = layers.paint_lines
    monkeypatch.setattr(layers, "paint_lines", lambda *a: (again.append(a[2].rows), paint(*a)))
    session.edit_shot("Slide", lambda shot: pulls.move_mark(shot, 1061, 1066))
    mended = chart.grab().toImage()
    ((first, last),) = again
    assert first + last == 37 + 64, "frames 37 to 64, and as many on both sides where lines join"
    assert 2 <= 37 - first < 8
    other = PullChart(session)
    other.resize(chart.size())
    fresh = other.grab().toImage()
    differing = sum(
        mended.pixel(x, y) != fresh.pixel(x, y) for x in range(mended.width()) for y in range(mended.height())
    )
    assert differing < 60  # where lines join, an edge may be smoothed otherwise
    session.edit_shot("Ring", lambda shot: shot.replace(ring=shot.ring.replace(most_deg_s=5.0)))
    assert chart.grab().toImage() != fresh


def test_several_marks_are_lifted_together_and_those_on_subjects_stay(user):
    session, chart = user.window.session, user.window.chart
    marks = (
        Mark(frame=1010, target=DistanceTarget(metres=4.0)),
        Mark(frame=1030, target=DistanceTarget(metres=5.0)),
        session.shot.marks[2],
    )
    session.edit_shot("Three", lambda shot: shot.replace(marks=marks))
    session.selection.marks = (1010.0,)
    for frame in (1030.0, 1061.0):
        session.selection.toggle_mark(frame)
    at = chart.mark_place(marks[0])
    user.drag(chart, at, at + QPointF(0, 40))
    lifted = session.shot.marks
    assert [m.frame for m in lifted] == [1010, 1030, 1061]
    by = [
        1 / new.target.metres - 1 / old.target.metres for new, old in zip(lifted[:2], marks[:2], strict=True)
    ]
    assert by[0] > 0.02
    assert by[0] == pytest.approx(by[1], rel=1e-6)
    assert lifted[2] == marks[2]
    assert session.history.last.name == "Move marks"


def test_a_rack_that_shows_nothing_is_told_in_the_chart(user):
    session, chart = user.window.session, user.window.chart
    session.set_keyed("Stop", "f_number", 22.0)
    QApplication.processEvents()
    found = unseen_racks(session.shot, session.survey)
    assert [(rack.before.frame, rack.after.frame) for rack in found] == [(1037, 1061)]
    assert found[0].would.startswith("f/")
    told = chart.grab().toImage()
    session.set_keyed("Stop", "f_number", 1.4)
    assert unseen_racks(session.shot, session.survey) == []
    assert chart.grab().toImage() != told
