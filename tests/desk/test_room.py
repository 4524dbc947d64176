"""The picture's room, its flags and loupe, keys after clicks, and walking by keyboard."""

import itertools
import math

import numpy as np
import pytest
from PySide6.QtCore import QPointF, QRect, QRectF, Qt
from PySide6.QtGui import QGuiApplication, QImage, QStatusTipEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from kobrel.desk.cards.deck import NAMES
from kobrel.desk.picture.loupe import cropped
from kobrel.desk.toolkit.labels import Labels
from kobrel.desk.window.states import fit
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.model import SubjectTarget
from kobrel.session import settings as remembered

SPACE, TAB = Qt.Key.Key_Space, Qt.Key.Key_Tab


@pytest.fixture
def user(demo_user):
    demo_user.window.resize(1280, 770)  # what a title bar leaves of 800
    QApplication.processEvents()
    return demo_user


def test_the_picture_is_the_largest_thing_on_every_card(user):
    session, body = user.window.session, user.window.body
    for card in NAMES:
        session.view.card = card
        if card == 6:
            user.window.show_page(6, "Bracket")  # the other pages show the wall
        user.rest()
        box = body.picture.whole_rect()
        least = (560, 315) if card in (5,) else (640, 360)
        assert box.width() >= least[0], card
        assert box.height() >= least[1], card
        others = [body.overhead, body.second, body.barrel, *([] if card in (5,) else [body.chart])]
        for other in others:
            if other.isVisible():
                assert other.width() * other.height() < body.picture.width() * body.picture.height(), card


def test_with_all_else_hidden_it_fills_the_window_and_comes_back(user):
    body = user.window.body
    before = body.picture.size()
    user.key(Qt.Key.Key_F9)
    user.rest()
    assert not body.cards.isVisible()
    assert not body.overhead.isVisible()
    assert body.barrel.isVisible()
    assert body.picture.whole_rect().width() > 850
    user.key(Qt.Key.Key_F9)
    user.rest()
    assert body.picture.size() == before


def test_f11_shows_it_alone_with_play_scrub_and_focus(user):
    window, session, picture = user.window, user.window.session, user.window.picture
    user.key(Qt.Key.Key_F11)
    user.rest()
    assert not any(view.isVisible() for view in (window.barrel, window.chart, window.body.cards, window.bar))
    assert picture.size() == window.centralWidget().size()
    line = picture.frames_rect()
    user.drag(picture, line.center(), QPointF(line.right() - 1, line.center().y()))
    assert session.frame == session.shot.last
    before = session.shot.marks
    user.key(SPACE)
    assert session.view.playing
    user.key(SPACE)
    assert not session.view.playing
    user.key(Qt.Key.Key_Left)
    user.wait(lambda: picture.ready and session.stage.built)
    QTest.keyPress(picture, Qt.Key.Key_D)
    user.click(picture, picture.frame_rect().center())
    QTest.keyRelease(picture, Qt.Key.Key_D)
    assert session.shot.marks != before
    user.key(Qt.Key.Key_Escape)
    user.rest()
    assert window.barrel.isVisible()
    assert window.bar.isVisible()


def test_a_card_turned_to_while_the_picture_is_alone_has_its_own_room_after(user):
    window, body = user.window, user.window.body
    window.session.view.card = 1
    user.rest()
    wanted = body.picture.size()
    window.session.view.card = 3
    user.rest()
    user.key(Qt.Key.Key_F11)
    user.key(Qt.Key.Key_1)
    user.rest()
    assert body.picture.size() == window.centralWidget().size()
    user.key(Qt.Key.Key_F11)
    user.rest()
    assert body.picture.size() == wanted


def test_a_fold_is_one_click_or_key_and_comes_back_the_same_way(user):
    window, body = user.window, user.window.body
    window.session.view.card = 3
    user.rest()
    tall = body.barrel.height()
    user.key(Qt.Key.Key_B)
    user.rest()
    assert body.barrel.height() < tall / 2
    user.key(Qt.Key.Key_B)
    user.rest()
    assert body.barrel.height() == tall
    wide = body.overhead.width()
    handle = body._lower.handle(1)
    user.click(handle, QPointF(handle.rect().center()))
    user.rest()
    assert body._lower.sizes()[1] == 0
    user.click(handle, QPointF(handle.rect().center()))
    user.rest()
    assert body.overhead.width() == wide
    below = body._views.sizes()
    user.key(Qt.Key.Key_H)
    user.rest()
    assert body._views.sizes()[1] == 0
    user.key(Qt.Key.Key_H)
    user.rest()
    assert body._views.sizes() == below


