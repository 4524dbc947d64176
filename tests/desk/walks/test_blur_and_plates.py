"""Walks about the blur's own shape, about photographs in layers, and about focus that searches."""

import av
import numpy as np
import pytest
from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from kobrel.plan.keys import Key
from kobrel.session.commands import blocking
from kobrel.session.commands.plates import dialling, placing
from kobrel.session.selection import ChosenPlates
from kobrel.stage.read.plates.stills import layers_of
from tests.desk.conftest import by_name, pick
from tests.desk.test_plates import draw, empty, settled  # noqa: F401  a fixture among them
from tests.desk.test_proof import keep
from tests.desk.test_pull import SHIFT, drag, line_place
from tests.desk.test_taping import click_button, in_picture
from tests.desk.walks.material import dusty, portrait, street
from tests.desk.walks.test_measure_and_pull import opened


def test_the_shape_of_the_blur(make_window, tmp_path, monkeypatch):
    """Stretched discs with a bright rim that curve, dust from a picture, over a thousand small lights."""
    user = opened(make_window, street(tmp_path / "street.usda"))
    window, session = user.window, user.window.session
    blocking.place(session, "scatter", (0, 1, -25))
    blocking.change_lights(session, "Lights", count=1000)
    user.key(Qt.Key.Key_4)
    shape = window.show_page(4, "Shape")
    user.type(shape.squeeze, "1.8")
    user.type(shape.rim, "0.7")
    user.type(by_name(window.show_page(4, "Character"), "Swirl"), "0.3")
    mask = window.show_page(4, "Mask")
    monkeypatch.setattr(
        QFileDialog, "getOpenFileName", lambda *a, **k: (str(dusty(tmp_path / "dust.png")), "")
    )
    pick(mask.kind, "Picture…")
    shot = session.shot
    assert (shot.glass.squeeze, shot.iris.rim) == (1.8, 0.7)
    assert shot.flaws.swirl_mm != 0
    assert mask.lost.text().endswith("stops")

    costs = window.show_page(4, "Render cost")
    user.wait(lambda: costs.largest.text().endswith("px"))
    assert float(costs.largest.text().split()[0]) > 1
    user.wait(lambda: "exact" in window.picture.status)
    keep(user)
    assert session.plan.proofs[0].name == "Proof 1"

    dialog = window.cards[4].shape.hand_on()
    user.type(dialog.side, "64")
    for name in ("iris.png", "iris.json"):
        dialog.write(tmp_path / name)
    dialog.close()
    pixels = np.asarray(Image.open(tmp_path / "iris.png"), float) / 65535
    lit = pixels > 0.1
    assert np.ptp(np.flatnonzero(lit.any(axis=1))) > 1.5 * np.ptp(np.flatnonzero(lit.any(axis=0)))
    tall, wide = (np.flatnonzero(lit.any(axis=axis)) for axis in (1, 0))
    y, x = np.mgrid[:64, :64]
    inside = ((y - tall.mean()) / np.ptp(tall)) ** 2 + ((x - wide.mean()) / np.ptp(wide)) ** 2 < 0.2
    assert 0.01 < (pixels[inside] < 0.1).mean() < 0.4, "dust is in it"


def test_a_photograph_in_layers(empty, tmp_path, monkeypatch):  # noqa: F811  the fixture
    """From New: somebody is cut out of a photograph, what is behind is filled and pushed back, its border
    mirrored, its blur by distance; and it goes out as layers.
    """
    user, window, session = empty, empty.window, empty.window.session
    path = portrait(tmp_path / "portrait.png")
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: ([str(path)], ""))
    plates = window.show_page(8, "Plates")
    click_button(user, plates.add)
    settled(user)
    cut = window.show_page(8, "Cut-out").body
    click_button(user, cut.tools["freehand"])
    angle = np.linspace(0, 2 * np.pi, 48)
    draw(user, [(0.5 + 0.11 * np.sin(a), 0.56 + 0.36 * np.cos(a)) for a in angle])
    settled(user)
    back, person = session.plan.plates
    assert back.fill.of == (person.number,)
    session.selection.item = ChosenPlates(person.number)
    user.type(cut.feather, "3")
    session.selection.item = ChosenPlates(back.number)
    pick(cut.beyond, "Mirror") if cut.beyond.findText("Mirror") >= 0 else cut.beyond.setCurrentIndex(1)
    plates = window.show_page(8, "Plates")
    session.selection.item = ChosenPlates(back.number)
    user.type(plates.details.distance, "8")
    session.selection.item = ChosenPlates(person.number)
    user.type(plates.details.distance, "2.5")
    settled(user)
    assert placing.distance_m(session, session.plan.plates[0]) == pytest.approx(8.0)
    click_button(user, plates.details.subject_button)
    row = session.survey.subjects.index(session.plan.subjects[0].number)
    user.click(window.picture, dict(window.picture.tag_places())[row])
    assert float(session.camera.focus_m) == pytest.approx(2.5, rel=1e-6)
    assert float(session.camera.blur_px(8.0)) > 1.0
    user.wait(lambda: "exact" in window.picture.status)

    session.edit_shot("Small", lambda shot: shot.replace(width_px=160))
    files = window.show_page(7, "Files")
    out = tmp_path / "layers.ora"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(out), ""))
    pick(files.layer_kind, "OpenRaster")
    click_button(user, files.layers_frame)
    user.wait(lambda: window.jobs.job is None and out.exists())
    assert set(layers_of(out)) >= {"portrait", "portrait part"}

    other = portrait(tmp_path / "other.png")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(other), ""))
    before = session.plan
    click_button(user, window.show_page(8, "Plates").replace)
    plates.dialog.take()
    settled(user)
    assert {plate.picture.path for plate in session.plan.plates} == {str(other)}
    assert [p.position_m for p in session.plan.plates] == [p.position_m for p in before.plates]


