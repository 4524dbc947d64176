"""Jobs on threads of this process: what is made, what is kept, what is told."""

import errno
import hashlib
import itertools
import json
import os
import shutil
import time
from collections import deque
from dataclasses import replace
from pathlib import Path

import numpy as np
import psutil
import pytest

import kobrel.demo
from kobrel.errors import ExchangeError, KobrelError
from kobrel.exchange.movie import Movie, write_shot
from kobrel.farm import record as record_module
from kobrel.farm import remote, run, store
from kobrel.farm.bundle import Bundle, File, file_of, packed
from kobrel.farm.cluster import Farm
from kobrel.farm.making import Made, bands_of, items_of, maker_of
from kobrel.farm.record import SHARED, Record
from kobrel.farm.run import Run, _Out
from kobrel.farm.versions import versions
from kobrel.farm.work import Work, read_works, work_of
from kobrel.picture.denoise import can_denoise
from kobrel.plan.file import open_plan
from kobrel.plan.model import SceneRef
from kobrel.plan.pictures.rendered import RenderedImage
from kobrel.plan.staging import load_stage
from kobrel.plan.variants.bracket import ends_of_shots
from kobrel.stage.scene import Cancelled
from tests.conftest import DEMO
from tests.farm.helpers import SMALL, small_job, small_plan


@pytest.fixture(scope="module")
def farm():
    """One farm for all; runs let go of it without ending it."""
    whole = Farm()
    close, whole.close = whole.close, lambda: None
    yield whole
    close()


def digests(folder: Path) -> dict[str, str]:
    """The files in a folder but for hidden ones, by their content."""
    return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in sorted(folder.glob("[!.]*"))}


def test_pictures_are_those_of_the_one_machine_command(farm, tmp_path):
    job = small_job(tmp_path, last=1003)
    report = Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert (report.made, report.total, report.found, report.retried) == (3, 3, 0, 0)
    plan = open_plan(tmp_path / "small.kobrel")
    movie = Movie(width=64, height=36, passes=8)
    (tmp_path / "alone").mkdir()
    stage = load_stage(plan)[0]
    write_shot(plan, plan.shots[0], stage, movie, tmp_path / "alone" / "a.exr", lambda *_: None)
    assert digests(tmp_path / "out") == digests(tmp_path / "alone")


def test_a_movie_is_put_together_from_its_frames(farm, tmp_path):
    import av

    job = small_job(tmp_path, "movie", "a.mp4", last=1006, sound=True, burn=("frame",))
    Run(job, lambda: farm, folder=tmp_path / "job").run()
    with av.open(str(tmp_path / "out" / "a.mp4")) as movie:
        assert len(list(movie.decode(video=0))) == 6
        assert len(movie.streams.audio) == 1
    assert not (tmp_path / "job" / "frames").exists()
    again = Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert again.found == again.made == 7
    (tmp_path / "out" / "a.mp4").unlink()
    assert Run(job, lambda: farm, folder=tmp_path / "job").run().found == 0
    assert (tmp_path / "out" / "a.mp4").exists()


def test_passes_are_written_with_one_note(farm, tmp_path):
    Run(small_job(tmp_path, "passes", last=1002), lambda: farm, folder=tmp_path / "job").run()
    assert list(digests(tmp_path / "out")) == ["a.1001.exr", "a.1002.exr", "a.txt"]


def test_a_ladder_and_its_contact_sheet(farm, tmp_path):
    plan = open_plan(small_plan(tmp_path))
    rungs = [{"name": f"step {r.frame:g}", "shot": r.shot, "frame": r.frame} for r in ends_of_shots(plan)]
    out = tmp_path / "ladder"
    work = work_of(
        kind="ladder", plan=str(tmp_path / "small.kobrel"), output=str(out), rungs=rungs, samples=4, width=64
    )
    Run(packed(work)[0], lambda: farm, folder=tmp_path / "job").run()
    made = sorted(out.glob("*.exr"))
    assert len(made) == 3
    from kobrel.exchange.proof.files import read_proof

    proofs = [read_proof(path)[0] for path in made]
    sheet = work_of(kind="sheet", plan=work.plan, output=str(tmp_path / "sheet.pdf"), proofs=proofs)
    Run(packed(sheet)[0], lambda: farm, folder=tmp_path / "job2").run()
    assert (tmp_path / "sheet.pdf").read_bytes().startswith(b"%PDF")


