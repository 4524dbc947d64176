"""What people read: one term for a concept, labels with a capital, tooltips that say what a control does."""

import ast
import re
from pathlib import Path

import pytest
from PySide6.QtGui import QImage
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QToolButton,
    QWidget,
)

import kobrel
from kobrel.desk.cards.deck import NAMES
from kobrel.desk.toolkit.fields import Field
from kobrel.desk.window.document import DEMO
from kobrel.desk.window.screenshots import VIEWS, WORDS, words_of

SOURCES = Path(kobrel.__file__).parent
NOT = re.compile(
    r"\b(pegs?|ladders?|rungs?|kept pictures?|wish(es)?|hand-wheels?|throw(n|s)? (everything |all )?out|flaws?|"
    r"kits?|finished pictures?|depth pictures?|walk(s|ing)? about|pictures? all about|first sight|bottom line|"
    r"way on|goes by|sooner|shall|anew|frames? a second|far background|creeps?|forget|take back|take it)\b",
    re.IGNORECASE,
)
"""Words that have another term, see docs/guide.md; what is code in a sentence stands in backquotes."""
_CODE = re.compile(r"`[^`]*`|--[a-z-]+|[a-z_]+\.[a-z_.]+|[A-Z_]{2,}")


def sentences(path):
    """Strings with a blank in them that are no documentation: (line, text)."""
    tree = ast.parse(path.read_text())
    told = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    for node in ast.walk(tree):
        if id(node) in told:
            continue
        if isinstance(node, ast.JoinedStr):
            words = "{}".join(str(part.value) for part in node.values if isinstance(part, ast.Constant))
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            words = node.value
        else:
            continue
        if re.search(r"[A-Za-z]{2,} ", words) or " …" in words:
            yield node.lineno, words


def faults_in(words):
    """What a program can tell of a sentence."""
    found = NOT.search(_CODE.sub("", words))
    if found:
        return f"says {found.group()!r}"
    if re.search(r"\w …", words):
        return "has a blank before the ellipsis"
    return "has a curved apostrophe" if re.search(r"\w’\w", words) else ""


@pytest.mark.parametrize("package", sorted(p.name for p in SOURCES.iterdir() if (p / "__init__.py").exists()))
def test_one_term_for_a_concept(package):
    told = [
        f"{path.relative_to(SOURCES)}:{line}: {fault}: {words[:80]}"
        for path in sorted((SOURCES / package).rglob("*.py"))
        for line, words in sentences(path)
        if (fault := faults_in(words))
    ]
    assert not told, "\n".join(told)


@pytest.mark.parametrize(
    ("words", "fault"),
    [
        ("Click a peg to focus", "says 'peg'"), ("Open …", "has a blank before the ellipsis"),
        ("The shot’s lens", "has a curved apostrophe"), ("Click a tag to focus…", ""),
        ("see `kobrel export --kit NAME`", ""),
    ],
)  # fmt: skip
def test_a_broken_rule_is_noticed(words, fault):
    assert faults_in(words) == fault


def controls(window):
    """Everything that can be used on tabs, in panels and lines: (where, widget)."""
    for number, name in NAMES.items():
        card = window.cards[number]
        for page in card.pages:
            for widget in card.pages[page].findChildren(QWidget):
                yield f"{name}, {page}", widget
    transport = window.body.transport
    for where, whole in (
        ("transport", transport), ("cache", transport.cache.content), ("compare", transport.compare.content),
        ("view", transport.look.content), ("alts", window.alts.content), ("queue", window.drawer),
    ):  # fmt: skip
        for widget in whole.findChildren(QWidget):
            yield where, widget


def name_of(widget):
    return widget.accessibleName() or (widget.text() if hasattr(widget, "text") else "")


