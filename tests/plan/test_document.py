import json
import os

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from kobrel.errors import PartError, PlanError
from kobrel.plan import edit
from kobrel.plan.file import UPGRADES, files_of, open_plan, save_plan
from kobrel.plan.instrument import Glass
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.model import (
    FORMAT,
    DistanceTarget,
    FixedCamera,
    Mark,
    Plan,
    PointAnchor,
    SceneRef,
    Shot,
    SubjectTarget,
)
from kobrel.plan.pull import marks as pulls

CAMERA = FixedCamera(pose=tuple(float(i % 5 == 0) for i in range(16)))


def mark(frame, metres=2.0, ease="smooth"):
    return Mark(frame=frame, target=DistanceTarget(metres=metres), ease=ease)


def plan_with(*marks, **changes):
    shot = Shot(name="1", camera=CAMERA, marks=marks or (mark(1001),), **changes)
    return Plan(name="Test", shots=(shot,))


def test_save_and_open_give_the_same_plan(tmp_path):
    plan = plan_with(mark(1001), mark(1010, float("inf"), "even"))
    plan, _ = edit.add_subject(plan, "Head", PointAnchor(position_m=(1, 2, -3)))
    plan = plan.replace(scenes=(SceneRef(name="s", path=str(tmp_path / "sets" / "s.usd")),), unit="ft")
    save_plan(plan, tmp_path / "a.kobrel")
    assert open_plan(tmp_path / "a.kobrel") == plan


def test_scene_paths_are_relative_and_move_with_the_plan(tmp_path):
    (tmp_path / "one").mkdir()
    plan = plan_with().replace(scenes=(SceneRef(name="s", path=str(tmp_path / "one" / "sets" / "s.usd")),))
    save_plan(plan, tmp_path / "one" / "a.kobrel")
    stored = json.loads((tmp_path / "one" / "a.kobrel").read_text())
    assert stored["scenes"][0]["path"] == "sets/s.usd"
    os.rename(tmp_path / "one", tmp_path / "two")
    assert open_plan(tmp_path / "two" / "a.kobrel").scenes[0].path == str(tmp_path / "two" / "sets" / "s.usd")


def test_unknown_fields_survive_a_round_trip(tmp_path):
    save_plan(plan_with(), tmp_path / "a.kobrel")
    content = json.loads((tmp_path / "a.kobrel").read_text())
    content["later"] = {"x": [1, 2]}
    content["shots"][0]["marks"][0]["colour"] = "red"
    content["shots"][0]["glass"]["focal_mm"]["note"] = "borrowed"
    (tmp_path / "a.kobrel").write_text(json.dumps(content))
    plan = open_plan(tmp_path / "a.kobrel")
    plan = edit.with_shot(plan, 0, pulls.set_mark(plan.shots[0], 1005, DistanceTarget(metres=4)))
    save_plan(plan, tmp_path / "b.kobrel")
    again = json.loads((tmp_path / "b.kobrel").read_text())
    assert again["later"] == {"x": [1, 2]}
    assert again["shots"][0]["marks"][0]["colour"] == "red"
    assert again["shots"][0]["glass"]["focal_mm"]["note"] == "borrowed"


def test_saving_keeps_the_last_version(tmp_path):
    path = tmp_path / "a.kobrel"
    save_plan(plan_with(), path)
    save_plan(plan_with().replace(name="Second"), path)
    assert open_plan(path).name == "Second"
    assert json.loads((tmp_path / "a.kobrel~").read_text())["name"] == "Test"
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.kobrel", "a.kobrel~"]


def test_a_failed_save_leaves_the_old_file(tmp_path, monkeypatch):
    path = tmp_path / "a.kobrel"
    save_plan(plan_with(), path)
    before = path.read_bytes()

    def full(_fd):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(PlanError, match=r"a\.kobrel.*No space left"):
        save_plan(plan_with().replace(name="Second"), path)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["a.kobrel"]


def test_a_folder_that_is_not_there(tmp_path):
    with pytest.raises(PlanError, match="cannot be saved"):
        save_plan(plan_with(), tmp_path / "nowhere" / "a.kobrel")


