"""The child of the campaign: it uses one file after the other as Kobrel would, and tells how that went.

Lines come in, each a path; an answer goes out for each: ``ok``, ``refused WHY`` or ``fault``, then the
traceback up to a line with a single point, then the peak of memory in MB.
"""

import faulthandler
import os
import sys
import tempfile
import traceback
from pathlib import Path

from kobrel import trust
from kobrel.errors import KobrelError
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import SUFFIX, Plan
from kobrel.plan.staging import load_stage
from kobrel.plan.start import plan_from_scene
from kobrel.stage.read.plates.playing import MOVIES
from kobrel.stage.scene import SCENE_SUFFIXES
from kobrel.stage.stage import Stage


def use(path: Path) -> None:
    """Do with a file what Kobrel does with its kind."""
    trust.allow([path.parent])
    suffix = path.suffix.lower()
    if suffix in SCENE_SUFFIXES:
        _use_scene(path)
    elif suffix == SUFFIX:
        _use_plan(path)
    else:
        _use_other(path, suffix)


def _use_scene(path: Path) -> None:
    from kobrel.stage.read.load import load_scene

    scene = load_scene(path)
    plan, stage = plan_from_scene(path, scene)
    _look_at(plan, stage)
    if scene.cameras:
        _take_camera(path)


def _take_camera(path: Path) -> None:
    """Compare a file's camera with a shot's, and take it."""
    from kobrel.exchange.cameras.back import PARTS, compare, read_camera
    from kobrel.optics.units import METRE
    from kobrel.plan.start import empty_plan

    plan, stage = empty_plan(), Stage()
    found = compare(plan, plan.shots[0], stage, read_camera(path), METRE)
    survey(plan, found.taken(list(PARTS)), stage)


def _take_values(path: Path) -> None:
    """Take values into a shot."""
    from kobrel.exchange.values import read_values_file
    from kobrel.optics.units import METRE
    from kobrel.plan.start import empty_plan
    from kobrel.plan.values.changes import taken_values

    plan = empty_plan()
    taken_values(plan, plan.shots[0], Stage(), read_values_file(path, METRE), 1001, METRE)


def _use_terms(path: Path) -> None:
    """Tell a shot in terms of a person's own."""
    from kobrel.optics.units import METRE
    from kobrel.plan.start import empty_plan
    from kobrel.plan.values.own import own_values, read_own
    from kobrel.plan.values.render_camera import render_camera

    plan = empty_plan()
    numbers = survey(plan, plan.shots[0], Stage())
    own_values(read_own(path), render_camera(plan.shots[0], numbers).at(0), METRE, numbers.frames[:0])


def _use_plan(path: Path) -> None:
    from kobrel.plan.check import findings

    plan = open_plan(path)
    with tempfile.TemporaryDirectory() as folder:
        save_plan(plan, Path(folder) / "again.kobrel")
    stage, _problems = load_stage(plan)
    findings(plan, stage)
    _write_nothing(plan, stage, path)
    _look_at(plan, stage)


def _write_nothing(plan: Plan, stage: Stage, path: Path) -> None:
    """What a plan keeps up to date stays unwritten, and is told, as long as nothing was allowed."""
    from kobrel.exchange.upkeep import Allowance, asked, keep_up

    before = sorted(path.parent.iterdir())
    asked(plan, Allowance())
    done = keep_up(plan, stage, Allowance())
    if done.written or len(done.told) != len(plan.handed) or sorted(path.parent.iterdir()) != before:
        raise RuntimeError("a plan wrote something that was not allowed")


def _look_at(plan: Plan, stage: Stage) -> None:
    """Survey the first shots, and draw a small picture of each."""
    from kobrel.picture.metering import metered
    from kobrel.picture.service import Request, finished
    from kobrel.plan.measure.camera import camera_at

    stage.prepare()
    for shot in plan.shots[:2]:
        stage.pick(float(shot.first), (0.1, 0.2, 50.0), (0.0, 0.0, -1.0))
        stage.bounds(float(shot.last))
        survey(plan, shot, stage)
        camera = camera_at(plan, shot, shot.first, stage)
        finished(Request(stage, camera, shot.first, plan.light, 32, 18, passes=2), lambda: False)
        if stage.triangle_count:
            metered(plan, shot, stage)


