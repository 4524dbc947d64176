"""Playing from memory, two ways side by side, and the whole of a pull by hand up to its movie."""

import time

import av
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication

from kobrel.desk.background.playback import BEFORE
from kobrel.desk.chart.geometry import BOTTOM
from kobrel.desk.chart.keys import LINES
from kobrel.desk.window.sheets.movie import MovieDialog
from kobrel.plan.keys import Key
from kobrel.plan.model import Mark, SubjectTarget
from kobrel.plan.pull import marks as pulls
from kobrel.plan.variants import alts
from kobrel.session import settings
from tests.desk.test_pull import SHIFT, drag, line_place

FEW = {"width": 96, "passes": 1}


@pytest.fixture
def user(demo_user):
    demo_user.key(Qt.Key.Key_5)
    demo_user.window.playback.set_draft(**FEW)
    return demo_user


def filled(playback, which=0):
    frames, there = playback.filled(which)
    return len(frames) > 0 and bool(there.all())


def page_of(user, name):
    user.window.session.view.card = 5
    card = user.window.cards[5]
    card.show_page(name)
    return card.pages[name]


def cache(user):
    """What is cached and how, without its panel open over the window."""
    panel = user.window.transport.cache.content
    panel.refresh()
    return panel


def compared(user):
    panel = user.window.transport.compare.content
    panel.refresh()
    return panel


def short(user, last=1016):
    """Work on fewer frames, so that a test is quick."""
    marks = (
        Mark(frame=1001, target=SubjectTarget(number=1)),
        Mark(frame=1012, target=SubjectTarget(number=2)),
    )
    user.window.session.edit_shot("Short", lambda shot: shot.replace(last=last, marks=marks))


def test_a_pull_from_the_first_line_to_the_movie(user, tmp_path):
    """Draw a pull, make it hunt, slide it, close the iris at its end, play, perform another with the
    hand-wheel, choose an Alt, and write the movie.
    """
    window, session, chart = user.window, user.window.session, user.window.chart
    session.edit_shot("Short", lambda shot: shot.replace(last=1048, marks=shot.marks[:1]))
    drag(chart, line_place(chart, 1, 1010), line_place(chart, 2, 1024), SHIFT)
    assert session.history.last.name == "Pull from Lantern to Ferryman"
    move = page_of(user, "Marks").timing
    move.searches.click()
    assert any(mark.search for mark in session.shot.marks)
    leaves = session.selection.mark
    at = chart.mark_place(next(m for m in session.shot.marks if m.frame == leaves))
    user.drag(chart, at, at + QPointF(chart.x_of(1005) - chart.x_of(1001), 0))
    slid = next(m for m in session.shot.marks if m.search)
    assert slid.frame == leaves + 4
    session.edit_keyed(
        "Stop",
        "f_number",
        lambda k: k.with_key(Key(frame=1030, value=1.4)).with_key(Key(frame=1040, value=1.4)),
    )
    stop = LINES[0]
    QApplication.processEvents()
    goal = QPointF(chart.x_of(1044), stop.y(11.0, chart.keys.top, chart.keys.bottom))
    user.drag(chart, dict(chart.keys.places(stop))[1040], goal)
    assert session.survey.camera.f_number[-1] > 9
    # it plays, from memory
    cache(user).memory.click()
    user.wait(lambda: filled(window.playback))
    user.key(Qt.Key.Key_Space)
    assert session.view.playing
    user.wait(lambda: window.picture.status.startswith("from memory"))
    user.wait(lambda: "fps" in window.picture.status)
    user.key(Qt.Key.Key_Space)
    assert not session.view.playing
    # another try, with the hand-wheel
    planned = session.shot
    session.edit_shot("Keep", lambda shot: alts.kept(shot, "As planned"))
    perform = page_of(user, "Live pull")
    perform.use_wheel.click()
    user.wait(lambda: perform.performer.wheel_dpt is not None)
    perform.record.click()
    user.wait(lambda: not perform.performer.recording)
    assert "Saved as the alt Take 1" in window.says.text()
    perform.use_wheel.click()
    assert [alt.name for alt in session.shot.alts] == ["Later, f/4", "As planned", "Take 1"]
    assert session.shot.marks != planned.marks
    # the first is better
    choose = user.panel(window.alts)
    told = choose.table.item(0, 1)
    assert told.toolTip().splitlines()[0] == told.text() == "50 mm  f/4  4 marks"
    choose.table.selectRow(1)
    choose.compare()
    assert window.playback.beside == "As planned"
    user.wait(lambda: window.playback.image(session.frame, 1) is not None)
    assert window.body.pair.isVisible()
    choose.take()
    assert session.shot.marks == planned.marks
    choose.compare()
    assert window.picture.isVisible()
    # and so it goes out
    window.alts.close_panel()
    session.want("movie")
    dialog, path = window.movie, tmp_path / "pull.mp4"
    assert isinstance(dialog, MovieDialog)
    user.type(dialog.width_px, "64")
    user.type(dialog.passes, "1")
    user.type(dialog.last, "1012")
    for box in (*dialog.burns.values(), dialog.sound, dialog.clay):
        box.setChecked(True)
    dialog.write(path)
    user.wait(lambda: not window.queueing.open and path.exists())
    assert f"Written {path}" in window.says.text()
    with av.open(str(path)) as movie:
        assert sum(1 for _ in movie.decode(video=0)) == 12
        assert movie.streams.audio


