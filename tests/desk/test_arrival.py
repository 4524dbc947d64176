"""A scene is dropped on the window: what is seen and asked first, and how it goes on."""

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent, QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox

from kobrel.plan.instrument import Requirement
from kobrel.plan.measure.survey import SHARP
from kobrel.plan.model import BoundsAnchor, DistanceTarget, Mark
from kobrel.plan.space.overview import overview_camera
from kobrel.session.commands import arrival, briefing
from kobrel.session.commands.subject_list import add_subject
from kobrel.stage.people import standing
from tests.desk.conftest import pick
from tests.plan.test_arrival import a_file
from tests.stage.characters import Walker
from tests.stage.gltf_files import GltfFile
from tests.stage.test_alembic import walking  # noqa: F401  a fixture


def drop(window, path):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path))])
    window.dropEvent(
        QDropEvent(
            QPointF(300, 300),
            Qt.DropAction.CopyAction,
            data,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
    )


def arrived(user, path):
    """Drop a file and wait until its picture is there."""
    window, before = user.window, user.window.session.plan
    drop(window, path)
    user.wait(lambda: window.jobs.job is None and window.session.plan is not before)
    user.wait(lambda: window.picture.ready)
    return window.arrival


def file_of(kind, folder, request):
    if kind == "abc":
        return request.getfixturevalue("walking")
    if kind == "usda":
        return request.getfixturevalue("moving_scene")
    if kind in ("glb", "gltf"):
        return Walker().write(folder / f"walker.{kind}")
    path = folder / f"ball.{kind}"
    trimesh.creation.icosphere(radius=0.5).export(path)
    return path


@pytest.mark.parametrize("kind", ["usda", "glb", "gltf", "abc", "obj", "ply", "stl"])
def test_from_a_dropped_file_to_a_judged_rack(make_window, tmp_path, request, kind):
    user = make_window()
    window, session = user.window, user.window.session
    sheet = arrived(user, file_of(kind, tmp_path, request))
    if sheet is not None:
        assert sheet.isVisible()
        QTest.keyClick(sheet, Qt.Key.Key_Return)
        QApplication.processEvents()
    assert window.arrival is None
    now = session.now
    assert now is not None
    assert session.plan.scenes[0].path.endswith(kind)
    assert np.isfinite(now.survey.points).all()
    subject = session.plan.subjects[0]
    assert now.survey.state[0, now.row] == SHARP
    assert user.window.picture.image is not None
    user.key(Qt.Key.Key_M, widget=window.barrel)
    session.show_frame(session.shot.last)
    user.key(Qt.Key.Key_M, widget=window.barrel)
    user.key(Qt.Key.Key_3)
    focus = window.cards[3].lens.focus
    user.type(focus, f"{float(session.camera.focus_m) * 3:.5g} m")
    assert len(session.shot.marks) >= 2
    briefing.add(session, Requirement(subject=subject.number, kind="sharp"))
    verdicts = session.judged.verdicts
    assert verdicts.shape == (1, session.shot.last - session.shot.first + 1)
    assert session.undo
    user.wait(lambda: session.sight_report is not None)


def person_in_millimetres(path, named="Woman"):
    """A person and a camera of a file whose unit is not what it says: glTF in millimetres."""
    mesh = standing()
    file = GltfFile(cameras=[{"type": "perspective", "perspective": {"yfov": 0.6, "aspectRatio": 1.5}}])
    body = file.mesh(mesh.points * 1000, mesh.triangles.ravel().astype(np.uint16))
    file.node(name=named, mesh=body)
    file.node(name="view", camera=0, translation=[0, 900, 5000])
    return file.write(path)


def test_a_model_in_millimetres_is_asked_about_and_mended_by_a_click(make_window, tmp_path):
    user = make_window()
    session = user.window.session
    sheet = arrived(user, person_in_millimetres(tmp_path / "mm.glb"))
    assert "is 1780 m tall" in sheet.doubts.text()
    assert sheet.size_view.size_m()[1] == pytest.approx(1780, rel=1e-3)
    before = session.survey.sight.x_px[0, 0], float(session.camera.focus_m)
    sheet.doubts.mend()
    user.wait(lambda: session.stage.scenes["mm"].unit_m == 0.001)
    QApplication.processEvents()
    assert sheet.unit.currentText() == "Millimetres"
    assert sheet.unit_note.text() == "selected here"
    assert not sheet.doubts.isVisible()
    assert sheet.size_view.size_m()[1] == pytest.approx(1.78, rel=1e-3)
    assert session.survey.sight.x_px[0, 0] == pytest.approx(before[0])
    assert float(session.camera.focus_m) == pytest.approx(before[1] / 1000)
    session.undo()
    assert session.stage.scenes["mm"].unit_m == 1.0
    assert float(session.camera.focus_m) == pytest.approx(before[1])


def test_unit_and_axis_are_changed_live_and_the_camera_that_was_made_follows(make_window, tmp_path):
    user = make_window()
    window, session = user.window, user.window.session
    mesh = standing()
    points = mesh.points[:, [0, 2, 1]] * (100, -100, 100)
    trimesh.Trimesh(points, mesh.triangles, process=False).export(tmp_path / "figure.stl")
    sheet = arrived(user, tmp_path / "figure.stl")
    assert sheet.unit_note.text() == "not stored in file"
    assert any("does not say its unit" in line for line in sheet.told)
    pick(sheet.unit, "Centimetres")
    pick(sheet.up, "Z")
    _width, height, _depth = sheet.size_view.size_m()
    assert height == pytest.approx(1.78, abs=0.01)
    assert session.shot.camera == overview_camera(session.stage)
    user.wait(lambda: session.sight_report is not None)
    assert session.doubts == ()
    assert float(session.camera.focus_m) == pytest.approx(height * 2.7, rel=0.3)
    sheet.copy_button.click()
    assert "does not say its unit" in QGuiApplication.clipboard().text()
    sheet.grab()
    sheet.reject()
    QApplication.processEvents()
    assert window.arrival is None
    page = window.show_page(1, "Scene files")
    assert page.unit.currentText() == "Centimetres"
    page.first_sight.click()
    assert window.arrival is not None
    assert window.arrival.isVisible()


def test_cameras_are_chosen_and_variants_shown(make_window, tmp_path):
    user = make_window()
    window, session = user.window, user.window.session
    sheet = arrived(user, a_file(tmp_path / "three.glb", cameras=(4.0, 6.0, 8.0)))
    assert [box.isChecked() for box in sheet.cameras.values()] == [True] * 3
    sheet.cameras["/cam1"].click()
    assert [shot.camera.path for shot in session.plan.shots] == ["/cam0", "/cam2"]
    sheet.cameras["/cam1"].click()
    assert sorted(shot.camera.path for shot in session.plan.shots) == ["/cam0", "/cam1", "/cam2"]
    assert len({shot.name for shot in session.plan.shots}) == 3
    for path in ("/cam0", "/cam1", "/cam2"):
        sheet.cameras[path].click()
    assert len(session.plan.shots) == 1  # one shot has to stay
    assert sum(box.isChecked() for box in sheet.cameras.values()) == 1
    sheet.accept()

    file = GltfFile()
    nodes = [file.node(name=name, mesh=file.mesh()) for name in ("summer", "winter")]
    file.json["scenes"] = [{"name": n, "nodes": [k]} for k, n in zip(nodes, ("warm", "cold"), strict=True)]
    session.mark_saved()
    window.document.open(file.write(tmp_path / "seasons.glb"))
    user.wait(lambda: window.arrival is not None and window.arrival.name == "seasons")
    pick(window.arrival.choices["scene"], "cold")
    user.wait(lambda: session.stage.scenes["seasons"].find("/winter") >= 0)
    user.wait(lambda: window.jobs.job is None)
    assert window.arrival.choices["scene"].currentText() == "cold"
    assert session.plan.scenes[0].choices == (("scene", "cold"),)


def test_an_empty_picture_and_a_lost_focus_are_told_and_mended_by_a_click(make_window, tmp_path):
    user = make_window()
    window, session = user.window, user.window.session
    arrived(user, a_file(tmp_path / "s.glb"))
    user.opened()
    user.key(Qt.Key.Key_1)
    lost = Mark(frame=float(session.shot.first), target=DistanceTarget(metres=0.05))
    session.edit_shot("lose the focus", lambda shot: shot.replace(marks=(lost,)))
    user.wait(lambda: session.doubts)
    assert "nothing is at the focus distance" in window.says.text()
    assert window.mend.text() == "Focus on frame centre"
    assert "nothing is at the focus distance" in window.cards[1].doubts.text()
    assert window.cards[1].look_out.text() == ""
    window.mend.click()
    user.wait(lambda: session.sight_report is not None and not session.doubts)
    assert not window.mend.isVisible()
    assert window.cards[1].look_out.text() == "No clipping, occlusion or subjects out of frame."
    away = overview_camera(session.stage).replace(aim_m=(0.0, 500.0, 0.0))
    session.edit_shot("look away", lambda shot: shot.replace(camera=away))
    user.wait(lambda: session.doubts)
    assert "nothing is in frame" in session.doubts[0].text
    window.cards[1].doubts.mend()
    user.wait(lambda: session.sight_report is not None and not session.doubts)


def test_a_scene_that_was_exported_anew_keeps_its_subjects(make_window, tmp_path, monkeypatch):
    monkeypatch.setattr(QMessageBox, "open", lambda *a: None)
    user = make_window()
    window, session = user.window, user.window.session
    path = person_in_millimetres(tmp_path / "p.glb", "Body_old")
    arrived(user, path)
    user.opened()
    add_subject(session, "all", BoundsAnchor(scene="p", node="/Body_old"))
    surface = session.plan.subjects[0].anchor
    told = []
    window.files.told.connect(lambda _title, lines: told.extend(lines))
    person_in_millimetres(path, "Body_new")
    window.files.reload([str(path)])
    user.wait(lambda: window.jobs.job is None and session.plan.subjects[0].anchor.node == "/Body_new")
    assert session.plan.subjects[0].anchor == surface.replace(node="/Body_new")
    assert session.plan.subjects[1].anchor.node == "/Body_new"
    assert any("found by its place" in line for line in told)
    assert np.isfinite(session.survey.points).all()
    assert session.history.last.name == "Relink objects"


def test_what_a_command_cannot_do_it_says(demo_session):
    session = demo_session
    arrival.choose(session, "nothing", "scene", "x")
    arrival.take_cameras(session, "nothing", ["/a"])
    arrival.take_cameras(session, session.plan.scenes[0].name, [])
    assert session.history.is_saved
