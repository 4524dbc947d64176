"""Proofs and ladders: what they keep, what they differ in, what is taken back, and their files."""

import itertools
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from kobrel.errors import KobrelError, PlanError
from kobrel.exchange.proof.files import (
    Kept,
    brought,
    drawn_rung,
    read_proof,
    small_path,
    small_pixels,
    write_proof,
)
from kobrel.exchange.proof.sheet import Sheet, laid_out, write_sheet
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.instrument import Character
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import DistanceTarget, Plan
from kobrel.plan.variants import proofs
from kobrel.plan.variants.bracket import (
    KINDS,
    MOST_RUNGS,
    Rung,
    ends_of_shots,
    every_nth,
    first_values,
    ladder,
    with_value,
)
from kobrel.stage.scene import Cancelled, no_progress


def proof(shot, **changes):
    from kobrel.plan.measure.camera import camera_at as camera

    plan = Plan(shots=(shot,))
    from kobrel.stage.stage import Stage

    made = proofs.proof_of(shot, camera(plan, shot, 1, Stage()), 1.0, (32, 18), 8, name="Proof 1")
    return made.replace(**changes)


@pytest.fixture
def shot(looking_at):
    return looking_at()[1]


def pixels(value=0.5):
    return Kept(
        np.full((18, 32, 3), value, np.float32), np.full((18, 32), 4.0, np.float32),
        np.full((18, 32), 2.5, np.float32),
    )  # fmt: skip


def closed(shot, stop):
    return shot.replace(glass=shot.glass.replace(f_number=shot.glass.f_number.replace(value=stop)))


# What they differ in, and what is taken back


def test_captions_tell_only_what_differs(shot):
    several = [proof(closed(shot, stop), name=f"P{stop}") for stop in (1.4, 2.8, 5.6)]
    assert proofs.differences(several) == ["f/1.4", "f/2.8", "f/5.6"]
    flawed = shot.replace(flaws=Character(colour_mm=0.2))
    told = proofs.differences([several[0], proof(flawed, name="x", frame=9.0)])
    assert told == ["frame 1   f/1.4   no character", "frame 9   f/2.8   fringes"]
    assert proofs.differences([several[0]]) == ["50 mm   f/1.4   focus 3.00 m"]
    assert proofs.differences([several[0].replace(name="at f/1.4"), several[1]]) == ["", "f/2.8"]
    assert proofs.differences([]) == []


@pytest.mark.parametrize("what", proofs.TAKES)
def test_settings_are_taken_back_whole_or_in_part(shot, what):
    other = closed(shot, 8.0).replace(
        flaws=Character(colour_mm=0.3), iris=shot.iris.replace(blades=6), exposure=shot.exposure.replace(iso=100.0),
        marks=(shot.marks[0].replace(target=DistanceTarget(metres=7.0)),), ahead_m=0.5,
        glass=closed(shot, 8.0).glass.replace(focal_mm=shot.glass.focal_mm.replace(value=85.0)),
    )  # fmt: skip
    made = proofs.taken(Plan(shots=(shot,)), 0, proof(other), what).shots[0]
    taken = {
        "stop": made.glass.f_number.value == 8.0, "lens": made.glass.focal_mm.value == 85.0,
        "focus": made.marks == other.marks, "iris": made.iris.blades == 6, "exposure": made.exposure.iso == 100.0,
    }  # fmt: skip
    assert [name for name, is_there in taken.items() if is_there] == (
        list(taken) if what == "all" else [what]
    )
    assert (made.ahead_m == 0.5) == (what in ("all", "lens"))


def test_as_an_alt_it_has_a_name_of_its_own(shot):
    plan = Plan(shots=(shot,))
    twice = proofs.as_alt(proofs.as_alt(plan, 0, proof(shot)), 0, proof(shot))
    assert [alt.name for alt in twice.shots[0].alts] == ["Proof 1", "Proof 1 2"]


def test_proofs_are_named_rated_ordered_and_taken_off(shot):
    plan = proofs.added(Plan(shots=(shot,)), [proof(closed(shot, stop)) for stop in (8.0, 2.0, 4.0)])
    assert [p.name for p in plan.proofs] == ["Proof 1", "Proof 1 2", "Proof 1 3"]
    plan = proofs.changed(plan, "Proof 1 2", rating=4)
    plan = proofs.changed(plan, "Proof 1 3", name="Soft")
    assert [p.name for p in proofs.ordered(plan.proofs, "stop")] == ["Proof 1 2", "Soft", "Proof 1"]
    assert next(p.name for p in proofs.ordered(plan.proofs, "rating")) == "Proof 1 2"
    assert proofs.ordered(plan.proofs, "kept") == list(plan.proofs)
    with pytest.raises(PlanError, match="needs a name"):
        proofs.changed(plan, "Soft", name="  ")
    with pytest.raises(PlanError, match="called Soft already"):
        proofs.changed(plan, "Proof 1", name="Soft")
    assert [p.name for p in proofs.removed(plan, ["Soft", "nobody"]).proofs] == ["Proof 1", "Proof 1 2"]