def _use_other(path: Path, suffix: str) -> None:
    if suffix in (".otio", ".otioz", ".edl"):
        from kobrel.exchange.timeline import read_list
        from kobrel.plan.sequence.shots import with_list
        from kobrel.plan.start import empty_plan

        plan, stage = empty_plan(), Stage()
        with_list(plan, read_list(path), 0, stage)
    elif suffix == ".journal":
        from kobrel.session.journal.reading import read_journal

        left = read_journal(path)
        if left is not None:
            _ = left.unsaved, left.work.plan
    elif suffix in (".png", ".jpg", ".tif", ".exr", ".hdr"):
        _use_picture(path)
    elif suffix == ".ora":
        _use_plate(path)
    elif suffix == ".json" and path.name.endswith(".iris.json"):
        from kobrel.plan.lens_sets.irises import read_preset
        from kobrel.plan.masks import iris_of

        iris_of(read_preset(path).iris)
    elif path.name.endswith(".job.json"):
        _use_job(path)
    elif suffix in MOVIES:
        _use_movie(path)
    elif path.name.endswith(".terms.json"):
        _use_terms(path)
    elif "values" in path.name:
        _take_values(path)
    elif "settings" in path.name:
        from kobrel.session import settings as keys
        from kobrel.session.settings import Settings
        from kobrel.session.store import FileStore

        kept = Settings(FileStore(path))
        for setting in (keys.RECENT_FILES, keys.THROW_PX, keys.CARD, keys.ALLOWED, keys.PLACE):
            kept.get(setting)
    else:
        _use_table(path, suffix)


def _use_job(path: Path) -> None:
    """List a queue with a job, and do to it what a window may."""
    from kobrel.farm.queue import Queue

    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "jobs" / "key"
        place.mkdir(parents=True)
        for name in ("job.json", "wanted.json", "state.json"):
            (place / name).write_bytes(path.read_bytes())
        queue = Queue(Path(folder))
        (entry,) = queue.entries()
        for act in (queue.again, lambda key: queue.move(key, 1), lambda key: queue.want(key, "pause")):
            act(entry.key)
        queue.entries()
        queue.remove(entry.key)


def _use_movie(path: Path) -> None:
    from kobrel.stage.read.plates.playing import movie_frames, movie_reader

    count, _size = movie_frames(path)
    movie_reader(path)(count // 2)


def _use_picture(path: Path) -> None:
    from kobrel.exchange.proof.files import read_proof
    from kobrel.plan.masks import read_mask
    from kobrel.stage.pictures.environment import load_environment
    from kobrel.stage.pictures.textures import pack
    from kobrel.stage.scene import Texture

    pack([Texture("x", path=path)])
    for read in (load_environment, read_mask, read_proof, _use_plate, _use_finished):
        try:
            read(path)
        except KobrelError as error:
            refused = error
        else:
            refused = None
    if refused is not None:
        raise refused


def _use_plate(path: Path) -> None:
    """Read every layer as a plate."""
    from kobrel.stage.read.plates.stills import layers_of, read_still, size_of

    for layer in layers_of(path)[:20]:
        size_of(path, layer)
        _ = read_still(path, layer).pixels.blocks


def _use_finished(path: Path) -> None:
    """Blur a picture as a finished one with depth."""
    from kobrel.exchange.rendered.write import Choices, blurred_frame
    from kobrel.plan.measure.camera import camera_at
    from kobrel.plan.pictures.rendered import opened
    from kobrel.stage.read.rendered.relief import load_relief

    finished, pixels = opened(path)
    plan, stage = plan_from_scene(path, load_relief(finished), finished=finished)
    _look_at(plan, stage)
    blurred_frame(pixels, finished, camera_at(plan, plan.shots[0], 1001, stage), Choices())


def _use_table(path: Path, suffix: str) -> None:
    from kobrel.exchange.cues import read_cues
    from kobrel.exchange.marks import read_marks
    from kobrel.exchange.readings import read_readings
    from kobrel.files import text_of
    from kobrel.optics.units import measure
    from kobrel.plan.lens_sets.lenses import read_lens_set
    from kobrel.plan.start import empty_plan

    plan = empty_plan()
    if "cues" in path.name:
        read_cues(path, plan.shots[0])
    elif "readings" in path.name:
        read_readings(text_of(path))
    elif "marks" in path.name:
        read_marks(text_of(path), plan, measure("m"))
    else:
        read_lens_set(path)


def _peak_mb() -> int:
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmHWM:")[1].split()[0]) // 1024


def main() -> None:
    """Answer until there is nothing more to use."""
    answers = os.fdopen(os.dup(1), "w", buffering=1, encoding="utf-8", errors="replace")
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    if not os.environ.get("KOBREL_DEBUG"):
        os.dup2(nowhere, 2)
    else:
        faulthandler.enable()
    from kobrel.picture import tracer
    from kobrel.picture.ready import prepare

    tracer.thread_count = lambda: 1
    prepare()
    answers.write("ready\n")
    for line in sys.stdin:
        Path("/proc/self/clear_refs").write_text("5")
        told = "ok"
        try:
            use(Path(line.rstrip("\n")))
        except KobrelError as error:
            told = "refused " + " ".join(str(error).split())[:300]
        except Exception:
            told = f"fault\n{traceback.format_exc()}"
        answers.write(f"{told}\n.\n{_peak_mb()}\n")


if __name__ == "__main__":
    main()
