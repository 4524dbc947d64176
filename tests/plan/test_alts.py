"""Alts: kept, taken, and written with the plan."""

import pytest

from kobrel.errors import PlanError
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.iris import IrisShape, MaskPicture
from kobrel.plan.keys import Keyed
from kobrel.plan.model import DistanceTarget
from kobrel.plan.pull import marks as pulls
from kobrel.plan.variants import alts


def test_an_alt_brings_back_everything_it_keeps(looking_at):
    _plan, shot, _stage = looking_at()
    first = alts.kept(shot, "Wide open")
    assert alts.is_now(first, first.alts[0])
    other = first.replace(glass=first.glass.replace(f_number=Keyed(value=11)), iris=IrisShape(blades=5))
    other = pulls.set_mark(other, 5, DistanceTarget(metres=7))
    assert not alts.is_now(other, other.alts[0])
    both = alts.kept(other, " Deep ")
    assert [alt.name for alt in both.alts] == ["Wide open", "Deep"]
    back = alts.taken(both, "Wide open")
    assert (back.glass, back.iris, back.marks) == (shot.glass, shot.iris, shot.marks)
    assert back.alts == both.alts
    assert alts.taken(back, "Deep").marks == other.marks
    again = alts.kept(back, "Deep")
    assert [alt.name for alt in again.alts] == ["Wide open", "Deep"]
    assert alts.is_now(again, again.alts[1])
    assert alts.removed(again, "Deep").alts == again.alts[:1]


def test_names_are_told_apart(looking_at):
    _plan, shot, _stage = looking_at()
    with pytest.raises(PlanError, match="name"):
        alts.kept(shot, "  ")
    with pytest.raises(PlanError, match="no alt Gone"):
        alts.taken(shot, "Gone")
    assert alts.unused_name(shot) == "Alt 1"
    assert alts.unused_name(alts.kept(shot, "Alt 1")) == "Alt 2"


def test_alts_are_written_with_relative_paths(looking_at, tmp_path):
    plan, shot, _stage = looking_at()
    masked = shot.replace(iris=IrisShape(mask=MaskPicture(path=str(tmp_path / "m.png"))))
    plan = plan.replace(shots=(alts.kept(masked, "Masked").replace(iris=IrisShape()),))
    save_plan(plan, tmp_path / "p.kobrel")
    assert str(tmp_path) not in (tmp_path / "p.kobrel").read_text()
    assert open_plan(tmp_path / "p.kobrel") == plan
