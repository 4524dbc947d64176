import os
import shutil
import time

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox

from kobrel.plan.model import BoundsAnchor
from kobrel.session.commands.subject_list import add_subject
from kobrel.session.selection import ChosenNode
from kobrel.stage.stage import Place
from tests.conftest import write_mesh


@pytest.fixture
def opened(make_window, moving_scene):
    user = make_window()
    user.window.document.open(moving_scene)
    user.opened()
    user.key(Qt.Key.Key_1)
    user.window.cards[1].show_page("Scene files")
    user.rest()
    return user


def triangle(path, size=1.0):
    return write_mesh(path, [[0, 0, 0], [size, 0, 0], [0, size, 0]], [3], [0, 1, 2])


def click_button(user, button):
    user.click(button, QPointF(button.width() / 2, button.height() / 2))


def choose(monkeypatch, path):
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))


def labels(page):
    model = page.tree.model()

    def below(parent):
        for row in range(model.rowCount(parent)):
            index = model.index(row, 0, parent)
            yield index.data()
            yield from below(index)

    return list(below(page.tree.rootIndex()))


def test_a_second_scene_is_added_placed_turned_scaled_and_given_a_unit(opened, tmp_path, monkeypatch):
    user, window, session = opened, opened.window, opened.window.session
    page = window.cards[1].scenes
    choose(monkeypatch, triangle(tmp_path / "prop.usda"))
    click_button(user, page.add)
    user.wait(lambda: window.jobs.job is None and "prop" in session.stage.scenes)
    assert [scene.name for scene in session.plan.scenes] == ["moving", "prop"]
    page.tree.setCurrentIndex(page.tree.model().index(1, 0))
    user.type(page.place[0], "2 m")
    user.type(page.place[1], "-50 cm")
    user.type(page.turn, "90")
    user.type(page.scale, "3")
    prop = session.plan.scenes[1]
    assert (prop.position_m, prop.turn_deg, prop.scale) == ((2, -0.5, 0), 90, 3)
    before = np.ptp(session.stage.world(Place("prop", "/mesh"), [0])[0, :3, :3])
    page.unit.setCurrentIndex(page.unit.findText("Feet and inches"))
    page.unit.activated.emit(0)
    user.wait(lambda: window.jobs.job is None and session.stage.scenes["prop"].unit_m == 0.3048)
    after = np.ptp(session.stage.world(Place("prop", "/mesh"), [0])[0, :3, :3])
    assert after / before == pytest.approx(0.3048 / 0.01)
    session.undo()
    assert session.stage.scenes["prop"].unit_m == 0.01
    click_button(user, page.remove)
    assert [scene.name for scene in session.plan.scenes] == ["moving"]
    session.undo()
    assert "prop" in session.stage.scenes


def test_parts_are_found_hidden_isolated_and_shown(opened):
    user, window, session = opened, opened.window, opened.window.session
    page = window.cards[1].scenes
    assert labels(page) == ["moving", "Rig", "Cube", "Camera"]
    page.filter.setText("cub")
    assert labels(page) == ["moving", "Rig", "Cube"]
    page.filter.setText("")
    session.selection.item = ChosenNode(Place("moving", "/Rig/Cube"))
    user.rest()
    assert page.tree.currentIndex().data() == "Cube"
    click_button(user, page.hide_button)
    assert session.plan.scenes[0].hidden == ("/Rig/Cube",)
    user.wait(lambda: session.stage.built and "exact" in window.picture.status)
    assert session.stage.rows_below(Place("moving", "/Rig")) == []
    click_button(user, page.show_all)
    assert session.plan.scenes[0].hidden == ()
    index = page.tree.currentIndex()
    page.tree.model().setData(index, Qt.CheckState.Unchecked.value, Qt.ItemDataRole.CheckStateRole)
    assert session.plan.scenes[0].hidden == ("/Rig/Cube",)
    session.undo()
    session.selection.item = ChosenNode(Place("moving", "/Rig"))
    click_button(user, page.isolate)
    assert session.plan.scenes[0].hidden == ("/Camera",)


def test_a_click_in_picture_chooses_the_part_on_the_block_card(opened):
    user, window, session = opened, opened.window, opened.window.session
    user.wait(lambda: session.stage.built)
    camera, box = session.camera, window.picture.frame_rect()
    sight = camera.see(session.stage.boxes(session.frame)[0].mean(axis=0))
    scale = box.width() / camera.width_px
    at = box.topLeft() + QPointF(float(sight.x_px) * scale + 22, float(sight.y_px) * scale + 16)
    count = len(session.plan.subjects)
    user.click(window.picture, at)
    assert session.selection.node == Place("moving", "/Rig/Cube")
    assert window.cards[1].scenes.tree.currentIndex().data() == "Cube"
    assert len(session.plan.subjects) == count
    names = [action.text() for action in window.picture.menu_at(at).actions() if action.text()]
    assert names[0] == "Make Cube a subject"
    next(a for a in window.picture.menu_at(at).actions() if a.text().startswith("Isolate")).trigger()
    assert "/Camera" in session.plan.scenes[0].hidden


