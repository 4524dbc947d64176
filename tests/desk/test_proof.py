"""The Proof card by mouse and keys: pictures kept, compared and taken back; ladders; contact sheets; finished frames."""

from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox

from kobrel.desk.wall.pictures import Whole
from kobrel.exchange.render import render_frame
from kobrel.plan.file import open_plan
from kobrel.session import settings
from kobrel.stage.pictures.pixels import read_pixels
from kobrel.stage.scene import no_progress
from tests.desk.conftest import pick

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def keep(user, count=1):
    for _ in range(count):
        there = len(user.window.session.plan.proofs)
        user.key(Qt.Key.Key_P)
        user.wait(lambda there=there: len(user.window.session.plan.proofs) == there + 1)


def page_of(user, name):
    return user.window.show_page(6, name)


def grid_of(user):
    user.window.body.wall.show_proofs()
    QApplication.processEvents()
    return user.window.body.wall.grid


def click_on(user, grid, index, keys=Qt.KeyboardModifier.NoModifier):
    user.click(grid.viewport(), grid.box(index).center(), keys)


@pytest.fixture
def three(demo_user):
    """Three proofs at three stops hang on the wall."""
    for stop in (1.4, 2.8, 8.0):
        demo_user.window.session.set_keyed("Stop", "f_number", stop)
        demo_user.wait(lambda s=stop: demo_user.window.session.camera.f_number == s)
        keep(demo_user)
    page_of(demo_user, "Wall")
    return demo_user


def test_keep_three_compare_them_and_take_ones_stop_back(three):
    window, session = three.window, three.window.session
    assert [proof.name for proof in session.plan.proofs] == ["Proof 1", "Proof 2", "Proof 3"]
    assert session.history.last.name == "Add Proof 3"
    assert not window.barrel.isVisible()
    grid = grid_of(three)
    three.wait(
        lambda: all(isinstance(window.body.wall.pictures.small(p), QImage) for p in session.plan.proofs)
    )
    click_on(three, grid, 0)
    click_on(three, grid, 2, CTRL)
    assert session.selection.proofs == ("Proof 1", "Proof 3")
    page = window.cards[6].wall
    pick(page.mode, "Wipe")
    view = window.body.wall.compared
    assert view.isVisible()
    three.wait(
        lambda: all(isinstance(window.body.wall.pictures.whole(p), Whole) for p in session.plan.proofs[::2])
    )
    box = view._boxes()[0]
    three.drag(view, box.center(), QPointF(box.left() + box.width() / 4, box.center().y()))
    assert view.wiped == pytest.approx(0.25, abs=0.02)
    pick(page.mode, "Blur difference (px)")
    assert float(np.abs(view.difference()).max()) > 2.0
    assert view.grab().width() > 100
    pick(page.what, "Stop")
    user_stop = session.shot.glass.f_number.value
    page.take.click()
    assert user_stop == 8.0
    assert session.shot.glass.f_number.value == 1.4
    session.undo()
    assert session.shot.glass.f_number.value == 8.0


def test_chosen_ones_stand_side_by_side_with_one_zoom(three):
    window, session = three.window, three.window.session
    grid = grid_of(three)
    click_on(three, grid, 0)
    click_on(three, grid, 2, SHIFT)
    assert session.selection.proofs == ("Proof 1", "Proof 2", "Proof 3")
    three.key(Qt.Key.Key_Return, widget=grid)
    view = window.body.wall.compared
    assert session.view.wall_mode == "side"
    boxes = view._boxes()
    assert len(boxes) == 3
    assert not any(a.intersects(b) for a in boxes for b in boxes if a is not b)
    at = boxes[1].center() + QPointF(20, 10)
    place = view._place(boxes[1], at)
    three.wheel(view, at, 4)
    assert view.zoom == pytest.approx(4.0)
    assert view._place(view._boxes()[1], at).x() == pytest.approx(place.x(), abs=0.01)
    before = view._place(view._boxes()[0], boxes[0].center())
    three.drag(view, at, at + QPointF(30, 0))
    assert view._place(view._boxes()[0], boxes[0].center()).x() < before.x()
    pictures = window.body.wall.pictures
    three.wait(lambda: all(isinstance(pictures.whole(p), Whole) for p in session.plan.proofs[:2]))
    QTest.mouseMove(view, (at + QPointF(3, 3)).toPoint())
    QTest.mouseMove(view, at.toPoint())
    QApplication.processEvents()
    assert "px blur" in window.says.text()
    assert "stops" in window.says.text()
    QTest.keyPress(window, Qt.Key.Key_Z)
    assert view.loupe_held
    view.grab()
    QTest.keyRelease(window, Qt.Key.Key_Z)
    assert not view.loupe_held
    QTest.mouseDClick(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at.toPoint())
    assert view.zoom == 1.0
    session.view.wall_mode = "blink"
    first = view._shown()[0].name
    view.turn()
    assert view._shown()[0].name != first
    three.key(Qt.Key.Key_Escape, widget=view)
    assert session.view.wall_mode == "all"
    assert window.body.wall.grid.isVisible()


