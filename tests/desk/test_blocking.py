import math

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QColorDialog, QFileDialog

from kobrel.desk.cards.block.stand_ins import StandInsPage
from kobrel.plan.file import open_plan
from kobrel.plan.model import CameraEnd, MadeCamera, StandInAnchor, SubjectEnd, SubjectTarget
from kobrel.session.commands import blocking, walking
from kobrel.session.selection import ChosenStandIn
from tests.desk.conftest import pick


@pytest.fixture
def empty(make_window):
    user = make_window()
    user.click(user.window.welcome.empty_button, QPointF(20, 10))
    user.wait(lambda: user.window.picture.ready)
    user.key(Qt.Key.Key_1)
    user.window.cards[1].show_page("Stand-ins")
    return user


def click_button(user, button):
    user.click(button, QPointF(button.width() / 2, button.height() / 2))


def place(user, kind, view, at):
    click_button(user, user.window.cards[1].stand_ins.kinds[kind])
    user.click(view, at)
    return user.window.session.plan.stand_ins[-1]


def in_picture(user, point):
    window = user.window
    camera, box = window.session.camera, window.picture.frame_rect()
    sight = camera.see(point)
    scale = box.width() / camera.width_px
    return box.topLeft() + QPointF(float(sight.x_px), float(sight.y_px)) * scale


