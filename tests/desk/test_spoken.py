"""The window through Qt's accessibility interfaces, as a screen reader has it."""

import gc

from PySide6.QtGui import QAccessible
from PySide6.QtWidgets import QAbstractButton, QApplication, QComboBox, QLineEdit, QWidget

from kobrel.desk.cards.deck import NAMES

TEXT = QAccessible.Text


def told(widget, kind=TEXT.Value):
    return QAccessible.queryAccessibleInterface(widget).text(kind)


def test_painted_views_have_roles_names_and_values(demo_user):
    window, session = demo_user.window, demo_user.window.session
    session.show_frame(1001)
    barrel = QAccessible.queryAccessibleInterface(window.barrel)
    assert barrel.role() == QAccessible.Role.Slider
    assert "Barrel" in barrel.text(TEXT.Name)
    focus = session.length(float(session.camera.focus_m))
    assert f"focus {focus}" in told(window.barrel)
    assert "1 Lantern" in told(window.picture)
    assert "sharp" in told(window.picture)
    assert "1001 on Lantern" in told(window.chart)
    assert "2 of 4" in told(window.shots)
    assert "Ferryman" in told(window.overhead)
    for view in (window.picture, window.overhead, window.barrel, window.chart, window.shots):
        assert told(view, TEXT.Name)


def test_values_follow_what_is_done_by_keyboard(demo_user):
    window = demo_user.window
    before = told(window.barrel)
    window.barrel.setFocus()
    from PySide6.QtCore import Qt

    demo_user.key(Qt.Key.Key_Up, widget=window.barrel)
    assert told(window.barrel) != before
    demo_user.key(Qt.Key.Key_Right, widget=window.picture)
    assert f"frame {window.session.frame:g}" in told(window.picture)


def test_everything_on_a_card_that_takes_the_keyboard_has_a_name(demo_user):
    window = demo_user.window
    for card in NAMES:
        window.session.view.card = card
        for page in window.cards[card].pages:
            window.cards[card].show_page(page)
            QApplication.processEvents()
            nameless = [
                f"{page}: {type(child).__name__} {child.toolTip()[:40]}"
                for child in window.cards[card].findChildren(QWidget)
                if isinstance(child, QAbstractButton | QComboBox | QLineEdit)
                and child.isVisible()
                and not (told(child, TEXT.Name) or child.accessibleName())
            ]
            assert not nameless


def test_a_view_that_is_gone_takes_its_interface_along(make_window):
    made = make_window()
    views = [made.window.barrel, made.window.picture]
    assert all(QAccessible.queryAccessibleInterface(view) is not None for view in views)
    made.window.session.mark_saved()
    made.window.close()
    made.window.deleteLater()
    del views
    QApplication.processEvents()
    gc.collect()
