"""Files: read only within bounds, written whole, earlier versions kept; folders that are trusted."""

import errno
import json
import os

import numpy as np
import pytest

from kobrel import memory, trust
from kobrel.errors import KobrelError, PlanError
from kobrel.exchange.images import write_png
from kobrel.files import (
    MOST_DEPTH,
    bytes_of,
    csv_lines,
    json_of,
    require_file,
    text_of,
    versions_of,
)
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.masks import mask_fault, masks_beside, read_mask
from kobrel.plan.model import Plan, SceneRef, Shot
from kobrel.plan.staging import Library, load_stage
from kobrel.plan.start import empty_plan
from kobrel.stage.read.load import load_scene
from tests.conftest import write_mesh


@pytest.mark.parametrize("kind", ["folder", "pipe", "device", "circle", "missing", "long", "nought"])
def test_only_plain_files_are_read(tmp_path, kind):
    path = tmp_path / "x.kobrel"
    if kind == "folder":
        path.mkdir()
    elif kind == "pipe":
        os.mkfifo(path)
    elif kind in ("device", "circle"):
        path.symlink_to("/dev/zero" if kind == "device" else path)
    elif kind != "missing":
        path = tmp_path / ("x" * 300 if kind == "long" else "a\0b")
    for read in (require_file, bytes_of, text_of, json_of, open_plan):
        with pytest.raises(KobrelError) as refused:
            read(path)
        assert str(tmp_path) in str(refused.value)
        assert "\n" not in str(refused.value)


def test_files_are_read_up_to_a_size(tmp_path):
    (tmp_path / "x").write_bytes(bytes(3 << 20))
    assert require_file(tmp_path / "x", most_bytes=3 << 20) == 3 << 20
    with pytest.raises(PlanError, match="3 MB; 2 MB are read"):
        require_file(tmp_path / "x", PlanError, 2 << 20)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("[" * (MOST_DEPTH + 1) + "]" * (MOST_DEPTH + 1), "nested more than 100 deep"),
        ("[" * 1_000_000, "nested"),
        ('{"a":' * 5000 + "0" + "}" * 5000, "nested"),
        ("[" + "9" * 5000 + "]", "more than 400 digits"),
        ('{"a": "\\ud800"}', "halves of characters"),
        ('{"a": 1,}', "line 1, column"),
        ("", "not valid JSON"),
    ],
)
def test_json_that_would_overwhelm_is_refused_with_its_place(tmp_path, text, why):
    (tmp_path / "x.json").write_text(text)
    with pytest.raises(PlanError, match=why) as refused:
        json_of(tmp_path / "x.json", PlanError)
    assert str(refused.value).startswith(str(tmp_path / "x.json"))


def test_json_may_nest_and_name_all_signs(tmp_path):
    content = {"a": "[[[{{{" * 90, "b": "\U0001f600", "c": "\\ud800", "d": '"' * 9}
    for _ in range(MOST_DEPTH - 1):
        content = [content]
    (tmp_path / "x.json").write_text(json.dumps(content))
    assert json_of(tmp_path / "x.json") == content


def test_tables_that_are_none_are_refused_with_their_line():
    assert csv_lines("a,b\n1, 2\n", "x.csv") == [["a", "b"], ["1", "2"]]
    with pytest.raises(KobrelError, match=r"x\.csv: line 2"):
        csv_lines("a,b\n" + '"' + "x" * 200_000 + '"', "x.csv")


def test_earlier_versions_are_kept_as_many_as_wanted(tmp_path):
    path = tmp_path / "plan.kobrel"
    for number in range(6):
        save_plan(Plan(name=f"v{number}"), path, versions=3)
    assert [open_plan(version).name for version in versions_of(path)] == ["v4", "v3", "v2"]
    save_plan(Plan(name="v6"), path, versions=0)
    assert [open_plan(version).name for version in versions_of(path)] == ["v4", "v3", "v2"]


