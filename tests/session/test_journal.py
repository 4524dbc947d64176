"""The journal: what was edited is on disk within a moment, whole, and comes back with its way back."""

import errno
import os
import shutil

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kobrel.errors import PlanError
from kobrel.files import write_whole
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.model import FORMAT, Subject
from kobrel.plan.staging import Library
from kobrel.plan.start import empty_plan
from kobrel.session.journal import file as journals
from kobrel.session.journal.autosave import Autosave, done_with, find_left, forget, left_of, put_aside
from kobrel.session.journal.changes import changes_between, with_changes
from kobrel.session.journal.file import MOST_STEPS, Journal, Work, is_held
from kobrel.session.journal.places import journal_apart, journal_aside, journal_beside
from kobrel.session.journal.reading import UNREAD, read_journal
from kobrel.session.open_file import open_file, open_left
from kobrel.session.session import Session
from kobrel.session.undo import History, Step
from kobrel.stage.scene import no_progress
from kobrel.stage.stage import Stage

NOTHING_WHOLE = "nothing in this autosave file can be read."


@pytest.fixture
def kept(tmp_path):
    """A session on an empty stage with its keeper; `told` is what the keeper said."""

    class Kept:
        def __init__(self):
            self.folder, self.told = tmp_path / "state", []
            self.session = Session()
            self.session.show_plan(empty_plan(), Stage(), Library())
            self.keeper = Autosave(self.session, self.folder, self.told.append)

        def copy(self, name="copy.journal"):
            """What a crash would leave now."""
            assert self.keeper.flush()
            place = next(iter([*self.folder.glob("*.journal"), *tmp_path.glob(".*.journal")]))
            return shutil.copy(place, tmp_path / name)

        def left(self):
            return read_journal(tmp_path / self.copy())

    made = Kept()
    made.keeper.begin(None, "")
    yield made
    made.keeper.end()
    made.keeper.close()


def stop(session, value):
    session.set_keyed(f"Stop {value:g}", "f_number", value)


def same_history(one, other):
    return [(s.name, s.old, s.new) for s in one.steps] == [(s.name, s.old, s.new) for s in other.steps]


def test_edits_come_back_with_the_way_back_and_forth(kept):
    for value in (2.0, 4.0, 5.6, 8.0):
        stop(kept.session, value)
    kept.session.undo()
    left = kept.left()
    assert left.work.plan == kept.session.plan
    assert (left.work.history.done, len(left.work.history.steps)) == (3, 4)
    assert same_history(left.work.history, kept.session.history)
    assert left.unsaved == ["Stop 2", "Stop 4", "Stop 5.6"]
    assert (left.path, left.source, left.told) == (None, "", "")


ACTS = st.lists(
    st.tuples(st.sampled_from(["stop", "title", "subject", "drop", "shot", "undo", "redo", "save", "drag"]), st.integers(1, 9)),
    min_size=1, max_size=14,
)  # fmt: skip