# Ladders


@pytest.mark.parametrize("kind", KINDS)
def test_each_kind_of_ladder_has_first_values_that_make_shots(looking_at, kind):
    plan, shot, stage = looking_at()

    def camera(way):
        return camera_at(plan.replace(shots=(way,)), way, 1, stage)

    values = first_values(kind, camera(shot))
    rungs = ladder(shot, 1, camera, [(kind, values)])
    assert len(rungs) == len(set(values)) == 5
    assert len({rung.name for rung in rungs}) == 5
    for rung, value in zip(rungs, values, strict=True):
        seen = camera(rung.shot)
        read = {
            "stop": seen.f_number, "focal": seen.focal_mm, "focal_here": seen.focal_mm, "focus": seen.focus_m,
            "blades": seen.iris.blades, "squeeze": seen.squeeze, "sensor": rung.shot.glass.sensor.width_mm,
        }[kind]  # fmt: skip
        assert float(read) == pytest.approx(value)


def test_framing_is_kept_at_the_focus(looking_at):
    plan, shot, stage = looking_at()
    before = camera_at(plan, shot, 1, stage)
    longer = with_value(shot, 1, before, "focal", 100.0)
    after = camera_at(plan.replace(shots=(longer,)), longer, 1, stage)
    size = [float(c.focal_mm / c.focus_m) for c in (before, after)]
    assert size[0] == pytest.approx(size[1])
    ahead = before.pose[:3, 3] - after.pose[:3, 3]
    assert float(ahead[2]) == pytest.approx(float(before.focus_m - after.focus_m), abs=1e-6)
    here = with_value(shot, 1, before, "focal_here", 100.0)
    assert here.ahead_m == shot.ahead_m


def test_two_settings_make_a_grid_and_nonsense_is_refused(looking_at):
    plan, shot, stage = looking_at()

    def camera(way):
        return camera_at(plan, way, 1, stage)

    rungs = ladder(shot, 1, camera, [("stop", [2.0, 4.0]), ("blades", [0.0, 5.0, 7.0])])
    assert [rung.name for rung in rungs][:3] == ["f/2  round iris", "f/2  5 blades", "f/2  7 blades"]
    for steps, said in (
        ([], "would be 0"), ([("stop", [])], "would be 0"), ([("stop", list(range(1, 200)))], "would be 199"),
        ([("stop", [-1.0])], "not above 0"), ([("blades", [2.0])], "3 to 64"), ([("squeeze", [9.0])], "1 to 4"),
    ):  # fmt: skip
        with pytest.raises(PlanError, match=said):
            ladder(shot, 1, camera, steps)


def test_ends_of_shots_and_frames_of_a_pull(looking_at):
    plan, shot, _stage = looking_at()
    assert [rung.frame for rung in ends_of_shots(plan)] == [1.0, 5.0, 10.0]
    assert [rung.frame for rung in every_nth(shot, 4)] == [1.0, 5.0, 9.0]
    with pytest.raises(PlanError, match="1 or more"):
        every_nth(shot, 0)
    with pytest.raises(PlanError, match=f"1 to {MOST_RUNGS}"):
        every_nth(shot.replace(last=900), 1)


# Files


def test_a_proof_tells_where_it_came_from_without_its_plan(shot, tmp_path):
    made = write_proof(tmp_path / "x.proofs", proof(shot, shown_ev=1.0), pixels())
    found, kept = read_proof(Path(made.path))
    assert found == made
    assert kept.colour == pytest.approx(0.5)
    assert kept.depth_m == pytest.approx(4.0)
    assert kept.blur_px == pytest.approx(2.5)
    assert small_path(Path(made.path)).is_file()
    again = write_proof(tmp_path / "x.proofs", proof(shot), pixels())
    assert again.path != made.path


def test_small_copies_are_made_anew_where_they_are_gone(shot, tmp_path):
    made = write_proof(tmp_path, proof(shot), pixels())
    small_path(Path(made.path)).unlink()
    assert small_pixels(made).shape == (18, 32, 3)
    assert small_path(Path(made.path)).is_file()


def test_proofs_go_with_the_plan(shot, tmp_path):
    made = write_proof(tmp_path / "kept", proof(shot), pixels())
    gone = proof(shot, name="Gone", path=str(tmp_path / "gone.exr"))
    plan = Plan(shots=(shot,), proofs=(made, gone))
    placed = brought(plan, tmp_path / "a.proofs")
    assert Path(placed.proofs[0].path).parent == tmp_path / "a.proofs"
    assert placed.proofs[1] == gone
    assert (
        brought(placed.replace(proofs=placed.proofs[:1]), tmp_path / "a.proofs").proofs == placed.proofs[:1]
    )
    save_plan(placed, tmp_path / "a.kobrel")
    assert '"a.proofs/' in (tmp_path / "a.kobrel").read_text()
    assert open_plan(tmp_path / "a.kobrel").proofs == placed.proofs


