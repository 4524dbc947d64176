import time

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, QSettings, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.app import application
from kobrel.desk.document import DEMO
from kobrel.desk.look import apply
from kobrel.desk.window import Window


@pytest.fixture(scope="session")
def qapp():
    made = application()
    apply(made)
    return made


@pytest.fixture
def settings(tmp_path):
    """Settings of its own for each test."""
    QSettings.setDefaultFormat(QSettings.Format.IniFormat)
    QSettings.setPath(QSettings.Format.IniFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    return tmp_path / "settings"


class Hand:
    """A person at a window: waits, clicks, drags and types like one."""

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
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, text)
        if confirm:
            QTest.keyClick(field, Qt.Key.Key_Return)
        QApplication.processEvents()

    def key(self, key, modifier=Qt.KeyboardModifier.NoModifier, widget=None):
        QTest.keyClick(widget or self.window, key, modifier)
        QApplication.processEvents()


def _point(at):
    return QPoint(round(at.x()), round(at.y()))


@pytest.fixture
def make_window(qapp, settings):
    made = []

    def make():
        window = Window()
        window.resize(1280, 800)
        window.show()
        window.activateWindow()
        window.drawing.start()
        made.append(window)
        return Hand(window)

    yield make
    for window in made:
        window.session.undo.setClean()
        window.close()
        window.deleteLater()
    # A window that lingers would be dressed again with every change of the look.
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()


@pytest.fixture
def demo_hand(make_window):
    """A person at a window that shows the demo's second shot."""
    made = make_window()
    made.window.document.open(DEMO)
    made.opened()
    made.window.session.show_shot(1)
    return made