def test_folds_are_remembered_a_card_each(user, make_window, opened_demo):
    window = user.window
    window.session.view.card = 3
    user.key(Qt.Key.Key_B)
    window.session.view.card = 4
    user.rest()
    slim = window.barrel.slim
    window.body.keep_room()
    window.session.view.card = 3
    user.rest()
    assert window.barrel.slim
    window.session.view.card = 4
    assert window.barrel.slim == slim
    assert window.session.settings.get(remembered.BARREL_SLIM, "3")


def test_the_window_keeps_within_the_free_part_of_a_screen(user):
    window = user.window
    window.resize(1400, 1000)
    window.move(-50, -40)
    fit(window, QRect(0, 30, 1280, 770))
    frame = window.frameGeometry()
    assert QRect(0, 30, 1280, 770).contains(frame)


def test_it_holds_from_small_to_large(user):
    window = user.window
    for size in ((1024, 700), (1920, 1080), (3840, 2160)):
        window.resize(*size)
        for card in (1, 5):
            window.session.view.card = card
            user.wait(lambda size=size: (window.width(), window.height()) == size)
            box = window.picture.whole_rect()
            assert box.width() * box.height() > 0.1 * size[0] * size[1]
            assert window.says.geometry().bottom() <= window.height()


def test_flags_cover_neither_one_another_nor_tags(user):
    session, picture = user.window.session, user.window.picture
    session.show_shot(0)
    for way in ("short", "whole", "none"):
        assert picture.flags.way == way
        picture.grab()
        boxes = [box for _number, box in picture.flags.shown]
        assert bool(boxes) == (way != "none")
        for one, other in itertools.combinations(boxes, 2):
            assert not one.intersects(other)
        for box in boxes:
            assert picture.frame_rect().contains(box)
            assert not any(box.contains(at) for _row, at in picture.tag_places())
        user.key(Qt.Key.Key_N)
    assert picture.flags.way == "short"
    _row, at = picture.tag_places()[0]
    QTest.mouseMove(picture, at.toPoint())
    user.rest()
    picture.grab()
    widths = sorted(box.height() for _number, box in picture.flags.shown)
    assert widths[-1] > widths[0]  # the one under the pointer is whole


def test_tags_in_overhead_and_side_never_cover_each_other(user):
    window = user.window
    window.session.show_shot(0)
    window.session.view.card = 1
    user.rest()
    for view in (window.overhead, window.second):
        places = [at for _row, at, _point in view.tags()]
        assert len(places) == 6
        for one, other in itertools.combinations(places, 2):
            assert max(abs(one.x() - other.x()), abs(one.y() - other.y())) >= 15.9
        row, at, _point = view.tags()[5]
        number = window.session.survey.subjects[row]
        user.click(view, at)
        assert [mark.target for mark in window.session.shot.marks] == [SubjectTarget(number=number)]
        window.session.undo()


def test_labels_never_cover_each_other_whatever_is_asked():
    random = np.random.default_rng(5)
    for _ in range(60):
        labels = Labels(QRectF(0, 0, 400, 240))
        tags = [QPointF(*random.uniform(0, (400, 240))) for _ in range(12)]
        labels.take_points(tags, 5)
        put = [labels.put(at, random.uniform(20, 120), random.uniform(12, 40)) for at in tags]
        boxes = [box for box in put if box is not None]
        assert boxes
        for one, other in itertools.combinations(boxes, 2):
            assert not one.adjusted(0.01, 0.01, -0.01, -0.01).intersects(other)
        for box in boxes:
            assert QRectF(0, 0, 400, 240).contains(box)
            assert not any(box.contains(at) for at in tags)


def test_tags_stand_on_their_points_beside_them_or_in_a_crowd_where_they_are():
    labels, at = Labels(QRectF(0, 0, 400, 240)), QPointF(200, 120)
    assert labels.put_on(QPointF(60, 60), 8) == QPointF(60, 60)
    places = [labels.put_on(at, 8) for _ in range(100)]
    spread = [place for place in places if place != at]
    assert places[0] == at
    assert 4 <= len(spread) < 99
    for one, other in itertools.combinations([at, *spread], 2):
        assert max(abs(one.x() - other.x()), abs(one.y() - other.y())) >= 15.99
    far = QPointF(350, 40)
    assert labels.put_on(far, 8) == far, "the crowd elsewhere takes nothing from it"