def test_from_an_empty_stage_to_a_focused_shot(empty, tmp_path, monkeypatch):
    user, window, session = empty, empty.window, empty.window.session
    assert session.plan.stand_ins == ()

    # A ground, from the keyboard alone.
    button = window.cards[1].stand_ins.kinds["ground"]
    user.key(Qt.Key.Key_Backtab, Qt.KeyboardModifier.ShiftModifier, window.picture)  # walking from here on
    button.setFocus()
    user.key(Qt.Key.Key_Space, widget=button)
    user.key(Qt.Key.Key_Return, widget=button)
    assert [s.kind for s in session.plan.stand_ins] == ["ground"]
    assert session.selection.tool is None

    # Three stand-ins: two in Overhead, one onto the ground that Picture shows.
    overhead = window.overhead
    user.wait(lambda: session.stage.built)
    person = place(user, "standing", overhead, overhead.where((-0.6, 0, 2.0)))
    assert person.position_m == pytest.approx((-0.6, 0, 2.0), abs=0.05)
    place(user, "box", overhead, overhead.where((0.9, 0, -1.0)))
    ball = place(user, "ball", window.picture, in_picture(user, (0.5, 0, 1.0)))
    assert ball.position_m == pytest.approx((0.5, 0, 1.0), abs=0.05)
    assert session.selection.stand_in == ball.number

    # A camera made by walking: around, nearer, and taken.
    picture, middle = window.picture, QPointF(window.picture.rect().center())
    before = session.camera.pose.copy()
    user.drag(picture, middle, middle + QPointF(60, 14), button=Qt.MouseButton.RightButton)
    user.wheel(picture, middle, 1)
    assert session.walk is not None
    assert not np.allclose(session.camera.pose, before)
    assert np.allclose(session.shot.camera.position_m, before[:3, 3])
    walked = session.camera.pose.copy()
    picture.setFocus()
    user.key(Qt.Key.Key_Return, widget=picture)
    assert session.walk is None
    np.testing.assert_allclose(session.camera.pose, walked, atol=1e-9)

    # Subjects by clicking them, on the Tape card.
    user.key(Qt.Key.Key_2)
    user.wait(lambda: window.picture.ready)
    user.click(picture, in_picture(user, np.array(person.position_m) + (0, 0.9, 0)))
    user.click(picture, in_picture(user, np.array(ball.position_m) + (0, 0.2, 0)))
    assert [s.anchor for s in session.plan.subjects] == [
        StandInAnchor(number=person.number), StandInAnchor(number=ball.number),
    ]  # fmt: skip

    # A tape from the camera to the person, and the focus on its end.
    user.key(Qt.Key.Key_T)
    user.key(Qt.Key.Key_C)
    row = session.survey.subjects.index(1)
    user.click(picture, dict(picture.tag_places())[row])
    tape = session.plan.tapes[0]
    assert (tape.start, tape.end) == (CameraEnd(), SubjectEnd(number=1))
    user.key(Qt.Key.Key_F)
    assert session.shot.marks[0].target == SubjectTarget(number=1)
    assert float(session.survey.sight.blur_px[row, 0]) == pytest.approx(0, abs=1e-9)
    user.wait(lambda: "exact" in picture.status)

    # Save and reopen.
    path = tmp_path / "blocked.kobrel"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    user.key(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    kept = session.plan
    assert open_plan(path) == kept
    window.document.open(path)
    user.wait(lambda: window.jobs.job is None and session.plan is not kept)
    assert session.plan == kept
    assert float(session.survey.sight.blur_px[row, 0]) == pytest.approx(0, abs=1e-9)


def test_a_stand_in_is_moved_sized_and_turned_by_its_handles(empty):
    user, session, overhead = empty, empty.window.session, empty.window.overhead
    box = place(user, "box", overhead, overhead.where((0.0, 0, 2.0)))
    handles = dict(overhead.stand_ins.handles())
    assert set(handles) == {"width", "depth", "turn"}
    half_metre = QPointF(0.5 * overhead.px_per_m(), 0)
    user.drag(overhead, handles["width"], handles["width"] + half_metre)
    box = session.plan.stand_in(box.number)
    assert box.size_m[0] == pytest.approx(1.6, abs=0.06)
    user.drag(overhead, overhead.where((0.2, 0, 2.0)), overhead.where((-1.0, 0, 3.0)))
    box = session.plan.stand_in(box.number)
    assert box.position_m == pytest.approx((-1.2, 0, 3.0), abs=0.06)
    turn = dict(overhead.stand_ins.handles())["turn"]
    user.drag(overhead, turn, overhead.where(np.array(box.position_m) + (1.5, 0, 0)))
    assert session.plan.stand_in(box.number).turn_deg == pytest.approx(90, abs=3)
    # Each drag is one step back.
    for _ in range(3):
        session.undo()
    assert session.plan.stand_in(box.number).size_m == (0.6, 0.6, 0.6)
    side = empty.window.second
    handles = dict(side.stand_ins.handles())
    user.drag(side, handles["height"], handles["height"] - QPointF(0, 0.9 * side.px_per_m()))
    assert session.plan.stand_in(box.number).size_m[1] == pytest.approx(1.5, abs=0.06)


def test_a_subjects_tag_is_in_the_way_of_its_stand_in_only_when_not_blocking(empty):
    user, session, overhead = empty, empty.window.session, empty.window.overhead
    person = blocking.place(session, "standing", (0, 0, 2))
    blocking.make_subject(session)
    user.rest()
    at = dict(overhead.subject_places())[0]
    user.drag(overhead, at, at + QPointF(0.5 * overhead.px_per_m(), 0))
    assert session.plan.stand_in(person.number).position_m[0] == pytest.approx(0.5, abs=0.07)
    user.key(Qt.Key.Key_2)
    user.rest()
    user.click(overhead, dict(overhead.subject_places())[0])
    assert session.shot.marks[0].target == SubjectTarget(number=1)


def test_a_person_keeps_proportions_and_drops_onto_what_is_beneath(empty):
    user, session = empty, empty.window.session
    blocking.place(session, "box", (0, 0, 0))
    person = blocking.place(session, "standing", (0.1, 3.0, 0.1))
    details = user.window.cards[1].stand_ins.details
    user.type(details.sizes[1], "1.4")
    size = session.plan.stand_in(person.number).size_m
    assert size == pytest.approx((0.58 * 0.8, 1.4, 0.36 * 0.8), rel=1e-3)
    user.wait(lambda: session.stage.built)
    click_button(user, details.drop)
    assert session.plan.stand_in(person.number).position_m == pytest.approx((0.1, 0.6, 0.1))
    user.type(details.place[0], "-40 cm")
    assert session.plan.stand_in(person.number).position_m[0] == pytest.approx(-0.4)
    click_button(user, details.drop)
    assert session.plan.stand_in(person.number).position_m[1] == 0.0


def test_a_stand_in_walks_by_keys(empty):
    user, session = empty, empty.window.session
    person = blocking.place(session, "standing", (0, 0, 0))
    details = user.window.cards[1].stand_ins.details
    click_button(user, details.key)
    session.show_frame(1049)
    user.type(details.place[0], "2")
    walker = session.plan.stand_in(person.number)
    assert [(key.frame, key.position_m[0]) for key in walker.keys] == [(1001, 0.0), (1049, 2.0)]
    blocking.make_subject(session)
    session.show_frame(1025)
    numbers = session.survey
    assert numbers.points[0, session.row, 0] == pytest.approx(1.0)
    assert numbers.points[0, 0, 0] == pytest.approx(0.0)
    assert details.key.text() == "Key"
    assert details.keys.text() == "keys at 1001, 1049"
    session.show_frame(1013)
    assert session.survey.points[0, session.row, 0] == pytest.approx(2 * 0.15625)
    details.ease.setCurrentIndex(details.ease.findData("even"))
    details.ease.activated.emit(1)
    assert session.survey.points[0, session.row, 0] == pytest.approx(0.5)


def test_rows_and_lights_are_shaped_by_typing(empty):
    user, session = empty, empty.window.session
    blocking.place(session, "ball", (0, 0, 0))
    details = user.window.cards[1].stand_ins.details
    details.in_row.click()
    user.type(details.count, "7")
    user.type(details.spacing, "50 cm")
    user.type(details.direction, "90")
    row = session.plan.stand_ins[-1].row
    assert (row.count, row.spacing_m, row.direction_deg) == (7, 0.5, 90)
    low, high = session.stage.bounds()
    assert (low[0], high[0]) == pytest.approx((-0.2, 3.2), abs=1e-6)
    blocking.place(session, "string", (0, 2, 0))
    user.type(details.lights, "40")
    user.type(details.bulb, "2 cm")
    user.type(details.seed, "9")
    lights = session.plan.stand_ins[-1].lights
    assert (lights.count, lights.size_m, lights.number) == (40, 0.02, 9)
    assert not details.in_row.isVisible()


def test_a_stand_in_fades_in_and_out_in_one_act_each(empty):
    user, session = empty, empty.window.session
    blocking.place(session, "ball", (0, 0, 0))
    before = session.plan
    details = user.window.cards[1].stand_ins.details
    user.type(details.fades.over, "14")
    click_button(user, details.fades.fade_in)
    session.show_frame(1060)
    click_button(user, details.fades.fade_out)
    keys = session.plan.stand_ins[-1].opacity.keys
    assert [(key.frame, key.value) for key in keys] == [(1001, 0.0), (1015, 1.0), (1060, 1.0), (1074, 0.0)]
    assert details.faded.text() == "Opacity keyed at 1001, 1015, 1060, 1074."
    session.show_frame(1030)
    user.type(details.opacity, "0.4")
    assert session.plan.stand_ins[-1].opacity.keys[2].value == 0.4
    assert details.key_opacity.text() == "Remove key"
    click_button(user, details.key_opacity)
    assert session.plan.stand_ins[-1].opacity.keys == keys
    for _ in range(4):
        session.undo()
    assert session.plan == before


def test_a_copy_stands_beside_the_first(empty):
    user, session = empty, empty.window.session
    blocking.place(session, "seated", (1, 0, -1))
    click_button(user, user.window.cards[1].stand_ins.details.copy)
    first, second = session.plan.stand_ins
    assert second.name == "Seated person 2"
    assert (second.kind, second.size_m) == (first.kind, first.size_m)
    assert second.position_m == pytest.approx((1.72, 0, -1))
    assert session.selection.stand_in == second.number


def test_deleting_a_stand_in_leaves_its_subject_where_it_was(empty):
    user, session = empty, empty.window.session
    blocking.place(session, "standing", (1, 0, -1))
    blocking.make_subject(session)
    spot = session.survey.points[0, 0].copy()
    user.window.overhead.setFocus()
    user.key(Qt.Key.Key_Delete, widget=user.window.overhead)
    assert session.plan.stand_ins == ()
    assert session.plan.subjects[0].anchor.position_m == pytest.approx(tuple(spot))
    session.undo()
    assert session.plan.subjects[0].anchor == StandInAnchor(number=1)


def test_escape_lays_tools_down_and_leaves_the_walk(empty):
    user, window, session = empty, empty.window, empty.window.session
    click_button(user, window.cards[1].stand_ins.kinds["cone"])
    assert session.selection.tool.stand_in == "cone"
    user.key(Qt.Key.Key_Escape)
    assert session.selection.tool is None
    before = session.camera.pose.copy()
    user.key(Qt.Key.Key_Left, Qt.KeyboardModifier.ControlModifier)
    user.key(Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert session.walk is not None
    user.key(Qt.Key.Key_Escape)
    np.testing.assert_allclose(session.camera.pose, before)
    assert len(session.history.steps) == 0


def test_the_camera_is_typed_aimed_and_keyed(empty):
    user, window, session = empty, empty.window, empty.window.session
    window.cards[1].show_page("Camera")
    page = window.cards[1].camera
    user.type(page.position[1], "2")
    user.type(page.aim[2], "-1")
    user.type(page.roll, "10")
    camera = session.shot.camera
    assert (camera.position_m, camera.aim_m, camera.roll_deg) == ((0, 2, 6), (0, 1, -1), 10)
    blocking.place(session, "standing", (1, 0, 0))
    blocking.make_subject(session)
    user.rest()
    page.follows.setCurrentIndex(page.follows.findData(1))
    page.follows.activated.emit(1)
    assert session.shot.camera.aims_at == 1
    assert float(session.survey.sight.x_px[0, 0]) == pytest.approx(session.shot.width_px / 2)
    page.follows.activated.emit(0)
    page.follows.setCurrentIndex(0)
    page.follows.activated.emit(0)
    orbit = page.moves[1]
    click_button(user, orbit)
    keys = session.shot.camera.keys
    assert [key.frame for key in keys] == [1001, 1096]
    assert session.shot.camera.path == "arc"
    session.show_frame(1096)
    assert page.key.text() == "Remove key"
    click_button(user, page.to_last)
    assert session.frame == 1001


def test_a_camera_may_not_aim_at_itself(empty):
    window, session = empty.window, empty.window.session
    page = window.cards[1].camera
    window.cards[1].show_page("Camera")
    kept = session.plan
    walking.edit_camera(session, "Aim", aim_m=session.shot.camera.position_m)
    assert session.plan is kept
    assert "must differ from the camera position" in window.says.text()
    assert page.aim[0].value == 0.0


def test_projections_and_guides(empty):
    user, window, session = empty, empty.window, empty.window.session
    blocking.place(session, "standing", (0, 0, 0))
    blocking.make_subject(session)
    window.cards[1].show_page("Camera")
    page = window.cards[1].camera
    page.projection.setCurrentIndex(page.projection.findData("orthographic"))
    page.projection.activated.emit(1)
    user.type(page.field, "5 m")
    user.type(page.cone, "2")
    near, far = (float(x) for x in session.camera.limits_m)
    focus = float(session.camera.focus_m)
    assert far - focus == pytest.approx(focus - near)
    assert page.field.parentWidget().isVisible()
    user.wait(lambda: "exact" in window.picture.status)
    page.projection.setCurrentIndex(page.projection.findData("fisheye"))
    page.projection.activated.emit(2)
    user.wait(lambda: "exact" in window.picture.status)
    assert not page.field.parentWidget().isVisible()
    page.thirds.click()
    page.centre.click()
    user.type(page.safe, "90")
    user.type(window.cards[3].lens.own_aspect, "2.39")
    guides = session.plan.guides
    assert (guides.thirds, guides.centre, guides.safe_percent) == (True, True, 90)
    assert session.glass.delivery.aspect == 2.39
    image = window.picture.grab().toImage()
    box = window.picture.whole_rect()
    assert window.picture.frame_rect().width() == box.width()
    ratio = image.width() / window.picture.width()
    dark = image.pixelColor(round((box.left() + 20) * ratio), round((box.top() + 4) * ratio))
    assert dark.lightness() < 90


def test_light_by_dial_sky_clay_and_picture(empty, tmp_path, monkeypatch):
    import OpenImageIO as oiio

    user, window, session = empty, empty.window, empty.window.session
    window.cards[1].show_page("Lighting")
    page = window.cards[1].light
    dial = page.dial
    user.drag(dial, dial.place(), QPointF(66, 66 + 27))
    # Behind the camera, which looks along -Z, is +Z; half way out is half way up.
    assert session.plan.light.key_azimuth_deg == pytest.approx(0, abs=2)
    assert session.plan.light.key_elevation_deg == pytest.approx(45, abs=2)
    assert len(session.history.steps) == 1
    dial.setFocus()
    user.key(Qt.Key.Key_Up, widget=dial)
    assert session.plan.light.key_elevation_deg == pytest.approx(50, abs=2)
    pick(page.surfaces, "Clay")
    user.type(page.exposure, "-0.5")
    assert (session.plan.light.surfaces, session.plan.light.exposure_ev) == ("clay", -0.5)

    pixels = np.full((32, 64, 3), 0.2, np.float32)
    pixels[8, 48] = 500.0
    path = tmp_path / "sky.exr"
    output = oiio.ImageOutput.create(str(path))
    output.open(str(path), oiio.ImageSpec(64, 32, 3, oiio.FLOAT))
    output.write_image(pixels)
    output.close()
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    click_button(user, page.choose)
    user.wait(lambda: session.stage.environment is not None)
    assert page.picture.text() == "sky.exr"
    click_button(user, page.find_key)
    assert session.plan.light.key_elevation_deg == pytest.approx(90 - 180 * 8.5 / 32, abs=1)
    turn = (48.5 / 64 - 0.5) * 360
    assert math.sin(math.radians(session.plan.light.key_azimuth_deg)) == pytest.approx(
        math.sin(math.radians(turn)), abs=0.02
    )
    user.wait(lambda: "exact" in window.picture.status)
    click_button(user, page.remove)
    assert session.stage.environment is None


def test_what_spoils_a_render_is_told(empty):
    user, window, session = empty, empty.window, empty.window.session
    blocking.place(session, "standing", (0, 0, 0))
    blocking.make_subject(session)
    blocking.place(session, "wall", (0, 0, 2))
    page = window.cards[1]
    user.wait(lambda: "hidden by Wall" in page.look_out.text(), 20)
    walking.edit_camera(session, "Near clip", near_clip_m=20.0)
    user.wait(lambda: "near plane" in page.look_out.text(), 20)
    assert "Wall" in page.look_out.text()
    session.undo()
    session.undo()
    user.wait(lambda: page.look_out.text().startswith("No clipping"), 20)


def test_a_wall_moved_in_the_picture_is_drawn_anew_without_building_the_rest(empty):
    user, window, session = empty, empty.window, empty.window.session
    blocking.place(session, "wall", (0, 0, -2))
    user.wait(lambda: session.stage.built and "exact" in window.picture.status)
    pieces = {id(piece) for piece in session.stage._pieces}
    blocking.place(session, "ball", (0.5, 0, 1))
    assert pieces < {id(piece) for piece in session.stage._pieces}
    before = window.picture.image.copy()
    session.selection.item = ChosenStandIn(2)
    blocking.move(session, (-0.5, 0, 1))
    assert pieces < {id(piece) for piece in session.stage._pieces}
    QApplication.processEvents()
    user.wait(lambda: "exact" in window.picture.status and window.picture.image != before)
    assert isinstance(session.shot.camera, MadeCamera)


def test_a_colour_is_taken_by_the_curve_of_srgb_and_comes_back_the_same(demo_session, make_page, monkeypatch):
    blocking.place(demo_session, "box", (0, 0, 0))
    page = make_page(StandInsPage)
    asked = []
    monkeypatch.setattr(QColorDialog, "getColor", lambda old, *_a: asked.append(old) or QColor(128, 30, 255))
    for _ in range(2):
        page.details.colour.click()
        expected = [((c / 255 + 0.055) / 1.055) ** 2.4 for c in (128, 30, 255)]
        assert blocking.chosen(demo_session).colour == pytest.approx(expected, abs=1e-4)
    assert asked[1].getRgb()[:3] == (128, 30, 255)