def test_frames_that_are_there_are_not_made_again(farm, tmp_path):
    job = small_job(tmp_path, last=1006)
    Run(job, lambda: farm, folder=tmp_path / "job").run()
    before = digests(tmp_path / "out")
    (tmp_path / "out" / "a.1002.exr").unlink()
    (tmp_path / "out" / "a.1004.exr").write_bytes(b"torn")
    with (tmp_path / "job" / "made.jsonl").open("a") as file:
        file.write('{"item": "1005", "fil')
    report = Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert (report.found, report.made) == (4, 6)
    assert digests(tmp_path / "out") == before


def test_a_changed_plan_is_another_job(tmp_path):
    one = small_job(tmp_path)
    again = small_job(tmp_path)
    other = small_job(tmp_path, samples=9)
    assert one.key == again.key != other.key


def test_nothing_of_somebody_elses_is_written_over(farm, tmp_path):
    job = small_job(tmp_path, last=1003)
    mine = tmp_path / "out" / "a.1002.exr"
    mine.write_bytes(b"mine")
    with pytest.raises(ExchangeError, match="already"):
        Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert mine.read_bytes() == b"mine"
    Run(job, lambda: farm, folder=tmp_path / "job", force=True).run()
    assert mine.read_bytes() != b"mine"


def test_frames_that_others_made_of_the_same_plan_count_as_made(farm, tmp_path):
    """Another person, another machine, another range: each keeps a record of its own beside the frames."""
    first = small_job(tmp_path)
    work, plan = first.made_of
    Run(packed(work.replace(last=1004), plan)[0], lambda: farm, folder=tmp_path / "mine").run()
    before = digests(tmp_path / "out")
    theirs = Run(
        packed(work.replace(first=1003, last=1006), plan)[0], lambda: farm, folder=tmp_path / "theirs"
    )
    report = theirs.run()
    assert (report.found, report.made) == (2, 4)
    assert {name: digests(tmp_path / "out")[name] for name in before} == before
    assert len(list((tmp_path / "out" / SHARED).iterdir())) == 2
    report = Run(first, lambda: farm, folder=tmp_path / "third").run()
    assert (report.found, report.made) == (6, 8)
    # What was changed since counts for nobody, and is not written over.
    (tmp_path / "out" / "a.1002.exr").write_bytes(b"changed")
    with pytest.raises(ExchangeError, match=r"a\.1002\.exr"):
        Run(first, lambda: farm, folder=tmp_path / "fourth").run()
    assert (tmp_path / "out" / "a.1002.exr").read_bytes() == b"changed"


def test_frames_of_a_changed_plan_are_still_refused(farm, tmp_path):
    job = small_job(tmp_path, last=1002)
    Run(job, lambda: farm, folder=tmp_path / "one").run()
    other = small_job(tmp_path, last=1002, samples=9)
    assert other.of_frames != job.of_frames
    with pytest.raises(ExchangeError, match="already"):
        Run(other, lambda: farm, folder=tmp_path / "two").run()


def test_a_frame_is_known_wherever_its_files_lie(tmp_path):
    """By the content of its scenes, not by where this machine has them."""
    found = []
    for place in ("here", "there"):
        folder = tmp_path / place
        shutil.copytree(DEMO.parent, folder, ignore=shutil.ignore_patterns("__pycache__", "*.py"))
        where = {"plan": str(folder / DEMO.name), "output": str(folder / "a.exr")}
        work = work_of(kind="pictures", shot="03", **where, **SMALL)
        found.append(packed(work)[0])
    assert found[0].key != found[1].key
    assert found[0].of_frames == found[1].of_frames
    ranged = packed(found[0].made_of[0].replace(first=1002, last=1003))[0]
    assert ranged.of_frames == found[0].of_frames


