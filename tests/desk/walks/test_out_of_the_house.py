"""Walks with what others give and take: values, cameras, lists of shots, a stranger's plan, a bad day."""

from fractions import Fraction

import numpy as np
import opentimelineio as otio
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QMessageBox

from kobrel import trust
from kobrel.desk.cards.deck import NAMES
from kobrel.exchange.cameras.back import read_camera
from kobrel.exchange.movie import Movie
from kobrel.plan.export import UpdatedFile
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import MadeCamera, Plan, SceneRef, Shot
from kobrel.session.journal.autosave import journal_beside
from tests.desk.conftest import answer, pick
from tests.desk.test_handing import boxes, clipboard
from tests.desk.test_taping import click_button
from tests.desk.walks.material import row_of_three, street, walker
from tests.desk.walks.test_measure_and_pull import opened


def test_everybodys_values(make_window, tmp_path):
    """Terms in two units, one changed elsewhere and brought back; the camera as USD, glTF and Alembic."""
    user = opened(make_window, walker(tmp_path / "walk.usda"))
    window, session = user.window, user.window.session
    session.show_frame(1012)
    terms = window.show_page(7, "Values")
    copied = {}
    for unit in ("cm", "m"):
        pick(terms.unit, unit)
        for block, label in (("aperture", "Radius"), ("aperture", "f-number"), ("focus", "Focus distance")):
            rows = (
                [row for row in terms.blocks[block].rows if row.term.label == label]
                if block in terms.blocks
                else []
            )
            if rows:
                user.click(rows[0], QPointF(rows[0].width() / 2, rows[0].height() / 2))
                copied[unit, label] = float(clipboard().removeprefix("f/"))
    assert copied["cm", "Radius"] == pytest.approx(100 * copied["m", "Radius"], rel=2e-3)
    pick(terms.unit, "cm")
    back = window.show_page(7, "Import")
    QGuiApplication.clipboard().setText(f"Radius: {copied['cm', 'Radius'] / 2:.5f}")
    click_button(user, back.paste)
    assert back.table.item(0, 0).text() == "f-number"
    assert back.table.item(0, 2).text() == "f/4"
    before = session.plan
    user.click(back.take, QPointF(10, 10))
    assert float(session.camera.f_number) == pytest.approx(4.0, rel=1e-3)
    session.undo()
    assert session.plan == before

    expected = survey(session.plan, session.shot, session.stage).camera
    for kind, ending in (("usd", "usda"), ("gltf", "glb"), ("alembic", "abc")):
        path = tmp_path / f"out.{ending}"
        window.exports.write(UpdatedFile(kind=kind, path=str(path), shots=(session.shot.name,)))
        user.wait(lambda path=path: window.jobs.job is None and path.exists())
        found = read_camera(path)
        np.testing.assert_allclose(found.pose, expected.pose, atol=1e-5, err_msg=kind)
        back.read_file(path)
        user.wait(lambda: back.camera is not None and window.jobs.job is None)
        assert {each.part for each in back.camera.differences} == set(), f"{kind}: nothing differs"
        back.clear.click()