@settings(max_examples=25)
@given(acts=ACTS)
def test_whatever_was_done_comes_back(acts, tmp_path_factory):
    folder = tmp_path_factory.mktemp("journal")
    session = Session()
    session.show_plan(empty_plan(), Stage(), Library())
    journal, history = Journal(folder / "x.journal"), None
    for act, number in acts:
        plan = session.plan
        if act == "stop":
            stop(session, float(number))
        elif act == "title":
            session.edit_shot("Title", lambda shot, n=number: shot.replace(title=f"t{n}"))
        elif act == "subject":
            taken = [s.number for s in plan.subjects]
            fresh = Subject(
                number=max(taken, default=0) + 1,
                name="x",
                anchor={"kind": "point", "position_m": (number, 0, 0)},
            )
            session.edit("Subject", plan.replace(subjects=(*plan.subjects, fresh)))
        elif act == "drop":
            session.edit("Drop", plan.replace(subjects=plan.subjects[1:]))
        elif act == "shot" and len(plan.shots) < 5:
            session.edit(
                "Shot", plan.replace(shots=(plan.shots[0].replace(name=f"n{len(plan.shots)}"), *plan.shots))
            )
        elif act == "drag":
            session.begin_drag()
            for k in range(number):
                stop(session, 1.0 + k)
            session.end_drag()
        elif act == "save":
            session.mark_saved()
        elif act in ("undo", "redo"):
            getattr(session, act)()
        if session.history.steps and (history is not session.history):
            history = session.history
            work = Work(session.plan, history, session.shot_index, session.frame)
            if journal.written is None:
                journal.begin(work, None, "")
            else:
                journal.add(work)
    journal.close(keep=True)
    left = read_journal(folder / "x.journal")
    if not session.history.steps:
        assert left is None
        return
    assert left.work.plan == session.plan
    assert same_history(left.work.history, session.history)
    assert (left.work.history.done, left.work.history.saved) == (session.history.done, session.history.saved)


def test_a_torn_tail_costs_its_last_record_at_most(kept, tmp_path):
    stop(kept.session, 2.0)
    kept.copy()
    stop(kept.session, 4.0)
    whole = (tmp_path / kept.copy()).read_bytes()
    last = whole.rstrip(b"\n").rfind(b"\n") + 1
    for end in range(last, len(whole)):
        (tmp_path / "torn.journal").write_bytes(whole[:end])
        left = read_journal(tmp_path / "torn.journal")
        assert left.unsaved == ["Stop 2"]
        assert left.told == ("The very last record broke off." if end > last else "")
    for place in range(last, len(whole) - 1, 7):
        spoilt = bytearray(whole)
        spoilt[place] ^= 1
        (tmp_path / "torn.journal").write_bytes(spoilt)
        assert read_journal(tmp_path / "torn.journal").unsaved == ["Stop 2"]


def test_a_picture_is_kept_with_the_work(kept):
    stop(kept.session, 2.0)
    kept.keeper.flush()
    kept.keeper.show_picture(b"a picture")
    assert kept.left().picture == b"a picture"
    stop(kept.session, 4.0)
    kept.session.mark_saved()  # written anew, with the picture
    assert kept.left().picture == b"a picture"


def test_saving_compacts_and_leaves_nothing_to_offer(kept, tmp_path):
    for k in range(40):
        kept.session.begin_drag()
        for j in range(10):
            stop(kept.session, 2 + k / 10 + j / 100)
            if j == 5:
                kept.keeper.flush()  # the drag is written in parts
        kept.session.end_drag()
    before = kept.left()
    size = (tmp_path / "copy.journal").stat().st_size
    kept.session.mark_saved()
    kept.keeper.move(tmp_path / "plan.kobrel")
    after = kept.left()
    assert (tmp_path / "copy.journal").stat().st_size < size
    assert read_journal(journal_beside(tmp_path / "plan.kobrel")).path == tmp_path / "plan.kobrel"
    assert (len(before.unsaved), after.unsaved) == (40, [])
    assert len(after.work.history.steps) == 40
    assert not list(kept.folder.iterdir())


def test_no_more_steps_are_kept_than_can_be_undone(tmp_path):
    plan, steps = empty_plan(), []
    for k in range(MOST_STEPS + 30):
        steps.append(Step(f"{k}", plan, plan := plan.replace(name=f"{k}")))
    journal = Journal(tmp_path / "x.journal")
    journal.begin(Work(plan, History(tuple(steps), len(steps), 10)), None, "")
    journal.close(keep=True)
    left = read_journal(tmp_path / "x.journal")
    assert (len(left.work.history.steps), left.work.plan.name, left.work.history.saved) == (
        MOST_STEPS,
        f"{MOST_STEPS + 29}",
        None,
    )


