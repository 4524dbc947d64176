"""The window among others on the desktop: one a plan, its look, notices, things dragged out."""

import shutil
import subprocess
import sys

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QDrag, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.background.other_windows import OtherWindows
from kobrel.desk.toolkit import notices, theme
from kobrel.desk.window.app import _again
from kobrel.plan.file import save_plan
from kobrel.session.recent import list_path
from tests.desk.conftest import answer


@pytest.fixture
def dragged(monkeypatch):
    """What is dragged out, in the place of a drag over the desktop."""
    found = []
    monkeypatch.setattr(QDrag, "exec", lambda drag, *_a: found.append(drag.mimeData()))
    return found


def pull(widget, at: QPoint):
    """Press and move far enough for a drag."""
    QTest.mousePress(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    for step in (2, 12, 24):
        QTest.mouseMove(widget, at + QPoint(step, step))
        QApplication.processEvents()
    QTest.mouseRelease(widget, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at + QPoint(24, 24))


@pytest.mark.parametrize(
    ("way", "opens", "asked"), [("Show", False, True), ("Open it", True, False), ("Cancel", False, False)]
)
def test_a_plan_that_is_open_in_another_window(demo_user, tmp_path, way, opens, asked):
    window, path = demo_user.window, tmp_path / "ferry.kobrel"
    save_plan(window.session.plan, path)
    other, heard = OtherWindows(window), []
    other.wanted.connect(lambda: heard.append(True))
    other.follow(path)
    before = window.session.plan

    answer("open in another window", way)
    window.session.mark_saved()
    window.document.open(path)
    if opens:
        demo_user.wait(lambda: window.document.path == path)
    demo_user.rest(0.2)
    assert bool(heard) is asked
    assert (window.session.plan is not before) is opens
    other.follow(None)


def test_a_window_answers_for_the_plan_that_it_has(demo_user, tmp_path):
    window, path = demo_user.window, tmp_path / "ferry.kobrel"
    assert window.document.save_to(path)
    others = OtherWindows(window)
    assert others.has(path)
    window.showMinimized()
    assert others.show(path)
    demo_user.wait(lambda: not window.isMinimized())
    assert path.as_uri() in list_path().read_text()
    assert _again(window)[1:] == [str(path)]
    window.document.begin_empty()
    assert not others.has(path)


def test_the_look_follows_the_desktop(demo_user, monkeypatch):
    window, session = demo_user.window, demo_user.window.session
    session.view.theme = "desktop"
    assert theme.theme() is theme.DARK

    class Hints:
        @staticmethod
        def colorScheme():
            return Qt.ColorScheme.Light

    monkeypatch.setattr(QApplication, "styleHints", lambda _self: Hints)
    window.show_desktop_look()
    assert theme.theme() is theme.LIGHT
    session.view.theme = "dark"
    window.show_desktop_look()
    assert theme.theme() is theme.DARK


def test_proofs_are_dragged_out_as_files_and_pictures(demo_user, dragged):
    window, session = demo_user.window, demo_user.window.session
    demo_user.wait(lambda: window.picture.ready)
    for count in (1, 2):
        session.want("keep")
        demo_user.wait(lambda n=count: len(session.plan.proofs) == n)
    window.show_page(6, "Wall")
    grid = window.body.wall.grid
    demo_user.wait(
        lambda: grid.isVisible() and isinstance(grid._pictures.small(session.plan.proofs[0]), QImage)
    )
    session.selection.proofs = tuple([proof.name for proof in session.plan.proofs])
    pull(grid.viewport(), grid.box(0).center().toPoint())
    assert [url.toLocalFile() for url in dragged[0].urls()] == [proof.path for proof in session.plan.proofs]
    assert dragged[0].hasImage()
    assert len(session.selection.proofs) == 2
    demo_user.click(grid.viewport(), grid.box(1).center())
    assert session.selection.proofs == (session.plan.proofs[1].name,)


def test_a_value_is_dragged_out_as_text(demo_user, dragged):
    page = demo_user.window.show_page(7, "Values")
    row = next(row for block in page.blocks.values() if block.is_open for row in block.rows)
    pull(row, QPointF(row.rect().center()).toPoint())
    assert [what.text() for what in dragged] == [row.term.text]


def test_a_notice_goes_to_the_desktop_when_the_window_is_not_in_front(demo_user, monkeypatch):
    window, sent = demo_user.window, []
    monkeypatch.setattr(notices, "send", lambda title, text: sent.append(title) or True)
    notices.notify(window, "one", "")
    assert sent == []
    monkeypatch.setattr(type(window), "isActiveWindow", lambda _self: False)
    notices.notify(window, "two", "")
    assert sent == ["two"]


PORTAL = """
import subprocess, sys
from threading import Thread
from PySide6.QtCore import ClassInfo, QCoreApplication, QObject, Slot
from PySide6.QtDBus import QDBusConnection

app = QCoreApplication([])

@ClassInfo({"D-Bus Interface": "org.freedesktop.portal.Notification"})
class Portal(QObject):
    @Slot(str, "QVariantMap")
    def AddNotification(self, key, what):
        print(key, what["title"], what["body"], flush=True)

portal, bus = Portal(), QDBusConnection.sessionBus()
bus.registerObject("/org/freedesktop/portal/desktop", portal, QDBusConnection.RegisterOption.ExportAllSlots)
bus.registerService("org.freedesktop.portal.Desktop")
code = (
    "from PySide6.QtCore import QCoreApplication as App; app = App([]);"
    "from kobrel.desk.toolkit.notices import send; print(send('Movie is done', '/tmp/a.mp4'))"
)

def send():
    print(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout, flush=True)
    app.quit()

Thread(target=send).start()
app.exec()
"""


@pytest.mark.skipif(shutil.which("dbus-run-session") is None, reason="dbus-run-session is not installed")
def test_a_notice_arrives_at_the_desktops_portal():
    """A stand-in for the desktop's portal, on a bus of its own."""
    command = ["dbus-run-session", "--", sys.executable, "-c", PORTAL]
    made = subprocess.run(command, capture_output=True, text=True, timeout=120, check=True)
    assert made.stdout.split("\n")[:2] == ["kobrel Movie is done /tmp/a.mp4", "True"]


def test_without_a_desktop_there_is_no_notice(monkeypatch):
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    assert notices.send("a", "b") is False
