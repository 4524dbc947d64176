"""The Iris card at work: shapes, presets, flaws, and the chart of discs."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.cards.iris_shape import PRESETS
from kobrel.desk.document import DEMO


@pytest.fixture
def hand(make_window):
    made = make_window()
    made.window.document.open(DEMO)
    made.opened()
    made.window.session.show_shot(1)
    made.key(Qt.Key.Key_4)
    return made


def pick(box, data):
    box.setCurrentIndex(box.findData(data))
    box.activated.emit(box.currentIndex())
    QApplication.processEvents()


@pytest.mark.parametrize("name", PRESETS)
def test_each_preset_is_taken_known_again_and_undone(hand, name):
    session, shape = hand.window.session, hand.window.card_of[4].shape
    before = session.shot
    pick(shape.preset, name)
    assert shape.preset.currentData() == name
    if session.shot != before:
        assert session.undo.undoText() == f"Iris: {name.lower()}"
        session.undo.undo()
    assert session.shot == before


def test_shape_fields_change_the_iris(hand):
    session, shape = hand.window.session, hand.window.card_of[4].shape
    hand.type(shape.blades, "5")
    hand.type(shape.turn, "10")
    hand.type(shape.rim, "0.5")
    assert (session.shot.iris.turn_per_stop_deg, session.shot.iris.rim) == (10, 0.5)
    assert shape.preset.currentData() is None
    before = shape.shape_view.grab().toImage()
    hand.type(hand.window.card_of[3].lens.stop, "4")
    assert session.camera.turned_iris.rotation_deg == pytest.approx(40)
    QApplication.processEvents()
    assert shape.shape_view.grab().toImage() != before


def test_flaws_are_typed_and_read(hand):
    window, session = hand.window, hand.window.session
    window.card_of[4].show_page("Flaws")
    flaws = window.card_of[4].flaws
    assert flaws.loss.text() == "as bright"
    assert not flaws.made_up.isVisible()
    hand.type(flaws.amount, "0.5")
    assert flaws.loss.text().startswith("−")
    assert session.shot.flaws.front_stop.diameter_mm == pytest.approx(float(session.camera.pupil_mm))
    hand.type(flaws.diameter, "60")
    assert flaws.amount.value < 0.5
    flaws.made_up.click()
    assert session.shot.flaws.front_stop.made_up
    for field, value in ((flaws.colour, "0.1"), (flaws.swirl, "0.4"), (flaws.spherical, "-0.2")):
        hand.type(field, value)
    made = session.shot.flaws
    assert (made.colour_mm, made.swirl_mm, made.spherical_mm) == (0.1, 0.4, -0.2)
    hand.wait(lambda: "exact" in window.picture.status)
    hand.type(flaws.amount, "0")
    assert session.shot.flaws.front_stop is None
    session.edit_glass("flat", projection="orthographic")
    assert not flaws.isEnabled()


def test_discs_stand_in_the_charts_room_while_the_iris_is_in_work(hand):
    window, session = hand.window, hand.window.session
    discs = window.body.discs
    assert discs.isVisible()
    cells = discs.cells()
    assert len(cells) == 24
    assert cells[7].distance_m == np.inf
    # the middle row's heights are the blur that the camera says
    for cell in cells[:8]:
        width, height = cell.disc.size_px
        expected = float(session.camera.blur_px(cell.distance_m))
        assert height == pytest.approx(expected, rel=0.02, abs=0.3)
        assert width == pytest.approx(expected / 2, rel=0.02, abs=0.3)
    before = discs.grab().toImage()
    QTest.mouseMove(discs, cells[7].box.center().toPoint())
    QApplication.processEvents()
    assert "∞, middle" in window.says.text()
    hand.click(discs, cells[3].box.center())
    assert float(session.camera.focus_m) == pytest.approx(cells[3].distance_m)
    QApplication.processEvents()
    assert discs.grab().toImage() != before
    assert discs.cell_at(QPointF(2, 2)) is None
    session.edit_glass("flat", projection="orthographic")
    QApplication.processEvents()
    assert discs.cells() == []
    discs.grab()
    hand.key(Qt.Key.Key_5)
    assert window.chart.isVisible()
    assert not discs.isVisible()


def test_a_disc_that_is_cut_says_how_much_light_is_left(hand):
    window = hand.window
    pick(window.card_of[4].shape.preset, "Swirl")
    corner = window.body.discs.cells()[-1]
    assert "corner" in window.body.discs.words(corner)
    assert window.body.discs.words(corner).endswith("% of its light")