def test_an_edit_at_one_mark_makes_only_the_frames_between_its_neighbours_anew(user):
    window, session, playback = user.window, user.window.session, user.window.playback
    cache(user).memory.click()
    playback.set_draft(every=4)
    user.wait(lambda: filled(playback))
    assert playback.made == 24
    session.edit_shot("Slower", lambda shot: pulls.move_mark(shot, 1061, 1070))
    user.wait(lambda: playback.made > 24)
    user.wait(lambda: filled(playback))
    assert playback.made == 24 + 8
    session.undo()
    user.wait(lambda: playback.made == 24 + 2 * 8 and filled(playback))
    assert "24 of 24 frames in memory" in playback.told
    window.playback.switch(False)
    assert playback.told == ""
    assert playback.image(1049) is None


def test_drafts_make_fewer_smaller_or_plainer_frames(user):
    window, playback = user.window, user.window.playback
    short(user)
    page = cache(user)
    page.memory.click()
    user.wait(lambda: filled(playback))
    coloured = playback.image(1006)
    assert coloured.width() == FEW["width"]
    page.clay.click()
    user.wait(lambda: playback.image(1006) is not None)
    assert playback.image(1006) != coloured
    page.every.setCurrentIndex(page.every.findData(2))
    page.every.activated.emit(1)
    user.wait(lambda: filled(playback))
    assert len(playback.filled()[0]) == 8
    assert playback.image(1006) == playback.image(1005)
    page.wide.setCurrentIndex(page.wide.findData(320))
    page.wide.activated.emit(1)
    user.wait(lambda: playback.image(1001) is not None)
    assert playback.image(1001).width() == 320
    assert window.session.settings.get(settings.MEMORY_WIDTH) == 320


def test_a_range_or_a_cue_is_played_alone(user):
    window, session, playback = user.window, user.window.session, user.window.playback
    page, ranges = cache(user), window.transport.range
    ranges.setCurrentIndex(ranges.findText("He turns"))
    ranges.activated.emit(ranges.currentIndex())
    assert playback.frames == (1037, 1052)
    page.memory.click()
    user.wait(lambda: filled(playback))
    assert playback.made == 16
    session.show_frame(1001)
    user.key(Qt.Key.Key_Space)
    seen = set()

    def look():
        seen.add(session.frame)

    session.values.changed.connect(look)
    user.wait(lambda: 1052 in seen and 1038 in seen)
    user.key(Qt.Key.Key_Space)
    assert min(seen) >= 1037
    assert max(seen) <= 1052
    playback.set_draft(every=4)
    user.type(page.first, "1001")
    user.type(page.last, "1096")
    assert playback.frames == (1001, 1096)
    session.show_shot(2)
    assert playback.frames == (1001, 1060)
    user.wait(lambda: filled(playback) and len(playback.filled()[0]) == 15)
    assert window.player.dropped >= 0


