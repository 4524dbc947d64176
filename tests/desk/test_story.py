"""The whole way in the real window: from opening a scene to a reread export."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox

from kobrel.exchange.cameras.back import read_camera
from kobrel.plan.export import UpdatedFile
from kobrel.plan.file import open_plan
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import DistanceTarget, SubjectTarget
from kobrel.session.commands import walking
from kobrel.session.open_file import open_file
from kobrel.stage.scene import no_progress
from tests.conftest import DEMO

SCENE = DEMO.with_suffix(".usdc")


@pytest.fixture(scope="module")
def opened_scene(qapp):
    """The demo's scene as a new plan, read once: nothing that an edit does changes it."""
    return open_file(SCENE, no_progress)


@pytest.fixture
def user(make_window, opened_scene):
    user = make_window()
    user.window.document.show(opened_scene, SCENE)
    user.opened()
    return user


def picture_point(window, world):
    """Where a point of the stage is on the Picture."""
    camera, box = window.session.camera, window.picture.frame_rect()
    sight = camera.see(world)
    scale = box.width() / camera.width_px
    return QPointF(box.left() + float(sight.x_px) * scale, box.top() + float(sight.y_px) * scale)


def tag(window, number):
    row = window.session.survey.subjects.index(number)
    return dict(window.picture.tag_places())[row]


def test_from_a_scene_to_values_for_a_renderer(user, tmp_path, monkeypatch):
    window, session = user.window, user.window.session
    assert session.shot.title == "Wide"
    assert float(session.camera.focus_m) == pytest.approx(9.0, rel=1e-6), (
        "the camera's own focus is the start"
    )

    # Another camera of the file, with its own lens.
    walking.choose_camera(session, "night_ferry", "/NightFerry/Cameras/Rack")
    assert float(session.camera.focal_mm) == 50

    # Two things in the picture become subjects; their pegs are in every view at once.
    before = len(session.plan.subjects)
    user.click(window.picture, picture_point(window, [-0.28, 0.78, -2.04]))
    user.click(window.picture, picture_point(window, [0.72, 1.3, -5.9]))
    lantern, ferryman = session.plan.subjects[before:]
    assert "Lantern" in lantern.name
    assert "Ferryman" in ferryman.name
    rows = [session.survey.subjects.index(s.number) for s in (lantern, ferryman)]
    for places in (
        window.picture.tag_places(),
        window.overhead.subject_places(),
        window.barrel.tag_places(),
    ):
        assert set(rows) <= {place[0] for place in places}
    assert float(session.survey.sight.axial_m[rows[0], 0]) == pytest.approx(2.66, abs=0.05)

    # A click on a peg focuses.
    user.click(window.picture, tag(window, lantern.number))
    assert session.shot.marks[0].target == SubjectTarget(number=lantern.number)
    assert float(session.survey.sight.blur_px[rows[0], 0]) == pytest.approx(0, abs=1e-9)

    # Lens, stop and sensor, typed.
    user.key(Qt.Key.Key_3)
    glass = window.cards[3].lens
    user.type(glass.focal, "65")
    user.type(glass.stop, "f/2")
    user.type(glass.delivery, "2048")
    row = next(i for i in range(glass.format.count()) if "Full frame  36" in glass.format.itemText(i))
    glass.format.setCurrentIndex(row)
    glass.format.activated.emit(row)
    assert (session.glass.sensor.width_mm, session.glass.sensor.height_mm) == (36, 24)
    assert float(session.camera.focal_mm) == 65
    assert float(session.camera.f_number) == 2
    assert session.shot.width_px == 2048

    # The true depth of field comes.
    user.wait(lambda: "exact" in window.picture.status)

    # A rack between the two: a mark at a later frame, put on the other subject.
    window.barrel.setFocus()
    session.show_frame(1060)
    user.key(Qt.Key.Key_M, widget=window.barrel)
    assert [m.target.number for m in session.shot.marks] == [lantern.number] * 2
    user.click(window.picture, tag(window, ferryman.number))
    assert [(m.frame, m.target.number) for m in session.shot.marks] == [
        (1001, lantern.number), (1060, ferryman.number),
    ]  # fmt: skip
    numbers = session.survey
    assert numbers.sight.blur_px[rows[0], 0] < 0.01
    assert numbers.sight.blur_px[rows[1], 59] < 0.01

    # Scrubbing in the chart.
    chart = window.chart
    user.drag(chart, QPointF(chart.x_of(1001), 120), QPointF(chart.x_of(1030), 120))
    assert session.frame == 1030
    user.key(Qt.Key.Key_Right, widget=chart)
    assert session.frame == 1031

    # Save, reopen: the same plan, shot and frame.
    path = tmp_path / "rack.kobrel"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    user.key(Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    assert open_plan(path) == session.plan
    assert session.history.is_saved
    kept = session.plan
    window.document.open(path)
    user.wait(lambda: window.jobs.job is None and session.plan is not kept)
    assert session.plan == kept
    assert session.frame == 1031

    # The values for a renderer, reread.
    layer = tmp_path / "rack.usda"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(layer), ""))
    window.exports.ask_and_write("usd")
    user.wait(lambda: window.jobs.job is None and layer.exists())
    back = read_camera(layer)
    expected = survey(session.plan, session.shot, session.stage).camera
    np.testing.assert_allclose(back.focus_m, expected.focus_m, rtol=1e-12)
    np.testing.assert_allclose(back.f_number, 2.0)
    np.testing.assert_allclose(back.pose, expected.pose, atol=1e-9)
    table = tmp_path / "rack.csv"
    window.exports.write(UpdatedFile(kind="csv", path=str(table), shots=(session.shot.name,)))
    user.wait(lambda: window.jobs.job is None and table.exists())
    assert table.read_text().startswith("frame,focus_m")


