"""The Hand over card by mouse and keys: terms copied and pasted back, a camera that returned, files, the sheet."""

import json
import os
import time
from pathlib import Path

import numpy as np
import pypdfium2
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QMessageBox

from kobrel import trust
from kobrel.desk.background.jobs import Job
from kobrel.desk.window.sheets.left import when_text
from kobrel.exchange.cameras.usd import write_usd
from kobrel.exchange.sheet import content
from kobrel.plan.export import UpdatedFile
from kobrel.plan.file import save_plan
from kobrel.plan.model import MadeCamera, Plan, Shot, SubjectTarget
from kobrel.plan.values.own import SUFFIX
from kobrel.session import settings
from tests.desk.conftest import pick
from tests.exchange.test_handing import elsewhere


def page_of(user, name):
    page = user.window.show_page(7, name)
    QApplication.processEvents()
    return page


def clipboard():
    return QGuiApplication.clipboard().text()


def row_of(page, block, label):
    return next(row for row in page.blocks[block].rows if row.term.label == label)


def show(user, shot=1, frame=1050):
    user.window.session.show_shot(shot)
    user.window.session.show_frame(frame)


def saving_to(monkeypatch, path):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))


def test_copy_a_radius_in_centimetres_and_paste_a_changed_one_back(demo_user):
    window, session = demo_user.window, demo_user.window.session
    show(demo_user)
    page = page_of(demo_user, "Values")
    pick(page.unit, "cm")
    row = row_of(page, "aperture", "Radius")
    demo_user.click(row, QPointF(row.width() / 2, row.height() / 2))
    radius = float(session.camera.pupil_mm) / 20
    assert float(clipboard()) == pytest.approx(radius, rel=2e-3)
    assert "Copied" in window.says.text()
    assert "cm" in window.says.text()
    assert row.term.quantity.trap in row.toolTip()

    back = page_of(demo_user, "Import")
    QGuiApplication.clipboard().setText(f"Radius: {radius / 2:.4f}")
    back.paste.click()
    shown = [[back.table.item(r, c).text() for c in range(3)] for r in range(back.table.rowCount())]
    assert shown[0] == ["f-number", "f/1.4", "f/2.8"]
    assert any(line[0] == "Blur of Lantern" for line in shown)
    before = session.plan
    assert session.camera.f_number == pytest.approx(1.4)  # nothing changes until it is taken
    assert back.take.isEnabled()
    demo_user.click(back.take, QPointF(10, 10))
    assert session.camera.f_number == pytest.approx(2.8, rel=1e-3)
    assert "applied to 02" in window.says.text()
    assert not back.take.isEnabled()
    session.undo()
    assert session.plan == before


def test_a_camera_with_two_differences_is_taken_in_part_and_whole(demo_user, tmp_path, monkeypatch):
    session, jobs = demo_user.window.session, demo_user.window.jobs
    show(demo_user)
    path = tmp_path / "back.usda"
    write_usd(session.plan, session.shot, session.stage, path)
    elsewhere(path)
    back = page_of(demo_user, "Import")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(path), ""))
    said: list[str] = []
    session.said.connect(said.append)
    demo_user.click(back.open, QPointF(10, 10))
    demo_user.wait(lambda: back.camera is not None)
    focus, stop = (back.table.item(row, 0).text().split("\n") for row in range(2))
    assert [focus[0], stop[0]] == ["Focus", "Stop"]
    assert "blur" in stop[1]
    assert "framing" in stop[2]
    assert said[-1] == "back.usda is read."
    before = session.shot
    box = back.table.visualItemRect(back.table.item(0, 0))
    demo_user.click(back.table.viewport(), QPointF(box.left() + 9, box.center().y()))
    assert back.chosen_parts() == ["stop"]
    back.take.click()
    assert session.shot.marks == before.marks
    assert session.camera.f_number == pytest.approx(2.8, rel=1e-3)
    session.undo()
    demo_user.wait(lambda: jobs.job is None)
    back.read_file(path)
    demo_user.wait(lambda: back.camera is not None and jobs.job is None)
    back.take.click()
    assert len(session.shot.marks) > len(before.marks)
    assert not any(isinstance(mark.target, SubjectTarget) for mark in session.shot.marks)
    # A camera that was read for a shot that has changed since is not taken.
    back.read_file(path)
    demo_user.wait(lambda: back.camera is not None)
    session.set_keyed("Stop", "f_number", 5.6)
    QApplication.processEvents()
    assert back.camera is None
    assert "has changed since" in back.said.text()


