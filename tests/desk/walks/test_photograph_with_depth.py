"""The walk about a photograph with depth, from an empty plan to a movie."""

from pathlib import Path

import av
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from tests.desk.conftest import pick
from tests.desk.test_plates import empty, settled  # noqa: F401  a fixture among them
from tests.desk.test_proof import page_of
from tests.desk.test_taping import click_button
from tests.desk.walks.material import disparity, portrait

HEAD, WALL, SHOULDER = (0.5, 78 / 240), (0.12, 0.3), (0.45, 0.6)


def place_of(user, place):
    box = user.window.picture.frame_rect()
    return QPointF(box.left() + place[0] * box.width(), box.top() + place[1] * box.height())


def axial_m(session, row=-1):
    return float(session.now.survey.sight.axial_m[row, session.now.row])


@pytest.fixture
def photographed(empty, tmp_path, monkeypatch):  # noqa: F811
    """A new plan's only shot on a photograph and its disparity, each chosen in a dialog."""
    session = empty.window.session
    names = iter((str(disparity(tmp_path / "depth.png")), str(portrait(tmp_path / "photo.png"))))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (next(names), ""))
    page = page_of(empty, "Defocus")
    click_button(empty, by_text(page, "Depth pass…"))
    settled(empty)
    pick(page.kind, "Normalised, inverse")
    empty.type(page.near, "1.2 m")
    empty.type(page.far, "9 m")
    if not session.plan.finished_of(session.shot).rule.flipped:
        page.ticks["flipped"].click()
    settled(empty)
    empty.wait(lambda: empty.window.picture.status == "rendered image" and session.stage.built)
    return empty, page


def by_text(page, text):
    return next(each for each in page.findChildren(type(page.write)) if each.text() == text)


def test_a_photograph_with_depth_is_measured_focused_pulled_and_written(photographed, tmp_path):
    user, page = photographed
    window, session = user.window, user.window.session
    # What is clicked stands where the picture has it, whatever the camera of the new plan.
    user.click(window.picture, place_of(user, HEAD))
    assert axial_m(session) == pytest.approx(2.0, rel=0.01)
    user.click(window.picture, place_of(user, WALL))
    assert axial_m(session) == pytest.approx(9.0, rel=0.01)
    for step in range(3):
        QTest.mouseMove(window.picture, place_of(user, SHOULDER).toPoint() + QPoint(step, 0))
        user.rest(0.1)
    assert "2.00 m" in window.probe.text()

    # Calibrated by one known distance: all of it is taken farther.
    session.selection.subject = session.plan.subjects[0].number
    user.type(page.known, "3 m")
    settled(user)
    assert axial_m(session, 0) == pytest.approx(3.0, rel=0.01)
    assert axial_m(session, 1) == pytest.approx(13.5, rel=0.01)
    session.undo()
    settled(user)

    # Focus by click, and a pull from the wall to the head.
    window.picture.focus_key_held = True
    user.click(window.picture, place_of(user, WALL))
    session.show_frame(session.shot.first + 12)
    user.key(Qt.Key.Key_M)
    user.click(window.picture, place_of(user, HEAD))
    window.picture.focus_key_held = False
    assert float(session.camera.focus_m) == pytest.approx(2.0, rel=0.02)
    session.show_frame(session.shot.first)
    assert float(session.camera.focus_m) == pytest.approx(9.0, rel=0.02)

    # Another place for the camera: the picture goes with it, and the distances stay.
    made = session.shot.camera
    moved = made.replace(position_m=(5.0, 3.0, -2.0), aim_m=(-20.0, 0.0, 9.0))
    session.edit_shot("Camera", lambda shot: shot.replace(camera=moved))
    assert axial_m(session, 0) == pytest.approx(2.0, rel=0.01)
    user.wait(lambda: session.stage.built and window.picture.ready)
    user.click(window.picture, place_of(user, SHOULDER))
    assert len(session.plan.subjects) == 3, window.says.text()
    assert axial_m(session) == pytest.approx(2.0, rel=0.01)

    # A wrong picture, then the right one: everything is measured on the right one, and the other is gone.
    page.open(portrait(tmp_path / "wrong.png"), disparity(tmp_path / "wrong_depth.png", 30.0, 90.0))
    settled(user)
    page.open(tmp_path / "photo.png", tmp_path / "depth.png")
    settled(user)
    assert [Path(scene.path).name for scene in session.plan.scenes] == ["photo.png"]
    page.write_to(tmp_path / "photo.mp4")
    user.wait(lambda: window.jobs.job is None and (tmp_path / "photo.mp4").exists())
    with av.open(str(tmp_path / "photo.mp4")) as movie:
        assert len(list(movie.decode(video=0))) == 1
    click_button(user, by_text(page, "Remove"))
    settled(user)
    assert session.plan.scenes == ()
    user.click(window.picture, place_of(user, WALL))
    assert "Nothing here" in window.says.text()