def test_holding_d_and_clicking_puts_the_focus_there(user):
    window, session = user.window, user.window.session
    subjects = len(session.plan.subjects)
    at = picture_point(window, [-0.28, 0.3, -1.95])
    QTest.keyPress(window.picture, Qt.Key.Key_D)
    user.click(window.picture, at)
    QTest.keyRelease(window.picture, Qt.Key.Key_D)
    target = session.shot.marks[0].target
    assert isinstance(target, DistanceTarget)
    pick = session.stage.pick(
        session.frame,
        *session.camera.ray(
            *(at - window.picture.frame_rect().topLeft()).toTuple(),
            *window.picture.frame_rect().size().toTuple(),
        ),
    )
    assert target.metres == pytest.approx(float(session.camera.see(pick.point).axial_m), rel=0.01)
    assert len(session.plan.subjects) == subjects
    user.click(window.picture, at)
    assert len(session.plan.subjects) == subjects + 1


def test_dragging_the_barrels_index_refocuses_and_is_one_step_to_undo(user):
    _window, session, barrel = user.window, user.window.session, user.window.barrel
    before = session.plan
    scale = barrel.scale()
    start = QPointF(scale.px(float(session.camera.focus_m)), barrel.line_y - 12)
    goal = QPointF(scale.px(6.0), start.y())
    user.drag(barrel, start, goal)
    assert float(session.camera.focus_m) == pytest.approx(6.0, rel=0.03)
    assert session.history.last.name.startswith("Focus on")
    session.undo()
    assert session.plan == before
    session.redo()
    assert float(session.camera.focus_m) == pytest.approx(6.0, rel=0.03)


@pytest.mark.parametrize("end", [0, 1])
def test_dragging_an_end_of_the_band_changes_the_stop(user, end):
    _window, session, barrel = user.window, user.window.session, user.window.barrel
    session.edit_glass("stop", f_number=session.glass.f_number.replace(value=1.0))
    user.rest()
    limit = float(session.camera.limits_m[end])
    focus = float(session.camera.focus_m)
    scale = barrel.scale()
    wanted = 1 / (1 / focus + 1.5 * (1 / limit - 1 / focus))
    y = barrel.line_y - 4
    user.drag(barrel, QPointF(scale.px(limit), y), QPointF(scale.px(wanted), y))
    assert float(session.camera.f_number) == pytest.approx(1.5, rel=0.05)
    assert float(session.camera.limits_m[end]) == pytest.approx(wanted, rel=0.05)
    assert float(session.camera.focus_m) == focus


