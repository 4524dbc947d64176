"""Plates that need no file, by mouse and keyboard: added, changed, typed where they stand, focused, undone."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QColorDialog

from kobrel.plan.file import open_plan
from kobrel.plan.pictures.drawn import DRAWN_NAMES, Title
from kobrel.session.commands.plates import placing
from kobrel.session.selection import ChosenPlates
from tests.desk.conftest import pick
from tests.desk.test_plates import click_button, settled


@pytest.fixture
def user(make_window):
    user = make_window()
    user.click(user.window.welcome.empty_button, QPointF(20, 10))
    user.wait(lambda: user.window.picture.ready)
    return user


def add(user, name):
    page = user.window.show_page(8, "Plates")
    action = next(action for action in page.new_menu().actions() if action.text() == name)
    action.trigger()
    settled(user)
    return page, placing.chosen(user.window.session)


def double_click(widget, at):
    QTest.mouseDClick(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at.toPoint())
    QApplication.processEvents()


def test_a_title_is_typed_where_it_stands_and_pulled_to_as_any_plate(user, tmp_path, monkeypatch):
    window, session = user.window, user.window.session
    page, title = add(user, "Title")
    editor = window.picture.titles
    middle = window.picture.frame_rect().center()

    double_click(window.picture, middle)
    assert editor.isVisible()
    assert editor.toPlainText() == "Title"
    QTest.keyClicks(editor, "Night 5 ferry")
    QTest.keyClick(editor, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier)
    before = editor.geometry()
    QTest.keyClicks(editor, "kp and more than stood there before")
    assert editor.width() > before.width(), "the box grows with the text"
    assert abs(editor.geometry().center().x() - before.center().x()) <= 1
    assert window.picture.rect().contains(editor.geometry())
    while not editor.toPlainText().endswith("\nkp"):
        QTest.keyClick(editor, Qt.Key.Key_Backspace)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    settled(user)
    assert not editor.isVisible()
    assert session.plan.plate(title.number).picture.drawn.text == "Night 5 ferry\nkp"
    assert window.session.view.card == 8
    assert window.focusWidget() is window.picture

    double_click(window.picture, middle)
    QTest.keyClicks(editor, "other")
    QTest.keyClick(editor, Qt.Key.Key_Escape)
    assert session.plan.plate(title.number).picture.drawn.text == "Night 5 ferry\nkp"

    click_button(user, page.drawn.edit_text)
    assert editor.isVisible()
    QTest.keyClicks(editor, "Taken by going elsewhere")
    page.details.title.setFocus()
    user.rest()
    assert session.plan.plate(title.number).picture.drawn.text == "Taken by going elsewhere"
    session.undo()
    session.undo()
    assert session.plan.plate(title.number).picture.drawn == Title()
    session.redo()
    settled(user)

    user.type(page.drawn.letters, "40 cm")
    user.type(page.drawn.tracking, "0.2")
    pick(page.drawn.align, "Left")
    pick(page.drawn.weight, "Bold")
    monkeypatch.setattr(QColorDialog, "getColor", lambda *_a: QColor(255, 0, 0))
    click_button(user, page.drawn.colour)
    settled(user)
    made = session.plan.plate(title.number)
    drawn = made.picture.drawn
    assert (drawn.tracking, drawn.align, drawn.style, drawn.colour) == (0.2, "left", "Bold", (1.0, 0.0, 0.0))
    assert made.pivot[0] == 0.0
    assert page.drawn.letters.value == pytest.approx(0.4)

    click_button(user, page.details.subject_button)
    user.wait(lambda: session.now is not None and len(session.now.survey.subjects) == 1)
    assert session.plan.subjects[0].anchor.number == title.number
    session.mark_saved()
    window.document.save_to(tmp_path / "t.kobrel")
    assert open_plan(tmp_path / "t.kobrel").plates == session.plan.plates


@pytest.mark.parametrize("name", ["Flat colour", "Gradient", "Vignette", "Specks"])
def test_each_other_kind_is_added_seen_changed_copied_and_deleted(user, name):
    session = user.window.session
    before = session.plan
    page, plate = add(user, name)
    kind = plate.picture.drawn.kind
    assert DRAWN_NAMES[kind] == name
    assert not page.reload.isEnabled()
    assert page.replace.isEnabled()
    field, value, what = {
        "Flat colour": (None, None, None), "Gradient": (page.drawn.angle, "30", "angle_deg"),
        "Vignette": (page.drawn.strength, "0.4", "strength"), "Specks": (page.drawn.specks, "25", "count"),
    }[name]  # fmt: skip
    if field is not None:
        assert field.isVisible()
        user.type(field, value)
        settled(user)
        assert getattr(session.plan.plate(plate.number).picture.drawn, what) == float(value)
        session.undo()
    assert not page.drawn.letters.isVisible()
    assert page.list.item(0, 0).text() == name
    click_button(user, page.details.copy)
    click_button(user, page.remove)
    session.undo()
    session.undo()
    session.undo()
    assert session.plan == before


def test_what_is_drawn_is_seen_in_the_picture(user):
    window = user.window
    settled(user)
    user.wait(lambda: window.picture.image is not None)
    before = window.picture.image
    add(user, "Flat colour")
    user.wait(lambda: window.picture.image is not before and _middle(window)[1] == pytest.approx(118, abs=6))
    red, green, blue = _middle(window)
    assert np.ptp((red, green, blue)) <= 4  # sRGB of 0.18 is 118


def _middle(window):
    image = window.picture.image
    return QColor(image.pixel(image.width() // 2, image.height() // 2)).getRgb()[:3]


def test_a_title_of_a_typeface_that_is_not_here_is_told(user):
    from kobrel.session.commands.plates import drawing

    page, _title = add(user, "Title")
    assert not page.drawn.warning.isVisible()
    drawing.change(user.window.session, "Typeface", family="Nobody Has This")
    settled(user)
    assert "B612 is used instead" in page.drawn.warning.text()
    assert page.drawn.family.currentText() == "Nobody Has This"
    page.drawn.family.showPopup()
    assert page.drawn.family.findData("B612") >= 0
    page.drawn.family.hidePopup()


def test_typing_ends_when_another_plate_is_chosen_or_it_is_deleted(user):
    session, editor = user.window.session, user.window.picture.titles
    page, title = add(user, "Title")
    click_button(user, page.drawn.edit_text)
    assert editor.isVisible()
    session.selection.item = None
    assert not editor.isVisible()
    session.selection.item = ChosenPlates(title.number)
    click_button(user, page.drawn.edit_text)
    placing.remove(session)
    assert not editor.isVisible()
    assert not session.plan.plates