def test_a_plan_cannot_have_other_folders_read_or_copied(shot, tmp_path, monkeypatch):
    from kobrel import trust
    from kobrel.stage.read.rendered.frames import layers

    made = write_proof(tmp_path / "far", proof(shot), pixels())
    monkeypatch.setattr(trust, "_ALLOWED", set())
    with pytest.raises(KobrelError, match="another folder"):
        small_pixels(made)
    with pytest.raises(KobrelError, match="another folder"):
        layers(Path(made.path))
    placed = brought(Plan(shots=(shot,), proofs=(made,)), tmp_path / "near.proofs")
    assert placed.proofs == (made,)
    assert not list(tmp_path.glob("near.proofs/*.exr"))


def test_damaged_proofs_are_refused(shot, tmp_path):
    made = write_proof(tmp_path, proof(shot), pixels())
    path = Path(made.path)
    whole = path.read_bytes()
    for cut in (0, 40, len(whole) // 2, len(whole) - 30):
        path.write_bytes(whole[:cut])
        with pytest.raises(KobrelError, match=path.name):
            read_proof(path)
    path.write_bytes(whole.replace(b'"f_number":2.8', b'"f_number":-28'))
    with pytest.raises(KobrelError, match="header are broken"):
        read_proof(path)


@given(st.text(max_size=60))
def test_any_name_makes_a_file(name):
    from kobrel.exchange.proof.files import unused_path

    path = unused_path(Path("/nowhere"), name)
    assert path.parent == Path("/nowhere")
    assert path.suffix == ".exr"
    assert len(path.name) < 120


def test_rungs_are_drawn_and_can_be_stopped(looking_at):
    from tests.conftest import box_at

    plan, shot, stage = looking_at(box_at((0, 0, -4)))
    made, kept = drawn_rung(plan, Rung("one", shot, 1.0), stage, 64, 4, no_progress)
    assert (made.width_px, made.passes, made.name) == (64, 4, "one")
    assert kept.depth_m.shape == kept.colour.shape[:2]

    def stop(_what, _part):
        raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        drawn_rung(plan, Rung("one", shot, 1.0), stage, 64, 4, stop)


# Contact sheets


@pytest.fixture
def hung(shot, tmp_path):
    return [
        write_proof(
            tmp_path / "p", proof(closed(shot, 1.0 + k), name=f"Take {k + 1}"), pixels(0.1 + 0.05 * k)
        )
        for k in range(7)
    ]


def test_a_sheet_is_laid_out_within_its_pages(hung):
    for sheet in (Sheet("T"), Sheet("T", "Letter", False, 2), Sheet("T", "A3", True, 5, False)):
        pages = laid_out(hung, sheet)
        assert sum(map(len, pages)) == 7
        wide, tall = sheet.size
        for page in pages:
            for cell in page:
                assert cell.left > 0
                assert cell.left + cell.width < wide
                assert cell.top + cell.height + 10 * bool(cell.lines) < tall
            tops = sorted({cell.top for cell in page})
            assert all(b - a > page[0].height for a, b in itertools.pairwise(tops))
    assert laid_out(hung, Sheet("T"))[0][2].lines == ("Take 3", "f/3")
    with pytest.raises(KobrelError, match="1 to"):
        laid_out([], Sheet("T"))
    with pytest.raises(KobrelError, match="not a single row"):
        laid_out([p.replace(width_px=10, height_px=60) for p in hung], Sheet("T", columns=1))


def test_a_pdf_has_its_words_as_type_and_its_pictures(hung, tmp_path):
    import pypdfium2

    path = tmp_path / "sheet.pdf"
    assert write_sheet(path, hung, Sheet("Night plan", columns=2), no_progress) == [path]
    document = pypdfium2.PdfDocument(str(path))
    text = document[0].get_textpage().get_text_range()
    assert "Night plan" in text
    assert "Take 1" in text
    assert "f/1" in text
    assert document[0].get_size() == pytest.approx((297 / 25.4 * 72, 210 / 25.4 * 72), abs=0.5)
    shown = np.asarray(document[0].render(scale=1).to_pil().convert("L"))
    assert (shown < 120).mean() > 0.2


def test_a_png_is_a_file_a_page(hung, tmp_path):
    paths = write_sheet(tmp_path / "s.png", hung, Sheet("T", columns=1), no_progress)
    assert [path.name for path in paths][:2] == ["s.1.png", "s.2.png"]
    with Image.open(paths[0]) as image:
        assert image.size == (2339, 1654)
    with pytest.raises(KobrelError, match=r"\.pdf or \.png"):
        write_sheet(tmp_path / "s.gif", hung, Sheet("T"), no_progress)