def test_of_several_cameras_one_is_chosen(demo_user):
    """The demo's own scene came back: the shot's camera in it is compared, or another."""
    session = demo_user.window.session
    show(demo_user)
    back = page_of(demo_user, "Import")
    back.read_file(Path(session.plan.scenes[0].path))
    demo_user.wait(lambda: back.camera is not None and demo_user.window.jobs.job is None)
    assert back.which.isVisible()
    assert back.which.currentText() == session.shot.camera.path
    assert "place" not in {each.part for each in back.camera.differences}
    other = next(name for name in back.camera.read.cameras if name != session.shot.camera.path)
    pick(back.which, other)
    demo_user.wait(lambda: back.camera is not None and back.camera.read.path == other)
    assert "place" in {each.part for each in back.camera.differences}


def test_what_comes_back_wrong_is_told_and_changes_nothing(demo_user, tmp_path):
    session = demo_user.window.session
    show(demo_user)
    back, before = page_of(demo_user, "Import"), session.plan
    for text, told in (
        ("hello", "these are no values"), ("Radius: -1", "cannot be"), ("Radius: 1 cm\nDiameter: 5 cm", "contradicts"),
        ("radio: 3", "none of these"), ("Focus distance: 0.0001 m", "cannot be"),
    ):  # fmt: skip
        back.text.setPlainText(text)
        assert told in back.said.text(), text
        assert not back.take.isEnabled()
        assert back.table.rowCount() == 0
    back.text.setPlainText("f-number: 1.4\nradio: 3")
    assert "Ignored: radio" in back.said.text()
    assert "has these values already" in back.said.text()
    back.read_file(tmp_path / "none.csv")
    assert "no such file" in back.said.text()
    back.read_file(tmp_path / "none.usda")
    demo_user.wait(lambda: "none.usda" in back.said.text() and "no such file" in back.said.text())
    (tmp_path / "v.csv").write_text("frame,f_number\n1001,2\n1002,2.2\n")
    back.read_file(tmp_path / "v.csv")
    assert back.table.item(0, 0).text() == "Frames"
    back.clear.click()
    assert back.table.rowCount() == 0
    assert session.plan is before


def test_terms_are_shown_while_the_pointer_is_on_them(demo_user):
    window, session = demo_user.window, demo_user.window.session
    show(demo_user)
    page = page_of(demo_user, "Values")
    for key in page.blocks:
        if not page.blocks[key].is_open:
            page.blocks[key].head.click()
    QApplication.processEvents()
    assert set(session.settings.get(settings.VALUES_OPEN)) >= {"ramp", "iris"}
    plain, plain_plan = window.picture.grab().toImage(), window.overhead.grab().toImage()
    seen = 0
    for block in page.blocks.values():
        for row in block.rows:
            row.pointed.emit(True)
            assert session.view.pointed_value == row.term.quantity.key
            assert row.term.quantity.meaning in window.says.text()
            seen += window.picture.grab().toImage() != plain or window.overhead.grab().toImage() != plain_plan
            row.pointed.emit(False)
    assert seen >= 30
    assert session.view.pointed_value == ""
    assert any("No squeeze: discs too wide" in block.lost.text() for block in page.blocks.values())
    # By keyboard: tab to a value, Space copies it.
    row = row_of(page, "f_number", "f-number")
    QTest.keyClick(page.copy_text, Qt.Key.Key_Tab)
    row.setFocus(Qt.FocusReason.TabFocusReason)
    assert session.view.pointed_value == "f_number"
    QTest.keyClick(row, Qt.Key.Key_Space)
    assert clipboard() == "1.4"


