"""The campaign, short: damaged and hostile files in a watched child, what was found before, random hands."""

import random
import subprocess
import sys
from pathlib import Path

import pytest
from campaign.fuzz import Campaign, reduced
from campaign.hostile import hostile_cases
from campaign.mutate_code import changes_of, sampled
from campaign.mutate_files import damaged
from campaign.watch import Child, Outcome

from kobrel.plan import edit

FINDS = Path(__file__).parent / "finds"


@pytest.fixture(scope="module")
def child():
    made = Child()
    yield made
    made.end()


@pytest.mark.parametrize(  # what hangs is tried with less patience among the tests of the gate
    "find", sorted(f for f in FINDS.iterdir() if "hang" not in f.name), ids=lambda path: path.name
)
def test_what_was_found_once_is_refused_for_ever(find, child):
    assert child.run(find).kind in ("ok", "refused")


def test_damaged_files_of_every_kind_are_used_or_refused(tmp_path):
    campaign = Campaign(tmp_path, first=1)
    campaign.run(seconds=600, most=112, workers=1)
    assert campaign.finds == []
    assert sum(campaign.counts.values()) == 112
    assert {"ok", "refused"} == {outcome for _kind, outcome in campaign.counts}
    assert "all" in campaign.table()


def test_nonsense_over_sockets_is_borne_with(tmp_path, monkeypatch):
    monkeypatch.setattr("kobrel.exchange.rangefinder._TIMEOUT_S", 0.2)
    campaign = Campaign(tmp_path)
    campaign.run_sockets(30)
    assert campaign.finds == []


def test_a_find_is_reduced(tmp_path, monkeypatch):
    class Bad:
        """Goes wrong with every file that has both an X and a Y."""

        def run(self, path):
            content = path.read_bytes()
            return Outcome("fault" if b"X" in content and b"Y" in content else "ok")

        def end(self):
            pass

    monkeypatch.setattr("campaign.fuzz.Child", Bad)
    assert reduced(b"aaaaXbbbbbbbYccccccc", "fault", tmp_path / "x", tries=200) == b"XY"


def test_hostile_files_are_refused(tmp_path, child):
    cases = list(hostile_cases(tmp_path))
    assert len(cases) > 800
    bad = {}
    for name, path in random.Random(1).sample(cases, 40):
        outcome = child.run(path)
        if not outcome.is_fine:
            bad[name] = outcome
    assert bad == {}


@pytest.mark.parametrize(
    ("code", "kind"),
    [
        ("import os; os.kill(os.getpid(), 11)", "signal"), ("1 / 0", "fault"),
        ("import time; time.sleep(60)", "asleep"), ("while True: pass", "busy"),
        ("x = bytearray(1700 << 20)", "memory"),
    ],
)  # fmt: skip
def test_the_watch_sees_what_goes_wrong(tmp_path, monkeypatch, code, kind):
    """A child whose use of a file is this code."""
    (tmp_path / "campaign").mkdir()
    (tmp_path / "campaign" / "__init__.py").touch()
    real = Path("campaign/use.py").read_text()
    start = real.index("def use(path: Path)")
    end = real.index("def _use_scene")
    (tmp_path / "campaign" / "use.py").write_text(
        f"{real[:start]}def use(path):\n    {code}\n\n\n{real[end:]}"
    )
    # No timing decides: of the two bounds only the one that is meant can be reached.
    monkeypatch.setattr("campaign.watch.HANG_S", 1.0 if kind == "busy" else 120.0)
    monkeypatch.setattr("campaign.watch.LONGEST_S", 2.0 if kind == "asleep" else 600.0)
    kind = "hang" if kind in ("busy", "asleep") else kind
    monkeypatch.chdir(tmp_path)
    made = Child()
    (tmp_path / "x.png").write_bytes(b"x")
    outcome = made.run(tmp_path / "x.png")
    made.end()
    assert outcome.kind == kind
    assert not Outcome(kind).is_fine


def test_damage_follows_from_its_number():
    content = b'{"format": 5, "name": "x", "shots": [1, 2, 3]}' * 3
    first = [damaged(content, ".kobrel", random.Random(n)) for n in range(40)]
    assert first == [damaged(content, ".kobrel", random.Random(n)) for n in range(40)]
    assert len(set(first)) > 20


def test_changes_to_code_are_whole_code():
    path = Path(edit.__file__)
    whole = path.read_bytes()
    made = list(changes_of(path))
    assert len(made) > 30
    for change in made:
        text = whole[: change.start] + change.new.encode() + whole[change.end :]
        compile(text, str(path), "exec")
        assert text != whole
    assert sampled(20, 3) == sampled(20, 3)


def test_random_hands_find_nothing_in_a_moment(tmp_path):
    done = subprocess.run(
        [sys.executable, "-m", "campaign.hands", "--play", "3", "--seconds", "6", "--folder", str(tmp_path)],
        capture_output=True, text=True, check=False, timeout=120,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-3000:]
    assert " 0 exceptions" in done.stdout
