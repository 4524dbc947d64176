"""The transport under Picture, the alts of the title line, the queue's drawer, keys, and menus that lead."""

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QLineEdit

from kobrel.desk.cards.deck import NAMES, PLATES
from kobrel.desk.window import bringing
from kobrel.desk.window.sheets.shortcuts import Shortcuts, ShortcutsSheet
from kobrel.session import settings
from kobrel.session.settings import Settings
from tests.desk.test_plates import photograph

J, K, L = Qt.Key.Key_J, Qt.Key.Key_K, Qt.Key.Key_L


@pytest.fixture
def user(demo_user):
    return demo_user


def test_it_is_there_on_every_tab_and_scrubs(user):
    window, session = user.window, user.window.session
    line = window.transport.timeline
    for number in NAMES:
        session.view.card = number
        user.rest()
        assert window.transport.isVisible(), number
    session.view.card = 1
    user.rest()
    first, last = session.shot.first, session.shot.last
    user.drag(line, QPointF(line.x_of(first), 12), QPointF(line.x_of(last), 12))
    assert session.frame == last
    user.click(line, QPointF(line.x_of(first + 20), 12))
    assert session.frame == first + 20
    assert line.spoken_value() == f"Frame {first + 20} of {first} to {last}"
    user.type(window.transport.frame, f"{first + 5}")
    assert session.frame == first + 5


def test_j_k_l_play_backward_pause_and_play_faster(user):
    window, session, player = user.window, user.window.session, user.window.player
    session.show_frame(1050)
    user.key(L)
    assert session.view.playing
    assert player.rate == 1
    user.key(L)
    user.key(L)
    assert player.rate == 4
    assert "4×" in window.transport.speed.toolTip()
    user.key(J)
    assert player.rate == -1
    at = session.frame
    user.wait(lambda: session.frame != at)
    user.key(K)
    assert not session.view.playing
    user.key(K)
    assert session.view.playing
    assert player.rate == 1
    user.key(K)


def test_at_the_end_it_loops_or_stops(user):
    window, session = user.window, user.window.session
    session.play_only(1001, 1006)
    user.click(window.transport.loop, QPointF(5, 5))
    assert not session.view.loops
    assert not session.settings.get(settings.PLAY_LOOPS)
    session.show_frame(1003)
    user.key(L)
    user.wait(lambda: not session.view.playing)
    assert session.frame == 1006
    user.key(J)
    user.wait(lambda: not session.view.playing)
    assert session.frame == 1001
    user.click(window.transport.loop, QPointF(5, 5))
    user.key(L)
    seen = set()
    session.values.changed.connect(lambda: seen.add(session.frame))
    user.wait(lambda: 1006 in seen and session.frame < 1004)
    user.click(window.transport.play, QPointF(5, 5))
    assert not session.view.playing


def test_half_speed_takes_twice_as_long(user):
    window, session = user.window, user.window.session
    box = window.transport.speed
    box.setCurrentIndex(box.findData(0.5))
    box.activated.emit(box.currentIndex())
    session.show_frame(1001)
    window.player.toggle()
    assert window.player.rate == 0.5
    user.wait(lambda: session.frame >= 1004)
    assert window.player._clock.elapsed() > 3 / 12 * 1000 - 50
    window.player.toggle()


def test_the_queue_is_a_drawer_of_the_status_bar(user):
    window = user.window
    assert not window.drawer.isVisible()
    user.click(window.queue_line, QPointF(8, 8))
    assert window.drawer.isVisible()
    assert "No jobs" in window.drawer.about.text()
    user.click(window.queue_line, QPointF(8, 8))
    assert not window.drawer.isVisible()


def test_alts_are_saved_renamed_and_applied_from_the_title_line(user):
    window, session = user.window, user.window.session
    page = user.panel(window.alts)
    user.type(page.title, "Warm")
    page.keep()
    assert window.alts.text() == "Alt: Warm ▾"
    page.table.selectRow(len(session.shot.alts) - 1)
    page.title.setText("Cold")
    page.rename()
    assert session.shot.alts[-1].name == "Cold"
    page.title.setText(session.shot.alts[0].name)
    page.table.selectRow(len(session.shot.alts) - 1)
    page.title.setText(session.shot.alts[0].name)
    page.rename()
    assert "exists" in window.says.text()
    QTest.keyClick(page.window(), Qt.Key.Key_Escape)
    assert not window.alts.is_open


def test_enter_and_esc_in_a_field_return_to_picture_and_tab_goes_on(user):
    window, session = user.window, user.window.session
    page = window.show_page(3, "Lens")
    field, before = page.focal, session.shot.glass.focal_mm
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "77")
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert session.shot.glass.focal_mm == before
    assert window.picture.hasFocus()
    QTest.keyClick(window.picture, Qt.Key.Key_5)
    assert session.view.card == 5
    window.show_page(3, "Lens")
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, "77")
    QTest.keyClick(field, Qt.Key.Key_Tab)
    assert session.camera.focal_mm == pytest.approx(77)
    assert not field.hasFocus()
    assert not window.body.bare