def test_all_terms_are_copied_as_text_and_as_table(demo_user):
    session = demo_user.window.session
    show(demo_user)
    page = page_of(demo_user, "Values")
    page.copy_text.click()
    lines = clipboard().splitlines()
    assert "f-number and film back" in lines
    assert "f-number: 1.4" in lines
    page.copy_table.click()
    rows = [line.split("\t") for line in clipboard().splitlines()]
    assert rows[0] == ["Terms", "Name", "Value", "Unit"]
    assert ["f-number and film back", "f-number", "1.4", ""] in rows
    page.blocks["aperture"].copy.click()
    assert clipboard().startswith("Aperture size\nRadius: ")
    session.edit_glass("Orthographic", projection="orthographic")
    QApplication.processEvents()
    assert list(page.blocks) == ["iris", "shutter", "exposure", "orthographic"]


def test_own_terms_are_made_shared_and_forgotten(demo_user, tmp_path):
    session = demo_user.window.session
    show(demo_user)
    page = page_of(demo_user, "Values")
    page.own.click()
    dialog = page.dialog
    pick(dialog.begin, "New: Lens radius")
    dialog.title.setText("Old renderer")
    dialog.table.item(0, 0).setText("ap")
    dialog.table.item(0, 3).setText("100")
    pick(dialog.table.cellWidget(0, 2), "m")
    dialog.table.item(0, 5).setText("3")
    radius = float(session.camera.pupil_mm) / 2000
    assert dialog.table.item(0, 6).text() == f"{radius * 100:.3f}".rstrip("0")
    dialog.move_row(1)
    assert dialog.table.item(1, 0).text() == "ap"
    dialog.add_row()
    assert dialog.own().terms[2].name == "value 1"
    dialog.remove_row()
    dialog.keep()
    assert session.view.custom_values[0].title == "Old renderer"
    files = list((session.settings.folder / "terms").glob(f"*{SUFFIX}"))
    assert [path.name for path in files] == ["old_renderer.terms.json"]
    block = page.blocks["old_renderer"]
    block.head.click()
    assert [row.term.label for row in block.rows][1] == "ap"
    assert json.loads(files[0].read_text())["terms"][1]["scale"] == 100
    back = page_of(demo_user, "Import")
    back.text.setPlainText(f"ap: {radius * 200:.4f}")
    assert back.table.item(0, 2).text() == "f/0.7"
    # Shared, broken, and forgotten.
    dialog.export_file(tmp_path / "shared.terms.json")
    dialog.import_file(tmp_path / "shared.terms.json")
    assert dialog.title.text() == "Old renderer"
    (tmp_path / "odd.json").write_text("{}")
    dialog.import_file(tmp_path / "odd.json")
    assert "not a file of values" in dialog.said.text()
    dialog.table.item(0, 0).setText("")
    assert dialog.said.text()
    dialog.keep()
    assert session.view.custom_values[0].terms[0].name != ""
    pick(dialog.begin, "Old renderer")
    dialog.forget()
    assert session.view.custom_values == ()
    assert not files[0].exists()
    dialog.reject()


