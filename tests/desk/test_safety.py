"""Nothing is lost: after a kill, beside others, on full disks, after faults; and nothing waits."""

import os
import sys
import threading
import time
from pathlib import Path

import pytest
from campaign.kill import kill_once
from PySide6.QtCore import QObject, QTimer
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtWidgets import QFileDialog, QMessageBox, QPushButton, QWidget

from kobrel import trust
from kobrel.desk.background.jobs import Job
from kobrel.desk.background.safekeeping import as_jpeg
from kobrel.desk.background.watchdog import Watchdog
from kobrel.desk.toolkit import asking
from kobrel.desk.window.document import DEMO
from kobrel.desk.window.progress import JobBar, RestTime
from kobrel.desk.window.sheets.faults import Faults, FaultSheet
from kobrel.desk.window.sheets.left import BothSheet, edits_text
from kobrel.desk.window.sheets.preferences import PreferencesSheet
from kobrel.desk.window.window import Window
from kobrel.errors import PlanError
from kobrel.files import versions_of
from kobrel.plan.file import open_plan, save_plan
from kobrel.session import settings as keys
from kobrel.session.journal.autosave import find_left, journal_beside, left_of
from kobrel.session.settings import Settings
from kobrel.session.store import FileStore
from tests.desk.conftest import User, answer, pick, type_into


def buttons_of(widget):
    return {button.text(): button for button in widget.findChildren(QPushButton)}


@pytest.fixture
def plan_file(tmp_path, opened_demo):
    path = tmp_path / "ferry.kobrel"
    save_plan(opened_demo.plan, path)
    return path


@pytest.fixture
def user(make_window, plan_file):
    """A person at a window with a plan of their own."""
    made = make_window()
    made.window.document.open(plan_file)
    made.opened()
    return made


def stop(user, value):
    user.window.session.set_keyed("Stop", "f_number", value)


# After a kill


def test_work_comes_back_in_the_window_after_a_kill(tmp_path, make_window):
    """A real window in a process of its own edits, and is killed."""
    killed = kill_once(tmp_path, seed=7)
    assert (killed.wrong, killed.lost_s <= 1.0, killed.edits > 0) == ("", True, True)
    state = tmp_path / "state"
    left = left_of(tmp_path / "plan.kobrel", state / "journals")
    window = Window(Settings(FileStore(state / "settings.json"), state, state / "journals"))
    user = User(window)
    window.show()
    window.drawing.start()
    window.document.open_last()
    window.document.look_for_left()
    user.wait(lambda: window.session.plan.shots and window.jobs.job is None)
    if not left.unsaved:  # it was killed just after a save
        assert window.session.plan == left.work.plan
    else:
        user.wait(lambda: window.left is not None)
        assert len(window.left.rows) == 1
        buttons_of(window.left)["Restore"].click()
        user.wait(lambda: window.session.plan == left.work.plan)
        assert not window.session.history.is_saved
        user.wait(lambda: window.title.saved.text() == "unsaved (autosaved)")
        assert window.left is None
    assert len(window.session.history.steps) == len(left.work.history.steps)
    before = window.session.plan
    window.session.undo()
    assert window.session.plan == left.work.history.steps[-1].old != before
    window.document.save()
    user.wait(lambda: not find_left(state / "journals", [tmp_path / "plan.kobrel"])[0])
    window.close()
    assert not list((state / "journals").glob("*")) or not journal_beside(tmp_path / "plan.kobrel").exists()
    window.deleteLater()


def test_edits_are_kept_and_gone_when_saved_or_given_up(user, plan_file, settings):
    window = user.window
    user.wait(lambda: journal_beside(plan_file).exists())
    stop(user, 4.0)
    assert window.safe.flush()
    window._show_title()
    assert window.title.saved.text() == "unsaved (autosaved)"
    image = QImage(640, 360, QImage.Format.Format_RGB32)
    image.fill(0x336699)
    window.safe.show_picture(image)
    assert window.safe.flush()
    assert as_jpeg(image)[:3] == b"\xff\xd8\xff"
    assert b'"picture"' in journal_beside(plan_file).read_bytes()
    assert window.document.save()
    stop(user, 5.6)
    window.session.mark_saved()
    window.close()
    user.wait(lambda: not journal_beside(plan_file).exists())