def test_a_newer_plan_is_refused_and_an_older_one_upgraded(tmp_path):
    path = tmp_path / "a.kobrel"
    save_plan(plan_with(), path)
    content = json.loads(path.read_text())
    path.write_text(json.dumps({**content, "format": 99}))
    with pytest.raises(PlanError, match="newer Kobrel"):
        open_plan(path)
    old = {**content, "format": 0, "title": "From before"}
    del old["name"]
    path.write_text(json.dumps(old))
    upgraded = open_plan(path, upgrades={**UPGRADES, 0: lambda c: {**c, "name": c["title"]}})
    assert (upgraded.name, upgraded.format) == ("From before", FORMAT)
    with pytest.raises(PlanError, match="format 0 is not known"):
        open_plan(path)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("{", "line 1, column 2: not valid JSON"),
        ("[]", "not a Kobrel plan"),
        ('{"format": "x"}', "not a Kobrel plan"),
        ('{"format": 1, "shots": [{"name": "1"}]}', "shots → 0 → camera"),
        ('{"format": 1, "unit": "parsec"}', "unit:"),
    ],
)
def test_a_broken_plan_says_where(tmp_path, text, message):
    path = tmp_path / "bad.kobrel"
    path.write_text(text)
    with pytest.raises(PlanError) as error:
        open_plan(path)
    assert "bad.kobrel" in str(error.value)
    assert message in str(error.value)


def test_a_missing_plan_and_one_that_is_no_text(tmp_path):
    with pytest.raises(PlanError, match="no such file"):
        open_plan(tmp_path / "none.kobrel")
    (tmp_path / "b.kobrel").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(PlanError, match="not a text in UTF-8"):
        open_plan(tmp_path / "b.kobrel")


@pytest.mark.parametrize(
    "wrong",
    [
        lambda: plan_with(mark(5), mark(5)),
        lambda: plan_with(mark(7), mark(5)),
        lambda: plan_with(first=10, last=9),
        lambda: plan_with(mark(1, -3)),
        lambda: plan_with().replace(shots=(plan_with().shots[0],) * 2),
        lambda: Keyed(value=0),
        lambda: Keyed(value=2, keys=(Key(frame=2, value=1), Key(frame=1, value=1))),
        lambda: Glass(squeeze=0.5),
        lambda: Shot(name="1", camera=CAMERA, marks=()),
    ],
)
def test_what_makes_no_sense_cannot_be_made(wrong):
    with pytest.raises((ValidationError, PartError)):
        wrong()


def test_parts_are_frozen():
    with pytest.raises(ValidationError):
        plan_with().name = "x"


def test_refocus_changes_the_whole_shot_or_sets_a_mark():
    single = plan_with(mark(1001)).shots[0]
    assert [m.target.metres for m in pulls.refocus(single, 1050, DistanceTarget(metres=9)).marks] == [9]
    double = plan_with(mark(1001), mark(1020)).shots[0]
    assert [m.frame for m in pulls.refocus(double, 1010, DistanceTarget(metres=9)).marks] == [
        1001,
        1010,
        1020,
    ]


@given(st.lists(st.integers(1, 60), min_size=2, max_size=6, unique=True), st.integers(-20, 90), st.data())
def test_a_moved_mark_keeps_its_place_in_the_order(frames, to, data):
    frames = sorted(frames)
    shot = plan_with(*(mark(f, 1 + i) for i, f in enumerate(frames))).shots[0]
    which = data.draw(st.integers(0, len(frames) - 1))
    moved = pulls.move_mark(shot, frames[which], to)
    assert [m.target for m in moved.marks] == [m.target for m in shot.marks]
    assert sorted(m.frame for m in moved.marks) == [m.frame for m in moved.marks]


def test_the_last_mark_stays():
    shot = plan_with(mark(1001)).shots[0]
    assert pulls.remove_mark(shot, 1001) == shot


