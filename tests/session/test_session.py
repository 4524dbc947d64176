"""The session by itself: one event for each change, the way back, drags, and the faults it must not have."""

import gc
import sys

import pytest

from kobrel.errors import PartError
from kobrel.plan import edit
from kobrel.plan.model import Mark, PointAnchor, SubjectTarget
from kobrel.plan.pull import marks as pulls
from kobrel.plan.staging import Library
from kobrel.plan.start import empty_plan
from kobrel.session import fields
from kobrel.session.commands import blocking, focusing, pulling, subject_list, taping
from kobrel.session.document import Document
from kobrel.session.evented import Field, Room
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View
from kobrel.stage.stage import Stage
from tests.conftest import library_of

LANTERN, FERRYMAN = 1, 2


@pytest.fixture
def session(demo):
    made = Session()
    made.show_plan(*demo, library_of(*demo), shot_index=1)
    return made


class Told(list):
    """What a session told, each time with the mark and the subject that were chosen then."""

    def __init__(self, session):
        super().__init__()
        self._session = session
        session.values.changed.connect(self.note)

    def note(self, changes):
        if changes != {Session._message}:
            session = self._session
            self.append((changes, session.plan, session.selection.mark, session.selection.subject))


def test_a_change_is_told_once_after_all_of_it(session):
    session.show_frame(1020)
    told = Told(session)
    session.show_shot(2)
    assert [changes for changes, *_ in told] == [{Document.shot_index, Document.frame}]
    session.show_shot(2)
    session.show_frame(session.frame)
    assert len(told) == 1, "what stays the same is not told"


def test_several_changes_are_told_as_one(session):
    told = Told(session)
    with session.as_one():
        session.show_frame(1020)
        session.selection.marks = (1001.0,)
        session.view.card = 2
    assert [changes for changes, *_ in told] == [{Document.frame, Selection.marks, View.card}]


def test_a_change_made_by_a_listener_is_told_after_the_one_it_listens_to(session):
    order = []
    session.watch({Document.frame}, lambda: session.set(View.card.to(4)))
    session.watch({Document.frame}, lambda: order.append(Document.frame))
    session.watch({View.card}, lambda: order.append(View.card))
    session.show_frame(1030)
    assert order == [Document.frame, View.card]


def test_a_listener_that_fails_does_not_keep_others_from_hearing(session, monkeypatch):
    failed, heard = [], []
    monkeypatch.setattr(sys, "excepthook", lambda kind, *_: failed.append(kind))
    session.watch({Document.frame}, lambda: 1 / 0)
    session.watch({Document.frame}, lambda: heard.append(session.frame))
    session.show_frame(1020)
    assert (failed, heard) == ([ZeroDivisionError], [1020])


def test_a_listener_may_go_without_being_forgotten(session):
    class View:
        heard = 0

        def hear(self):
            View.heard += 1

    view = View()
    session.watch({Document.frame}, view.hear)
    session.show_frame(1020)
    del view
    gc.collect()
    session.show_frame(1021)
    assert View.heard == 1


@pytest.mark.parametrize("field", ["plan", "stage", "frame", "history", "dragging"])
def test_nobody_else_writes_a_field(session, field):
    with pytest.raises(AttributeError, match="methods of the session and by commands"):
        setattr(session, field, None)


def test_a_field_that_is_not_there_cannot_be_watched(session):
    class Elsewhere(Room):
        moved = Field(0)

    with pytest.raises(KeyError, match="moved"):
        session.watch({Elsewhere.moved}, lambda: None)


def test_the_subject_in_focus_is_chosen_and_told_when_it_is_clicked(session):
    """Its mark stays what it is, so that the plan does not change: views must hear of it all the same."""
    focusing.focus_on_subject(session, LANTERN)
    session.selection.subject = FERRYMAN
    kept, told = session.plan, Told(session)
    focusing.focus_on_subject(session, LANTERN)
    assert session.plan == kept
    assert session.selection.subject == LANTERN
    assert len(told) == 1
    assert Selection.subject in told[0][0]


def test_a_focus_is_told_once_with_the_mark_that_it_makes(session):
    session.show_frame(1050)
    told = Told(session)
    focusing.focus_on(session, SubjectTarget(number=LANTERN))
    assert len(told) == 1
    _changes, plan, mark, _subject = told[0]
    assert mark == 1050.0
    assert 1050.0 in [each.frame for each in plan.shots[1].marks]


def test_a_mark_is_set_and_told_once_with_the_mark_chosen(session):
    session.show_frame(1045)
    told = Told(session)
    focusing.set_mark(session)
    assert [(mark, len(plan.shots[1].marks)) for _c, plan, mark, _s in told] == [(1045.0, 5)]


def test_an_edit_that_changes_nothing_leaves_no_step(session):
    told = Told(session)
    session.edit("Nothing", session.plan.replace(name=session.plan.name))
    assert session.history.steps == ()
    assert told == []


