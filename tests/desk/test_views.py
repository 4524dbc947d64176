import itertools
import math
import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QGuiApplication, QImage, QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QPushButton, QWidget

from kobrel.desk.cards.deck import NAMES
from kobrel.desk.cards.paged import PagedCard
from kobrel.desk.picture import copying
from kobrel.desk.toolkit.theme import DARK, LIGHT, theme
from kobrel.optics.units import measure
from kobrel.plan.measure.scales import DioptreScale
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import SubjectTarget
from kobrel.session import settings
from kobrel.session.commands.focusing import focus_on
from tests.desk.conftest import finished


@pytest.fixture
def user(demo_user):
    demo_user.rest()
    return demo_user


@given(st.floats(0.05, 20), st.floats(0.01, 1e5))
def test_places_and_distances_are_each_others_inverse(nearest, metres):
    scale = DioptreScale(nearest, 20, 900)
    assert scale.metres(scale.px(metres)) == pytest.approx(metres, rel=1e-6) or metres > 1e4 * nearest
    assert scale.px(math.inf) == 900
    assert scale.px(nearest) == pytest.approx(20)
    assert math.isinf(scale.metres(900))


@given(st.floats(0.05, 20), st.sampled_from(["m", "cm", "mm", "in", "ft"]))
def test_ticks_are_apart_and_in_order(nearest, unit):
    scale = DioptreScale(nearest, 20, 900)
    ticks = scale.ticks(measure(unit), 36)
    places = [scale.px(metres) for metres, _ in ticks]
    assert ticks[-1] == (math.inf, "∞")
    assert len(ticks) >= 6
    assert all(b - a >= 35.9 for a, b in itertools.pairwise(places))


def test_a_scale_begins_before_all_that_matters(demo):
    plan, stage = demo
    for shot in plan.shots:
        numbers = survey(plan, shot, stage)
        assert numbers.nearest_of_interest_m <= np.min(numbers.near_m)


