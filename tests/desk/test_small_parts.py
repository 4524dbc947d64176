import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QApplication, QWidget

from kobrel.desk.picture.guides import middle, paint_guides
from kobrel.desk.toolkit.paint import hull
from kobrel.desk.toolkit.panel import follow
from kobrel.memo import same
from kobrel.plan import edit
from kobrel.plan.look import Guides
from kobrel.plan.model import CameraEnd, DistanceTarget, PointAnchor, SubjectEnd
from kobrel.plan.space.anchors import on_surface
from kobrel.plan.staging import Library
from kobrel.plan.start import empty_plan
from kobrel.session.commands import blocking, taping, walking
from kobrel.session.commands.focusing import sharp_to, step_iris
from kobrel.session.commands.subject_list import add_subject
from kobrel.session.document import Document
from kobrel.session.selection import ChosenTape
from kobrel.session.session import Session
from kobrel.session.tools import Tool
from kobrel.stage.stage import Stage
from tests.conftest import library_of


@pytest.fixture
def session(qapp, settings):
    made = Session()
    made.show_plan(empty_plan(), Stage(), Library())
    return made


@given(st.lists(st.tuples(st.integers(-50, 50), st.integers(-50, 50)), min_size=3, max_size=40))
def test_a_hull_holds_all_its_points_and_turns_one_way(places):
    outline = hull(np.array(places, float)).toList()
    if len(outline) < 3:
        return
    corners = np.array([(p.x(), p.y()) for p in outline])
    along = np.roll(corners, -1, axis=0) - corners
    for x, y in places:
        aside = along[:, 0] * (y - corners[:, 1]) - along[:, 1] * (x - corners[:, 0])
        assert np.all(aside >= -1e-9) or np.all(aside <= 1e-9)


def test_the_middle_of_a_box():
    box = QRectF(10, 20, 320, 180)
    assert middle(box, 0.5, 0.5) == QRectF(90, 65, 160, 90)


def painted(guides):
    image = QImage(300, 300, QImage.Format.Format_RGB32)
    image.fill(QColor("#808080"))
    painter = QPainter(image)
    paint_guides(painter, QRectF(0, 0, 300, 300), guides)
    painter.end()
    return image


def test_guides_are_drawn_where_they_say():
    grey = QColor("#808080")
    assert painted(Guides()) == painted(Guides(safe_percent=100))
    thirds = painted(Guides(thirds=True))
    assert thirds.pixelColor(100, 20) != grey
    assert thirds.pixelColor(50, 200) != grey
    assert thirds.pixelColor(50, 50) == grey
    assert painted(Guides(centre=True)).pixelColor(150, 144) != grey


def test_walking_changes_only_what_is_seen(session):
    before = session.plan
    walking.orbit(session, 0.3, 0.1)
    walking.pan(session, 0.1, 0.05)
    walking.dolly(session, 2)
    assert session.plan is before
    walk = session.walk
    np.testing.assert_allclose(session.camera.pose[:3, 3], walk.position_m)
    distance = np.linalg.norm(np.subtract(walk.position_m, walk.aim_m))
    start = before.shots[0].camera
    assert distance == pytest.approx(0.81 * np.linalg.norm(np.subtract(start.position_m, start.aim_m)))
    for _ in range(200):
        walking.dolly(session, 1)
    assert np.linalg.norm(np.subtract(session.walk.position_m, session.walk.aim_m)) > 0.009
    session.walk = None
    np.testing.assert_allclose(session.camera.pose[:3, 3], start.position_m)


def test_a_walk_is_taken_by_a_key_where_there_are_keys(session):
    session.edit_shot("orbit", lambda shot: shot.replace(camera=_orbit(shot)))
    session.show_frame(1050)
    walking.pan(session, 0.2, 0)
    walked = session.walk
    walking.take_walk(session)
    keys = session.shot.camera.keys
    assert [key.frame for key in keys] == [1001, 1050, 1096]
    assert keys[1].position_m == pytest.approx(walked.position_m)
    session.undo()
    assert len(session.shot.camera.keys) == 2


def _orbit(shot):
    from kobrel.plan.space import moves

    return moves.orbit(shot.camera, shot.first, shot.last)


def test_a_camera_of_a_file_becomes_ones_own_when_moved(qapp, settings, demo):
    made = Session()
    made.show_plan(*demo, library_of(*demo), shot_index=1)
    old = made.camera.pose.copy()
    walking.edit_camera(made, "Roll", roll_deg=5.0)
    assert made.shot.camera.kind == "made"
    np.testing.assert_allclose(made.camera.pose[:3, 3], old[:3, 3], atol=1e-6)
    np.testing.assert_allclose(made.camera.pose[:3, 2], old[:3, 2], atol=1e-6)


def test_numbers_stay_the_same_object_where_nothing_they_need_has_moved(session):
    add_subject(session, "Point", PointAnchor(position_m=(0, 1, 0)))
    blocking.place(session, "box", (1, 0, 0))
    before = session.survey
    blocking.move(session, (2, 0, 0))
    assert session.survey is before
    blocking.make_subject(session)
    with_box = session.survey
    blocking.move(session, (3, 0, 0))
    assert session.survey is not with_box
    assert session.survey.points[1, 0, 0] == pytest.approx(3)


