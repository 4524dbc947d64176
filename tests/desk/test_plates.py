"""Plates by mouse and keyboard: brought in, placed, cut, filled, spread, pulled through, dialled, written."""

import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from kobrel.plan.file import open_plan
from kobrel.plan.pictures.plates import Ellipse, Outline, PlateAnchor, Rectangle
from kobrel.plan.plates.placing import corners_at
from kobrel.plan.space.plates import pivot_at
from kobrel.session.commands.plates import cutting, dialling, placing
from kobrel.session.selection import ChosenPlates
from kobrel.stage.read.plates.stills import layers_of
from tests.desk.conftest import pick


def click_button(user, button):
    user.click(button, QPointF(button.width() / 2, button.height() / 2))


def photograph(path, size=(480, 320)):
    """Like a photograph: a bright sky, a textured ground, a dark post with a red ball on it, grain."""
    rng = np.random.default_rng(3)
    y, x = np.mgrid[: size[1], : size[0]]
    horizon = 0.45 * size[1]
    sky = np.stack([120 + 0.2 * y, 160 + 0.2 * y, 230 - 0.1 * y], -1)
    ground = np.stack([110 + 20 * np.sin(x / 17.0) + 0.1 * y, 105 + 12 * np.sin(y / 9.0), 80 + 0.05 * x], -1)
    pixels = np.where((y < horizon)[..., None], sky, ground)
    post = (abs(x - 240) < 12) & (y > 150) & (y < 270)
    pixels[post] = (50, 44, 40)
    ball = (x - 240) ** 2 + (y - 130) ** 2 < 34**2
    pixels[ball] = (210, 40, 36)
    pixels += rng.normal(0, 4, pixels.shape)
    Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)).save(path)
    return path


@pytest.fixture
def empty(make_window):
    user = make_window()
    user.click(user.window.welcome.empty_button, QPointF(20, 10))
    user.wait(lambda: user.window.picture.ready)
    user.key(Qt.Key.Key_1)
    return user


@pytest.fixture
def shown(empty, tmp_path, monkeypatch):
    """A window with one plate of a photograph, on the Plates page."""
    page = empty.window.show_page(8, "Plates")
    path = photograph(tmp_path / "photo.png")
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: ([str(path)], ""))
    click_button(empty, page.add)
    settled(empty)
    return empty


@pytest.fixture
def harbour(make_window):
    user = make_window()
    user.window.document.open_harbour()
    user.opened()
    user.wait(lambda: user.window.session.stage.built)
    return user


def settled(user):
    window = user.window
    user.wait(lambda: window.jobs.job is None and not window.session.library.missing(window.session.plan))
    user.wait(lambda: window.picture.ready)


def at_place(user, plate, x, y):
    """Where a place of a plate's picture is on the picture's widget."""
    view, now = user.window.picture, user.window.session.now
    return view.plates._where(now, plate, (x, y))


def seen_px(session, plate):
    """Where the corners of a plate are in the delivered picture."""
    seen = session.camera.see(corners_at(plate, session.plan.dials, session.camera, [session.frame])[0])
    return np.concatenate([seen.x_px, seen.y_px])


def draw(user, points):
    """Move with the button held through points of the chosen plate's picture."""
    from PySide6.QtTest import QTest

    view = user.window.picture
    plate = placing.chosen(user.window.session)
    where = [at_place(user, plate, x, y).toPoint() for x, y in points]
    left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    QTest.mousePress(view, left, none, where[0])
    for at in where[1:]:
        QTest.mouseMove(view, at)
        QApplication.processEvents()
    QTest.mouseRelease(view, left, none, where[-1])
    QApplication.processEvents()