def contrast(a, b):
    def luminance(colour):
        parts = [
            c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4
            for c in (colour.redF(), colour.greenF(), colour.blueF())
        ]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    light, dark = sorted((luminance(a), luminance(b)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize("look", [DARK, LIGHT])
def test_text_stands_out_in_both_looks(look):
    for ground in (look.base, look.panel, look.raised):
        for colour in (look.text, look.quiet, look.sharp, look.focus, look.nearer, look.farther, look.wrong):
            assert contrast(colour, ground) >= 4.5, (colour.name(), ground.name())
    assert contrast(look.on_focus, look.focus) >= 4.5


def test_a_click_on_a_tag_focuses_in_barrel_and_overhead(user):
    window, session = user.window, user.window.session
    session.show_frame(1020)
    user.rest()
    for view, places in (
        (window.barrel, window.barrel.tag_places()),
        (window.overhead, window.overhead.subject_places()),
    ):
        row, at = next((p[0], p[1]) for p in places if session.survey.subjects[p[0]] == 2)
        user.click(view, at)
        assert session.subject_in_focus() == SubjectTarget(number=2)
        session.undo()
        assert session.subject_in_focus() == SubjectTarget(number=1)
        assert row == 1


def test_surfaces_stand_in_overhead_at_their_distances(user):
    window, session = user.window, user.window.session
    overhead, camera = window.overhead, session.camera
    near, far = (float(x) for x in camera.limits_m)
    left, right = overhead._surface(
        camera, (-float(camera.half_widths()[0]), float(camera.half_widths()[0])), near
    )
    apex = overhead.place(0, 0)
    per_m = overhead.px_per_m()
    assert (apex.y() - left.y()) / per_m == pytest.approx(near)
    assert (right.x() - left.x()) / per_m == pytest.approx(2 * near * float(camera.half_widths()[0]))
    session.edit_glass("sphere", surface="sphere")
    user.rest()
    per_m = overhead.px_per_m()
    arc = overhead._surface(
        session.camera, (-float(camera.half_widths()[0]), float(camera.half_widths()[0])), far
    )
    for point in arc:
        assert math.hypot(point.x() - apex.x(), point.y() - apex.y()) / per_m == pytest.approx(far)


def test_subjects_stand_in_overhead_and_side_where_they_are(user):
    window, session = user.window, user.window.session
    pose = session.camera.pose
    head = session.survey
    for mode, (across, along) in {"Overhead": (0, 2), "Side": (2, 1), "Front": (0, 1)}.items():
        window.overhead.show_mode(mode)
        per_m, apex = window.overhead.px_per_m(), window.overhead.place(0, 0)
        places = dict(window.overhead.subject_places())
        from kobrel.plan.space.anchors import subject_points

        for row, number in enumerate(head.subjects):
            point = subject_points(session.plan.subject(number).anchor, [session.frame], session.stage)[0]
            local = pose[:3, :3].T @ (point - pose[:3, 3]) * (1, 1, -1)
            if local[2] > 0:
                assert (places[row].x() - apex.x()) / per_m == pytest.approx(local[across], abs=1e-6)
                assert (apex.y() - places[row].y()) / per_m == pytest.approx(local[along], abs=1e-6)


def test_dragging_the_focus_line_in_overhead(user):
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_2)
    user.rest()
    overhead = window.overhead
    start = QPointF(overhead.width() * 0.3, overhead.place(0, float(session.camera.focus_m)).y())
    goal = QPointF(start.x(), overhead.place(0, 5.0).y())
    user.drag(overhead, start, goal)
    assert float(session.camera.focus_m) == pytest.approx(5.0, rel=0.02)


def test_the_wheel_over_the_barrel_moves_the_focus_finely_with_shift(user):
    from PySide6.QtCore import QPoint
    from PySide6.QtGui import QWheelEvent
    from PySide6.QtWidgets import QApplication

    window, session = user.window, user.window.session

    def turn(modifier):
        before = 1 / float(session.camera.focus_m)
        at = QPointF(300, 60)
        event = QWheelEvent(
            at,
            window.barrel.mapToGlobal(at),
            QPoint(),
            QPoint(0, 120),
            Qt.MouseButton.NoButton,
            modifier,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(window.barrel, event)
        return before - 1 / float(session.camera.focus_m)

    coarse = turn(Qt.KeyboardModifier.NoModifier)
    fine = turn(Qt.KeyboardModifier.ShiftModifier)
    assert coarse > 0
    assert fine == pytest.approx(coarse / 10, rel=1e-3)


def test_the_barrel_snaps_to_a_subject(user):
    _window, session, barrel = user.window, user.window.session, user.window.barrel
    scale = barrel.scale()
    distance = float(session.survey.focus_distance_m[1, session.row])
    start = QPointF(scale.px(float(session.camera.focus_m)) + 1, barrel.line_y - 34)
    user.drag(barrel, start, QPointF(scale.px(distance) + 2, barrel.line_y - 34))
    assert session.subject_in_focus() == SubjectTarget(number=2)


def test_hovering_tells_what_is_there(user):
    window = user.window
    place = dict(window.picture.tag_places())[0] + QPointF(0, 12)
    QTest.mouseMove(window.picture, place.toPoint())
    user.rest(0.1)
    QTest.mouseMove(window.picture, (place + QPointF(1, 1)).toPoint())
    user.rest()
    assert "Lantern" in window.probe.text()
    assert "on axis" in window.probe.text()
    assert "px blur" in window.probe.text()


def test_f9_leaves_picture_barrel_and_chart(user):
    window = user.window
    window.chart.setFocus()
    user.key(Qt.Key.Key_F9)
    assert not window.cards.isVisible()
    assert not window.overhead.isVisible()
    assert window.picture.isVisible()
    assert window.barrel.isVisible()
    user.key(Qt.Key.Key_F9)
    assert window.cards.isVisible()


def test_v_flips_to_the_last_picture(user):
    window, session = user.window, user.window.session
    window.feed.flip()
    assert "No previous picture" in window.says.text()
    user.wait(lambda: finished(window))
    focus_on(session, SubjectTarget(number=2))
    user.wait(lambda: not finished(window))
    user.wait(lambda: finished(window))
    now = window.picture.image
    window.feed.flip()
    assert window.picture.status == "the last picture"
    assert window.picture.image != now
    window.feed.flip()
    assert window.picture.image == now


def test_tape_shows_distances_and_the_unit_changes_everywhere(user):
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_2)
    card = window.cards[2]
    tape = card.subjects
    tape.list.setCurrentIndex(tape.model.index(1))
    assert session.selection.subject == 2
    metres = float(session.survey.focus_distance_m[1, session.row])
    assert tape.distance.text() == f"{metres:.2f} m"
    card.unit.setCurrentIndex(card.unit.findData("ft"))
    card.unit.activated.emit(0)
    assert session.plan.unit == "ft"
    assert "'" in tape.distance.text()
    assert tape.model.words(1)[0] == tape.distance.text()
    tape.focus_button.click()
    assert session.subject_in_focus() == SubjectTarget(number=2)


def test_tape_says_which_distance_counts(user):
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_2)
    tape = window.cards[2].subjects
    tape.list.setCurrentIndex(tape.model.index(1))
    assert (tape.axial.property("role"), tape.straight.property("role")) == ("focus", "")
    assert tape.distance.text() == tape.axial.text() != tape.straight.text()
    session.edit_glass("sphere", surface="sphere")
    assert (tape.axial.property("role"), tape.straight.property("role")) == ("", "focus")
    assert tape.distance.text() == tape.straight.text()


