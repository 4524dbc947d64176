"""Every drag in every view: Esc puts back what was before it."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel

from kobrel.desk.cards.base import Card
from kobrel.plan import edit
from kobrel.plan.keys import Key
from kobrel.plan.model import CameraEnd, DistanceTarget, Mark, PointAnchor, SubjectTarget
from kobrel.session.commands import blocking
from kobrel.session.selection import ChosenTape

NONE, LEFT, RIGHT = Qt.KeyboardModifier.NoModifier, Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton


@pytest.fixture
def user(demo_user):
    session = demo_user.window.session
    blocking.place(session, "box", (0.0, 0.0, 2.0))
    plan, _tape = edit.add_tape(session.plan, "Free", CameraEnd(), PointAnchor(position_m=(0.3, 1.0, 2.0)))
    session.edit("tape", plan)
    session.edit_keyed("Stop", "f_number", lambda k: k.with_key(Key(frame=1040, value=2.0)))
    session.edit_shot("own", lambda s: s.replace(marks=tuple(m.replace(ease="own") for m in s.marks)))
    QApplication.processEvents()
    return demo_user


def barrel_index(window):
    barrel = window.barrel
    scale = barrel.scale()
    return barrel, QPointF(scale.px(float(window.session.camera.focus_m)), barrel.line_y - 12)


def barrel_limit(window):
    barrel = window.barrel
    limit = float(window.session.camera.limits_m[1])
    return barrel, QPointF(barrel.scale().px(limit), barrel.line_y - 4)


def chart_mark(window):
    return window.chart, window.chart.mark_place(window.session.shot.marks[1])


def chart_key(window):
    from kobrel.desk.chart.keys import LINES

    return window.chart, window.chart.keys.places(LINES[0])[0][1]


def chart_scrub(window):
    return window.chart, QPointF(window.chart.x_of(1020), window.chart.height() - 60.0)


def overhead_box(window):
    return window.overhead, window.overhead.where((0.0, 0.0, 2.0))


def overhead_width(window):
    return window.overhead, dict(window.overhead.stand_ins.handles())["width"]


def overhead_focus(window):
    overhead, camera = window.overhead, window.session.camera
    there = camera.pose[:3, 3] - camera.pose[:3, 2] * float(camera.focus_m) + camera.pose[:3, 0] * 0.6
    return overhead, overhead.where(there)


def tape_end(window):
    window.session.selection.item = ChosenTape("Free")
    QApplication.processEvents()
    return window.overhead, window.overhead.where((0.3, 1.0, 2.0))


def ease_handle(window):
    page = shown(window, 5, "Marks").timing
    return page.curve, page.curve.handle_places()[0]


def dial(window):
    page = shown(window, 5, "Live pull")
    return page.dial, QPointF(page.dial.rect().center()) + QPointF(0, -80)


def key_light(window):
    page = shown(window, 1, "Lighting")
    return page.dial, page.dial.place()


def label_of_stop(window):
    page = shown(window, 3, "Lens")
    label = next(text for text in page.findChildren(QLabel) if text.buddy() is page.stop)
    return label, QPointF(label.rect().center())


def shown(window, card, page):
    made = window.show_page(card, page)
    assert isinstance(made, Card)
    QApplication.processEvents()
    return made


@pytest.mark.parametrize(
    "begin",
    [
        barrel_index, barrel_limit, chart_mark, chart_key, chart_scrub, overhead_box, overhead_width,
        overhead_focus, tape_end, ease_handle, dial, key_light, label_of_stop,
    ],
)  # fmt: skip
def test_escape_cancels_a_drag_and_puts_back_what_was(user, begin):
    session = user.window.session
    session.show_frame(1050)
    view, at = begin(user.window)
    before, history, frame = session.plan, session.history, session.frame
    QTest.mousePress(view, LEFT, NONE, at.toPoint())
    for step in (6, 14, 24):
        QTest.mouseMove(view, (at + QPointF(step, step)).toPoint())
        QApplication.processEvents()
    assert session.dragging
    moved = session.plan != before or session.frame != frame
    assert moved, "the drag does something"
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert not session.dragging
    assert (session.plan, session.frame) == (before, frame)
    assert session.history is history
    QTest.mouseMove(view, (at + QPointF(40, 40)).toPoint())
    QTest.mouseRelease(view, LEFT, NONE, at.toPoint())
    assert session.plan == before, "what follows belongs to no drag any more"


def test_escape_stops_a_walk_where_it_began(user):
    window, session = user.window, user.window.session
    start = session.camera.pose.copy()
    at = QPointF(window.picture.rect().center())
    QTest.mousePress(window.picture, RIGHT, NONE, at.toPoint())
    QTest.mouseMove(window.picture, (at + QPointF(60, 20)).toPoint())
    QApplication.processEvents()
    assert session.walk is not None
    QTest.keyClick(window.picture, Qt.Key.Key_Escape)
    assert session.walk is None
    np.testing.assert_allclose(session.camera.pose, start)
    QTest.mouseRelease(window.picture, RIGHT, NONE, at.toPoint())
    assert session.walk is None


def test_a_second_button_does_not_begin_another_drag(user):
    session = user.window.session
    barrel, at = barrel_index(user.window)
    QTest.mousePress(barrel, LEFT, NONE, at.toPoint())
    gesture = barrel.gesture
    QTest.mousePress(barrel, RIGHT, NONE, at.toPoint())
    assert barrel.gesture is gesture
    QTest.mouseRelease(barrel, RIGHT, NONE, at.toPoint())
    assert session.dragging
    QTest.mouseRelease(barrel, LEFT, NONE, at.toPoint())
    assert not session.dragging


def test_a_view_that_is_hidden_lets_go_of_its_drag(user):
    window, session = user.window, user.window.session
    view, at = ease_handle(window)
    before = session.plan
    QTest.mousePress(view, LEFT, NONE, at.toPoint())
    QTest.mouseMove(view, (at + QPointF(12, 12)).toPoint())
    assert session.dragging
    session.view.card = 3
    QApplication.processEvents()
    assert not session.dragging
    assert session.plan == before


def test_a_tag_of_the_subject_in_focus_is_clicked_and_the_cards_follow(user):
    """As it is in focus already the plan stays the same; the card must turn to it all the same."""
    window, session = user.window, user.window.session
    page = shown(window, 2, "Subjects")
    session.show_frame(1001)
    inside = session.subject_in_focus().number
    other = next(s.number for s in session.plan.subjects if s.number != inside)
    session.selection.subject = other
    assert page.subject().number == other
    row = session.survey.subjects.index(inside)
    user.click(window.picture, dict(window.picture.tag_places())[row])
    assert session.selection.subject == inside
    assert page.model.subject(page.list.currentIndex()).number == inside


def test_another_plan_ends_the_gestures_that_run(demo_user):
    """A drag in Barrel goes on while another plan is opened: it does nothing to that, and the release neither."""
    window, session = demo_user.window, demo_user.window.session
    barrel, place = barrel_index(window)
    QTest.mousePress(barrel, LEFT, NONE, place.toPoint())
    assert barrel.gesture is not None
    window.document.begin_empty()
    demo_user.opened()
    assert barrel.gesture is None
    before = session.plan
    for by in (10, 40, 90):
        QTest.mouseMove(barrel, (place + QPointF(by, 0)).toPoint())
    QTest.mouseRelease(barrel, LEFT, NONE, place.toPoint())
    assert session.plan is before
    assert not session.dragging


def test_a_subject_that_goes_while_focus_is_dragged_is_not_snapped_to(demo_user):
    window, session = demo_user.window, demo_user.window.session
    mark = Mark(frame=session.frame, target=DistanceTarget(metres=3.0))
    session.edit_shot("One mark", lambda shot: shot.replace(marks=(mark,)))
    barrel, place = barrel_index(window)
    flags, scale = barrel.flags(), barrel.scale()
    QTest.mousePress(barrel, LEFT, NONE, place.toPoint())
    session.edit("No subjects", session.plan.replace(subjects=session.plan.subjects[:1]))
    for flag in flags:
        QTest.mouseMove(barrel, QPointF(scale.px(flag.distance_m), place.y()).toPoint())
    QTest.mouseRelease(barrel, LEFT, NONE, place.toPoint())
    assert all(
        not isinstance(mark.target, SubjectTarget) or session.plan.subject(mark.target.number)
        for mark in session.shot.marks
    )