def test_files_are_written_and_kept_up_to_date(demo_user, tmp_path, monkeypatch):
    window, session = demo_user.window, demo_user.window.session
    trust.allow([tmp_path])
    show(demo_user)
    window.document.save_to(tmp_path / "ferry.kobrel")
    page = page_of(demo_user, "Files")
    for kind, name in (
        ("Camera, glTF", "cam.gltf"),
        ("Frames, JSON", "frames.json"),
        ("Shots, OpenTimelineIO", "cut.otio"),
    ):
        pick(page.kind, kind)
        if kind == "Frames, JSON":
            pick(page.terms, "Aperture size")
        page.keeps.setChecked(kind != "Camera, glTF")
        saving_to(monkeypatch, tmp_path / name)
        page.write.click()
        demo_user.wait(lambda n=name: window.jobs.job is None and (tmp_path / n).exists())
    assert list(json.loads((tmp_path / "frames.json").read_text())["frames"][0]) == [
        "frame", "aperture_radius", "aperture_diameter", "aperture_radius_mm", "aperture_diameter_mm", "focus_distance",
    ]  # fmt: skip
    assert [out.kind for out in session.plan.handed] == ["json", "otio"]
    assert [page.handed.item(row, 0).text() for row in range(2)] == ["frames.json", "cut.otio"]
    # Handed over while other work goes on, it is made up for when that has ended.
    busy = Job(lambda progress: time.sleep(0.3))
    window.jobs.run(busy)
    session.set_keyed("Stop", "f_number", 5.6)
    window.document.save()
    demo_user.wait(lambda: window.jobs.job is None and "Exported" in window.says.text())
    # Saved after a change, the file is as the plan; saved again, nothing is written.
    session.set_keyed("Stop", "f_number", 4.0)
    window.document.save()
    demo_user.wait(lambda: window.jobs.job is None and "Exported" in window.says.text())
    radius = json.loads((tmp_path / "frames.json").read_text())["frames"][0]["aperture_radius"]
    assert radius == pytest.approx(50 / 4 / 2000)
    page.now.click()
    demo_user.wait(lambda: "Nothing has changed" in window.says.text())
    page.handed.selectRow(0)
    page.stop.click()
    assert [out.kind for out in session.plan.handed] == ["otio"]
    session.undo()
    assert len(session.plan.handed) == 2


def boxes(user):
    return [box for box in user.window.findChildren(QMessageBox) if "has linked exports" in box.text()]


def test_what_a_strangers_plan_wants_to_write_is_asked_for_once(demo_user, tmp_path):
    """A plan from elsewhere: its files are shown and asked for; what was said is remembered."""
    user, folder = demo_user, tmp_path / "downloads"
    folder.mkdir()
    (folder / "notes.json").write_text("mine")
    outs = (
        UpdatedFile(kind="json", path=str(folder / "notes.json"), shots=("01",)),
        UpdatedFile(kind="json", path=str(folder / "new.json"), shots=("01",)),
        UpdatedFile(kind="json", path=str(folder / ".profile"), shots=("01",)),
    )
    camera = MadeCamera(position_m=(0, 0, 0), aim_m=(0, 0, -1))
    save_plan(Plan(shots=(Shot(name="01", camera=camera),), handed=outs), folder / "theirs.kobrel")
    window, session = user.window, user.window.session
    os.utime(folder / "theirs.kobrel", (1e9, 1e9))
    window.document.open(folder / "theirs.kobrel")
    user.wait(lambda: session.plan.handed == outs)
    assert window.document.state_text(True) == f"saved {when_text(1e9)}"  # by whoever saved it
    for answer, written in (("Do not update", False), ("Update them", True)):
        window.document.save()
        user.wait(lambda: len(boxes(user)) == 1)
        (box,) = boxes(user)
        assert f"New:\n{folder / 'new.json'}" in box.informativeText()
        assert f"Not written by Kobrel, replaced:\n{folder / 'notes.json'}" in box.informativeText()
        assert ".profile" not in box.informativeText()
        next(button for button in box.buttons() if button.text() == answer).click()
        user.wait(
            lambda: window.jobs.job is None and not boxes(user) and "must end in .json" in window.says.text()
        )
        assert (folder / "new.json").exists() == written
        assert ((folder / "notes.json").read_text() == "mine") != written
    assert (folder / "notes.json~").read_text() == "mine"
    session.set_keyed("Stop", "f_number", 4.0)
    window.document.save()
    user.wait(lambda: window.jobs.job is None and "Exported: notes.json, new.json" in window.says.text())
    assert not (folder / ".profile").exists()


def test_passes_of_a_frame_are_written(demo_user, tmp_path, monkeypatch):
    window, session = demo_user.window, demo_user.window.session
    show(demo_user)
    session.edit_shot("Small", lambda shot: shot.replace(width_px=64))
    page = page_of(demo_user, "Files")
    saving_to(monkeypatch, tmp_path / "rack.exr")
    for key, box in page.passes.items():
        box.setChecked(key in ("blur", "mattes"))
    page.write_frame.click()
    demo_user.wait(lambda: window.jobs.job is None and (tmp_path / "rack.txt").exists())
    assert sorted(path.name for path in tmp_path.iterdir() if path.is_file()) == ["rack.1050.exr", "rack.txt"]
    for box in page.passes.values():
        box.setChecked(False)
    page.write_passes.click()
    assert "Tick at least one pass" in window.says.text()