def test_whole_frames_without_a_record_are_skipped_where_that_is_wanted(farm, tmp_path):
    job = small_job(tmp_path, last=1003)
    Run(job, lambda: farm, folder=tmp_path / "one").run()
    shutil.rmtree(tmp_path / "out" / SHARED)
    with pytest.raises(ExchangeError, match="already"):
        Run(job, lambda: farm, folder=tmp_path / "two").run()
    report = Run(job, lambda: farm, folder=tmp_path / "three", skip_existing=True).run()
    assert (report.found, report.made) == (3, 3)
    shutil.rmtree(tmp_path / "out" / SHARED)
    torn = tmp_path / "out" / "a.1002.exr"
    torn.write_bytes(torn.read_bytes()[:-200])
    with pytest.raises(ExchangeError, match=r"a\.1002\.exr"):
        Run(job, lambda: farm, folder=tmp_path / "four", skip_existing=True).run()


def test_a_full_disk_stops_and_work_goes_on_when_there_is_room(farm, tmp_path, monkeypatch):
    job = small_job(tmp_path, last=1008)
    whole, written = record_module.write_whole, []

    def full(path, content, **more):
        if len(written) >= 3:
            raise OSError(errno.ENOSPC, "No space left on device")
        written.append(path)
        whole(path, content, **more)

    monkeypatch.setattr(record_module, "write_whole", full)
    with pytest.raises(ExchangeError, match="Make room"):
        Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert len(digests(tmp_path / "out")) == 3
    monkeypatch.setattr(record_module, "write_whole", whole)
    report = Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert (report.found, report.made) == (3, 8)


def test_a_run_that_is_stopped_keeps_what_it_made(farm, tmp_path):
    job, seen = small_job(tmp_path, last=1010), []
    run = Run(
        job,
        lambda: farm,
        seen.append,
        lambda: "cancel" if seen[-1].made >= 3 else "go",
        folder=tmp_path / "job",
    )
    with pytest.raises(Cancelled):
        run.run()
    assert 3 <= len(digests(tmp_path / "out")) < 10
    assert Run(job, lambda: farm, folder=tmp_path / "job").run().found >= 3


def test_an_item_that_fails_is_told_and_the_others_are_made(farm, tmp_path, monkeypatch):
    from kobrel.farm import making

    job, write = small_job(tmp_path, last=1006), making.Maker.write
    tried = []

    def broken(self, item, folder, progress=None):
        if item.number == 1004:
            tried.append(item.number)
            raise ValueError("odd")
        return write(self, item, folder)

    monkeypatch.setattr(making.Maker, "write", broken)
    with pytest.raises(ExchangeError, match="1004: something went wrong inside"):
        Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert len(digests(tmp_path / "out")) == 5
    assert len(tried) == run.MOST_TRIES


def test_files_travel_where_they_are_not_seen(tmp_path, monkeypatch):
    """A worker that sees no path of the job's has everything sent, once, and makes the same."""
    monkeypatch.setenv(store.CACHE, str(tmp_path / "cache"))
    plan = open_plan(DEMO)
    out = tmp_path / "out"
    work = work_of(
        kind="pictures", plan=str(DEMO), output=str(out / "a.exr"), shot="03", first=1001, last=1001, **SMALL
    )
    job = packed(work, plan)[0]
    seen = Path(tmp_path / "seen")
    seen.mkdir()
    monkeypatch.setattr(store, "sees", lambda file: False)
    with Farm() as farm:
        told = []
        sent = farm.give(job, told.append)
        assert sent == sum({file.digest: file.size for file in job.files}.values()) > 0
        assert farm.give(job, told.append) == 0
    root = store.laid_out(job)
    assert root is not None
    maker = maker_of(job)
    assert all(ref.path.startswith(str(root)) for ref in maker.plan.scenes)
    maker.write(items_of(*job.made_of)[0], seen)
    monkeypatch.undo()
    from kobrel.farm import making

    making._makers.clear()
    making._libraries.clear()
    here = tmp_path / "here"
    here.mkdir()
    maker_of(job).write(items_of(*job.made_of)[0], here)
    assert digests(seen) == digests(here)