def test_deleting_a_subject_leaves_its_marks_at_the_distance():
    plan, subject = edit.add_subject(plan_with(), "Head", PointAnchor(position_m=(0, 0, -3)))
    target = SubjectTarget(number=subject.number)
    plan = edit.with_shot(plan, 0, pulls.set_mark(plan.shots[0], 1001, target))
    plan = edit.remove_subject(plan, subject.number, lambda _shot, _frame: 3.0)
    assert plan.subjects == ()
    assert plan.shots[0].marks[0].target == DistanceTarget(metres=3.0)


def test_subjects_get_free_numbers_and_names():
    plan = plan_with()
    for _ in range(3):
        plan, _ = edit.add_subject(plan, "Head", PointAnchor(position_m=(0, 0, 0)))
    assert [(s.number, s.name) for s in plan.subjects] == [(1, "Head"), (2, "Head 2"), (3, "Head 3")]
    plan = edit.with_subject(plan, 2, name="Nose")
    assert plan.subject(2).name == "Nose"


def test_what_an_edit_leaves_alone_stays_the_very_same(demo):
    plan = demo[0]
    shot = plan.shots[1].replace(last=1200)
    assert shot.marks is plan.shots[1].marks
    edited = plan.replace(shots=(shot, *plan.shots[2:]))
    for name in type(plan).model_fields:
        assert (getattr(edited, name) is getattr(plan, name)) == (name != "shots"), name
    assert edited.shots[1] is plan.shots[2]


def test_keys_are_set_moved_and_removed():
    keyed = Keyed(value=2.8).set(Key(frame=5, value=4.0))
    assert keyed == Keyed(value=4.0)
    keyed = keyed.with_key(Key(frame=10, value=8.0)).with_key(Key(frame=1, value=2.0))
    assert [(k.frame, k.value) for k in keyed.keys] == [(1, 2.0), (10, 8.0)]
    assert [k.value for k in keyed.set(Key(frame=10, value=11)).keys] == [2.0, 11]
    assert keyed.without_key(1).without_key(10) == Keyed(value=8.0)


def test_the_schema_in_the_docs_is_current():
    from pathlib import Path

    kept = Path(__file__).parents[2] / "docs" / "plan.schema.json"
    assert json.loads(kept.read_text()) == Plan.model_json_schema(), (
        "run: kobrel schema > docs/plan.schema.json"
    )


def test_a_shot_may_be_a_single_frame():
    shot = plan_with(mark(7), first=7, last=7).shots[0]
    assert shot.length == 1


def test_the_first_and_last_mark_move_out_as_far_as_one_likes():
    shot = plan_with(mark(10), mark(20)).shots[0]
    assert [m.frame for m in pulls.move_mark(shot, 20, 5000).marks] == [10, 5000]
    assert [m.frame for m in pulls.move_mark(shot, 10, -5000).marks] == [-5000, 20]
    assert [m.frame for m in pulls.move_mark(shot, 10, 5000).marks] == [19, 20]
    assert [m.frame for m in pulls.move_mark(shot, 20, -5000).marks] == [10, 11]


def test_lifted_marks_come_nearer_and_stop_at_infinity():
    shot = plan_with(mark(10, 2.0), mark(20, 4.0), mark(30, 4.0)).shots[0]
    lifted = pulls.lifted_marks(shot, {10, 20}, 0.25)
    assert [m.target.metres for m in lifted.marks] == pytest.approx([1 / 0.75, 2.0, 4.0])
    assert [m.target.metres for m in pulls.lifted_marks(shot, {20}, -1.0).marks] == [2.0, float("inf"), 4.0]


def test_a_plan_tells_the_files_that_it_names():
    shot = plan_with().shots[0]
    masked = shot.replace(iris=shot.iris.replace(mask={"kind": "picture", "path": "/m.png"}))
    plan = Plan(
        scenes=[{"name": "a", "path": "/a.usd"}, {"name": "b", "path": "/a.usd"}],
        shots=(masked,),
        light={"surround": {"path": "/sky.hdr"}},
    )
    assert sorted(files_of(plan)) == ["/a.usd", "/m.png", "/sky.hdr"]
