"""Pulls at work in the window: drawn, eased, held, searched, moved together, copied."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.chart.keys import LINES
from kobrel.plan.keys import Key
from kobrel.plan.measure.pace import closest_m
from kobrel.plan.model import DistanceTarget, Mark, SubjectTarget
from kobrel.session.commands import pulling
from tests.desk.conftest import by_name

SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def user(demo_user):
    demo_user.key(Qt.Key.Key_5)
    return demo_user


def line_place(chart, subject, frame):
    """Where a subject's line stands in the chart at a frame."""
    numbers = chart._session.survey
    row, column = numbers.subjects.index(subject), numbers.index_of(frame)
    return QPointF(chart.x_of(frame), chart.scale().px(float(numbers.focus_distance_m[row, column])))


def drag(widget, start, end, keys):
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, keys, start.toPoint())
    for part in (0.3, 0.7, 1.0):
        QTest.mouseMove(widget, (start * (1 - part) + end * part).toPoint())
        QApplication.processEvents()
    QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, keys, end.toPoint())
    QApplication.processEvents()


def test_a_pull_is_drawn_between_two_subjects_made_to_hunt_slid_and_held(user):
    window, session = user.window, user.window.session
    chart, card = window.chart, window.cards[5]
    drag(chart, line_place(chart, 1, 1020), line_place(chart, 2, 1044), SHIFT)
    drawn = [m for m in session.shot.marks if 1018 <= m.frame <= 1046]
    assert [m.target for m in drawn] == [SubjectTarget(number=1), SubjectTarget(number=2)]
    assert session.history.last.name == "Pull from Lantern to Ferryman"
    numbers = session.survey
    for mark in drawn:
        column, row = numbers.index_of(mark.frame), numbers.subjects.index(mark.target.number)
        assert numbers.sight.blur_px[row, column] < 0.01
    # it hunts
    card.show_page("Marks")
    page = card.marks.timing
    assert "Lantern" in page.way.text()
    assert "Ferryman" in page.way.text()
    before = session.survey.camera.focus_m.copy()
    page.searches.click()
    user.type(by_name(page, "Overshoot"), "0.3")
    user.type(by_name(page, "Swings"), "3")
    changed = np.abs(1 / session.survey.camera.focus_m - 1 / before) > 1e-6
    arrives = drawn[1].frame
    assert changed.any()
    assert not changed[: int(arrives - 1001) + 1].any()
    # slid, with what belongs to it
    session.selection.marks = (drawn[0].frame,)
    session.selection.toggle_mark(drawn[1].frame)
    place = chart.mark_place(drawn[0])
    drag(
        chart, place, place + QPointF(chart.x_of(1010) - chart.x_of(1002), 0), Qt.KeyboardModifier.NoModifier
    )
    moved = [m for m in session.shot.marks if m.search is not None]
    assert [m.frame for m in moved] == [drawn[0].frame + 8]
    assert session.history.last.name == "Move marks"
    # held, and turned into plain marks
    session.show_frame(moved[0].frame + 4)
    pulling.hold_here(session, moved[0])
    mark = next(m for m in session.shot.marks if m.search is not None)
    assert mark.leaves == moved[0].frame + 4
    session.selection.marks = (mark.frame,)
    many = len(session.shot.marks)
    page.as_marks.click()
    assert len(session.shot.marks) > many
    assert not any(m.search for m in session.shot.marks)
    session.undo()
    assert len(session.shot.marks) == many


def test_every_ease_is_chosen_and_own_handles_are_dragged(user):
    window, session = user.window, user.window.session
    card = window.cards[5]
    card.show_page("Marks")
    page = card.marks.timing
    at = next(k for k, m in enumerate(session.shot.marks) if m.target != session.shot.marks[k + 1].target)
    leaves, arrives = (mark.frame for mark in session.shot.marks[at : at + 2])
    session.selection.marks = (leaves,)
    column = int(leaves + 0.3 * (arrives - leaves) - 1001)
    seen = set()
    for kind in pulling.EASES:
        page.ease.setCurrentIndex(page.ease.findData(kind))
        page.ease.activated.emit(page.ease.currentIndex())
        assert session.shot.marks[at].ease == kind
        seen.add(round(float(session.survey.camera.focus_m[column]), 6))
    assert len(seen) == len(pulling.EASES)
    first = page.curve.handle_places()[0]
    user.drag(page.curve, first, first + QPointF(30, -25))
    assert session.shot.marks[at].handles[0] > 0.4
    assert session.shot.marks[at].handles[1] > 0.1
    assert session.history.last.name == "Handles of the ease"
    page.by.setCurrentIndex(page.by.findData("metres"))
    page.by.activated.emit(page.by.currentIndex())
    assert session.shot.marks[at].by == "metres"
    last = session.shot.marks[-1].frame
    session.selection.marks = (last,)
    QApplication.processEvents()
    assert not page.ease.isEnabled()
    assert "Last mark" in page.way.text()