def test_a_photograph_becomes_a_set_that_is_pulled_through(shown, tmp_path):
    user, window, session = shown, shown.window, shown.window.session
    (photo,) = session.plan.plates
    assert photo.picture.size_px == (480, 320)
    assert placing.distance_m(session, photo) == pytest.approx(float(session.camera.focus_m), rel=1e-6)

    # Put far, by typing; then the ball is lifted with its post, freehand.
    page = window.show_page(8, "Plates")
    user.type(page.details.distance, "12")
    assert placing.distance_m(session, session.plan.plates[0]) == pytest.approx(12.0)
    cut = window.show_page(8, "Cut-out")
    click_button(user, cut.body.tools["freehand"])
    angle = np.linspace(0, 2 * np.pi, 40)
    draw(user, [(0.5 + 0.09 * np.sin(a), 0.41 + 0.13 * np.cos(a)) for a in angle])
    settled(user)
    assert [plate.name for plate in session.plan.plates] == ["photo", "photo part"]
    back, ball = session.plan.plates
    assert isinstance(ball.cut.shapes[0], Outline)
    assert back.fill.of == (ball.number,)
    assert session.selection.tool is None

    # Behind it nothing of it is left, and what is lifted is red.
    behind = session.library.shelf.source(cutting_key(session, back)).at(0).rgba
    red = (behind[..., 0].astype(int) - behind[..., 2]) > 90
    assert red[100:160, 210:270].sum() == 0
    lifted = session.library.shelf.source(cutting_key(session, ball)).at(0).rgba
    assert (lifted[..., 3] > 200).sum() > 2500

    # It is put nearer, its framing kept; both are subjects, and the focus goes from one to the other.
    page = window.show_page(8, "Plates")
    before = seen_px(session, session.plan.plates[1])
    user.type(page.details.distance, "3")
    assert seen_px(session, session.plan.plates[1]) == pytest.approx(before, abs=0.01)
    click_button(user, page.details.subject_button)
    assert session.plan.subjects[0].anchor == PlateAnchor(number=ball.number)
    window.barrel.setFocus()
    session.show_frame(session.shot.first)
    tags = window.picture.tag_places()
    user.click(window.picture, tags[0][1])
    assert float(session.camera.focus_m) == pytest.approx(3.0, rel=1e-6)

    # All of it is one step after the other, back to the empty stage.
    while session.history.last is not None:
        session.undo()
    assert session.plan.plates == ()


def cutting_key(session, plate):
    from kobrel.plan.plates.pixels import plate_key

    return plate_key(session.plan, plate)


def test_outlines_boxes_colours_and_edges(shown):
    user, window, session = shown, shown.window, shown.window.session
    cut = window.show_page(8, "Cut-out").body
    view, plate = window.picture, session.plan.plates[0]

    # Points, one of them bent, closed with Enter.
    click_button(user, cut.tools["points"])
    for x, y in ((0.3, 0.3), (0.6, 0.3)):
        user.click(view, at_place(user, plate, x, y))
    draw(user, [(0.6, 0.6), (0.5, 0.7)])
    user.key(Qt.Key.Key_Return, widget=view)
    outline = session.plan.plates[-1].cut.shapes[0]
    assert len(outline.points) == 3
    assert outline.points[2].after == pytest.approx((0.5, 0.7), abs=0.01)

    # Its handle is dragged afterwards, the point itself stays.
    lifted = session.plan.plates[-1]
    handle = at_place(user, lifted, *outline.points[2].after)
    user.drag(view, handle, handle + QPointF(25, 0))
    moved = session.plan.plates[-1].cut.shapes[0].points[2]
    assert moved.after[0] > 0.52
    assert moved.at == outline.points[2].at
    session.undo()
    session.undo()

    # Backspace takes a point back, Esc lays the tool down.
    session.selection.item = ChosenPlates(1)
    click_button(user, cut.tools["points"])
    for x, y in ((0.3, 0.3), (0.6, 0.3)):
        user.click(view, at_place(user, plate, x, y))
    user.key(Qt.Key.Key_Backspace, widget=view)
    assert len(view.plates._points) == 1
    user.key(Qt.Key.Key_Escape, widget=view)
    assert session.selection.tool is None
    assert view.plates._points == []
    assert len(session.plan.plates) == 1

    # A rectangle and an ellipse, into the plate's own cut.
    session.selection.item = ChosenPlates(1)
    session.selection.cut_mode = "add"
    click_button(user, cut.tools["rectangle"])
    draw(user, [(0.2, 0.2), (0.5, 0.5), (0.8, 0.8)])
    session.selection.cut_mode = "take away"
    click_button(user, cut.tools["ellipse"])
    draw(user, [(0.4, 0.4), (0.5, 0.5), (0.6, 0.6)])
    shapes = session.plan.plates[0].cut.shapes
    assert isinstance(shapes[0], Rectangle)
    assert isinstance(shapes[1], Ellipse)
    assert shapes[1].takes_away
    user.type(cut.feather, "9")
    user.type(cut.grow, "-2")
    assert (session.plan.plates[0].cut.feather_px, session.plan.plates[0].cut.grow_px) == (9.0, -2.0)
    cut.shapes.setCurrentRow(1)
    click_button(user, cut.drop)
    assert len(session.plan.plates[0].cut.shapes) == 1
    click_button(user, cut.drop)
    assert session.plan.plates[0].cut is None

    # By a colour that is clicked, its reach typed.
    session.selection.cut_mode = "lift"
    click_button(user, cut.tools["colour"])
    user.click(view, at_place(user, session.plan.plates[0], 0.5, 0.41))
    colour = session.plan.plates[-1].cut.shapes[0]
    assert colour.colour[0] > 0.7
    assert colour.colour[1] < 0.25
    user.type(cut.high, "0.2")
    assert session.plan.plates[-1].cut.shapes[0].reach == pytest.approx(0.2)
    settled(user)
    pick(cut.fill, "Texture patches")
    assert session.plan.plates[0].fill.kind == "patches"
    settled(user)