def test_proofs_are_renamed_rated_ordered_and_deleted_with_undo(three):
    window, session, page = three.window, three.window.session, three.window.cards[6].wall
    grid = grid_of(three)
    click_on(three, grid, 1)
    page.title.setFocus()
    page.title.selectAll()
    QTest.keyClicks(page.title, "The soft one")
    QTest.keyClick(page.title, Qt.Key.Key_Return)
    assert session.plan.proofs[1].name == "The soft one"
    assert session.selection.proofs == ("The soft one",)
    page.rating.setCurrentIndex(4)
    page.rating.activated.emit(4)
    assert session.plan.proofs[1].rating == 4
    pick(page.order, "By rating")
    assert window.proofing.hung()[0].name == "The soft one"
    assert session.settings.get(settings.PROOF_ORDER) == "rating"
    grid.setFocus()
    three.key(Qt.Key.Key_Right, widget=grid)
    assert session.selection.proofs == ("Proof 1",)
    three.key(Qt.Key.Key_Delete, widget=grid)
    assert len(session.plan.proofs) == 2
    session.undo()
    assert len(session.plan.proofs) == 3
    grid.selectAll()
    assert len(session.selection.proofs) == 3
    assert grid.spoken_value().startswith("3 proofs")
    page.alt.click()
    assert session.plan.shots[1].alts[-1].name in ("The soft one", "Proof 1")
    assert next(action.text() for action in grid.menu().actions()) == "Restore everything"


def test_proofs_lie_beside_the_plan_once_it_is_saved(demo_user, tmp_path):
    keep(demo_user)
    session = demo_user.window.session
    assert "proofs-" in session.plan.proofs[0].path
    assert demo_user.window.document.save_to(tmp_path / "mine.kobrel")
    assert Path(session.plan.proofs[0].path).parent == tmp_path / "mine.proofs"
    keep(demo_user)
    assert Path(session.plan.proofs[1].path).parent == tmp_path / "mine.proofs"
    demo_user.window.document.save()
    assert open_plan(tmp_path / "mine.kobrel").proofs == session.plan.proofs


def test_what_is_not_the_shots_picture_is_not_kept(demo_user):
    from kobrel.session.commands.walking import orbit

    session = demo_user.window.session
    orbit(session, 0.2, 0.0)
    demo_user.key(Qt.Key.Key_P)
    assert "Return to the shot camera" in demo_user.window.says.text()
    assert not session.plan.proofs


def test_an_empty_wall_says_what_to_do_and_a_lost_proof_why(demo_user):
    session = demo_user.window.session
    page_of(demo_user, "Wall")
    grid = grid_of(demo_user)
    assert grid.grab().width() > 100
    session.want("sheet")
    assert "Add proof saves" in demo_user.window.says.text()
    keep(demo_user)
    Path(session.plan.proofs[0].path).unlink()
    demo_user.window.body.wall.pictures.forget()
    pictures = demo_user.window.body.wall.pictures
    demo_user.wait(lambda: isinstance(pictures.whole(session.plan.proofs[0]), str))
    assert "no such file" in pictures.whole(session.plan.proofs[0])
    grid.grab()