def test_a_second_window_on_a_plan_is_told_and_keeps_its_own(kept, tmp_path):
    path = tmp_path / "plan.kobrel"
    save_plan(kept.session.plan, path)
    kept.keeper.begin(path, str(path))
    stop(kept.session, 2.0)
    assert kept.keeper.flush()
    assert is_held(journal_beside(path))
    told, other = [], Session()
    other.show_plan(open_plan(path), Stage(), Library())
    keeper = Autosave(other, kept.folder, told.append)
    keeper.begin(path, str(path))
    stop(other, 8.0)
    assert keeper.flush()
    assert "open in another window" in told[0]
    assert left_of(path, kept.folder) is None  # it is somebody's
    assert [j.suffix for j in kept.folder.iterdir()] == [".journal"]
    forget(journal_beside(path))
    assert journal_beside(path).exists()  # what is held is not taken away
    keeper.end()
    keeper.close()
    assert not list(kept.folder.iterdir())


def test_a_folder_that_takes_nothing_has_its_journal_elsewhere(kept, tmp_path, monkeypatch):
    path = tmp_path / "readonly" / "plan.kobrel"
    path.parent.mkdir()
    real = journals._locked

    def refusing(place):
        if place.parent == path.parent:
            raise PermissionError(errno.EACCES, "Permission denied")
        return real(place)

    monkeypatch.setattr(journals, "_locked", refusing)
    kept.keeper.begin(path, str(path))
    stop(kept.session, 2.0)
    assert kept.keeper.flush()
    assert (kept.told, list(kept.folder.iterdir())) == ([], [journal_apart(path, kept.folder)])


def test_a_full_disk_is_told_once_and_the_edits_follow_later(kept, monkeypatch):
    stop(kept.session, 2.0)
    kept.keeper.flush()
    real, full = os.fsync, [True]

    def filling(handle):
        if full[0]:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(handle)

    monkeypatch.setattr("kobrel.session.journal.file.os.fsync", filling)
    for value in (4.0, 5.6):
        stop(kept.session, value)
        assert not kept.keeper.flush(0.6)
    assert [text.split(" (")[0] for text in kept.told] == ["Autosave failed"]
    full[0] = False
    stop(kept.session, 8.0)
    assert kept.keeper.flush(8.0)
    assert "working again" in kept.told[-1]
    assert kept.left().unsaved == ["Stop 2", "Stop 4", "Stop 5.6", "Stop 8"]


def test_a_folder_that_goes_away_takes_no_work_with_it(kept, tmp_path):
    path = tmp_path / "gone" / "plan.kobrel"
    path.parent.mkdir()
    kept.keeper.begin(path, str(path))
    stop(kept.session, 2.0)
    assert kept.keeper.flush()
    shutil.rmtree(path.parent)
    stop(kept.session, 4.0)
    kept.keeper.flush(8.0)
    stop(kept.session, 8.0)
    assert kept.keeper.flush(8.0)
    left = read_journal(journal_apart(path, kept.folder))
    assert left.unsaved == ["Stop 2", "Stop 4", "Stop 8"]


def test_what_was_left_is_found_and_what_was_saved_is_not(kept, tmp_path):
    path, other = tmp_path / "plan.kobrel", tmp_path / "other.kobrel"
    for each in (path, other):
        save_plan(empty_plan(), each)
    stop(kept.session, 2.0)
    copied = kept.copy("other")
    folder = tmp_path / "left"
    folder.mkdir()
    shutil.copy(copied, folder / "a.journal")
    (folder / "b.journal").write_bytes(b"nothing of the kind\n")
    kept.keeper.begin(path, str(path))
    stop(kept.session, 4.0)
    kept.keeper.flush()
    shutil.copy(journal_beside(path), journal_beside(other))
    found, told = find_left(folder, [other, path])
    assert len(found) == 2  # the one that is held is not among them
    assert [line.split(": ")[1].split(" It stays as")[0] for line in told] == [NOTHING_WHOLE]
    assert not (folder / "b.journal").exists()  # it is renamed, and stays
    assert [path.read_bytes() for path in folder.glob("b.journal.unread-*")] == [b"nothing of the kind\n"]
    assert find_left(folder, [other], leaving_out=other)[0][0].journal == folder / "a.journal"
    save_plan(kept.session.plan, other)
    shutil.copy(journal_beside(path), journal_beside(other))
    left = read_journal(journal_beside(other))
    assert left.unsaved  # killed between saving and writing the journal anew: there is nothing to offer
    assert [one.journal for one in find_left(folder, [other])[0]] == [folder / "a.journal"]
    aside = put_aside(left, folder)
    assert (aside.journal.parent, journal_beside(other).exists()) == (folder, False)


