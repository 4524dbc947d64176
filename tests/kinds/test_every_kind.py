"""Every kind of thing with every place that asks for kinds: pages, exporters, commands, undo, save and open."""

import sys
from typing import get_args

import pytest
from PySide6.QtWidgets import QApplication

from kobrel.cli import run_command
from kobrel.desk.cards.deck import NAMES
from kobrel.errors import KobrelError
from kobrel.exchange.export import KINDS, export
from kobrel.exchange.passes import write_passes
from kobrel.plan.check import findings
from kobrel.plan.export import PASSES
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Anchor
from kobrel.session.commands import focusing, shot_list, subject_list
from kobrel.session.session import Session
from kobrel.stage.scene import no_progress
from tests.kinds.plans import standings, tied


def test_there_is_a_plan_for_every_kind_of_anchor(tmp_path):
    kinds = {kind.model_fields["kind"].default for kind in get_args(get_args(Anchor)[0])}
    assert kinds == {name.removeprefix("on ") for name in tied(tmp_path) if name.startswith("on ")}


NAMES_OF_PLANS = [*standings(None), *tied(None)]
WALKED = {name for name in NAMES_OF_PLANS if not name.startswith("scene ") and not name.endswith(" gone")}
"""Those that every page is asked to show; for the others, the pages that ask for what they are."""


@pytest.fixture
def made(request, tmp_path):
    return {**standings(tmp_path), **tied(tmp_path)}[request.param]()


@pytest.fixture(scope="module")
def window():
    """One window for all of it; what goes wrong in it is gathered."""
    from kobrel.desk.window.window import Window
    from kobrel.session.settings import Settings

    QApplication.instance() or QApplication([])
    window = Window(Settings())
    window.resize(1280, 800)
    window.show()
    wrong = []
    kept, sys.excepthook = (
        sys.excepthook,
        lambda kind, error, _trace: wrong.append(f"{kind.__name__}: {error}"),
    )
    yield window, wrong
    sys.excepthook = kept
    window.session.mark_saved()
    window.close()
    window.deleteLater()


def walk(window, wrong, cards):
    """Turn to every page of some cards, with all views painted."""
    session = window.session
    for number in cards:
        session.view.card = number
        for page in list(getattr(window.cards[number], "pages", ())):
            window.show_page(number, page)
            QApplication.processEvents()
            assert wrong == [], (NAMES[number], page)
    for view in (window.body.picture, window.body.overhead, window.body.barrel, window.body.chart):
        view.grab()
    assert wrong == []


@pytest.mark.parametrize("made", NAMES_OF_PLANS, indirect=True)
def test_every_page_shows_it_and_every_edit_is_undone(made, window, request):
    window, wrong = window
    wrong.clear()
    plan, stage, library = made
    session = window.session
    session.show_plan(plan, stage, library)
    walk(window, wrong, NAMES if request.node.callspec.id in WALKED else (2, 5))
    if session.shot is not None:
        shot_list.duplicate(session)
        session.show_frame(session.shot.last)
    if plan.subjects:
        session.selection.subject = 1
        subject_list.focus_on_chosen(session)
        for kind in subject_list.ties(plan.subjects[0]):
            subject_list.tie(session, kind)
            walk_one(window, wrong, 2, "Subjects")
    focusing.focus_at_m(session, 2.5)
    after = session.plan
    steps = session.history.done
    for _ in range(steps):
        session.undo()
    assert session.plan == plan
    for _ in range(steps):
        session.redo()
    assert session.plan == after
    if plan.subjects:
        subject_list.remove_subject(session, 1)
        walk_one(window, wrong, 2, "Subjects")
        walk_one(window, wrong, 5, "Marks")
    assert wrong == []


def walk_one(window, wrong, card, page):
    window.show_page(card, page)
    QApplication.processEvents()
    assert wrong == [], page


@pytest.mark.parametrize("made", NAMES_OF_PLANS, indirect=True)
def test_it_is_checked_saved_opened_exported_and_answered_for(made, tmp_path, capsys):
    plan, stage, _library = made
    assert all(isinstance(line, str) for line in findings(plan, stage))
    path = tmp_path / "plan.kobrel"
    save_plan(plan, path)
    again = open_plan(path)
    assert again.replace(scenes=()) == plan.replace(scenes=())
    assert [scene.name for scene in again.scenes] == [scene.name for scene in plan.scenes]
    for shot in plan.shots[:1]:
        try:
            numbers = survey(plan, shot, stage)
        except KobrelError:
            numbers = None
        if numbers is not None:
            assert len(numbers.subjects) == len(plan.subjects)
        small = shot.replace(last=shot.first + 1, width_px=32)
        short = plan.replace(shots=(small,))
        for kind in KINDS.values():
            if kind.key not in ("sheet", "html"):
                only_sentences(export, short, small, stage, kind.key, tmp_path / f"x{kind.endings[0]}")
        only_sentences(
            write_passes, short, small, stage, [small.first], list(PASSES), tmp_path / "p.exr", no_progress
        )
    for command in (
        ()
        if plan.subjects
        else (["survey", str(path)], ["check", str(path)], ["limits", str(path)], ["shots", str(path)])
    ):
        assert run_command(command) in (0, 1, 2), command
    capsys.readouterr()


def only_sentences(work, *arguments):
    """Whatever cannot be done is told in a sentence."""
    try:
        work(*arguments)
    except KobrelError as error:
        assert str(error).rstrip().endswith((".", "!", "?", "”"))


def test_a_plan_without_anything_edits_to_nothing():
    session = Session()
    before = session.plan
    subject_list.focus_on_chosen(session)
    shot_list.duplicate(session)
    assert session.plan == before