def test_a_hold_is_typed_and_taken_back(user):
    session, card = user.window.session, user.window.cards[5]
    card.show_page("Marks")
    mark, after = session.shot.marks[:2]
    session.selection.marks = (mark.frame,)
    user.type(card.marks.timing.until, f"{mark.frame + 5:g}")
    assert session.shot.marks[0].until == mark.frame + 5
    user.type(card.marks.timing.until, f"{after.frame + 50:g}")
    assert session.shot.marks[0].until == after.frame - 1
    user.type(card.marks.timing.until, f"{mark.frame:g}")
    assert session.shot.marks[0].until is None
    session.show_frame(mark.frame)
    pulling.hold_here(session, session.shot.marks[0])
    assert "after the mark" in user.window.says.text()


def test_several_marks_are_chosen_copied_mirrored_and_deleted(user):
    window, session = user.window, user.window.session
    chart = window.chart
    marks = tuple(
        Mark(frame=f, target=DistanceTarget(metres=d)) for f, d in ((1010, 2), (1016, 4), (1030, 8))
    )
    session.edit_shot("Three", lambda shot: shot.replace(marks=marks))
    user.click(chart, chart.mark_place(marks[0]))
    for mark in marks[1:]:
        QTest.mouseClick(chart, Qt.MouseButton.LeftButton, CTRL, chart.mark_place(mark).toPoint())
    assert pulling.chosen_frames(session) == [1010, 1016, 1030]
    pulling.move_by(session, 0, -1.0)
    assert [m.frame for m in session.shot.marks] == [1010, 1024, 1030]
    assert session.history.last.name == "Mirror marks"
    session.undo()
    user.key(Qt.Key.Key_A, CTRL, chart)
    user.key(Qt.Key.Key_C, CTRL, chart)
    assert "3 marks copied" in window.says.text()
    session.show_frame(1050)
    user.key(Qt.Key.Key_V, CTRL, chart)
    assert [m.frame for m in session.shot.marks] == [1010, 1016, 1030, 1050, 1056, 1070]
    assert pulling.chosen_frames(session) == [1050, 1056, 1070]
    user.key(Qt.Key.Key_Delete, widget=chart)
    assert [m.frame for m in session.shot.marks] == [1010, 1016, 1030]
    user.key(Qt.Key.Key_A, CTRL, chart)
    user.key(Qt.Key.Key_Delete, widget=chart)
    assert len(session.shot.marks) == 3
    assert "at least one mark" in window.says.text()
    pulling.move_by(session, -500)
    assert session.shot.marks[0].frame <= 1010


def test_a_pull_over_no_frames_is_told(user):
    chart = user.window.chart
    place = line_place(chart, 1, 1020)
    drag(chart, place, place + QPointF(0, 30), SHIFT)
    assert "Shift-drag from" in user.window.says.text()
    pulling.paste(user.window.session, [])
    assert "Nothing copied" in user.window.says.text()


def test_keys_of_stop_and_focal_length_are_dragged_on_their_own_scales(user):
    """A pull to deep focus: the iris closes at the end, by user."""
    session, chart = user.window.session, user.window.chart
    session.edit_keyed(
        "Stop",
        "f_number",
        lambda k: k.with_key(Key(frame=1060, value=1.4)).with_key(Key(frame=1090, value=1.4)),
    )
    stop, focal = LINES
    places = dict(chart.keys.places(stop))
    goal = QPointF(chart.x_of(1085), stop.y(11.0, chart.keys.top, chart.keys.bottom))
    user.drag(chart, places[1090], goal)
    keys = session.shot.glass.f_number.keys
    assert [key.frame for key in keys] == [1060, 1085]
    assert keys[1].value == pytest.approx(11.0, rel=0.06)
    assert keys[0].value == 1.4
    assert session.history.last.name == "Stop key"
    stops = session.survey.camera.f_number
    assert stops[0] == pytest.approx(1.4)
    assert stops[-1] == pytest.approx(keys[1].value)
    user.drag(chart, dict(chart.keys.places(stop))[1085], QPointF(chart.x_of(1030), goal.y()))
    assert session.shot.glass.f_number.keys[1].frame == 1061
    before = chart.grab().toImage()
    session.edit_keyed("Focal length", "focal_mm", lambda k: k.with_key(Key(frame=1020, value=50.0)))
    QApplication.processEvents()
    assert chart.grab().toImage() != before
    held = chart.keys.at(chart.keys.places(focal)[0][1])
    assert held.line is focal
    chart.keys.remove(held)
    assert session.shot.glass.focal_mm.keys == ()
    assert session.history.last.name == "Remove focal length key at 1020"