@pytest.fixture
def crashed(user, plan_file, tmp_path):
    """What a window leaves that ended with two edits unsaved."""
    stop(user, 4.0)
    stop(user, 8.0)
    assert user.window.safe.flush()
    content = journal_beside(plan_file).read_bytes()
    user.window.session.mark_saved()
    user.window.document.begin_empty()
    user.wait(lambda: not journal_beside(plan_file).exists())
    journal_beside(plan_file).write_bytes(content)
    return user


def test_what_was_left_is_looked_at_beside_what_is_saved(crashed, plan_file):
    window = crashed.window
    window.document.open(plan_file)
    crashed.wait(lambda: window.left is not None)
    row = next(iter(window.left.rows.values()))
    words = " ".join(label.text() for label in row.findChildren(QWidget) if hasattr(label, "text"))
    assert "2 edits not saved" in words
    assert "Stop (2)" in words
    buttons_of(window.left)["Compare"].click()
    both = window.left.findChildren(BothSheet)[0]
    crashed.wait(lambda: all(not picture.pixmap().isNull() for picture in both.pictures))
    assert both.pictures[0].pixmap().toImage() != both.pictures[1].pixmap().toImage()
    both.accept()
    buttons_of(window.left)["Not now"].click()
    assert len(find_left(window.safe.folder)[0]) == 1  # the next start offers it again


def test_what_was_left_can_be_thrown_away(crashed, plan_file):
    window = crashed.window
    window.document.open(plan_file)
    crashed.wait(lambda: window.left is not None)
    buttons_of(window.left)["Discard"].click()
    crashed.wait(lambda: window.left is None)
    assert find_left(window.safe.folder, [plan_file]) == ([], [])
    assert open_plan(plan_file).shots[0].glass.f_number == window.session.plan.shots[0].glass.f_number


def test_edits_are_told_by_their_names():
    names = ["Focus", *["Stop"] * 3, *[f"Mark {k}" for k in range(9)]]
    assert edits_text(names) == "Mark 8, Mark 7, Mark 6, Mark 5, Mark 4, Mark 3 and 5 more"


# Beside others, and where nothing can be written


def test_a_plan_that_somebody_else_saved_is_told_and_not_written_over_unasked(user, plan_file, monkeypatch):
    window, asked = user.window, []
    theirs = open_plan(plan_file).replace(name="Theirs")
    save_plan(theirs, plan_file, versions=0)
    user.wait(window.changed.isVisible)
    assert "changed on disk by somebody else" in window.says.text()
    monkeypatch.setattr(
        QMessageBox, "question", lambda *a, **_k: asked.append(a[2]) or QMessageBox.StandardButton.Cancel
    )
    stop(user, 4.0)
    assert not window.document.save()
    assert "changed on disk" in asked[0]
    assert open_plan(plan_file).name == "Theirs"
    window.changed.click()
    assert (window.session.plan.name, window.session.history.is_saved) == ("Theirs", True)
    assert not window.changed.isVisible()
    window.session.undo()
    assert window.session.plan.name != "Theirs"
    assert window.document.save()
    assert open_plan(versions_of(plan_file)[0]).name == "Theirs"


def test_a_plan_whose_file_goes_away_counts_as_unsaved(user, plan_file):
    plan_file.unlink()
    user.wait(lambda: not user.window.session.history.is_saved)
    assert "no longer exists" in user.window.says.text()
    assert user.window.document.save()
    assert plan_file.exists()


def test_a_second_window_on_a_plan_is_told(user, plan_file, make_window):
    other = make_window()
    answer("open in another window", "Open it")
    other.window.document.open(plan_file)
    other.wait(lambda: "open in another window" in other.window.says.text())