def test_undo_and_redo_go_through_all_steps_by_name(session):
    before = session.plan
    session.set_keyed("Stop", "f_number", 4.0)
    session.set_keyed("Focal length", "focal_mm", 35.0)
    after = session.plan
    assert session.history.last.name == "Focal length"
    session.undo()
    assert (session.history.last.name, session.history.next.name) == ("Stop", "Focal length")
    session.undo()
    session.undo()
    assert session.plan == before
    session.redo()
    session.redo()
    session.redo()
    assert session.plan == after
    session.undo()
    session.set_keyed("Stop", "f_number", 8.0)
    assert session.history.next is None, "what was undone is gone after another edit"


def test_saved_is_known_again_after_undo(session):
    session.set_keyed("Stop", "f_number", 4.0)
    session.mark_saved()
    session.set_keyed("Stop", "f_number", 5.6)
    assert not session.history.is_saved
    session.undo()
    assert session.history.is_saved
    session.undo()
    session.set_keyed("Stop", "f_number", 11.0)
    session.undo()
    session.redo()
    assert not session.history.is_saved, "the saved state was left behind"


def test_a_drag_is_one_step_and_leaves_none_where_it_comes_back(session):
    start = session.plan
    session.begin_drag()
    for stop in (4.0, 5.6, 8.0):
        session.set_keyed("Stop", "f_number", stop)
    session.end_drag()
    assert len(session.history.steps) == 1
    session.undo()
    assert session.plan == start
    session.redo()
    session.begin_drag()
    session.edit("There", session.plan.replace(name="x"))
    session.edit("And back", session.plan.replace(name=start.name))
    session.end_drag()
    assert len(session.history.steps) == 1


def test_a_cancelled_drag_puts_back_all_that_it_changed(session):
    session.set_keyed("Stop", "f_number", 4.0)
    session.undo()
    before, history, frame = session.plan, session.history, session.frame
    session.begin_drag()
    session.show_frame(1033)
    session.edit_shot("Move", lambda shot: pulls.move_mark(shot, 1037, 1040), Selection.marks.to((1040.0,)))
    told = Told(session)
    session.cancel_drag()
    assert (session.plan, session.frame, session.selection.mark) == (before, frame, None)
    assert session.history is history, "what could be done again still can"
    assert len(told) == 1
    assert not session.dragging
    session.cancel_drag()
    assert len(told) == 1


def test_a_mark_that_an_edit_takes_away_is_not_chosen_any_more(session):
    session.selection.marks = (1037.0,)
    pulling.delete_chosen(session)
    assert session.selection.mark is None
    session.undo()
    assert 1037.0 in [mark.frame for mark in session.shot.marks]


def test_marks_chosen_in_one_shot_are_not_chosen_in_the_next(session):
    """Shots begin at the same frame, so that a mark left chosen would be another shot's."""
    session.selection.marks = (1037.0, 1001.0)
    session.show_shot(2)
    assert pulling.chosen_frames(session) == []


def test_of_several_chosen_marks_those_that_go_are_not_chosen_any_more(session):
    session.selection.marks = (1037.0, 1061.0)
    session.edit_shot("Away", lambda shot: pulls.remove_mark(shot, 1061))
    assert session.selection.marks == (1037.0,)


def test_a_drag_that_is_cancelled_in_another_shot_comes_back_to_its_own(session):
    session.show_frame(1040)
    session.begin_drag()
    session.show_shot(3)
    session.cancel_drag()
    assert (session.shot_index, session.frame) == (1, 1040)


def test_marks_are_kept_chosen_while_they_move(session):
    session.selection.marks = (1037.0, 1061.0)
    pulling.move_by(session, 3)
    assert session.selection.marks == (1040.0, 1064.0)


def test_an_empty_plan_takes_every_command_and_does_nothing():
    session = Session()
    assert session.now is None
    assert session.camera is None
    for command in (
        focusing.set_mark, pulling.delete_chosen, pulling.delete_in_work, subject_list.focus_on_chosen,
        subject_list.make_of_readings, taping.focus_on_end, blocking.toggle_key, blocking.drop,
    ):  # fmt: skip
        command(session)
    focusing.focus_at_m(session, 3.0)
    session.undo()
    session.show_frame(7)
    assert session.history.steps == ()
    assert session.plan.shots == ()


def test_numbers_are_made_once_for_all_who_ask(session):
    now = session.now
    assert session.now is now
    session.show_frame(now.frame + 1)
    assert session.now is not now
    assert session.now.survey is now.survey, "another frame needs no other survey"
    session.set_keyed("Stop", "f_number", 9.0)
    assert session.survey is not now.survey