def test_a_plan_that_was_saved_just_before_the_end_keeps_its_undo(kept, tmp_path):
    path = tmp_path / "plan.kobrel"
    kept.keeper.begin(path, str(path))
    for value in (2.0, 4.0):
        stop(kept.session, value)
    kept.keeper.flush()
    save_plan(kept.session.plan, path)
    crashed = (journal_beside(path)).read_bytes()
    kept.keeper.end()
    kept.keeper.flush()
    write_whole(journal_beside(path), crashed)
    opened = open_file(path, no_progress, kept.folder)
    assert (opened.left, opened.history.is_saved, len(opened.history.steps)) == (None, True, 2)
    (tmp_path / "plan.kobrel").write_text(empty_plan().replace(name="somebody else's").model_dump_json())
    opened = open_file(path, no_progress, kept.folder)
    assert opened.left.unsaved == ["Stop 2", "Stop 4"]
    taken = open_left(opened.left, no_progress)
    assert (taken.plan, taken.path, taken.history.saved) == (kept.session.plan, path, None)


@pytest.mark.parametrize("content", [b"x", b"00000000 {}\n", b"[]\n" * 100])
def test_what_is_no_journal_is_refused_and_stays(tmp_path, content):
    path = tmp_path / "x.journal"
    path.write_bytes(b"")
    assert read_journal(path) is None  # nothing was done yet
    path.write_bytes(content)
    with pytest.raises(PlanError, match=NOTHING_WHOLE):
        read_journal(path)


def edited(tmp_path, count=6, whole_after=(), name="plan.kobrel"):
    """A plan that was saved, edited and left, with its journal as a crash leaves it; and all its plans."""
    path, session = tmp_path / name, Session()
    session.show_plan(empty_plan(), Stage(), Library())
    save_plan(session.plan, path)
    journal, plans = Journal(journal_beside(path)), [session.plan]
    for k in range(count):
        stop(session, 2.0 + k)
        plans.append(session.plan)
        work = Work(session.plan, session.history, 0, 1001)
        if k in whole_after:
            journal._whole_at = -1e9
        if journal.written is None:
            journal.begin(work, path, str(path))
        else:
            journal.add(work)
    journal.close(keep=True)
    return path, journal_beside(path), plans


def hurt(journal, *numbers):
    """Damage records, by their number from 1."""
    lines = journal.read_bytes().splitlines(keepends=True)
    for number in numbers:
        lines[number - 1] = lines[number - 1][:-9] + b"damaged}\n"
    journal.write_bytes(b"".join(lines))


def test_damage_in_the_middle_costs_what_was_done_until_the_next_whole_plan(tmp_path):
    _path, journal, plans = edited(tmp_path, 8, whole_after=(4,))
    hurt(journal, 4)  # begin, steps, 2nd, 3rd edit ...: the third
    left = read_journal(journal)
    assert left.work.plan == plans[-1]
    assert left.unsaved == ["Stop 2", "Stop 3", UNREAD, "Stop 7", "Stop 8", "Stop 9"]
    steps = left.work.history.steps
    assert [steps[1].new, steps[2].new, steps[-1].new] == [plans[2], plans[5], plans[8]]
    assert "Record 4 is damaged, written after" in left.told
    assert "2 more up to record 6 count on it and are skipped." in left.told