def test_a_shot_is_chosen_in_the_column(user):
    window, session = user.window, user.window.session
    user.click(window.shots, QPointF(40, 10 + 96 * 3 + 20))
    assert session.shot.name == "04"
    window.shots.setFocus()
    QTest.keyClick(window.shots, Qt.Key.Key_Up)
    assert session.shot.name == "03"
    user.wait(lambda: len(window.shots.thumbnails) == 4)


def test_the_light_look_reaches_every_widget(user, qapp):
    user.window.session.view.theme = "light"
    assert theme() is LIGHT
    assert QColor(qapp.palette().window().color()) == LIGHT.base
    assert user.window.session.settings.get(settings.THEME) == "light"
    window = user.window
    seen = window.cards[window.session.view.card].findChild(QPushButton)
    hidden = window.cards[4].pages["Mask"].findChild(QPushButton)
    assert not hidden.isVisible()
    user.wait(lambda: hidden.grab().toImage().pixelColor(4, 4) == LIGHT.raised)
    assert seen.grab().toImage().pixelColor(4, 4) in (LIGHT.raised, LIGHT.focus, LIGHT.panel)
    window.session.view.theme = "dark"
    assert seen.grab().toImage().pixelColor(4, 4) in (DARK.raised, DARK.focus, DARK.panel)
    user.wait(lambda: hidden.grab().toImage().pixelColor(4, 4) == DARK.raised)


def test_every_colour_of_the_look_has_a_role_of_its_own():
    """By which the one style sheet knows it."""
    from kobrel.desk.toolkit import theme as look

    roles = list(look._ROLES.values())
    assert len(set(roles)) == len(roles)
    assert not re.search(r"#[0-9a-fA-F]{6}", look._sheet())


def test_pages_are_made_ahead_one_at_a_time_while_nothing_changes(user, monkeypatch):
    from kobrel.desk.cards import deck

    monkeypatch.setattr(deck, "_QUIET_S", 0.0)
    cards = user.window.cards
    cards.load()
    cards._ahead.setInterval(1)
    cards.make_ahead()
    kept = user.window.session.view.card, cards.currentIndex()
    user.wait(lambda: not cards._ahead.isActive())
    made = [cards.made(key) for key in NAMES]
    assert all(made)
    assert all(set(card.pages) == set(card.pages.made) for card in made if isinstance(card, PagedCard))
    assert (user.window.session.view.card, cards.currentIndex()) == kept


def test_no_page_is_made_ahead_while_something_changes(user):
    cards, session = user.window.cards, user.window.session
    cards.load()
    cards._ahead.setInterval(1)
    cards.make_ahead()
    session.show_frame(session.frame + 1)
    user.rest(0.3)
    assert cards._ahead.isActive()
    assert sum(cards.made(key) is not None for key in NAMES) < len(NAMES)


def test_a_shot_whose_camera_is_missing_says_so_and_stays_editable(user):
    window, session = user.window, user.window.session
    from kobrel.plan.model import FileCamera

    session.edit_shot("lost", lambda shot: shot.replace(camera=FileCamera(scene="ferry", path="/Nowhere")))
    user.rest()
    assert "/Nowhere" in window.says.text()
    assert session.camera is None
    for card in (2, 3, 4, 5):
        window.session.view.card = card
        user.rest(0.02)
    session.undo()
    assert session.camera is not None


def test_a_shot_without_its_camera_does_not_keep_the_others_from_their_ribbons(user):
    window, session = user.window, user.window.session
    from kobrel.plan.edit import with_shot
    from kobrel.plan.model import FileCamera

    lost = session.plan.shots[0].replace(camera=FileCamera(scene="ferry", path="/Nowhere"))
    session.edit("lost", with_shot(session.plan, 0, lost))
    sharp = DARK.sharp.name()
    user.wait(lambda: sharp in {c.name() for c in window.shots.ribbon(session.plan.shots[1])})
    user.wait(lambda: finished(window))
    user.rest(0.3)
    ribbons = {shot.name: window.shots.ribbon(shot) for shot in session.plan.shots}
    assert set(ribbons) == {"01", "02", "03", "04"}
    assert {c.name() for c in ribbons["01"]} == {DARK.wrong.name()}
    assert DARK.sharp.name() in {c.name() for c in ribbons["02"]}
    watcher = PaintCounter()
    window.shots.installEventFilter(watcher)
    window.shots.update()
    user.rest(0.3)
    assert 1 <= watcher.count < 5, "nothing is left to do, so nothing is painted over and over"