def test_a_piece_that_arrives_damaged_is_refused(tmp_path, monkeypatch):
    monkeypatch.setenv(store.CACHE, str(tmp_path))
    with pytest.raises(KobrelError, match="damaged"):
        store.keep_piece(hashlib.sha256(b"right").hexdigest(), 0, b"wrong", True)
    assert not list(tmp_path.rglob("*.part"))


def test_other_versions_are_refused(farm, monkeypatch):
    other = replace(versions(), kobrel="0.0.1 (abcdef01)")
    monkeypatch.setattr("kobrel.farm.cluster.versions", lambda: other)
    with pytest.raises(KobrelError, match=r"runs Kobrel .*, this is 0.0.1 \(abcdef01\)\. Install the same"):
        farm.check()
    assert versions().refusal(versions(), "x") == ""


def test_several_kinds_of_processors_are_told(farm, monkeypatch):
    answers = {"a": versions(), "b": replace(versions(), processor="other")}
    monkeypatch.setattr(farm, "_run", lambda *_a, **_k: answers)
    assert "several kinds" in farm.check()[0]


def test_errors_keep_what_they_say_on_their_way():
    import pickle

    for error in (
        remote.Lacking("tcp://a"),
        remote.Unlike("tcp://a", "old"),
        ExchangeError("no.", file="x", remedy="y"),
    ):
        again = pickle.loads(pickle.dumps(error))
        assert (str(again), vars(again)) == (str(error), vars(error))


def test_an_address_where_nobody_answers():
    with pytest.raises(KobrelError, match="no scheduler answers"):
        Farm("tcp://127.0.0.1:9", 0.5)


def test_the_farm_of_this_process_cannot_be_reached_from_elsewhere(farm):
    ports = [c.laddr.ip for c in psutil.Process().net_connections() if c.status == psutil.CONN_LISTEN]
    assert set(ports) <= {"127.0.0.1"}


def test_bands_share_out_all_blocks():
    for samples in (1, 7, 8, 9, 64, 1000):
        for bands in (1, 2, 5, 16):
            work = work_of(kind="pictures", plan="p", output="a.exr", samples=samples, bands=bands)
            blocks = [block for band in bands_of(work) for block in band]
            assert blocks[0][0] == 0
            assert blocks[-1][1] == samples
            assert all(before[1] == after[0] for before, after in itertools.pairwise(blocks))


@pytest.mark.parametrize(
    ("fields", "why"),
    [
        ({"kind": "pictures", "output": "a.mp4"}, "ends in .png or .exr"),
        ({"kind": "movie", "output": "a.mp4", "burn": ["weather"]}, "weather"),
        ({"kind": "movie", "output": "a.mp4", "first": 5, "last": 4}, "comes before"),
        ({"kind": "ladder", "output": "a"}, "no frames selected"),
        ({"kind": "passes", "output": "a.exr", "passes": []}, "no passes"),
        ({"kind": "pictures", "output": "a.exr", "colour": 1}, "colour"),
        ({"kind": "pictures", "output": "a.exr", "width": 1}, "width"),
    ],
)
def test_work_that_makes_no_sense(fields, why):
    with pytest.raises(ExchangeError, match=why):
        work_of(plan="p.kobrel", **fields)


def test_a_list_of_jobs(tmp_path):
    path = tmp_path / "jobs.json"
    job = {"kind": "pictures", "plan": "p.kobrel", "output": "out/a.exr"}
    path.write_text(json.dumps({"jobs": [job, job]}))
    works = read_works(path)
    assert works[1].plan == str(tmp_path / "p.kobrel")
    assert works[0].output == str(tmp_path / "out" / "a.exr")
    for content, why in (("[]", "no jobs"), ("{", "JSON"), ('[{"kind": "soup"}]', "job 1"), ("7", "no jobs")):
        path.write_text(content)
        with pytest.raises(ExchangeError, match=why):
            read_works(path)