def test_a_missing_file_is_found_again_by_pointing_to_it(make_window, moving_scene, tmp_path, monkeypatch):
    user = make_window()
    window, session = user.window, user.window.session
    window.document.open(moving_scene)
    user.opened()
    path = tmp_path / "a.kobrel"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    add_subject(session, "Cube", BoundsAnchor(scene="moving", node="/Rig/Cube"))
    window.document.save()
    elsewhere = tmp_path / "moved"
    elsewhere.mkdir()
    shutil.move(moving_scene, elsewhere / "moving.usda")
    monkeypatch.setattr(QMessageBox, "open", lambda *a: None)
    kept = session.plan
    window.document.open(path)
    user.wait(lambda: window.jobs.job is None and session.plan is not kept)
    user.key(Qt.Key.Key_1)
    page = window.cards[1].scenes
    window.cards[1].show_page("Scene files")
    user.rest()
    assert "missing" in labels(page)[0]
    assert "is not in scene" in session.problem
    choose(monkeypatch, elsewhere / "moving.usda")
    click_button(user, page.find_button)
    user.wait(lambda: window.jobs.job is None and "moving" in session.stage.scenes)
    assert session.problem == ""
    assert not np.isnan(session.survey.points[-1]).any()


def test_a_changed_file_is_noticed_and_read_again_with_subjects_kept(make_window, tmp_path, monkeypatch):
    path = triangle(tmp_path / "prop.usda")
    user = make_window()
    window, session = user.window, user.window.session
    window.document.open(path)
    user.opened()
    add_subject(session, "Corner", BoundsAnchor(scene="prop", node="/mesh"))
    before = session.survey.points[-1, 0].copy()
    time.sleep(0.05)
    triangle(tmp_path / "other.usda", 3.0)
    os.replace(tmp_path / "other.usda", path)
    os.utime(path, (time.time() + 5, time.time() + 5))
    user.wait(window.newer.isVisible, 20)
    assert "Reload prop.usda" in window.newer.text()
    click_button(user, window.newer)
    user.wait(lambda: window.jobs.job is None and not np.allclose(session.survey.points[-1, 0], before))
    np.testing.assert_allclose(session.survey.points[-1, 0], before * 3, atol=1e-9)
    assert not window.newer.isVisible()

    # One that cannot be read any more stays as it was.
    told = []
    window.files.told.connect(lambda title, lines: told.append([title, *lines]))
    monkeypatch.setattr(QMessageBox, "open", lambda *a: None)
    path.write_text("no scene")
    window.files.reload([str(path)])
    user.wait(lambda: bool(told))
    assert "prop" in session.stage.scenes
    np.testing.assert_allclose(session.survey.points[-1, 0], before * 3, atol=1e-9)


def test_a_scene_dropped_on_a_plan_may_be_added_to_it(opened, tmp_path):
    user, window, session = opened, opened.window, opened.window.session
    menu = window.drop_menu([triangle(tmp_path / "prop.usda")])
    texts = [action.text() for action in menu.actions()]
    assert texts == ["Add prop.usda to this plan", "Open separately"]
    menu.actions()[0].trigger()
    user.wait(lambda: window.jobs.job is None and "prop" in session.stage.scenes)
    assert [scene.name for scene in session.plan.scenes] == ["moving", "prop"]
    session.undo()
    menu.actions()[1].trigger()
    user.wait(lambda: window.jobs.job is None and [s.name for s in session.plan.scenes] == ["prop"])


def test_edits_go_on_while_a_scene_is_read(opened, tmp_path):
    user, window, session = opened, opened.window, opened.window.session
    window.files.add(triangle(tmp_path / "prop.usda"))
    assert window.jobs.job is not None
    session.edit_glass("stop", f_number=session.glass.f_number.replace(value=5.6))
    assert "Something is still" not in window.says.text()
    user.wait(lambda: window.jobs.job is None and "prop" in session.stage.scenes)
    assert session.glass.f_number.value == 5.6
    # What cannot begin now begins when the other work has ended.
    window.exports.render(tmp_path / "frame.png", samples=4)
    window.files.add(triangle(tmp_path / "second.usda"))
    user.wait(lambda: window.jobs.job is None and "second" in session.stage.scenes)
    assert (tmp_path / "frame.png").exists()


def test_while_a_part_is_built_nothing_is_picked(opened):
    user, window, session = opened, opened.window, opened.window.session
    user.wait(lambda: window.picture.ready and session.stage.built)
    window.drawing.close()  # so that nobody builds
    session.selection.item = ChosenNode(Place("moving", "/Rig/Cube"))
    user.rest()
    click_button(user, window.cards[1].scenes.hide_button)
    assert not session.stage.built
    user.click(window.picture, window.picture.frame_rect().topLeft() + QPointF(20, 60))
    assert "not ready yet" in window.says.text()