def test_controls_say_what_they_do(demo_user):
    """A tooltip that is not the label again; a number's has its unit; a label begins with a capital."""
    told = []
    for where, widget in controls(demo_user.window):
        if not isinstance(widget, (QAbstractButton, QComboBox, QLineEdit)) or widget.objectName().startswith(
            "qt_"
        ):
            continue
        name, tip = name_of(widget), widget.toolTip()
        if isinstance(widget.parent(), QComboBox) or isinstance(widget, QToolButton):
            continue
        if not tip or tip.strip(". ").lower() in (name.lower(), f"{name.lower()}.", ""):
            told.append(f"{where}: {type(widget).__name__} {name!r} has the tooltip {tip!r}")
        if isinstance(widget, Field) and not (widget.unit and " · " in tip):
            told.append(f"{where}: {name!r} tells no unit: {tip!r}")
    assert not told, "\n".join(told)


def test_labels_begin_with_a_capital(demo_user):
    told = []
    for where, widget in controls(demo_user.window):
        texts = []
        if isinstance(widget, QComboBox):
            texts = [widget.itemText(k) for k in range(widget.count())]
        elif isinstance(widget, QPushButton | QCheckBox) or (
            isinstance(widget, QLabel) and widget.buddy() is not None
        ):
            texts = [widget.text()]
        told += [f"{where}: {text!r}" for text in texts if text[:1].islower() and not _is_a_symbol(text)]
    assert not told, "\n".join(told)


def _is_a_symbol(text):
    """Units, f-stops, names from files."""
    return bool(re.match(r"^(f/|[a-z]{1,3}\b( |$)|x\d)|.*\.\w+$", text))


def test_page_buttons_say_a_sentence(demo_user):
    for number in NAMES:
        card = demo_user.window.cards[number]
        for button in card.page_buttons:
            assert len(button.toolTip().split()) >= 4, button.text()


@pytest.mark.parametrize("view", VIEWS, ids=[view.name for view in VIEWS])
def test_no_picture_in_the_docs_is_older_than_what_it_shows(view):
    image = QImage(str(Path(__file__).parents[2] / "docs" / "screenshots" / f"{view.name}.png"))
    again = f"kobrel --demo --pictures docs/screenshots --views {view.name}"
    assert image.text(WORDS) == words_of(view), f"the page has other words now; run: {again}"


def test_every_page_fits_the_width_of_its_tab(demo_user):
    """Words must not push a page wider than the panel, where its right edge would be cut off."""
    assert not _too_wide(demo_user.window)


def test_every_page_fits_with_plates_and_a_dial_too(make_window):
    user = make_window()
    user.window.document.open(DEMO.with_name("paper_harbour.kobrel"))
    user.opened()
    assert user.window.session.plan.dials
    assert user.window.session.plan.plates
    assert not _too_wide(user.window)


_FRAME_PX = 8
"""What frame and padding of a field take at the least."""


def _too_wide(window):
    told = []
    for number in NAMES:
        card = window.cards[number]
        for page in card.pages:
            window.show_page(number, page)
            QApplication.processEvents()
            if card.minimumSizeHint().width() > window.cards.width():
                told.append(f"{card.name}, {page}: {card.minimumSizeHint().width()} px")
            for field in card.findChildren(Field):
                needed = field.fontMetrics().horizontalAdvance(field.text())
                if field.isVisibleTo(card) and needed > field.width() - _FRAME_PX:
                    told.append(f"{card.name}, {page}, {field.accessibleName()}: “{field.text()}” is cut off")
    return told


def test_straight_says_whether_it_is_a_line_or_a_way_to_count():
    """Distances are on axis or straight-line, encodings and eases linear; a label never says Straight alone."""
    told = [
        str(path)
        for path in SOURCES.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Constant) and node.value == "Straight"
    ]
    assert not told, told


def test_the_demo_without_a_display_asks_for_views_that_there_are():
    script = (SOURCES.parents[1] / "scripts" / "demo.sh").read_text()
    (asked,) = re.findall(r"--views (\S+)", script)
    assert set(asked.split(",")) <= {view.name for view in VIEWS}