def test_a_line_seeks_the_edge_and_its_points_can_be_dragged(shown):
    user, window, session = shown, shown.window, shown.window.session
    cut = window.show_page(8, "Cut-out").body
    view, plate = window.picture, session.plan.plates[0]
    click_button(user, cut.tools["edge"])
    radius = 34
    around = [(240 + radius * np.sin(a), 130 - radius * np.cos(a)) for a in np.linspace(0, 2 * np.pi, 7)[:-1]]
    for x, y in around:
        user.click(view, at_place(user, plate, x / 480, y / 320))
    user.click(view, at_place(user, plate, around[0][0] / 480, around[0][1] / 320))
    settled(user)
    points = np.array([point.at for point in session.plan.plates[-1].cut.shapes[0].points]) * (480, 320)
    away = np.abs(np.hypot(points[:, 0] - 240, points[:, 1] - 130) - radius)
    assert len(points) > 20
    assert np.median(away) < 3

    lifted = session.plan.plates[-1]
    first = lifted.cut.shapes[0].points[0].at
    start = at_place(user, lifted, *first)
    steps = len(session.history.steps)
    user.drag(view, start, start + QPointF(0, -30))
    moved = session.plan.plates[-1].cut.shapes[0].points[0].at
    assert moved[1] < first[1] - 0.02
    assert len(session.history.steps) == steps + 1
    settled(user)


def test_plates_are_chosen_spread_dragged_and_turned_in_overhead(harbour):
    user, window, session = harbour, harbour.window, harbour.window.session
    page = window.show_page(8, "Plates")
    assert [page.list.item(row, 0).text() for row in range(5)] == [
        "Sky",
        "Far shore",
        "Ferry",
        "Pier",
        "Lantern",
    ]
    page.list.selectAll()
    assert len(placing.all_chosen(session)) == 5
    user.type(page.near, "2")
    user.type(page.far, "40")
    away = sorted(placing.distance_m(session, plate) for plate in session.plan.plates)
    assert away == pytest.approx(1 / np.linspace(1 / 2, 1 / 40, 5))
    pick(page.by, "Ratios")
    away = sorted(placing.distance_m(session, plate) for plate in session.plan.plates)
    assert away == pytest.approx(2 * 20 ** np.linspace(0, 1, 5))

    # Dragged in Overhead it keeps its framing and so grows; the others keep their gaps.
    overhead = window.overhead
    pier = next(plate for plate in session.plan.plates if plate.name == "Pier")
    session.selection.item = ChosenPlates(pier.number)
    place = pivot_at(pier, session.plan.dials, [session.frame])[0]
    was = placing.distance_m(session, pier)
    user.drag(overhead, overhead.where(place), overhead.where(place + (0, 0, -1.5)))
    moved = session.plan.plate(pier.number)
    assert placing.distance_m(session, moved) == pytest.approx(was + 1.5, rel=0.1)
    assert moved.scale.value > 1.1 * pier.scale.value
    session.undo()
    ferry = next(plate for plate in session.plan.plates if plate.name == "Ferry")
    session.selection.item = ChosenPlates(pier.number, frozenset({ferry.number}))
    pick(page.gaps, "Keep ratio")
    far = placing.distance_m(session, ferry)
    user.type(page.details.distance, f"{was * 1.25:.4f}")
    assert placing.distance_m(session, session.plan.plate(ferry.number)) == pytest.approx(
        far * 1.25, rel=1e-3
    )
    session.undo()

    # A standing plate is turned by its handle.
    session.selection.item = ChosenPlates(pier.number)
    handle = window.overhead.plates.handle()
    user.drag(overhead, handle, handle + QPointF(30, 10))
    assert abs(session.plan.plate(pier.number).turn_deg.value) > 5
    user.key(Qt.Key.Key_Delete, widget=overhead)
    assert session.plan.plate(pier.number) is None