def test_it_is_seen_beside_itself_as_it_was(user):
    window, session, playback = user.window, user.window.session, user.window.playback
    short(user)
    session.set_keyed("Stop", "f_number", 16.0)
    page = compared(user)
    page.beside.setCurrentIndex(page.beside.findData(BEFORE))
    page.beside.activated.emit(page.beside.currentIndex())
    assert playback.on
    user.wait(lambda: filled(playback) and filled(playback, 1))
    assert window.body.pair.isVisible()
    assert playback.image(1012) != playback.image(1012, 1)
    left, right = window.body.pair.boxes()
    assert not left.intersects(right)
    assert left.size() == right.size()
    before = window.body.pair.grab().toImage()
    session.show_frame(1016)
    QApplication.processEvents()
    assert window.body.pair.grab().toImage() != before
    session.show_plan(session.plan, session.stage, session.library, session.shot_index, session.frame)
    playback.compare(BEFORE)
    assert playback.image(1012, 1) is not None or len(playback.filled(1)[0]) == 0
    page.beside.setCurrentIndex(page.beside.findData(""))
    page.beside.activated.emit(0)
    assert window.picture.isVisible()


def test_a_subject_is_clicked_while_the_shot_plays(user):
    window, session = user.window, user.window.session
    session.edit_shot("One", lambda shot: shot.replace(marks=shot.marks[:1]))
    user.key(Qt.Key.Key_Space)
    user.wait(lambda: session.frame > 1003)
    tags = {window.session.survey.subjects[row]: place for row, place in window.picture.tag_places()}
    user.click(window.picture, tags[2])
    user.key(Qt.Key.Key_Space)
    assert len(session.shot.marks) == 2
    assert session.shot.marks[1].target == SubjectTarget(number=2)
    assert 1003 < session.shot.marks[1].frame <= 1096


def test_a_movie_is_cancelled_and_a_sound_is_written(user, tmp_path, monkeypatch):
    window, session = user.window, user.window.session
    dialog = MovieDialog(session, window.exports, (1001, 1096), window)
    path = tmp_path / "x.mov"
    dialog.kind.setCurrentIndex(dialog.kind.findData(".exr"))
    assert not dialog.sound.isEnabled()
    assert not dialog.burns["frame"].isEnabled()
    dialog.kind.setCurrentIndex(dialog.kind.findData(".mov"))
    dialog.handles.setChecked(True)
    assert (dialog.first.value, dialog.last.value) == (993, 1104)
    dialog.write(path)
    assert window.queue_line.isVisible()
    entry = window.queueing.entries[0]
    window.queueing.want(entry.key, "cancel")
    user.wait(lambda: not window.queueing.open)
    assert not path.exists()
    assert MovieDialog(session, window.exports, (1001, 1002), window).kind.currentData() == ".mov"
    wav = tmp_path / "x.wav"
    monkeypatch.setattr("PySide6.QtWidgets.QFileDialog.getSaveFileName", lambda *_a: (str(wav), ""))
    window.exports.ask_sound()
    user.wait(wav.exists)
    assert wav.stat().st_size > 2 * 4 * 48_000


def test_quality_is_one_choice_of_samples_and_denoising(user, tmp_path, monkeypatch):
    window, asked = user.window, []
    dialog = MovieDialog(window.session, window.exports, (1001, 1096), window)
    assert (dialog.quality.currentText(), dialog.denoise.isChecked()) == ("Exact · 64 samples", False)
    dialog.show()
    dialog.quality.setFocus()
    user.key(Qt.Key.Key_Up, widget=dialog.quality)
    assert (dialog.passes.value, dialog.denoise.isChecked()) == (16, True)
    user.type(dialog.passes, "20")
    assert dialog.quality.currentText() == "Custom"
    user.type(dialog.passes, "4")
    assert dialog.quality.currentText() == "Draft · 4 samples, denoised"
    monkeypatch.setattr(window.exports, "write_movie", lambda movie, path: asked.append((movie, path)))
    dialog.write(tmp_path / "x.mp4")
    assert (asked[0][0].passes, asked[0][0].denoise) == (4, True)
    again = MovieDialog(window.session, window.exports, (1001, 1096), window)
    assert again.quality.currentText() == "Draft · 4 samples, denoised"