def test_a_proof_is_seen_in_motion_beside_the_shot(three):
    window, session = three.window, three.window.session
    page = three.window.transport.compare.content
    page.refresh()
    window.playback.set_draft(width=96, passes=1)
    window.playback.set_range(1001, 1003)
    session.show_frame(1002)
    pick(page.beside, "proof: Proof 1")
    assert window.playback.beside == "proof: Proof 1"
    three.wait(lambda: window.playback.image(1002, 1) is not None and window.playback.image(1002) is not None)
    assert window.body.pair.isVisible()
    assert window.playback.image(1002, 1) != window.playback.image(1002)
    session.selection.proofs = ("Proof 1",)
    session.edit("Delete", session.plan.replace(proofs=()))
    three.wait(lambda: window.playback.beside == "")


# Ladders


def test_a_ladder_of_stops_is_drawn_taken_and_kept(demo_user):
    window, session = demo_user.window, demo_user.window.session
    session.settings.put(settings.LADDER_WIDTH, 320)
    session.settings.put(settings.LADDER_PASSES, 8)
    page = page_of(demo_user, "Bracket")
    field = page.values[0]
    assert len(field.text().split()) == 5
    field.setText("2 f/4 8,0")
    page.draw.click()
    demo_user.wait(lambda: window.jobs.job is None and len(window.proofing.rungs) == 3)
    assert [rung.name for rung in window.proofing.rungs] == ["f/2", "f/4", "f/8"]
    grid = grid_of(demo_user)
    QTest.mouseDClick(
        grid.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
        grid.box(1).center().toPoint(),
    )  # fmt: skip
    assert session.shot.glass.f_number.value == 4.0
    click_on(demo_user, grid, 2)
    page.keep.click()
    demo_user.wait(lambda: len(session.plan.proofs) == 1)
    assert session.plan.proofs[0].name == "f/8"
    field.setText("2 zwei")
    page.draw.click()
    assert "not a number" in window.says.text()
    page.kinds[1].setCurrentIndex(page.kinds[1].findData("blades"))
    page._propose(page.kinds[1], page.values[1])
    assert page.values[1].text() == "0 5 6 7 9"
    assert page.values[1].isVisible()


def test_a_ladder_can_be_cancelled_and_keeps_what_is_there(demo_user):
    window = demo_user.window
    window.session.settings.put(settings.LADDER_WIDTH, 320)
    window.session.settings.put(settings.LADDER_PASSES, 8)
    page = page_of(demo_user, "Bracket")
    page.every.show_value(1.0)
    page.frames.click()
    demo_user.wait(lambda: len(window.proofing.rungs) >= 1)
    window.jobs.cancel()
    demo_user.wait(lambda: window.jobs.job is None)
    assert 1 <= len(window.proofing.rungs) < 96
    assert window.session.view.wall == "ladder"


def test_a_contact_sheet_is_written_from_the_wall(three, tmp_path):
    import pypdfium2

    window = three.window
    window.cards[6].wall.session.want("sheet")
    dialog = window.sheet
    dialog.columns.show_value(2.0)
    path = tmp_path / "sheet.pdf"
    dialog.write(path)
    three.wait(lambda: window.jobs.job is None and path.exists())
    assert f"Written {path}" in window.says.text()
    text = pypdfium2.PdfDocument(str(path))[0].get_textpage().get_text_range()
    assert "Proof 2" in text
    assert "f/2.8" in text
    assert window.session.settings.get(settings.SHEET_COLUMNS) == 2


# Finished frames


@pytest.fixture
def sharp(opened_demo, tmp_path):
    """Two frames of the demo's second shot without blur."""
    plan = opened_demo.plan
    for frame in (1049, 1050):
        path = tmp_path / f"sharp.{frame}.exr"
        render_frame(
            plan, plan.shots[1], frame, opened_demo.stage, (240, 135), 2, path, no_progress, sharp=True
        )
    return tmp_path / "sharp.1049.exr"