def test_damage_without_a_whole_plan_after_it_leaves_what_was_before(tmp_path):
    _path, journal, plans = edited(tmp_path, 6)
    whole = journal.read_bytes().splitlines(keepends=True)
    hurt(journal, 5)
    left = read_journal(journal)
    assert (left.work.plan, left.unsaved) == (plans[3], ["Stop 2", "Stop 3", "Stop 4"])
    assert "2 more up to record 7 count on it" in left.told
    del whole[4]  # a line that is missing is damage too
    journal.write_bytes(b"".join(whole))
    assert read_journal(journal).work.plan == plans[3]


def test_a_damaged_beginning_goes_on_from_the_saved_plan(tmp_path):
    path, journal, plans = edited(tmp_path, 6, whole_after=(3,))
    hurt(journal, 1)
    left = read_journal(journal)
    assert (left.path, left.work.plan, len(left.unsaved)) == (path, plans[-1], 6)
    hurt(journal, 1, 2)
    left = read_journal(journal)
    assert (left.work.plan, left.unsaved) == (plans[-1], [UNREAD, "Stop 6", "Stop 7"])
    path.unlink()
    left = read_journal(journal)
    assert (left.work.plan, left.unsaved) == (plans[-1], [UNREAD, "Stop 6", "Stop 7"])
    (journal).write_bytes(journal.read_bytes()[:300])
    with pytest.raises(PlanError, match=NOTHING_WHOLE):
        read_journal(journal)


@settings(max_examples=40)
@given(seed=st.randoms(use_true_random=False), count=st.integers(1, 12))
def test_whatever_is_damaged_only_plans_that_were_there_come_back(seed, count, tmp_path_factory):
    folder = tmp_path_factory.mktemp("damage")
    _path, journal, plans = edited(
        folder, count, whole_after=[k for k in range(count) if seed.random() < 0.2]
    )
    content = bytearray(journal.read_bytes())
    for _ in range(seed.randint(1, 4)):
        content[seed.randrange(len(content))] ^= 1 << seed.randrange(8)
    journal.write_bytes(content)
    before = journal.read_bytes()
    try:
        left = read_journal(journal)
    except PlanError:
        left = None
    assert left is None or left.told
    for step in left.work.history.steps if left else ():
        assert step.new in plans
    found, _told = find_left(folder / "none", [folder / "plan.kobrel"])
    kept = [*folder.glob(".plan.kobrel.journal*")]
    assert [path.read_bytes() for path in kept] == [before]  # nothing is deleted that was not read
    assert not found or found[0].work.plan == left.work.plan


def test_what_was_taken_up_from_a_damaged_journal_leaves_the_rest_of_it(tmp_path):
    path, journal, _plans = edited(tmp_path, 6)
    whole = read_journal(journal)
    assert whole.told == ""
    hurt(journal, 5)
    content = journal.read_bytes()
    done_with(read_journal(journal))
    (kept,) = tmp_path.glob(".plan.kobrel.journal.unread-*")
    assert (kept.read_bytes(), journal.exists()) == (content, False)
    shutil.copy(kept, journal)
    save_plan(read_journal(journal).work.plan, path)  # all that is whole is saved
    hurt(journal, 2, 3, 4, 5)
    assert left_of(path, tmp_path / "state").told
    assert not journal.exists()
    done_with(whole)
    assert len([*tmp_path.glob(".plan.kobrel.journal*")]) == 2