def test_a_key_shows_the_raw_picture_and_the_denoised_one(user):
    window = user.window
    user.wait(lambda: window.picture.status == "8 / 8 samples   exact")
    user.key(Qt.Key.Key_R)
    user.wait(lambda: window.picture.status == "8 / 8 samples   denoised")
    assert user.panel(window.transport.look).denoise.isChecked()
    window.transport.look.close_panel()
    user.key(Qt.Key.Key_R)
    user.wait(lambda: window.picture.status == "8 / 8 samples   exact")


def test_the_player_tells_the_frames_it_drops(user):
    player, session = user.window.player, user.window.session
    short(user, last=1090)
    player.toggle()
    user.wait(lambda: session.frame > 1002)
    lost, begun = player.dropped, session.frame
    time.sleep(0.5)  # a window that is busy
    user.wait(lambda: player.dropped >= lost + 8)
    user.wait(lambda: f"{player.dropped} frames dropped" in player.told and "/ 24 fps" in player.told)
    assert session.frame - begun >= 8
    player.toggle()
    assert not player.playing


def test_two_alts_are_seen_side_by_side_and_one_that_goes_leaves_the_shot_alone(user):
    window, session, playback = user.window, user.window.session, user.window.playback
    short(user, last=1006)
    session.edit_shot("Keep", lambda shot: alts.kept(shot, "Wide open"))
    session.set_keyed("Stop", "f_number", 22.0)
    page = compared(user)
    page.beside.setCurrentIndex(page.beside.findData("Later, f/4"))
    page.beside.activated.emit(0)
    page.left.setCurrentIndex(page.left.findData("Wide open"))
    page.left.activated.emit(0)
    assert (playback.left, playback.beside) == ("Wide open", "Later, f/4")
    user.wait(lambda: filled(playback) and filled(playback, 1))
    left = playback.image(1004)
    page.left.setCurrentIndex(page.left.findData(""))
    page.left.activated.emit(0)
    user.wait(lambda: filled(playback))
    assert playback.image(1004) != left
    session.edit_shot("Delete", lambda shot: alts.removed(shot, "Later, f/4"))
    user.wait(lambda: playback.beside == "")
    assert window.picture.isVisible()


def test_the_room_that_playing_takes_is_given_back_and_remembered(user):
    window = user.window
    views = window.body._views
    page_of(user, "Marks")
    QApplication.processEvents()
    plain = views.sizes()
    window.show_page(6, "Bracket")
    QApplication.processEvents()
    assert views.sizes()[0] > plain[0] + 60
    views.setSizes([sum(views.sizes()) - 160, 160])
    QApplication.processEvents()
    chosen = views.sizes()
    user.key(Qt.Key.Key_3)
    QApplication.processEvents()
    glass = views.sizes()
    assert glass != chosen
    user.key(Qt.Key.Key_6)
    QApplication.processEvents()
    assert window.cards[6].bracket.isVisible()
    assert views.sizes() == chosen
    page_of(user, "Marks")
    QApplication.processEvents()
    assert views.sizes() == plain
    user.key(Qt.Key.Key_3)
    QApplication.processEvents()
    assert views.sizes() == glass


def test_asking_again_does_not_begin_the_frame_in_the_making_anew(user):
    playback = user.window.playback
    short(user, last=1006)
    playback.set_draft(width=160, passes=24)
    cache(user).memory.click()
    user.wait(lambda: len(playback.filled()[0]) == 6)
    drawing = user.window.drawing
    begun = time.monotonic()
    while not filled(playback):
        drawing.fill(playback._next)  # as every change of the session does
        user.rest(0.02)
        assert time.monotonic() - begun < 120
    assert playback.made == 6