def test_a_bundle_survives_its_text(tmp_path):
    job = small_job(tmp_path)
    again = Bundle.from_json(job.to_json())
    assert again == job
    assert again.key == job.key
    assert again.made_of[0] == Work.model_validate_json(job.work)


def test_a_record_of_many_items_stays_quick_and_small(tmp_path):
    """What this process holds does not grow with the frames that it has written."""
    record = Record(tmp_path / "made.jsonl", tmp_path / "out")
    for k in range(300):
        record.write(Made(str(k), ((f"a.{k}.exr", os.urandom(64)),), (), 0.0, ""))
    assert record.there() == {str(k) for k in range(300)}
    assert set(vars(record)) == {"_path", "folder", "_of", "_own", "_sources"}


@pytest.mark.parametrize("denoise", [False, can_denoise()])
def test_sums_of_bands_are_the_whole(tmp_path, denoise):
    job = small_job(tmp_path, samples=20, bands=3, denoise=denoise)
    maker = maker_of(job)
    item = items_of(*job.made_of)[0]
    whole, split = tmp_path / "whole", tmp_path / "split"
    whole.mkdir()
    split.mkdir()
    maker.write(item, whole)
    sums = [each for band in bands_of(maker.work) for each in maker.sums(item, band)]
    maker.write_summed(item, sums, split)
    assert digests(whole) == digests(split)
    assert np.all(np.isfinite(sums[0]))


def test_frames_of_a_finished_sequence_are_blurred_and_only_these_travel(farm, tmp_path):
    from kobrel.exchange.images import write_exr

    folder = tmp_path / "finished"
    folder.mkdir()
    for frame in range(1001, 1006):
        depth = np.full((36, 64), 3.0 + frame - 1001, np.float32)
        write_exr(folder / f"shot.{frame}.exr", np.ones((36, 64, 3), np.float32), depth, depth)
    small_plan(tmp_path)
    plan = open_plan(tmp_path / "small.kobrel")
    finished = RenderedImage(path=str(folder / "shot.1001.exr"), depth_channel="Z", sequence=True)
    scene = SceneRef(name="finished", path=finished.path, finished=finished)
    shot = plan.shots[0].replace(finished="finished", first=1002, last=1004)
    plan = plan.replace(scenes=(scene,), shots=(shot,))
    work = work_of(kind="pictures", plan="p", output=str(tmp_path / "out" / "blur.exr"), shot="01")
    job = packed(work, plan)[0]
    assert [Path(file.path).name for file in job.files if "1005" in file.path] == []
    report = Run(job, lambda: farm, folder=tmp_path / "job").run()
    assert report.made == 3
    assert sorted(path.name for path in (tmp_path / "out").glob("blur.*.exr")) == [
        f"blur.{n}.exr" for n in (1002, 1003, 1004)
    ]
    before = digests(tmp_path / "out")
    ranged = packed(work.replace(first=1003, last=1005), plan)[0]
    assert ranged.of_frames == job.of_frames
    report = Run(ranged, lambda: farm, folder=tmp_path / "other range").run()
    assert (report.found, report.made) == (2, 3)
    assert {name: digests(tmp_path / "out")[name] for name in before} == before
    # A frame that was rendered again is another one; the file of the old one is not written over unasked.
    write_exr(folder / "shot.1003.exr", np.zeros((36, 64, 3), np.float32), depth, depth)
    later = packed(work, plan)[0]
    assert later.of_frames == job.of_frames
    with pytest.raises(ExchangeError, match=r"blur\.1003\.exr"):
        Run(later, lambda: farm, folder=tmp_path / "later").run()
    report = Run(later, lambda: farm, folder=tmp_path / "later", force=True).run()
    assert (report.found, report.made) == (2, 3)
    assert digests(tmp_path / "out")["blur.1003.exr"] != before["blur.1003.exr"]