def test_lengths_are_typed_in_any_unit_and_nonsense_is_refused_gently(user):
    window, session = user.window, user.window.session
    focus = window.cards[3].lens.focus
    for text, metres in (("3.2 m", 3.2), ("320 cm", 3.2), ("10' 6\"", 3.2004), ("5", 5.0), ("inf", np.inf)):
        user.type(focus, text)
        assert float(session.camera.focus_m) == pytest.approx(metres)
    plan = session.plan
    user.type(focus, "over there")
    assert session.plan is plan
    assert "not a length" in window.says.text()
    assert focus.text() == "over there"
    assert focus.property("wrong") is True
    QTest.keyClick(focus, Qt.Key.Key_Escape)
    assert focus.text() == "∞"
    user.type(window.cards[3].lens.focal, "0.2")
    assert "out of range" in window.says.text()


def test_lens_model_and_surface_say_what_they_mean(user):
    window, session = user.window, user.window.session
    window.cards[3].show_page("Depth of field")
    glass = window.cards[3].depth_of_field
    angle = glass.small["Angle of view"].text()
    user.type(window.cards[3].lens.focus, "0.3 m")
    glass.model.setCurrentIndex(1)
    glass.model.activated.emit(1)
    assert session.glass.model == "thin"
    assert "breathes" in glass.meaning.text()
    assert glass.small["Angle of view"].text() != angle
    glass.surface.setCurrentIndex(1)
    glass.surface.activated.emit(1)
    assert session.glass.surface == "sphere"
    assert "straight" in glass.meaning.text()


def test_the_iris_card_changes_the_picture(user):
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_4)
    iris = window.cards[4].shape
    assert iris.isVisible()
    user.type(iris.blades, "6")
    user.type(iris.roundness, "0.3")
    user.type(iris.rotation, "15")
    user.type(iris.squeeze, "1.8")
    assert (session.shot.iris.blades, session.shot.iris.roundness, session.shot.iris.rotation_deg) == (
        6,
        0.3,
        15,
    )
    assert session.glass.squeeze == 1.8
    user.type(iris.blades, "2")
    assert session.shot.iris.blades == 0
    iris.blades.setFocus()
    QTest.keyClick(iris.blades, Qt.Key.Key_Up)
    assert session.shot.iris.blades == 3


def test_marks_are_made_dragged_eased_and_deleted_in_the_chart(user):
    window, session, chart = user.window, user.window.session, user.window.chart
    user.key(Qt.Key.Key_5)
    user.rest()
    QTest.mouseDClick(
        chart,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
        QPointF(chart.x_of(1040), chart.scale().px(6.0)).toPoint(),
    )
    assert [m.frame for m in session.shot.marks] == [1001, 1040]
    assert session.shot.marks[1].target.metres == pytest.approx(6.0, rel=0.05)
    place = chart.mark_place(session.shot.marks[1])
    goal = QPointF(chart.x_of(1050), chart.scale().px(12.0))
    user.drag(chart, place, goal)
    assert session.shot.marks[1].frame == 1050
    assert session.shot.marks[1].target.metres == pytest.approx(12.0, rel=0.05)
    assert session.history.last.name == "Move mark"

    pull = window.cards[5].marks
    pull.timing.ease.setCurrentIndex(1)
    pull.timing.ease.activated.emit(1)
    assert session.shot.marks[1].ease == "even"
    user.type(pull.frame, "1044")
    assert session.shot.marks[1].frame == 1044

    chart.setFocus()
    session.selection.marks = (1044.0,)
    QTest.keyClick(chart, Qt.Key.Key_Delete)
    assert [m.frame for m in session.shot.marks] == [1001]
    session.selection.marks = (1001.0,)
    QTest.keyClick(chart, Qt.Key.Key_Delete)
    assert len(session.shot.marks) == 1
    assert "at least one mark" in window.says.text()


