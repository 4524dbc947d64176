"""The guide in the window: made from the docs, searched, and turned to by a click."""

import sys
from pathlib import Path

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from kobrel.desk.cards.deck import NAMES
from kobrel.desk.cards.paged import PagedCard
from kobrel.desk.window.sheets.guide import GUIDE
from kobrel.desk.window.sheets.help import place_of

sys.path.insert(0, str(Path(__file__).parents[2] / "scripts"))


def test_it_is_made_from_the_readme_and_the_docs():
    from make_guide import made

    assert GUIDE.read_text(encoding="utf-8") == made(), "run: python scripts/make_guide.py"


def test_every_page_of_every_card_has_its_place_there(demo_user):
    window = demo_user.window
    guide = window.help.guide
    for number in NAMES:
        card = window.cards[number]
        assert isinstance(card, PagedCard)
        for page in card.pages:
            assert guide.turn_to(f"{card.name}: {page}"), page
    for view in (
        window.picture,
        window.overhead,
        window.barrel,
        window.chart,
        window.shots,
    ):
        assert guide.turn_to(place_of(view)[0]), view
    assert not guide.turn_to("Nowhere")


def test_it_is_searched(demo_user):
    user, window = demo_user, demo_user.window
    user.key(Qt.Key.Key_F1)
    guide = window.help.guide
    assert guide.isVisible()
    QTest.keyClicks(guide.search, "hyperfocal")
    assert guide.text.textCursor().selectedText().lower() == "hyperfocal"
    assert guide.told.text() == ""
    QTest.keyClicks(guide.search, "zzz")
    assert "is not in the guide" in guide.told.text()
    guide.close()


@pytest.mark.parametrize("leave", [False, True])
def test_what_is_this_leads_to_the_place(demo_user, leave):
    user, window = demo_user, demo_user.window
    window.session.view.card = 3
    window.cards[3].show_page("Brief")
    user.rest()
    user.key(Qt.Key.Key_F1, Qt.KeyboardModifier.ShiftModifier)
    assert QApplication.overrideCursor() is not None
    if leave:
        user.key(Qt.Key.Key_Escape)
    else:
        page = window.cards[3].pages["Brief"]
        user.click(page, QPointF(5, 5))
        guide = window.help.guide
        assert guide.isVisible()
        assert guide.headings.currentItem().text().strip() == "Glass: Brief"
        guide.close()
    assert QApplication.overrideCursor() is None
    window.session.show_frame(1020)
    frame = window.session.frame
    user.key(Qt.Key.Key_Left)
    assert window.session.frame == frame - 1