def test_while_a_pull_is_performed_the_picture_is_of_now_and_not_from_memory(user):
    window, session = user.window, user.window.session
    short(user, last=1020)
    cache(user).memory.click()
    user.wait(lambda: filled(window.playback))
    perform = page_of(user, "Live pull")
    perform.record.click()
    user.wait(lambda: session.frame > 1003 or not perform.performer.recording)
    assert not window.picture.status.startswith("from memory")
    user.wait(lambda: not perform.performer.recording)
    user.wait(lambda: not session.view.playing)


def test_a_range_is_played_without_memory_too_but_a_pull_is_performed_over_the_whole_shot(user):
    session, playback = user.window.session, user.window.playback
    short(user, last=1030)
    playback.set_range(1010, 1016)
    seen = set()

    def look():
        seen.add(session.frame)

    session.values.changed.connect(look)
    user.key(Qt.Key.Key_Space)
    user.wait(lambda: {1010, 1016} <= seen)
    user.key(Qt.Key.Key_Space)
    assert max(seen) <= 1016
    perform = page_of(user, "Live pull")
    perform.record.click()
    user.wait(lambda: not perform.performer.recording)
    assert min(seen) == 1001
    assert max(seen) > 1016  # which frames are dropped is up to the machine
    user.wait(lambda: not session.view.playing)
    session.show_shot(0)  # a range belongs to its shot
    assert playback.span == (session.shot.first, session.shot.last)


def test_two_ways_that_play_tell_their_rate(user):
    window, playback = user.window, user.window.playback
    short(user, last=1008)
    playback.compare("Later, f/4")
    user.wait(lambda: filled(playback) and filled(playback, 1))
    user.key(Qt.Key.Key_Space)
    user.wait(lambda: "fps" in window.body.pair.status)
    user.key(Qt.Key.Key_Space)
    assert window.body.pair.status == ""


def test_marks_for_in_and_out_say_what_is_played_everywhere(demo_user):
    """Set by keys at the frame that is shown; the transport, the chart, memory and the movie take them."""
    window, session = demo_user.window, demo_user.window.session
    shift = Qt.KeyboardModifier.ShiftModifier
    first, last = session.shot.first, session.shot.last
    demo_user.key(Qt.Key.Key_5)
    before = window.chart.grab().toImage()
    session.show_frame(first + 20)
    demo_user.key(Qt.Key.Key_I, shift)
    assert session.played == (first + 20, last)
    session.show_frame(first + 50)
    demo_user.key(Qt.Key.Key_O, shift)
    assert session.played == window.playback.frames == (first + 20, first + 50)
    session.show_frame(first)
    QApplication.processEvents()
    after = window.chart.grab().toImage()
    x, y = round(window.chart.x_of(first + 20)), window.chart.height() - BOTTOM + 6
    assert after.pixelColor(x, y) != before.pixelColor(x, y)
    page = cache(demo_user)
    assert (page.first.value, page.last.value) == (first + 20, first + 50)
    session.show_frame(first + 70)
    demo_user.key(Qt.Key.Key_Space)
    assert first + 20 <= session.frame <= first + 50, "it plays within the range"
    demo_user.key(Qt.Key.Key_Space)
    session.show_shot(0)
    assert session.played == (session.shot.first, session.shot.last), "another shot is played whole"
    session.show_shot(1)
    demo_user.key(Qt.Key.Key_P, shift)
    assert session.played == (first, last)


def test_a_mark_beyond_the_other_begins_another_range(demo_user):
    session = demo_user.window.session
    first, last = session.shot.first, session.shot.last
    session.play_only(first + 10, first + 20)
    session.show_frame(first + 40)
    demo_user.key(Qt.Key.Key_I, Qt.KeyboardModifier.ShiftModifier)
    assert session.played == (first + 40, last)
    session.show_frame(first + 5)
    demo_user.key(Qt.Key.Key_O, Qt.KeyboardModifier.ShiftModifier)
    assert session.played == (first, first + 5)


def test_another_plan_is_played_whole_though_its_shot_has_the_same_name(demo_user):
    session = demo_user.window.session
    session.play_only(session.shot.first + 5, session.shot.first + 9)
    session.show_plan(session.plan, session.stage, session.library, session.shot_index)
    assert session.played == (session.shot.first, session.shot.last)
