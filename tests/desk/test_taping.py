import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QFileDialog

from kobrel.plan import edit
from kobrel.plan.model import (
    CameraEnd,
    DistanceTarget,
    PointAnchor,
    StandInAnchor,
    SubjectEnd,
    SubjectTarget,
    SurfaceAnchor,
)
from kobrel.session.commands import blocking, subject_list, taping
from kobrel.session.commands.focusing import focus_on
from kobrel.session.selection import ChosenStandIn, ChosenTape


@pytest.fixture
def blocked(make_window):
    """A person and a box on a ground, on the Tape card."""
    user = make_window()
    window, session = user.window, user.window.session
    window.document.begin_empty()
    blocking.place(session, "ground", (0, 0, 0))
    blocking.place(session, "standing", (-0.5, 0, 1))
    blocking.place(session, "box", (1.0, 0, 0))
    user.wait(lambda: window.picture.ready and session.stage.built)
    user.key(Qt.Key.Key_2)
    assert session.view.card == 2
    return user


def in_picture(window, point):
    camera, box = window.session.camera, window.picture.frame_rect()
    sight = camera.see(point)
    return box.topLeft() + QPointF(float(sight.x_px), float(sight.y_px)) * (box.width() / camera.width_px)


def click_button(user, button):
    user.click(button, QPointF(button.width() / 2, button.height() / 2))