def test_layers_of_plates_are_written_with_their_notes(farm, tmp_path):
    plan = Path(kobrel.demo.HARBOUR)
    work = work_of(
        kind="layers", plan=str(plan), output=str(tmp_path / "l.ora"), first=1031, last=1032, width=48, height=27,
        samples=1,
    )  # fmt: skip
    Run(packed(work)[0], lambda: farm, folder=tmp_path / "job").run()
    assert sorted(path.name for path in tmp_path.glob("l.*")) == [
        "l.1031.ora",
        "l.1032.ora",
        "l.json",
        "l.txt",
    ]
    assert "1032" in (tmp_path / "l.json").read_text()


def test_what_is_seen_is_copied_where_other_files_had_to_be_sent(tmp_path, monkeypatch):
    """What somebody then writes into the original does not reach the job."""
    monkeypatch.setenv(store.CACHE, str(tmp_path / "cache"))
    seen = tmp_path / "seen.txt"
    seen.write_bytes(b"as it was")
    sent = hashlib.sha256(b"sent").hexdigest()
    store.keep_piece(sent, 0, b"sent", True)
    job = Bundle("", "", (file_of(seen), File("/elsewhere/sent.txt", sent, 4)))
    root = store.laid_out(job)
    with seen.open("r+b") as file:
        file.write(b"other now")
    assert (root / str(seen).lstrip("/")).read_bytes() == b"as it was"
    assert (root / "elsewhere/sent.txt").read_bytes() == b"sent"


def test_what_a_worker_does_not_give_away_is_made_elsewhere(tmp_path):
    """A worker that made an item and then stands still: its future is done, and its result never comes."""
    asked = []

    class Stuck:
        status = "finished"

        def result(self, timeout=None):
            asked.append(timeout)
            raise TimeoutError

    made = Run(small_job(tmp_path), lambda: None, folder=tmp_path / "job")
    made._farm = object()
    item, waiting = made.items[0], deque()
    out = _Out(item, [stuck := Stuck()], 0.0)
    made._out[item.key] = out
    made._take_one(out, stuck, waiting)
    assert (list(waiting), made._out, made._retried) == ([item], {}, 1)
    assert asked[0] is not None
    out = _Out(item, [first := Stuck(), second := Stuck()], 0.0)  # somebody else makes it too
    made._out[item.key] = out
    made._take_one(out, first, deque())
    assert out.futures == [second]


@pytest.mark.parametrize(("kind", "frames"), [("pictures", 1008), ("passes", 1004)])
def test_pictures_have_handles_and_passes_have_not(tmp_path, kind, frames):
    path = small_plan(tmp_path, 1004)
    plan = open_plan(path)
    plan = plan.replace(shots=(plan.shots[0].replace(handles=4),))
    work = work_of(kind=kind, plan=str(path), output=str(tmp_path / "a.exr"), **SMALL)
    keys = [item.number for item in items_of(work, plan)]
    assert (min(keys), max(keys)) == (1001 - (frames - 1004), frames)


def test_what_no_set_names_any_more_is_forgotten_after_two_weeks(tmp_path, monkeypatch):
    monkeypatch.setenv(store.CACHE, str(tmp_path))
    old = time.time() - 15 * 86400

    def blob(name, age):
        path = tmp_path / "files" / "ab" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(name)
        os.utime(path, (age, age))
        return path

    linked, lonely, fresh = blob("linked", old), blob("lonely", old), blob("fresh", time.time())
    live, gone = tmp_path / "sets" / "live", tmp_path / "sets" / "gone"
    live.mkdir(parents=True)
    gone.mkdir()
    os.link(linked, live / "a.usd")
    os.utime(gone, (old, old))
    store.clear_old()
    assert [path.exists() for path in (linked, lonely, fresh, live, gone)] == [True, False, True, True, False]


def test_only_pictures_and_movies_are_denoised():
    with pytest.raises(ExchangeError, match="passes cannot be denoised"):
        work_of(kind="passes", plan="p", output="a.exr", denoise=True)
    assert work_of(kind="pictures", plan="p", output="a.exr", denoise=True).denoise