def test_the_sheet_is_written_and_looked_at(demo_user, tmp_path, monkeypatch):
    monkeypatch.setattr(content, "_PICTURE_PX", 96)
    window, session = demo_user.window, demo_user.window.session
    show(demo_user)
    page = page_of(demo_user, "Camera sheet")
    assert "188.5 mm" in page.strip.text()
    demo_user.type(page.ring, "60")
    assert "141.4 mm" in page.strip.text()
    assert "Ferryman sharp: met" in page.brief.text()
    page.one.click()
    assert page.ticked() == ["02"]
    assert not page.kit.isVisible() or page.has["tables"].isChecked()
    page.has["tables"].click()
    saving_to(monkeypatch, tmp_path / "sheet.pdf")
    demo_user.click(page.write_pdf, QPointF(12, 12))
    demo_user.wait(lambda: window.jobs.job is None and (tmp_path / "sheet.pdf").exists())
    pdf = pypdfium2.PdfDocument(str(tmp_path / "sheet.pdf"))
    assert len(pdf) == 2
    grey = np.asarray(pdf[0].render(scale=0.8).to_pil().convert("L"))
    assert 0.02 < (grey < 128).mean() < 0.4
    assert "141.4 mm long" in pdf[1].get_textpage().get_text_range()
    page.keeps.setChecked(True)
    page.write_to(tmp_path / "sheet.html")
    demo_user.wait(lambda: window.jobs.job is None and (tmp_path / "sheet.html").exists())
    assert session.plan.handed == (
        UpdatedFile(kind="html", path=str(tmp_path / "sheet.html"), shots=("02",)),
    )


def test_tables_and_their_map(demo_user, tmp_path, monkeypatch):
    window, session = demo_user.window, demo_user.window.session
    show(demo_user)
    limits = window.show_page(3, "Depth of field")
    limits.table_fold.setChecked(True)
    page = limits.table
    QApplication.processEvents()
    view = window.body.depths
    assert view.isVisible()
    assert page.table.item(8, 0).text() == "1.00 m"
    pick(page.stop, "f/8")
    assert "f/8" in page.hyperfocal.text()
    at = QPointF(view.scale(session.now).px(4.0), view.stop_y(5.6))
    demo_user.click(view, at)
    assert session.camera.f_number == pytest.approx(5.6, rel=0.05)
    assert float(session.camera.focus_m) == pytest.approx(4.0, rel=0.05)
    demo_user.drag(view, at, at + QPointF(30, 20))
    assert float(session.camera.focus_m) > 4.2
    steps = session.history
    stop = float(session.camera.f_number)
    QTest.keyClick(view, Qt.Key.Key_Down)
    assert float(session.camera.f_number) > stop
    assert session.history is not steps
    saving_to(monkeypatch, tmp_path / "depth.csv")
    page.write.click()
    demo_user.wait(lambda: window.jobs.job is None and (tmp_path / "depth.csv").exists())
    assert (tmp_path / "depth.csv").read_text().startswith("lens,f_number,distance [m]")
    pick(page.lenses, page.lenses.itemText(1))
    assert page.table.rowCount() > 40
    session.edit_glass("Orthographic", projection="orthographic")
    QApplication.processEvents()
    assert page.table.rowCount() == 0
    view.grab()
    session.view.card = 5
    assert not view.isVisible()


def test_the_menu_writes_every_kind(demo_user, tmp_path, monkeypatch):
    window = demo_user.window
    menu = next(m for m in window.bar.findChildren(QMenu) if m.title() == "Export")
    for action in menu.actions():
        if action.text() == "Camera override, USD…":
            saving_to(monkeypatch, tmp_path / "changes.usda")
            action.trigger()
            demo_user.wait(lambda: window.jobs.job is None and (tmp_path / "changes.usda").exists())
    assert 'over "NightFerry"' in (tmp_path / "changes.usda").read_text()
    assert len([each for each in menu.actions() if not each.isSeparator()]) == 21