def test_a_mark_dragged_to_a_subjects_line_is_on_the_subject(make_window):
    user = make_window()
    window, session, chart = user.window, user.window.session, user.window.chart
    window.document.open(DEMO)
    user.opened()
    session.show_shot(1)
    user.rest()
    mark = session.shot.marks[3]
    row = session.survey.subjects.index(1)
    y = chart.scale().px(float(session.survey.focus_distance_m[row, 1090 - 1001]))
    user.drag(chart, chart.mark_place(mark), QPointF(chart.x_of(1090), y))
    assert session.shot.marks[3].target == SubjectTarget(number=1)
    assert session.shot.marks[3].frame == 1090


def test_keys_of_stop_and_focal_length(user):
    window, session = user.window, user.window.session
    user.key(Qt.Key.Key_5)
    pull = window.cards[5].marks
    pull.stop_key.click()
    session.show_frame(1040)
    user.type(pull.stop, "8")
    assert [k.value for k in session.glass.f_number.keys] == pytest.approx([4.0, 8.0])
    assert pull.stop_key.isChecked()
    session.show_frame(1020)
    assert 4 < float(session.camera.f_number) < 8
    assert not pull.stop_key.isChecked()
    session.show_frame(1040)
    pull.stop_key.click()
    assert [k.frame for k in session.glass.f_number.keys] == [1001]
    assert "1001: f/4" in pull.keys.text()


def test_brackets_step_the_stop_and_space_plays(user):
    window, session = user.window, user.window.session
    window.chart.setFocus()
    user.key(Qt.Key.Key_BracketRight, widget=window.chart)
    assert float(session.camera.f_number) == pytest.approx(4.5)
    user.key(Qt.Key.Key_BracketLeft, widget=window.chart)
    user.key(Qt.Key.Key_BracketLeft, widget=window.chart)
    assert float(session.camera.f_number) == pytest.approx(3.5)
    user.key(Qt.Key.Key_Space, widget=window.chart)
    user.wait(lambda: session.frame > 1003)
    user.key(Qt.Key.Key_Space, widget=window.chart)
    frame = session.frame
    user.rest(0.2)
    assert session.frame == frame


def test_every_edit_can_be_undone_by_name(user):
    window, session = user.window, user.window.session
    start = session.plan
    glass, tape = window.cards[3].lens, window.cards[2].subjects
    user.type(glass.focal, "35")
    user.type(glass.stop, "5.6")
    user.type(glass.sensor_width, "30")
    user.click(window.picture, picture_point(window, [-3.3, 1.2, -4.5]))
    user.key(Qt.Key.Key_2)
    tape.model.setData(tape.model.index(len(session.plan.subjects) - 1), "Window")
    tape.delete_button.click()
    user.key(Qt.Key.Key_M, widget=window.chart)
    names = [step.name for step in session.history.steps]
    assert names[:3] == ["Focal length 35 mm", "Stop f/5.6", "Sensor size"]
    assert names[3].startswith("Add subject")
    assert names[4].startswith("Rename")
    assert names[5] == "Delete subject Window"
    last = session.plan
    while session.history.last:
        session.undo()
    assert session.plan == start
    while session.history.next:
        session.redo()
    assert session.plan == last


def test_unsaved_work_is_asked_about(user, monkeypatch, tmp_path):
    window, session = user.window, user.window.session
    user.type(window.cards[3].lens.focal, "35")
    asked = []

    def answer(button):
        monkeypatch.setattr(QMessageBox, "question", lambda *a: asked.append(a) or button)

    answer(QMessageBox.StandardButton.Cancel)
    assert window.close() is False
    window.document.open(DEMO)
    assert session.plan.name == "night_ferry"
    answer(QMessageBox.StandardButton.Save)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "kept.kobrel"), ""))
    assert window.document.may_leave() is True
    assert open_plan(tmp_path / "kept.kobrel") == session.plan
    user.type(window.cards[3].lens.focal, "40")
    answer(QMessageBox.StandardButton.Discard)
    assert window.document.may_leave() is True
    assert len(asked) == 4


