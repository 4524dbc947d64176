import time
from dataclasses import replace
from threading import Thread

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox, QWidget

from kobrel.desk.picture.picture import PictureView
from kobrel.desk.toolkit.theme import apply
from kobrel.desk.window import picture_feed
from kobrel.desk.window.app import application
from kobrel.desk.window.document import DEMO
from kobrel.desk.window.window import Window
from kobrel.farm.queue import Queue
from kobrel.farm.runner import work_off
from kobrel.session import settings as keys
from kobrel.session.open_file import open_file
from kobrel.session.session import Session
from kobrel.session.settings import Setting, Settings
from kobrel.session.store import FileStore
from kobrel.stage.scene import no_progress


@pytest.fixture(scope="session")
def qapp():
    made = application()
    apply(made)
    return made


@pytest.fixture
def settings(tmp_path):
    """Settings of its own for each test, in a file."""
    folder = tmp_path / "settings"
    return lambda: Settings(FileStore(folder / "settings.json"), folder, folder / "journals")


@pytest.fixture(autouse=True)
def with_noise(monkeypatch):
    """Pictures are shown as they are traced, unless a test asks for more."""
    monkeypatch.setattr(keys, "DENOISES", Setting("view/denoise", False))


@pytest.fixture(autouse=True)
def runner_within(monkeypatch):
    """Jobs of the queue are run in a thread of this process."""
    threads = []

    def start(queue):
        if not queue.is_held and not any(thread.is_alive() for thread in threads):
            threads.append(Thread(target=work_off, args=(queue, 0.0), daemon=True))
            threads[-1].start()

    monkeypatch.setattr(Queue, "start_runner", start)
    yield
    for thread in threads:
        thread.join(60)


PASSES = 8
"""Passes of a picture in tests: as many as it takes to count as exact."""


class User:
    """Uses a window as a person does: waits, clicks, drags and types."""

    def __init__(self, window):
        self.window = window

    def wait(self, ready, seconds=60):
        begun = time.monotonic()
        while not ready():
            QApplication.processEvents()
            time.sleep(0.003)
            assert time.monotonic() - begun < seconds, self.window.says.text()

    def rest(self, seconds=0.05):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.003)

    def opened(self):
        self.wait(lambda: self.window.jobs.job is None and self.window.session.plan.shots)
        self.wait(lambda: self.window.picture.ready)
        if self.window.arrival is not None:
            self.window.arrival.accept()
            self.wait(self.window.isActiveWindow)

    def click(self, widget, at, modifier=Qt.KeyboardModifier.NoModifier):
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, modifier, _point(at))
        QApplication.processEvents()

    def drag(self, widget, start, end, steps=6, button=Qt.MouseButton.LeftButton):
        QTest.mousePress(widget, button, Qt.KeyboardModifier.NoModifier, _point(start))
        for i in range(1, steps + 1):
            part = i / steps
            place = QPointF(start) * (1 - part) + QPointF(end) * part
            QTest.mouseMove(widget, _point(place))
            QApplication.processEvents()
        QTest.mouseRelease(widget, button, Qt.KeyboardModifier.NoModifier, _point(end))
        QApplication.processEvents()

    def wheel(self, widget, at, steps):
        place, none = QPointF(at), QPoint()
        event = QWheelEvent(
            place, widget.mapToGlobal(place), none, QPoint(0, 120 * steps), Qt.MouseButton.NoButton,
            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False,
        )  # fmt: skip
        QApplication.sendEvent(widget, event)
        QApplication.processEvents()

    def type(self, field, text, confirm=True):
        type_into(field, text, confirm)

    def panel(self, button):
        """Open a panel by its button; returns what is in it."""
        QTest.mouseClick(button, Qt.MouseButton.LeftButton)
        QApplication.processEvents()
        assert button.is_open
        return button.content

    def key(self, key, modifier=Qt.KeyboardModifier.NoModifier, widget=None):
        QTest.keyClick(widget or self.window, key, modifier)
        QApplication.processEvents()


def answer(says, way):
    """Answer the next box: it has to say something, and a button that begins so is clicked."""

    def press():
        box = QApplication.activeModalWidget()
        assert isinstance(box, QMessageBox)
        found = [each for each in box.buttons() if each.text().replace("&", "").startswith(way)]
        if not found or says not in box.text():
            box.reject()  # or the test would wait for ever
        assert says in box.text()
        assert found, way
        found[0].click()

    QTimer.singleShot(100, press)


def type_into(field, text, confirm=True):
    """Type into a field, and press Enter."""
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    if confirm:
        QTest.keyClick(field, Qt.Key.Key_Return)
    QApplication.processEvents()


def pick(box, text):
    """Choose an entry of a drop-down."""
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())
    QApplication.processEvents()


def finished(window):
    """Whether the picture has all its passes."""
    return window.picture.status.startswith(f"{PASSES} / {PASSES} samples")


def by_name(parent, name):
    """The control of a card that is called so."""
    return next(field for field in parent.findChildren(QWidget) if field.accessibleName() == name)


def _point(at):
    return QPoint(round(at.x()), round(at.y()))


@pytest.fixture(scope="session")
def opened_demo():
    """The demo, read once for all tests of a worker: nothing that an edit does changes it. It is drawn
    plainly, which is quicker.
    """
    opened = open_file(DEMO, no_progress)
    opened.stage.prepare()
    return replace(opened, plan=opened.plan.replace(light=opened.plan.light.replace(surfaces="plain")))


@pytest.fixture
def demo_session(qapp, settings, opened_demo):
    """A session on the demo's second shot, without a window; `heard` holds what it said."""
    session = Session(settings())
    session.show_plan(opened_demo.plan, opened_demo.stage, opened_demo.library, shot_index=1)
    session.heard = []
    session.said.connect(session.heard.append)
    return session


@pytest.fixture
def make_page(demo_session):
    """Makes a page of a card, seen by itself."""
    made = []

    def make(kind):
        page = kind(demo_session)
        page.resize(322, 760)
        page.show()
        made.append(page)
        return page

    yield make
    for page in made:
        page.close()
        page.deleteLater()


@pytest.fixture
def make_window(qapp, settings, monkeypatch):
    monkeypatch.setattr(picture_feed, "PASSES", PASSES)
    whole = PictureView.picture_size
    monkeypatch.setattr(PictureView, "picture_size", lambda view: tuple(side // 6 for side in whole(view)))
    made = []

    def make():
        window = Window(settings())
        window.resize(1280, 800)
        window.show()
        window.activateWindow()
        window.drawing.start()
        made.append(window)
        return User(window)

    yield make
    for window in made:
        window.session.mark_saved()
        for entry in window.queueing.queue.entries():  # nobody asks what becomes of them
            window.queueing.remove(entry.key)
        window.close()
        window.deleteLater()
    # A window that lingers would be dressed again with every change of the look.
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()


@pytest.fixture
def demo_user(make_window, opened_demo):
    """A person at a window that shows the demo's second shot."""
    made = make_window()
    made.window.document.show(opened_demo, DEMO)
    made.window.session.show_shot(1)
    made.window.session.show_frame(1001)
    made.wait(lambda: made.window.picture.ready)
    return made