def test_a_plan_that_cannot_be_saved_is_told_and_kept(user, plan_file, monkeypatch):
    told = []
    monkeypatch.setattr(QMessageBox, "warning", lambda *a: told.append(a[2]))

    def full(*_a, **_k):
        raise PlanError("cannot be saved (No space left on device).", file=plan_file, remedy="Make room.")

    monkeypatch.setattr("kobrel.plan.file.save_plan", full)
    stop(user, 4.0)
    user.window.safe.flush()
    assert not user.window.document.save()
    assert "Make room.\n\nYour work is autosaved" in told[0]
    assert user.window.session.history.last.name == "Stop"


def test_earlier_versions_are_opened_and_undone(user, plan_file):
    window = user.window
    for name in ("one", "two"):
        window.session.edit("Name", window.session.plan.replace(name=name))
        assert window.document.save()
    versions = window.document.versions()
    assert [path.name for path, _when in versions] == ["ferry.kobrel~", "ferry.kobrel~2"]
    window.document.show_version(*versions[0])
    assert window.session.plan.name == "one"
    assert "Undo Back to the version of" in " ".join(a.text() for a in window.actions())
    window.session.undo()
    assert window.session.plan.name == "two"


def test_preferences_are_remembered(user, plan_file, settings):
    window = user.window
    window.show_preferences()
    sheet = window.findChildren(PreferencesSheet)[0]
    type_into(sheet.versions, "2")
    type_into(sheet.memory, "10")
    type_into(sheet.memory, "900")
    assert "80" in sheet.said.text()
    type_into(sheet.fps, "30")
    pick(sheet.unit, "Feet and inches")
    pick(sheet.steps, "Thirds")
    pick(sheet.look, "Light room")
    assert window.session.view.theme == "light"
    pick(sheet.look, "Dark")
    sheet.accept()
    assert settings().get(keys.VERSIONS_KEPT) == 2
    assert window.session.view.stop_steps == "third"
    assert "GB" in window.playback.memory_told or "MB" in window.playback.memory_told
    for k in range(4):
        stop(user, 3.0 + k)
        window.document.save()
    assert len(versions_of(plan_file)) == 2
    window.session.mark_saved()
    window.document.begin_empty()
    assert (window.session.plan.unit, window.session.shot.fps) == ("ft", 30.0)


def test_files_in_other_folders_are_read_when_they_are_allowed(
    make_window, plan_file, tmp_path, monkeypatch, settings
):
    monkeypatch.setattr(trust, "_ALLOWED", {Path("/nowhere")})
    user = make_window()
    user.window.document.open(plan_file)

    def boxes():
        return [box for box in user.window.findChildren(QMessageBox) if "Allow reading them?" in box.text()]

    user.wait(boxes)
    box = boxes()[0]
    assert str(DEMO.parent) in box.informativeText()
    assert "ferry" not in user.window.session.stage.scenes
    next(button for button in box.buttons() if button.text() == "Allow").click()
    user.wait(lambda: "ferry" in user.window.session.stage.scenes)
    assert str(DEMO.parent) in settings().get(keys.ALLOWED)


def test_nothing_is_written_over_unasked(qapp, tmp_path, monkeypatch):
    parent, asked = QWidget(), []
    (tmp_path / "x.csv").write_text("mine")
    answer = [QMessageBox.StandardButton.Cancel]
    monkeypatch.setattr(QMessageBox, "question", lambda *a, **_k: asked.append(a[2]) or answer[0])

    def ask(name):
        monkeypatch.setattr(
            QFileDialog, "getSaveFileName", lambda *a, **_k: (name and str(tmp_path / name), "")
        )
        return asking.ask_target(parent, "Write", tmp_path, "CSV (*.csv)", [".csv"])

    assert ask("") is None
    assert ask("x.csv") == tmp_path / "x.csv"  # the chooser has asked
    assert ask("y") == tmp_path / "y.csv"
    assert (ask("x"), asked) == (None, ["x.csv already exists and will be overwritten."])
    answer[0] = QMessageBox.StandardButton.Ok
    assert ask("x") == tmp_path / "x.csv"


# Faults