@pytest.mark.parametrize("step", ["os.fsync", "os.replace", "shutil.copy2"])
def test_saving_is_whole_or_not_at_all(tmp_path, monkeypatch, step):
    path = tmp_path / "plan.kobrel"
    for name in ("before", "first"):
        save_plan(Plan(name=name), path)
    if step == "shutil.copy2":  # a file system without second names

        def none(*_arguments):
            raise OSError(errno.EPERM, "Operation not permitted")

        monkeypatch.setattr("kobrel.files.os.link", none)

    def full(*_arguments):
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(f"kobrel.files.{step}", full)
    for number in range(4):
        with pytest.raises(PlanError, match=r"No space left on device.*Make room"):
            save_plan(Plan(name=f"try {number}"), path)
    monkeypatch.undo()
    assert open_plan(path).name == "first"
    kept = [open_plan(version).name for version in versions_of(path)]
    assert [name for name in kept if name != "first"] == ["before"]  # no try pushed it out
    assert not list(tmp_path.glob(".*"))
    save_plan(Plan(name="second"), path)
    assert [open_plan(each).name for each in (path, *versions_of(path))] == ["second", "first", "before"]


def test_a_full_disk_leaves_plan_and_versions_whole(tmp_path, full_disk):
    path = tmp_path / "plan.kobrel"
    for number in range(3):
        save_plan(Plan(name=f"v{number}" + "x" * 5000), path)
    before = {each.name: each.read_bytes() for each in tmp_path.iterdir()}
    for room in (0, 1, 4096, 5500):
        with full_disk(room), pytest.raises(PlanError, match="cannot be saved"):
            save_plan(Plan(name="later" + "x" * 5000), path)
        assert {each.name: each.read_bytes() for each in tmp_path.iterdir()} == before


def test_saving_through_a_link_saves_the_file_that_it_leads_to(tmp_path):
    for name in ("real", "links"):
        (tmp_path / name).mkdir()
    real, link = tmp_path / "real" / "plan.kobrel", tmp_path / "links" / "today.kobrel"
    save_plan(Plan(name="first"), real)
    real.chmod(0o640)
    link.symlink_to(real)
    scene = {"name": "s", "path": str(tmp_path / "real" / "s.usda")}
    save_plan(Plan(name="second", scenes=(scene,)), link)
    assert link.is_symlink()
    assert [open_plan(each).name for each in (link, real, *versions_of(link))] == [
        "second",
        "second",
        "first",
    ]
    assert open_plan(link).scenes[0].path == open_plan(real).scenes[0].path == scene["path"]
    assert '"path": "s.usda"' in real.read_text()
    assert real.stat().st_mode & 0o777 == 0o640
    assert [each.name for each in link.parent.iterdir()] == ["today.kobrel"]


def test_nothing_a_stranger_left_beside_is_written_to(tmp_path):
    victim, path = tmp_path / "letter.txt", tmp_path / "plan.kobrel"
    victim.write_text("dear")
    shot = empty_plan().shots[0].replace(iris={"mask": {"kind": "drawn"}})
    plan = empty_plan().replace(shots=(shot,))
    (mask,) = masks_beside(plan, path)
    mask.symlink_to(victim)
    save_plan(plan, path)
    assert (victim.read_text(), mask.is_symlink()) == ("dear", False)
    for target in (tmp_path / ".plan.part.png", tmp_path / ".plan.kobrel.x"):
        target.symlink_to(victim)
    write_png(tmp_path / "plan.png", np.zeros((2, 2, 3), np.uint8))
    assert victim.read_text() == "dear"
    # A picture of the person's own that has a mask's name stays as an earlier version.
    mask.write_bytes(b"a photograph")
    save_plan(plan, path)
    assert versions_of(mask)[0].read_bytes() == b"a photograph"
    before = mask.stat().st_mtime_ns
    save_plan(plan, path)
    assert mask.stat().st_mtime_ns == before


def test_places_that_take_no_plan_are_told_with_what_to_do(tmp_path):
    with pytest.raises(PlanError, match="no longer exists"):
        save_plan(Plan(), tmp_path / "gone" / "x.kobrel")


