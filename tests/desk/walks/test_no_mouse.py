"""From requirement to lens by keyboard alone, followed by what a screen reader says."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QAccessible
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from kobrel.plan.model import BoundsAnchor, Subject
from kobrel.plan.solve.brief import UNMET
from tests.desk.test_spoken import TEXT, told
from tests.desk.walks.material import SPREAD, row_of_three
from tests.desk.walks.test_measure_and_pull import opened


def press(key, times=1):
    """Press a key wherever the keyboard is."""
    for _ in range(times):
        QTest.keyClick(QApplication.focusWidget(), key)
        QApplication.processEvents()


def reach(name, most=150):
    """Go back through the controls until a screen reader says a name."""
    heard = []
    for _ in range(most):
        press(Qt.Key.Key_Backtab)
        at = QApplication.focusWidget()
        heard.append(at.accessibleName() or told(at, TEXT.Name))
        if heard[-1] == name:
            return at
    raise AssertionError(f"{name} is not reached; heard: {heard}")


def choose(name, text):
    """Choose an entry of a drop-down by its first letters."""
    box = reach(name)
    assert isinstance(box, QComboBox)
    press(Qt.Key.Key_Home)
    for _ in range(box.count()):
        if box.currentText().startswith(text):
            return
        press(Qt.Key.Key_Down)
    raise AssertionError(f"{name} has no {text}")


def test_no_mouse(make_window, tmp_path):
    user = opened(make_window, row_of_three(tmp_path / "row.usda"))
    window, session = user.window, user.window.session
    scene = session.plan.scenes[0].name
    subjects = tuple(
        Subject(number=number, name=name, anchor=BoundsAnchor(scene=scene, node=f"/{name}"))
        for number, name in enumerate(SPREAD, 1)
    )
    session.edit("Subjects", session.plan.replace(subjects=subjects))
    window.picture.setFocus()
    press(Qt.Key.Key_3)
    assert session.view.card == 3
    reach("Trade-offs")  # of a group of pages the keyboard reaches one, the arrows go to the others
    for _ in window.cards[3].page_buttons:
        if told(QApplication.focusWidget(), TEXT.Name) == "Brief":
            break
        press(Qt.Key.Key_Right)
    assert told(QApplication.focusWidget(), TEXT.Name) == "Brief"
    press(Qt.Key.Key_Space)
    brief = window.cards[3].pages["Brief"]
    assert brief.isVisible()
    for _name in SPREAD:
        reach(told(brief.add, TEXT.Name))
        press(Qt.Key.Key_Space)
    assert sorted(requirement.subject for requirement in session.shot.brief) == [1, 2, 3]
    choose(brief.over.accessibleName(), brief.over.itemText(brief.over.findData("whole")))
    answer = QAccessible.queryAccessibleInterface(brief.says).text(TEXT.Name)
    assert answer
    before = session.shot
    button = brief.take if brief.take.isEnabled() else brief.ask
    reach(told(button, TEXT.Name))
    press(Qt.Key.Key_Space)
    if button is brief.ask:
        user.wait(brief.candidates[0].isVisible)
        reach(told(brief.candidates[0], TEXT.Name))
        press(Qt.Key.Key_Space)
    assert session.shot != before
    assert (session.judged.verdicts[:, session.row] != UNMET).all()
    assert "1 Near" in told(window.picture)
    QTest.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    user.wait(lambda: session.shot == before)
