"""Words from outside are shown letter by letter, wherever they stand."""

import ast
import json
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import Qt as Rich
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QLabel,
    QMessageBox,
    QTextBrowser,
    QToolTip,
    QWidget,
)

import kobrel.desk
from kobrel.desk.cards.deck import NAMES
from kobrel.desk.toolkit import asking
from kobrel.desk.toolkit.words import Label, plain
from kobrel.desk.window.document import DEMO, HARBOUR
from kobrel.desk.window.sheets.left import LeftSheet
from kobrel.errors import PlanError
from kobrel.exchange.upkeep import Asked
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.model import Plan
from kobrel.session.journal.file import Left, Work
from kobrel.session.undo import History, Step

DESK = Path(kobrel.desk.__file__).parent
MARKUP = "<img src=/dev/zero><b>x</b>"
TOLD_BY = {"setToolTip", "setInformativeText", "setDetailedText", "setWhatsThis", "showText"}
BOXES = {"warning", "question", "information", "critical", "about"}


def _is_written(node):
    """Whether text stands in the code, or goes through `plain`."""
    if isinstance(node, ast.IfExp):
        return _is_written(node.body) and _is_written(node.orelse)
    called = isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "plain"
    return called or isinstance(node, ast.Constant)


def faults_of(path, tree):
    """Places that show words which are neither written in the code nor made plain."""
    found = []
    for node in ast.walk(tree):
        text = None
        if isinstance(node, ast.ClassDef):
            made = [base.id for base in node.bases if isinstance(base, ast.Name)]
            found += [(path, node.lineno)] if "QLabel" in made else []
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            owner = node.func.value
            if node.func.attr in TOLD_BY:
                text = next((arg for arg in node.args if not _is_written(arg)), None)
            elif node.func.attr in BOXES and isinstance(owner, ast.Name) and owner.id == "QMessageBox":
                text = next((arg for arg in node.args[2:3] if not _is_written(arg)), None)
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            found += [(path, node.lineno)] if node.func.id == "QLabel" else []
            if node.func.id == "QMessageBox":
                text = next((arg for arg in node.args[2:3] if not _is_written(arg)), None)
        elif isinstance(node, ast.If) and "ToolTipRole" in ast.unparse(node.test):
            given = [each.value for each in ast.walk(node) if isinstance(each, ast.Return)]
            text = next((each for each in given if each is not None and not _is_written(each)), None)
        if text is not None:
            found.append((path, text.lineno))
    return found


def test_all_words_that_are_not_in_the_code_are_made_plain():
    found = []
    for path in DESK.rglob("*.py"):
        if path.name != "words.py":
            found += faults_of(path.relative_to(DESK), ast.parse(path.read_text()))
    assert not found
    for code in (
        'w.setToolTip(f"{name}")', "QLabel(name)", 'QMessageBox.warning(w, "K", str(e))', "class A(QLabel): pass",
        "def f():\n if role == Qt.ToolTipRole:\n  return name",
    ):  # fmt: skip
        assert faults_of("x", ast.parse(code))


def unsafe(widget):
    """What of a widget Qt would take for markup."""
    shown = [widget.toolTip(), *(action.toolTip() for action in widget.actions())]
    if isinstance(widget, QLabel) and widget.textFormat() != Qt.TextFormat.PlainText:
        shown.append(widget.text())
    if isinstance(widget, QMessageBox):
        shown += [widget.text(), widget.informativeText()]
    if isinstance(widget, QAbstractItemView) and widget.model() is not None:
        model = widget.model()
        rows = [model.index(row, 0, widget.rootIndex()) for row in range(model.rowCount(widget.rootIndex()))]
        shown += [str(index.data(Qt.ItemDataRole.ToolTipRole) or "") for index in rows]
    rich = [text for text in shown if Rich.mightBeRichText(text)]
    return [text for text in rich if "<img" in text or "<b>" in text]


def walked(top):
    found = {}
    for widget in [top, *top.findChildren(QWidget)]:
        if not isinstance(widget, QTextBrowser) and unsafe(widget):
            found[f"{type(widget).__name__} {widget.accessibleName()}"] = unsafe(widget)
    return found


def hostile(path, folder):
    """A plan in which every name is markup."""
    names = set()

    def collect(value):
        if isinstance(value, dict):
            names.update(
                text for key, text in value.items() if key in ("name", "title") and isinstance(text, str)
            )
        for each in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
            collect(each)

    def marked(value):
        if isinstance(value, dict):
            return {key: marked(each) for key, each in value.items()}
        if isinstance(value, list):
            return [marked(each) for each in value]
        return f"{MARKUP} {value}" if isinstance(value, str) and value in names else value

    whole = open_plan(path)
    content = whole.model_dump(mode="json")
    collect(content)
    names.discard("")
    path = folder / f"{MARKUP.replace('/', '-')}.kobrel"
    save_plan(Plan.model_validate(marked(content)), path)
    return path


@pytest.mark.parametrize("demo", [DEMO, HARBOUR], ids=["night", "plates"])
def test_no_name_in_a_plan_is_taken_for_markup(make_window, tmp_path, demo):
    user = make_window()
    user.window.document.open(hostile(demo, tmp_path))
    user.opened()
    window, session = user.window, user.window.session
    assert MARKUP in session.plan.name
    assert MARKUP in session.shot.name
    assert walked(window) == {}
    for subject in session.plan.subjects[:1]:
        session.selection.subject = subject.number
    for number in NAMES:
        card = window.cards[number]
        session.view.card = number
        for page in getattr(card, "pages", {}) or [None]:
            if page is not None:
                window.show_page(number, page)
            user.rest(0.01)
            assert walked(window) == {}, (number, page)
    session.say(MARKUP)
    window.show_warning(MARKUP, [MARKUP, MARKUP])
    user.rest()
    assert window.says.text() == MARKUP
    assert walked(window) == {}
    texts = [label.text() for label in window.findChildren(QLabel)]
    assert any("<img" in text for text in texts)  # it is there, letter by letter


def test_words_of_boxes_and_sheets_are_plain(qapp, qtbot, tmp_path):
    parent = Label(MARKUP)
    qtbot.addWidget(parent)
    assert parent.textFormat() == Qt.TextFormat.PlainText
    asking.ask_writing(
        parent, tmp_path / f"{MARKUP.replace('/', '-')}.kobrel", Asked((tmp_path / "<b>x",), ()), print, print
    )
    assert walked(parent) == {}
    (box,) = parent.findChildren(QMessageBox)
    assert "&lt;img" in box.text()
    box.close()
    step = Step(MARKUP, Plan(), Plan(name=MARKUP))
    left = Left(tmp_path / "x", Work(step.new, History((step,), 1, 0)), None, MARKUP, 1.0, b"", MARKUP)
    sheet = LeftSheet(print, parent)
    sheet.add([left])
    assert walked(sheet) == {}
    assert plain(str(PlanError(MARKUP, file=MARKUP))).count("&lt;img") == 2
    QToolTip.showText(parent.pos(), plain(MARKUP), parent)
    QApplication.processEvents()
    assert "<img" not in QToolTip.text()
    assert len(plain("x" * 100_000)) < 5_000
    assert json.loads(json.dumps(plain("5 < 6 and <8>"))) == "5 < 6 and <8>"
