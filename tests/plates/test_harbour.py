"""Paper Harbour: made by its script, five plates, a push in, a dial that hands over."""

from pathlib import Path

import numpy as np
import pytest

from kobrel.demo import harbour
from kobrel.plan.check import findings
from kobrel.plan.file import open_plan
from kobrel.plan.measure.survey import SHARP, survey
from kobrel.plan.plates.edges import edge_report
from kobrel.plan.staging import load_stage
from kobrel.stage.read.plates.stills import read_still

KEPT = Path(harbour.__file__).parent


@pytest.fixture(scope="module")
def shown():
    plan = open_plan(KEPT / harbour.PLAN)
    stage, problems = load_stage(plan)
    assert problems == []
    return plan, stage


def test_it_is_made_by_its_script(tmp_path, monkeypatch):
    monkeypatch.setattr(harbour, "FOLDER", tmp_path)
    harbour.main()
    assert (tmp_path / harbour.PLAN).read_text() == (KEPT / harbour.PLAN).read_text(), "run: make scene"
    for name, _away in harbour.LAYERS:
        made, kept = (read_still(folder / harbour.PICTURE, name).pixels.rgba for folder in (tmp_path, KEPT))
        assert np.abs(made.astype(int) - kept).max() <= harbour._TONES


def test_the_dial_hands_over_from_the_lantern_to_the_ferry(shown):
    plan, stage = shown
    numbers = survey(plan, plan.shots[0], stage)
    names = [plan.subject(number).name for number in numbers.subjects]
    lantern, ferry = (numbers.state[names.index(name)] for name in ("Lantern", "Ferry"))
    assert lantern[numbers.index_of(1001)] == SHARP
    assert ferry[numbers.index_of(1001)] != SHARP
    assert ferry[numbers.index_of(1110)] == SHARP
    assert lantern[numbers.index_of(1110)] != SHARP


def test_no_edge_shows_and_nothing_is_missing(shown):
    plan, stage = shown
    shot = plan.shots[0]
    numbers = survey(plan, shot, stage)
    for plate in plan.plates:
        assert edge_report(plan, plate, stage, numbers.camera, numbers.frames).needed == 0, plate.name
    bare = plan.plates[0].replace(beyond="nothing")
    assert edge_report(plan, bare, stage, numbers.camera, numbers.frames).needed > 0
    assert findings(plan, stage) == []