def test_keys_have_eases_and_handles_of_their_own(user):
    window, session, chart = user.window, user.window.session, user.window.chart
    page = window.cards[5].marks
    session.edit_keyed(
        "Stop",
        "f_number",
        lambda k: k.with_key(Key(frame=1060, value=1.4)).with_key(Key(frame=1090, value=11.0)),
    )
    session.show_frame(1040)
    box = page.key_eases[LINES[0]]
    assert not box.isVisible()
    session.show_frame(1075)
    assert box.isVisible()
    seen = set()
    for kind in pulling.EASES:
        box.setCurrentIndex(box.findData(kind))
        box.activated.emit(box.currentIndex())
        assert session.shot.glass.f_number.keys[0].ease == kind
        seen.add(round(float(session.survey.camera.f_number[70]), 4))
    assert len(seen) == len(pulling.EASES)
    assert session.history.last.name == "Ease of stop key at 1060"
    QApplication.processEvents()
    first, _second = chart.own_eases()[-1].places
    before = session.survey.camera.f_number.copy()
    user.drag(chart, first, QPointF(chart.x_of(1084), first.y()))
    key = session.shot.glass.f_number.keys[0]
    assert key.handles[0] == pytest.approx(0.8, abs=0.02)
    assert key.handles[2:] == (0.6, 1.0)
    assert session.history.last.name == "Handles of the stop"
    after = session.survey.camera.f_number
    assert (after[60:88] < before[60:88]).all(), "the iris closes later"
    np.testing.assert_array_equal(after[:60], before[:60])
    user.drag(chart, dict(chart.keys.places(LINES[0]))[1060], QPointF(chart.x_of(1050), 300.0))
    moved = session.shot.glass.f_number.keys[0]
    assert (moved.frame, moved.ease, moved.handles) == (1050, "own", key.handles)
    session.show_frame(1030)
    held = chart.keys.at(chart.keys.places(LINES[0])[0][1])
    assert chart.keys.ease_of(held) == "own"
    chart.keys.set_ease(held, "late")
    assert session.frame == 1050
    assert chart.own_eases() == []
    last = chart.keys.at(chart.keys.places(LINES[0])[1][1])
    assert chart.keys.ease_of(last) is None


def test_a_pull_that_is_too_fast_is_outlined_and_told(user):
    window, session = user.window, user.window.session
    card = window.cards[5]
    card.show_page("Marks")
    page, chart = card.marks.timing, window.chart
    assert "dpt/s" in page.fastest.text()
    assert page.fastest.property("role") == ""
    before = chart.grab().toImage()
    user.type(page.most, "10")
    assert session.shot.ring.most_deg_s == 10
    assert page.fastest.property("role") == "wrong"
    QApplication.processEvents()
    assert chart.grab().toImage() != before
    user.wait(
        lambda: any(
            "Lengthen the pull" in line
            for line in (session.sight_report.warnings if session.sight_report else ())
        )
    )
    slow = float(page.fastest.text().split(", ")[1].split("°")[0])
    user.type(page.throw, "540")
    assert float(page.fastest.text().split(", ")[1].split("°")[0]) == pytest.approx(2 * slow, abs=1.5)