@pytest.fixture
def faults(qapp, monkeypatch):
    parent, kept = QWidget(), []
    for name in ("excepthook", "unraisablehook"):
        monkeypatch.setattr(sys, name, getattr(sys, name))
    monkeypatch.setattr(threading, "excepthook", threading.excepthook)
    made = Faults(parent, lambda: kept.append(True))
    made.install()
    yield made, kept
    made.remove()
    parent.deleteLater()


def fault():
    raise ZeroDivisionError("inside")


def test_a_fault_in_a_view_a_thread_and_a_job_is_told_and_work_goes_on(faults, qapp):
    made, kept = faults

    class Broken(QWidget):
        def paintEvent(self, event):
            self.painter = QPainter(self)
            fault()

    view = Broken()
    view.show()
    QTimer.singleShot(0, fault)
    threading.Thread(target=fault).start()
    job = Job(lambda _progress: fault())
    ended = []
    job.failed.connect(ended.append)
    job.start()
    User.wait(Quiet(), lambda: ended and made.sheet is not None and len(made.sheet._counts) >= 1)
    User.rest(Quiet(), 0.2)
    assert isinstance(made.sheet, FaultSheet)
    assert "ZeroDivisionError: inside  (" in made.sheet.told.text()
    assert (ended, bool(kept)) == ([""], True)
    buttons_of(made.sheet)["Copy details"].click()
    assert "in fault" in QGuiApplication.clipboard().text()
    view.close()
    made.sheet.accept()
    assert made.sheet is None


class Quiet:
    """A person at no window."""

    class window:
        class says:
            text = staticmethod(lambda: "")


def test_what_ends_a_program_on_purpose_is_no_fault(faults, capsys):
    made, _kept = faults
    sys.excepthook(KeyboardInterrupt, KeyboardInterrupt(), None)
    assert made.sheet is None


# Long work


def test_the_rest_of_a_step_is_told_honestly():
    rest = RestTime()
    assert rest.told("Reading", 0.0, 0.0) == ""
    assert rest.told("Reading", 0.01, 5.0) == ""  # too little is done to tell
    assert rest.told("Reading", 0.25, 10.0) == "  about 30 s left"
    assert rest.told("Building", 0.1, 11.0) == ""  # another step begins anew
    assert rest.told("Building", 0.2, 111.0) == "  about 13 min left"
    assert rest.told("Building", 0.05, 112.0) == ""


def test_work_that_does_not_hear_is_left_within_a_moment(qapp):
    bar, go_on, said = JobBar(), threading.Event(), []
    bar.said.connect(said.append)
    done = []
    job = Job(lambda _progress: go_on.wait(20), bar)
    job.done.connect(done.append)
    bar.run(job)
    begun = time.monotonic()
    bar.cancel()
    User.wait(Quiet(), lambda: bar.job is None)
    assert time.monotonic() - begun < 5
    assert said[-1] == "Cancelled; nothing has changed."
    go_on.set()
    User.rest(Quiet(), 0.1)
    assert done == []


def test_the_watchdog_tells_what_stands_still_and_where(qapp):
    owner, told = QObject(), []
    dog = Watchdog(owner, 0.1, told.append)

    def hold_up():
        time.sleep(0.4)

    User.rest(Quiet(), 0.05)
    QTimer.singleShot(0, hold_up)
    User.wait(Quiet(), lambda: dog.blocks)
    dog.end()
    longest = max(dog.blocks, key=lambda block: block.seconds)
    assert longest.seconds >= 0.35
    assert "hold_up" in longest.where
    assert told == dog.blocks


def test_quitting_waits_for_no_work(user):
    go_on = threading.Event()
    user.window.jobs.run(Job(lambda _progress: go_on.wait(30), user.window))
    begun = time.monotonic()
    user.window.session.mark_saved()
    user.window.close()
    assert time.monotonic() - begun < 10
    go_on.set()


def test_a_start_without_settings_keeps_no_journal(qapp, tmp_path):
    window = Window()
    window.document.begin_empty()
    window.session.set_keyed("Stop", "f_number", 4.0)
    assert (window.safe.keeps, window.safe.flush()) == (False, False)
    window.session.mark_saved()
    window.close()
    window.deleteLater()
    assert not os.path.exists("journals")