def test_a_shot_of_a_long_name_can_be_saved(tmp_path):
    plan = empty_plan()
    shot = plan.shots[0].replace(name="n" * 300, iris={"mask": {"kind": "drawn"}})
    save_plan(plan.replace(shots=(shot,)), tmp_path / "x.kobrel")
    assert len(list(tmp_path.glob("x.mask-*.png"))) == len(
        masks_beside(plan.replace(shots=(shot,)), tmp_path / "x.kobrel")
    )


def test_memory_is_asked_for_before_it_is_taken(monkeypatch):
    monkeypatch.setattr(memory, "spare_memory", lambda: 2.0 * 2**30)
    memory.require_memory(2**30, "the picture")
    with pytest.raises(
        PlanError, match=r"a\.png: the picture would take 3\.0 GB of memory, 2\.0 GB are free"
    ):
        memory.require_memory(3 * 2**30, "the picture", "a.png", PlanError)
    with pytest.raises(KobrelError):
        memory.require_memory(float("nan"), "the picture")


# Trust


@pytest.fixture
def strangers(tmp_path, monkeypatch):
    """Two folders, of which only the first is trusted."""
    own, other = tmp_path / "own", tmp_path / "other"
    own.mkdir()
    other.mkdir()
    monkeypatch.setattr(trust, "_ALLOWED", {trust._OWN})
    trust.take_refused()
    trust.allow([own])
    return own, other


SQUARE = ([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [4], [0, 1, 2, 3])


def test_a_plan_reads_no_scene_elsewhere_until_it_is_allowed(strangers):
    _own, other = strangers
    write_mesh(other / "set.usda", *SQUARE)
    plan = Plan(scenes=(SceneRef(name="set", path=str(other / "set.usda")),))
    stage, problems = load_stage(plan)
    assert (list(stage.scenes), len(problems)) == ([], 1)
    assert f"Allow {other} to read it" in problems[0]
    assert trust.take_refused() == [other]
    trust.allow([other])
    library = Library()
    library.read(plan)
    assert (library.problems, trust.take_refused()) == ({}, [])


def test_links_count_as_what_they_lead_to(strangers):
    own, other = strangers
    write_mesh(other / "set.usda", *SQUARE)
    (own / "link.usda").symlink_to(other / "set.usda")
    assert not trust.is_allowed(own / "link.usda")
    assert trust.is_allowed(own / "deep" / ".." / "x.usda")
    assert not trust.is_allowed(own / ".." / "other" / "x.usda")
    assert not trust.is_allowed("a\0b", own)


def test_a_scene_draws_in_no_layer_from_elsewhere(strangers):
    own, other = strangers
    write_mesh(other / "thing.usda", *SQUARE)
    write_mesh(own / "near.usda", *SQUARE)
    (own / "set.usda").write_text(
        '#usda 1.0\ndef "a" (references = @../other/thing.usda@</mesh>) {\n}\n'
        'def "b" (references = @./near.usda@</mesh>) {\n}\n'
    )
    scene = load_scene(own / "set.usda")
    assert [node.path for node in scene.nodes if node.mesh] == ["/b"]
    assert [w for w in scene.warnings if "another folder" in w] == [
        w for w in scene.warnings if "thing.usda" in w
    ]
    trust.allow([other])
    assert [node.path for node in load_scene(own / "set.usda").nodes if node.mesh] == ["/a", "/b"]


def test_a_mask_is_read_from_where_it_may_be(strangers):
    from PIL import Image

    _own, other = strangers
    Image.new("L", (8, 8), 255).save(other / "mask.png")
    iris = Shot.model_validate(empty_plan().shots[0]).iris.replace(
        mask={"kind": "picture", "path": str(other / "mask.png")}
    )
    assert "another folder" in mask_fault(iris)
    trust.allow([other])
    assert mask_fault(iris) == ""


def test_a_mask_as_narrow_as_a_thread_takes_no_square_of_its_length(tmp_path):
    from PIL import Image

    Image.new("L", (1, 60_000), 255).save(tmp_path / "thread.png")
    mask = read_mask(tmp_path / "thread.png")
    assert mask.pixels.shape[0] == mask.pixels.shape[1] <= 8192
