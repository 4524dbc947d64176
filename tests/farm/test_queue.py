"""The queue: what waits, in which order, and what outlives a crash."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kobrel.desk.background.queueing import work_in
from kobrel.desk.cards.popovers.queue import told_of
from kobrel.errors import KobrelError
from kobrel.farm import runner
from kobrel.farm.queue import Queue
from kobrel.farm.record import Record
from kobrel.farm.work import read_works, work_of
from kobrel.plan.file import open_plan
from tests.farm.helpers import SMALL, small_plan

WORDS = ["format", "title", "work", "plan", "address", "allowed", "force", "added", "want", "order", "state", "report",
         "why", "tries", "total", "made", "running", "told", "kind", "output", "jobs", "seconds", "left_s"]  # fmt: skip


@pytest.fixture
def queue(tmp_path):
    return Queue(tmp_path / "queue")


def give(queue, tmp_path, name="a.exr", last=1003, **more):
    """A small job in the queue."""
    path = small_plan(tmp_path, last)
    work = work_of(kind="pictures", plan=str(path), output=str(tmp_path / name), **{**SMALL, **more})
    return queue.add(work, open_plan(path))


def states(queue):
    return [entry.state for entry in queue.entries()]


def test_jobs_are_done_in_their_order(queue, tmp_path):
    for name in ("a.exr", "b.exr"):
        give(queue, tmp_path, name)
    last = give(queue, tmp_path, "c.exr")
    queue.move(last, -1)
    queue.move(last, -1)
    queue.move(last, -1)
    assert [entry.job.title.split()[-1] for entry in queue.entries()] == ["c.exr", "a.exr", "b.exr"]
    runner.work_off(queue, 0.0)
    assert states(queue) == ["done"] * 3
    times = {name: (tmp_path / f"{name}.1003.exr").stat().st_mtime_ns for name in "abc"}
    assert times["c"] < times["a"] < times["b"]
    assert queue.entries()[0].report.made == 3


def test_a_paused_job_waits_and_a_cancelled_one_is_not_made(queue, tmp_path):
    paused, cancelled = give(queue, tmp_path, "a.exr"), give(queue, tmp_path, "b.exr")
    queue.want(paused, "pause")
    queue.want(cancelled, "cancel")
    runner.work_off(queue, 0.0)
    assert states(queue) == ["paused", "cancelled"]
    assert not list(tmp_path.glob("*.exr"))
    queue.want(paused, "go")
    queue.again(cancelled)
    runner.work_off(queue, 0.0)
    assert states(queue) == ["done", "done"]


def test_a_damaged_job_is_told_and_stops_no_other(queue, tmp_path):
    """Whatever is done to the files of a job: the list shows it, and the others are made."""
    hurt = {}
    for name, content in {
        "deep": "[" * 100_000, "empty": "", "list": "[1]", "text": "x", "old": '{"format": 99}', "half": '{"title": ',
    }.items():  # fmt: skip
        key = give(queue, tmp_path, f"{name}.exr")
        (queue.place(key) / "job.json").write_text(content)
        hurt[key] = name
    pipe = give(queue, tmp_path, "pipe.exr")
    (queue.place(pipe) / "job.json").unlink()
    os.mkfifo(queue.place(pipe) / "job.json")
    hurt[pipe] = "pipe"
    fine = give(queue, tmp_path, "fine.exr")
    (queue.place(fine) / "wanted.json").write_text("[" * 100_000)
    (queue.place(fine) / "state.json").write_text('{"report": 3')
    runner.work_off(queue, 0.0)
    found = {entry.key: entry for entry in queue.entries()}
    assert found[fine].state == "done"
    for key in hurt:
        assert found[key].state == "failed"
        assert "cannot be read" in found[key].why
    queue.again(pipe)
    queue.want(pipe, "cancel")
    queue.move(pipe, -1)
    queue.remove(pipe)
    assert pipe not in {entry.key for entry in queue.entries()}


def test_a_damaged_record_does_not_fail_a_job_on_its_own_frames(queue, tmp_path, monkeypatch):
    key = give(queue, tmp_path, last=1004)
    whole = Record.write

    def stopping(record, made):
        whole(record, made)
        queue.want(key, "pause")

    monkeypatch.setattr(Record, "write", stopping)
    runner.work_off(queue, 0.0)
    assert states(queue) == ["paused"]
    assert list(tmp_path.glob("*.exr"))
    monkeypatch.undo()
    (queue.place(key) / "made.jsonl").write_bytes(b"\x00\xff damaged\n[[[\n")
    queue.want(key, "go")
    runner.work_off(queue, 0.0)
    (entry,) = queue.entries()
    assert (entry.state, entry.why) == ("done", "")
    assert len(list(tmp_path.glob("a.*.exr"))) == 4


def test_a_folder_that_is_taken_away_is_noticed(queue, tmp_path, monkeypatch):
    out = tmp_path / "out"
    out.mkdir()
    key = give(queue, tmp_path, "out/a.exr", last=1004)
    whole, count = Record.write, [0]

    def losing(record, made):
        whole(record, made)
        count[0] += 1
        if count[0] == 2:
            shutil.rmtree(out)

    monkeypatch.setattr(Record, "write", losing)
    runner.work_off(queue, 0.0)
    (entry,) = queue.entries()
    assert entry.state == "failed"
    assert "2 of its files are not there any more" in entry.why
    monkeypatch.undo()
    queue.again(key)
    runner.work_off(queue, 0.0)
    assert states(queue) == ["done"]
    assert len(list(out.glob("a.*.exr"))) == 4


def test_a_full_disk_is_told_in_a_sentence(queue, tmp_path, full_disk):
    key = give(queue, tmp_path)
    before = {path: path.read_bytes() for path in queue.folder.rglob("*.json")}
    work, plan = work_in(queue.entries()[0]), open_plan(small_plan(tmp_path, 1003))
    with full_disk(8):
        for act in (
            lambda: queue.add(work, plan), lambda: queue.want(key, "pause"), lambda: queue.note(key, why="x" * 50),
        ):  # fmt: skip
            with pytest.raises(KobrelError, match=r"the queue cannot be written .*Make room"):
                act()
    assert {path: path.read_bytes() for path in queue.folder.rglob("*.json")} == before
    assert [path.name for path in (queue.folder / "jobs").iterdir()] == [key]


def test_a_job_that_fails_says_why_and_the_next_is_done(queue, tmp_path):
    path = small_plan(tmp_path)
    plan = open_plan(path)
    missing = work_of(kind="pictures", plan=str(path), output=str(tmp_path / "a.exr"), shot="99")
    queue.add(missing, plan)
    give(queue, tmp_path, "b.exr")
    runner.work_off(queue, 0.0)
    first, second = queue.entries()
    assert (first.state, second.state) == ("failed", "done")
    assert "no shot “99”" in first.why


def test_a_plan_is_as_it_was_when_the_job_was_given(queue, tmp_path):
    give(queue, tmp_path, "a.exr", last=1003)
    small_plan(tmp_path, last=1001)  # the file is another now
    runner.work_off(queue, 0.0)
    assert (tmp_path / "a.1003.exr").exists()


def test_a_held_queue_rests(queue, tmp_path):
    give(queue, tmp_path)
    queue.hold(True)
    runner.work_off(queue, 0.0)
    assert states(queue) == ["waiting"]
    queue.hold(False)
    runner.work_off(queue, 0.0)
    assert states(queue) == ["done"]


def test_only_one_runner_is_at_work(queue, tmp_path):
    give(queue, tmp_path)
    with queue.locked() as mine:
        assert mine
        assert queue.is_run()
        runner.work_off(queue, 0.0)
        assert states(queue) == ["waiting"]
    assert not queue.is_run()


def test_a_runner_that_is_killed_goes_on_where_it_was(queue, tmp_path):
    give(queue, tmp_path, last=1016, samples=160)
    command = [sys.executable, "-m", "kobrel.farm.runner", str(queue.folder)]
    process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    until = time.monotonic() + 60
    while len(list(tmp_path.glob("a.*.exr"))) < 3 and time.monotonic() < until:
        time.sleep(0.05)
    os.kill(process.pid, signal.SIGKILL)
    process.wait()
    there = {path: path.stat().st_mtime_ns for path in tmp_path.glob("a.*.exr")}
    assert 3 <= len(there) < 16
    assert states(queue) == ["running"]
    runner.work_off(queue, 0.0)
    entry = queue.entries()[0]
    assert entry.state == "done"
    assert entry.report.found >= 2
    again = sum(path.stat().st_mtime_ns != time_ for path, time_ in there.items())
    assert again <= 1, "a frame that was whole was made anew; one may have been written but not noted"
    assert len(list(tmp_path.glob("a.*.exr"))) == 16


def test_a_job_that_ends_the_runner_is_given_up(queue, tmp_path):
    key = give(queue, tmp_path)
    queue.note(key, state="running", tries=runner.MOST_TRIES)
    runner.work_off(queue, 0.0)
    assert "ended 3 times" in queue.entries()[0].why


def test_what_is_damaged_is_left_out(queue, tmp_path):
    key = give(queue, tmp_path)
    give(queue, tmp_path, "b.exr")
    (queue.place(key) / "job.json").write_text("{")
    assert [entry.state for entry in queue.entries()] == ["waiting", "failed"]
    later = give(queue, tmp_path, "c.exr")  # others are ordered as ever beside it
    queue.move(later, -1)
    queue.move(key, -1)
    assert [entry.key for entry in queue.entries()][::2] == [later, key]
    assert [entry.order for entry in queue.entries() if entry.is_open] == [2.0, 3.0]
    queue.remove(key)
    assert not queue.place(key).exists()


def test_a_scene_that_changed_since_is_told(queue, tmp_path):
    key = give(queue, tmp_path)
    queue.note(key, bundle="another")
    runner.work_off(queue, 0.0)
    assert any("source file has changed" in line for line in queue.entries()[0].report.told)


def test_one_runner_is_started_and_outlives_who_started_it(queue, tmp_path):
    give(queue, tmp_path, last=1002)
    for _ in range(3):
        queue.start_runner()
    first = queue._runner
    assert first is not None
    first.wait(60)
    assert states(queue) == ["done"]
    assert os.getsid(os.getpid()) != first.pid
    queue.start_runner()  # nothing waits
    assert queue._runner is first


ODD = st.recursive(
    st.none() | st.booleans() | st.floats() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(WORDS), inner, max_size=4),
    max_leaves=8,
)


@given(which=st.sampled_from(["job.json", "wanted.json", "state.json"]), content=ODD)
@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_nonsense_in_the_queue_is_left_out(queue, tmp_path, which, content):
    key = give(queue, tmp_path) if not queue.entries() else queue.entries()[0].key
    path = queue.place(key) / which
    kept = path.read_text() if path.exists() else None
    path.write_text(json.dumps(content))
    for entry in queue.entries():
        assert told_of(entry)
    if kept is None:
        path.unlink()
    else:
        path.write_text(kept)


@given(content=ODD)
@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_nonsense_in_a_list_of_jobs_is_told(tmp_path, content):
    path = tmp_path / "jobs.json"
    path.write_text(json.dumps(content))
    with pytest.raises(KobrelError):
        read_works(path)


def test_a_job_is_moved_past_those_that_are_at_their_end(queue, tmp_path):
    keys = [give(queue, tmp_path, f"{name}.exr") for name in "abcd"]
    queue.note(keys[1], state="done")
    queue.note(keys[2], state="failed")
    queue.move(keys[3], -1)
    assert [entry.key for entry in queue.entries()] == [keys[3], keys[1], keys[2], keys[0]]
    queue.move(keys[3], 1)
    assert [entry.key for entry in queue.entries()] == keys


def test_tries_are_counted_until_something_is_made(queue, tmp_path, monkeypatch):
    key = give(queue, tmp_path)
    seen = []

    class Ended(BaseException):
        """As if the process had ended."""

    def end(*_parts):
        seen.append(queue.entries()[0].tries)
        raise Ended

    monkeypatch.setattr(runner, "packed", end)
    for _ in range(runner.MOST_TRIES):
        with pytest.raises(Ended):
            runner.work_off(queue, 0.0)
    runner.work_off(queue, 0.0)
    assert seen == [1, 2, 3]
    assert "ended 3 times" in queue.entries()[0].why
    queue.again(key)
    monkeypatch.undo()
    runner.work_off(queue, 0.0)
    assert states(queue) == ["done"]


def test_a_job_that_was_stopped_has_not_been_tried(queue, tmp_path, monkeypatch):
    key = give(queue, tmp_path)
    queue.want(key, "pause")
    monkeypatch.setattr(runner, "packed", lambda _work, _plan, progress: progress("x", 0.0))
    queue.note(key, state="waiting")
    runner._do(queue, queue.entries()[0])
    assert (queue.entries()[0].state, queue.entries()[0].tries) == ("paused", 0)