def test_values_are_keyed_faded_and_hidden(harbour):
    user, window, session = harbour, harbour.window, harbour.window.session
    page = window.show_page(8, "Plates")
    pier = next(plate for plate in session.plan.plates if plate.name == "Pier")
    session.selection.item = ChosenPlates(pier.number)
    session.show_frame(1010)
    menu = page.details.key_menu()
    next(action for action in menu.actions() if action.text() == "Key opacity").trigger()
    session.show_frame(1030)
    user.type(page.details.fields["opacity"], "0.2")
    assert [key.frame for key in session.plan.plate(pier.number).opacity.keys] == [1010, 1030]
    assert "Opacity keys: 1010, 1030" in page.details.keyed.text()
    assert "Remove the opacity key" in [action.text() for action in page.details.key_menu().actions()]
    placing.set_ease(session, "opacity", "late")
    assert session.plan.plate(pier.number).opacity.keys[1].ease == "late"
    placing.toggle_key(session, "distance")
    session.show_frame(1060)
    user.type(page.details.distance, "4")
    assert len(session.plan.plate(pier.number).keys) == 2
    pick(page.details.fade, "With blur")
    user.type(page.details.gone, "30")
    assert session.plan.plate(pier.number).fade.gone == 30
    user.wait(lambda: window.picture.ready)
    lantern = next(plate for plate in session.plan.plates if plate.name == "Lantern")
    session.selection.item = ChosenPlates(lantern.number)
    user.type(page.details.fields["opacity"], "0.5")
    assert "Driven by the dial Lantern to ferry" in window.says.text()
    row = [page.list.item(k, 0).text() for k in range(5)].index("Lantern")
    page.list.item(row, 0).setCheckState(Qt.CheckState.Unchecked)
    assert not session.plan.plate(lantern.number).shown
    page.details.faces.click()
    assert session.plan.plate(lantern.number).faces
    before = seen_px(session, session.plan.plate(lantern.number))
    user.type(page.details.pivot[0], "0.2")
    assert session.plan.plate(lantern.number).pivot[0] == pytest.approx(0.2)
    assert seen_px(session, session.plan.plate(lantern.number)) == pytest.approx(before, abs=0.5)


def test_an_edge_that_would_show_is_told_and_extended(harbour):
    user, window, session = harbour, harbour.window, harbour.window.session
    sky = session.plan.plates[0]
    session.selection.item = ChosenPlates(sky.number)
    placing.change(session, "Edges", beyond="nothing")
    cut = window.show_page(8, "Cut-out").body
    assert "Edge visible at" in cut.told.text()
    click_button(user, cut.extend)
    assert session.plan.plates[0].beyond == "mirrored"
    assert "No edge of it shows" in cut.told.text()


def test_a_dial_is_made_turned_keyed_and_recorded(shown, tmp_path):
    user, window, session = shown, shown.window, shown.window.session
    page = window.show_page(5, "Dials")
    click_button(user, page.low_end)
    placing.set_level(session, "opacity", 0.4)
    placing.set_distance(session, 9.0)
    session.set_keyed("Stop", "f_number", 8.0)
    click_button(user, page.high_end)
    (dial,) = session.plan.dials
    driven = {drive.what for drive in dial.drives}
    assert driven == {"distance", "scale", "opacity", "f_number"}
    plate = session.plan.plates[0]
    assert placing.level_now(session, plate, "opacity") == 1.0  # at its low end again
    view = page.details.view
    box = view._box()
    user.drag(view, QPointF(box.center().x(), box.bottom()), QPointF(box.center().x(), box.top()))
    assert dialling.value_now(session, session.plan.dials[0]) == pytest.approx(1.0, abs=0.03)
    assert placing.level_now(session, session.plan.plates[0], "opacity") == pytest.approx(0.4, abs=0.03)
    assert float(session.camera.f_number) == pytest.approx(8.0, rel=0.05)

    session.show_frame(session.shot.first)
    click_button(user, page.details.key)
    session.show_frame(session.shot.first + 20)
    view.setFocus()
    for _ in range(6):
        user.key(Qt.Key.Key_Down, widget=view)
    assert len(session.plan.dials[0].level.keys) == 2
    session.show_frame(session.shot.first)
    user.type(page.details.settle, "0.2")
    assert session.plan.dials[0].level.keys[0].settle.part == pytest.approx(0.2)

    # Its values: turned round, taken away.
    page.details.table.selectRow([d.what for d in session.plan.dials[0].drives].index("opacity"))
    click_button(user, page.details.turn_round)
    drive = next(d for d in session.plan.dials[0].drives if d.what == "opacity")
    assert (drive.low, drive.high) == (0.4, 1.0)
    click_button(user, page.details.drop)
    assert "opacity" not in {d.what for d in session.plan.dials[0].drives}
    user.type(page.details.title, "Swap")
    assert session.plan.dials[0].name == "Swap"

    # Recorded while the shot plays.
    session.edit_shot("Short", lambda shot: shot.replace(last=shot.first + 12))
    click_button(user, page.details.record)
    page.details.performer.turn(0.9)
    user.wait(lambda: not page.details.performer.recording, 30)
    assert 1 <= len(session.plan.dials[0].level.keys) <= 6
    click_button(user, page.details.remove)
    assert session.plan.dials == ()