def test_a_journal_belongs_to_the_plan_beside_it(tmp_path):
    path, journal, plans = edited(tmp_path)
    victim = tmp_path / "victim"
    victim.mkdir()
    foreign = victim / ".theirs.kobrel.journal"
    shutil.copy(journal, foreign)  # its records name another plan
    left = read_journal(foreign)
    assert (left.path, left.source) == (victim / "theirs.kobrel", str(victim / "theirs.kobrel"))
    shutil.copy(journal, victim / ".notes.txt.journal")
    assert (read_journal(victim / ".notes.txt.journal").path, left.work.plan) == (None, plans[-1])
    # Put aside it stays what it was, whatever its records say.
    state = tmp_path / "state"
    aside = put_aside(left, state)
    assert read_journal(aside.journal).path is None
    assert read_journal(aside.journal).source == ""
    own = put_aside(read_journal(journal), state)
    assert (read_journal(own.journal).path, own.journal.parent) == (path, state)
    assert journal_aside(path, state).stem.split("-")[1] == own.journal.stem.split("-")[1]


def test_a_journal_is_not_written_through_a_link(kept, tmp_path):
    path, victim = tmp_path / "plan.kobrel", tmp_path / "letter.txt"
    save_plan(kept.session.plan, path)
    victim.write_text("dear")
    journal_beside(path).symlink_to(victim)
    (tmp_path / ".plan.kobrel.journal.new").symlink_to(victim)
    kept.keeper.begin(path, str(path))
    stop(kept.session, 2.0)
    assert kept.keeper.flush()
    assert victim.read_text() == "dear"
    assert [left.unsaved for left in [read_journal(journal_apart(path, kept.folder))]] == [["Stop 2"]]


def test_long_names_have_journals_and_break_nobody_elses(kept, tmp_path):
    folder = tmp_path / "names"
    folder.mkdir()
    for length in (230, 246, 247, 248):
        path = folder / ("x" * length + ".kobrel")
        if length < 249:
            save_plan(empty_plan(), path)
            save_plan(empty_plan().replace(name="again"), path)
            opened = open_file(path, no_progress, kept.folder)
            assert (opened.plan.name, opened.warnings) == ("again", [])
        kept.keeper.begin(path, str(path))
        stop(kept.session, float(length))
        assert kept.keeper.flush()
        shutil.copy(journal_beside(path), tmp_path / "held")
        kept.keeper.end()
        kept.keeper.flush()
        shutil.copy(tmp_path / "held", journal_beside(path))
        assert left_of(path, kept.folder).path == path
    found, told = find_left(kept.folder, [folder / ("x" * 300 + ".kobrel"), path])
    assert ([left.path for left in found], told) == ([path], [])


def test_a_journal_of_another_format_is_refused_by_name(tmp_path, monkeypatch):
    journal = Journal(tmp_path / "x.journal")
    monkeypatch.setattr(journals, "FORMAT", FORMAT + 1)
    plan = empty_plan()
    journal.begin(Work(plan, History((Step("a", plan, plan.replace(name="b")),), 1, 0)), None, "")
    journal.close(keep=True)
    monkeypatch.undo()
    with pytest.raises(PlanError, match=r"x\.journal.*format"):
        read_journal(tmp_path / "x.journal")
    assert "format" in find_left(tmp_path)[1][0]


def test_changes_lead_from_a_plan_to_the_next(demo):
    plan, _ = demo
    shot = plan.shots[1]
    others = [
        plan.replace(subjects=plan.subjects[::-1]),
        plan.replace(shots=(*plan.shots[:1], shot.replace(marks=shot.marks[:1]), *plan.shots[2:])),
        plan.replace(shots=plan.shots[2:], unit="ft"),
        plan.replace(light=plan.light.replace(surround={"path": "x.hdr"})),
        plan.replace(shots=(shot.replace(camera={"kind": "fixed", "pose": list(range(16))}),)),
        plan.replace(later={"a": 1}),  # a field of a later version
    ]
    for other in others:
        assert with_changes(plan, changes_between(plan, other)) == other
    assert changes_between(plan, plan) == []
    small = plan.replace(shots=(*plan.shots[:1], shot.replace(title="x"), *plan.shots[2:]))
    assert changes_between(plan, small) == [[["shots", 1, "title"], "x"]]