def test_a_sight_report_holds_until_something_moves(session):
    report = object()
    session.sight = session.parts, report
    assert session.sight_report is report
    session.show_frame(1040)
    assert session.sight_report is report
    session.set_keyed("Stop", "f_number", 9.0)
    assert session.sight_report is None
    session.undo()
    assert session.sight_report is report, "an edit that is undone brings the very same plan back"


def test_what_is_said_is_heard_after_the_changes_before_it(session):
    heard = []
    session.said.connect(lambda text: heard.append((text, session.selection.mark)))
    session.watch({Document.plan}, lambda: heard.append(Document.plan))
    session.show_frame(1045)
    focusing.set_mark(session)
    assert heard[0] == Document.plan
    assert heard[1][1] == float(session.frame)
    session.say("again")
    session.say("again")
    assert [text for text, _mark in heard[2:]] == ["again", "again"]


def test_a_plan_that_names_files_that_are_missing_asks_for_them(session):
    wanted = []
    session.wanted.connect(wanted.append)
    lost = session.plan.scenes[0].replace(path="/nowhere/set.usda")
    session.edit("Lost", session.plan.replace(scenes=(lost,)))
    assert wanted == ["files"]


def test_another_plan_forgets_the_way_back_and_what_was_chosen(session, demo):
    subject_list.add_subject(session, "Point", PointAnchor(position_m=(0, 1, 0)))
    session.begin_drag()
    session.show_plan(*demo, library_of(*demo))
    assert session.history.steps == ()
    assert session.selection.subject is None
    assert not session.dragging
    assert session.frame == session.shot.first


def test_a_shot_stays_in_work_when_others_move(session):
    name = session.shot.name
    session.edit("Turn about", session.plan.replace(shots=session.plan.shots[::-1]))
    assert session.shot.name == name
    assert session.shot_index == 2


def test_a_mark_on_the_chosen_subject_follows_its_merge(session):
    session.edit_shot(
        "One", lambda s: s.replace(marks=(Mark(frame=1001, target=SubjectTarget(number=FERRYMAN)),))
    )
    subject_list.merge_subjects(session, FERRYMAN, LANTERN)
    assert session.selection.subject == LANTERN
    assert session.shot.marks[0].target == SubjectTarget(number=LANTERN)
    assert edit.with_shot(session.plan, 1, session.shot) == session.plan


def test_undo_finds_the_stages_that_were_there():
    session = Session()
    session.show_plan(empty_plan(), Stage(), Library())
    stages = [session.stage]
    for _ in range(9):
        blocking.place_ahead(session, "box")
        stages.append(session.stage)
    for stage in stages[-2::-1]:
        session.undo()
        assert session.stage is stage
    for stage in stages[1:]:
        session.redo()
        assert session.stage is stage
    session.restage(Library(), session.stage)  # files were read again: what was there is of others
    session.undo()
    assert session.stage is not stages[-2]
    assert list(session.stage.scenes) == list(stages[-2].scenes)


def test_a_plain_field_is_changed_by_its_path(session):
    told = Told(session)
    fields.change(session, "light.shoulder", 0.4, "Highlight roll-off")
    fields.change(session, "shot.width_px", 1280, "Width")
    assert (session.plan.light.shoulder, session.shot.width_px) == (0.4, 1280)
    assert (fields.value(session, "light.shoulder"), fields.value(session, "shot.width_px")) == (0.4, 1280)
    assert [step.name for step in session.history.steps] == ["Highlight roll-off", "Width"]
    assert len(told) == 2
    session.undo()
    assert session.shot.width_px != 1280
    with pytest.raises(PartError, match="shoulder"):
        fields.change(session, "light.shoulder", 4.0, "Highlight roll-off")
    with pytest.raises(AttributeError, match="sholder"):
        fields.value(session, "light.sholder")


def test_the_schema_says_bounds_and_meaning_of_a_field():
    shoulder = fields.described_at("light.shoulder")
    assert (shoulder.low, shoulder.high) == (0.0, 1.0)
    assert "highlights roll off" in shoulder.description
    assert fields.described_at("light.surround.exposure_ev").high == 100.0
    assert fields.described_at("shot.glass.transmission").high == 1.0
    with pytest.raises(KeyError, match="sholder"):
        fields.described_at("light.sholder")


def test_an_empty_plan_has_no_field_of_a_shot():
    session = Session()
    assert fields.value(session, "shot.width_px") is None
    fields.change(session, "shot.width_px", 1280, "Width")
    assert session.history.steps == ()


def test_of_several_changes_of_a_field_the_last_one_counts(session):
    """Also where it is what the field was before."""
    session.selection.subject = LANTERN
    told = Told(session)
    session.set(Selection.subject.to(FERRYMAN), Selection.subject.to(LANTERN))
    assert session.selection.subject == LANTERN
    assert not told
    session.set(Selection.subject.to(LANTERN), Selection.subject.to(FERRYMAN))
    assert session.selection.subject == FERRYMAN