def test_a_tape_between_two_things_snaps_to_a_vertex(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    page = window.cards[2]
    page.show_page("Tapes")
    click_button(user, page.tapes.new)
    corner = np.array([0.7, 0.6, 0.3])  # of the box, at its upper left
    user.click(window.picture, in_picture(window, corner) + QPointF(3, 3))
    user.click(window.picture, in_picture(window, (-0.5, 1.2, 1.0)))
    tape = session.plan.tapes[0]
    assert isinstance(tape.start, SurfaceAnchor)
    assert isinstance(tape.end, SurfaceAnchor)
    numbers = taping.numbers_of(session, tape)
    np.testing.assert_allclose(numbers.start[0], corner, atol=1e-6)
    assert page.tapes.straight.text() == session.length(float(numbers.straight_m[0]))
    straight, axial, across = (float(x[0]) for x in (numbers.straight_m, numbers.axial_m, numbers.across_m))
    assert straight**2 == pytest.approx(axial**2 + across**2)
    # It rides on what it is tied to.
    session.selection.item = ChosenStandIn(3)
    blocking.move(session, (2.0, 0, 0))
    np.testing.assert_allclose(taping.numbers_of(session, tape).start[0], corner + (1, 0, 0), atol=1e-6)


def test_a_tape_is_made_in_overhead_and_ends_on_subjects(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    blocking.place(session, "ball", (0, 0, -2))
    blocking.make_subject(session)
    user.key(Qt.Key.Key_T)
    user.click(window.overhead, window.overhead.place(0, 0))
    row = dict(window.overhead.subject_places())[0]
    user.click(window.overhead, row)
    assert (session.plan.tapes[0].start, session.plan.tapes[0].end) == (CameraEnd(), SubjectEnd(number=1))
    # On a thing that is seen from above, it lies on its surface.
    user.key(Qt.Key.Key_T)
    user.click(window.overhead, window.overhead.place(0, 0))
    user.click(window.overhead, window.overhead.where((1.1, 0, 0.1)))
    end = session.plan.tapes[1].end
    assert end == StandInAnchor(number=3)
    user.key(Qt.Key.Key_T)
    user.click(window.overhead, window.overhead.where((-0.5, 1.6, 1.0)) + QPointF(0, 30))
    assert session.selection.tool.start.scene == "stand-in 1"


def test_an_end_that_only_looks_right_is_shown_as_off_and_put_right(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    floating = PointAnchor(position_m=(1.0, 1.4, 0.0))  # 0.8 m above the box
    plan, tape = edit.add_tape(session.plan, "Stray", CameraEnd(), floating)
    session.edit("tape", plan)
    session.selection.item = ChosenTape("Stray")
    page = window.cards[2]
    page.show_page("Tapes")
    user.rest()
    assert "not on a surface" in page.tapes.off.text()
    assert page.tapes.off.isVisible()
    numbers = taping.numbers_of(session, tape)
    _point, miss = window.second.tapes.misses(tape, numbers)[0]
    assert miss.gap_m == pytest.approx(0.8, rel=0.03)  # the camera is a little tilted
    click_button(user, page.tapes.snap)
    end = session.plan.tapes[0].end
    assert end.scene == "stand-in 3"
    assert not page.tapes.off.isVisible()
    np.testing.assert_allclose(taping.numbers_of(session, session.plan.tapes[0]).end[0][1], 0.6, atol=1e-6)


def test_ends_are_dragged_and_typed(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    plan, _ = edit.add_tape(session.plan, "Free", CameraEnd(), PointAnchor(position_m=(0.3, 1.0, 2.0)))
    session.edit("tape", plan)
    view = window.overhead
    user.drag(view, view.where((0.3, 1.0, 2.0)), view.where((-0.2, 1.0, 3.0)))
    end = session.plan.tapes[0].end
    np.testing.assert_allclose(view.flat(end.position_m), view.flat((-0.2, 1.0, 3.0)), atol=0.05)
    assert session.selection.tape == "Free"
    page = window.cards[2]
    page.show_page("Tapes")
    user.rest()
    user.type(page.tapes.end[1], "50 cm")
    assert session.plan.tapes[0].end.position_m[1] == 0.5
    assert not page.tapes.start[0].isEnabled()
    # Dragged onto a stand-in's point it is tied to it.
    spot = view.where(session.stage.world(blocking_place(2), [1001])[0, :3, 3])
    user.drag(view, view.where(session.plan.tapes[0].end.position_m), spot)
    assert session.plan.tapes[0].end == StandInAnchor(number=2)


def blocking_place(number):
    from kobrel.plan.space.stand_ins import MEASURED, scene_of
    from kobrel.stage.stage import Place

    return Place(scene_of(number), MEASURED)


def test_one_key_focuses_on_a_free_end_and_tapes_are_renamed_and_deleted(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    point = (0.3, 1.0, 2.0)
    plan, _ = edit.add_tape(session.plan, "Free", CameraEnd(), PointAnchor(position_m=point))
    session.edit("tape", plan)
    session.selection.item = ChosenTape("Free")
    user.key(Qt.Key.Key_F)
    distance = float(session.camera.see(point).axial_m)
    assert session.shot.marks[0].target == DistanceTarget(metres=distance)
    page = window.cards[2]
    page.show_page("Tapes")
    model = page.tapes._model
    assert model.setData(model.index(0, 0), "To the door")
    assert [t.name for t in session.plan.tapes] == ["To the door"]
    click_button(user, page.tapes.delete)
    assert session.plan.tapes == ()


def test_a_tape_wants_two_different_ends(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    user.key(Qt.Key.Key_T)
    user.key(Qt.Key.Key_C)
    user.key(Qt.Key.Key_C)
    assert session.plan.tapes == ()
    assert "are the same point" in window.says.text()
    user.key(Qt.Key.Key_Escape)
    assert session.selection.tool is None
    user.key(Qt.Key.Key_F)
    assert "Select a tape first" in window.says.text()


def test_the_probe_reads_copies_and_focuses(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    from PySide6.QtTest import QTest

    user.key(Qt.Key.Key_I)
    at = in_picture(window, (1.0, 0.3, 0.3)).toPoint()
    user.rest(0.05)
    QTest.mouseMove(window.picture, at)
    user.rest(0.05)
    camera = session.camera
    sight = camera.see((1.0, 0.3, 0.3))
    assert session.length(float(sight.axial_m)) in window.probe.text()
    assert "Box" in window.probe.text()
    user.click(window.picture, QPointF(at))
    assert session.plan.subjects == ()
    text = QGuiApplication.clipboard().text()
    assert "on axis" in text
    assert "straight" in text
    QTest.keyPress(window, Qt.Key.Key_D)
    user.click(window.picture, QPointF(at))
    QTest.keyRelease(window, Qt.Key.Key_D)
    assert session.shot.marks[0].target.metres == pytest.approx(float(sight.axial_m), rel=0.01)


def subjects_page(user):
    page = user.window.cards[2]
    page.show_page("Subjects")
    return page.subjects


def test_subjects_are_ordered_merged_tied_and_given_depth(blocked):
    user, session = blocked, blocked.window.session
    page = subjects_page(user)
    for number in (2, 3):
        session.selection.item = ChosenStandIn(number)
        blocking.make_subject(session)
    person, box = session.plan.subjects
    assert person.half_depth_m > 0
    focus_on(session, SubjectTarget(number=box.number))
    plan, _ = edit.add_tape(session.plan, "t", CameraEnd(), SubjectEnd(number=box.number))
    session.edit("tape", plan)
    page.list.setCurrentIndex(page.model.index(1))
    click_button(user, page.up)
    assert [s.number for s in session.plan.subjects] == [2, 1]
    page.sorting.setCurrentIndex(1)
    page.sorting.activated.emit(1)
    assert [page.model.subject(page.model.index(i)).number for i in (0, 1)] == [1, 2]
    assert not page.up.isEnabled()

    # Depth makes sharp mean all of it.
    session.edit_glass("stop", f_number=session.glass.f_number.replace(value=1.0))
    focus_on(session, SubjectTarget(number=1))
    session.selection.subject = 1
    user.type(page.half_depth, "0")
    row = session.survey.subjects.index(1)
    assert session.survey.state[row, 0] == 0
    user.type(page.half_depth, "1.5")
    assert session.survey.state[row, 0] == 1

    # Another tie.
    page.kind.setCurrentIndex(page.kind.findData("point"))
    page.kind.activated.emit(1)
    anchor = session.plan.subject(1).anchor
    assert isinstance(anchor, PointAnchor)
    user.type(page.point[0], "1.25")
    assert session.plan.subject(1).anchor.position_m[0] == 1.25
    click_button(user, page.key)
    assert session.plan.subject(1).anchor.keys[0].frame == session.frame

    focus_on(session, SubjectTarget(number=2))
    session.selection.subject = 2
    subject_list.merge_chosen(session, 1)
    assert [s.number for s in session.plan.subjects] == [1]
    assert session.shot.marks[0].target == SubjectTarget(number=1)
    assert session.plan.tapes[0].end == SubjectEnd(number=1)
    session.undo()
    assert len(session.plan.subjects) == 2


def test_a_node_can_be_measured_in_four_ways(make_window, moving_scene):
    user = make_window()
    user.window.document.open(moving_scene)
    user.opened()
    session = user.window.session
    user.key(Qt.Key.Key_2)
    page = subjects_page(user)
    user.wait(lambda: session.stage.built)
    middle = session.stage.boxes(session.frame)[0].mean(axis=0)
    user.click(user.window.picture, in_picture(user.window, middle) + QPointF(22, 16))
    kinds = [page.kind.itemData(i) for i in range(page.kind.count())]
    assert kinds == ["surface", "bounds", "origin", "nearest", "point"]
    places = {}
    for kind in ("bounds", "origin", "nearest", "surface"):
        page.kind.setCurrentIndex(page.kind.findData(kind))
        page.kind.activated.emit(0)
        subject = session.plan.subject(session.selection.subject)
        assert subject.anchor.kind == kind
        row = session.survey.subjects.index(subject.number)
        places[kind] = session.survey.sight.straight_m[row]
    np.testing.assert_allclose(places["bounds"], places["origin"])
    assert np.all(places["nearest"] < places["bounds"] - 0.2)


def test_readings_are_typed_pasted_opened_and_made_subjects(blocked, tmp_path, monkeypatch):
    user, window, session = blocked, blocked.window, blocked.window.session
    card = window.cards[2]
    card.show_page("Laser")
    page = card.readings
    page.title.setText("Door")
    user.type(page.distance, "3.5 m")
    QGuiApplication.clipboard().setText("name;distance;unit\nLamp;412;cm\nDoor;2;m\n")
    click_button(user, page.paste)
    path = tmp_path / "far.csv"
    path.write_text("Tree, 10' 6\"\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    click_button(user, page.open)
    assert [(r.name, round(r.distance_m, 4)) for r in session.plan.readings] == [
        ("Door", 3.5), ("Lamp", 4.12), ("Door 2", 2.0), ("Tree", 3.2004),
    ]  # fmt: skip
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "out.csv"), ""))
    click_button(user, page.save)
    assert "Lamp,4.12,m" in (tmp_path / "out.csv").read_text()
    click_button(user, page.subjects)
    numbers = session.survey
    np.testing.assert_allclose(numbers.sight.straight_m[:, 0], [3.5, 4.12, 2.0, 3.2004], rtol=1e-9)
    kept = session.plan
    QGuiApplication.clipboard().setText("Lamp; 3 days")
    click_button(user, page.paste)
    assert "Line 1" in page.state.text()
    assert session.plan is kept
    page.table.selectRow(1)
    click_button(user, page.delete)
    assert [r.name for r in session.plan.readings] == ["Door", "Door 2", "Tree"]


def test_the_simulated_meter_is_started_aimed_and_read(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    card = window.cards[2]
    card.show_page("Laser")
    page = card.readings
    click_button(user, page.read)
    user.wait(lambda: "No meter at" in page.state.text() or "gave" in page.state.text())
    click_button(user, page.start)
    user.wait(lambda: "is on" in page.state.text(), 60)
    click_button(user, page.aim)
    user.click(window.picture, in_picture(window, (1.0, 0.3, 0.3)))
    user.wait(lambda: len(session.plan.readings) == 1)
    reading = session.plan.readings[0]
    true = float(session.camera.see((1.0, 0.3, 0.3)).straight_m)
    assert reading.distance_m == pytest.approx(true, abs=0.03)
    assert 0 < reading.spread_m < 0.01
    assert reading.count >= 3
    np.testing.assert_allclose(reading.point_m, (1.0, 0.3, 0.3), atol=0.03)
    page.address.setText("nowhere")
    click_button(user, page.read)
    assert "host:port" in page.state.text()
    click_button(user, page.start)
    user.wait(lambda: "stopped" in page.state.text())


def test_lengths_in_the_scenes_own_unit(make_window, moving_scene):
    user = make_window()
    user.window.document.open(moving_scene)
    user.opened()
    session, card = user.window.session, user.window.cards[2]
    user.key(Qt.Key.Key_2)
    card.unit.setCurrentIndex(card.unit.findData("scene"))
    card.unit.activated.emit(0)
    assert session.plan.unit == "scene"
    assert session.length(1.23) == "123 cm"
    focus = user.window.cards[3].lens.focus
    user.key(Qt.Key.Key_3)
    user.type(focus, "250")
    assert float(session.camera.focus_m) == pytest.approx(2.5)


def test_tapes_and_depths_are_seen_on_barrel_and_chart_too(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    session.selection.item = ChosenStandIn(2)
    blocking.make_subject(session)
    far = PointAnchor(position_m=(0.0, 1.2, -3.0))
    focus_on(session, DistanceTarget(metres=9.0))
    user.rest()

    def pixel(view, x, y):
        image = view.grab().toImage()
        return image.pixelColor(round(x * view.devicePixelRatioF()), round(y * view.devicePixelRatioF()))

    barrel, chart = window.barrel, window.chart
    scale = barrel.scale()
    near = float(session.survey.focus_distance_m[0, 0]) - 0.9
    before = pixel(barrel, scale.px(near), barrel.line_y - 3)
    session.edit("depth", edit.with_subject(session.plan, 1, half_depth_m=1.0))
    user.rest()
    assert pixel(barrel, barrel.scale().px(near), barrel.line_y - 3) != before

    session.view.card = 5
    user.rest()
    plain = chart.grab().toImage()
    plan, _ = edit.add_tape(session.plan, "Far", CameraEnd(), far)
    session.edit("tape", plan)
    user.rest()
    distance = float(session.camera.see(far.position_m).axial_m)
    x, line = barrel.scale().px(distance), round(barrel.line_y)
    assert any(pixel(barrel, x, y) != pixel(barrel, x + 6, y) for y in range(line - 24, line - 1))
    session.selection.item = ChosenTape("Far")
    user.rest()
    assert chart.grab().toImage() != plain


def test_a_tape_beside_the_picture_is_not_drawn_over_its_surround(blocked):
    user, window, session = blocked, blocked.window, blocked.window.session
    picture = window.picture
    before = picture.grab().toImage()
    aside = PointAnchor(position_m=(-6.0, 1.4, 0.0))
    plan, _ = edit.add_tape(session.plan, "Aside", PointAnchor(position_m=(-5.0, 1.4, 0.0)), aside)
    session.edit("tape", plan)
    user.rest()
    camera, box = session.camera, picture.frame_rect()
    x = box.left() + float(camera.see((-5.5, 1.4, 0.0)).x_px) * box.width() / camera.width_px
    assert x < box.left()
    after = picture.grab().toImage()
    column = range(0, after.width(), 3)
    outside = [i for i in column if i / picture.devicePixelRatioF() < box.left() - 1]
    for i in outside:
        for j in range(0, after.height(), 3):
            assert after.pixelColor(i, j) == before.pixelColor(i, j)