def test_the_window_comes_back_as_it_was(make_window, tmp_path):
    first = make_window()
    first.window.document.open(DEMO)
    first.opened()
    first.window.session.show_shot(2)
    first.window.session.show_frame(1033)
    first.window.session.view.card = 5
    first.window.close()
    second = make_window()
    assert second.window.session.view.card == 5
    assert second.window.document.open_last()
    second.opened()
    assert second.window.session.shot.name == "03"
    assert second.window.session.frame == 1033
    assert Path(second.window.document.recent()[0]) == DEMO


@pytest.mark.parametrize("content", ["{", '{"format": 77}'])
def test_a_broken_file_leaves_the_work_as_it_is(user, tmp_path, content):
    window, session = user.window, user.window.session
    plan = session.plan
    bad = tmp_path / "bad.kobrel"
    bad.write_text(content)
    window.document.open(bad)
    user.wait(lambda: window.jobs.job is None)
    assert session.plan is plan
    assert "bad.kobrel" in window.says.text()


def test_opening_can_be_cancelled(user):
    window, session = user.window, user.window.session
    plan = session.plan
    window.document.open(DEMO)
    window.jobs.cancel_button.click()
    user.wait(lambda: window.jobs.job is None)
    assert session.plan is plan
    assert "Cancelled" in window.says.text()


def test_a_frame_is_rendered_to_a_file_beside_the_window(user, tmp_path):
    window, session = user.window, user.window.session
    session.edit_shot("small", lambda shot: shot.replace(width_px=64))
    window.exports.render(tmp_path / "frame.exr", samples=2)
    assert not window.jobs.isHidden()
    user.wait(lambda: window.jobs.job is None)
    assert (tmp_path / "frame.exr").exists()
    user.rest()
    assert "Written" in window.says.text()


def test_a_shot_is_planned_by_keyboard_alone(demo_user, tmp_path, monkeypatch):
    """Stop, focus and a mark, an iris, a kept picture and its comparison, and saving, without the mouse."""
    user, window, session = demo_user, demo_user.window, demo_user.window.session
    keys, shift = Qt.Key, Qt.KeyboardModifier.ShiftModifier

    def press(key, held=Qt.KeyboardModifier.NoModifier):
        QTest.keyClick(QApplication.focusWidget() or window, key, held)
        QApplication.processEvents()

    def walk_to(name):
        for _ in range(120):
            press(keys.Key_Tab)
            focused = QApplication.focusWidget()
            if focused is not None and focused.accessibleName() == name:
                return focused
        raise AssertionError(name)

    press(keys.Key_3)
    press(keys.Key_Backtab, shift)  # from here on Tab walks
    field = walk_to("Stop")
    QTest.keyClicks(field, "4")
    press(keys.Key_Return)
    assert session.shot.glass.f_number.value == 4.0
    field = walk_to("Focus distance")
    QTest.keyClicks(field, "5 m")
    press(keys.Key_Return)
    assert float(session.camera.focus_m) == pytest.approx(5.0)
    window.picture.setFocus()
    press(keys.Key_End)
    marks = len(session.shot.marks)
    press(keys.Key_M)
    assert len(session.shot.marks) >= marks
    press(keys.Key_BracketRight)
    assert session.shot.glass.f_number.value > 4.0
    press(keys.Key_P)
    user.wait(lambda: len(session.plan.proofs) == 1)
    press(keys.Key_6)
    assert session.view.seen == "wall"
    grid = window.body.wall.grid
    grid.setFocus()
    press(keys.Key_Right)
    press(keys.Key_Return)
    assert session.view.wall_mode == "side"
    press(keys.Key_Escape)
    assert session.view.wall_mode == "all"
    monkeypatch.setattr(
        "kobrel.desk.window.document.ask_target", lambda *_args, **_more: tmp_path / "by_keys.kobrel"
    )
    QTest.keyClick(window, keys.Key_S, Qt.KeyboardModifier.ControlModifier)
    user.wait((tmp_path / "by_keys.kobrel").exists)
    assert (tmp_path / "by_keys.proofs").is_dir()