class PaintCounter(QObject):
    count = 0

    def eventFilter(self, _watched, event):
        self.count += event.type() == QEvent.Type.Paint
        return False


def test_ribbons_follow_the_look(user):
    user.window.session.view.theme = "light"
    shots = user.window.shots
    shot = user.window.session.plan.shots[1]
    user.wait(lambda: LIGHT.sharp.name() in {c.name() for c in shots.ribbon(shot)})
    user.window.session.view.theme = "dark"


def test_an_empty_window_offers_a_start(make_window):
    user = make_window()
    assert user.window.welcome.isVisible()
    assert not user.window.cards.isVisible()
    user.window.welcome.tiles[-2].click()
    user.opened()
    assert user.window.session.plan.name == "Night Ferry"
    assert user.window.picture.isVisible()
    assert user.window.cards.isVisible()


def test_every_control_has_a_name_and_a_tooltip(user):
    window = user.window
    for card in window.cards.values():
        for kind in (QLineEdit, QComboBox, QAbstractButton):
            for control in card.findChildren(kind):
                if (
                    isinstance(control.parent(), QComboBox)
                    or control.objectName().startswith("qt_")
                    or type(control) is QAbstractButton
                ):
                    continue
                assert control.accessibleName() or control.text(), control
                assert control.toolTip(), (control.accessibleName(), control)
    for view in (window.picture, window.overhead, window.barrel, window.chart, window.shots):
        assert isinstance(view, QWidget)
        assert view.accessibleName()
        assert view.statusTip()


def test_no_type_is_smaller_than_eleven_pixels():
    from kobrel.desk.toolkit.theme import font

    assert font(5).pixelSize() == 11


def test_the_picture_is_copied_with_and_without_tags_and_at_delivery_size(user):
    """What the clipboard has: the delivered frame alone, its tags on it, and the frame as it is delivered."""
    window, view = user.window, user.window.picture
    user.wait(lambda: view.image is not None)
    plain, tagged = view.seen(), view.seen(tags=True)
    box = view.frame_rect()
    assert plain.width() / plain.height() == pytest.approx(user.window.session.camera.aspect, rel=0.01)
    assert tagged.size().toTuple() == box.toRect().size().toTuple()
    _row, place = view.tag_places()[0]
    at = (place - box.topLeft()).toPoint()
    assert tagged.pixelColor(at) != plain.pixelColor(at * (plain.width() / box.width())), "a tag stands there"
    user.key(Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    content = QGuiApplication.clipboard().mimeData()
    assert content.hasImage()
    assert QGuiApplication.clipboard().image().size() == plain.size()
    texts = [action.text() for action in view.menu_at(box.center()).actions()]
    assert texts[-2:] == ["Copy picture", "Copy picture with tags"]
    user.window.session.edit_shot("Small", lambda shot: shot.replace(width_px=64))
    window.exports.copy_frame(samples=1)
    user.wait(lambda: QGuiApplication.clipboard().image().width() == 64)
    assert QGuiApplication.clipboard().image().height() == 36


def test_the_picture_is_dragged_out_by_its_handle_as_a_png(user, monkeypatch):
    view, dragged = user.window.picture, []
    user.wait(lambda: view.image is not None)
    handle = view.handle
    frame = view.frame_rect()
    assert frame.contains(QPointF(handle.geometry().center()))
    monkeypatch.setattr(copying, "drag_out", lambda _from, what, _image: dragged.append(what))
    before = user.window.session.plan
    QTest.mousePress(handle, Qt.MouseButton.LeftButton, pos=QPoint(5, 5))
    QTest.mouseMove(handle, QPoint(5, 60))
    move = QMouseEvent(QEvent.Type.MouseMove, QPointF(5, 60), QPointF(handle.mapToGlobal(QPoint(5, 60))),
                       Qt.MouseButton.LeftButton, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)  # fmt: skip
    QApplication.sendEvent(handle, move)
    QTest.mouseRelease(handle, Qt.MouseButton.LeftButton, pos=QPoint(5, 60))
    path = dragged[0].urls()[0].toLocalFile()
    assert path.endswith(f"_{user.window.session.frame:g}.png")
    assert QImage(path).size() == view.seen().size()
    assert user.window.session.plan is before, "no gesture of the picture was taken"