def test_layers_and_numbers_are_written_from_the_card(harbour, tmp_path, monkeypatch):
    user, window, session = harbour, harbour.window, harbour.window.session
    session.edit_shot("Small", lambda shot: shot.replace(width_px=160))
    files = window.show_page(7, "Files")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "out.ora"), ""))
    pick(files.layer_kind, "OpenRaster")
    click_button(user, files.layers_frame)
    user.wait(lambda: window.jobs.job is None and (tmp_path / "out.json").exists(), 120)
    assert layers_of(tmp_path / "out.ora")[-1] == "Lantern"
    rows = json.loads((tmp_path / "out.json").read_text())["rows"]
    assert {row["plate"] for row in rows} == {"Sky", "Far shore", "Ferry", "Pier", "Lantern"}


def test_pictures_are_dropped_and_pasted(empty, tmp_path):
    user, window, session = empty, empty.window, empty.window.session
    first, second = photograph(tmp_path / "one.png"), photograph(tmp_path / "two.png")
    menu = window.drop_menu([first, second])
    assert [action.text() for action in menu.actions()] == ["Add 2 images as plates", "Open separately"]
    menu.actions()[0].trigger()
    settled(user)
    assert [plate.name for plate in session.plan.plates] == ["one", "two"]
    image = QImage(40, 30, QImage.Format.Format_RGB888)
    image.fill(Qt.GlobalColor.green)
    QApplication.clipboard().setImage(image)
    window.paste()
    settled(user)
    assert session.plan.plates[-1].name.startswith("pasted")
    assert session.plan.plates[-1].picture.size_px == (40, 30)
    QApplication.clipboard().clear()
    window.paste()
    assert "No image on the clipboard" in window.says.text()


def test_what_cannot_be_read_is_said_and_a_missing_picture_keeps_its_place(shown, tmp_path):
    user, window, session = shown, shown.window, shown.window.session
    (tmp_path / "no.png").write_bytes(b"not a picture")
    placing.add_files(session, [tmp_path / "no.png"])
    assert "no.png" in window.says.text()
    assert len(session.plan.plates) == 1
    window.document.save_to(tmp_path / "p.kobrel")
    (tmp_path / "photo.png").rename(tmp_path / "away.png")
    window.document.open(tmp_path / "p.kobrel")
    user.opened()
    user.wait(lambda: session.plan.plates and placing.is_missing(session, session.plan.plates[0]))
    page = window.show_page(8, "Plates")
    assert page.list.item(0, 1).text() == "missing"
    assert open_plan(tmp_path / "p.kobrel").plates == session.plan.plates
    user.rest(0.3)
    (tmp_path / "away.png").rename(tmp_path / "photo.png")
    session.selection.item = ChosenPlates(1)
    click_button(user, page.reload)
    user.wait(lambda: not placing.is_missing(session, session.plan.plates[0]))


