"""No exception of Python goes through Qt: it is told, and the work goes on."""

import importlib
import inspect
import pkgutil
import subprocess
import sys

import pytest
from PySide6.QtCore import QAbstractListModel, QModelIndex, QSize
from PySide6.QtWidgets import QApplication, QWidget

import kobrel.desk
from kobrel.desk.boundary import guarded, is_guarded, overridden


def test_every_method_that_qt_calls_is_guarded():
    bare, seen = [], 0
    for module in pkgutil.walk_packages(kobrel.desk.__path__, "kobrel.desk."):
        for kind in vars(importlib.import_module(module.name)).values():
            if inspect.isclass(kind) and kind.__module__ == module.name:
                for name in overridden(kind):
                    seen += 1
                    if not is_guarded(kind, name):
                        bare.append(f"{module.name}.{kind.__name__}.{name}")
    assert seen > 100
    assert bare == []


@guarded
class Faulty(QWidget):
    def showEvent(self, event):
        raise KeyError("plate")

    def sizeHint(self):
        raise ValueError("no size")


@guarded
class FaultyModel(QAbstractListModel):
    def rowCount(self, parent=QModelIndex()):
        raise KeyError("rows")


def test_what_a_method_raises_is_told_and_qts_own_goes_on(qapp, monkeypatch):
    told = []
    monkeypatch.setattr(
        sys, "excepthook", lambda kind, error, _trace: told.append(f"{kind.__name__}: {error}")
    )
    widget = Faulty()
    widget.show()
    QApplication.processEvents()
    assert widget.sizeHint() == QSize(-1, -1)
    assert FaultyModel().rowCount() is None
    assert {"KeyError: 'plate'", "ValueError: no size", "KeyError: 'rows'"} == set(told)
    widget.close()


@pytest.mark.parametrize("guard", [True, False])
def test_without_the_guard_such_a_fault_reaches_other_methods(guard):
    """The fault that ended Kobrel: a card that raises while it is shown, and a filter that Qt asks next."""
    code = f"""
import sys
from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication, QStackedWidget, QWidget
from kobrel.desk.boundary import guarded

class Card(QWidget):
    def showEvent(self, event):
        raise KeyError("plate")

class Filter(QObject):
    def eventFilter(self, watched, event):
        return isinstance(event, int)

if {guard}:
    Card, Filter = guarded(Card), guarded(Filter)
sys.excepthook = lambda kind, error, trace: print(kind.__name__)
app = QApplication([])
app.installEventFilter(keys := Filter())
deck = QStackedWidget()
deck.addWidget(QWidget())
deck.addWidget(Card())
deck.show()
try:
    deck.setCurrentIndex(1)
    app.processEvents()
except BaseException as error:
    print("through Qt:", type(error).__name__)
print("went on")
"""
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    if guard:
        assert (made.returncode, made.stdout.split()) == (0, ["KeyError", "went", "on"])
    else:
        assert made.returncode != 0 or "through Qt" in made.stdout
