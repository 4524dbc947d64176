"""The Iris card at work: shapes, presets, flaws, and the chart of discs."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.cards.iris.character import CharacterPage
from kobrel.desk.cards.iris.shape import IrisShapePage
from kobrel.plan.iris import MaskPicture, Stencil
from kobrel.plan.lens_sets.irises import OWN
from kobrel.session.commands import shaping
from tests.desk.conftest import by_name, finished, pick, type_into

_LABELS = {
    "count": "Blades",
    "inner": "Inner corners",
    "soft": "Soft edge",
    "dust": "Dust",
    "seed": "Seed",
}


@pytest.fixture
def user(demo_user):
    demo_user.key(Qt.Key.Key_4)
    return demo_user


def test_each_preset_is_taken_known_again_and_undone(demo_session, make_page):
    session, shape = demo_session, make_page(IrisShapePage)
    before = session.shot
    for preset in OWN:
        pick(shape.preset, preset.name)
        assert shape.preset.currentText() == preset.name
        if session.shot != before:
            assert session.history.last.name == f"Iris: {preset.name.lower()}"
            session.undo()
        assert session.shot == before


def test_own_presets_are_kept_listed_and_opened(demo_session, make_page, tmp_path):
    session, shape = demo_session, make_page(IrisShapePage)
    type_into(shape.blades, "5")
    type_into(shape.rim, "0.5")
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
    assert "bad.iris.json: line 1" in session.heard[-1]
    shape.keep(tmp_path / "nowhere" / "x.iris.json")
    assert "Choose another folder" in session.heard[-1]


def test_shape_fields_change_the_iris(demo_session, make_page):
    session, shape = demo_session, make_page(IrisShapePage)
    type_into(shape.blades, "5")
    type_into(shape.turn, "10")
    type_into(shape.rim, "0.5")
    assert (session.shot.iris.turn_per_stop_deg, session.shot.iris.rim) == (10, 0.5)
    assert shape.preset.currentIndex() == -1
    before = shape.shape_view.grab().toImage()
    session.set_keyed("Stop", "f_number", 4.0)
    assert session.camera.turned_iris.rotation_deg == pytest.approx(40)
    assert shape.shape_view.grab().toImage() != before


def test_flaws_are_typed_and_read(demo_session, make_page):
    session, flaws = demo_session, make_page(CharacterPage)
    assert flaws.loss.text() == "none"
    assert not flaws.made_up.isVisible()
    type_into(flaws.amount, "0.5")
    assert flaws.loss.text().startswith("−")
    assert session.shot.flaws.front_stop.diameter_mm == pytest.approx(float(session.camera.pupil_mm))
    type_into(flaws.diameter, "60")
    assert flaws.amount.value < 0.5
    flaws.made_up.click()
    assert session.shot.flaws.front_stop.made_up
    for field, value in ((flaws.colour, "0.1"), (flaws.swirl, "0.4"), (flaws.spherical, "-0.2")):
        type_into(field, value)
    made = session.shot.flaws
    assert (made.colour_mm, made.swirl_mm, made.spherical_mm) == (0.1, 0.4, -0.2)
    type_into(flaws.amount, "0")
    assert session.shot.flaws.front_stop is None
    session.edit_glass("flat", projection="orthographic")
    assert not flaws.isEnabled()


def test_discs_stand_in_the_charts_room_while_the_iris_is_in_work(user):
    window, session = user.window, user.window.session
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
    user.click(discs, cells[3].box.center())
    assert float(session.camera.focus_m) == pytest.approx(cells[3].distance_m)
    QApplication.processEvents()
    assert discs.grab().toImage() != before
    assert discs.cell_at(QPointF(2, 2)) is None
    session.edit_glass("flat", projection="orthographic")
    QApplication.processEvents()
    assert discs.cells() == []
    discs.grab()
    user.key(Qt.Key.Key_5)
    assert window.chart.isVisible()
    assert not discs.isVisible()


def test_discs_are_seen_at_once_and_finer_a_moment_later(user):
    window, session = user.window, user.window.session
    session.view.below = "discs"
    discs = window.body.discs
    user.wait(discs.isVisible)
    discs.repaint()
    few = len(discs.cells()[0].disc.offsets_px)
    user.wait(lambda: len(discs.cells()[0].disc.offsets_px) > 2 * few)
    session.begin_drag()
    session.set_keyed("Stop", "f_number", 5.0)
    user.rest(0.1)
    assert len(discs.cells()[0].disc.offsets_px) == few, "while something is dragged, the first look will do"
    session.end_drag()
    user.wait(lambda: len(discs.cells()[0].disc.offsets_px) > 2 * few)


def test_a_disc_that_is_cut_says_how_much_light_is_left(user):
    window = user.window
    pick(window.cards[4].shape.preset, "Swirl")
    corner = window.body.discs.cells()[-1]
    assert "corner" in window.body.discs.words(corner)
    assert window.body.discs.words(corner).endswith("% of its light")
    user.wait(lambda: "exact" in window.picture.status)


def test_a_mask_is_chosen_drawn_and_seen_large(user):
    window, session = user.window, user.window.session
    card = window.cards[4]
    card.show_page("Mask")
    page, view = card.masks, window.body.mask_view
    QApplication.processEvents()
    assert view.isVisible()
    bare = view.grab().toImage()
    pick(page.kind, "Star")
    assert session.shot.iris.mask == Stencil(outline="star")
    assert page.lost.text().endswith(" stops")
    assert float(page.lost.text().split()[0]) > 0.5
    fields = {name: by_name(page, label) for name, label in _LABELS.items()}
    for name, text in (("count", "7"), ("inner", "0.6"), ("soft", "0.1"), ("dust", "0.5"), ("seed", "12")):
        assert fields[name].isVisible()
        user.type(fields[name], text)
    mask = session.shot.iris.mask
    assert (mask.count, mask.inner, mask.soft, mask.dust, mask.seed) == (7, 0.6, 0.1, 0.5, 12)
    assert not page.text.isVisible()
    assert view.grab().toImage() != bare
    lost = float(session.camera.t_stop)
    page.made_up.click()
    assert float(session.camera.t_stop) < lost
    pick(page.kind, "Text")
    user.type(page.text, "Å")
    assert session.shot.iris.mask.text == "Å"
    user.type(page.text, " ")
    assert session.shot.iris.mask.text == "Å"
    assert "can be seen" in window.says.text()
    pick(page.kind, "No mask")
    assert session.shot.iris.mask is None
    assert page.lost.text() == "–"
    card.show_page("Character")
    QApplication.processEvents()
    assert window.body.discs.isVisible()


def test_a_picture_is_taken_as_the_mask_or_refused(user, tmp_path):
    from PIL import Image

    window, session = user.window, user.window.session
    window.cards[4].show_page("Mask")
    page = window.cards[4].masks
    Image.new("L", (64, 64), 128).save(tmp_path / "grey.png")
    shaping.put_picture(session, tmp_path / "grey.png")
    page.refresh()
    assert session.shot.iris.mask == MaskPicture(path=str(tmp_path / "grey.png"))
    assert page.lost.text() == "0.99 stops"
    assert page.file.text() == "grey.png"
    Image.new("L", (64, 64), 0).save(tmp_path / "black.png")
    shaping.put_picture(session, tmp_path / "black.png")
    assert "entirely black" in window.says.text()
    assert session.shot.iris.mask.path.endswith("grey.png")
    (tmp_path / "grey.png").unlink()
    session.edit_shot("Turn", lambda shot: shot.replace(iris=shot.iris.replace(rotation_deg=5)))
    assert "missing" in page.file.text()


def test_corners_of_a_polygon_are_drawn_by_hand(user):
    window, session = user.window, user.window.session
    window.cards[4].show_page("Mask")
    page, view = window.cards[4].masks, window.body.mask_view
    session.edit_glass("Round", squeeze=1.0)
    pick(page.kind, "Polygon")
    QApplication.processEvents()
    places = view.corner_places()
    assert len(places) == 3
    box = view.square()
    user.drag(view, places[0], box.center() + QPointF(-0.5, 0.25) * box.width() / 2 * 1.0)
    moved = session.shot.iris.mask.points[0]
    assert moved == pytest.approx((-0.5, -0.25), abs=0.02)
    assert session.history.last.name == "Move a corner"
    places = view.corner_places()
    middle = (places[1] + places[2]) / 2
    user.drag(view, middle, middle + QPointF(20, 0))
    assert len(session.shot.iris.mask.points) == 4
    assert session.history.last.name in ("Add a corner", "Move a corner")
    user.key(Qt.Key.Key_Return, widget=view)
    x, y = session.shot.iris.mask.points[view.corner]
    user.key(Qt.Key.Key_Right, widget=view)
    assert session.shot.iris.mask.points[view.corner] == pytest.approx((x + 0.01, y))
    user.key(Qt.Key.Key_Delete, widget=view)
    assert len(session.shot.iris.mask.points) == 3
    QTest.mouseClick(view, Qt.MouseButton.RightButton, pos=view.corner_places()[0].toPoint())
    assert len(session.shot.iris.mask.points) == 3
    assert "three corners" in window.says.text()
    session.undo()
    assert len(session.shot.iris.mask.points) == 4


def test_costs_are_told_and_a_limit_warns(user):
    window, session = user.window, user.window.session
    window.cards[4].show_page("Render cost")
    costs = window.cards[4].render_cost
    user.wait(lambda: costs.largest.text().endswith("px"))
    largest = float(costs.largest.text().split()[0])
    assert largest >= float(costs.of_subject.text().split()[0])
    samples = float(costs.samples.text().replace(" ", ""))
    user.type(costs.noise, "10")
    assert float(costs.samples.text().replace(" ", "")) == pytest.approx(samples / 4, rel=1e-3)
    user.type(costs.limit, f"{largest - 10:g}")
    user.wait(lambda: "exceed" in costs.verdict.text())
    assert "maximum by 10 px" in costs.verdict.text()
    user.wait(
        lambda: any(
            "Blur reaches" in line for line in (session.sight_report.warnings if session.sight_report else ())
        )
    )
    user.type(costs.limit, "0")
    assert session.shot.most_px is None
    assert not costs.verdict.isVisible()


def test_all_is_thrown_out_of_focus_and_comes_back(user):
    window, session = user.window, user.window.session
    glow = window.transport.look.content
    glow.refresh()
    user.type(glow.throw, "-80")
    QApplication.processEvents()

    def picture_after(turn):
        window.picture.show_status("")
        turn()
        user.wait(lambda: finished(window))
        return window.picture.grab().toImage()

    first = picture_after(lambda: user.key(Qt.Key.Key_O))
    glow.refresh()
    assert glow.defocus_everything.isChecked()
    assert session.view.throw_px == -80
    sharp = picture_after(glow.defocus_everything.click)
    assert sharp != first
    assert picture_after(lambda: user.key(Qt.Key.Key_O)) == first
    assert picture_after(lambda: user.key(Qt.Key.Key_O)) == sharp


def test_finishing_is_marked_and_tags_follow_it(user):
    window, session = user.window, user.window.session
    glow, picture = window.transport.look.content, window.picture
    glow.refresh()
    user.type(glow.shoulder, "0.5")
    assert session.plan.light.shoulder == 0.5
    straight = dict(picture.tag_places())
    user.type(glow.bend, "-20")
    user.type(glow.glow, "0.2")
    assert (session.plan.finish.bend_percent, session.plan.finish.glow) == (-20, 0.2)
    bent = dict(picture.tag_places())
    row = next(iter(bent))
    middle = picture.whole_rect().center()
    assert abs(bent[row].x() - middle.x()) > abs(straight[row].x() - middle.x()) + 1
    back = picture._meant(bent[row])
    assert (back.x(), back.y()) == pytest.approx((straight[row].x(), straight[row].y()), abs=1e-6)
    user.click(picture, bent[row])
    assert session.selection.subject == session.survey.subjects[row]


def test_discs_are_as_large_as_in_picture_on_request(user):
    window, session = user.window, user.window.session
    discs = window.body.discs
    cell = discs.cells()[7]
    discs.tick.click()
    QApplication.processEvents()
    shown = cell.disc.size_px[1] / discs.scale_px() * cell.box.width()
    wanted = cell.disc.size_px[1] * window.picture.frame_rect().width() / session.camera.width_px
    assert shown == pytest.approx(wanted, rel=1e-6)
    discs.tick.click()
    assert discs.scale_px() != pytest.approx(cell.box.width() / session.view.picture_scale)


def test_the_iris_is_handed_on_from_the_window(user, tmp_path):
    session, shape = user.window.session, user.window.cards[4].shape
    dialog = shape.hand_on()
    rows = {dialog.table.item(row, 0).text(): row for row in range(dialog.table.rowCount())}
    assert dialog.table.item(rows["height over width"], 1).text() == "2"
    user.type(shape.blades, "6")
    assert dialog.table.item(rows["blades"], 1).text() == "6"
    user.type(dialog.side, "128")
    for name in ("iris.png", "iris.exr", "iris.csv", "iris.json"):
        dialog.write(tmp_path / name)
        assert (tmp_path / name).exists()
        assert name in dialog.said.text()
    dialog.write(tmp_path / "no" / "iris.png")
    assert "no such folder" in dialog.said.text()
    assert session.shot.iris.blades == 6
    dialog.close()
