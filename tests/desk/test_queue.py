"""The queue on the Proof card: given, paused, ordered, done, and left when the window closes."""

import pytest

from kobrel.desk.cards.popovers.queue import told_of
from kobrel.desk.window.sheets.preferences import PreferencesSheet
from kobrel.exchange.movie import Movie
from kobrel.farm.queue import Queue
from kobrel.session import settings as remembered
from tests.desk.conftest import answer

SMALL = {"first": 1001, "last": 1003, "width": 64, "height": 36, "passes": 2}


@pytest.fixture
def resting(demo_user, monkeypatch):
    """A window on the demo whose queue nobody works on."""
    monkeypatch.setattr(Queue, "start_runner", lambda _queue: None)
    return demo_user


def page_of(user):
    user.window.queue_line.setChecked(True)
    return user.window.drawer


def test_a_movie_is_made_while_one_works(demo_user, tmp_path):
    window = demo_user.window
    page = page_of(demo_user)
    assert "No jobs" in page.about.text()
    window.exports.write_movie(Movie(**SMALL), tmp_path / "a.mp4")
    assert window.queue_line.isVisible()
    assert "Queue: 1 left" in window.queue_line.text()
    assert page.list.count() == 1
    demo_user.wait(lambda: not window.queueing.open)
    assert (tmp_path / "a.mp4").exists()
    assert window.queue_line.text() == "Queue"
    assert str(tmp_path / "a.mp4") in window.says.text()
    assert told_of(window.queueing.entries[0]).startswith("done  ·  3 of 3")
    page.clear.click()
    assert page.list.count() == 0


def test_jobs_are_paused_moved_cancelled_and_removed(resting, tmp_path):
    window = resting.window
    page = page_of(resting)
    for name in "abc":
        window.exports.write_movie(Movie(**SMALL), tmp_path / f"{name}.mp4")
    keys = [entry.key for entry in window.queueing.entries]
    page.choose(keys[2])
    page.move_up.click()
    assert [entry.key for entry in window.queueing.entries] == [keys[0], keys[2], keys[1]]
    assert page.chosen.key == keys[2]
    page.pause.click()
    assert page.chosen.state == "paused"
    assert page.pause.text() == "Resume"
    page.pause.click()
    assert page.chosen.state == "waiting"
    page.move_down.click()
    page.cancel.click()
    assert page.chosen.state == "cancelled"
    assert not page.move_up.isEnabled()
    assert page.cancel.text() == "Remove"
    page.pause.click()
    assert page.chosen.state == "waiting"
    page.cancel.click()
    page.cancel.click()
    assert [entry.key for entry in window.queueing.entries] == keys[:2]


def test_a_job_that_fails_says_why(demo_user, tmp_path):
    window = demo_user.window
    page = page_of(demo_user)
    window.exports.write_movie(Movie(**SMALL), tmp_path / "nowhere" / "deep" / "a.mp4")
    demo_user.wait(lambda: not window.queueing.open)
    page.choose(window.queueing.entries[0].key)
    assert "no such folder" in page.about.text()
    (tmp_path / "nowhere" / "deep").mkdir(parents=True)
    page.pause.click()
    demo_user.wait(lambda: not window.queueing.open)
    assert window.queueing.entries[0].state == "done"


def test_passes_and_pictures_of_the_shot_wait_in_the_queue(resting, tmp_path):
    window = resting.window
    window.exports.write_passes(["blur"], False, tmp_path / "p.exr")
    window.exports.write_movie(Movie(**SMALL), tmp_path / "f.png")
    assert [entry.job.title for entry in window.queueing.entries] == [
        "Passes, shot 02  p.exr", "Pictures, shot 02  f.png",
    ]  # fmt: skip


def test_a_ladder_is_drawn_in_the_queue_and_shown(demo_user, tmp_path):
    window = demo_user.window
    page = window.show_page(6, "Bracket")
    page.queued.click()
    page.wide.setCurrentIndex(0)
    page.passes.setCurrentIndex(0)
    from kobrel.plan.variants.bracket import every_nth

    shot = window.session.shot
    page.queue_to(every_nth(shot, 40), tmp_path / "ladder")
    demo_user.wait(lambda: not window.queueing.open)
    assert [rung.name for rung in window.proofing.rungs] == ["1001", "1041", "1081"]
    assert len(list((tmp_path / "ladder").glob("*.exr"))) == 3


@pytest.mark.parametrize(
    ("way", "closes", "held"),
    [("Keep rendering", True, False), ("Pause until", True, True), ("Cancel", False, False)],
)
def test_closing_asks_what_becomes_of_the_queue(resting, tmp_path, way, closes, held):
    window = resting.window
    window.exports.write_movie(Movie(**SMALL), tmp_path / "a.mp4")

    answer("left in the queue", way)
    assert window.close() is closes
    assert window.queueing.queue.is_held is held
    window.queueing.remove(window.queueing.entries[0].key)
    if held:
        window.queueing.start()
        assert not window.queueing.queue.is_held


def test_the_address_of_a_scheduler_is_a_preference(resting, tmp_path):
    window = resting.window
    sheet = PreferencesSheet(window.session, window.shortcuts, lambda: "", window)
    sheet.scheduler.setText("somewhere")
    sheet.scheduler.editingFinished.emit()
    assert "not an address" in sheet.said.text()
    sheet.scheduler.setText("tcp://10.0.0.5:8786")
    sheet.scheduler.editingFinished.emit()
    assert window.session.settings.get(remembered.SCHEDULER) == "tcp://10.0.0.5:8786"
    window.exports.write_movie(Movie(**SMALL), tmp_path / "a.mp4")
    assert window.queueing.entries[0].job.address == "tcp://10.0.0.5:8786"
    assert "on tcp://10.0.0.5:8786" in told_of(window.queueing.entries[0])
    assert "10.0.0.5" in page_of(resting).workers.text()
    window.queueing.remove(window.queueing.entries[0].key)


def test_what_a_crash_left_goes_on_when_the_window_is_opened(resting, tmp_path):
    window = resting.window
    window.exports.write_movie(Movie(**SMALL), tmp_path / "a.mp4")
    key = window.queueing.entries[0].key
    window.queueing.queue.note(key, state="running", tries=1)
    window.queueing.start()
    assert window.queueing.entries[0].state == "running"
    from kobrel.farm.runner import work_off

    work_off(window.queueing.queue, 0.0)
    window.queueing.look()
    assert window.queueing.entries[0].state == "done"


def test_a_contact_sheet_waits_in_the_queue(demo_user, tmp_path):
    window, session = demo_user.window, demo_user.window.session
    demo_user.wait(lambda: window.picture.ready)
    session.want("keep")
    demo_user.wait(lambda: session.plan.proofs)
    session.want("sheet")
    window.sheet.queued.click()
    window.sheet.write(tmp_path / "sheet.pdf")
    demo_user.wait(lambda: not window.queueing.open)
    assert (tmp_path / "sheet.pdf").read_bytes().startswith(b"%PDF")