def test_keys_tell_the_same_from_the_equal():
    plan = empty_plan()
    assert same((plan, 1, 2.0, "a"), (plan, 1, 2.0, "a"))
    assert not same((plan,), (empty_plan(),))
    assert not same((1,), (2,))


def test_the_band_of_an_orthographic_view_is_set_by_its_cone(session):
    session.edit_glass("ortho", projection="orthographic", field_m=4.0)
    near, far = (float(x) for x in session.camera.limits_m)
    sharp_to(session, (far + 6.0) / 2)
    assert float(session.camera.limits_m[1]) == pytest.approx((far + 6.0) / 2, rel=0.01)
    cone, stop = session.glass.cone_deg, session.glass.f_number.value
    step_iris(session, 3)
    assert session.glass.cone_deg == pytest.approx(cone / np.sqrt(2), rel=0.01)
    assert session.glass.f_number.value == stop
    assert near < 6.0


def test_a_tape_may_end_at_the_camera_and_focus_all_the_same(session):
    add_subject(session, "Nose", PointAnchor(position_m=(0, 1, 0)))
    plan, tape = edit.add_tape(session.plan, "t", SubjectEnd(number=1), CameraEnd())
    session.edit("t", plan)
    session.selection.item = ChosenTape(tape.name)
    taping.focus_on_end(session)
    assert session.subject_in_focus().number == 1


def test_a_tape_to_behind_the_camera_is_no_focus(session):
    plan, tape = edit.add_tape(session.plan, "t", CameraEnd(), PointAnchor(position_m=(0, 1, 20)))
    session.edit("t", plan)
    session.selection.item = ChosenTape(tape.name)
    said = []
    session.said.connect(said.append)
    kept = session.plan
    taping.focus_on_end(session)
    assert session.plan is kept
    assert "behind the camera" in said[-1]


@pytest.mark.parametrize(
    ("end", "words"),
    [
        (CameraEnd(), "camera"), (SubjectEnd(number=1), "Nose"), (SubjectEnd(number=8), "missing subject 8"),
        (PointAnchor(position_m=(0, 0, 0)), "a point"),
    ],
)  # fmt: skip
def test_ends_are_called_by_what_they_are_on(session, end, words):
    add_subject(session, "Nose", PointAnchor(position_m=(0, 1, 0)))
    assert taping.end_name(session, end) == words


def test_a_camera_end_starts_a_tape_from_nothing(session):
    taping.take_camera(session)
    assert session.selection.tool == Tool("tape", start=CameraEnd())
    taping.take_end(session, PointAnchor(position_m=(0, 1, 2)))
    assert session.plan.tapes[0].name == "camera to a point"
    assert session.selection.tool is None


def test_a_nudged_end_stays_tied_to_what_it_rides_on(qapp, settings, demo):
    made = Session()
    made.show_plan(*demo, library_of(*demo), shot_index=1)
    camera = made.camera
    made.stage.prepare()
    pick = made.stage.pick(made.frame, *camera.ray(0.5, 0.62, 1, 1))
    end = on_surface(pick)
    there = pick.point + (0.0, 0.1, 0.0)
    moved = taping.moved_end(made, end, there)
    assert (moved.scene, moved.node) == (end.scene, end.node)
    world = made.stage.world(pick.place, [made.frame])[0]
    np.testing.assert_allclose((world @ np.append(moved.local, 1))[:3], there, atol=1e-9)


def test_saving_an_unnamed_plan_names_it(make_window, tmp_path):
    user = make_window()
    window = user.window
    window.document.begin_empty()
    assert window.session.view.card == 1
    assert window.cards[1].stand_ins.isVisible()
    window.document.save_to(tmp_path / "Harbour.kobrel")
    assert window.session.plan.name == "Harbour"
    assert window.session.history.is_saved
    assert window.title.heading.text() == "Harbour"
    user.key(Qt.Key.Key_3)
    assert window.session.shot.marks[0].target == DistanceTarget(metres=6.0)


def test_views_that_wait_are_painted_in_their_order(qapp, session):
    """While something is dragged, the view that is dragged in comes at once and others one after the other."""
    painted = []

    class Painted(QWidget):
        def __init__(self, name):
            super().__init__()
            self.name = name

        def update(self):
            painted.append(self.name)

    last, first, held = Painted("last"), Painted("first"), Painted("held")
    follow(session, last, (Document.plan,), order=3)
    follow(session, first, (Document.plan,), order=1)
    follow(session, held, (Document.plan,), order=2, first=lambda: True)
    session.begin_drag()
    session.set_keyed("Stop", "f_number", 4.0)
    assert painted == ["held"]
    end = time.monotonic() + 10
    while len(painted) < 3 and time.monotonic() < end:
        QApplication.processEvents()
    assert painted == ["held", "first", "last"]
    session.end_drag()
    session.set_keyed("Stop", "f_number", 5.6)
    assert sorted(painted[3:]) == ["first", "held", "last"], "without a drag none waits"
