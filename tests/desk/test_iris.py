"""The Iris card at work: shapes, presets, flaws, and the chart of discs."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.plan.opening import MaskPicture, Stencil
from kobrel.plan.presets import OWN


@pytest.fixture
def hand(demo_hand):
    demo_hand.key(Qt.Key.Key_4)
    return demo_hand


def pick(box, text):
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())
    QApplication.processEvents()


def test_each_preset_is_taken_known_again_and_undone(hand):
    session, shape = hand.window.session, hand.window.card_of[4].shape
    before = session.shot
    for preset in OWN:
        pick(shape.preset, preset.name)
        assert shape.preset.currentText() == preset.name
        if session.shot != before:
            assert session.undo.undoText() == f"Iris: {preset.name.lower()}"
            session.undo.undo()
        assert session.shot == before


def test_own_presets_are_kept_listed_and_opened(hand, tmp_path):
    session, shape = hand.window.session, hand.window.card_of[4].shape
    hand.type(shape.blades, "5")
    hand.type(shape.rim, "0.5")
    mine = session.shot.iris
    shape.folder().mkdir(parents=True)
    shape.keep(shape.folder() / "Mine.iris.json")
    assert shape.preset.currentText() == "Mine"
    pick(shape.preset, "Creamy")
    assert session.shot.iris != mine
    pick(shape.preset, "Mine")
    assert session.shot.iris == mine
    pick(shape.preset, "Creamy")
    shape.open(shape.folder() / "Mine.iris.json")
    assert session.shot.iris == mine
    (tmp_path / "bad.iris.json").write_text("{")
    shape.open(tmp_path / "bad.iris.json")
    assert "bad.iris.json: line 1" in hand.window.says.text()
    shape.keep(tmp_path / "nowhere" / "x.iris.json")
    assert "Choose another place" in hand.window.says.text()


def test_shape_fields_change_the_iris(hand):
    session, shape = hand.window.session, hand.window.card_of[4].shape
    hand.type(shape.blades, "5")
    hand.type(shape.turn, "10")
    hand.type(shape.rim, "0.5")
    assert (session.shot.iris.turn_per_stop_deg, session.shot.iris.rim) == (10, 0.5)
    assert shape.preset.currentIndex() == -1
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


def test_a_mask_is_chosen_drawn_and_seen_large(hand):
    window, session = hand.window, hand.window.session
    card = window.card_of[4]
    card.show_page("Mask")
    page, view = card.masks, window.body.mask_view
    QApplication.processEvents()
    assert view.isVisible()
    bare = view.grab().toImage()
    pick(page.kind, "Star")
    assert session.shot.iris.mask == Stencil(outline="star")
    assert page.lost.text().endswith(" stops")
    assert float(page.lost.text().split()[0]) > 0.5
    fields = page._fields
    for name, text in (("count", "7"), ("inner", "0.6"), ("soft", "0.1"), ("dust", "0.5"), ("seed", "12")):
        assert fields[name].isVisible()
        hand.type(fields[name], text)
    mask = session.shot.iris.mask
    assert (mask.count, mask.inner, mask.soft, mask.dust, mask.seed) == (7, 0.6, 0.1, 0.5, 12)
    assert not fields["text"].isVisible()
    assert view.grab().toImage() != bare
    lost = float(session.camera.t_stop)
    page.made_up.click()
    assert float(session.camera.t_stop) < lost
    pick(page.kind, "Text")
    hand.type(page.text, "Å")
    assert session.shot.iris.mask.text == "Å"
    hand.type(page.text, " ")
    assert session.shot.iris.mask.text == "Å"
    assert "can be seen" in window.says.text()
    pick(page.kind, "No mask")
    assert session.shot.iris.mask is None
    assert page.lost.text() == "–"
    card.show_page("Flaws")
    QApplication.processEvents()
    assert window.body.discs.isVisible()


def test_a_picture_is_taken_as_the_mask_or_refused(hand, tmp_path):
    from PIL import Image

    window, session = hand.window, hand.window.session
    window.card_of[4].show_page("Mask")
    page = window.card_of[4].masks
    Image.new("L", (64, 64), 128).save(tmp_path / "grey.png")
    page.take_picture(tmp_path / "grey.png")
    page.refresh()
    assert session.shot.iris.mask == MaskPicture(path=str(tmp_path / "grey.png"))
    assert page.lost.text() == "0.99 stops"
    assert page.file.text() == "grey.png"
    Image.new("L", (64, 64), 0).save(tmp_path / "black.png")
    page.take_picture(tmp_path / "black.png")
    assert "black all over" in window.says.text()
    assert session.shot.iris.mask.path.endswith("grey.png")
    (tmp_path / "grey.png").unlink()
    session.edit_shot("Turn", lambda shot: shot.but(iris=shot.iris.but(rotation_deg=5)))
    assert "missing" in page.file.text()


def test_corners_of_a_polygon_are_drawn_by_hand(hand):
    window, session = hand.window, hand.window.session
    window.card_of[4].show_page("Mask")
    page, view = window.card_of[4].masks, window.body.mask_view
    session.edit_glass("Round", squeeze=1.0)
    pick(page.kind, "Polygon")
    QApplication.processEvents()
    places = view.corner_places()
    assert len(places) == 3
    box = view.square()
    hand.drag(view, places[0], box.center() + QPointF(-0.5, 0.25) * box.width() / 2 * 1.0)
    moved = session.shot.iris.mask.points[0]
    assert moved == pytest.approx((-0.5, -0.25), abs=0.02)
    assert session.undo.undoText() == "Move a corner"
    places = view.corner_places()
    middle = (places[1] + places[2]) / 2
    hand.drag(view, middle, middle + QPointF(20, 0))
    assert len(session.shot.iris.mask.points) == 4
    assert session.undo.undoText() in ("Add a corner", "Move a corner")
    hand.key(Qt.Key.Key_Return, widget=view)
    x, y = session.shot.iris.mask.points[view.corner]
    hand.key(Qt.Key.Key_Right, widget=view)
    assert session.shot.iris.mask.points[view.corner] == pytest.approx((x + 0.01, y))
    hand.key(Qt.Key.Key_Delete, widget=view)
    assert len(session.shot.iris.mask.points) == 3
    QTest.mouseClick(view, Qt.MouseButton.RightButton, pos=view.corner_places()[0].toPoint())
    assert len(session.shot.iris.mask.points) == 3
    assert "three corners" in window.says.text()
    session.undo.undo()
    assert len(session.shot.iris.mask.points) == 4


def test_costs_are_told_and_a_limit_warns(hand):
    window, session = hand.window, hand.window.session
    window.card_of[4].show_page("Costs")
    costs = window.card_of[4].costs
    hand.wait(lambda: costs.largest.text().endswith("px"))
    largest = float(costs.largest.text().split()[0])
    assert largest >= float(costs.subject.text().split()[0])
    samples = float(costs.samples.text().replace(" ", ""))
    hand.type(costs.noise, "10")
    assert float(costs.samples.text().replace(" ", "")) == pytest.approx(samples / 4, rel=1e-3)
    hand.type(costs.limit, f"{largest - 10:g}")
    hand.wait(lambda: "cut" in costs.verdict.text())
    assert "10 px at worst" in costs.verdict.text()
    hand.wait(lambda: any("cuts them" in line for line in (session.found.warnings if session.found else ())))
    hand.type(costs.limit, "0")
    assert session.shot.most_px is None
    assert not costs.verdict.isVisible()


def test_all_is_thrown_out_of_focus_and_comes_back(hand):
    window, session = hand.window, hand.window.session
    window.card_of[4].show_page("Glow")
    glow = window.card_of[4].highlights
    hand.type(glow.throw, "-80")
    hand.wait(lambda: "pass 64 /" in window.picture.status)
    sharp = window.picture.grab().toImage()
    window.picture.show_status("")
    hand.key(Qt.Key.Key_O)
    assert glow.thrown.isChecked()
    hand.wait(lambda: "pass 64 /" in window.picture.status)
    assert window.picture.grab().toImage() != sharp
    assert session.throw_px == -80
    window.picture.show_status("")
    glow.thrown.click()
    hand.wait(lambda: "pass 64 /" in window.picture.status)
    assert window.picture.grab().toImage() == sharp


def test_finishing_is_marked_and_pegs_follow_it(hand):
    window, session = hand.window, hand.window.session
    window.card_of[4].show_page("Glow")
    glow, picture = window.card_of[4].highlights, window.picture
    hand.type(glow.shoulder, "0.5")
    assert session.plan.light.shoulder == 0.5
    straight = dict(picture.peg_places())
    hand.type(glow.bend, "-20")
    hand.type(glow.glow, "0.2")
    assert (session.plan.finish.bend_percent, session.plan.finish.glow) == (-20, 0.2)
    bent = dict(picture.peg_places())
    row = next(iter(bent))
    middle = picture.whole_rect().center()
    assert abs(bent[row].x() - middle.x()) > abs(straight[row].x() - middle.x()) + 1
    back = picture._meant(bent[row])
    assert (back.x(), back.y()) == pytest.approx((straight[row].x(), straight[row].y()), abs=1e-6)
    hand.click(picture, bent[row])
    assert session.selected_subject == session.survey.subjects[row]


def test_discs_are_as_large_as_in_picture_on_request(hand):
    window, session = hand.window, hand.window.session
    discs = window.body.discs
    cell = discs.cells()[7]
    discs.tick.click()
    QApplication.processEvents()
    shown = cell.disc.size_px[1] / discs.scale_px() * cell.box.width()
    wanted = cell.disc.size_px[1] * window.picture.frame_rect().width() / session.camera.width_px
    assert shown == pytest.approx(wanted, rel=1e-6)
    discs.tick.click()
    assert discs.scale_px() != pytest.approx(cell.box.width() / session.picture_scale)


def test_the_iris_is_handed_on_from_the_window(hand, tmp_path):
    session, shape = hand.window.session, hand.window.card_of[4].shape
    dialog = shape.hand_on()
    rows = {dialog.table.item(row, 0).text(): row for row in range(dialog.table.rowCount())}
    assert dialog.table.item(rows["height over width"], 1).text() == "2"
    hand.type(shape.blades, "6")
    assert dialog.table.item(rows["blades"], 1).text() == "6"
    hand.type(dialog.side, "128")
    for name in ("iris.png", "iris.exr", "iris.csv", "iris.json"):
        dialog.write(tmp_path / name)
        assert (tmp_path / name).exists()
        assert name in dialog.said.text()
    dialog.write(tmp_path / "no" / "iris.png")
    assert "no folder" in dialog.said.text()
    assert session.shot.iris.blades == 6
    dialog.close()