def test_plates_by_depth_and_on_a_ground(shown, tmp_path, monkeypatch):
    user, window, session = shown, shown.window, shown.window.session
    ramp = np.zeros((320, 480), np.uint8)
    ramp[144:] = np.linspace(30, 180, 176).astype(np.uint8)[:, None]
    ramp[96:270, 206:274] = 200
    Image.fromarray(ramp).save(tmp_path / "depth.png")
    page = window.show_page(8, "Plates")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(tmp_path / "depth.png"), ""))

    # A ground first: horizon dragged, camera 1.6 m high.
    click_button(user, page.ground)
    view = page.dialog.view
    user.click(view, QPointF(view.width() / 2, view.y_of(0.45)))
    assert view.horizon == pytest.approx(0.45, abs=0.01)
    page.dialog._make()
    settled(user)
    ground = session.plan.plates[-1]
    assert ground.lies
    assert session.camera.pose[1, 3] == pytest.approx(1.6)
    session.selection.item = ChosenPlates(1)
    cutting.begin(session, "rectangle")
    draw(user, [(0.42, 0.3), (0.5, 0.6), (0.58, 0.86)])
    settled(user)
    post = session.plan.plates[-1]
    assert session.plan.plate(ground.number).fill.of == (post.number,)
    click_button(user, window.show_page(8, "Plates").foot)
    foot = at_place(user, post, 0.5, 0.84)
    user.click(window.picture, foot)
    height = 2 * float(session.camera.half_widths()[1])
    metres = placing.distance_m(session, session.plan.plate(post.number))
    assert 1.6 / height < metres < 12 / height
    pick_at = session.camera.see(session.now.camera.pose[:3, 3] + (0, -1.6, -metres))
    assert np.isfinite(float(pick_at.axial_m))

    # Then by depth, in the place of the photograph.
    session.selection.item = ChosenPlates(1)
    click_button(user, page.by_depth)
    dialog = page.dialog
    user.type(dialog.count, "3")
    assert len(dialog.slices.distances_m) == 3
    cuts = dialog.slices.cuts
    x = dialog.view.x_of(cuts[1])
    user.drag(dialog.view, QPointF(x, 60), QPointF(x + 12, 60))
    assert dialog.slices.cuts[1] > cuts[1]
    dialog._make()
    settled(user)
    made = [plate for plate in session.plan.plates if plate.name.startswith("Depth")]
    assert len(made) == 3
    away = [placing.distance_m(session, plate) for plate in made]
    assert away == sorted(away, reverse=True)
    assert session.plan.plate(1) is None


def test_another_picture_takes_a_plates_place_by_a_click_and_by_a_drop(shown, tmp_path, monkeypatch):
    session, page = shown.window.session, shown.window.cards[8].pages["Plates"]
    plate = session.plan.plates[0]
    other = photograph(tmp_path / "other.png", (960, 640))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(other), ""))
    said = list[str]()
    session.said.connect(said.append)
    click_button(shown, page.replace)
    made = session.plan.plates[0]
    assert (Path(made.picture.path), made.position_m) == (other, plate.position_m)
    assert said[-1] == f"{plate.name} now shows other.png."
    session.undo()
    assert session.plan.plates[0] == plate
    # By a drop on the second of two, which show the same: both are asked about.
    placing.copy(session)
    settled(shown)
    content = QMimeData()
    content.setUrls([QUrl.fromLocalFile(str(other))])
    where = QPointF(page.list.visualItemRect(page.list.item(1, 0)).center())
    copy, held, none = Qt.DropAction.CopyAction, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    entered = QDragEnterEvent(where.toPoint(), copy, content, held, none)
    QApplication.sendEvent(page.list.viewport(), entered)
    assert entered.isAccepted()
    QApplication.sendEvent(page.list.viewport(), QDropEvent(where, copy, content, held, none))
    assert page.dialog.isVisible()
    assert page.dialog.all.isChecked()
    assert not page.dialog.stretch.isVisible()
    page.dialog.take()
    assert {Path(each.picture.path) for each in session.plan.plates} == {other}
    session.undo()
    assert {Path(each.picture.path) for each in session.plan.plates} == {Path(plate.picture.path)}


def test_a_plate_fades_in_and_out_in_one_act_each(shown):
    session, page = shown.window.session, shown.window.cards[8].pages["Plates"]
    first = session.shot.first
    session.show_frame(first + 4)
    page.details.fades.over.selectAll()
    QTest.keyClicks(page.details.fades.over, "14\r")
    click_button(shown, page.details.fades.fade_in)
    session.show_frame(first + 40)
    click_button(shown, page.details.fades.fade_out)
    keys = [(key.frame - first, key.value) for key in session.plan.plates[0].opacity.keys]
    assert keys == [(4, 0.0), (18, 1.0), (40, 1.0), (54, 0.0)]
    session.undo()
    session.undo()
    assert session.plan.plates[0].opacity.keys == ()