def test_a_pull_is_performed_by_the_wheel_while_the_shot_plays(user):
    window, session = user.window, user.window.session
    session.edit_shot("Short", lambda shot: shot.replace(last=1030, marks=shot.marks[:1]))
    card = window.cards[5]
    card.show_page("Live pull")
    page = card.live_pull
    session.show_frame(1010)
    before = session.shot
    page.record.click()
    assert page.performer.recording
    assert page.record.text() == "Stop recording"
    start = page.performer.value
    middle = QPointF(page.dial.rect().center())
    while page.performer.recording:
        user.wheel(page.dial, middle, 1)
        user.rest(0.03)
    assert not window.player.playing
    assert page.record.text() == "Record"
    assert "marks within" in window.says.text()
    focus = 1 / session.survey.camera.focus_m
    assert focus[0] == pytest.approx(start, abs=0.05)
    assert focus[-1] > start + 0.02
    assert len(session.shot.marks) < 30
    session.undo()
    assert session.shot == before
    # a dial that is turned while nothing is recorded puts the focus
    at = float(session.camera.focus_m)
    user.key(Qt.Key.Key_Up, widget=page.dial)
    assert float(session.camera.focus_m) < at
    user.drag(page.dial, middle + QPointF(0, -80), middle + QPointF(-80, 0))
    assert float(session.camera.focus_m) > at
    # another shot ends it and stays what it was
    page.record.click()
    other = session.plan.shots[2]
    session.show_shot(2)
    assert not page.performer.recording
    assert session.plan.shots[2] == other
    session.show_shot(1)
    user.wait(lambda: not window.player.playing)
    # ended early, it keeps what was performed
    page.record.click()
    user.wait(lambda: session.frame >= 1006)
    page.record.click()
    assert not page.performer.recording
    user.wait(lambda: not window.player.playing)


def test_a_pull_is_performed_with_the_hand_wheel(user):
    window, session = user.window, user.window.session
    session.edit_shot("Short", lambda shot: shot.replace(last=1060, marks=shot.marks[:1]))
    window.cards[5].show_page("Live pull")
    page = window.cards[5].live_pull
    page.use_wheel.click()
    user.wait(lambda: page.performer.wheel_dpt is not None)
    user.wait(lambda: page.at.text() != "–")
    seen = []
    page.wheel.turned.connect(seen.append)
    page.record.click()
    user.wait(lambda: not page.performer.recording)
    focus = 1 / session.survey.camera.focus_m
    near = closest_m(session.shot)
    assert focus.max() <= (1 - min(seen)) / near + 0.02
    assert focus.min() >= (1 - max(seen)) / near - 0.02
    assert 1 <= len(session.shot.marks) < 60
    page.use_wheel.click()
    user.wait(lambda: not page.wheel.connected)
    assert page.at.text() == "–"
    page.wheel.connect_to("127.0.0.1", 1)
    user.wait(lambda: "does not answer" in window.says.text())


def test_alts_are_kept_taken_and_forgotten(user):
    window, session = user.window, user.window.session
    page = user.panel(window.alts)
    first = session.shot.marks
    user.type(page.title, "As planned")
    demo_alt = "Later, f/4"
    assert [alt.name for alt in session.shot.alts] == [demo_alt, "As planned"]
    assert session.history.last.name == "Save alt As planned"
    session.edit_shot("Other", lambda shot: shot.replace(marks=shot.marks[:1]))
    session.set_keyed("Stop", "f_number", 8.0)
    page.keep()
    assert [alt.name for alt in session.shot.alts] == [demo_alt, "As planned", "Alt 1"]
    assert page.table.item(2, 0).text() == "● Alt 1"
    assert "f/8" in page.table.item(2, 1).text()
    page.table.selectRow(1)
    page.take()
    assert session.shot.marks == first
    assert page.table.item(1, 0).text() == "● As planned"
    page.remove()
    assert [alt.name for alt in session.shot.alts] == [demo_alt, "Alt 1"]
    page.table.clearSelection()
    page.take()
    assert "Select an alt" in window.says.text()


def test_a_mark_that_goes_while_it_is_dragged_is_let_go(user):
    """As when undo, or a recording, takes it away beneath the user."""
    session, chart = user.window.session, user.window.chart
    session.edit_keyed("Stop", "f_number", lambda k: k.with_key(Key(frame=1040, value=2.0)))
    QApplication.processEvents()
    key = chart.keys.places(LINES[0])[0][1]
    for place, take_away in (
        (chart.mark_place(session.shot.marks[1]), lambda shot: shot.replace(marks=shot.marks[:1])),
        (
            key,
            lambda shot: shot.replace(
                glass=shot.glass.replace(f_number=shot.glass.f_number.replace(keys=()))
            ),
        ),
    ):
        QTest.mousePress(chart, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place.toPoint())
        session.edit_shot("Away", take_away)
        before = session.plan
        QTest.mouseMove(chart, (place + QPointF(40, 10)).toPoint())
        QApplication.processEvents()
        assert session.plan == before
        QTest.mouseRelease(chart, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place.toPoint())
        assert not session.dragging
        session.undo()