def test_the_tab_of_plates_is_there_once_there_is_a_plate(user, monkeypatch):
    window, session = user.window, user.window.session
    tab = window.tabs.group.button(PLATES)
    assert not tab.isVisible()
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_a, **_k: ([], ""))
    actions = {each.name: each.action for each in window.shortcuts.all}
    actions["Add plates…"].trigger()
    assert session.view.card == PLATES
    assert tab.isVisible()
    session.view.card = 3
    assert not tab.isVisible()


def test_everything_that_is_read_is_in_the_import_menu(user, monkeypatch):
    """Each entry asks for a file, on the page where what is read is shown."""
    asked = []
    for name in ("getOpenFileName", "getOpenFileNames", "getExistingDirectory"):
        result = ("", "") if name == "getOpenFileName" else ([], "") if name.endswith("s") else ""
        monkeypatch.setattr(QFileDialog, name, lambda *_a, r=result, **_k: asked.append(1) or r)
    entries = [
        each
        for each in user.window.shortcuts.all
        if each.name.startswith(("Import ", "Add ", "Open r", "Open s"))
    ]
    entries = [each for each in entries if each.name.endswith("…")]
    assert len(entries) >= 12
    for each in entries:
        before = len(asked)
        each.action.trigger()
        QApplication.processEvents()
        assert len(asked) > before, each.name


def test_keys_are_changed_kept_and_restored(user):
    window = user.window
    sheet = ShortcutsSheet(window.shortcuts, window)
    sheet.search.setText("Add proof")
    sheet.table.selectRow(0)
    sheet.keys.setKeySequence(QKeySequence("M"))
    sheet.assign.click()
    assert "belongs to Set mark here" in sheet.said.text()
    sheet.keys.setKeySequence(QKeySequence("Z"))
    sheet.assign.click()
    assert "Held: loupe" in sheet.said.text()
    sheet.keys.setKeySequence(QKeySequence("Ctrl+9"))
    sheet.assign.click()
    assert sheet.said.text() == ""
    action = next(each.action for each in window.shortcuts.all if each.name == "Add proof")
    assert action.shortcut() == QKeySequence("Ctrl+9")
    assert window.session.settings.get(settings.SHORTCUTS, "Add proof") == "Ctrl+9"
    sheet.clear.click()
    assert action.shortcut().isEmpty()
    sheet.reset.click()
    assert action.shortcut() == QKeySequence("P")
    sheet.close()


def test_a_chosen_key_is_there_at_the_next_start(qapp):
    from PySide6.QtGui import QAction

    kept = Settings({})
    kept.put(settings.SHORTCUTS, "Ctrl+9", "Add proof")
    kept.put(settings.SHORTCUTS, "-", "Loupe")
    shortcuts = Shortcuts(kept)
    for name in ("Add proof", "Loupe"):
        shortcuts.add(QAction(name), QKeySequence("P"))
    assert [each.action.shortcut().toString() for each in shortcuts.all] == ["Ctrl+9", ""]


def test_no_two_actions_have_one_key(user):
    keys = [each.action.shortcut().toString() for each in user.window.shortcuts.all]
    keys = [key for key in keys if key]
    assert len(keys) == len(set(keys))


def test_esc_in_a_name_restores_it_and_a_cell_of_a_table_keeps_its_own_ways(user):
    window, session = user.window, user.window.session
    page = window.show_page(1, "Shots")
    page.title.setFocus()
    QTest.keyClicks(page.title, "xyz")
    QTest.keyClick(page.title, Qt.Key.Key_Escape)
    assert page.title.text() == session.shot.name
    assert window.picture.hasFocus()
    page = window.show_page(2, "Tapes")
    name = session.plan.tapes[0].name
    table, row = page.table, 0
    for key, wanted in ((Qt.Key.Key_Escape, name), (Qt.Key.Key_Return, "Lamp")):
        table.setCurrentIndex(table.model().index(row, 0))
        table.edit(table.model().index(row, 0))
        editor = next(each for each in table.viewport().findChildren(QLineEdit) if each.isVisible())
        editor.setFocus()
        editor.selectAll()
        QTest.keyClicks(editor, "Lamp")
        QTest.keyClick(editor, key)
        QApplication.processEvents()
        assert session.plan.tapes[0].name == wanted


def test_a_photo_is_left_alone_where_unsaved_work_is_kept(user, tmp_path, monkeypatch):
    window, session = user.window, user.window.session
    session.edit_shot("Title", lambda shot: shot.replace(title="Mine"))
    monkeypatch.setattr(window.document, "may_leave", lambda: False)
    monkeypatch.setattr(bringing, "asked", lambda *_a: "Make a plate of it")
    bringing.open_files(window, [photograph(tmp_path / "photo.png")], window)
    assert session.shot.title == "Mine"
    assert not session.plan.plates