@pytest.mark.parametrize("odd", [math.nan, math.inf, -math.inf, 1e12])
def test_room_at_places_that_are_none_is_asked_for_without_harm(odd):
    labels = Labels(QRectF(0, 0, 400, 240))
    labels.take_points([QPointF(odd, 10), QPointF(10, odd)], 5)
    assert labels.put(QPointF(odd, 10), 40, 12) is None
    assert not labels.put_here(QRectF(odd, 0, 10, 10))
    assert labels.put_here(QRectF(5, 5, 10, 10))


def test_hints_stand_in_the_bottom_line_and_go_again(user):
    window, picture = user.window, user.window.picture
    assert picture.toolTip() == ""
    assert all(view.toolTip() == "" for view in (window.barrel, window.chart, window.overhead))
    window.say("Something")
    QApplication.sendEvent(window, QStatusTipEvent(picture.statusTip()))
    assert "loupe" in window.says.text()
    QApplication.sendEvent(window, QStatusTipEvent(""))
    assert window.says.text() == "Something"


def test_space_plays_whatever_was_clicked_last(user):
    window, session = user.window, user.window.session
    session.view.card = 5
    user.rest()
    page = window.cards[5].pages["Marks"]
    table = next(child for child in page.children() if child.metaObject().className().startswith("QTable"))
    session.show_frame(1020)
    clicked = [window.tabs.group.button(3), table.viewport(), window.cards[3].pages["Lens"].kit]
    for widget in clicked:
        if widget is clicked[2]:
            session.view.card = 3
            user.rest()
            widget.setFocus(Qt.FocusReason.MouseFocusReason)
        else:
            user.click(widget, QPointF(widget.rect().center()))
        QTest.keyClick(QApplication.focusWidget() or window, SPACE)
        assert session.view.playing, widget
        QTest.keyClick(QApplication.focusWidget() or window, SPACE)
        assert not session.view.playing, widget
    session.show_frame(1020)
    frame = session.frame
    button = window.tabs.group.button(3)
    user.click(button, QPointF(button.rect().center()))
    QTest.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Left)
    assert session.frame == frame - 1


def test_who_walks_by_keyboard_keeps_space_and_tab(user):
    window, session = user.window, user.window.session
    session.view.card = 5
    user.rest()
    button = window.cards[5].pages["Marks"].findChild(QPushButton)
    QTest.keyClick(window.picture, Qt.Key.Key_Backtab, Qt.KeyboardModifier.ShiftModifier)
    button.setFocus()
    pressed = []
    button.clicked.connect(lambda: pressed.append(1))
    QTest.keyClick(button, SPACE)
    assert pressed == [1]
    assert not window.body.bare
    QTest.keyClick(QApplication.focusWidget(), TAB)
    assert not window.body.bare
    user.click(window.picture, QPointF(3, 3))  # a click gives Space back to playing
    QTest.keyClick(QApplication.focusWidget(), SPACE)
    assert session.view.playing
    QTest.keyClick(QApplication.focusWidget(), SPACE)


def test_enter_in_a_clicked_field_gives_the_keys_back(user):
    window, session = user.window, user.window.session
    session.view.card = 3
    user.rest()
    field = window.cards[3].pages["Lens"].stop
    QTest.mouseClick(field, Qt.MouseButton.LeftButton)
    field.selectAll()
    QTest.keyClicks(field, "2.8")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert float(session.camera.f_number) == pytest.approx(2.8)
    assert not field.hasFocus()
    QTest.mouseClick(field, Qt.MouseButton.LeftButton)
    field.selectAll()
    QTest.keyClicks(field, "nonsense")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.text() == "nonsense"
    assert field.hasFocus()