def test_a_finished_frame_is_opened_focused_pulled_and_written(make_window, sharp, tmp_path):
    user = make_window()
    window, session = user.window, user.window.session
    window.document.open(sharp)
    user.opened()
    user.wait(lambda: window.picture.status == "rendered image")
    assert (session.shot.first, session.shot.last) == (1049, 1050)
    box = window.picture.frame_rect()
    man = QPointF(box.left() + box.width() * 0.62, box.top() + box.height() * 0.4)
    window.picture.focus_key_held = True
    user.click(window.picture, man)
    window.picture.focus_key_held = False
    near = float(session.camera.focus_m)
    assert 2.0 < near < 15.0
    user.click(window.picture, man)  # a subject
    assert len(session.plan.subjects) == 2
    session.show_frame(1050)
    user.key(Qt.Key.Key_M)
    assert len(session.shot.marks) == 2
    page = page_of(user, "Defocus")
    page.write_to(tmp_path / "out.exr")
    user.wait(lambda: not window.queueing.open and (tmp_path / "out.1050.exr").exists())
    assert "Written" in window.says.text()
    window.exports.render(tmp_path / "frame.exr")
    user.wait(lambda: window.jobs.job is None and (tmp_path / "frame.exr").exists())
    assert np.array_equal(*(read_pixels(tmp_path / name)[0] for name in ("frame.exr", "out.1050.exr")))
    assert window.document.save_to(tmp_path / "on_picture.kobrel")
    plan = open_plan(tmp_path / "on_picture.kobrel")
    assert plan.scenes[0].finished.sequence
    assert Path(plan.scenes[0].finished.path) == sharp


def test_how_depth_counts_is_changed_calibrated_and_compared(demo_user, sharp, monkeypatch):
    window, session = demo_user.window, demo_user.window.session
    session.show_frame(1049)
    page = page_of(demo_user, "Defocus")
    assert "Open a rendered image" in page.told.text()
    page.open(sharp)
    demo_user.wait(lambda: not session.library.missing(session.plan) and window.jobs.job is None)
    name = session.shot.finished
    assert name
    assert name not in session.stage.scenes  # the scene itself stands on the stage
    demo_user.wait(lambda: window.picture.status == "rendered image")
    assert "frames 1049 to 1050" in page.told.text()
    pick(page.unit, "Centimetres")
    assert session.plan.scenes[-1].finished.rule.unit_m == 0.01
    session.undo()
    page.ticks["straight"].click()
    assert session.plan.scenes[-1].finished.rule.straight
    page.ticks["straight"].click()
    demo_user.wait(lambda: not session.library.missing(session.plan) and window.jobs.job is None)
    page._compare()
    demo_user.wait(lambda: window.jobs.job is None and page.table.isVisible())
    assert page.table.rowCount() == 5
    assert "off the scene's by" in window.says.text()
    page.known.taken.emit(2.0)
    assert "Depth calibrated" in window.says.text()
    page.plain.click()
    demo_user.wait(lambda: window.picture.status == "the file as it is")
    told = []
    monkeypatch.setattr(QMessageBox, "warning", lambda _parent, _title, text: told.append(text))
    page.open(sharp.with_name("gone.exr"))
    assert "no such file" in told[0]
    session.undo()


def test_a_blur_is_measured_by_two_clicks(demo_user, sharp):
    window, session = demo_user.window, demo_user.window.session
    session.show_frame(1049)
    page = page_of(demo_user, "Defocus")
    page.open(sharp)
    demo_user.wait(lambda: window.jobs.job is None)
    from kobrel.session.tools import Tool

    box = window.picture.frame_rect()
    session.selection.tool = Tool("measure")
    user_at = [
        QPoint(round(box.left() + box.width() * x), round(box.top() + box.height() * 0.2)) for x in (0.9, 1.0)
    ]
    demo_user.click(window.picture, QPointF(user_at[0]))
    assert "other side" in window.says.text()
    demo_user.click(window.picture, QPointF(user_at[1]) - QPointF(3, 0))
    assert session.selection.tool is None
    assert "at delivery" in window.says.text() or "no edge" in window.says.text()