def test_one_dial(empty, tmp_path, monkeypatch):  # noqa: F811  the fixture
    """Five plates, the last a title, and one dial for focus, scale and fade with overshoot, recorded by hand; a movie."""
    user, window, session = empty, empty.window, empty.window.session
    paths = []
    for number in range(4):
        picture = Image.new("RGBA", (64, 48), (40 * number + 30, 200 - 30 * number, 90, 255))
        paths.append(tmp_path / f"plate{number}.png")
        picture.save(paths[-1])
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: ([str(p) for p in paths], ""))
    page = window.show_page(8, "Plates")
    click_button(user, page.add)
    settled(user)
    next(action for action in page.new_menu().actions() if action.text() == "Title").trigger()
    click_button(user, page.drawn.edit_text)
    QTest.keyClicks(window.picture.titles, "It comes in\r")
    settled(user)
    plates = session.plan.plates
    assert len(plates) == 5
    assert plates[-1].picture.drawn.text == "It comes in"
    for metres, plate in zip((9.0, 7.0, 5.0, 4.0, 2.0), plates, strict=True):
        session.selection.item = ChosenPlates(plate.number)
        placing.set_distance(session, metres)
    title = plates[-1].number
    dials = window.show_page(5, "Dials")
    session.selection.item = ChosenPlates(title)
    placing.set_level(session, "opacity", 0.0)
    click_button(user, dials.low_end)
    placing.set_level(session, "opacity", 1.0)
    placing.set_distance(session, 3.0)
    window.barrel.setFocus()
    session.set_keyed("Stop", "f_number", 5.6)
    click_button(user, dials.high_end)
    (dial,) = session.plan.dials
    assert {"distance", "opacity", "f_number"} <= {drive.what for drive in dial.drives}

    session.edit_shot("Short", lambda shot: shot.replace(last=shot.first + 9, width_px=160))
    click_button(user, dials.details.record)
    dials.details.performer.turn(0.9)
    user.wait(lambda: not dials.details.performer.recording)
    assert session.plan.dials[0].level.keys
    session.show_frame(session.shot.first)
    user.type(dials.details.settle, "0.2")
    assert any(key.settle is not None for key in session.plan.dials[0].level.keys)
    session.show_frame(session.shot.last)
    assert dialling.value_now(session, session.plan.dials[0]) > 0.5
    window.session.want("movie")
    dialog, path = window.movie, tmp_path / "dial.mp4"
    user.type(dialog.width_px, "64")
    user.type(dialog.passes, "1")
    dialog.write(path)
    user.wait(lambda: not window.queueing.open and path.exists())
    with av.open(str(path)) as movie:
        assert sum(1 for _ in movie.decode(video=0)) == 10


def test_search_and_settle(make_window, tmp_path):
    """The camera moves; focus holds, searches, settles; in clay, a range from memory; the stop closes."""
    user = opened(make_window, street(tmp_path / "street.usda"))
    window, session = user.window, user.window.session
    for place in ((1.0, 1.6, -5.8), (-1.2, 1.4, -13.7)):
        user.click(window.picture, in_picture(window, place))
    sign, door = (next(s.number for s in session.plan.subjects if n in s.name) for n in ("Sign", "Door"))
    row = session.survey.subjects.index(sign)
    user.click(window.picture, dict(window.picture.tag_places())[row])
    user.key(Qt.Key.Key_5)
    chart = window.chart
    drag(chart, line_place(chart, sign, 1006), line_place(chart, door, 1014), SHIFT)
    move = window.show_page(5, "Marks").timing
    move.searches.click()
    user.type(by_name(move, "Swings"), "2")
    searching = [mark for mark in session.shot.marks if mark.search is not None]
    assert len(searching) == 1
    blur = session.survey.sight.blur_px
    assert float(blur[row, :5].max()) < 0.01
    at_door = session.survey.subjects.index(door)
    assert float(blur[at_door, 13:18].max()) > 3 * float(blur[at_door, -1]), "it swings, and settles"
    session.edit_keyed(
        "Stop",
        "f_number",
        lambda k: k.with_key(Key(frame=1018, value=2.0)).with_key(Key(frame=1024, value=8.0)),
    )
    assert float(session.survey.camera.f_number[-1]) == pytest.approx(8.0)

    play = window.transport.cache.content
    play.refresh()
    window.playback.set_draft(width=96, passes=1)
    play.clay.click()
    user.type(play.first, "1004")
    user.type(play.last, "1010")
    play.memory.click()
    user.wait(lambda: bool(window.playback.filled(0)[1].all()) and len(window.playback.filled(0)[0]) == 7)
    user.key(Qt.Key.Key_Space)
    user.wait(lambda: window.picture.status.startswith("from memory"))
    user.key(Qt.Key.Key_Space)
    assert 1004 <= session.frame <= 1010
    while session.history.last is not None:
        session.undo()
    assert not any(mark.search for mark in session.shot.marks)