def test_the_loupe_shows_delivered_pixels_of_its_spot(user):
    picture = user.window.picture
    user.wait(lambda: picture.ready)
    at = picture.frame_rect().center()
    QTest.mouseMove(picture, at.toPoint())
    user.rest()
    QTest.keyPress(picture, Qt.Key.Key_Z)
    assert picture.loupe.held
    user.wait(lambda: picture.loupe._image is not None)
    assert picture.loupe._image.width() == picture.loupe.size
    texts = [action.text() for action in picture.menu_at(picture.frame_rect().center()).actions()]
    assert "Copy the loupe" in texts
    picture.copy()
    assert QGuiApplication.clipboard().image().width() == picture.loupe.size
    with_glass = picture.grab().toImage()
    QTest.keyRelease(picture, Qt.Key.Key_Z)
    user.rest()
    assert not picture.loupe.held
    assert picture.grab().toImage() != with_glass


def test_the_loupe_shows_no_picture_of_a_spot_that_it_has_left(user):
    picture, camera = user.window.picture, user.window.session.camera
    loupe, box = picture.loupe, picture.frame_rect()
    user.window.drawing.look = lambda _camera: None  # nothing comes by itself
    loupe.point(box.center(), box)
    loupe.hold(True)
    before = loupe.camera(camera)
    loupe.point(box.center() + QPointF(60, 0), box)
    now = loupe.camera(camera)
    image = QImage(10, 10, QImage.Format.Format_RGB32)
    loupe.show(image, "pass 1", before)
    assert loupe._image is None
    loupe.show(image, "pass 1", now)
    assert loupe._image is image
    loupe.hold(False)


def test_a_cropped_camera_sees_the_same_pixels(user):
    session = user.window.session
    camera, stage = session.camera, session.stage
    small = cropped(camera, (0.3, 0.7), 40)
    points = stage.boxes(session.frame).reshape(-1, 3)
    whole, part = camera.see(points), small.see(points)
    there = np.isfinite(whole.x_px)
    offset = 0.3 * camera.width_px - 20, 0.7 * camera.height_px - 20
    np.testing.assert_allclose(part.x_px[there], whole.x_px[there] - offset[0], atol=1e-6 * camera.width_px)
    np.testing.assert_allclose(part.blur_px[there], whole.blur_px[there], rtol=1e-9)
    light = session.plan.light.replace(surfaces="plain")
    snapshot = stage.snapshot(session.frame)
    one = exposed(View(snapshot, small, light, 40, 40), 24).mean(axis=(0, 1))
    large = exposed(View(snapshot, camera, light, 480, 270), 24)
    x, y, half = round(0.3 * 480), round(0.7 * 270), 5
    other = large[y - half : y + half, x - half : x + half].mean(axis=(0, 1))
    np.testing.assert_allclose(one, other, rtol=0.15, atol=0.01)


def test_the_demo_opens_at_its_rack_and_no_kit_is_chosen_unasked(user):
    window = user.window
    window.session.settings.put(remembered.PLACE, [], str(window.document._source))
    window.document._source = None  # its place is not kept
    window.document.open_demo()
    user.opened()
    assert (window.session.shot_index, window.session.frame) == (1, 1049)
    assert window.cards[3].pages["Lens"].kit.currentText() == "None"


def test_the_picture_is_copied_and_fields_are_cut_and_pasted(user):
    window = user.window
    user.wait(lambda: window.picture.image is not None)
    window.picture.setFocus()
    edit = {action.text(): action for action in window.actions()}
    edit["Copy"].trigger()
    assert not QGuiApplication.clipboard().image().isNull()
    assert "Copied" in window.says.text()
    window.session.view.card = 3
    field = window.cards[3].pages["Lens"].stop
    field.setFocus()
    edit["Select all"].trigger()
    edit["Cut"].trigger()
    assert field.text() == ""
    edit["Paste"].trigger()
    assert field.text()
    window.session.view.card = 5
    user.rest()
    window.chart.setFocus()
    edit["Select all"].trigger()
    edit["Copy"].trigger()
    assert "copied" in window.says.text()
    window.tabs.group.button(1).setFocus()
    edit["Copy"].trigger()
    assert "first" in window.says.text()


def test_maps_and_mask_have_the_whole_width_below_and_give_it_back(user):
    window, body = user.window, user.window.body
    for card, page, before in ((3, "Trade-offs", "Lens"), (4, "Mask", "Shape")):
        window.show_page(card, before)
        user.rest()
        sizes = body._views.sizes(), body.picture.size()
        window.show_page(card, page)
        user.rest()
        assert body._lower.sizes()[0] > 760
        assert body.picture.whole_rect().height() >= 360
        window.show_page(card, before)
        user.rest()
        assert (body._views.sizes(), body.picture.size()) == sizes