def test_a_show(make_window, tmp_path, monkeypatch):
    """40 shots with handles and fractional rates in; a lens to several; what jumps; lists and pictures out."""
    user = opened(make_window, street(tmp_path / "street.usda"))
    window, session = user.window, user.window.session
    timeline = otio.schema.Timeline(name="Show")
    track = otio.schema.Track(name="V1", kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    rate = float(Fraction(24000, 1001))
    time = otio.opentime.RationalTime
    for number in range(40):
        media = otio.schema.MissingReference(
            available_range=otio.opentime.TimeRange(time(1001, rate), time(40, rate))
        )
        cut = otio.opentime.TimeRange(time(1009, rate), time(24, rate))
        track.append(otio.schema.Clip(name=f"sh{number:03d}", media_reference=media, source_range=cut))
    path = tmp_path / "show.otio"
    otio.adapters.write_to_file(timeline, str(path))
    window.exports.read_list(path)
    user.wait(lambda: any(shot.name == "sh039" for shot in session.plan.shots))
    shots = {shot.name: number for number, shot in enumerate(session.plan.shots)}
    shot = session.plan.shots[shots["sh007"]]
    assert (shot.name, shot.first, shot.last, shot.handles) == ("sh007", 1009, 1032, 8)
    assert shot.fps == pytest.approx(rate, abs=1e-9)

    page = window.show_page(1, "Shots")
    session.show_shot(shots["sh007"])
    session.set_keyed("Focal length", "focal_mm", 65.0)
    user.wait(lambda: float(session.camera.focal_mm) == 65.0)
    page.refresh()
    for name in ("sh010", "sh020", "sh030"):
        page.table.item(shots[name], 0).setCheckState(Qt.CheckState.Checked)
    page.give_lens()
    focal = {shot.name: shot.glass.focal_mm.value for shot in session.plan.shots}
    assert [focal[name] for name in ("sh007", "sh010", "sh020", "sh030")] == [65.0] * 4
    assert focal["sh008"] != 65.0
    session.view.below = "strip"
    user.wait(window.body.strip.isVisible)
    found = dict(zip(focal, window.body.strip.cuts(), strict=False))
    assert any("blur" in words for words in found["sh007"].jumps), "from 65 mm back to the camera's own"
    assert found["sh000"].jumps == ()

    small = session.plan.replace(shots=tuple(s.replace(width_px=64) for s in session.plan.shots))
    session.edit("Small", small)
    out = tmp_path / "out.otio"
    window.exports.write(UpdatedFile(kind="otio", path=str(out)))
    user.wait(lambda: window.jobs.job is None and out.exists())
    listed = otio.adapters.read_from_file(str(out))
    assert {clip.name for clip in listed.find_clips()} >= {f"sh{number:03d}" for number in range(40)}
    made = tmp_path / "sh007.mp4"
    window.exports.write_movie(Movie(first=1009, last=1012, width=64, height=36, passes=1), made)
    user.wait(lambda: not window.queueing.open and made.exists())
    assert str(made) in window.says.text()


def test_a_strangers_plan(make_window, tmp_path, monkeypatch):
    """Opened from a download folder, looked at on every page, saved: it wrote and read nothing unasked."""
    folder, private = tmp_path / "downloads", tmp_path / "private"
    folder.mkdir()
    private.mkdir()
    row_of_three(private / "secret.usda")
    monkeypatch.setattr(
        trust, "is_allowed", lambda path, _real=trust.is_allowed: "private" not in str(path) and _real(path)
    )
    (folder / ".bashrc").write_text("mine")
    (private / "notes.csv").write_text("mine")
    outs = tuple(
        UpdatedFile(kind=kind, path=str(path), shots=("01",))
        for kind, path in (
            ("csv", private / "notes.csv"),
            ("csv", folder / ".bashrc"),
            ("json", folder / "new.json"),
        )
    )
    camera = MadeCamera(position_m=(0, 1, 3), aim_m=(0, 1, 0))
    title = "<img src=/dev/zero>"
    plan = Plan(
        name=title, shots=(Shot(name="01", title=title, camera=camera),), handed=outs,
        scenes=(SceneRef(name="secret", path=str(private / "secret.usda")),),
    )  # fmt: skip
    path = folder / "theirs.kobrel"
    save_plan(plan, path)
    asked = []
    monkeypatch.setattr(QMessageBox, "exec", lambda box: asked.append(box.text()) or 0)
    user = make_window()
    window, session = user.window, user.window.session
    window.document.open(path)
    user.wait(lambda: session.plan.shots and window.jobs.job is None)
    assert list(session.library.problems) == [str(private / "secret.usda")]
    assert not session.library.scenes, "what lies elsewhere is not read"
    for card in NAMES:
        session.view.card = card
        for page in window.cards[card].pages:
            window.show_page(card, page)
            user.rest(0.0)
    assert title in window.title.subheading.text()
    window.document.save()
    user.wait(lambda: window.jobs.job is None)
    user.rest(0.2)
    for box in boxes(user):
        next(button for button in box.buttons() if button.text() == "Do not update").click()
    user.rest(0.1)
    assert (folder / ".bashrc").read_text() == "mine"
    assert (private / "notes.csv").read_text() == "mine"
    assert not (folder / "new.json").exists()
    assert sorted(p.name for p in private.iterdir()) == ["notes.csv", "secret.usda"]


def test_a_bad_day(make_window, tmp_path, full_disk, monkeypatch):
    """A full disk, a scene that is replaced, two windows on one plan, an end without a word."""
    asked, told = [], []
    monkeypatch.setattr(QMessageBox, "warning", lambda *given: told.append(given[2]))
    monkeypatch.setattr(QMessageBox, "question", lambda *given: asked.append(given[2]))
    scene = row_of_three(tmp_path / "row.usda")
    user = opened(make_window, scene)
    window, session = user.window, user.window.session
    path = tmp_path / "day.kobrel"
    window.document.save_to(path)
    user.wait(lambda: path.exists() and session.history.is_saved)
    whole = path.read_bytes()

    session.set_keyed("Stop", "f_number", 5.6)
    with full_disk(512):
        window.document.save()
        user.rest(0.1)
    assert path.read_bytes() == whole, "the plan is whole, as it was"
    assert not session.history.is_saved
    assert "cannot be saved" in told[0]
    assert window.document.save()
    assert open_plan(path) == session.plan

    walker(scene)  # somebody exports another scene under this name
    window.files.reload([str(scene)])
    user.wait(lambda: window.jobs.job is None)
    session.set_keyed("Stop", "f_number", 8.0)
    assert float(session.glass.f_number.value) == 8.0
    session.undo()
    session.redo()

    assert window.safe.flush()
    kept = journal_beside(path).read_bytes()
    assert b'"f_number","value"],8.0' in kept, "what is a moment old is in the autosave"
    other = make_window()
    answer("open in another window", "Open it")
    other.window.document.open(path)
    other.wait(lambda: other.window.session.plan.shots and other.window.jobs.job is None)
    other.window.session.set_keyed("Stop", "f_number", 11.0)
    assert other.window.document.save()
    assert not window.document.save()
    assert float(open_plan(path).shots[0].glass.f_number.value) == 11.0, "theirs is not written over unasked"
    assert session.plan.shots[0].glass.f_number.value == 8.0
    assert asked, "it is asked about"
